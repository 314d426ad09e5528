package text

// #cgo LDFLAGS: -lharfbuzz
// #include <harfbuzz/hb.h>
import "C"

import (
	"runtime"
	"unicode"
)

// Punctuation of Chinese and Japanese text fills a square of which its ink takes half. Where two such halves meet, and at the end of a line
// that is full otherwise, the empty half goes (CSS Text Level 4, section 8.4, text-spacing-trim: normal): by the font's features halt and
// vhal, so that a font without them keeps its squares.

// A side is where the ink of a punctuation mark is.
type side uint8

const (
	noSide    side = iota
	opens          // in the second half
	closes         // in the first half
	middle         // between the halves
	opensThin      // it isn't a square
	closesThin
	sidesUnread
)

// sideOf is where a character's ink is in a face.
func (f *face) sideOf(r rune) side {
	switch {
	case r < 0x80 && r != '(' && r != '[' && r != '{' && r != ')' && r != ']' && r != '}':
		return noSide
	case r == '\u3000' || r == '\u00B7' || r == '\u2027' || r == '\u30FB':
		return middle
	case r == '\u3001' || r == '\u3002' || r == '\uFF0C' || r == '\uFF0E':
		return f.readSide(&f.dots, '\u3002')
	case r == '\uFF1A':
		return f.readSide(&f.colon, r)
	case r == '\uFF1B':
		return f.readSide(&f.semicolon, r)
	}
	open := unicode.In(r, unicode.Ps, unicode.Pi)
	if !open && !unicode.In(r, unicode.Pe, unicode.Pf) {
		return noSide
	}
	wide := r >= '\u3008' && r <= '\u301F' || r >= '\uFF08' && r <= '\uFF60'
	if r >= '\u2018' && r <= '\u201F' { // as wide as the font has them
		id, ok := f.glyphOf(r)
		wide = ok && f.advanceOf(id) >= f.upem*0.99
	}
	switch {
	case open && wide:
		return opens
	case open:
		return opensThin
	case wide:
		return closes
	}
	return closesThin
}

// readSide finds by its ink on which side a mark is that fonts for different languages put in different places.
func (f *face) readSide(known *side, r rune) side {
	if *known != noSide {
		return *known % sidesUnread
	}
	*known = sidesUnread
	id, ok := f.glyphOf(r)
	if !ok {
		return noSide
	}
	var e C.hb_glyph_extents_t
	defer runtime.KeepAlive(f)
	if C.hb_font_get_glyph_extents(f.hb, C.hb_codepoint_t(id), &e) == 0 {
		return noSide
	}
	left, right, half := float64(e.x_bearing), float64(e.x_bearing+e.width), f.advanceOf(id)/2
	switch {
	case half*2 < f.upem*0.99:
	case right <= half:
		*known = closes
	case left > half/2 && right < half*1.5:
		*known = middle
	}
	return *known % sidesUnread
}

// trims lists which characters of a part of a paragraph lose their empty half, in order. With full its last one does if it can.
func (t *setter) trims(p *paragraph, from, to int, full bool) (list []int) {
	last := noSide
	for i := from; i < to; i++ {
		f := p.faces[i]
		if f == nil || p.clusters[i] == 0 || t.style.Writing != Horizontal && !p.upright[i] {
			last = noSide
			continue
		}
		now := f.sideOf(p.runes[i])
		switch {
		case now == opens && (last == opens || last == middle || last == closes || last == opensThin):
			list = append(list, i)
		case last == closes && (now == closes || now == middle || now == closesThin):
			list = append(list, i-1)
		}
		last = now
	}
	if full && last == closes && to > from {
		list = append(list, to-1)
	}
	return list
}
