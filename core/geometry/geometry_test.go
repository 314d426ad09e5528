package geometry

import (
	"math"
	"math/rand/v2"
	"testing"

	"echolane/core/declare"
)

func parse(t *testing.T, query string) declare.Declarations {
	t.Helper()
	d, err := declare.Parse(query)
	if err != nil {
		t.Fatalf("parse %q: %v", query, err)
	}
	return d
}

func TestNothingLeftIsSaid(t *testing.T) {
	if _, ok := New(Size{600, 400}, parse(t, "xywh=600,0,10,10")); ok {
		t.Error("a part beside the picture is planned")
	}
}

func TestPlanFollowsCSS(t *testing.T) {
	for _, c := range []struct {
		name    string
		natural Size
		query   string
		canvas  Size
		placed  Rect
	}{
		{"nothing declared: natural size", Size{600, 400}, "", Size{600, 400}, Rect{0, 0, 600, 400}},
		{"one side: the other follows", Size{600, 400}, "width=300", Size{300, 200}, Rect{0, 0, 300, 200}},
		{"half pixels round up", Size{6000, 4000}, "width=401", Size{401, 267}, Rect{0, 0, 401, 267}},
		{"an edge at a fraction below half rounds down", Size{1600, 999}, "width=333", Size{333, 208}, Rect{0, 0, 333, 208}},
		{"cover cuts both sides evenly", Size{600, 400}, "width=200&height=200&object-fit=cover", Size{200, 200}, Rect{-50, 0, 250, 200}},
		{"cover by shape", Size{4000, 3000}, "width=350&aspect-ratio=3/2&object-fit=cover", Size{350, 233}, Rect{0, -15, 350, 248}},
		{"fill stretches", Size{600, 400}, "width=100&height=300&object-fit=fill", Size{100, 300}, Rect{0, 0, 100, 300}},
		{"contain delivers the picture alone", Size{600, 400}, "width=300&height=300&object-fit=contain", Size{300, 200}, Rect{0, 0, 300, 200}},
		{"both sides: the shape is ignored", Size{600, 400}, "width=100&height=100&aspect-ratio=3/1&object-fit=cover", Size{100, 100}, Rect{-25, 0, 125, 100}},
		{"a shape alone: the largest within", Size{600, 400}, "aspect-ratio=1&object-fit=cover", Size{400, 400}, Rect{-100, 0, 500, 400}},
		{"a wide shape alone", Size{600, 400}, "aspect-ratio=3/1&object-fit=cover", Size{600, 200}, Rect{0, -100, 600, 300}},
		{"never grown: width", Size{600, 400}, "width=1200", Size{600, 400}, Rect{0, 0, 600, 400}},
		{"never grown: cover keeps the slot's shape", Size{600, 400}, "width=1000&height=1000&object-fit=cover", Size{400, 400}, Rect{-100, 0, 500, 400}},
		{"never grown: fill keeps the slot's shape", Size{600, 400}, "width=300&height=800", Size{150, 400}, Rect{0, 0, 150, 400}},
		{"never grown: contain stops at natural", Size{600, 400}, "width=5000&height=5000&object-fit=contain", Size{600, 400}, Rect{0, 0, 600, 400}},
		{"twice the pixels", Size{600, 400}, "width=100&resolution=2x", Size{200, 133}, Rect{0, 0, 200, 133}},
		{"twice the pixels of the natural size stop there", Size{600, 400}, "resolution=2x", Size{600, 400}, Rect{0, 0, 600, 400}},
		{"half of them", Size{600, 400}, "resolution=0.5x", Size{300, 200}, Rect{0, 0, 300, 200}},
		{"grown where that is asked", Size{60, 40}, "width=120&grow=yes", Size{120, 80}, Rect{0, 0, 120, 80}},
		{"cover from the left top", Size{600, 400}, "width=200&height=200&object-fit=cover&object-position=left+top", Size{200, 200}, Rect{0, 0, 300, 200}},
		{"cover at percentages", Size{600, 400}, "width=200&height=200&object-fit=cover&object-position=75+20", Size{200, 200}, Rect{-75, 0, 225, 200}},
		{"an edge a 64th below half goes where browsers' 64ths put it", Size{896, 608}, "width=261&height=267&object-fit=cover&object-position=80%25+61%25", Size{261, 267}, Rect{-106, 0, 288, 267}},
		{"cover with a gap", Size{600, 400}, "width=200&height=200&object-fit=cover&object-position=10px+5px", Size{200, 200}, Rect{10, 5, 310, 205}},
		{"from the far corner", Size{600, 400}, "width=200&height=200&object-fit=cover&object-position=right+10px+bottom+20px", Size{200, 200}, Rect{-110, -20, 190, 180}},
		{"contain on a ground delivers the slot", Size{600, 400}, "width=300&height=300&object-fit=contain&background-color=white", Size{300, 300}, Rect{0, 50, 300, 250}},
		{"its bars keep their part when it stops", Size{600, 400}, "width=1200&height=1200&object-fit=contain&background-color=white", Size{600, 600}, Rect{0, 100, 600, 500}},
		{"none cuts at the natural size", Size{600, 400}, "width=300&height=300&object-fit=none", Size{300, 300}, Rect{-150, -50, 450, 350}},
		{"none in a larger slot", Size{60, 40}, "width=300&height=300&object-fit=none", Size{300, 300}, Rect{120, 130, 180, 170}},
		{"a frame lies inside of the slot", Size{600, 400}, "width=200&object-fit=cover&padding=10px 5%25&border=4px solid", Size{200, 143}, Rect{14, 14, 186, 129}},
		{"a frame around the natural size", Size{60, 40}, "border=2.5px solid&padding=0 10px", Size{84, 44}, Rect{12, 2, 72, 42}},
		{"a frame shrinks with its slot", Size{60, 40}, "width=600&height=420&object-fit=fill&border=10px dashed navy", Size{60, 42}, Rect{1, 1, 59, 41}},
		{"a frame that leaves nothing", Size{60, 40}, "width=30&height=30&object-fit=cover&padding=20px", Size{40, 40}, Rect{20, 20, 21, 21}},
		{"contain within a frame is the whole slot", Size{60, 40}, "width=60&height=60&object-fit=contain&padding=5px", Size{60, 60}, Rect{5, 13, 55, 47}},
		{"a region of lengths of both kinds", Size{600, 400}, "object-view-box=inset(10px 25%25)", Size{300, 380}, Rect{0, 0, 300, 380}},
		{"none on a ground in a larger slot", Size{60, 40}, "width=300&height=300&object-fit=none&background-color=gold", Size{300, 300}, Rect{120, 130, 180, 170}},
		{"scale-down of what is larger", Size{600, 400}, "width=300&height=300&object-fit=scale-down", Size{300, 200}, Rect{0, 0, 300, 200}},
		{"scale-down of what is smaller", Size{60, 40}, "width=300&height=300&object-fit=scale-down&background-color=gold", Size{300, 300}, Rect{120, 130, 180, 170}},
		{"a part", Size{600, 400}, "xywh=100,50,200,100", Size{200, 100}, Rect{0, 0, 200, 100}},
		{"a part in percent, clipped", Size{600, 400}, "xywh=percent:50,50,100,100&width=100", Size{100, 67}, Rect{0, 0, 100, 67}},
		{"turned by a right angle", Size{600, 400}, "rotate=90deg&width=200", Size{200, 300}, Rect{0, 0, 200, 300}},
		{"turned by an eighth", Size{600, 400}, "rotate=45deg", Size{707, 707}, Rect{0, 0, 707, 707}},
		{"no side vanishes", Size{60000, 2}, "width=10", Size{10, 1}, Rect{0, 0, 10, 1}},
	} {
		t.Run(c.name, func(t *testing.T) {
			p, ok := New(c.natural, parse(t, c.query))
			if !ok {
				t.Fatal("nothing is left")
			}
			if p.Canvas != c.canvas || p.Placed != c.placed {
				t.Errorf("canvas %v placed %v, want %v %v", p.Canvas, p.Placed, c.canvas, c.placed)
			}
		})
	}
}

// The invariants hold for any size and declarations that the language lets through.
func TestPlanInvariants(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	side := func() int { return 1 + int(math.Exp(r.Float64()*math.Log(65535))) - 1 }
	for range 400_000 {
		natural := Size{side(), side()}
		var d declare.Declarations
		if r.IntN(3) > 0 {
			d.Width = 1 + r.Float64()*float64(side())
		}
		if r.IntN(3) > 0 {
			d.Height = 1 + r.Float64()*float64(side())
		}
		if r.IntN(2) > 0 {
			d.Aspect = declare.Ratio{W: 1 + r.Float64()*9, H: 1 + r.Float64()*9}
		}
		d.Fit = declare.Fit(1 + r.IntN(3))
		p, ok := New(natural, d)
		if !ok {
			t.Fatal("nothing is left")
		}
		fail := func(what string) {
			t.Fatalf("%s: natural %v, %+v: canvas %v placed %v", what, natural, d, p.Canvas, p.Placed)
		}
		if p.Canvas.W < 1 || p.Canvas.H < 1 || p.Placed.W() < 1 || p.Placed.H() < 1 {
			fail("a side is zero")
		}
		if p.Canvas.W > natural.W || p.Canvas.H > natural.H {
			fail("more than the source has")
		}
		if d.Width != 0 && float64(p.Canvas.W) > d.Width+1 || d.Height != 0 && float64(p.Canvas.H) > d.Height+1 {
			fail("more than was asked")
		}
		// A snapped edge may leave the canvas's last half pixel to the picture's edge, never more.
		if p.Placed.X0 > 0 || p.Placed.Y0 > 0 || p.Placed.X1 < p.Canvas.W-1 || p.Placed.Y1 < p.Canvas.H-1 {
			fail("the picture doesn't cover the canvas")
		}
		if d.Fit != declare.Fill {
			// Shape kept: each painted side is within a pixel of what the other side's scale gives it.
			sx, sy := p.ScaleX(), p.ScaleY()
			if math.Abs(sx*float64(natural.H)-float64(p.Placed.H())) > 1+float64(natural.H)/float64(natural.W) &&
				math.Abs(sy*float64(natural.W)-float64(p.Placed.W())) > 1+float64(natural.W)/float64(natural.H) {
				fail("the shape is lost")
			}
		}
	}
}
