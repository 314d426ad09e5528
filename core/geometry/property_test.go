package geometry

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"echolane/core/declare"
)

// anything draws declarations of geometry that the language lets through.
func anything(r *rand.Rand) (Size, declare.Declarations) {
	side := func() int { return int(math.Exp(r.Float64() * math.Log(65535))) }
	number := func() float64 { return 1 + r.Float64()*float64(side()-1) }
	maybe := func(f func()) {
		if r.IntN(2) == 0 {
			f()
		}
	}
	natural := Size{side(), side()}
	var d declare.Declarations
	maybe(func() { d.Width = number() })
	maybe(func() { d.Height = number() })
	maybe(func() { d.Aspect = declare.Ratio{W: number(), H: number()} })
	maybe(func() { d.Resolution = 0.5 + 3.5*r.Float64() })
	maybe(func() {
		px := func(v float64) declare.Length { return declare.Length{Px: v} }
		part := func(v float64) declare.Length { return declare.Length{Part: v / 100} }
		d.XYWH = declare.Region{Declared: true, X: px(r.Float64() * float64(natural.W)), Y: px(r.Float64() * float64(natural.H)), W: px(number()), H: px(number())}
		if r.IntN(2) == 0 {
			d.XYWH = declare.Region{Declared: true, X: part(99 * r.Float64()), Y: part(99 * r.Float64()), W: part(0.01 + 100*r.Float64()), H: part(0.01 + 100*r.Float64())}
		}
	})
	maybe(func() { d.Mirror.X, d.Mirror.Y = r.IntN(2) == 0, r.IntN(2) == 0 })
	maybe(func() {
		d.Turn.Degrees = float64(r.IntN(4) * 90)
		maybe(func() { d.Turn.Degrees = 360 * r.Float64() })
	})
	d.Fit = declare.Fit(r.IntN(6))
	maybe(func() { d.Grow = declare.GrowYes })
	maybe(func() { d.Background = declare.Color{Declared: true, A: 255} })
	maybe(func() {
		length := func() declare.Length {
			return declare.Length{Part: 2*r.Float64() - 0.5, Px: float64(r.IntN(2)) * (r.Float64() - 0.5) * 1000}
		}
		d.Position = declare.Position{Declared: true, X: length(), Y: length()}
	})
	maybe(func() {
		side := func() string { return fmt.Sprintf("%gpx", math.Round(300*r.Float64())/10) }
		if r.IntN(2) == 0 {
			side = func() string { return fmt.Sprintf("%g%%", math.Round(200*r.Float64())/10) }
		}
		d.Padding = side() + " " + side() + " " + side() + " " + side()
		d.Border = []string{"", "1px solid 000000", "none, 7.5px dashed 000000, none, 0.3px solid 000000"}[r.IntN(3)]
	})
	return natural, d
}

func TestEveryDeclarationKeepsTheInvariants(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 2))
	planned := 0
	for range 400_000 { // others in every run
		natural, d := anything(r)
		if plan, ok := New(natural, d); ok {
			planned++
			if broken := brokenInvariant(natural, d, plan); broken != "" {
				t.Fatalf("%s: natural %v, %+v: %+v", broken, natural, d, plan)
			}
		} else if !d.XYWH.Declared {
			t.Fatalf("nothing is left of %v without xywh: %+v", natural, d)
		}
	}
	if planned < 200_000 {
		t.Errorf("only %d plans came about", planned)
	}
}

// brokenInvariant names what doesn't hold of a plan, "" where all does.
func brokenInvariant(natural Size, d declare.Declarations, p Plan) string {
	res := d.Resolution
	if res == 0 {
		res = 1
	}
	whole := Rect{0, 0, natural.W, natural.H}
	nw, nh := p.Turned()
	f := frameOf(d, res)
	bars := d.Background.Declared || f != frame{}
	edge := p.Frame.Edge
	content := p.Content()
	grows := d.Grow == declare.GrowYes
	const most = 1 << 52 // whole numbers up to here are exact in float64
	switch {
	case p.Canvas.W < 1 || p.Canvas.H < 1 || p.Placed.W() < 1 || p.Placed.H() < 1:
		return "a side is zero"
	case p.Cut.X0 < whole.X0 || p.Cut.Y0 < whole.Y0 || p.Cut.X1 > whole.X1 || p.Cut.Y1 > whole.Y1 || p.Cut.W() < 1 || p.Cut.H() < 1:
		return "the cut leaves the source"
	case !(p.K > 0) || p.K > res*(1+1e-9):
		return "k is out of range"
	case p.Canvas.W > most || p.Canvas.H > most || p.Placed.X1 > most || p.Placed.Y1 > most || p.Placed.X0 < -most || p.Placed.Y0 < -most:
		return "a side has run over"
	case d.Width != 0 && float64(p.Canvas.W) > math.Max(d.Width*res, edge[1]+edge[3])+1 || d.Height != 0 && float64(p.Canvas.H) > math.Max(d.Height*res, edge[0]+edge[2])+3:
		return "more is delivered than was asked"
	case !grows && (float64(p.Placed.W()) > nw+1.02 || float64(p.Placed.H()) > nh+1.02):
		return "the picture is larger than its natural size"
	case content.X0 < 0 || content.Y0 < 0 || content.X1 > p.Canvas.W || content.Y1 > p.Canvas.H || f == frame{} && content != Rect{0, 0, p.Canvas.W, p.Canvas.H}:
		return "the picture's box isn't what the frame leaves of the canvas"
	case d.Turn.Degrees == 90 && (nw != float64(p.Cut.H()) || nh != float64(p.Cut.W())):
		return "a right angle doesn't swap the sides"
	}
	if fitted := (d.Fit == declare.Contain || d.Fit == declare.ScaleDown) && !bars; fitted {
		// A shift by a fraction of a pixel may cost or give an edge.
		if dw, dh := p.Canvas.W-p.Placed.W(), p.Canvas.H-p.Placed.H(); dw > 1 || dw < -1 || dh > 1 || dh < -1 {
			return "the fitted picture isn't delivered alone"
		}
	}
	if cover := d.Fit == declare.Cover; (cover || d.Fit == declare.Fill || d.Fit == declare.FitUnset) && !grows {
		w, h := slot(nw, nh, d, f)
		e := f.edges(w)
		cw, ch := math.Max(0, w-e[1]-e[3]), math.Max(0, h-e[0]-e[2])
		if k := math.Min(1, math.Min(nw/(cw*res), nh/(ch*res))); math.Abs(p.K-k*res) > 1e-9*res {
			return "k isn't min(1, natural w ÷ slot w, natural h ÷ slot h)"
		}
	}
	if d.Fit == declare.Cover || d.Fit == declare.Contain || d.Fit == declare.ScaleDown || d.Fit == declare.None {
		// Shape kept: each side is within what snapping does to it of what the other side's scale makes it.
		if math.Abs(p.ScaleX()*nh-float64(p.Placed.H())) > 1.1+1.1*nh/nw && math.Abs(p.ScaleY()*nw-float64(p.Placed.W())) > 1.1+1.1*nw/nh {
			return "the shape is lost"
		}
	}
	return ""
}

// FuzzPlan plans what the parser lets through.
func FuzzPlan(f *testing.F) {
	f.Add("width=300&height=200&object-fit=contain&background-color=white", uint16(4000), uint16(3000))
	f.Add("xywh=percent:10,10,50,50&rotate=33deg&scale=-1 1&grow=yes&resolution=2x", uint16(65535), uint16(1))
	f.Add("aspect-ratio=4/3&object-fit=none&object-position=right 10px bottom 20%25", uint16(1), uint16(65535))
	f.Fuzz(func(t *testing.T, query string, w, h uint16) {
		d, err := declare.Parse(query)
		if err != nil || w == 0 || h == 0 {
			return
		}
		d = d.Resolve(declare.Declarations{}, nil).Declarations
		natural := Size{int(w), int(h)}
		plan, ok := New(natural, d)
		if !ok {
			return
		}
		if broken := brokenInvariant(natural, d, plan); broken != "" {
			t.Fatalf("%s: %v, %q: %+v", broken, natural, query, plan)
		}
	})
}
