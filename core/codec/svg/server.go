package svg

import (
	"strings"

	"echolane/core/raster"
)

// attribute looks for one on a gradient or pattern, and on those that it says it is like.
func (p *painter) attribute(n *node, name string) (string, bool) {
	for range 20 {
		if v, ok := n.attrs[name]; ok {
			return v, true
		}
		like := p.href(n)
		if like == nil || like == n || like.name == "pattern" != (n.name == "pattern") {
			return "", false
		}
		n = like
	}
	return "", false
}

// source is the node of a chain of gradients or patterns that has the kids: stops or contents.
func (p *painter) source(n *node) *node {
	for range 20 {
		for _, k := range n.kids {
			if k.name != "" {
				return n
			}
		}
		like := p.href(n)
		if like == nil || like == n {
			return n
		}
		n = like
	}
	return n
}

// inherited is the style of an element that is drawn elsewhere: by what it lies in, not by what uses it.
func (p *painter) inherited(n *node) style {
	if n == nil {
		return initial
	}
	up := p.inherited(n.parent)
	return p.computed(n, &up, measures{em: up.em})
}

// clip leaves of a layer what lies within a clipPath or a basic shape of CSS.
func (p *painter) clip(n *node, s *style, at place, l layer) error {
	of, isURL := p.url(s.clip)
	if !isURL {
		return broken("clip-path: %.60s isn't drawn: use a clipPath element", s.clip)
	}
	if of == nil || of.name != "clipPath" {
		return nil
	}
	mask, err := p.clipMask(of, p.bounds(n, s, at), at, l)
	if err != nil {
		return err
	}
	defer mask.Free()
	l.ClipMask(mask)
	return nil
}

func (p *painter) clipMask(of *node, bounds box, at place, l layer) (raster.Plane, error) {
	if p.depth++; p.depth > mostUses {
		return raster.Plane{}, broken("clip paths lie too deep in each other")
	}
	defer func() { p.depth-- }()
	if err := p.spend(2 * l.W * l.H); err != nil {
		return raster.Plane{}, err
	}
	up := p.inherited(of)
	in := at
	if of.attrs["clipPathUnits"] == "objectBoundingBox" {
		if bounds.empty() {
			return raster.NewPlane(l.W, l.H), nil
		}
		in.m = in.m.After(bounds.matrix())
		in.measures.w, in.measures.h = 1, 1
	}
	if t := up.transform; t != "" {
		in.m = in.m.After(in.measures.transform(t))
	}
	all := raster.NewPlane(l.W, l.H)
	clear(all.Pix)
	for _, k := range of.kids {
		if k.name == "" {
			continue
		}
		if err := p.clipShape(k, &up, in, l, all); err != nil {
			return all, err
		}
	}
	if up.clip != "" {
		if also, _ := p.url(up.clip); also != nil && also.name == "clipPath" && also != of {
			mask, err := p.clipMask(also, bounds, at, l)
			if err != nil {
				return all, err
			}
			all.Times(mask)
			mask.Free()
		}
	}
	return all, nil
}

// clipShape adds what a shape covers to a mask.
func (p *painter) clipShape(k *node, up *style, in place, l layer, all raster.Plane) error {
	if p.drawn++; p.drawn > mostDrawn {
		return broken("more than %d elements are to be drawn", mostDrawn)
	}
	s := p.computed(k, up, in.measures)
	if s.gone || s.hidden {
		return nil
	}
	in.measures.em = s.em
	in.m = in.m.After(p.transform(k, &s, in))
	var o outline
	switch k.name {
	case "use":
		of := p.href(k)
		if of == nil || of == k || of.name == "use" {
			return nil
		}
		in.m = in.m.After(moved(in.measures.or(k.attrs["x"], across, 0), in.measures.or(k.attrs["y"], down, 0)))
		return p.clipShape(of, &s, in, l, all)
	case "text":
		lines, err := p.typeset(k, &s, in)
		if err != nil {
			return err
		}
		for _, g := range lines {
			o = append(o, g.outline...)
		}
	default:
		o = p.shape(k, in)
	}
	if len(o) == 0 {
		return nil
	}
	if err := p.spend(2 * l.W * l.H); err != nil {
		return err
	}
	mask, err := p.cover(o.through(in.m), s.clipEvenOdd, l)
	if err != nil {
		return err
	}
	defer mask.Free()
	if s.clip != "" {
		if of, _ := p.url(s.clip); of != nil && of.name == "clipPath" {
			also, err := p.clipMask(of, o.box(), in, l)
			if err != nil {
				return err
			}
			mask.Times(also)
			also.Free()
		}
	}
	for y := range all.H {
		row, more := all.Row(y), mask.Row(y)
		for x := range row {
			row[x] = max(row[x], more[x])
		}
	}
	return nil
}

// mask leaves so much of a layer as a mask's light or alpha says.
func (p *painter) mask(n *node, s *style, at place, l layer) error {
	of, isURL := p.url(s.mask)
	if !isURL {
		return broken("mask: %.60s isn't drawn: use a mask element", s.mask)
	}
	if of == nil || of.name != "mask" {
		return nil
	}
	if p.depth++; p.depth > mostUses {
		return broken("masks lie too deep in each other")
	}
	defer func() { p.depth-- }()
	if err := p.spend(4 * l.W * l.H); err != nil {
		return err
	}
	bounds := p.bounds(n, s, at)
	region := p.region(of, "maskUnits", bounds, at)
	own := p.inherited(of)
	in := at
	if of.attrs["maskContentUnits"] == "objectBoundingBox" {
		if bounds.empty() {
			region = nothing
		} else {
			in.m = in.m.After(bounds.matrix())
			in.measures.w, in.measures.h = 1, 1
		}
	}
	shown := layer{raster.NewRGBA(l.W, l.H), l.x, l.y}
	defer shown.Free()
	shown.Opaque = false
	whole := p.dst
	p.dst = shown
	err := p.within(region, at.m, func() error { return p.children(of, &own, in) })
	p.dst = whole
	if err != nil {
		return err
	}
	if own.mask != "" {
		if err := p.mask(of, &style{mask: own.mask, em: own.em}, at, shown); err != nil {
			return err
		}
	}
	alpha := strings.TrimSpace(of.style["mask-type"]) == "alpha"
	mask := raster.NewPlane(l.W, l.H)
	defer mask.Free()
	for y := range l.H {
		row, to := shown.Row(y), mask.Row(y)
		for x := range to {
			q := row[4*x : 4*x+4 : 4*x+4]
			if alpha {
				to[x] = q[3]
			} else { // CSS Masking, section 7.10.1
				to[x] = uint8(min(255, 0.2125*float64(q[0])+0.7154*float64(q[1])+0.0721*float64(q[2])+0.5))
			}
		}
	}
	l.ClipMask(mask)
	return nil
}

// region is where a mask or filter holds, in user space: a tenth more than the element on every side unless it says.
func (p *painter) region(of *node, units string, bounds box, at place) box {
	ref := at.measures
	object := of.attrs[units] != "userSpaceOnUse"
	if object {
		ref.w, ref.h = 1, 1
	}
	get := func(name string, a axis, usual string) float64 {
		v, ok := of.attrs[name]
		if !ok {
			v = usual
		}
		return ref.or(v, a, ref.or(usual, a, 0))
	}
	x, y, w, h := get("x", across, "-10%"), get("y", down, "-10%"), get("width", across, "120%"), get("height", down, "120%")
	if object {
		if bounds.empty() {
			return nothing
		}
		bw, bh := bounds.x1-bounds.x0, bounds.y1-bounds.y0
		return box{bounds.x0 + x*bw, bounds.y0 + y*bh, bounds.x0 + (x+w)*bw, bounds.y0 + (y+h)*bh}
	}
	return box{x, y, x + w, y + h}
}

var blendModes = map[string]raster.BlendMode{}

func init() {
	for i, name := range strings.Fields("normal multiply screen overlay darken lighten color-dodge color-burn hard-light soft-light difference exclusion hue saturation color luminosity") {
		blendModes[name] = raster.BlendMode(i)
	}
}
