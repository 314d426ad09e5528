package text

import (
	"errors"
	"strings"
	"testing"
)

var black = Style{Size: 20, Color: [4]uint8{0, 0, 0, 255}}

// ink is the box around what is drawn.
func ink(t *testing.T, text string, width float64, s Style) (x0, y0, x1, y1, w, h int) {
	t.Helper()
	p, err := Draw(text, width, s)
	if err != nil {
		t.Fatalf("%q: %v", text, err)
	}
	x0, y0 = p.W, p.H
	for y := range p.H {
		for x := range p.W {
			if p.Pix[y*p.Stride+4*x+3] > 100 {
				x0, y0, x1, y1 = min(x0, x), min(y0, y), max(x1, x+1), max(y1, y+1)
			}
		}
	}
	return x0, y0, x1, y1, p.W, p.H
}

func TestTextIsSetInLines(t *testing.T) {
	_, _, wide, _, _, one := ink(t, "Kites over the festival meadow", 0, black)
	if one != 25 {
		t.Errorf("one line is %d pixels high", one)
	}
	_, _, x1, _, w, h := ink(t, "Kites over the festival meadow", 120, black)
	if w != 120 || x1 > 121 || h <= one || h%one != 0 {
		t.Errorf("in lines of 120: %d × %d, ink to %d", w, h, x1)
	}
	if _, _, _, _, _, h := ink(t, "one\ntwo\n\nfour", 0, black); h != 4*one {
		t.Errorf("four lines are %d pixels high", h)
	}
	if _, _, bold, _, _, _ := ink(t, "Kites over the festival meadow", 0, Style{Size: 20, Bold: true, Color: black.Color}); bold <= wide {
		t.Errorf("bold is no wider: %d and %d", bold, wide)
	}
	left, _, _, _, _, _ := ink(t, "kite", 200, black)
	centred, _, end, _, _, _ := ink(t, "kite", 200, Style{Size: 20, Color: black.Color, Align: Center})
	right, _, last, _, _, _ := ink(t, "kite", 200, Style{Size: 20, Color: black.Color, Align: Right})
	if !(left < 4 && centred > 70 && (centred+end)/2 > 96 && (centred+end)/2 < 104 && right > 150 && last > 196) {
		t.Errorf("left %d, centred %d–%d, right %d–%d", left, centred, end, right, last)
	}
}

func TestLatinGreekAndCyrillicAreThereAndTheRestIsNamed(t *testing.T) {
	for _, text := range []string{"Drachenflügel, çerf-volant, øre", "Χαρταετός", "Воздушный змей", "12 € – “kites” & twine…"} {
		if _, err := Draw(text, 0, black); err != nil {
			t.Errorf("%q: %v", text, err)
		}
	}
	_, err := Draw("kite 凧", 0, black)
	var m *MissingError
	if !errors.As(err, &m) || !strings.Contains(m.Characters, "U+51E7") {
		t.Errorf("%v", err)
	}
}

func TestLongTextsAndWordsEnd(t *testing.T) {
	for _, text := range []string{strings.Repeat("kite ", 2000), strings.Repeat("x", 2000)} {
		p, err := Draw(text, 300, Style{Size: 10, Color: black.Color})
		if err != nil || p.W != 300 || p.H < 100 {
			t.Errorf("%d characters: %v", len(text), err)
		}
	}
}

func FuzzDraw(f *testing.F) {
	f.Add("Kites & twine", 80.0, 12.0)
	f.Add("a\n\nb", 0.0, 3.0)
	f.Fuzz(func(t *testing.T, text string, width, size float64) {
		if len(text) > 200 || !(width >= 0 && width < 500) || !(size >= 1 && size < 60) {
			return
		}
		Draw(text, width, Style{Size: size, Color: black.Color})
	})
}
