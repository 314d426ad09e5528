package svg

import (
	"math"
	"strings"

	"echolane/core/text"
)

// mostCharacters is how long all texts of a drawing may be together; those of groups count again for how far they reach.
const mostCharacters = 100_000

// A letter is a glyph where it stands, in the user space of its text element.
type letter struct {
	outline outline
	cell    box // from ascent to descent, as wide as it goes on
	style   *style
}

// A character is one of a text's, with what its elements say about it.
type character struct {
	r      rune
	style  *style
	x, y   float64 // where it has to stand; NaN: where the one before ends
	dx, dy float64
	turn   float64
	path   *node // the textPath that it lies on
}

// setter collects a text's characters.
type setter struct {
	p   *painter
	at  place
	all []character
}

// typeset sets a text element's characters.
func (p *painter) typeset(n *node, s *style, at place) ([]letter, error) {
	t := &setter{p: p, at: at}
	own := *s
	t.collect(n, &own, nil)
	if p.characters += len(t.all); p.characters > mostCharacters {
		return nil, broken("the drawing's texts have more than %d characters", mostCharacters)
	}
	t.collapse()
	return t.set()
}

// collect adds the characters within an element.
func (t *setter) collect(n *node, s *style, path *node) {
	from := len(t.all)
	m := t.at.measures
	m.em = s.em
	for _, k := range n.kids {
		switch k.name {
		case "":
			for _, r := range k.text {
				t.all = append(t.all, character{r: r, style: s, x: math.NaN(), y: math.NaN(), path: path, turn: math.NaN()})
			}
		case "tspan", "a", "textPath":
			own := t.p.computed(k, s, m)
			if own.gone {
				continue
			}
			own.opacity *= s.opacity
			along := path
			if k.name == "textPath" {
				if of := t.p.href(k); of != nil && of != k {
					along = k
				}
			}
			if own.underline == "" {
				own.underline = s.underline
			}
			t.collect(k, &own, along)
		}
	}
	// The n-th value is for the n-th character within: inner elements' own come first, since they were there first.
	if n.name == "textPath" {
		return
	}
	list := func(name string, a axis) []float64 {
		var v []float64
		for _, f := range strings.FieldsFunc(n.attrs[name], func(r rune) bool { return r == ',' || r == ' ' || r == '\n' || r == '\t' }) {
			v = append(v, m.or(f, a, 0))
		}
		return v
	}
	xs, ys, dxs, dys, turns := list("x", across), list("y", down), list("dx", across), list("dy", down), numbers(n.attrs["rotate"])
	k := 0
	for i := from; i < len(t.all); i++ {
		c := &t.all[i]
		if c.r == '\n' || !s.preserve && c.r == ' ' && (i == from || t.all[i-1].r == ' ' || t.all[i-1].r == '\n') { // will collapse: isn't counted
			continue
		}
		if k < len(xs) && math.IsNaN(c.x) {
			c.x = xs[k]
		}
		if k < len(ys) && math.IsNaN(c.y) {
			c.y = ys[k]
		}
		if k < len(dxs) {
			c.dx += dxs[k]
		}
		if k < len(dys) {
			c.dy += dys[k]
		}
		if len(turns) > 0 && math.IsNaN(c.turn) {
			c.turn = turns[min(k, len(turns)-1)]
		}
		k++
	}
}

// collapse makes runs of white space one space, and none at the ends, unless it is preserved.
func (t *setter) collapse() {
	out := t.all[:0]
	space := true
	for _, c := range t.all {
		if c.r == '\n' || c.r == '\t' || c.r == '\r' {
			c.r = ' '
		}
		if c.r == ' ' && !c.style.preserve {
			if space {
				continue
			}
			space = true
		} else {
			space = false
		}
		out = append(out, c)
	}
	for len(out) > 0 && out[len(out)-1].r == ' ' && !out[len(out)-1].style.preserve {
		out = out[:len(out)-1]
	}
	t.all = out
}

// set places the characters: chunks begin where one has a place of its own, and each is aligned by itself.
func (t *setter) set() ([]letter, error) {
	var all []letter
	x, y := 0.0, 0.0
	for from := 0; from < len(t.all); {
		to := from + 1
		for to < len(t.all) && math.IsNaN(t.all[to].x) && math.IsNaN(t.all[to].y) && t.all[to].path == t.all[from].path {
			to++
		}
		c := t.all[from]
		if !math.IsNaN(c.x) {
			x = c.x
		}
		if !math.IsNaN(c.y) {
			y = c.y
		}
		var chunk []letter
		var place []point // origins
		var advances, turns []float64
		cx, cy := x, y
		for i := from; i < to; {
			j := i + 1 // a run: one style, nothing moved within
			for j < to && t.all[j].style == t.all[i].style && t.all[j].dx == 0 && t.all[j].dy == 0 && math.IsNaN(t.all[j].turn) && math.IsNaN(t.all[i].turn) {
				j++
			}
			s := t.all[i].style
			runes := make([]rune, 0, j-i)
			for _, c := range t.all[i:j] {
				runes = append(runes, c.r)
			}
			glyphs, err := text.Run(string(runes), s.font)
			if err != nil {
				return nil, err
			}
			cx, cy = cx+t.all[i].dx, cy+t.all[i].dy
			ascent, descent := text.Extents(s.font)
			shift := baseline(s, ascent, descent)
			pen := &pen{tolerance: 0.1 / math.Max(1e-6, t.at.m.Scale()), count: &t.p.points}
			begin := cx // moves on by what is between letters, which the glyphs' own places don't know
			for _, g := range glyphs {
				pen.out = nil
				glyph(pen, g.Outline)
				extra := s.letters
				if runes[min(g.Rune, len(runes)-1)] == ' ' {
					extra += s.words
				}
				ox, oy := begin+g.X, cy+g.Y+shift
				chunk = append(chunk, letter{outline: pen.out, cell: box{0, -ascent, g.Advance + extra, descent}, style: s})
				place, advances = append(place, point{ox, oy}), append(advances, g.Advance+extra)
				turn := 0.0
				if v := t.all[i+min(g.Rune, j-i-1)].turn; !math.IsNaN(v) {
					turn = v
				}
				turns = append(turns, turn)
				begin += extra
				cx = begin + g.X + g.Advance
			}
			i = j
		}
		length := cx - x
		move := 0.0
		switch c.style.anchor {
		case "middle":
			move = -length / 2
		case "end":
			move = -length
		}
		var along *track
		if c.path != nil {
			along = t.track(c.path)
		}
		for k := range chunk {
			m := moved(place[k][0]+move, place[k][1]).After(turned(turns[k]))
			if c.path != nil {
				if along == nil {
					continue
				}
				mid := along.start + place[k][0] + move - x + advances[k]/2
				p, angle, ok := along.at(mid)
				if !ok {
					continue
				}
				m = moved(p[0], p[1]).After(turned(angle)).After(moved(-advances[k]/2, place[k][1]-y))
			}
			chunk[k].outline = chunk[k].outline.through(m)
			chunk[k].cell = chunk[k].cell.through(m)
			all = append(all, chunk[k])
		}
		x, y = cx+move, cy
		from = to
	}
	return all, nil
}

// glyph draws a glyph's outline.
func glyph(p *pen, outline []text.Segment) {
	for _, s := range outline {
		v := s.Points
		switch s.Op {
		case 'M':
			p.close()
			p.move(v[0][0], v[0][1])
		case 'L':
			p.line(v[0][0], v[0][1])
		case 'Q':
			p.quadratic(v[0][0], v[0][1], v[1][0], v[1][1])
		case 'C':
			p.cubic(v[0][0], v[0][1], v[1][0], v[1][1], v[2][0], v[2][1])
		}
	}
	p.close()
}

// baseline is how far down letters go so that another line of theirs than the alphabetic one stands at y.
func baseline(s *style, ascent, descent float64) float64 {
	switch s.baseline {
	case "middle":
		return 0.53 * s.em / 2 // half of the height of an x
	case "central":
		return (ascent - descent) / 2
	case "hanging":
		return ascent * 0.8
	case "text-before-edge", "text-top", "before-edge":
		return ascent
	case "text-after-edge", "text-bottom", "after-edge", "ideographic":
		return -descent
	}
	return 0
}

// A track is the line that text goes along.
type track struct {
	points []point
	length []float64 // up to each point
	start  float64
}

func (t *setter) track(n *node) *track {
	of := t.p.href(n)
	if of == nil {
		return nil
	}
	s := t.p.inherited(of)
	o := t.p.shape(of, t.at)
	if s.transform != "" {
		o = o.through(t.at.measures.transform(s.transform))
	}
	if len(o) == 0 {
		return nil
	}
	points := o[0].points
	if o[0].closed {
		points = append(append([]point{}, points...), points[0])
	}
	out := &track{points: points, length: make([]float64, len(points))}
	for i := 1; i < len(points); i++ {
		out.length[i] = out.length[i-1] + math.Hypot(points[i][0]-points[i-1][0], points[i][1]-points[i-1][1])
	}
	total := out.length[len(points)-1]
	if v := n.attrs["startOffset"]; strings.HasSuffix(v, "%") {
		out.start = part(v, 0) * total
	} else {
		out.start = t.at.measures.or(v, either, 0)
	}
	return out
}

// at is the place and angle so far along the track.
func (t *track) at(s float64) (p point, angle float64, ok bool) {
	for i := 1; i < len(t.points); i++ {
		if a, b := t.points[i-1], t.points[i]; s >= t.length[i-1] && s <= t.length[i] && t.length[i] > t.length[i-1] {
			f := (s - t.length[i-1]) / (t.length[i] - t.length[i-1])
			return point{a[0] + (b[0]-a[0])*f, a[1] + (b[1]-a[1])*f}, math.Atan2(b[1]-a[1], b[0]-a[0]) * 180 / math.Pi, true
		}
	}
	return point{}, 0, false
}

// text draws a text element.
func (p *painter) text(n *node, s *style, at place) error {
	letters, err := p.typeset(n, s, at)
	if err != nil {
		return err
	}
	bounds := nothing
	for _, g := range letters {
		bounds.join(g.cell)
	}
	for i := 0; i < len(letters); {
		g := letters[i]
		j := i // letters of one style are painted as one
		var o outline
		for ; j < len(letters) && letters[j].style == g.style; j++ {
			o = append(o, letters[j].outline...)
			if strings.Contains(g.style.underline, "underline") {
				c, thick := letters[j].cell, g.style.em/14
				pen := p.pen(at.m)
				pen.rect(c.x0, c.y1-descentOf(g.style)+thick, c.x1-c.x0, thick, 0, 0)
				o = append(o, pen.out...)
			}
		}
		i = j
		if g.style.hidden {
			continue
		}
		fill := func() error {
			return p.fill(o.through(at.m), false, g.style.fill, g.style.fillOpacity*g.style.opacity, bounds, g.style, at)
		}
		stroke := func() error { return p.stroke(o, g.style, bounds, at) }
		first, second := fill, stroke
		if g.style.strokeFirst {
			first, second = stroke, fill
		}
		if err := first(); err != nil {
			return err
		}
		if err := second(); err != nil {
			return err
		}
	}
	return nil
}

func descentOf(s *style) float64 {
	_, descent := text.Extents(s.font)
	return descent
}
