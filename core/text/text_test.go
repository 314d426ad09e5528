package text

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"golang.org/x/image/font/gofont/goregular"

	"echolane/core/raster"
)

var black = Style{Size: 20, Color: [4]uint8{0, 0, 0, 255}}

// systemFonts brings the fonts that a text needs, where Debian's are installed.
func systemFonts(t testing.TB, content string, s Style) *Fonts {
	t.Helper()
	files := map[string][]byte{}
	for _, name := range SystemFiles(content, s) {
		for _, folder := range SystemFolders {
			if data, err := os.ReadFile(filepath.Join(folder, name)); err == nil {
				files[name] = data
			}
		}
	}
	return NewFonts(files, nil, nil)
}

func set(t testing.TB, content string, width float64, s Style) *Layout {
	t.Helper()
	l, err := Set(content, width, false, s, systemFonts(t, content, s))
	if err != nil {
		t.Fatalf("%q: %v", content, err)
	}
	return l
}

func broken(l *Layout) string {
	var list []string
	for _, line := range l.Lines {
		list = append(list, line.Text)
	}
	return strings.Join(list, "|")
}

func TestTextIsSetInLines(t *testing.T) {
	s := black
	s.Families = []string{"Go"}
	one := set(t, "Kites over the festival meadow", 0, s)
	if len(one.Lines) != 1 || one.Width < 200 || one.Overflows {
		t.Errorf("%d lines, %.1f wide", len(one.Lines), one.Width)
	}
	if l := set(t, "Kites over the festival meadow", 120, s); broken(l) != "Kites over|the festival|meadow" || l.Width != 120 || l.Height != 3*one.Height {
		t.Errorf("%q, %.1f × %.1f", broken(l), l.Width, l.Height)
	}
	if l := set(t, "one\ntwo\n\nfour", 0, Style{Size: 20, Space: KeepBreaks}); broken(l) != "one|two||four" {
		t.Errorf("%q", broken(l))
	}
	for align, at := range map[Align]float64{Start: 0, Left: 0, Center: 0.5, Right: 1, End: 1} {
		s.Align = align
		l := set(t, "kite", 200, s)
		if want := at * (200 - l.Lines[0].Width); l.Lines[0].X < want-0.01 || l.Lines[0].X > want+0.01 {
			t.Errorf("%v: the line begins at %.2f, not %.2f", align, l.Lines[0].X, want)
		}
	}
	s.Align, s.Lines = Start, 2
	if l := set(t, "Kites over the festival meadow and the harbour", 120, s); broken(l) != "Kites over|the festival…" || !l.Cut {
		t.Errorf("%q %v", broken(l), l.Cut)
	}
	s.Lines, s.Balance = 0, true
	if l := set(t, "Spring sale on all of our delta kites", 230, s); broken(l) != "Spring sale on all|of our delta kites" {
		t.Errorf("%q", broken(l))
	}
}

// Columns are lines that go down: as high as the text is long, as wide as its lines are together, the first on the right.
func TestColumns(t *testing.T) {
	s := black
	s.Families, s.Writing = []string{"Noto Sans CJK JP"}, VerticalRL
	l := set(t, "風の強い日に赤い凧が海の上", 100, s)
	w, h := l.Size()
	if broken(l) != "風の強い日|に赤い凧が|海の上" || h != 100 || w != l.Height || w < 60 {
		t.Fatalf("%q, %.1f × %.1f", broken(l), w, h)
	}
	first, whole := Layout{Width: l.Width, Height: l.Height, Lines: l.Lines[:1], style: l.style}, l.Ink(0, 0)
	if ink := first.Ink(0, 0); ink.Min.X < int(w*2/3)-1 || ink.Dy() < 90 || whole.Min.X > int(w/3) {
		t.Errorf("the first line covers %v of %v", ink, whole)
	}
	s.Writing = VerticalLR
	l = set(t, "風の強い日に赤い凧が海の上", 100, s)
	first = Layout{Width: l.Width, Height: l.Height, Lines: l.Lines[:1], style: l.style}
	if ink := first.Ink(0, 0); ink.Max.X > int(w/3)+1 {
		t.Errorf("from the left, the first line covers %v", ink)
	}
	// Words lie on their side: a line is as high as it is wide otherwise. Upright they are longer.
	flat := set(t, "Kites", 0, Style{Size: 20, Families: []string{"Noto Sans"}})
	lying := set(t, "Kites", 0, Style{Size: 20, Families: []string{"Noto Sans"}, Writing: VerticalRL})
	standing := set(t, "Kites", 0, Style{Size: 20, Families: []string{"Noto Sans"}, Writing: VerticalRL, Orientation: Upright})
	if lying.Width != flat.Width || standing.Width != 5*27 {
		t.Errorf("%.2f flat, %.2f lying, %.2f standing", flat.Width, lying.Width, standing.Width)
	}
	a, b := flat.Ink(0, 0), lying.Ink(0, 0)
	if max(a.Dx()-b.Dy(), b.Dy()-a.Dx(), a.Dy()-b.Dx(), b.Dx()-a.Dy()) > 1 {
		t.Errorf("%v turned is %v", a, b)
	}
}

// Where brackets meet, half of one goes; a bracket that doesn't fit a line whole stays on it by its half.
func TestBracketsThatMeetLoseAHalf(t *testing.T) {
	s := black
	s.Families = []string{"Noto Sans CJK JP"}
	for content, ems := range map[string]float64{"「凧」": 3, "「凧」（赤）": 5.5, "『「凧」』": 4, "凧。」": 2.5, "凧「凧": 3, "」・「": 2} {
		if l := set(t, content, 0, s); l.Width != 20*ems {
			t.Errorf("%s is %.1f ems wide, not %.1f", content, l.Width/20, ems)
		}
	}
	if l := set(t, "赤い「凧」が飛ぶ", 95, s); broken(l) != "赤い「凧」|が飛ぶ" || l.Lines[0].Width != 90 {
		t.Errorf("%q, %.1f wide", broken(l), l.Lines[0].Width)
	}
	if l := set(t, "風筝”（红）", 60, s); l.Lines[0].Width > 60 {
		t.Errorf("%q", broken(l))
	}
}

// What is kerned over the end of a line is set without what it was kerned with.
func TestLinesAreMeasuredAsTheyAreSet(t *testing.T) {
	s := black
	s.Size, s.Families = 34, []string{"Noto Sans CJK JP"}
	if l := set(t, "浜を走って", 135, s); broken(l) != "浜を走|って" {
		t.Errorf("%q", broken(l))
	}
}

func TestTextFitsItsBox(t *testing.T) {
	const words = "Twelve delta kites, sewn by hand in the loft"
	at := func(w, h float64) float64 {
		l, err := Fit(words, w, h, 8, 80, black, systemFonts(t, words, black))
		if err != nil {
			t.Fatal(err)
		}
		if l.style.Size > 8 && (l.Overflows || l.Height > h+0.01) {
			t.Errorf("at %.2f it is %.0f × %.0f in %.0f × %.0f", l.style.Size, l.Width, l.Height, w, h)
		}
		// A little larger it doesn't fit.
		if bigger := black; l.style.Size > 8 && l.style.Size < 80 {
			bigger.Size = l.style.Size + 0.5
			if m, _ := Set(words, w, false, bigger, systemFonts(t, words, black)); !m.Overflows && m.Height <= h {
				t.Errorf("%.2f fits too", bigger.Size)
			}
		}
		return l.style.Size
	}
	small, middle, large := at(100, 20), at(300, 120), at(3000, 3000)
	if small != 8 || large != 80 || middle <= 20 || middle >= 60 {
		t.Errorf("%.2f, %.2f, %.2f", small, middle, large)
	}
}

// Scripts whose letters join, stack and turn round need fonts that every machine with the packages has.
func TestEveryScriptIsSet(t *testing.T) {
	if _, err := os.Stat("/usr/share/fonts/truetype/noto/NotoSans-Regular.ttf"); err != nil {
		t.Skip("Debian's fonts-noto-core isn't installed")
	}
	for _, content := range []string{"Drachenflügel, øre", "Χαρταετός", "Воздушный змей", "12 € – “kites”…", "طائرة", "עפיפון", "पतंग", "ว่าว", "风筝", "たこ", "연", "ẞ", "🪁👩🏽‍🚀🇯🇵", "★ → ✓", "ཀ", "ᐃ", "ⵣ", "𐌰"} {
		l, err := Set(content, 0, false, black, systemFonts(t, content, black))
		if err != nil {
			t.Errorf("%q: %v", content, err)
			continue
		}
		p := raster.NewRGBA(int(l.Width)+8, int(l.Height)+8)
		l.Paint(p, 2, 2)
		inked := 0
		for i := 3; i < len(p.Pix); i += 4 {
			if p.Pix[i] > 100 {
				inked++
			}
		}
		if inked < 20 {
			t.Errorf("%q: %d pixels are inked", content, inked)
		}
	}
}

// Full stops and brackets of Chinese and Japanese texts are found beside any letters, and alone.
func TestPunctuationOfIdeographsIsFound(t *testing.T) {
	for _, content := range []string{"Kite、twine", "「Kite」", "「」", "。", "Воздушный（змей）"} {
		set(t, content, 0, black)
	}
}

func TestWhatNoFontHasIsNamed(t *testing.T) {
	_, err := Set("kite 凧 and \ue123", 0, false, black, NewFonts(nil, nil, nil))
	var m *MissingError
	if !errors.As(err, &m) || !strings.Contains(m.Characters, "U+51E7") || !strings.Contains(m.Characters, "U+E123") {
		t.Errorf("%v", err)
	}
}

func TestASitesOwnFontIsUsedAndABrokenOneNamed(t *testing.T) {
	own := []Family{{Name: "Brand", Faces: []Face{{File: "brand/brand.ttf"}}}}
	s := black
	s.Families = []string{"brand", "sans-serif"}
	l, err := Set("Kite", 0, false, s, NewFonts(map[string][]byte{"brand/brand.ttf": goregular.TTF}, own, nil))
	if err != nil || l.Lines[0].glyphs[0].face.file != "brand/brand.ttf" {
		t.Errorf("%v", err)
	}
	_, err = Set("Kite", 0, false, s, NewFonts(map[string][]byte{"brand/brand.ttf": []byte("no font at all, but long enough")}, own, nil))
	var broken *FontError
	if !errors.As(err, &broken) || broken.File != "brand/brand.ttf" {
		t.Errorf("%v", err)
	}
}

// Fonts are strangers' files: whatever they hold, setting and drawing ends soon and without harm.
func TestSpoiledFontsDoNoHarm(t *testing.T) {
	r := rand.New(rand.NewPCG(21, 4))
	own := []Family{{Name: "Brand", Faces: []Face{{File: "b"}}}}
	s := black
	s.Families = []string{"Brand"}
	began := time.Now()
	for i := range 150 {
		data := append([]byte(nil), goregular.TTF...)
		switch i % 3 {
		case 0:
			data = data[:r.IntN(len(data))]
		case 1:
			for range 1 + r.IntN(200) {
				data[r.IntN(len(data))] = byte(r.UintN(256))
			}
		case 2: // the directory of tables
			for range 1 + r.IntN(12) {
				data[12+r.IntN(240)] = byte(r.UintN(256))
			}
		}
		l, err := Set("Kites & twine, ffi ÄÖ", 90, false, s, NewFonts(map[string][]byte{"b": data}, own, nil))
		if err == nil {
			p := raster.NewRGBA(120, 200)
			l.Paint(p, 4, 4)
		}
	}
	if took := time.Since(began); took > 30*time.Second {
		t.Errorf("it took %v", took)
	}
}

func TestLongTextsAndWordsEnd(t *testing.T) {
	for _, content := range []string{strings.Repeat("kite ", 2000), strings.Repeat("x", 20_000), strings.Repeat("א(b) ", 2000), strings.Repeat("\u0301", 5000), strings.Repeat("\n", 3000), strings.Repeat("ب", 10_000), strings.Repeat("「」", 5000)} {
		for _, s := range []Style{{Size: 0.5, Anywhere: true}, {Size: 10, Anywhere: true, Space: KeepBreaks}, {Size: 10, NoWrap: true, Lines: 1}, {Size: 10, Align: Justify, Balance: true, RightToLeft: true}} {
			if _, err := Set(content, 300, false, s, systemFonts(t, content, s)); err != nil {
				t.Errorf("%.10q…: %v", content, err)
			}
		}
	}
}

func TestReadFontsAreKeptWithinABound(t *testing.T) {
	room := 3 * len(goregular.TTF)
	c := NewCache(room)
	for i := range 10 {
		data := append(append([]byte(nil), goregular.TTF...), byte(i))
		if _, err := c.read(data, false, 0); err != nil {
			t.Fatal(err)
		}
	}
	if n, used := c.fonts.Holds(); n == 0 || n > 3 || used > room {
		t.Errorf("%d fonts, %d bytes of %d", n, used, room)
	}
	c.Forget()
	if n, used := c.fonts.Holds(); n != 0 || used != 0 {
		t.Error("it forgets nothing")
	}
}

func FuzzSet(f *testing.F) {
	f.Add("Kites & twine", 80.0, 12.0)
	f.Add("a\n\nb \u05d0\u0301(c)\u200d", 0.0, 3.0)
	fonts := NewFonts(nil, nil, nil)
	f.Fuzz(func(t *testing.T, content string, width, size float64) {
		if len(content) > 200 || !(width >= 0 && width < 500) || !(size >= 1 && size < 60) {
			return
		}
		if l, err := Set(content, width, false, Style{Size: size, Space: Space(len(content) % 3), Align: Align(len(content) % 6), RightToLeft: len(content)%2 == 0}, fonts); err == nil {
			l.Paint(raster.NewRGBA(64, 64), 0, 0)
		}
	})
}

func FuzzFont(f *testing.F) {
	f.Add(goregular.TTF)
	f.Add([]byte("wOFF\x00\x01\x00\x00"))
	f.Add([]byte("wOF2\x00\x01\x00\x00"))
	own := []Family{{Name: "Brand", Faces: []Face{{File: "b"}}}}
	s := black
	s.Families = []string{"Brand"}
	f.Fuzz(func(t *testing.T, data []byte) {
		if l, err := Set("Kites & twine, ffi ÄÖ", 90, false, s, NewFonts(map[string][]byte{"b": data}, own, nil)); err == nil {
			l.Paint(raster.NewRGBA(120, 200), 4, 4)
		}
	})
}

// What was shaped is kept, at any size, within a bound, and told apart by all that it depends on.
func TestShapedRunsAreKept(t *testing.T) {
	cache := NewCache(64 << 20)
	byFamily := map[string]*Fonts{}
	setIn := func(content string, s Style) *Layout {
		t.Helper()
		name := fmt.Sprint(s.Families, s.Weight)
		if byFamily[name] == nil {
			byFamily[name] = systemFonts(t, content, s)
			byFamily[name].cache = cache
		}
		fonts := byFamily[name]
		l, err := Set(content, 0, false, s, fonts)
		if err != nil {
			t.Fatal(err)
		}
		return l
	}
	width := func(content string, s Style) float64 { return setIn(content, s).Width }
	s := Style{Size: 20, Families: []string{"Noto Sans"}}
	first := width("fine AVATAR", s)
	kept := len(cache.runs.now)
	if again := width("fine AVATAR", s); again != first || len(cache.runs.now) != kept || kept == 0 {
		t.Errorf("%.2f, then %.2f; %d runs, then %d", first, again, kept, len(cache.runs.now))
	}
	large, bold, spaced := s, s, s
	large.Size, bold.Weight, spaced.LetterSpacing = 40, 700, 1
	if got := width("fine AVATAR", large); got < 2*first-0.01 || got > 2*first+0.01 || len(cache.runs.now) != kept {
		t.Errorf("twice the size: %.2f and %.2f; %d runs", first, got, len(cache.runs.now))
	}
	if width("fine AVATAR", bold) == first || width("fine AVATAR", spaced) <= first {
		t.Error("another style is the same run")
	}
	// Joining letters look at what stands around them.
	arabic := Style{Size: 20, Families: []string{"Noto Sans Arabic"}, RightToLeft: true}
	if alone, joined := width("ب", arabic), width("بب", arabic); joined == 2*alone {
		t.Error("letters aren't joined")
	}
	for i := range 3000 {
		width(fmt.Sprintf("Kite number %d of a long row over the meadow", i), s)
	}
	n := 0
	for _, kept := range []map[runKey][]shapedGlyph{cache.runs.now, cache.runs.older} {
		for _, list := range kept {
			n += len(list)
		}
	}
	if n > 2*mostGlyphs || n < mostGlyphs/4 {
		t.Errorf("%d glyphs are kept", n)
	}
	if cache.Forget(); cache.runs.now != nil || cache.runs.older != nil {
		t.Error("what is to be forgotten is kept")
	}
}
