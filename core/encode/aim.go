package encode

import (
	"math"
	"sync"

	"echolane/core/codec"
	"echolane/core/codec/jpeg"
	"echolane/core/likeness"
)

// harder is how many points of quality the measure asks more of a format than other measures do, where first of a first answer.
func harder(fit *codec.Fit, quality float64, graphic, first bool) float64 {
	coarse := coarseness(quality)
	if first && fit.FirstHarder != nil {
		return fit.FirstHarder(coarse, graphic)
	}
	return fit.Harder(coarse, graphic)
}

// coarseness is 0 from quality 90 on and 1 up to 50.
func coarseness(quality float64) float64 { return math.Max(0, math.Min(1, (90-quality)/40)) }

// target is the distance of libjpeg-turbo's 4:2:0 JPEG from this picture at a quality, transparency laid on the matte. It is
// larger by as much as the measure is harder on the format.
func (p *Picture) target(w *codec.Writer, quality int) float64 {
	planes := p.Planes()
	if p.strips {
		planes = stripsOf(planes)
		defer planes.Free()
	}
	shown := jpeg.Shown(planes, quality)
	defer shown.Free()
	original, written := p.original(), likeness.OfShown(shown)
	defer written.Free()
	if !p.Opaque() {
		original = likeness.OfPlanes(planes)
		defer original.Free()
	}
	// Plain areas come out exactly at any quality: there the measure's floor is asked for, not the impossible.
	q := float64(quality)
	return math.Max(original.Distance(written), 2e-4) * math.Exp(likeness.Points(q, harder(w.Fit, q, p.Kind() == "graphic", p.Quick)))
}

// aim begins to work out a target beside the first encode. The function that it returns waits for it.
func (p *Picture) aim(w *codec.Writer, quality int) func() float64 {
	p.Planes()
	target := make(chan float64, 1)
	go func() { target <- p.target(w, quality) }()
	return sync.OnceValue(func() float64 { return <-target })
}
