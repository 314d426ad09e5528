package geometry

import (
	"math"

	"echolane/core/declare"
)

// Moved is the plan of a moment of a picture that moves, on the canvas that p plans, which stays: the part of the picture that d
// names, fitted and placed as d says, to the fraction of a pixel, and enlarged where that takes it. All that d says of the slot is p's.
// Its region is known already. ok is false where that leaves nothing.
func (p Plan) Moved(d declare.Declarations) (moved Plan, ok bool) {
	w, h := float64(p.Upright.W), float64(p.Upright.H)
	cut := [4]float64{0, 0, w, h}
	if d.XYWH.Declared && !d.XYWH.ToBeFound() {
		x, y, cw, ch := d.XYWH.Of(w, h)
		cut = [4]float64{max(0, x), max(0, y), min(w, x+cw), min(h, y+ch)}
	}
	if cut[2]-cut[0] < 1 || cut[3]-cut[1] < 1 {
		return p, false
	}
	p.Cut = Rect{int(math.Floor(cut[0] + 1e-6)), int(math.Floor(cut[1] + 1e-6)), int(math.Ceil(cut[2] - 1e-6)), int(math.Ceil(cut[3] - 1e-6))}
	p.turned = turned(cut[2]-cut[0], cut[3]-cut[1], p.Turn)
	nw, nh := p.turned[0], p.turned[1]
	c := p.Content()
	cw, ch := float64(c.W()), float64(c.H())
	pw, ph := cw, ch
	switch d.Fit {
	case declare.Fill, declare.FitUnset:
	case declare.Cover:
		s := max(cw/nw, ch/nh)
		pw, ph = nw*s, nh*s
	default:
		s := min(cw/nw, ch/nh)
		if d.Fit == declare.None || d.Fit == declare.ScaleDown && s > p.K {
			s = p.K
		}
		pw, ph = nw*s, nh*s
	}
	x, y := (cw-pw)/2, (ch-ph)/2
	if d.Position.Declared && d.Position.Focus == declare.NoFocus {
		x, y = d.Position.X.Part*(cw-pw)+d.Position.X.Px*p.K, d.Position.Y.Part*(ch-ph)+d.Position.Y.Px*p.K
	}
	x, y = x+float64(c.X0), y+float64(c.Y0)
	p.exact = &exact{cut, [4]float64{x, y, x + pw, y + ph}}
	p.Placed = place(x, y, pw, ph)
	p.Complete = p.Placed.X0 <= 0 && p.Placed.Y0 <= 0 && p.Placed.X1 >= p.Canvas.W && p.Placed.Y1 >= p.Canvas.H && p.Frame == Frame{}
	return p, true
}

// Source is the part of the upright picture that is shown, and Target where all of it lands on the canvas once it is turned: left, top,
// right and bottom edge. Both are whole pixels, but in a picture that moves.
func (p *Plan) Source() [4]float64 {
	if p.exact != nil {
		return p.exact.cut
	}
	return [4]float64{float64(p.Cut.X0), float64(p.Cut.Y0), float64(p.Cut.X1), float64(p.Cut.Y1)}
}

func (p *Plan) Target() [4]float64 {
	if p.exact != nil {
		return p.exact.placed
	}
	return [4]float64{float64(p.Placed.X0), float64(p.Placed.Y0), float64(p.Placed.X1), float64(p.Placed.Y1)}
}

// Whole is the plan with all of the picture in the place of what is cut, at the same scale, as the source of all moments. most is how
// many canvas pixels there are to a pixel of the turned picture at the moment at which there are the most.
func (p Plan) Whole(most float64) Plan {
	p.exact = nil
	p.Cut = Rect{X1: p.Upright.W, Y1: p.Upright.H}
	p.turned = turned(float64(p.Upright.W), float64(p.Upright.H), p.Turn)
	p.Placed = Rect{X1: max(1, int(math.Ceil(p.turned[0]*most))), Y1: max(1, int(math.Ceil(p.turned[1]*most)))}
	return p
}
