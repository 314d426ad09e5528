package subject

import (
	"math"
	"testing"

	"echolane/core/raster"
	"echolane/demo/pictures"
)

func TestColoursAndTheirShares(t *testing.T) {
	p := raster.NewRGBA(100, 100)
	p.Fill(200, 30, 40, 255)
	for y := range 100 {
		for x := range 100 {
			q := p.Row(y)[4*x:]
			switch {
			case x < 30:
				copy(q, []uint8{20, 60, 200, 255})
			case x < 40:
				copy(q, []uint8{0, 0, 0, 0})
			case x < 45:
				copy(q, []uint8{202, 32, 40, 255}) // nobody tells it from the ground
			}
		}
	}
	got := Colours(p)
	if len(got) != 2 || math.Abs(got[0].Share-2.0/3) > 0.01 || got[1].Colour != "#143cc8" {
		t.Errorf("the colours are %v", got)
	}
	if got := Colours(raster.NewRGBA(20, 20)); got != nil {
		t.Errorf("what is transparent has the colours %v", got)
	}
}

func TestSharpnessFalls(t *testing.T) {
	l := pictures.LabelledSet()[1]
	p := (&raster.RGBA{Pix: l.Pix, Stride: 4 * l.W, W: l.W, H: l.H, Opaque: true}).Copy()
	before := Sharpness(small(p))
	p.Blur(8, raster.Extended)
	if after := Sharpness(small(p)); before < 0.7 || after > before-0.2 {
		t.Errorf("sharpness is %.2f, blurred %.2f", before, after)
	}
	flat := raster.NewRGBA(64, 64)
	if s := Sharpness(flat); s != 0 {
		t.Errorf("one colour is sharp: %.2f", s)
	}
}
