// Package problem answers refusals over HTTP, as problem details (RFC 9457).
package problem

import "echolane/core/policy"

// Status is the HTTP status that a reason answers (RFC 9110, section 15); 500 for a reason that isn't in policy.Reasons.
func Status(r policy.Reason) int {
	if s, ok := statuses[r]; ok {
		return s
	}
	return 500
}

// statuses has each reason's status.
var statuses = func() map[policy.Reason]int {
	m := map[policy.Reason]int{}
	for status, reasons := range byStatus {
		for _, r := range reasons {
			m[r] = status
		}
	}
	return m
}()

var byStatus = map[int][]policy.Reason{
	400: {
		policy.ReasonUnknownName, policy.ReasonRepeated, policy.ReasonEmpty, policy.ReasonUnparsable, policy.ReasonOutOfRange,
		policy.ReasonNotDecodable, policy.ReasonFormatNotLossless, policy.ReasonBadPath, policy.ReasonBadRequest,
		policy.ReasonNoSuchRung, policy.ReasonDataNotTaken, policy.ReasonShapeNotDelivered, policy.ReasonBadSettings, policy.ReasonBadSourceURL,
	},
	401: {policy.ReasonNotSignedIn, policy.ReasonWrongCredentials},
	403: {
		policy.ReasonNotPermitted, policy.ReasonCrossSite, policy.ReasonSourceNotAllowed, policy.ReasonSourceDenied,
		policy.ReasonAddressNotPublic, policy.ReasonPageNotAllowed, policy.ReasonSignatureNeeded, policy.ReasonSignatureWrong,
		policy.ReasonKeyUnknown, policy.ReasonLinkExpired, policy.ReasonOnlyByClass, policy.ReasonFormatNotDelivered,
		policy.ReasonOutsideFolder,
	},
	404: {
		policy.ReasonNoSuchClass, policy.ReasonNoSuchPage, policy.ReasonNoSuchSite, policy.ReasonNoSuchLane,
		policy.ReasonNoSuchSource, policy.ReasonNoSuchVersion, policy.ReasonNoSuchThing,
	},
	405: {policy.ReasonMethodNotAllowed},
	408: {policy.ReasonRequestTooSlow},
	409: {policy.ReasonExists, policy.ReasonClassInUse, policy.ReasonWouldShutOut},
	412: {policy.ReasonChangedMeanwhile},
	414: {policy.ReasonURITooLong},
	422: {
		policy.ReasonQualityNotDelivered, policy.ReasonSourceTooManyFrames, policy.ReasonVariantTooLarge,
		policy.ReasonGlyphsMissing, policy.ReasonNothingLeft, policy.ReasonErasedTooMuch, policy.ReasonNoClearSubject, policy.ReasonBudgetOutOfReach, policy.ReasonNotAnImage,
		policy.ReasonSourceBroken, policy.ReasonSourceTruncated, policy.ReasonSourceTooManyBytes,
		policy.ReasonSourceTooManyPixels, policy.ReasonTooLargeForFormat, policy.ReasonRenderTooSlow, policy.ReasonRenderTooMuch, policy.ReasonSourceSetAside,
		policy.ReasonTooManyVariants, policy.ReasonSecretMissing,
	},
	428: {policy.ReasonIfMatchNeeded},
	429: {policy.ReasonTooManyRequests, policy.ReasonTooManyTries, policy.ReasonMonthUsedUp},
	431: {policy.ReasonFieldsTooLarge},
	500: {policy.ReasonEncodingFailed, policy.ReasonInternal},
	502: {
		policy.ReasonOriginFailed, policy.ReasonTooManyRedirects, policy.ReasonLaneUnreachable, policy.ReasonSourceUnreadable,
	},
	503: {policy.ReasonWorkerDied, policy.ReasonStopping, policy.ReasonBusy, policy.ReasonDatabaseAway},
	504: {policy.ReasonOriginSlow},
	508: {policy.ReasonLoop},
}
