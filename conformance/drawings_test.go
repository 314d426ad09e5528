package conformance

import (
	"encoding/base64"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goitalic"
	"golang.org/x/image/font/gofont/goregular"
)

// withFonts is a drawing with the house's fonts in it, by the family that our drawings name, so that the browser has them too.
func withFonts(data []byte) []byte {
	text := string(data)
	if !strings.Contains(text, `font-family="House"`) {
		return data
	}
	var faces strings.Builder
	for more, font := range map[string][]byte{"": goregular.TTF, "font-weight:bold": gobold.TTF, "font-style:italic": goitalic.TTF} {
		fmt.Fprintf(&faces, `@font-face{font-family:House;src:url(data:font/ttf;base64,%s);%s}`, base64.StdEncoding.EncodeToString(font), more)
	}
	root := strings.Index(text, "<svg")
	root += strings.Index(text[root:], ">") + 1
	return []byte(text[:root] + "<style>" + faces.String() + "</style>" + text[root:])
}

// Of some drawings less is asked: the browser fits the outlines of letters to pixels, and takes noise in fewer bits.
var less = map[string]float64{"text": 31, "anchors": 33, "tspans": 32, "paint-order": 35, "text-path": 35, "chart": 36, "turbulence": 35}

// Drawings are drawn as the browser draws them, at more than their own size.
func TestDrawingsAreAsTheBrowserDrawsThem(t *testing.T) {
	files, err := filepath.Glob("drawings/*.svg")
	if err != nil || len(files) < 40 {
		t.Fatalf("%d drawings, %v", len(files), err)
	}
	var all []Source
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		all = append(all, Source{Name: filepath.Base(f), Type: "image/svg+xml", Data: withFonts(data)})
	}
	j, err := NewJudge(all)
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	for i, s := range all {
		data, _ := os.ReadFile(files[i])
		for _, width := range []int{480, 173} {
			ours, err := Ours(data, fmt.Sprintf("width=%d", width))
			if err != nil {
				t.Errorf("%s: %v", s.Name, err)
				continue
			}
			theirs, err := j.Painted(s.Name, fmt.Sprintf("width:%dpx", width), Before{}, 1)
			if err != nil {
				t.Fatal(err)
			}
			least := 38.0
			if v, ok := less[strings.TrimSuffix(s.Name, ".svg")]; ok {
				least = v
			}
			if width < 200 {
				least -= 5 // what lies on edges is more of it
			}
			f := Compare(ours, theirs, 0)
			t.Logf("%-22s %d wide: %.1f dB", s.Name, width, f.PSNR)
			if !f.Size || f.PSNR < least {
				t.Errorf("%s, %d wide: %v and %v, PSNR %.1f, at least %.0f", s.Name, width, ours.Rect, theirs.Rect, f.PSNR, least)
			}
		}
	}
}
