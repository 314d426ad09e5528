// Package text sets text in lines and draws it: shaped by the font's own rules, wrapped as Unicode has it
// (UAX #14), with the Go fonts, which hold Latin, Greek and Cyrillic letters.
package text

import (
	"bytes"
	"fmt"
	"image"
	"image/draw"
	"math"
	"strings"
	"sync"

	"github.com/go-text/typesetting/di"
	"github.com/go-text/typesetting/font"
	"github.com/go-text/typesetting/font/opentype"
	"github.com/go-text/typesetting/language"
	"github.com/go-text/typesetting/shaping"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/gobolditalic"
	"golang.org/x/image/font/gofont/goitalic"
	"golang.org/x/image/font/gofont/gomono"
	"golang.org/x/image/font/gofont/gomonobold"
	"golang.org/x/image/font/gofont/gomonobolditalic"
	"golang.org/x/image/font/gofont/gomonoitalic"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/math/fixed"
	"golang.org/x/image/vector"

	"echolane/core/raster"
)

// Align is how lines stand beside each other.
type Align uint8

// The alignments.
const (
	Left Align = iota
	Center
	Right
)

// Style is how text looks.
type Style struct {
	Size               float64 // pixels to an em
	Bold, Italic, Mono bool
	Color              [4]uint8 // straight
	Align              Align
	LineHeight         float64 // of the size; 0: 1.25
}

// MissingError names the characters that the font has no glyph for.
type MissingError struct{ Characters string }

func (e *MissingError) Error() string {
	return fmt.Sprintf("the font has no glyphs for %s", e.Characters)
}

var files = [8][]byte{goregular.TTF, gobold.TTF, goitalic.TTF, gobolditalic.TTF, gomono.TTF, gomonobold.TTF, gomonoitalic.TTF, gomonobolditalic.TTF}

// fonts are read once each; what is read is never changed, and each drawing has a face of its own.
var fonts [8]struct {
	once sync.Once
	font *font.Font
	err  error
}

func (s Style) face() (*font.Face, error) {
	i := 0
	if s.Bold {
		i |= 1
	}
	if s.Italic {
		i |= 2
	}
	if s.Mono {
		i |= 4
	}
	f := &fonts[i]
	f.once.Do(func() {
		face, err := font.ParseTTF(bytes.NewReader(files[i]))
		if f.err = err; err == nil {
			f.font = face.Font
		}
	})
	if f.err != nil {
		return nil, f.err
	}
	return font.NewFace(f.font), nil
}

// Draw sets text in lines of width pixels (0: as wide as it needs; negative: at most so wide, and no wider than
// it needs) and draws it, premultiplied, on a picture as large as the lines. A word that is wider than a line is broken. Its error is a *MissingError where
// the font lacks characters.
func Draw(text string, width float64, s Style) (*raster.RGBA, error) {
	face, err := s.face()
	if err != nil {
		return nil, fmt.Errorf("read the font: %w", err)
	}
	most := math.MaxInt32 / 64
	if width != 0 {
		most = max(1, int(math.Ceil(math.Abs(width))))
	}
	width = max(0, width)
	var lines []shaping.Line
	missing := map[rune]bool{}
	for paragraph := range strings.SplitSeq(strings.ReplaceAll(text, "\r\n", "\n"), "\n") {
		runes := []rune(paragraph)
		for _, r := range runes {
			if _, ok := face.NominalGlyph(r); !ok {
				missing[r] = true
			}
		}
		if len(runes) == 0 {
			lines = append(lines, nil)
			continue
		}
		out := (&shaping.HarfbuzzShaper{}).Shape(shaping.Input{
			Text: runes, RunEnd: len(runes), Direction: di.DirectionLTR, Face: face, Size: fixed.Int26_6(s.Size * 64),
			Script: scriptOf(runes), Language: language.NewLanguage("en"),
		})
		var wrapper shaping.LineWrapper
		wrapped, _ := wrapper.WrapParagraph(shaping.WrapConfig{Direction: di.DirectionLTR}, most, runes, shaping.NewSliceIterator([]shaping.Output{out}))
		for _, l := range wrapped { // the wrapper uses its slices again
			lines = append(lines, append(shaping.Line(nil), l...))
		}
	}
	if len(missing) > 0 {
		return nil, &MissingError{words(missing)}
	}
	return paint(lines, face, width, s), nil
}

func words(missing map[rune]bool) string {
	var list []string
	for r := range missing {
		if len(list) == 8 {
			list = append(list, "and others")
			break
		}
		list = append(list, fmt.Sprintf("%q (U+%04X)", r, r))
	}
	return strings.Join(list, ", ")
}

func scriptOf(runes []rune) language.Script {
	for _, r := range runes {
		if s := language.LookupScript(r); s != language.Common && s != language.Inherited {
			return s
		}
	}
	return language.Latin
}

func paint(lines []shaping.Line, face *font.Face, width float64, s Style) *raster.RGBA {
	height := s.LineHeight
	if height == 0 {
		height = 1.25
	}
	step := height * s.Size
	lengths := make([]float64, len(lines))
	wide := width
	for i, l := range lines {
		for _, run := range l {
			lengths[i] += float64(run.Advance) / 64
		}
		if width == 0 {
			wide = math.Max(wide, lengths[i])
		}
	}
	w, h := max(1, int(math.Ceil(wide))), max(1, int(math.Ceil(step*float64(len(lines)))))
	cover := image.NewAlpha(image.Rect(0, 0, w, h))
	// The baseline stands so that ascent and descent are in the middle of the line.
	ascent, descent := 0.95*s.Size, 0.21*s.Size
	if e, ok := face.FontHExtents(); ok {
		k := s.Size / float64(face.Upem())
		ascent, descent = float64(e.Ascender)*k, -float64(e.Descender)*k
	}
	z := vector.NewRasterizer(w, h)
	z.DrawOp = draw.Src
	for i, l := range lines {
		x := 0.0
		switch s.Align {
		case Center:
			x = (wide - lengths[i]) / 2
		case Right:
			x = wide - lengths[i]
		}
		y := float64(i)*step + (step+ascent-descent)/2
		for _, run := range l {
			for _, g := range run.Glyphs {
				addGlyph(z, face, g.GlyphID, x+float64(g.XOffset)/64, y-float64(g.YOffset)/64, s.Size/float64(face.Upem()))
				x += float64(g.Advance) / 64
			}
		}
	}
	z.Draw(cover, cover.Rect, image.Opaque, image.Point{})
	out := raster.NewRGBA(w, h)
	for y := range h {
		row := out.Row(y)
		for x, a := range cover.Pix[y*cover.Stride:][:w] {
			k := uint32(a) * uint32(s.Color[3])
			k = (k + 127) / 255
			for c := range 3 {
				row[4*x+c] = uint8((uint32(s.Color[c])*k + 127) / 255)
			}
			row[4*x+3] = uint8(k)
		}
	}
	return out
}

func addGlyph(z *vector.Rasterizer, face *font.Face, id font.GID, x, y, k float64) {
	outline, ok := face.GlyphData(id).(font.GlyphOutline)
	if !ok {
		return
	}
	at := func(p opentype.SegmentPoint) (float32, float32) {
		return float32(x + float64(p.X)*k), float32(y - float64(p.Y)*k)
	}
	open := false
	for _, seg := range outline.Segments {
		ax, ay := at(seg.Args[0])
		bx, by := at(seg.Args[1])
		cx, cy := at(seg.Args[2])
		switch seg.Op {
		case opentype.SegmentOpMoveTo:
			if open {
				z.ClosePath()
			}
			z.MoveTo(ax, ay)
			open = true
		case opentype.SegmentOpLineTo:
			z.LineTo(ax, ay)
		case opentype.SegmentOpQuadTo:
			z.QuadTo(ax, ay, bx, by)
		case opentype.SegmentOpCubeTo:
			z.CubeTo(ax, ay, bx, by, cx, cy)
		}
	}
	if open {
		z.ClosePath()
	}
}
