package main

import (
	"errors"

	"echolane/core/declare"
	"echolane/core/face"
	"echolane/core/inpaint"
	"echolane/core/matte"
	"echolane/core/raster"
	"echolane/core/subject"
	"echolane/demo/pictures"
)

// found measures what is looked for in a picture: of 640 pixels on its longer side for faces, of two megapixels for cut-outs and what is
// erased.
func found(r *report) error {
	l := pictures.LabelledCuts()[2]
	own := &raster.RGBA{Pix: l.Pix, Stride: 4 * l.W, W: l.W, H: l.H, Opaque: true}
	at := func(w int) *raster.RGBA {
		h := w * l.H / l.W
		p := raster.ResampleRGBA(own, axis(l.W, w), axis(l.H, h))
		p.Opaque = true
		return p
	}
	crowd, _ := pictures.LabelledFaces(1, 64)
	people := &raster.RGBA{Pix: crowd.Pix, Stride: 4 * crowd.W, W: crowd.W, H: crowd.H, Opaque: true}
	small, copied, large := at(subject.Side), at(matte.Side), at(1632)
	m, ok := matte.New(copied, func() []face.Face { return face.Find(copied) }, declare.Focus{})
	if !ok {
		return errors.New("the picture has no clear subject")
	}
	// A tenth of the picture is erased.
	hole := inpaint.Hole{X: large.W / 3, Y: large.H / 3, W: large.W / 3, H: large.H * 3 / 10}
	hole.In = make([]bool, hole.W*hole.H)
	for i := range hole.In {
		hole.In[i] = true
	}
	to := at(inpaint.Side)
	in := make([]bool, to.W*to.H)
	for y := to.H / 3; y < to.H/3+to.H*3/10; y++ {
		for x := to.W / 3; x < 2*to.W/3; x++ {
			in[y*to.W+x] = true
		}
	}
	field, ok := inpaint.New(to, in)
	if !ok {
		return errors.New("the picture has nothing to be filled from")
	}
	times := alternate(9,
		func() { subject.Subject(small) },
		func() { face.Find(people) },
		func() { matte.New(copied, func() []face.Face { return face.Find(copied) }, declare.Focus{}) },
		func() { m.Cut(large.Copy(), 0, 0, float64(large.W), float64(large.H)) },
		func() { inpaint.New(to, in) },
		func() { field.Fill(large, 0, 0, float64(large.W), float64(large.H), hole) },
	)
	r.atMost("finding the subject", median(times[0]), "ms", 8)
	r.atMost("finding twelve faces in 640 × 576", median(times[1]), "ms", 25)
	r.atMost("cutting out of two megapixels", median(times[2])+median(times[3]), "ms", 250)
	r.atMost("erasing a tenth of two megapixels", median(times[4])+median(times[5]), "ms", 500)
	return nil
}
