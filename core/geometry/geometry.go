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
	Frame    Frame
	Nearest  bool // each pixel is the source's nearest
	exact    *exact
}

// exact is where a moving picture is, between the pixels: left, top, right and bottom edge.
type exact struct {
	cut    [4]float64 // of the upright picture
	placed [4]float64 // on the canvas
}

// A Frame is what lies between the slot's edge and the picture's box, in canvas pixels: top, right, bottom, left.
type Frame struct {
	Border [4]int     // as browsers have it: whole device pixels, at least one where there is a border
	Edge   [4]float64 // border and padding
}

// Bordered reports whether any side has a border.
func (f *Frame) Bordered() bool { return f.Border != [4]int{} }

// Content is the picture's box on the canvas: all of it but the frame. It may be empty.
func (p *Plan) Content() Rect { return p.inset(p.Frame.Edge) }

// Padding is the canvas without its border.
func (p *Plan) Padding() Rect {
	b := p.Frame.Border
	return p.inset([4]float64{float64(b[0]), float64(b[1]), float64(b[2]), float64(b[3])})
}

func (p *Plan) inset(e [4]float64) Rect {
	r := Rect{snap(e[3]), snap(e[0]), p.Canvas.W - snap(e[1]), p.Canvas.H - snap(e[2])}
	r.X0, r.Y0 = min(r.X0, p.Canvas.W), min(r.Y0, p.Canvas.H)
	r.X1, r.Y1 = max(r.X1, r.X0), max(r.Y1, r.Y0)
	return r
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

// Visible is the part of Placed that lies in the picture's box; empty where none does.
func (p Plan) Visible() Rect {
	c := p.Content()
	r := Rect{max(c.X0, p.Placed.X0), max(c.Y0, p.Placed.Y0), min(c.X1, p.Placed.X1), min(c.Y1, p.Placed.Y1)}
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
	f := frameOf(d, res)
	w, h := slot(nw, nh, d, f)
	edge := f.edges(w)
	for i := range edge {
		edge[i] *= res
	}
	w, h = max(w*res, edge[1]+edge[3]), max(h*res, edge[0]+edge[2])
	cw, ch := max(0, w-edge[1]-edge[3]), max(0, h-edge[0]-edge[2]) // the picture's box
	grows := d.Grow == declare.GrowYes
	bars := d.Background.Declared || d.BackgroundImage != "" || f != frame{}
	var pw, ph float64 // the picture's painted size
	k := 1.0
	switch d.Fit {
	case declare.Cover, declare.Fill, declare.FitUnset:
		if !grows {
			k = min(1, nw/cw, nh/ch)
		}
		cw, ch = cw*k, ch*k
		if pw, ph = cw, ch; d.Fit == declare.Cover {
			s := max(cw/nw, ch/nh)
			pw, ph = nw*s, nh*s
		}
	default:
		// The picture's size before it stops at its natural pixels.
		s := min(cw/nw, ch/nh)
		if d.Fit == declare.None || d.Fit == declare.ScaleDown && s > res {
			s = res
		}
		if !grows {
			if k = min(1, 1/s); bars && d.Fit == declare.Contain {
				k = min(1, max(nw/cw, nh/ch))
			}
		}
		pw, ph = nw*s*k, nh*s*k
		cw, ch = cw*k, ch*k
		if !bars && d.Fit != declare.None {
			cw, ch = pw, ph
		}
	}
	p.K = k * res
	for i := range edge {
		border := snapBorder(f[i].border * p.K)
		p.Frame.Border[i], p.Frame.Edge[i] = border, edge[i]*k-f[i].border*p.K+float64(border)
	}
	edge = p.Frame.Edge
	p.Canvas = Size{max(1, snap(cw+edge[1]+edge[3])), max(1, snap(ch+edge[0]+edge[2]))}
	pw, ph = in64ths(pw), in64ths(ph)
	freeX, freeY := in64ths(cw)-pw, in64ths(ch)-ph
	x, y := freeX/2, freeY/2
	if d.Position.Declared {
		x, y = d.Position.X.Part*freeX+d.Position.X.Px*p.K, d.Position.Y.Part*freeY+d.Position.Y.Px*p.K
	}
	p.Placed = place(in64ths(x+edge[3]), in64ths(y+edge[0]), pw, ph)
	p.Complete = p.Placed.X0 <= 0 && p.Placed.Y0 <= 0 && p.Placed.X1 >= p.Canvas.W-1 && p.Placed.Y1 >= p.Canvas.H-1 && p.Frame == Frame{}
	return p, true
}

// Drawn is the plan for a picture that has no pixels of its own: as if what is cut had been stored at the size at which it
// lands on the canvas, w×h pixels, or smaller where that were more than most.
func (p Plan) Drawn(most int) (drawn Plan, w, h int) {
	kx, ky := p.ScaleX(), p.ScaleY()
	switch turns, right := p.Quarter(); {
	case !right:
		kx = max(kx, ky)
		ky = kx
	case turns%2 == 1:
		kx, ky = ky, kx
	}
	fw, fh := float64(p.Cut.W())*kx, float64(p.Cut.H())*ky
	if k := math.Sqrt(float64(most) / (fw * fh)); k < 1 {
		fw, fh = fw*k, fh*k
	}
	w, h = max(1, int(math.Round(fw))), max(1, int(math.Round(fh)))
	p.Cut = Rect{0, 0, w, h}
	p.turned = turned(float64(w), float64(h), p.Turn)
	return p, w, h
}

// snapBorder is a border's width as browsers have it (CSS Backgrounds Level 3, section 3.3): whole pixels, rounded down, but at
// least one.
func snapBorder(w float64) int {
	if w <= 0 {
		return 0
	}
	return max(1, int(math.Floor(w+1e-9)))
}

// frame is border and padding of each side, in CSS pixels and parts of the slot's width.
type frame [4]struct {
	border  float64
	padding declare.Length
}

func frameOf(d declare.Declarations, res float64) (f frame) {
	if !d.Framed() {
		return f
	}
	padding := d.PaddingEdges()
	for i, side := range d.BorderSides() {
		if side.Shows() {
			f[i].border = float64(snapBorder(side.Width*res)) / res
		}
		f[i].padding = padding[i]
	}
	return f
}

// edges are the sides' lengths where the slot is so wide.
func (f *frame) edges(width float64) (e [4]float64) {
	for i := range f {
		e[i] = f[i].border + max(0, f[i].padding.Of(width))
	}
	return e
}

// both is what two opposite sides take: pixels, and a part of the slot's width.
func (f *frame) both(i, j int) (px, part float64) {
	a, b := f[i].padding, f[j].padding
	return f[i].border + f[j].border + a.Px + b.Px, a.Part + b.Part
}

// Cuts reports whether some of the picture lies beside the canvas, so that it matters what.
func (p Plan) Cuts() bool {
	c := p.Content()
	return p.Placed.W() > c.W() || p.Placed.H() > c.H()
}

// InTurned is where a box of the upright picture, in pixels, lies in the turned one, in parts of its sides; ok is false where it
// is cut off.
func (p Plan) InTurned(x0, y0, x1, y1 float64) (u0, v0, u1, v1 float64, ok bool) {
	sin, cos := math.Sincos(p.Turn * math.Pi / 180)
	mx, my := float64(p.Cut.X0+p.Cut.X1)/2, float64(p.Cut.Y0+p.Cut.Y1)/2
	x0, x1 = max(x0, float64(p.Cut.X0)), min(x1, float64(p.Cut.X1))
	y0, y1 = max(y0, float64(p.Cut.Y0)), min(y1, float64(p.Cut.Y1))
	if x0 >= x1 || y0 >= y1 {
		return 0, 0, 1, 1, false
	}
	u0, v0, u1, v1 = math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, c := range [4][2]float64{{x0, y0}, {x1, y0}, {x0, y1}, {x1, y1}} {
		x, y := c[0]-mx, c[1]-my
		if p.MirrorX {
			x = -x
		}
		if p.MirrorY {
			y = -y
		}
		u, v := (x*cos-y*sin)/p.turned[0]+0.5, (x*sin+y*cos)/p.turned[1]+0.5
		u0, v0, u1, v1 = min(u0, u), min(v0, v), max(u1, u), max(v1, v)
	}
	return max(0, u0), max(0, v0), min(1, u1), min(1, v1), true
}

// Window is how much of the picture the canvas shows, in parts of its sides.
func (p Plan) Window() (w, h float64) {
	c := p.Content()
	return math.Min(1, float64(c.W())/float64(p.Placed.W())), math.Min(1, float64(c.H())/float64(p.Placed.H()))
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
	c := p.Content()
	return declare.Position{Declared: true, X: axis(c.W(), p.Placed.W(), (x0+x1)/2), Y: axis(c.H(), p.Placed.H(), (y0+y1)/2)}
}

// cut is the part of the picture that xywh names, clipped to it; all of it where that is to be found yet.
func cut(s Size, r declare.Region) (Rect, bool) {
	if !r.Declared || r.ToBeFound() {
		return Rect{0, 0, s.W, s.H}, true
	}
	x, y, w, h := r.Of(float64(s.W), float64(s.H))
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

// slot is the box that the declarations ask for, in CSS pixels, before it stops at the natural size: with its frame, as
// box-sizing: border-box has it.
func slot(nw, nh float64, d declare.Declarations, f frame) (w, h float64) {
	ax, px := f.both(1, 3)
	ay, py := f.both(0, 2)
	natural, shape := nw/nh, 0.0
	if !d.Aspect.IsZero() {
		shape = d.Aspect.Value()
	}
	switch {
	case d.Width != 0 && d.Height != 0:
		return d.Width, d.Height
	case d.Width != 0 && shape != 0:
		return d.Width, d.Width / shape
	case d.Width != 0:
		return d.Width, max(0, d.Width-ax-px*d.Width)/natural + ay + py*d.Width
	case d.Height != 0 && shape != 0:
		return d.Height * shape, d.Height
	case d.Height != 0:
		w = (max(0, d.Height-ay)*natural + ax) / (1 - px + py*natural)
		return w, d.Height
	case shape > natural && f == frame{}: // the largest that the picture fills
		return nw, nw / shape
	case shape != 0 && f == frame{}:
		return nh * shape, nh
	case shape != 0:
		w = (nw + ax) / (1 - px)
		if of := 1/shape - py; of > 0 {
			w = min(w, (nh+ay)/of)
		}
		return w, w / shape
	}
	w = (nw + ax) / (1 - px)
	return w, nh + ay + py*w
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
