package render

import "echolane/core/policy"

// StageNames are the stages that a Result may tell of.
var StageNames = []string{"plan", "focus", "look", "decode", "frames", "colour", "revise", "resample", "paint", "layers", "encode"}

// Reasons are the reasons that a render, or the reading of a header, may be turned down for.
var Reasons = []policy.Reason{
	policy.ReasonNotAnImage, policy.ReasonSourceBroken, policy.ReasonSourceTruncated, policy.ReasonSourceTooManyBytes, policy.ReasonSourceTooManyPixels,
	policy.ReasonSourceTooManyFrames, policy.ReasonVariantTooLarge, policy.ReasonTooLargeForFormat, policy.ReasonNothingLeft, policy.ReasonErasedTooMuch, policy.ReasonNoClearSubject, policy.ReasonGlyphsMissing,
	policy.ReasonBudgetOutOfReach, policy.ReasonEncodingFailed, policy.ReasonFormatNotLossless, policy.ReasonInternal,
}
