package svg

import (
	"math"
	"strings"

	"echolane/core/declare"
	"echolane/core/raster"
)

// mostEffects is how many primitives one filter may have.
const mostEffects = 60

// MostKept is how many bytes of results a filter may hold.
const MostKept = 512 << 20

// pixels are a filter's, premultiplied, 0–1, of a layer's size.
type pixels struct {
	w, h int
	v    []float32
}

func newPixels(w, h int) pixels { return pixels{w, h, make([]float32, 4*w*h)} }

// An effect is one filter, of an element or of CSS's functions.
type effect interface {
	// reach is how much more of the canvas it can paint than what it is given.
	reach(b box) box
	apply(p *painter, l layer) error
}

func reach(all []effect, b box) box {
	for _, e := range all {
		b = e.reach(b)
	}
	return b
}

// effects reads a filter property: url(#id), or functions.
func (p *painter) effects(n *node, s *style, at place) ([]effect, error) {
	var all []effect
	rest := strings.TrimSpace(s.filter)
	for rest != "" {
		name, inner, after, ok := function(rest)
		if !ok {
			break
		}
		rest = after
		if name == "url" {
			of, _ := p.url("url(" + inner + ")")
			if of == nil || of.name != "filter" {
				continue
			}
			e := &filter{of: of, at: at, bounds: p.bounds(n, s, at)}
			if r := p.region(of, "filterUnits", e.bounds, at).through(at.m); !r.empty() { // whole pixels, as browsers have it
				e.region = box{math.Floor(r.x0 + 1e-4), math.Floor(r.y0 + 1e-4), math.Ceil(r.x1 - 1e-4), math.Ceil(r.y1 - 1e-4)}
			}
			all = append(all, e)
			continue
		}
		e, ok := shorthand(name, inner, s, at)
		if !ok {
			return nil, broken("filter: %s() isn't drawn", name)
		}
		all = append(all, e)
	}
	return all, nil
}

// function takes a function and its arguments off the front; parentheses may stand within.
func function(s string) (name, inner, rest string, ok bool) {
	s = strings.TrimSpace(s)
	name, after, ok := strings.Cut(s, "(")
	if !ok {
		return "", "", "", false
	}
	depth := 1
	for i, r := range after {
		switch r {
		case '(':
			depth++
		case ')':
			if depth--; depth == 0 {
				return strings.ToLower(strings.TrimSpace(name)), after[:i], strings.TrimSpace(after[i+1:]), true
			}
		}
	}
	return "", "", "", false
}

// A plain effect is one of CSS's filter functions, which work on sRGB as it is.
type plain struct {
	grow float64
	dx   float64
	dy   float64
	do   func(v pixels) pixels
}

func (e plain) reach(b box) box {
	return box{b.x0 - e.grow - math.Abs(e.dx), b.y0 - e.grow - math.Abs(e.dy), b.x1 + e.grow + math.Abs(e.dx), b.y1 + e.grow + math.Abs(e.dy)}
}

func (e plain) apply(p *painter, l layer) error {
	if err := p.spend(40 * l.W * l.H); err != nil {
		return err
	}
	v := e.do(taken(l.RGBA, false))
	v.put(l.RGBA, false, box{math.Inf(-1), math.Inf(-1), math.Inf(1), math.Inf(1)})
	return nil
}

func shorthand(name, inner string, s *style, at place) (plain, bool) {
	amount := part(inner, 1)
	k := at.m.Scale()
	m := at.measures
	m.em = s.em
	matrixed := func(mt raster.Matrix) (plain, bool) {
		return plain{do: func(v pixels) pixels { return v.matrix(mt) }}, true
	}
	switch name {
	case "blur":
		sigma := m.or(inner, either, 0) * k
		return plain{grow: 3 * sigma, do: func(v pixels) pixels { return v.blur(sigma, sigma) }}, true
	case "drop-shadow":
		c := s.colour
		var lengths []float64
		rest := inner
		for rest = strings.TrimSpace(rest); rest != ""; rest = strings.TrimSpace(rest) {
			word, after, _ := strings.Cut(rest, " ")
			if strings.Contains(word, "(") {
				f, in, more, ok := function(rest)
				if !ok {
					return plain{}, false
				}
				word, after = f+"("+in+")", more
			}
			rest = after
			if v, ok := m.length(word, either); ok {
				lengths = append(lengths, v)
			} else if v, ok := colourOf(word, s.colour); ok {
				c = v
			} else {
				return plain{}, false
			}
		}
		if len(lengths) < 2 {
			return plain{}, false
		}
		sigma := 0.0
		if len(lengths) > 2 {
			sigma = lengths[2] * k
		}
		dx, dy := at.m[0]*lengths[0]+at.m[2]*lengths[1], at.m[1]*lengths[0]+at.m[3]*lengths[1]
		return plain{grow: 3 * sigma, dx: dx, dy: dy, do: func(v pixels) pixels { return v.shadow(dx, dy, sigma, sigma, floats(c, 1)) }}, true
	case "opacity":
		return plain{do: func(v pixels) pixels {
			for i := range v.v {
				v.v[i] *= float32(within01(amount))
			}
			return v
		}}, true
	case "brightness":
		return matrixed(raster.Linear(amount, 0))
	case "contrast":
		return matrixed(raster.Linear(amount, 0.5-amount/2))
	case "invert":
		amount = within01(amount)
		return matrixed(raster.Linear(1-2*amount, amount))
	case "grayscale":
		return matrixed(raster.Grayscale(within01(amount)))
	case "sepia":
		return matrixed(raster.Sepia(within01(amount)))
	case "saturate":
		return matrixed(raster.Saturate(amount))
	case "hue-rotate":
		angle, _ := declare.ParseAngle(inner, true)
		return matrixed(raster.HueRotate(angle))
	}
	return plain{}, false
}

// A filter is a filter element.
type filter struct {
	of     *node
	at     place
	bounds box // of the element, in its user space
	region box // on the canvas; without a size: nowhere
}

func (f *filter) reach(b box) box {
	return f.region
}

// apply runs the primitives one after the other.
func (f *filter) apply(p *painter, l layer) error {
	source := map[bool]pixels{}
	graphic := func(linear bool) pixels {
		if v, ok := source[linear]; ok {
			return v
		}
		source[linear] = taken(l.RGBA, linear)
		return source[linear]
	}
	type result struct {
		v      pixels
		linear bool
	}
	named := map[string]result{}
	last := result{linear: false}
	base := p.inherited(f.of)
	k := f.at.m
	object := f.of.attrs["primitiveUnits"] == "objectBoundingBox"
	length := func(v float64, a axis) float64 {
		if object && !f.bounds.empty() {
			if a == across {
				return v * (f.bounds.x1 - f.bounds.x0)
			}
			return v * (f.bounds.y1 - f.bounds.y0)
		}
		return v
	}
	kx, ky := math.Hypot(k[0], k[1]), math.Hypot(k[2], k[3])
	region := box{f.region.x0 - float64(l.x), f.region.y0 - float64(l.y), f.region.x1 - float64(l.x), f.region.y1 - float64(l.y)}
	count := 0
	for _, n := range f.of.kids {
		if n.name == "" {
			continue
		}
		if count++; count > mostEffects {
			return broken("a filter has more than %d primitives", mostEffects)
		}
		if err := p.spend(40 * l.W * l.H); err != nil {
			return err
		}
		if (len(named)+6)*16*l.W*l.H > MostKept {
			return broken("the drawing's filters take more than %d MiB at this size: ask for a smaller one", MostKept>>20)
		}
		s := p.computed(n, &base, f.at.measures)
		in := func(name string) pixels {
			var r result
			switch v := n.attrs[name]; v {
			case "":
				if count == 1 || last.v.v == nil {
					return graphic(s.linear)
				}
				r = last
			case "SourceGraphic":
				return graphic(s.linear)
			case "SourceAlpha":
				v := newPixels(l.W, l.H)
				for i, from := 0, graphic(s.linear); i < len(v.v); i += 4 {
					v.v[i+3] = from.v[i+3]
				}
				return v
			default:
				var ok bool
				if r, ok = named[v]; !ok {
					if last.v.v == nil {
						return graphic(s.linear)
					}
					r = last
				}
			}
			return r.v.as(r.linear, s.linear)
		}
		colour := func() [4]float32 {
			c := opaque(0, 0, 0)
			if v, ok := colourOf(n.style["flood-color"], s.colour); ok {
				c = v
			}
			v := floats(c, within01(part(n.style["flood-opacity"], 1)))
			if s.linear {
				v = lightOf(v)
			}
			return v
		}
		pair := func(name string, usual float64) (a, b float64) {
			a, b = usual, usual
			if v := numbers(n.attrs[name]); len(v) > 0 {
				a, b = v[0], v[len(v)-1]
			}
			return length(a, across), length(b, down)
		}
		one := func(name string, usual float64) float64 {
			if v, ok := number(n.attrs[name]); ok {
				return v
			}
			return usual
		}
		var out pixels
		switch n.name {
		case "feGaussianBlur":
			sx, sy := pair("stdDeviation", 0)
			out = in("in").blur(math.Min(1000, sx*kx), math.Min(1000, sy*ky))
		case "feOffset":
			dx, dy := length(one("dx", 0), across), length(one("dy", 0), down)
			out = in("in").offset(k[0]*dx+k[2]*dy, k[1]*dx+k[3]*dy)
		case "feFlood":
			c := premultiplied(colour())
			out = newPixels(l.W, l.H)
			for i := 0; i < len(out.v); i += 4 {
				copy(out.v[i:], c[:])
			}
		case "feDropShadow":
			sx, sy := pair("stdDeviation", 2)
			dx, dy := length(one("dx", 2), across), length(one("dy", 2), down)
			out = in("in").shadow(k[0]*dx+k[2]*dy, k[1]*dx+k[3]*dy, math.Min(1000, sx*kx), math.Min(1000, sy*ky), colour())
		case "feMerge":
			out = newPixels(l.W, l.H)
			for _, m := range n.kids {
				if m.name == "feMergeNode" {
					node := n
					n = m
					v := in("in")
					n = node
					out = over(v, out)
				}
			}
		case "feComposite":
			out = composite(in("in"), in("in2"), n.attrs["operator"], [4]float32{float32(one("k1", 0)), float32(one("k2", 0)), float32(one("k3", 0)), float32(one("k4", 0))})
		case "feBlend":
			out = blended(in("in"), in("in2"), n.attrs["mode"])
		case "feColorMatrix":
			out = coloured(in("in"), n.attrs["type"], numbers(n.attrs["values"]))
		case "feComponentTransfer":
			out = transferred(in("in"), n)
		case "feMorphology":
			rx, ry := pair("radius", 0)
			dx, dy := int(math.Min(100, rx*kx+0.5)), int(math.Min(100, ry*ky+0.5))
			if err := p.spend(8 * max(0, dx+dy) * l.W * l.H); err != nil {
				return err
			}
			out = morphed(in("in"), dx, dy, n.attrs["operator"] == "dilate")
		case "feTurbulence":
			octaves := int(math.Max(0, math.Min(8, one("numOctaves", 1))))
			if err := p.spend(120 * octaves * l.W * l.H); err != nil {
				return err
			}
			fx, fy := pair("baseFrequency", 0)
			out = turbulence(l, k, fx, fy, octaves, one("seed", 0), n.attrs["type"] == "fractalNoise")
		default:
			return broken("the filter primitive %.40s isn't drawn", n.name)
		}
		if n.attrs["x"] != "" || n.attrs["y"] != "" || n.attrs["width"] != "" || n.attrs["height"] != "" {
			out.crop(f.part(n, l, region))
		} else {
			out.crop(region)
		}
		last = result{out, s.linear}
		if name := n.attrs["result"]; name != "" {
			named[name] = last
		}
	}
	if last.v.v == nil {
		clear(l.Pix)
		return nil
	}
	last.v.put(l.RGBA, last.linear, region)
	return nil
}

// part is a primitive's own region, in the layer's pixels.
func (f *filter) part(n *node, l layer, region box) box {
	m, b := f.at.measures, f.bounds
	object := f.of.attrs["primitiveUnits"] == "objectBoundingBox" && !b.empty()
	back, ok := f.at.m.Inverse()
	if !ok {
		return region
	}
	whole := f.region.through(back)
	get := func(name string, a axis, usual, from, span float64) float64 {
		v, ok := n.attrs[name]
		if !ok {
			return usual
		}
		if object {
			return from + part(v, 0)*span
		}
		return m.or(v, a, usual)
	}
	x, y := get("x", across, whole.x0, b.x0, b.x1-b.x0), get("y", down, whole.y0, b.y0, b.y1-b.y0)
	w, h := get("width", across, whole.x1-x, 0, b.x1-b.x0), get("height", down, whole.y1-y, 0, b.y1-b.y0)
	r := box{x, y, x + w, y + h}.through(f.at.m)
	r = box{r.x0 - float64(l.x), r.y0 - float64(l.y), r.x1 - float64(l.x), r.y1 - float64(l.y)}
	return box{math.Max(r.x0, region.x0), math.Max(r.y0, region.y0), math.Min(r.x1, region.x1), math.Min(r.y1, region.y1)}
}
