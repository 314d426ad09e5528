package svg

import (
	"math"
	"sort"
	"strings"

	"echolane/core/declare"
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

// shader is what a gradient or pattern paints with. nil: it can't be used here, and its fallback holds. A gradient without stops paints nothing.
func (p *painter) shader(n *node, bounds box, s *style, at place) (shader, error) {
	if n.name == "pattern" {
		return p.pattern(n, bounds, s, at)
	}
	stops := p.stops(p.source(n), at.measures)
	if len(stops) == 0 {
		return func(float64, float64) (c [4]float32) { return c }, nil
	}
	if len(stops) == 1 {
		c := stops[0].colour
		return func(float64, float64) [4]float32 { return c }, nil
	}
	m, ref := at.m, at.measures
	if units, _ := p.attribute(n, "gradientUnits"); units != "userSpaceOnUse" {
		if bounds.x1 <= bounds.x0 || bounds.y1 <= bounds.y0 {
			return nil, nil
		}
		m = m.After(bounds.matrix())
		ref.w, ref.h = 1, 1
	}
	get := func(name string, a axis, usual string) float64 {
		v, ok := p.attribute(n, name)
		if !ok {
			v = usual
		}
		return ref.or(v, a, ref.or(usual, a, 0))
	}
	if t, ok := p.attribute(n, "gradientTransform"); ok {
		m = m.After(ref.transform(t))
	} else if t := n.style["transform"]; t != "" {
		m = m.After(ref.transform(t))
	}
	back, ok := m.Inverse()
	last := stops[len(stops)-1].colour
	plain := func(float64, float64) [4]float32 { return last }
	if !ok {
		return plain, nil
	}
	spread, _ := p.attribute(n, "spreadMethod")
	table := gradientTable(stops)
	colour := func(t float64) [4]float32 {
		switch spread {
		case "repeat":
			t -= math.Floor(t)
		case "reflect":
			if t = math.Mod(math.Abs(t), 2); t > 1 {
				t = 2 - t
			}
		}
		return table[int(within01(t)*float64(len(table)-1)+0.5)]
	}
	if n.name == "linearGradient" {
		x1, y1, x2, y2 := get("x1", across, "0%"), get("y1", down, "0%"), get("x2", across, "100%"), get("y2", down, "0%")
		dx, dy := x2-x1, y2-y1
		square := dx*dx + dy*dy
		if square == 0 {
			return plain, nil
		}
		return func(x, y float64) [4]float32 {
			u, v := back.At(x, y)
			return colour(((u-x1)*dx + (v-y1)*dy) / square)
		}, nil
	}
	cx, cy, r := get("cx", across, "50%"), get("cy", down, "50%"), get("r", either, "50%")
	fx, fy, fr := cx, cy, get("fr", either, "0%")
	if _, ok := p.attribute(n, "fx"); ok {
		fx = get("fx", across, "50%")
	}
	if _, ok := p.attribute(n, "fy"); ok {
		fy = get("fy", down, "50%")
	}
	if r <= 0 {
		return plain, nil
	}
	// From the focal circle (t = 0) to the outer one (t = 1): the largest t whose circle goes through the point.
	dx, dy, dr := cx-fx, cy-fy, r-fr
	a := dx*dx + dy*dy - dr*dr
	return func(x, y float64) [4]float32 {
		u, v := back.At(x, y)
		px, py := u-fx, v-fy
		b := px*dx + py*dy + fr*dr
		c := px*px + py*py - fr*fr
		var t float64
		if math.Abs(a) < 1e-9 {
			if b == 0 {
				return [4]float32{}
			}
			t = c / (2 * b)
		} else {
			square := b*b - a*c
			if square < 0 {
				return [4]float32{}
			}
			root := math.Sqrt(square)
			t = math.Max((b+root)/a, (b-root)/a)
			if fr+t*dr < 0 {
				t = math.Min((b+root)/a, (b-root)/a)
			}
		}
		if fr+t*dr < 0 {
			return [4]float32{}
		}
		return colour(t)
	}, nil
}

type stop struct {
	at     float64
	colour [4]float32 // premultiplied
	raw    [4]float32
}

func (p *painter) stops(n *node, m measures) []stop {
	var all []stop
	for _, k := range n.kids {
		if k.name != "stop" || len(all) == 1000 {
			continue
		}
		current := initial.colour
		for up := k; up != nil; up = up.parent { // what its colour inherits
			if c, ok := colourOf(up.style["color"], current); ok {
				current = c
				break
			}
		}
		c := opaque(0, 0, 0)
		if v, ok := colourOf(k.style["stop-color"], current); ok {
			c = v
		}
		o := within01(part(k.attrs["offset"], 0))
		if len(all) > 0 {
			o = math.Max(o, all[len(all)-1].at)
		}
		raw := floats(c, within01(part(k.style["stop-opacity"], 1)))
		all = append(all, stop{o, premultiplied(raw), raw})
	}
	return all
}

func floats(c declare.Color, opacity float64) [4]float32 {
	return [4]float32{float32(c.R) / 255, float32(c.G) / 255, float32(c.B) / 255, float32(c.A) / 255 * float32(opacity)}
}

func premultiplied(c [4]float32) [4]float32 {
	return [4]float32{c[0] * c[3], c[1] * c[3], c[2] * c[3], c[3]}
}

// gradientTable holds a gradient's colours at even steps. They are mixed as they are, not premultiplied (SVG 2, section 14.2.4).
func gradientTable(stops []stop) []([4]float32) {
	table := make([][4]float32, 2049)
	for i := range table {
		t := float64(i) / float64(len(table)-1)
		j := sort.Search(len(stops), func(j int) bool { return stops[j].at > t })
		switch {
		case j == 0:
			table[i] = stops[0].colour
		case j == len(stops):
			table[i] = stops[j-1].colour
		default:
			a, b := stops[j-1], stops[j]
			f := float32((t - a.at) / (b.at - a.at))
			var c [4]float32
			for k := range c {
				c[k] = a.raw[k] + (b.raw[k]-a.raw[k])*f
			}
			table[i] = premultiplied(c)
		}
	}
	return table
}

// pattern draws one tile, and repeats it.
func (p *painter) pattern(n *node, bounds box, s *style, at place) (shader, error) {
	if p.depth++; p.depth > mostUses {
		return nil, broken("patterns lie too deep in each other")
	}
	defer func() { p.depth-- }()
	m, ref := at.m, at.measures
	objectBox := func(name, usual string) bool {
		v, ok := p.attribute(n, name)
		if !ok {
			v = usual
		}
		return v == "objectBoundingBox"
	}
	get := func(name string, a axis) float64 { v, _ := p.attribute(n, name); return ref.or(v, a, 0) }
	if objectBox("patternUnits", "objectBoundingBox") {
		ref.w, ref.h = 1, 1
	}
	x, y, w, h := get("x", across), get("y", down), get("width", across), get("height", down)
	if ref.w == 1 && ref.h == 1 {
		bw, bh := bounds.x1-bounds.x0, bounds.y1-bounds.y0
		x, y, w, h = bounds.x0+x*bw, bounds.y0+y*bh, w*bw, h*bh
	}
	if !(w > 0 && h > 0) {
		return nil, nil
	}
	if t, ok := p.attribute(n, "patternTransform"); ok {
		m = m.After(at.measures.transform(t))
	}
	back, ok := m.Inverse()
	if !ok {
		return nil, nil
	}
	const most = 2048
	tw := math.Max(1, math.Min(most, math.Ceil(w*math.Hypot(m[0], m[1])-1e-6)))
	th := math.Max(1, math.Min(most, math.Ceil(h*math.Hypot(m[2], m[3])-1e-6)))
	if err := p.spend(int(2 * tw * th)); err != nil {
		return nil, err
	}
	tile := layer{RGBA: raster.NewRGBA(int(tw), int(th))}
	tile.Opaque = false
	onTile := scaled(tw/w, th/h)
	in := place{m: onTile, measures: at.measures} // a tile's contents begin at its corner
	if v, ok := p.attribute(n, "viewBox"); ok {
		if b, ok := viewBox(v); ok {
			how, _ := p.attribute(n, "preserveAspectRatio")
			in.m = onTile.After(fitted(b, w, h, how))
			in.measures.w, in.measures.h = b.x1-b.x0, b.y1-b.y0
		}
	} else if objectBox("patternContentUnits", "userSpaceOnUse") {
		in.m = onTile.After(scaled(bounds.x1-bounds.x0, bounds.y1-bounds.y0))
		in.measures.w, in.measures.h = 1, 1
	}
	whole := p.dst
	p.dst = tile
	of := p.source(n)
	own := p.inherited(of)
	err := p.children(of, &own, in)
	p.dst = whole
	if err != nil {
		return nil, err
	}
	return sampled(tile.RGBA, onTile.After(moved(-x, -y)).After(back), true, false), nil
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

var blendModes = map[string]raster.BlendMode{}

func init() {
	for i, name := range strings.Fields("normal multiply screen overlay darken lighten color-dodge color-burn hard-light soft-light difference exclusion hue saturation color luminosity") {
		blendModes[name] = raster.BlendMode(i)
	}
}
