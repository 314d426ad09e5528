package text

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"image"
	"image/color"
	"image/draw"
	"image/png"
	"sort"
	"strings"
	"testing"

	"golang.org/x/image/font/gofont/goregular"

	"echolane/core/raster"
)

// withTables is a TrueType font with tables added.
func withTables(font []byte, more map[string][]byte) []byte {
	all := map[string][]byte{}
	n := int(binary.BigEndian.Uint16(font[4:]))
	for i := range n {
		r := font[12+16*i:]
		from, size := binary.BigEndian.Uint32(r[8:]), binary.BigEndian.Uint32(r[12:])
		all[string(r[:4])] = font[from : from+size]
	}
	for name, data := range more {
		all[name] = data
	}
	var names []string
	for name := range all {
		names = append(names, name)
	}
	sort.Strings(names)
	out := append([]byte{}, font[:4]...)
	out = binary.BigEndian.AppendUint16(out, uint16(len(names)))
	out = append(out, make([]byte, 6+16*len(names))...)
	for i, name := range names {
		r := out[12+16*i:]
		copy(r, name)
		binary.BigEndian.PutUint32(r[8:], uint32(len(out)))
		binary.BigEndian.PutUint32(r[12:], uint32(len(all[name])))
		out = append(out, all[name]...)
		out = append(out, make([]byte, -len(out)&3)...)
	}
	return out
}

// A paint in a test is what stands in the table, with the paints that it names in front of the end.
type paint struct {
	head  []byte
	parts []part
}

type part struct {
	at    int // of the 24 bits in the head that say where it is
	child any // paint or []byte
}

func (p paint) bytes() []byte {
	out := append([]byte{}, p.head...)
	for _, one := range p.parts {
		at := len(out)
		out[one.at], out[one.at+1], out[one.at+2] = byte(at>>16), byte(at>>8), byte(at)
		switch c := one.child.(type) {
		case paint:
			out = append(out, c.bytes()...)
		case []byte:
			out = append(out, c...)
		}
	}
	return out
}

func words16(list ...int) (out []byte) {
	for _, v := range list {
		out = binary.BigEndian.AppendUint16(out, uint16(v))
	}
	return out
}

func solid(colour int) paint { return paint{head: append([]byte{2}, words16(colour, 1<<14)...)} }
func inGlyph(id uint32, child paint) paint {
	return paint{append([]byte{10, 0, 0, 0}, words16(int(id))...), []part{{1, child}}}
}

// colourLine goes from the palette's first colour to its second.
func colourLine(extend byte) []byte {
	return append([]byte{extend}, words16(2, 0, 0, 1<<14, 1<<14, 1, 1<<14)...)
}

func composed(mode byte, source, backdrop paint) paint {
	return paint{[]byte{32, 0, 0, 0, mode, 0, 0, 0}, []part{{1, source}, {5, backdrop}}}
}

// colrFont has one glyph that is a graph of paints, a palette of red, blue and green, and one layer, green.
func colrFont(t testing.TB, id, block uint32, root paint) []byte {
	t.Helper()
	body := root.bytes()
	head := words16(1, 0, 0, 0, 0, 0, 0)
	be32 := func(b []byte, v int) []byte { return binary.BigEndian.AppendUint32(b, uint32(v)) }
	const list = 34
	layers := list + 4 + 6 + len(body)
	head = be32(be32(be32(be32(be32(head, list), layers), 0), 0), 0)
	head = be32(head, 1)
	head = be32(append(head, words16(int(id))...), 4+6)
	head = append(head, body...)
	head = be32(be32(head, 1), 8)
	head = append(head, inGlyph(block, solid(2)).bytes()...)
	palette := append(words16(0, 3, 1, 3), 0, 0, 0, 14)
	palette = append(palette, words16(0)...)
	palette = append(palette, 0, 0, 255, 255, 255, 0, 0, 255, 0, 255, 0, 255)
	return withTables(goregular.TTF, map[string][]byte{"COLR": head, "CPAL": palette})
}

// Glyphs that are graphs of paints are painted: gradients, transforms, compositing, the text's own colour.
func TestGlyphsOfPaints(t *testing.T) {
	regular, err := openFace(goregular.TTF, 0)
	if err != nil {
		t.Fatal(err)
	}
	plain := regular.font(nil)
	a, _ := plain.glyphOf('A')
	block, ok := plain.glyphOf('█')
	if !ok {
		t.Fatal("there is no block")
	}
	em := int(plain.upem)
	wide := int(plain.advanceOf(block))
	const size = 100
	// at is the colour at a place of the block: from its left edge and the baseline, in parts of its width and of the em.
	draw := func(root paint) func(x, y float64) [4]uint8 {
		t.Helper()
		data := colrFont(t, a, block, root)
		fonts := NewFonts(map[string][]byte{"f.ttf": data}, []Family{{Name: "Paints", Faces: []Face{{File: "f.ttf"}}}}, nil)
		l, err := Set("A", 0, false, Style{Size: size, Families: []string{"Paints"}, Color: [4]uint8{255, 255, 0, 255}}, fonts)
		if err != nil {
			t.Fatal(err)
		}
		on := raster.NewRGBA(200, 200)
		l.Paint(on, 50, 20)
		base := 20 + l.Lines[0].Baseline
		return func(x, y float64) [4]uint8 {
			return [4]uint8(on.Row(int(base - y*size))[4*int(50+x*float64(wide)/float64(em)*size):])
		}
	}
	near := func(a, b [4]uint8) bool {
		for i := range a {
			if max(a[i], b[i])-min(a[i], b[i]) > 16 {
				return false
			}
		}
		return true
	}
	linear := func(extend byte, x0, x1 int) paint {
		return paint{append([]byte{4, 0, 0, 0}, words16(x0, 0, x1, 0, x0, em)...), []part{{1, colourLine(extend)}}}
	}
	red, blue, green, yellow, none, half := [4]uint8{255, 0, 0, 255}, [4]uint8{0, 0, 255, 255}, [4]uint8{0, 255, 0, 255}, [4]uint8{255, 255, 0, 255}, [4]uint8{}, [4]uint8{128, 0, 128, 255}
	type seen struct {
		x, y float64
		want [4]uint8
	}
	f2 := func(v float64) int { return int(v * (1 << 14)) }
	for name, c := range map[string]struct {
		root paint
		seen []seen
	}{
		"a colour":          {inGlyph(block, solid(1)), []seen{{0.5, 0.3, blue}}},
		"the text's own":    {inGlyph(block, solid(0xFFFF)), []seen{{0.5, 0.3, yellow}}},
		"a linear gradient": {inGlyph(block, linear(0, 0, wide)), []seen{{0.02, 0.3, red}, {0.5, 0.1, half}, {0.5, 0.6, half}, {0.98, 0.3, blue}}},
		"a repeated one":    {inGlyph(block, linear(1, 0, wide/2)), []seen{{0.02, 0.3, red}, {0.25, 0.3, half}, {0.48, 0.3, blue}, {0.53, 0.3, red}, {0.75, 0.3, half}}},
		"a reflected one":   {inGlyph(block, linear(2, 0, wide/2)), []seen{{0.02, 0.3, red}, {0.48, 0.3, blue}, {0.53, 0.3, blue}, {0.98, 0.3, red}}},
		"a radial gradient": {inGlyph(block, paint{append([]byte{6, 0, 0, 0}, words16(wide/2, em*3/10, 0, wide/2, em*3/10, wide/2)...), []part{{1, colourLine(0)}}}), []seen{{0.5, 0.3, red}, {0.25, 0.3, half}, {0.98, 0.3, blue}}},
		"a sweep":           {inGlyph(block, paint{append([]byte{8, 0, 0, 0}, words16(wide/2, em*3/10, f2(-1), f2(0.99993))...), []part{{1, colourLine(0)}}}), []seen{{0.9, 0.31, red}, {0.05, 0.3, half}, {0.9, 0.28, blue}}},
		"moved":             {paint{append([]byte{14, 0, 0, 0}, words16(wide/2, 0)...), []part{{1, inGlyph(block, solid(0))}}}, []seen{{0.25, 0.3, none}, {0.75, 0.3, red}, {1.4, 0.3, red}}},
		"halved":            {paint{append([]byte{20, 0, 0, 0}, words16(f2(0.5))...), []part{{1, inGlyph(block, solid(0))}}}, []seen{{0.25, 0.2, red}, {0.75, 0.2, none}}},
		"turned":            {paint{append([]byte{26, 0, 0, 0}, words16(f2(0.5), wide/2, em*3/10)...), []part{{1, inGlyph(block, linear(0, 0, wide))}}}, []seen{{0.5, 0.3, half}}},
		"a layer":           {paint{head: []byte{1, 1, 0, 0, 0, 0}}, []seen{{0.5, 0.3, green}}},
		"in":                {composed(5, inGlyph(block, solid(0)), paint{append([]byte{14, 0, 0, 0}, words16(wide/2, 0)...), []part{{1, inGlyph(block, solid(1))}}}), []seen{{0.25, 0.3, none}, {0.75, 0.3, red}, {1.25, 0.3, none}}},
		"added":             {composed(12, inGlyph(block, solid(0)), inGlyph(block, solid(1))), []seen{{0.5, 0.3, [4]uint8{255, 0, 255, 255}}}},
		"multiplied":        {composed(23, inGlyph(block, solid(0)), inGlyph(block, solid(0xFFFF))), []seen{{0.5, 0.3, red}}},
	} {
		at := draw(c.root)
		for _, s := range c.seen {
			if got := at(s.x, s.y); !near(got, s.want) {
				t.Errorf("%s: %v at %g, %g, not %v", name, got, s.x, s.y, s.want)
			}
		}
	}
	// Graphs that go round, and tables that end too early, leave nothing and harm nobody.
	draw(paint{head: append([]byte{11}, words16(int(a))...)})
	round := paint{[]byte{32, 0, 0, 0, 3, 0, 0, 0}, nil}
	draw(round)
	whole := colrFont(t, a, block, inGlyph(block, linear(0, 0, wide)))
	for i := range 200 {
		short := append([]byte{}, whole...)
		at := len(short) - 1 - i*7%len(short)
		short[at] ^= byte(1 + i)
		if f, err := openFace(short, 0); err == nil {
			p := pen{size: 40, stamps: map[stampKey]*stamp{}}
			p.draw(placed{face: &face{font: f.font(nil)}, id: a}, 0, 0)
		}
	}
}

// Glyphs that are PNG files in their font are painted, as Apple's table has them.
func TestGlyphsThatArePictures(t *testing.T) {
	regular, err := openFace(goregular.TTF, 0)
	if err != nil {
		t.Fatal(err)
	}
	a, _ := regular.font(nil).glyphOf('A')
	red := image.NewRGBA(image.Rect(0, 0, 50, 50))
	draw.Draw(red, red.Rect, image.NewUniform(color.RGBA{255, 0, 0, 255}), image.Point{}, draw.Src)
	var file bytes.Buffer
	png.Encode(&file, red)
	maxp := binary.BigEndian.Uint16(table(regular.face, "maxp")[4:])
	strike := words16(50, 72)
	begin := 4 + 4*(int(maxp)+1)
	for id := range int(maxp) + 1 {
		at := begin
		if uint32(id) > a {
			at += 8 + file.Len()
		}
		strike = binary.BigEndian.AppendUint32(strike, uint32(at))
	}
	strike = append(append(append(strike, words16(0, 0)...), "png "...), file.Bytes()...)
	sbix := append(words16(1, 1, 0, 1, 0, 12), strike...)
	data := withTables(goregular.TTF, map[string][]byte{"sbix": sbix})
	fonts := NewFonts(map[string][]byte{"f.ttf": data}, []Family{{Name: "Pictures", Faces: []Face{{File: "f.ttf"}}}}, nil)
	l, err := Set("Ab", 0, false, Style{Size: 50, Families: []string{"Pictures"}, Color: [4]uint8{0, 0, 255, 255}}, fonts)
	if err != nil {
		t.Fatal(err)
	}
	on := raster.NewRGBA(100, 100)
	l.Paint(on, 10, 10)
	y := int(10 + l.Lines[0].Baseline)
	if got := [4]uint8(on.Row(y - 25)[4*30:]); got != [4]uint8{255, 0, 0, 255} {
		t.Errorf("the picture: %v", got)
	}
	blue := 0
	for x := 62; x < 100; x++ {
		if p := on.Row(y - 10)[4*x:]; p[2] > 200 && p[0] == 0 {
			blue++
		}
	}
	if blue == 0 {
		t.Error("the letter behind it isn't there")
	}
}

// Paints may be anything.
func FuzzPaints(f *testing.F) {
	regular, err := openFace(goregular.TTF, 0)
	if err != nil {
		f.Fatal(err)
	}
	a, _ := regular.font(nil).glyphOf('A')
	block, _ := regular.font(nil).glyphOf('█')
	line := paint{append([]byte{4, 0, 0, 0}, words16(0, 0, 900, 0, 0, 2048)...), []part{{1, colourLine(1)}}}
	circles := paint{append([]byte{6, 0, 0, 0}, words16(600, 600, 0, 600, 600, 600)...), []part{{1, colourLine(2)}}}
	for _, root := range []paint{inGlyph(block, line), inGlyph(block, circles), composed(23, inGlyph(block, solid(0)), inGlyph(block, line)), {head: []byte{1, 1, 0, 0, 0, 0}}, {paint26, []part{{1, inGlyph(block, solid(1))}}}} {
		face, err := openFace(colrFont(f, a, block, root), 0)
		if err != nil {
			f.Fatal(err)
		}
		f.Add(table(face.face, "COLR"))
	}
	palette := append(words16(0, 1, 1, 1), 0, 0, 0, 14, 0, 0, 0, 0, 255, 255)
	f.Fuzz(func(t *testing.T, data []byte) {
		opened, err := openFace(withTables(goregular.TTF, map[string][]byte{"COLR": data, "CPAL": palette}), 0)
		if err != nil || opened.colr == nil {
			return
		}
		drawn := face{font: opened.font(nil)}
		p := pen{size: 60, stamps: map[stampKey]*stamp{}}
		for _, id := range append([]uint32{a}, opened.colr.glyphs[:min(4, len(opened.colr.glyphs))]...) {
			if s := p.draw(placed{face: &drawn, id: id}, 0, 0); s != nil && (s.w > mostStamp || s.h > mostStamp) {
				t.Errorf("%d × %d pixels", s.w, s.h)
			}
		}
	})
}

var paint26 = append([]byte{26, 0, 0, 0}, words16(8192, 600, 600)...)

// A font of thirty megabytes is read, and more than it may have is refused with the number.
func TestFontsAreBounded(t *testing.T) {
	large := withTables(goregular.TTF, map[string][]byte{"zzzz": make([]byte, 30<<20)})
	cache := NewCache(8 << 20)
	fonts := NewFonts(map[string][]byte{"f.ttf": large}, []Family{{Name: "Large", Faces: []Face{{File: "f.ttf"}}}}, cache)
	if _, err := Set("Kite", 0, false, Style{Size: 20, Families: []string{"Large"}}, fonts); err != nil {
		t.Error(err)
	}
	if n, _ := cache.fonts.Holds(); n != 1 {
		t.Errorf("%d fonts are kept beside one that fills the cache", n)
	}
	err := CheckFont(append(large, make([]byte, 3<<20)...))
	if err == nil || !strings.Contains(err.Error(), fmt.Sprint(MostFontBytes)) {
		t.Errorf("33 MB: %v", err)
	}
}
