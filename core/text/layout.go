package text

import (
	"math"
	"strings"
	"unicode"
)

// MostCharacters is how long a text may be.
const MostCharacters = 10_000

// A Layout is text in lines. Lengths are pixels; in vertical writing they are as if its lines went from left to right and its box were
// turned a quarter to the left (Size is that of the box as it's seen).
type Layout struct {
	Width, Height float64 // of the box: as wide as was given, or as the longest line
	Lines         []Line
	Overflows     bool // a line is wider than the box that was given
	Cut           bool // there was more text than lines

	style Style
}

// A Line is one of a text's.
type Line struct {
	Text     string  // what stands in it
	X, Width float64 // without the white space at its end
	Top      float64
	Height   float64
	Baseline float64

	glyphs  []placed
	primary *face
}

// placed is a glyph on its line.
type placed struct {
	face *face
	id   uint32
	x, y float64 // of its origin, from the start of the line and from the baseline, y downwards
	lies bool    // on its side
}

// Set sets a text in lines of a width: 0 or less is as wide as it needs. With shrink the box is no wider than its longest line. Its error is
// a *MissingError where no font has a character, or a *FontError.
func Set(content string, width float64, shrink bool, s Style, f *Fonts) (*Layout, error) {
	f.cache.mu.Lock()
	defer f.cache.mu.Unlock()
	t, err := newSetter(content, &s, f)
	if err != nil {
		return nil, err
	}
	return t.layout(width, shrink), nil
}

// Fit sets a text as large as it fits a box, between two sizes: its lines are no higher together than height, and none is wider than width.
func Fit(content string, width, height, least, most float64, s Style, f *Fonts) (*Layout, error) {
	f.cache.mu.Lock()
	defer f.cache.mu.Unlock()
	ratio := func(v float64) float64 { return v / s.Size }
	at := func(size float64) (*Layout, error) {
		one := s
		one.Size = size
		one.LineHeight, one.LetterSpacing, one.WordSpacing = ratio(s.LineHeight)*size, s.LetterSpacing, s.WordSpacing
		t, err := newSetter(content, &one, f)
		if err != nil {
			return nil, err
		}
		return t.layout(width, false), nil
	}
	fits := func(l *Layout) bool { return !l.Overflows && !l.Cut && (height <= 0 || l.Height <= height+0.01) }
	best, err := at(least)
	if err != nil || !fits(best) {
		return best, err
	}
	if l, err := at(most); err != nil || fits(l) {
		return l, err
	}
	// A quarter of a pixel is as fine as anybody sees.
	for lo, hi := math.Floor(least*4), math.Ceil(most*4); hi-lo > 1; {
		mid := math.Floor((lo + hi) / 2)
		l, err := at(mid / 4)
		if err != nil {
			return nil, err
		}
		if fits(l) {
			lo, best = mid, l
		} else {
			hi = mid
		}
	}
	return best, nil
}

// setter holds a text while it is set.
type setter struct {
	style  *Style
	fonts  *Fonts
	choose *chooser
	lang   string
	all    []rune
	paras  []*paragraph
}

// paragraph is what stands between two forced ends of lines.
type paragraph struct {
	runes    []rune
	levels   []uint8
	breaks   []uint8 // before each character and at the end: 1 where a line may end
	clusters []uint8
	faces    []*face           // of each character
	scripts  []string          // of each character
	upright  []bool            // of each character: it stands in vertical writing
	advance  []float64         // of each character: its cluster's at the cluster's first
	upTo     []float64         // the sum of those before each character
	unsafe   []bool            // a line that ends before the character, or begins with it, is shaped otherwise there
	torn     map[piece]float64 // how wide pieces are
	base     uint8
}

func newSetter(content string, s *Style, f *Fonts) (*setter, error) {
	if n := len([]rune(content)); n > MostCharacters {
		content = string([]rune(content)[:MostCharacters])
	}
	t := &setter{style: s, fonts: f, lang: s.Language}
	if t.lang == "" {
		t.lang = "en"
	}
	t.choose = f.choose(s, s.languageOf(content))
	missing := map[rune]bool{}
	for part := range strings.SplitSeq(s.prepared(content), "\n") {
		p := t.paragraph([]rune(part), missing)
		t.paras = append(t.paras, p)
		t.all = append(t.all, p.runes...)
	}
	if t.choose.broken != nil {
		return nil, t.choose.broken
	}
	if len(missing) > 0 {
		return nil, &MissingError{words(missing)}
	}
	return t, nil
}

func (t *setter) paragraph(runes []rune, missing map[rune]bool) *paragraph {
	p := &paragraph{runes: runes, faces: make([]*face, len(runes)), scripts: make([]string, len(runes)), advance: make([]float64, len(runes)), upTo: make([]float64, len(runes)+1), unsafe: make([]bool, len(runes)+1)}
	p.upright = make([]bool, len(runes))
	u := unitsOf(runes)
	if t.style.RightToLeft {
		p.base = 1
	}
	p.levels = u.levels(t.style.RightToLeft)
	if t.style.Writing != Horizontal && t.style.Orientation == Upright { // all characters count as going from left to right
		clear(p.levels)
		p.base = 0
	}
	p.breaks, p.clusters = unitsOf(quotesAsBrackets(runes)).divide(lines, t.lang+"@lb=normal"), u.divide(clusters, t.lang)
	for i := 1; i < len(runes); i++ {
		if a, b := runes[i-1], runes[i]; a > ' ' && a < 0x7F && b > ' ' && b < 0x7F {
			before := rune(0)
			if i > 1 {
				before = runes[i-2]
			}
			p.breaks[i] = 0
			if inASCII(before, a, b) {
				p.breaks[i] = 1
			}
		}
	}
	// Characters of no script of their own go with those before them, at the beginning with those behind (UAX 24, section 5.1).
	script := "Latn"
	for _, r := range runes {
		if s := scriptOf(r); s != "" {
			script = s
			break
		}
	}
	for i := 0; i < len(runes); {
		end := i + 1
		for end < len(runes) && p.clusters[end] == 0 {
			end++
		}
		if s := scriptOf(runes[i]); s != "" {
			script = s
		}
		own := script
		got := t.choose.of(runes[i:end], own)
		if got == nil {
			if !leavesNothing(runes[i]) {
				missing[runes[i]] = true
			}
			got = t.choose.primary()
		}
		upright := t.style.stands(runes[i])
		for ; i < end; i++ {
			p.faces[i], p.scripts[i], p.upright[i] = got, own, upright
		}
	}
	t.measure(p)
	return p
}

// shaped is a run of one face, script and level.
type shaped struct {
	start, end int
	level      uint8
	upright    bool
	face       *face
	glyphs     []shapedGlyph
}

// shape shapes a part of a paragraph, in logical order of its runs. With full it is a line that is full but for the empty half of its last
// character.
func (t *setter) shape(p *paragraph, from, to int, full bool) (list []shaped) {
	trims := t.trims(p, from, to, full)
	for i := from; i < to; {
		end := i + 1
		for end < to && p.faces[end] == p.faces[i] && p.levels[end] == p.levels[i] && p.scripts[end] == p.scripts[i] && p.upright[end] == p.upright[i] {
			end++
		}
		run := shaped{start: i, end: end, level: p.levels[i], upright: p.upright[i], face: p.faces[i]}
		if run.face != nil {
			// With letters spaced, ligatures would tear (CSS Text Level 3, section 8.2).
			run.glyphs = t.fonts.cache.runs.shaped(run.face.font, p.runes, i, end, along(run.level, run.upright), p.scripts[i], t.lang, t.style.LetterSpacing != 0 && !cursive[p.scripts[i]], trims)
			if run.upright {
				for n, g := range run.glyphs {
					run.glyphs[n].advance = run.face.falls(g, t.style.Size)
				}
			}
			if k := t.style.Size / run.face.upem; run.face.rigid { // browsers move the pen by whole pixels
				for n := range run.glyphs {
					run.glyphs[n].advance = math.Round(run.glyphs[n].advance*k) / k
				}
			}
		}
		list = append(list, run)
		i = end
	}
	return list
}

// measure finds how far each cluster moves the pen.
func (t *setter) measure(p *paragraph) {
	for _, run := range t.shape(p, 0, len(p.runes), false) {
		if run.face == nil {
			continue
		}
		k := t.style.Size / run.face.upem
		for _, g := range run.glyphs {
			p.advance[g.cluster] += g.advance * k
			p.unsafe[g.cluster] = p.unsafe[g.cluster] || g.unsafe
		}
	}
	for _, i := range t.trims(p, 0, len(p.runes), false) { // lines that part what meets there are set otherwise
		p.unsafe[i], p.unsafe[i+1] = i > 0, true
	}
	x, stop := 0.0, 0.0
	for i, r := range p.runes {
		if r == '\t' { // to the next of stops that are eight spaces apart (CSS Text Level 3, section 4.2)
			if stop == 0 {
				stop = 8 * t.spaceWidth(p, i)
			}
			if stop > 0 {
				p.advance[i] = (math.Floor(x/stop)+1)*stop - x
			}
		}
		p.advance[i] += t.extra(p, i)
		x += p.advance[i]
		p.upTo[i+1] = x
	}
}

func (t *setter) spaceWidth(p *paragraph, i int) float64 {
	f := p.faces[i]
	if f == nil {
		return 0
	}
	id, ok := f.glyphOf(' ')
	if !ok {
		return 0
	}
	return f.advanceOf(id)/f.upem*t.style.Size + t.style.LetterSpacing
}

// extra is what letter and word spacing add behind a character.
func (t *setter) extra(p *paragraph, i int) float64 {
	x := 0.0
	if t.style.LetterSpacing != 0 && p.clusters[i] != 0 && !leavesNothing(p.runes[i]) && !cursive[scriptOf(p.runes[i])] {
		x += t.style.LetterSpacing
	}
	if t.style.WordSpacing != 0 && (p.runes[i] == ' ' || p.runes[i] == 0xA0) {
		x += t.style.WordSpacing
	}
	return x
}

// cursive are the scripts whose letters join: spacing them would tear words (CSS Text Level 4, section 8.2).
var cursive = map[string]bool{"Arab": true, "Syrc": true, "Mong": true, "Nkoo": true, "Mand": true, "Phag": true, "Rohg": true, "Adlm": true, "Mani": true, "Sogd": true, "Phlp": true}

// hangs reports whether a character takes no room at the end of a line.
func (t *setter) hangs(r rune) bool {
	return r == ' ' || r == 0x1680 || r == 0x3000 && t.style.Space != KeepAll
}

// farthest is how far from where a line is divided what stands there is shaped again, in characters: joined letters look at their
// neighbours alone, and a text of one word of thousands isn't shaped anew for each of them.
const farthest = 64

// width is how wide a part of a paragraph is on a line of its own. What is shaped with what stands outside it (kerned, joined) is shaped
// again.
func (t *setter) width(p *paragraph, from, to int) float64 {
	head, tail := from, to
	if p.unsafe[from] {
		for head++; head < to && (head < from+farthest && p.unsafe[head] || p.clusters[head] == 0); head++ {
		}
	}
	if p.unsafe[to] {
		for tail--; tail > from && (tail > to-farthest && p.unsafe[tail] || p.clusters[tail] == 0); tail-- {
		}
	}
	if head >= tail && (head > from || tail < to) {
		return t.alone(p, from, to, false)
	}
	return t.alone(p, from, head, false) + p.upTo[tail] - p.upTo[head] + t.alone(p, tail, to, false)
}

// spared is by how much a line gets narrower when its last character loses its empty half.
func (t *setter) spared(p *paragraph, start, end int) float64 {
	if end <= start || p.faces[end-1] == nil || p.faces[end-1].sideOf(p.runes[end-1]) != closes || !unicode.In(p.runes[end-1], unicode.Pe, unicode.Pf) {
		return 0 // browsers leave full stops and commas whole there
	}
	return t.alone(p, end-1, end, false) - t.alone(p, end-1, end, true)
}

// A piece is a part of a paragraph that is shaped by itself.
type piece struct {
	from, to int
	full     bool
}

// alone is how wide a part is by itself.
func (t *setter) alone(p *paragraph, from, to int, full bool) (w float64) {
	if from >= to {
		return 0
	}
	w, known := p.torn[piece{from, to, full}]
	if known {
		return w
	}
	for _, run := range t.shape(p, from, to, full) {
		if run.face == nil {
			continue
		}
		for _, g := range run.glyphs {
			if p.runes[g.cluster] != '\t' {
				w += g.advance * t.style.Size / run.face.upem
			}
		}
	}
	for i := from; i < to; i++ {
		if p.runes[i] == '\t' {
			w += p.advance[i]
		} else {
			w += t.extra(p, i)
		}
	}
	if p.torn == nil {
		p.torn = map[piece]float64{}
	}
	p.torn[piece{from, to, full}] = w
	return w
}

// mostBalanced is of how many lines at most a text is balanced.
const mostBalanced = 6

func (t *setter) layout(width float64, shrink bool) *Layout {
	list := t.wrap(width)
	if t.style.Balance && width > 0 && len(t.paras) == 1 && len(list) > 1 && len(list) <= mostBalanced {
		// The narrowest width in which there are no more lines.
		lo, hi := width/float64(len(list))/2, width
		for hi-lo > 0.5 {
			mid := (lo + hi) / 2
			if got := t.wrap(mid); len(got) <= len(list) && t.widest(got) <= mid+slack {
				hi = mid
			} else {
				lo = mid
			}
		}
		list = t.wrap(hi)
	}
	l := &Layout{style: *t.style}
	if n := t.style.Lines; n > 0 && len(list) > n {
		list = list[:n]
		list[n-1].ellipsis = true
		l.Cut = true
	}
	most := t.widest(list)
	box := width
	if width <= 0 || shrink {
		if box = most; width > 0 {
			box = math.Min(width, most)
		}
	}
	l.Width = box
	y := 0.0
	for _, c := range list {
		line := t.line(c, box, width)
		line.Top = y
		line.Baseline += y
		y += line.Height
		if line.Width > box+slack && width > 0 {
			l.Overflows = true
		}
		l.Lines = append(l.Lines, line)
	}
	l.Height = y
	return l
}
