package text

import "fmt"

// A Glyph is one of a run's glyphs, in pixels: where its origin stands from that of the run, and how far the next is from it.
type Glyph struct {
	X, Y, Advance float64
	Rune          int // the first of the run's characters that it stands for
	Outline       []Segment
}

// A Segment is a part of a glyph's outline, from its origin, y downwards. Op is M (one point), L (one), Q (two), C (three).
type Segment struct {
	Op     byte
	Points [3][2]float64
}

// Run shapes text in one line, from left to right, without drawing it. What the font has no glyphs for stands as an empty
// box, as in browsers.
func Run(text string, s Plain) ([]Glyph, error) {
	f, err := s.font()
	if err != nil {
		return nil, fmt.Errorf("read the font: %w", err)
	}
	runes := []rune(text)
	script := "Latn"
	for _, r := range runes {
		if own := scriptOf(r); own != "" {
			script = own
			break
		}
	}
	shaped := f.shape(runes, 0, len(runes), rightwards, script, "en", false, nil)
	all := make([]Glyph, 0, len(shaped))
	x, k := 0.0, s.Size/f.upem
	for _, g := range shaped {
		one := Glyph{X: x + g.dx*k, Y: -g.dy * k, Advance: g.advance * k, Rune: g.cluster, Outline: f.outline(g.id, k)}
		x += one.Advance
		all = append(all, one)
	}
	return all, nil
}

// Extents are how far a font goes above and below its baseline, in pixels.
func Extents(s Plain) (ascent, descent float64) {
	ascent, descent = 0.95*s.Size, 0.21*s.Size
	f, err := s.font()
	if err != nil {
		return ascent, descent
	}
	if a, d, _, ok := f.extents(); ok {
		k := s.Size / f.upem
		return a * k, d * k
	}
	return ascent, descent
}
