package raster

import (
	"math"
	"testing"
)

// area is how many pixels a mask covers.
func area(p Plane) (sum float64) {
	for y := range p.H {
		for _, v := range p.Row(y) {
			sum += float64(v) / 255
		}
	}
	return sum
}

func TestAMaskCoversWhatLiesInside(t *testing.T) {
	for _, c := range []struct {
		name string
		path func(p *Path)
		want float64
	}{
		{"a rectangle on pixels", func(p *Path) { p.Rect(10, 5, 40, 25, Corners{}) }, 600},
		{"a rectangle between pixels", func(p *Path) { p.Rect(10.5, 5.25, 40.25, 25.5, Corners{}) }, 29.75 * 20.25},
		{"beyond the canvas", func(p *Path) { p.Rect(-20, -20, 200, 200, Corners{}) }, 100 * 80},
		{"beside the canvas", func(p *Path) { p.Rect(200, 0, 300, 50, Corners{}) }, 0},
		{"an ellipse", func(p *Path) { p.Ellipse(50, 40, 30, 20) }, math.Pi * 600},
		{"rounded corners", func(p *Path) {
			p.Rect(10, 10, 90, 70, Corners{Across: [4]float64{20, 20, 20, 20}, Down: [4]float64{10, 10, 10, 10}})
		}, 80*60 - (4-math.Pi)*200},
		{"a triangle", func(p *Path) { p.Line([2]float64{10, 10}, [2]float64{90, 10}, [2]float64{10, 70}) }, 2400},
		{"turned the other way", func(p *Path) { p.Line([2]float64{10, 70}, [2]float64{90, 10}, [2]float64{10, 10}) }, 2400},
		{"twice over", func(p *Path) { p.Rect(10, 10, 60, 60, Corners{}); p.Rect(30, 30, 80, 70, Corners{}) }, 2500 + 2000 - 900},
		{"a ring", func(p *Path) { p.EvenOdd = true; p.Rect(10, 10, 60, 60, Corners{}); p.Rect(20, 20, 50, 50, Corners{}) }, 2500 - 900},
		{"nothing", func(p *Path) { p.Rect(30, 30, 30, 60, Corners{}) }, 0},
	} {
		var p Path
		c.path(&p)
		if got := area(p.Mask(100, 80)); math.Abs(got-c.want) > 0.004*c.want+0.5 {
			t.Errorf("%s: %.2f pixels, want %.2f", c.name, got, c.want)
		}
	}
}

func TestRadiiThatOverlapShrinkTogether(t *testing.T) {
	c := Corners{Across: [4]float64{80, 40, 0, 0}, Down: [4]float64{20, 20, 0, 60}}.Fit(60, 40)
	if c.Across[0] != 40 || c.Across[1] != 20 || c.Down[3] != 30 || c.Down[0] != 10 {
		t.Errorf("%+v", c)
	}
	in := c.Within([4]float64{5, 30, 10, 15})
	if in.Across != [4]float64{25, 0, 0, 0} || in.Down[0] != 5 || in.Down[3] != 20 {
		t.Errorf("%+v", in)
	}
}

func TestPaintThroughAMaskIsSourceOver(t *testing.T) {
	p := NewRGBA(4, 1)
	p.Fill(200, 100, 0, 255)
	mask := NewPlane(4, 1)
	copy(mask.Row(0), []uint8{0, 255, 128, 255})
	p.PaintMask(mask, [4]uint8{0, 0, 255, 128})
	want := [4][4]uint8{{200, 100, 0, 255}, {100, 50, 128, 255}, {150, 75, 64, 255}, {100, 50, 128, 255}}
	for x, w := range want {
		for c := range 4 {
			if d := int(p.Row(0)[4*x+c]) - int(w[c]); d < -2 || d > 2 {
				t.Errorf("pixel %d is %v, want %v", x, p.Row(0)[4*x:4*x+4], w)
				break
			}
		}
	}
	p.ClipMask(mask)
	if p.Row(0)[3] != 0 || p.Row(0)[7] != 255 || p.Opaque {
		t.Errorf("clipped: %v, opaque %v", p.Row(0), p.Opaque)
	}
}
