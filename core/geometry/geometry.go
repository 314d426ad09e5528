// Package geometry turns a source's natural size and a request's declarations into a plan: which part of the
// picture lands where on a canvas of what size. It is arithmetic only.
//
// It follows CSS Images Level 3, section 5.5 (object-fit) and CSS Sizing Level 4, section 4 (aspect-ratio),
// with the departures that the language names: a picture isn't scaled above its natural pixels unless `grow` says so, and
// `contain` delivers the fitted picture alone.
package geometry

import (
	"math"

	"echolane/core/declare"
)

// A Size is whole pixels.
type Size struct{ W, H int }

// Pixels is W × H.
func (s Size) Pixels() int64 { return int64(s.W) * int64(s.H) }

// A Rect is whole pixels, right and bottom edges not included.
type Rect struct{ X0, Y0, X1, Y1 int }

// W is the rectangle's width, H its height.
func (r Rect) W() int { return r.X1 - r.X0 }
func (r Rect) H() int { return r.Y1 - r.Y0 }

// A Plan says how the canvas is made from the upright picture.
type Plan struct {
	Natural Size // of the upright picture
	Canvas  Size // delivered; each side at least 1
	Placed  Rect // where the whole picture lands, in canvas pixels; what lies outside the canvas is cut off
}

// ScaleX is canvas pixels per natural pixel across, ScaleY down.
func (p Plan) ScaleX() float64 { return float64(p.Placed.W()) / float64(p.Natural.W) }
func (p Plan) ScaleY() float64 { return float64(p.Placed.H()) / float64(p.Natural.H) }

// New plans the delivery of a picture of the given natural size (both sides at least 1).
func New(natural Size, d declare.Declarations) Plan {
	nw, nh := float64(natural.W), float64(natural.H)
	w, h := slot(nw, nh, d)
	if d.Resolution != 0 {
		w, h = w*d.Resolution, h*d.Resolution
	}
	// The most that the picture may be scaled by: to its natural pixels, or without a bound.
	most := 1.0
	if d.Grow == declare.GrowYes {
		most = math.Inf(1)
	}

	var pw, ph float64 // the picture's painted size
	switch d.Fit {
	case declare.Cover:
		k := shrink(most, nw/w, nh/h)
		w, h = w*k, h*k
		s := max(w/nw, h/nh)
		pw, ph = nw*s, nh*s
	case declare.Contain:
		s := min(most, w/nw, h/nh)
		pw, ph = nw*s, nh*s
		w, h = pw, ph
	default:
		k := shrink(most, nw/w, nh/h)
		w, h = w*k, h*k
		pw, ph = w, h
	}
	return Plan{
		Natural: natural,
		Canvas:  Size{max(1, snap(w)), max(1, snap(h))},
		Placed:  place(w, h, pw, ph),
	}
}

// shrink is the factor by which a slot stops at the picture's natural size, 1 where the picture may grow.
func shrink(most, x, y float64) float64 {
	if math.IsInf(most, 1) {
		return 1
	}
	return min(1, x, y)
}

// slot is the box that the declarations ask for, in CSS pixels, before it stops at the natural size.
func slot(nw, nh float64, d declare.Declarations) (w, h float64) {
	shape := nw / nh
	if !d.Aspect.IsZero() {
		shape = d.Aspect.Value()
	}
	switch {
	case d.Width != 0 && d.Height != 0:
		return d.Width, d.Height
	case d.Width != 0:
		return d.Width, d.Width / shape
	case d.Height != 0:
		return d.Height * shape, d.Height
	case !d.Aspect.IsZero() && shape > nw/nh:
		return nw, nw / shape
	case !d.Aspect.IsZero():
		return nh * shape, nh
	}
	return nw, nh
}

// place centres a picture of pw×ph in a slot of w×h and snaps its edges one by one to whole pixels. A
// picture never vanishes between two edges.
func place(w, h, pw, ph float64) Rect {
	x, y := (w-pw)/2, (h-ph)/2
	r := Rect{snap(x), snap(y), snap(x + pw), snap(y + ph)}
	r.X1 = max(r.X1, r.X0+1)
	r.Y1 = max(r.Y1, r.Y0+1)
	return r
}

// snap is the nearest pixel edge, as browsers take it. The small push makes sides that are a half in exact
// arithmetic, and a hair below it in floating point, come out as the half.
func snap(v float64) int { return int(math.Floor(v + 0.5 + 1e-9)) }
