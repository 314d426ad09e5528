package svg

import (
	"math"

	"echolane/core/declare"
)

// markers draws what stands at a line's corners.
func (p *painter) markers(o outline, s *style, at place) error {
	if p.depth++; p.depth > mostUses {
		return broken("markers lie too deep in each other")
	}
	defer func() { p.depth-- }()
	var defs [3]*node
	for i, v := range s.markers {
		if n, ok := p.url(v); ok && n != nil && n.name == "marker" {
			defs[i] = n
		}
	}
	for i, sub := range o {
		pts := sub.points
		around := func(k int) (in, out float64, hasIn, hasOut bool) { // angles before and after a corner
			n := len(pts)
			angle := func(a, b point) float64 { return math.Atan2(b[1]-a[1], b[0]-a[0]) * 180 / math.Pi }
			if k == n || k == 0 && sub.closed { // closed: the end meets the start
				if n > 1 {
					return angle(pts[n-1], pts[0]), angle(pts[0], pts[1]), true, true
				}
				return 0, 0, false, false
			}
			if k > 0 {
				in, hasIn = angle(pts[k-1], pts[k]), true
			}
			if k+1 < n {
				out, hasOut = angle(pts[k], pts[k+1]), true
			} else if sub.closed {
				out, hasOut = angle(pts[k], pts[0]), true
			}
			return in, out, hasIn, hasOut
		}
		for j, k := range sub.corners {
			first, last := i == 0 && j == 0, i == len(o)-1 && j == len(sub.corners)-1
			in, out, hasIn, hasOut := around(k)
			angle := in
			switch {
			case hasIn && hasOut:
				turn := math.Mod(out-in+540, 360) - 180
				angle = in + turn/2
			case hasOut:
				angle = out
			}
			at1 := pts[k%len(pts)]
			for which, here := range [3]bool{first, !first && !last, last} {
				if here && defs[which] != nil {
					if err := p.marker(defs[which], at1, angle, which == 0, s, at); err != nil {
						return err
					}
				}
			}
		}
	}
	return nil
}

func (p *painter) marker(n *node, at1 point, angle float64, start bool, s *style, at place) error {
	if p.drawn++; p.drawn > mostDrawn {
		return broken("more than %d elements are to be drawn", mostDrawn)
	}
	own := p.inherited(n)
	own.fill = contextual(n, own.fill, s.fill)
	m := at.m.After(moved(at1[0], at1[1]))
	switch v := n.attrs["orient"]; v {
	case "auto":
		m = m.After(turned(angle))
	case "auto-start-reverse":
		if start {
			angle += 180
		}
		m = m.After(turned(angle))
	default:
		if a, ok := declare.ParseAngle(v, true); ok {
			m = m.After(turned(a))
		}
	}
	if n.attrs["markerUnits"] != "userSpaceOnUse" {
		m = m.After(scaled(s.brush.width, s.brush.width))
	}
	w, h := at.measures.or(n.attrs["markerWidth"], across, 3), at.measures.or(n.attrs["markerHeight"], down, 3)
	if w <= 0 || h <= 0 {
		return nil
	}
	in := place{m: m, measures: measures{w, h, own.em}}
	b, ok := viewBox(n.attrs["viewBox"])
	if ok {
		in.m = in.m.After(fitted(b, w, h, n.attrs["preserveAspectRatio"]))
		in.measures.w, in.measures.h = b.x1-b.x0, b.y1-b.y0
	} else {
		b = box{0, 0, w, h}
	}
	refX, refY := in.measures.or(n.attrs["refX"], across, 0), in.measures.or(n.attrs["refY"], down, 0)
	x, y := in.m.At(refX, refY)
	ox, oy := m.At(0, 0)
	in.m = moved(ox-x, oy-y).After(in.m)
	if own.visible {
		return p.children(n, &own, in)
	}
	return p.within(b, in.m, func() error { return p.children(n, &own, in) })
}

func contextual(n *node, own, of paint) paint {
	if v := n.style["fill"]; v == "context-fill" || v == "context-stroke" {
		return of
	}
	return own
}
