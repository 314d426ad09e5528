package svg

import (
	"math"
)

// bounds is the box around an element's fill, in its user space.
func (p *painter) bounds(n *node, s *style, at place) box {
	return p.reach(n, s, at, identity, false, 0)
}

// extent is the box around all that an element paints, on the canvas.
func (p *painter) extent(n *node, s *style, at place) box {
	return p.reach(n, s, at, at.m, true, 0)
}

// reachedKey is what a box around a group depends on.
type reachedKey struct {
	n       *node
	m       matrix
	strokes bool
	width   float64
}

// reach is the box around an element seen through m, which takes its user space there; with strokes or without. Those of groups
// are kept: groups lie in groups.
func (p *painter) reach(n *node, s *style, at place, m matrix, strokes bool, depth int) box {
	key := reachedKey{n, m, strokes, s.brush.width}
	if b, ok := p.reached[key]; ok {
		return b
	}
	b := p.around(n, s, at, m, strokes, depth)
	if len(n.kids) > 0 || n.name == "use" {
		if p.reached == nil {
			p.reached = map[reachedKey]box{}
		}
		p.reached[key] = b
	}
	return b
}

func (p *painter) around(n *node, s *style, at place, m matrix, strokes bool, depth int) box {
	out := nothing
	if p.looked++; p.looked > 4*mostDrawn || depth > mostUses+deepest || s.gone {
		return out
	}
	child := func(k *node, up *style, in place, m matrix) {
		if k.name == "" || k.name == "symbol" || k.name == "defs" {
			return
		}
		ks := p.computed(k, up, in.measures)
		in.measures.em = ks.em
		t := p.transform(k, &ks, in)
		in.m = in.m.After(t)
		out.join(p.reach(k, &ks, in, m.After(t), strokes, depth+1))
	}
	children := func(n *node, in place, m matrix) {
		for _, k := range n.kids {
			child(k, s, in, m)
		}
	}
	switch n.name {
	case "g", "a", "switch":
		children(n, at, m)
	case "svg":
		w, h := at.measures.or(n.attrs["width"], across, at.measures.w), at.measures.or(n.attrs["height"], down, at.measures.h)
		x, y := at.measures.or(n.attrs["x"], across, 0), at.measures.or(n.attrs["y"], down, 0)
		out.join(box{x, y, x + w, y + h}.through(m))
	case "use":
		of := p.href(n)
		if of == nil || of == n {
			return out
		}
		by := moved(at.measures.or(n.attrs["x"], across, 0), at.measures.or(n.attrs["y"], down, 0))
		in := at
		in.m, m = in.m.After(by), m.After(by)
		if of.name == "symbol" || of.name == "svg" {
			w := at.measures.or(n.attrs["width"], across, at.measures.or(of.attrs["width"], across, at.measures.w))
			h := at.measures.or(n.attrs["height"], down, at.measures.or(of.attrs["height"], down, at.measures.h))
			out.join(box{0, 0, w, h}.through(m))
			return out
		}
		child(of, s, in, m)
	case "image":
		x, y := at.measures.or(n.attrs["x"], across, 0), at.measures.or(n.attrs["y"], down, 0)
		w, h := at.measures.or(n.attrs["width"], across, at.measures.w), at.measures.or(n.attrs["height"], down, at.measures.h)
		out.join(box{x, y, x + w, y + h}.through(m))
	case "text":
		lines, err := p.typeset(n, s, at)
		if err != nil {
			return out
		}
		for _, g := range lines {
			b := g.outline.box()
			if !strokes {
				b = g.cell
			}
			b.join(g.cell)
			grow := 0.0
			if strokes && !(g.style.stroke.none && g.style.stroke.server == nil) {
				grow = g.style.brush.width * 2
			}
			out.join(box{b.x0 - grow, b.y0 - grow, b.x1 + grow, b.y1 + grow}.through(m))
		}
	default:
		o := p.shape(n, at)
		b := o.box()
		if strokes && !b.empty() && (!(s.stroke.none && s.stroke.server == nil) || s.markers != [3]string{}) {
			grow := s.brush.width / 2 * math.Max(1.5, math.Min(s.brush.miter, 10))
			if s.markers != [3]string{} {
				for _, v := range s.markers {
					if k, _ := p.url(v); k != nil && k.name == "marker" {
						side := 2 * math.Max(at.measures.or(k.attrs["markerWidth"], across, 3), at.measures.or(k.attrs["markerHeight"], down, 3))
						if k.attrs["markerUnits"] != "userSpaceOnUse" {
							side *= s.brush.width
						}
						grow = math.Max(grow, side)
					}
				}
			}
			if s.fixed {
				grow /= math.Max(1e-6, at.m.Scale())
			}
			b = box{b.x0 - grow, b.y0 - grow, b.x1 + grow, b.y1 + grow}
		}
		if b = b.through(m); strokes && !b.empty() {
			b = box{b.x0 - 1, b.y0 - 1, b.x1 + 1, b.y1 + 1}
		}
		out.join(b)
	}
	return out
}
