package render

import (
	"math"

	"golang.org/x/sync/errgroup"

	"echolane/core/codec/jpeg"
	"echolane/core/declare"
	"echolane/core/likeness"
)

// harder is how many points of quality our measure asks more of a format than SSIM does, on the corpus's median photograph or
// graphic.
func harder(format declare.Format, quality float64, graphic bool) float64 {
	coarse := math.Max(0, math.Min(1, (90-quality)/40))
	switch {
	case format == declare.AVIF && graphic:
		return 0.8 - 2.1*coarse
	case format == declare.AVIF:
		return 1.6 * coarse
	case format == declare.WebP:
		return coarse
	}
	return 0.2
}

// target is how far libjpeg-turbo is from this picture at a quality, 4:2:0, what is transparent laid on the matte; as
// much farther as the measure is harder on the format.
func (f *finish) target(format declare.Format, quality int) (float64, error) {
	planes := f.opaque()
	if f.strips {
		planes = stripsOf(planes)
		defer planes.Free()
	}
	data, err := jpeg.EncodePlainly(planes, quality)
	if err != nil {
		return 0, err
	}
	p, err := jpeg.Decode(data, jpeg.Options{Scale: 8, Planes: true})
	if err != nil {
		return 0, err
	}
	defer p.Free()
	original, written := f.original(), likeness.OfPlanes(p.YCbCr)
	defer written.Free()
	if f.pixels != nil && !f.pixels.Opaque {
		original = likeness.OfPlanes(planes)
		defer original.Free()
	}
	// Plain areas come out exactly at any quality: there the measure's floor is asked for, not the impossible.
	q := float64(quality)
	return math.Max(original.Distance(written), 2e-4) * math.Exp(likeness.Points(q, harder(format, q, f.kind() == "graphic"))), nil
}

// aim begins to work out a target, beside the first encode, and gives it when asked.
func (f *finish) aim(format declare.Format, quality int) func() (float64, error) {
	f.opaque()
	var target float64
	var work errgroup.Group
	work.Go(func() (err error) {
		target, err = f.target(format, quality)
		return err
	})
	return func() (float64, error) {
		err := work.Wait()
		return target, err
	}
}
