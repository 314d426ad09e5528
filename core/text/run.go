package text

import (
	"fmt"

	"github.com/go-text/typesetting/di"
	"github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/font/opentype"
	"github.com/go-text/typesetting/language"
	"github.com/go-text/typesetting/shaping"
	"golang.org/x/image/math/fixed"
)

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
// box, as in browsers. Only Size, Bold, Italic and Mono of the style count.
func Run(text string, s Style) ([]Glyph, error) {
	face, err := s.face()
	if err != nil {
		return nil, fmt.Errorf("read the font: %w", err)
	}
	runes := []rune(text)
	if len(runes) == 0 {
		return nil, nil
	}
	const set = 64.0 // pixels to an em that the font is shaped at, for advances that don't round
	out := (&shaping.HarfbuzzShaper{}).Shape(shaping.Input{
		Text: runes, RunEnd: len(runes), Direction: di.DirectionLTR, Face: face, Size: fixed.Int26_6(set * 64),
		Script: scriptOf(runes), Language: language.NewLanguage("en"),
	})
	all := make([]Glyph, 0, len(out.Glyphs))
	x, k := 0.0, s.Size/set/64
	for _, g := range out.Glyphs {
		one := Glyph{X: x + float64(g.XOffset)*k, Y: -float64(g.YOffset) * k, Advance: float64(g.Advance) * k, Rune: g.ClusterIndex}
		if outline, ok := face.GlyphData(g.GlyphID).(font.GlyphOutline); ok {
			one.Outline = segments(outline, s.Size/float64(face.Upem()))
		}
		x += one.Advance
		all = append(all, one)
	}
	return all, nil
}

func segments(outline font.GlyphOutline, k float64) []Segment {
	all := make([]Segment, len(outline.Segments))
	for i, s := range outline.Segments {
		all[i].Op = map[opentype.SegmentOp]byte{opentype.SegmentOpMoveTo: 'M', opentype.SegmentOpLineTo: 'L', opentype.SegmentOpQuadTo: 'Q', opentype.SegmentOpCubeTo: 'C'}[s.Op]
		for j, p := range s.Args {
			all[i].Points[j] = [2]float64{float64(p.X) * k, -float64(p.Y) * k}
		}
	}
	return all
}

// Extents are how far a font goes above and below its baseline, in pixels.
func Extents(s Style) (ascent, descent float64) {
	ascent, descent = 0.95*s.Size, 0.21*s.Size
	face, err := s.face()
	if err != nil {
		return ascent, descent
	}
	if e, ok := face.FontHExtents(); ok {
		k := s.Size / float64(face.Upem())
		return float64(e.Ascender) * k, -float64(e.Descender) * k
	}
	return ascent, descent
}
