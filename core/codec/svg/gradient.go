package svg

import (
	"math"
	"sort"

	"echolane/core/declare"
	"echolane/core/raster"
)

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
