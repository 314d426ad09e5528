package render

import (
	"bytes"
	"image"
	"image/jpeg"
	"math"
	"testing"

	"echolane/core/raster"
	"echolane/demo/pictures"
)

// The same part of a picture is kept at every size, whatever scale it was decoded at.
func TestTheSubjectIsTheSameAtEverySize(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	l := pictures.LabelledSet()[30]
	var b bytes.Buffer
	if err := jpeg.Encode(&b, &image.RGBA{Pix: l.Pix, Stride: 4 * l.W, Rect: image.Rect(0, 0, l.W, l.H)}, &jpeg.Options{Quality: 95}); err != nil {
		t.Fatal(err)
	}
	least := min(l.W, l.H)
	wholes := map[int]*raster.RGBA{} // the whole picture, reduced to the same size
	where := func(side int, aim string) (x, y float64) {
		d := job(t, "format=png&object-position="+aim)
		d.Request.Width, d.Request.Height = float64(side), float64(side)
		r, err := Variant(b.Bytes(), d)
		if err != nil {
			t.Fatal(err)
		}
		if wholes[side] == nil {
			k := float64(side) / float64(least)
			d.Request.Width, d.Request.Height = math.Round(float64(l.W)*k), math.Round(float64(l.H)*k)
			d.Request.Position.Declared, d.Request.Position.Focus = false, 0
			whole, err := Variant(b.Bytes(), d)
			if err != nil {
				t.Fatal(err)
			}
			wholes[side] = pixels(t, whole)
		}
		return locate(pixels(t, r), wholes[side])
	}
	for _, aim := range []string{"subject", "detail"} {
		x0, y0 := where(least/4*4, aim)
		for _, side := range []int{40, 97, 160} {
			x, y := where(side, aim)
			if math.Abs(x-x0) > 1.5/float64(side) || math.Abs(y-y0) > 1.5/float64(side) {
				t.Errorf("%s at %d: the window begins at %.3f, %.3f; at full size at %.3f, %.3f", aim, side, x, y, x0, y0)
			}
		}
	}
	// What is found keeps the subject whole.
	x, y := where(200, "subject")
	w, h := float64(least)/float64(l.W), float64(least)/float64(l.H)
	if l.X0/float64(l.W) < x-0.01 || l.X1/float64(l.W) > x+w+0.01 || l.Y0/float64(l.H) < y-0.01 || l.Y1/float64(l.H) > y+h+0.01 {
		t.Errorf("the window at %.2f, %.2f of %.2f × %.2f cuts the subject %v", x, y, w, h, l)
	}
}

// locate finds where a lies in b, in parts of b's sides.
func locate(p, q *raster.RGBA) (x, y float64) {
	best := math.MaxInt
	var at image.Point
	for oy := 0; oy+p.H <= q.H; oy++ {
		for ox := 0; ox+p.W <= q.W; ox++ {
			sum := 0
			for sy := 0; sy < p.H && sum < best; sy += 3 {
				for sx := 0; sx < p.W; sx += 3 {
					d := int(p.Row(sy)[4*sx+1]) - int(q.Row(sy + oy)[4*(sx+ox)+1])
					sum += d * d
				}
			}
			if sum < best {
				best, at = sum, image.Pt(ox, oy)
			}
		}
	}
	return float64(at.X) / float64(q.W), float64(at.Y) / float64(q.H)
}
