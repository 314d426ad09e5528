package text

// #include <unicode/uchar.h>
import "C"

import (
	"math"

	"echolane/core/raster"
)

// In vertical writing (CSS Writing Modes Level 4, sections 3 and 5) everything is set as for lines that go from left to right, and turned when
// it is drawn: along a line goes down, and from a line's over side to its under side goes to the left. Glyphs that stand upright move the
// pen by their vertical advances, and stand in the middle of their line.

// Writing is which way lines and their stack go.
type Writing uint8

// The ways.
const (
	Horizontal Writing = iota
	VerticalRL         // lines go down, the first is the rightmost
	VerticalLR         // lines go down, the first is the leftmost
)

// Orientation is how characters stand in vertical writing.
type Orientation uint8

// The orientations.
const (
	Mixed    Orientation = iota // those that belong to vertical scripts stand upright, others lie on their side
	Upright                     // all stand
	Sideways                    // all lie
)

// stands reports whether a character stands upright in vertical writing (UAX 50).
func (s *Style) stands(r rune) bool {
	if s.Writing == Horizontal || s.Orientation == Sideways {
		return false
	}
	return s.Orientation == Upright || C.u_getIntPropertyValue(C.UChar32(r), C.UCHAR_VERTICAL_ORIENTATION) != C.U_VO_ROTATED
}

// central reports whether fonts are aligned by their middle, not by their baseline.
func (s *Style) central() bool { return s.Writing != Horizontal && s.Orientation != Sideways }

// Size is how wide and high the layout's box is: in vertical writing its lines are as long as the box is high.
func (l *Layout) Size() (w, h float64) {
	if l.style.Writing != Horizontal {
		return l.Height, l.Width
	}
	return l.Width, l.Height
}

// base is a line's alphabetic baseline: its y, in vertical writing its x.
func (l *Layout) base(line *Line, x, y float64) float64 {
	switch l.style.Writing {
	case VerticalRL:
		return x + l.Height - line.Baseline
	case VerticalLR:
		return x + 2*line.Top + line.Height - line.Baseline
	}
	return y + line.Baseline
}

// extents are those of the line's first font, in whole pixels.
func (line *Line) extents(size float64) (ascent, descent float64) {
	if f := line.primary; f != nil {
		ascent, descent = math.Round(f.ascent*size), math.Round(f.descent*size)
	}
	return ascent, descent
}

// boxOf is where a box of a line is drawn: it goes from one place to another along the line, and from over to under from the line's baseline.
func (l *Layout) boxOf(line *Line, x, y, from, to, over, under float64) (x0, y0, x1, y1 float64) {
	base := l.base(line, x, y)
	if l.style.Writing != Horizontal {
		if l.style.central() { // the middle of a font whose height is odd lies within a pixel
			ascent, descent := line.extents(l.style.Size)
			base += (ascent+descent)/2 - math.Floor((ascent+descent)/2)
		}
		return math.Round(base - under), y + line.X + from, math.Round(base - over), y + line.X + to
	}
	base = math.Round(base)
	return x + line.X + from, base + over, x + line.X + to, base + under
}

// standing is where the glyph of an upright character has its origin from the pen: along the line, and from the baseline.
func standing(f *face, g shapedGlyph, size float64) (along, down float64) {
	k := size / f.upem
	ascent, descent := math.Round(f.ascent*size), math.Round(f.descent*size)
	along = -g.dy * k
	if !f.columns {
		along = ascent
	}
	return along, -(ascent-descent)/2 - g.dx*k
}

// falls is how far the glyph of an upright character moves the pen, in units of the em.
func (f *face) falls(g shapedGlyph, size float64) float64 {
	if f.columns {
		return g.advance
	}
	return (math.Round(f.ascent*size) + math.Round(f.descent*size)) / size * f.upem
}

// lain turns an outline a quarter to the right, around its origin.
func lain(o []Segment) []Segment {
	for i := range o {
		for j, p := range o[i].Points {
			o[i].Points[j] = [2]float64{-p[1], p[0]}
		}
	}
	return o
}

// lie turns a stamp that is a picture.
func (s *stamp) lie() *stamp {
	w, h := s.picture.W, s.picture.H
	out := raster.NewRGBA(h, w)
	for y := range h {
		row := s.picture.Row(y)
		for x := range w {
			copy(out.Row(x)[4*(h-1-y):], row[4*x:4*x+4])
		}
	}
	return &stamp{picture: out, x: -(s.y + s.h), y: s.x, w: h, h: w}
}
