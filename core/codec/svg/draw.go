package svg

import (
	"math"
	"strings"

	"echolane/core/raster"
)

// What drawing may take.
const (
	mostDrawn = 100_000     // elements that are drawn, those that are used again counted again
	mostWork  = 250_000_000 // samples of masks, layers and filters, at some nanoseconds each
	mostUses  = 40          // of uses, patterns and masks within each other
)

// A layer is a part of the picture that is being drawn, premultiplied.
type layer struct {
	*raster.RGBA
	x, y int // of its corner on the canvas
}

// A painter draws one document.
type painter struct {
	*document
	images func(data []byte) (*raster.RGBA, error)
	dst    layer
	points int
	drawn  int
	looked int   // for how far they reach
	left   int64 // work that it may take
	depth  int

	characters int
	reached    map[reachedKey]box
}

// place is where an element is drawn.
type place struct {
	m        matrix // from its user space to the canvas
	measures measures
}

func (p *painter) pen(m matrix) *pen {
	return &pen{tolerance: 0.1 / math.Max(1e-6, m.Scale()), count: &p.points}
}

// spend counts work, and ends what takes too much.
func (p *painter) spend(samples int) error {
	if p.left -= int64(samples); p.left < 0 {
		return broken("the drawing takes too much work: long lines, masks, filters and groups that are see-through cost most")
	}
	return nil
}

// element draws an element that lies in a place, with the style of what it lies in.
func (p *painter) element(n *node, up *style, at place) error {
	switch n.name {
	case "", "defs", "symbol", "clipPath", "mask", "marker", "pattern", "linearGradient", "radialGradient", "filter", "style", "stop", "view", "cursor", "font", "foreignObject":
		if n.name == "foreignObject" && len(n.kids) > 0 {
			return broken("the drawing holds a foreignObject, which only browsers draw: turn it into shapes and text")
		}
		return nil
	}
	if p.drawn++; p.drawn > mostDrawn {
		return broken("more than %d elements are to be drawn", mostDrawn)
	}
	if p.points > mostPoints {
		return broken("the drawing's paths have more than %d points", mostPoints)
	}
	s := p.computed(n, up, at.measures)
	if s.gone {
		return nil
	}
	at.measures.em = s.em
	at.m = at.m.After(p.transform(n, &s, at))
	if math.IsNaN(at.m[0] + at.m[1] + at.m[2] + at.m[3] + at.m[4] + at.m[5]) {
		return nil
	}
	if !grouped(n, &s) {
		return p.contents(n, &s, at)
	}
	return p.group(n, &s, at)
}

// transform is an element's own, around its origin.
func (p *painter) transform(n *node, s *style, at place) matrix {
	if s.transform == "" || s.transform == "none" {
		return identity
	}
	m := at.measures.transform(s.transform)
	if s.origin == "" {
		return m
	}
	x0, y0, ref := 0.0, 0.0, at.measures
	if s.ofFill {
		if b := p.bounds(n, s, at); !b.empty() {
			x0, y0, ref.w, ref.h = b.x0, b.y0, b.x1-b.x0, b.y1-b.y0
		}
	}
	var o [2]float64
	for i, word := range strings.Fields(s.origin) {
		if i > 1 {
			break
		}
		switch word {
		case "left":
			o[0] = 0
		case "right":
			o[0] = ref.w
		case "top":
			o[1] = 0
		case "bottom":
			o[1] = ref.h
		case "center":
			o[i] = []float64{ref.w, ref.h}[i] / 2
			if i == 0 && len(strings.Fields(s.origin)) == 1 {
				o[1] = ref.h / 2
			}
		default:
			o[i] = ref.or(word, axis(i), 0)
		}
	}
	return moved(x0+o[0], y0+o[1]).After(m).After(moved(-x0-o[0], -y0-o[1]))
}

// grouped reports whether an element has to be drawn by itself before it goes onto the rest.
func grouped(n *node, s *style) bool {
	if s.clip != "" || s.mask != "" || s.filter != "" || s.blend != "" || s.isolated {
		return true
	}
	if s.opacity == 1 {
		return false
	}
	switch n.name { // what is painted once can be see-through by itself
	case "path", "rect", "circle", "ellipse", "polygon", "polyline", "line":
		return !(s.fill.none && s.fill.server == nil || s.stroke.none && s.stroke.server == nil) || s.markers != [3]string{}
	}
	return true
}

// group draws an element on a layer of its own, filters, clips and masks that, and lays it onto the rest.
func (p *painter) group(n *node, s *style, at place) error {
	if p.depth++; p.depth > mostUses+deepest {
		return broken("groups lie too deep in each other")
	}
	defer func() { p.depth-- }()
	whole := p.dst
	// Only what the element can reach is drawn, more for what filters add around it.
	extent := p.extent(n, s, at)
	var effects []effect
	if s.filter != "" {
		var err error
		if effects, err = p.effects(n, s, at); err != nil {
			return err
		}
		extent = reach(effects, extent)
	}
	x0, y0, x1, y1 := clipped(extent, whole)
	if x0 >= x1 || y0 >= y1 {
		return nil
	}
	if err := p.spend(2 * (x1 - x0) * (y1 - y0)); err != nil {
		return err
	}
	own := layer{raster.NewRGBA(x1-x0, y1-y0), x0, y0}
	defer own.Free()
	own.Opaque = false
	p.dst = own
	alone := *s
	alone.opacity = 1
	err := p.contents(n, &alone, at)
	p.dst = whole
	if err != nil {
		return err
	}
	for _, e := range effects {
		if err := e.apply(p, own); err != nil {
			return err
		}
	}
	if s.clip != "" {
		if err := p.clip(n, s, at, own); err != nil {
			return err
		}
	}
	if s.mask != "" {
		if err := p.mask(n, s, at, own); err != nil {
			return err
		}
	}
	own.Opaque = false
	if s.opacity < 1 {
		own.Fade(s.opacity)
	}
	if mode, ok := blendModes[s.blend]; ok {
		whole.Blend(own.RGBA, x0-whole.x, y0-whole.y, mode)
	} else {
		whole.Over(own.RGBA, x0-whole.x, y0-whole.y)
	}
	return nil
}

// clipped is the part of a layer that a box reaches, in whole pixels of the canvas.
func clipped(b box, l layer) (x0, y0, x1, y1 int) {
	if b.empty() {
		return 0, 0, 0, 0
	}
	low := func(v float64, least int) int { return int(math.Max(float64(least), math.Min(1e9, math.Floor(v)))) }
	high := func(v float64, most int) int { return int(math.Min(float64(most), math.Max(-1e9, math.Ceil(v)))) }
	return low(b.x0, l.x), low(b.y0, l.y), high(b.x1, l.x+l.W), high(b.y1, l.y+l.H)
}

// contents draws what an element is and holds.
func (p *painter) contents(n *node, s *style, at place) error {
	switch n.name {
	case "g", "a":
		return p.children(n, s, at)
	case "switch":
		for _, k := range n.kids {
			if k.name != "" && k.name != "foreignObject" && k.attrs["requiredFeatures"] == "" && k.attrs["requiredExtensions"] == "" && (k.attrs["systemLanguage"] == "" || strings.HasPrefix(k.attrs["systemLanguage"], "en")) {
				return p.element(k, s, at)
			}
		}
		return nil
	case "svg":
		return p.viewport(n, s, at, at.measures.or(n.attrs["width"], across, at.measures.w), at.measures.or(n.attrs["height"], down, at.measures.h))
	case "use":
		return p.use(n, s, at)
	case "image":
		return p.image(n, s, at)
	case "text":
		return p.text(n, s, at)
	}
	if o := p.shape(n, at); o != nil {
		return p.shaped(n, o, s, at)
	}
	return nil
}

func (p *painter) children(n *node, s *style, at place) error {
	for _, k := range n.kids {
		if err := p.element(k, s, at); err != nil {
			return err
		}
	}
	return nil
}

// inner is the place of what a viewport of w×h holds, at its x and y.
func inner(n *node, at place, w, h float64) place {
	at.m = at.m.After(moved(at.measures.or(n.attrs["x"], across, 0), at.measures.or(n.attrs["y"], down, 0)))
	if b, ok := viewBox(n.attrs["viewBox"]); ok {
		at.m = at.m.After(fitted(b, w, h, n.attrs["preserveAspectRatio"]))
		w, h = b.x1-b.x0, b.y1-b.y0
	}
	at.measures.w, at.measures.h = w, h
	return at
}

// viewport draws an svg element or symbol within its size.
func (p *painter) viewport(n *node, s *style, at place, w, h float64) error {
	if w <= 0 || h <= 0 {
		return nil
	}
	in := inner(n, at, w, h)
	if s.visible {
		return p.children(n, s, in)
	}
	x, y := at.measures.or(n.attrs["x"], across, 0), at.measures.or(n.attrs["y"], down, 0)
	return p.within(box{x, y, x + w, y + h}, at.m, func() error { return p.children(n, s, in) })
}

// within draws something and leaves of it what lies in a box of the user space.
func (p *painter) within(b box, m matrix, draw func() error) error {
	whole := p.dst
	x0, y0, x1, y1 := clipped(b.through(m), whole)
	if x0 >= x1 || y0 >= y1 {
		return nil
	}
	if c := b.through(m); m[1] == 0 && m[2] == 0 && near(c.x0) && near(c.y0) && near(c.x1) && near(c.y1) {
		// Whole pixels: what is drawn there needs no layer.
		p.dst = layer{whole.View(x0-whole.x, y0-whole.y, x1-whole.x, y1-whole.y), x0, y0}
		p.dst.Opaque = false
		err := draw()
		p.dst = whole
		return err
	}
	if p.depth++; p.depth > mostUses+deepest {
		return broken("viewports lie too deep in each other")
	}
	defer func() { p.depth-- }()
	if err := p.spend(2 * (x1 - x0) * (y1 - y0)); err != nil {
		return err
	}
	own := layer{raster.NewRGBA(x1-x0, y1-y0), x0, y0}
	defer own.Free()
	p.dst = own
	err := draw()
	p.dst = whole
	if err != nil {
		return err
	}
	pen := p.pen(m)
	pen.rect(b.x0, b.y0, b.x1-b.x0, b.y1-b.y0, 0, 0)
	mask, err := p.cover(pen.out.through(m), false, own)
	if err != nil {
		return err
	}
	own.ClipMask(mask)
	mask.Free()
	own.Opaque = false
	whole.Over(own.RGBA, x0-whole.x, y0-whole.y)
	return nil
}

func near(v float64) bool { return math.Abs(v-math.Round(v)) < 1e-3 }

// use draws another element here.
func (p *painter) use(n *node, s *style, at place) error {
	of := p.href(n)
	if of == nil || of == n {
		return nil
	}
	if p.depth++; p.depth > mostUses {
		return broken("elements use each other without end, or more than %d deep", mostUses)
	}
	defer func() { p.depth-- }()
	at.m = at.m.After(moved(at.measures.or(n.attrs["x"], across, 0), at.measures.or(n.attrs["y"], down, 0)))
	if of.name != "symbol" && of.name != "svg" {
		return p.element(of, s, at)
	}
	own := p.computed(of, s, at.measures)
	if own.gone {
		return nil
	}
	size := func(name string, a axis, whole float64) float64 {
		if v, ok := at.measures.length(n.attrs[name], a); ok {
			return v
		}
		return at.measures.or(of.attrs[name], a, whole)
	}
	return p.viewport(of, &own, at, size("width", across, at.measures.w), size("height", down, at.measures.h))
}

// sampled reads a picture at what a matrix makes of the canvas's places, between its pixels; over and over where it repeats.
func sampled(src *raster.RGBA, back matrix, repeat, nearest bool) shader {
	at := func(v, n int) int {
		if repeat {
			return ((v % n) + n) % n
		}
		return max(0, min(n-1, v))
	}
	pixel := func(x, y int) []uint8 { return src.Pix[at(y, src.H)*src.Stride+4*at(x, src.W):] }
	return func(x, y float64) (c [4]float32) {
		u, v := back.At(x, y)
		if nearest {
			q := pixel(int(math.Floor(u)), int(math.Floor(v)))
			for i := range c {
				c[i] = float32(q[i]) / 255
			}
			return c
		}
		u, v = u-0.5, v-0.5
		x0, y0 := math.Floor(u), math.Floor(v)
		fx, fy := float32(u-x0), float32(v-y0)
		ix, iy := int(x0), int(y0)
		p00, p10, p01, p11 := pixel(ix, iy), pixel(ix+1, iy), pixel(ix, iy+1), pixel(ix+1, iy+1)
		for i := range c {
			top := float32(p00[i])*(1-fx) + float32(p10[i])*fx
			bottom := float32(p01[i])*(1-fx) + float32(p11[i])*fx
			c[i] = (top*(1-fy) + bottom*fy) / 255
		}
		return c
	}
}
