package text

import (
	"fmt"
	"slices"
)

// Runs are shaped in units of the em, so that what was shaped once holds at every size: for a text that is fitted to its box, and for the
// same words on many cards.

// mostGlyphs is how many glyphs of shaped runs are kept in each of two generations, about 5 MB together.
const mostGlyphs = 50_000

// context is how far beyond a run HarfBuzz looks, in characters.
const context = 5

// runKey is all that a run's glyphs depend on.
type runKey struct {
	face         cacheKey // not the font itself, which may be dropped meanwhile
	axes         string
	text         string // with what stands around it
	before       int    // characters of it that stand in front of the run
	n            int    // characters of the run
	way          heading
	script, lang string
	plain        bool
	trims        string
}

// runs keeps those that were used last.
type runs struct {
	now, older map[runKey][]shapedGlyph
	glyphs     int // of now
}

// shaped gives the glyphs of a run; they are the caller's to change. The cache is locked.
func (r *runs) shaped(f *font, runes []rune, from, to int, way heading, script, lang string, plain bool, trims []int) []shapedGlyph {
	start, end := max(0, from-context), min(len(runes), to+context)
	key := runKey{face: f.key, axes: f.at, text: string(runes[start:end]), before: from - start, n: to - from, way: way, script: script, lang: lang, plain: plain}
	for _, i := range trims {
		if i >= from && i < to {
			key.trims += fmt.Sprint(i-from, " ")
		}
	}
	list, known := r.now[key]
	if !known {
		if list, known = r.older[key]; !known {
			list = f.shape(runes, from, to, way, script, lang, plain, trims)
			for i := range list {
				list[i].cluster -= from
			}
		}
		weight := len(list) + len(key.text)/16 + 2
		if r.glyphs += weight; r.glyphs > mostGlyphs {
			r.now, r.older, r.glyphs = nil, r.now, weight
		}
		if r.now == nil {
			r.now = map[runKey][]shapedGlyph{}
		}
		r.now[key] = list
	}
	out := slices.Clone(list)
	for i := range out {
		out[i].cluster += from
	}
	return out
}
