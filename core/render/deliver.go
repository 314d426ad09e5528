package render

import (
	"errors"
	"slices"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/geometry"
	"echolane/core/metadata"
	"echolane/core/policy"
)

// deliver encodes, within the budget where there is one, and sends the source's own data where that is what was
// asked for and no larger.
func deliver(picture *encode.Picture, tried []declare.Format, result *Result, source []byte, info codec.Info, plan geometry.Plan, paints *paints, revise *revision, job Job) error {
	data, format, how, err := picture.Smallest(tried, job.Request.Formats)
	if err != nil {
		return refuseEncoding(err)
	}
	result.Format = format
	after := picture.Facts // what is to be embedded afterwards
	if formats.Writer(result.Format).Embeds {
		after = metadata.Facts{}
	}
	if budget := job.Request.Budget; budget > 0 {
		if data, how, err = picture.Within(result.Format, data, how, encode.NewBudget(int(budget), job.Floor, after)); err != nil {
			return refuseEncoding(err)
		}
	}
	result.Data, result.How = metadata.Embed(data, after), how
	if own, format := itself(source, info, plan, paints, revise, job); own != nil && notWorth(len(own), len(result.Data)) {
		result.Data, result.How = own, encode.Encoding{Kind: how.Kind, Way: "source"}
		if result.Format = format; format != declare.FormatOf(info.Type) {
			result.How.Setting = "the JPEG's own coefficients"
		}
	}
	return nil
}

// notWorth reports whether the source's own bytes are as good as so few: another generation of loss isn't worth a
// thirtieth.
func notWorth(own, anew int) bool { return own <= anew+anew/30 }

func refuseEncoding(err error) error {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonEncodingFailed, Detail: err.Error(), Remedy: "ask for another format or size, and tell whoever runs the service"})
}

// itself is the source's own image data, without its metadata, where it already is what the request asks for: the
// same size, nothing altered or painted, upright, sRGB, in a format that the request takes, and no quality given. A JPEG's may stand in another
// format, which is then preferred to the JPEG. Otherwise nil.
func itself(source []byte, info codec.Info, plan geometry.Plan, paints *paints, revise *revision, job Job) ([]byte, declare.Format) {
	format := declare.FormatOf(info.Type)
	whole := geometry.Rect{X1: plan.Canvas.W, Y1: plan.Canvas.H}
	same := plan.Canvas == plan.Natural && plan.Placed == whole && plan.Cut == geometry.Rect{X1: plan.Upright.W, Y1: plan.Upright.H} &&
		plan.Turn == 0 && !plan.MirrorX && !plan.MirrorY
	plain := revise.none() && !paints.any && info.Orientation == 1 && len(info.Profile) == 0 && info.Colour.IsSRGB() && info.Coding != "CMYK" && info.Coding != "progressive CMYK"
	if format == declare.FormatUnset || !same || !plain || !job.Request.Own || job.Request.Animation == declare.AnimationNone && info.Frames > 1 {
		return nil, 0
	}
	own, sure := metadata.Reduce(source, factsOf(source, job.Request.Retain))
	if !sure {
		return nil, 0
	}
	fits := func(data []byte) bool { return job.Request.Budget == 0 || len(data) <= int(job.Request.Budget) }
	for _, f := range job.Request.Formats {
		if from := formats.Writer(f).FromJPEG; from != nil && format == declare.JPEG {
			if data, err := from(own); err == nil && len(data) < len(own) && fits(data) {
				return data, f
			}
		}
	}
	if slices.Contains(job.Request.Formats, format) && fits(own) {
		return own, format
	}
	return nil, 0
}

// sourceQuality is the quality that a source was written at, where it's delivered at about its own size: an encode
// finer than that would only keep its damage. 0 where that is unknown or doesn't matter.
func sourceQuality(source []byte, info codec.Info, plan geometry.Plan) int {
	const reducing = 0.7
	if plan.ScaleX() < reducing || plan.ScaleY() < reducing {
		return 0
	}
	if quality := formats.Of(info.Type).Quality; quality != nil {
		return quality(source)
	}
	return 0
}

// factsOf are the embedded facts that a request retains.
func factsOf(source []byte, r declare.Retain) metadata.Facts {
	if r == 0 {
		return metadata.Facts{}
	}
	return metadata.FactsOf(source, metadata.Keep{Rights: r&declare.RetainRights != 0, Camera: r&declare.RetainCamera != 0, Place: r&declare.RetainPlace != 0})
}
