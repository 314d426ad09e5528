package text

import (
	"math"
	"slices"
)

// line sets one line in a box.
func (t *setter) line(c cut, box, room float64) Line {
	s := t.style
	p := c.p
	w, end := t.content(c)
	if c.ellipsis {
		return t.ellipsized(c, box, room)
	}
	line := Line{Text: string(p.runes[c.start:end]), Width: w, primary: t.choose.primary()}
	// White space at the end stands as the paragraph does (UAX 9, rule L1), and isn't drawn.
	runs := t.shape(p, c.start, end, c.full)
	line.Height, line.Baseline = t.heights(runs)
	align := s.Align
	if align == Justify && (c.last || c.end == c.start) {
		align = Start
	}
	right := align == Right || align == Start && s.RightToLeft || align == End && !s.RightToLeft
	free := box - w
	stretch := 0.0
	switch {
	case align == Justify && free > 0:
		if n := t.gaps(p, c.start, end); n > 0 {
			stretch, line.Width = free/float64(n), box
		} else if s.RightToLeft {
			line.X = free
		}
	case align == Justify:
	case right:
		line.X = free
	case align == Center:
		line.X = free / 2
	}
	if free < 0 { // text that is too wide begins where lines begin
		line.X = 0
		if s.RightToLeft {
			line.X = free
		}
	}
	t.place(&line, runs, p, stretch)
	if c.soft {
		t.hyphen(&line, p, end-1)
	}
	return line
}

// gaps counts where a line is stretched when it is justified: at spaces, and between characters of scripts without them.
func (t *setter) gaps(p *paragraph, from, to int) (n int) {
	for i := from; i < to; i++ {
		if t.stretches(p, i, to) {
			n++
		}
	}
	return n
}

func (t *setter) stretches(p *paragraph, i, to int) bool {
	r := p.runes[i]
	if r == ' ' || r == 0xA0 {
		return true
	}
	return i+1 < to && p.clusters[i+1] != 0 && (ideographic(r) || ideographic(p.runes[i+1]) && r != ' ')
}

func ideographic(r rune) bool {
	switch scriptOf(r) {
	case "Hani", "Hira", "Kana", "Bopo":
		return true
	}
	return r >= 0x3000 && r <= 0x303F
}

// heights are how high a line is and where its baseline is, by its fonts or as the style says.
func (t *setter) heights(runs []shaped) (height, baseline float64) {
	s := t.style
	above, below := 0.0, 0.0
	add := func(f *face) {
		if f == nil {
			return
		}
		a, d := math.Round(f.ascent*s.Size), math.Round(f.descent*s.Size)
		if s.central() {
			a, d = math.Ceil((a+d)/2), math.Floor((a+d)/2)
		}
		if s.LineHeight == 0 {
			gap := math.Round(f.gap * s.Size)
			above, below = math.Max(above, a+math.Floor(gap/2)), math.Max(below, d+gap-math.Floor(gap/2))
		} else {
			over := math.Floor((s.LineHeight - (a + d)) / 2)
			above, below = math.Max(above, a+over), math.Max(below, s.LineHeight-a-over)
		}
	}
	if first := t.choose.primary(); first != nil && s.LineHeight != 0 {
		a, d := math.Round(first.ascent*s.Size), math.Round(first.descent*s.Size)
		over := math.Floor((s.LineHeight - (a + d)) / 2)
		return s.LineHeight, a + over
	} else {
		add(first)
	}
	for _, r := range runs {
		add(r.face)
	}
	if first := t.choose.primary(); first != nil && s.central() {
		a, d := math.Round(first.ascent*s.Size), math.Round(first.descent*s.Size)
		return above + below, above + a - math.Ceil((a+d)/2)
	}
	return above + below, above
}

// place puts runs in their visual order (UAX 9, rule L2) and their glyphs on the line.
func (t *setter) place(line *Line, runs []shaped, p *paragraph, stretch float64) {
	order := visual(runs)
	x := 0.0
	end := 0
	for _, r := range runs {
		end = max(end, r.end)
	}
	for _, i := range order {
		x = t.placeRun(line, runs[i], p, x, stretch, end)
	}
}

func (t *setter) placeRun(line *Line, run shaped, p *paragraph, x, stretch float64, end int) float64 {
	if run.face == nil {
		return x
	}
	k := t.style.Size / run.face.upem
	leftwards := run.level&1 != 0
	next := run.end
	for n := 0; n < len(run.glyphs); {
		// The glyphs of a cluster stay together; what spacing adds comes behind them.
		first := run.glyphs[n].cluster
		m := n
		for m < len(run.glyphs) && run.glyphs[m].cluster == first {
			m++
		}
		if !leftwards {
			if next = run.end; m < len(run.glyphs) {
				next = run.glyphs[m].cluster
			}
		}
		more := 0.0
		for i := first; i < next; i++ {
			more += t.extra(p, i)
			if stretch > 0 && t.stretches(p, i, end) {
				more += stretch
			}
		}
		for ; n < m; n++ {
			g := run.glyphs[n]
			if (!leavesNothing(p.runes[first]) || next-first > 1) && p.runes[first] != '\t' {
				one := placed{face: run.face, id: g.id, x: x + g.dx*k, y: -g.dy * k, lies: t.style.Writing != Horizontal}
				if run.upright {
					one.x, one.y = standing(run.face, g, t.style.Size)
					one.x, one.lies = one.x+x, false
				}
				line.glyphs = append(line.glyphs, one)
			}
			if p.runes[first] == '\t' {
				x += p.advance[first] - more
				continue
			}
			x += g.advance * k
		}
		x += more
		if leftwards {
			next = first
		}
	}
	return x
}

// visual is the order in which runs stand, from the left.
func visual(runs []shaped) []int {
	order := make([]int, len(runs))
	highest, lowest := uint8(0), uint8(255)
	for i, r := range runs {
		order[i] = i
		highest = max(highest, r.level)
		if r.level&1 != 0 {
			lowest = min(lowest, r.level)
		}
	}
	for level := highest; level >= lowest && level > 0; level-- {
		for i := 0; i < len(order); i++ {
			if runs[order[i]].level < level {
				continue
			}
			j := i
			for j < len(order) && runs[order[j]].level >= level {
				j++
			}
			slices.Reverse(order[i:j])
			i = j
		}
	}
	return order
}

// hyphen puts one at the end of a line.
func (t *setter) hyphen(line *Line, p *paragraph, i int) {
	f := p.faces[max(0, i-1)]
	if f == nil {
		return
	}
	id, ok := f.glyphOf(0x2010)
	if !ok {
		if id, ok = f.glyphOf('-'); !ok {
			return
		}
	}
	w := t.hyphenWidth(p, i)
	if p.base == 1 {
		for j := range line.glyphs {
			line.glyphs[j].x += w
		}
		line.glyphs = append(line.glyphs, placed{f, id, 0, 0, t.style.Writing != Horizontal})
		return
	}
	line.glyphs = append(line.glyphs, placed{f, id, line.Width - w, 0, t.style.Writing != Horizontal})
}

// ellipsized is a line that is cut short, with an ellipsis behind what still fits.
func (t *setter) ellipsized(c cut, box, room float64) Line {
	p := c.p
	if room <= 0 {
		room = box
	}
	_, end := t.content(c)
	if c.soft {
		c.soft = false
	}
	mark := []rune("…")
	for ; ; end-- {
		for end > c.start && p.clusters[end] == 0 {
			end--
		}
		one := t.paragraph(append(slices.Clone(p.runes[c.start:end]), mark...), map[rune]bool{})
		if w := t.width(one, 0, len(one.runes)); w <= room+slack || end <= c.start {
			return t.line(cut{p: one, end: len(one.runes), last: true}, math.Max(box, 0), room)
		}
	}
}
