package render

import (
	"slices"

	"echolane/core/declare"
	"echolane/core/geometry"
)

// PlaceholderBytes is the most that a placeholder may have, in a page or by itself.
const PlaceholderBytes = 600

// placeholder makes the variant so small, and so blurred that stretching it shows no pixels, that it fits. What is cut
// and painted stays the same, but for the layer on top, of which nothing would be seen. plan is the variant's.
func placeholder(source []byte, plan geometry.Plan, job Job) (Result, error) {
	const largest, least = 32.0, 4.0
	most := job.Placeholder
	job.Placeholder, job.Predict = 0, true
	r := &job.Request
	r.Layers, r.Before, r.After, r.Retain, r.Budget, r.Own, r.Animation = nil, declare.Layer{}, declare.Layer{}, 0, 0, false, declare.AnimationNone
	r.Motion = nil
	r.Resolution, r.Grow = 0, declare.GrowNo
	if r.Quality = 50; slices.Contains(r.Formats, declare.WebP) {
		r.Formats = []declare.Format{declare.WebP} // which has the least around so few pixels
	}
	if r.Width == 0 && r.Height == 0 {
		r.Width = float64(plan.Canvas.W)
	}
	natural, filter := *r, ""
	if r.Filter != "none" {
		filter = r.Filter
	}
	var result Result
	for side := largest; side >= least; side *= 0.75 {
		*r = natural
		r.Scale(min(1, side/float64(max(plan.Canvas.W, plan.Canvas.H))))
		if filter != "" {
			r.Filter += " "
		} else {
			r.Filter = ""
		}
		r.Filter += "blur(1px)"
		var err error
		if result, err = Variant(source, job); err != nil {
			return Result{}, err
		}
		if len(result.Data) <= most {
			break
		}
	}
	result.How.Way = "placeholder"
	return result, nil
}
