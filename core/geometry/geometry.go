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

// A Plan says how the canvas is made: Cut of the upright picture, mirrored, turned, and placed.
type Plan struct {
	Upright  Size    // the whole picture, before anything
	Cut      Rect    // of it; the whole where nothing is cut
	MirrorX  bool    // across
	MirrorY  bool    // down
	Turn     float64 // clockwise, degrees, 0 to below 360
	Natural  Size    // what the fit step meets: the cut picture, turned; rounded up
	Canvas   Size    // delivered; each side at least 1
	Placed   Rect    // where all of the turned picture lands, in canvas pixels; may reach beyond the canvas
	K        float64 // what every length of the paint is multiplied by: device pixels to a CSS pixel, as delivered
	turned   [2]float64
	Complete bool // the picture covers the whole canvas
	Nearest  bool // each pixel is the source's nearest
}

// Quarter reports whether the turn is by right angles, and by how many.
func (p Plan) Quarter() (turns int, ok bool) {
	q := p.Turn / 90
	return int(q), q == math.Trunc(q)
}

// ScaleX is canvas pixels per pixel of the turned picture across, ScaleY down.
func (p Plan) ScaleX() float64 { return float64(p.Placed.W()) / p.turned[0] }
func (p Plan) ScaleY() float64 { return float64(p.Placed.H()) / p.turned[1] }

// Turned is the size of the turned picture, before it is scaled.
func (p Plan) Turned() (w, h float64) { return p.turned[0], p.turned[1] }

// Straight is the plan with its turn taken out: the cut picture alone fills Placed.
func (p Plan) Straight() Plan {
	p.Turn = 0
	p.turned = [2]float64{float64(p.Cut.W()), float64(p.Cut.H())}
	return p
}

// Visible is the part of Placed that lies on the canvas; empty where none does.
func (p Plan) Visible() Rect {
	r := Rect{max(0, p.Placed.X0), max(0, p.Placed.Y0), min(p.Canvas.W, p.Placed.X1), min(p.Canvas.H, p.Placed.Y1)}
	if r.X1 <= r.X0 || r.Y1 <= r.Y0 {
		return Rect{}
	}
	return r
}

// New plans the delivery of an upright picture (both sides at least 1). ok is false where xywh leaves nothing.
func New(upright Size, d declare.Declarations) (p Plan, ok bool) {
	p = Plan{Upright: upright, MirrorX: d.Mirror.X, MirrorY: d.Mirror.Y, Turn: d.Turn.Degrees, Nearest: d.Rendering == declare.Pixelated}
	if p.Cut, ok = cut(upright, d.XYWH); !ok {
		return p, false
	}
	p.turned = turned(float64(p.Cut.W()), float64(p.Cut.H()), p.Turn)
	nw, nh := p.turned[0], p.turned[1]
	p.Natural = Size{int(math.Ceil(nw - 1e-6)), int(math.Ceil(nh - 1e-6))}

	res := d.Resolution
	if res == 0 {
		res = 1
	}
	w, h := slot(nw, nh, d)
	w, h = w*res, h*res
	grows := d.Grow == declare.GrowYes
	bars := d.Background.Declared || d.BackgroundImage != ""
	var pw, ph float64 // the picture's painted size
	k := 1.0
	switch d.Fit {
	case declare.Cover, declare.Fill, declare.FitUnset:
		if !grows {
			k = min(1, nw/w, nh/h)
		}
		w, h = w*k, h*k
		if pw, ph = w, h; d.Fit == declare.Cover {
			s := max(w/nw, h/nh)
			pw, ph = nw*s, nh*s
		}
	default:
		// The picture's size before it stops at its natural pixels.
		s := min(w/nw, h/nh)
		if d.Fit == declare.None || d.Fit == declare.ScaleDown && s > res {
			s = res
		}
		if !grows {
			if k = min(1, 1/s); bars && d.Fit == declare.Contain {
				k = min(1, max(nw/w, nh/h))
			}
		}
		pw, ph = nw*s*k, nh*s*k
		w, h = w*k, h*k
		if !bars && d.Fit != declare.None {
			w, h = pw, ph
		}
	}
	p.K = k * res
	p.Canvas = Size{max(1, snap(w)), max(1, snap(h))}
	pw, ph = in64ths(pw), in64ths(ph)
	freeX, freeY := in64ths(w)-pw, in64ths(h)-ph
	x, y := freeX/2, freeY/2
	if d.Position.Declared {
		x, y = d.Position.X.Part*freeX+d.Position.X.Px*p.K, d.Position.Y.Part*freeY+d.Position.Y.Px*p.K
	}
	p.Placed = place(in64ths(x), in64ths(y), pw, ph)
	if d.Fit == declare.None && !bars {
		p.trim()
	}
	p.Complete = p.Placed.X0 <= 0 && p.Placed.Y0 <= 0 && p.Placed.X1 >= p.Canvas.W-1 && p.Placed.Y1 >= p.Canvas.H-1
	return p, true
}

// Cuts reports whether some of the picture lies beside the canvas, so that it matters what.
func (p Plan) Cuts() bool { return p.Placed.W() > p.Canvas.W || p.Placed.H() > p.Canvas.H }

// Window is how much of the picture the canvas shows, in parts of its sides.
func (p Plan) Window() (w, h float64) {
	return math.Min(1, float64(p.Canvas.W)/float64(p.Placed.W())), math.Min(1, float64(p.Canvas.H)/float64(p.Placed.H()))
}

// FocusAt gives the object-position that brings a box of the turned picture (parts of its sides) to the middle of
// the slot that p plans, as far as the picture reaches.
func (p Plan) FocusAt(x0, y0, x1, y1 float64) declare.Position {
	axis := func(slot, picture int, middle float64) declare.Length {
		free := float64(slot - picture)
		if free == 0 {
			return declare.Length{Part: 0.5}
		}
		at := float64(slot)/2 - middle*float64(picture)
		if free < 0 {
			at = min(0, max(free, at))
		} else {
			at = free / 2 // nothing is cut off along this axis
		}
		return declare.Length{Part: at / free}
	}
	return declare.Position{Declared: true, X: axis(p.Canvas.W, p.Placed.W(), (x0+x1)/2), Y: axis(p.Canvas.H, p.Placed.H(), (y0+y1)/2)}
}

// trim makes the canvas what of the slot the picture fills.
func (p *Plan) trim() {
	v := p.Visible()
	if v == (Rect{}) {
		return // all of it lies beside the slot, which is delivered empty
	}
	p.Canvas = Size{v.W(), v.H()}
	p.Placed = Rect{p.Placed.X0 - v.X0, p.Placed.Y0 - v.Y0, p.Placed.X1 - v.X0, p.Placed.Y1 - v.Y0}
}

// cut is the part of the picture that xywh names, clipped to it.
func cut(s Size, r declare.Region) (Rect, bool) {
	if !r.Declared {
		return Rect{0, 0, s.W, s.H}, true
	}
	x, y, w, h := r.X, r.Y, r.W, r.H
	if r.Percent {
		x, w = x/100*float64(s.W), w/100*float64(s.W)
		y, h = y/100*float64(s.H), h/100*float64(s.H)
	}
	c := Rect{max(0, snap(x)), max(0, snap(y)), min(s.W, snap(x+w)), min(s.H, snap(y+h))}
	return c, c.X1 > c.X0 && c.Y1 > c.Y0
}

// turned is the bounding box of a turned rectangle.
func turned(w, h, degrees float64) [2]float64 {
	switch degrees {
	case 0, 180:
		return [2]float64{w, h}
	case 90, 270:
		return [2]float64{h, w}
	}
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	sin, cos = math.Abs(sin), math.Abs(cos)
	return [2]float64{w*cos + h*sin, w*sin + h*cos}
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

// place snaps the edges of a picture of pw×ph at x, y one by one to whole pixels. A picture never vanishes
// between two edges.
func place(x, y, pw, ph float64) Rect {
	r := Rect{snap(x), snap(y), snap(x + pw), snap(y + ph)}
	r.X1 = max(r.X1, r.X0+1)
	r.Y1 = max(r.Y1, r.Y0+1)
	return r
}

// in64ths drops what is finer than a 64th of a pixel, in which browsers lay out: it decides which way an edge
// goes that would lie within a 64th or two of a half.
func in64ths(v float64) float64 { return math.Trunc(v*64+math.Copysign(1e-6, v)) / 64 }

// snap is the nearest pixel edge, as browsers take it. The small push makes sides that are a half in exact
// arithmetic, and a hair below it in floating point, come out as the half.
func snap(v float64) int { return int(math.Floor(v + 0.5 + 1e-9)) }
