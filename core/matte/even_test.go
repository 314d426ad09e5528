package matte

import (
	"math"
	"testing"

	"echolane/core/raster"
	"echolane/core/superpixel"
)

// studio draws a ground that is lit from the upper left, by a colour each place may have instead.
func studio(w, h int, instead func(x, y int) (scale float64, rgb [3]float64, ok bool)) *superpixel.Regions {
	p := raster.NewRGBA(w, h)
	p.Opaque = true
	for y := range h {
		for x := range w {
			u, v := float64(x)/float64(w)-0.3, float64(y)/float64(h)-0.3
			light := 1 - 0.25*(u*u+v*v)
			c, scale := [3]float64{226, 224, 220}, 1.0
			if s, other, ok := instead(x, y); ok {
				scale = s
				if other != [3]float64{} {
					c = other
				}
			}
			q := p.Row(y)[4*x:]
			for k := range 3 {
				q[k] = uint8(c[k]*light*scale + 0.5)
			}
			q[3] = 255
		}
	}
	return superpixel.New(superpixel.Oklab(p), w, h, 300)
}

func TestEvenGroundsKnowWhatIsNotTheirs(t *testing.T) {
	const w, h = 160, 120
	cream := func(x, y int) bool { return x >= 60 && x < 90 && y >= 40 && y < 70 }
	shadow := func(x, y int) bool { return x >= 100 && x < 130 && y >= 70 && y < 100 }
	r := studio(w, h, func(x, y int) (float64, [3]float64, bool) {
		switch {
		case cream(x, y):
			return 1, [3]float64{228, 222, 206}, true
		case shadow(x, y):
			return 0.7, [3]float64{}, true
		}
		return 0, [3]float64{}, false
	})
	whole := func(k int, in func(x, y int) bool) (all, none bool) {
		all, none = true, true
		for i, of := range r.Of {
			if int(of) == k {
				if v := in(i%w, i/w); v {
					none = false
				} else {
					all = false
				}
			}
		}
		return all, none
	}
	around := make([]float32, len(r.Area)) // the ground beside what may be the subject
	for k := range around {
		if _, none := whole(k, func(x, y int) bool { return cream(x, y) || shadow(x, y) }); none {
			around[k] = r.Area[k]
		}
	}
	g, ok := evenGroundOf(r, around)
	if !ok {
		t.Fatal("a studio's ground isn't even")
	}
	var creams, shadows, grounds int
	for k := range r.Area {
		cost := g.cost(r, k)
		if all, _ := whole(k, cream); all {
			if creams++; cost < 2*evenSure {
				t.Errorf("cream at %.2f, %.2f costs %.1f", r.X[k], r.Y[k], cost)
			}
		} else if all, _ := whole(k, shadow); all {
			if shadows++; cost > evenSure {
				t.Errorf("a shadow at %.2f, %.2f costs %.1f", r.X[k], r.Y[k], cost)
			}
		} else if around[k] > 0 {
			if grounds++; cost > 1 {
				t.Errorf("the ground at %.2f, %.2f costs %.1f", r.X[k], r.Y[k], cost)
			}
		}
	}
	if creams < 5 || shadows < 5 || grounds < 150 {
		t.Errorf("%d, %d, %d regions", creams, shadows, grounds)
	}
	if math.Abs(g.spread[1]) > 0.004 {
		t.Errorf("the colour's spread is %.4f", g.spread[1])
	}
	r = studio(w, h, func(x, _ int) (float64, [3]float64, bool) { return 1, [3]float64{60, 140, 220}, x/16%2 == 0 })
	if _, ok := evenGroundOf(r, r.Area); ok {
		t.Error("stripes are an even ground")
	}
	if _, ok := evenGroundOf(r, make([]float32, len(r.Area))); ok {
		t.Error("nothing is an even ground")
	}
}
