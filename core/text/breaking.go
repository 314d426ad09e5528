package text

import (
	"math"
	"strings"
	"unicode"
)

// A cut is a line's part of its paragraph.
type cut struct {
	p          *paragraph
	start, end int
	soft       bool // it ends at a soft hyphen, which shows
	full       bool // its last character has lost its empty half
	ellipsis   bool
	last       bool // of its paragraph
}

const softHyphen = 0xAD

// wrap divides the paragraphs into lines of a width; 0: one line each.
func (t *setter) wrap(room float64) (list []cut) {
	for _, p := range t.paras {
		start := 0
		for {
			end := len(p.runes)
			if room > 0 && !t.style.NoWrap {
				end = t.lineEnd(p, start, room)
			}
			c := cut{p: p, start: start, end: end, last: end == len(p.runes)}
			shown := end
			for shown > start && t.hangs(p.runes[shown-1]) {
				shown--
			}
			c.full = room > 0 && !t.style.NoWrap && t.width(p, start, shown) > room+slack && t.spared(p, start, shown) > 0
			c.soft = end > start && end < len(p.runes) && p.runes[end-1] == softHyphen
			list = append(list, c)
			if start = end; start >= len(p.runes) {
				break
			}
			if t.style.Space != KeepAll { // white space at the beginning of a line goes
				for start < len(p.runes) && p.runes[start] == ' ' {
					start++
				}
				if start == len(p.runes) {
					break
				}
			}
		}
	}
	return list
}

// slack is what lengths may be off by: browsers count in 64ths of a pixel.
const slack = 1.0 / 64

// lineEnd is where a line that begins there ends.
func (t *setter) lineEnd(p *paragraph, start int, room float64) int {
	best := -1
	hyphen := -1.0
	shown := func(i int) float64 { // how wide the line is if it ends there
		for i > start && t.hangs(p.runes[i-1]) {
			i--
		}
		w := t.width(p, start, i)
		if w > room+slack {
			w -= t.spared(p, start, i)
		}
		return w
	}
	for i := start; i < len(p.runes); i++ {
		if i > start && p.breaks[i] != 0 && !(t.style.NoHyphens && p.runes[i-1] == softHyphen) {
			w := shown(i)
			if p.runes[i-1] == softHyphen {
				if hyphen < 0 {
					hyphen = t.hyphenWidth(p, i-1)
				}
				w += hyphen
			}
			if w > room+slack && best >= 0 {
				return best
			}
			if w <= room+slack || !t.style.Anywhere {
				best = i
			}
			if w > room+slack {
				if t.style.Anywhere && best < 0 {
					return t.divideWord(p, start, i, room)
				}
				return best
			}
		}
	}
	switch w := shown(len(p.runes)); {
	case w <= room+slack:
		return len(p.runes)
	case best >= 0:
		return best
	case t.style.Anywhere:
		return t.divideWord(p, start, len(p.runes), room)
	}
	return len(p.runes)
}

// inASCII is whether a line may end between two characters of ASCII, which browsers decide by a table of their own: addresses and the like
// stay together where they can. before is the character in front of both, 0 for none.
func inASCII(before, a, b rune) bool {
	switch {
	case a == '-':
		if b >= '0' && b <= '9' && !(before < 0x80 && isAlnum(before)) { // a minus
			return false
		}
		return !strings.ContainsRune("!$),./:;?]}", b)
	case a == '?':
		return !strings.ContainsRune("!\"'),./:;?]}", b)
	case strings.ContainsRune("!\"#%&)*+,.:;=>\\]|}~", a):
		return strings.ContainsRune("(<[{", b)
	}
	return false
}

func isAlnum(r rune) bool { return unicode.IsLetter(r) || unicode.IsDigit(r) }

// divideWord is where a word that is too long is divided: between clusters, at least one on a line.
func (t *setter) divideWord(p *paragraph, start, end int, room float64) int {
	at := start
	for i := start + 1; i < end; i++ {
		if p.clusters[i] != 0 {
			if t.width(p, start, i) > room+slack {
				break
			}
			at = i
		}
	}
	if at == start { // not even one fits
		for at++; at < end && p.clusters[at] == 0; at++ {
		}
	}
	return at
}

func (t *setter) hyphenWidth(p *paragraph, i int) float64 {
	f := p.faces[max(0, i-1)]
	if f == nil {
		return 0
	}
	r := rune(0x2010)
	id, ok := f.glyphOf(r)
	if !ok {
		if id, ok = f.glyphOf('-'); !ok {
			return 0
		}
	}
	return f.advanceOf(id) / f.upem * t.style.Size
}

// content is how wide a cut is without the white space at its end, and where that begins.
func (t *setter) content(c cut) (w float64, end int) {
	end = c.end
	for end > c.start && t.hangs(c.p.runes[end-1]) {
		end--
	}
	w = t.width(c.p, c.start, end)
	if c.full {
		w -= t.spared(c.p, c.start, end)
	}
	if c.soft {
		w += t.hyphenWidth(c.p, end-1)
	}
	return w, end
}

func (t *setter) widest(list []cut) (w float64) {
	for _, c := range list {
		one, _ := t.content(c)
		w = math.Max(w, one)
	}
	return w
}
