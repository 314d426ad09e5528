package svg

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/raster"
)

func svg(attrs, body string) []byte {
	return []byte(`<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink" ` + attrs + ">" + body + "</svg>")
}

// drawn draws a drawing of 20×20 on as many pixels.
func drawn(t *testing.T, body string) *raster.RGBA {
	t.Helper()
	p, err := Draw(svg(`width="20" height="20"`, body), codec.Part{W: 20, H: 20}, 20, 20, nil)
	if err != nil {
		t.Fatalf("%s: %v", body, err)
	}
	return p
}

func pixel(p *raster.RGBA, x, y int) string { return fmt.Sprintf("%x", p.Row(y)[4*x:4*x+4]) }

func TestADrawingsOwnSize(t *testing.T) {
	for attrs, want := range map[string][2]int{
		`width="120" height="80"`: {120, 80}, `viewBox="0 0 24 16"`: {24, 16}, `width="48" viewBox="0 0 24 16"`: {48, 32}, `height="48" viewBox="0 0 24 16"`: {72, 48},
		`width="100%" height="100%" viewBox="0 0 24 16"`: {24, 16}, ``: {300, 150}, `width="1in" height="2cm"`: {96, 76}, `width="10.2" height="10.8"`: {11, 11}, `width="-5" height="x"`: {300, 150},
		`width="9e8" height="9e8"`: {100000, 100000}, `width="2em" height="10mm"`: {32, 38},
	} {
		info, err := Probe(svg(attrs, ""))
		if err != nil || info.W != want[0] || info.H != want[1] || !info.Alpha {
			t.Errorf("%s: %d × %d, %v, want %v", attrs, info.W, info.H, err, want)
		}
	}
}

func TestFilesAreTold(t *testing.T) {
	for data, want := range map[string]bool{
		"<svg>": true, "\ufeff<svg": true, "<?xml version='1.0'?>\n<!-- <html> -->\n<svg": true, "<!DOCTYPE svg PUBLIC 'x' 'y'>\n<svg": true, "<!DOCTYPE svg [<!ENTITY a 'b'>]><svg": true,
		"<svg:svg": true, "<html><svg>": false, "<?xml version='1.0'?><html>": false, "<!-- <svg>": false, "": false, "<": false, "svg": false,
	} {
		if Sniff([]byte(data)) != want {
			t.Errorf("%q: %v", data, !want)
		}
	}
}

// Each line says what the pixel in the middle is.
func TestWhatIsDrawn(t *testing.T) {
	for body, want := range map[string]string{
		`<rect width="20" height="20" fill="#c8372d"/>`:                                                               "c8372dff",
		`<rect width="20" height="20" fill="c8372d"/>`:                                                                "000000ff", // no colour without #
		`<g fill="red"><rect width="20" height="20" style="fill:blue!important"/></g>`:                                "0000ffff",
		`<style>rect{fill:lime} .a{fill:red}</style><rect class="a" width="20" height="20"/>`:                         "ff0000ff",
		`<style>@media print{rect{fill:red}} @media screen{rect{fill:blue}}</style><rect width="20" height="20"/>`:    "0000ffff",
		`<rect width="20" height="20" opacity=".5"/>`:                                                                 "00000080",
		`<circle r="5" display="none"/>`:                                                                              "00000000",
		`<rect width="20" height="20" fill="url(#none) green"/>`:                                                      "008000ff",
		`<rect width="20" height="20" fill="url(#none)"/>`:                                                            "00000000",
		`<rect width="20" height="20" fill="url(https://elsewhere.test/x.svg#p)"/>`:                                   "00000000",
		`<image href="https://elsewhere.test/kite.png" width="20" height="20"/>`:                                      "00000000",
		`<image href="file:///etc/passwd" width="20" height="20"/>`:                                                   "00000000",
		`<use href="other.svg#x"/><script>document.documentElement.remove()</script>`:                                 "00000000",
		`<use xlink:href="#a"/><defs><rect id="a" width="20" height="20" fill="blue"/></defs>`:                        "0000ffff",
		`<use href="#a"/><g id="a"><use href="#b"/></g><g id="b"><rect width="20" height="20"/></g>`:                  "000000ff",
		`<rect width="20" height="20" clip-path="url(#none)"/>`:                                                       "000000ff",
		`<clipPath id="c"/><rect width="20" height="20" clip-path="url(#c)"/>`:                                        "00000000",
		`<mask id="m"><rect width="20" height="20" fill="#fff"/></mask><rect width="20" height="20" mask="url(#m)"/>`: "000000ff",
		`<path d="M0 0H20V20H0z M5 5H15V15H5z" fill-rule="evenodd"/>`:                                                 "00000000",
		`<path d="M0 10h20" stroke="red" stroke-width="10"/>`:                                                         "ff0000ff",
		`<path d="M0 0 20 0 20 20 0 20 garbage"/>`:                                                                    "000000ff", // up to what is wrong
		`<path d="L20 20"/>`: "00000000",
		`<linearGradient id="g"><stop stop-color="red"/></linearGradient><rect width="20" height="20" fill="url(#g)"/>`: "ff0000ff",
		`<text y="18" font-size="60" x="-10">█</text>`:                                                                  "000000ff",
		`<svg width="10" height="20"><rect width="20" height="20"/></svg>`:                                              "00000000",
		`<g transform="translate(5) scale(0)"><rect width="20" height="20"/></g>`:                                       "00000000",
		`<a><rect width="20" height="20"/></a>`:                                                                         "000000ff",
		`<title>kite</title><desc><rect width="20" height="20"/></desc>`:                                                "00000000",
		`<x:rect xmlns:x="http://kestrel.test/x" width="20" height="20"/>`:                                              "00000000",
	} {
		if got := pixel(drawn(t, body), 10, 10); got != want {
			t.Errorf("%s\n\tis %s, want %s", body, got, want)
		}
	}
}

// A part at a size is what the whole at that scale has there.
func TestPartsAreOfTheWhole(t *testing.T) {
	data := svg(`width="40" height="30"`, `<circle cx="20" cy="15" r="12" fill="#c8372d"/><path d="M3 3 37 28" stroke="#3b5bb5" stroke-width="3"/>`)
	whole, err := Draw(data, codec.Part{W: 40, H: 30}, 160, 120, nil)
	if err != nil {
		t.Fatal(err)
	}
	part, err := Draw(data, codec.Part{X: 10, Y: 5, W: 20, H: 15}, 80, 60, nil)
	if err != nil {
		t.Fatal(err)
	}
	for y := range 60 {
		for x := range 80 {
			if a, b := pixel(part, x, y), pixel(whole, x+40, y+20); a != b {
				t.Fatalf("%d, %d is %s of the part, %s of the whole", x, y, a, b)
			}
		}
	}
}

func problem(t *testing.T, data []byte) *codec.Error {
	t.Helper()
	start := time.Now()
	_, err := draw(data, codec.Part{W: 300, H: 300}, 300, 300, nil, mostWork/5)
	if took := time.Since(start); took > 10*time.Second {
		t.Errorf("%.80s took %s", data, took)
	}
	var e *codec.Error
	if err != nil && !errors.As(err, &e) {
		t.Fatalf("%.80s: %v is no *codec.Error", data, err)
	}
	return e
}

func TestWhatIsTooMuchIsRefusedOrBounded(t *testing.T) {
	uses := `<rect id="u0" width="9" height="9"/>`
	for i := range 30 {
		uses += fmt.Sprintf(`<g id="u%d"><use href="#u%d"/><use href="#u%d"/></g>`, i+1, i, i)
	}
	patterns, masks := "", ""
	for i := range 60 {
		patterns += fmt.Sprintf(`<pattern id="p%d" width="1" height="1"><rect width="300" height="300" fill="url(#p%d)"/></pattern>`, i, i+1)
		masks += fmt.Sprintf(`<mask id="m%d" mask="url(#m%d)"><rect width="300" height="300" mask="url(#m%d)" fill="#fff"/></mask>`, i, (i+1)%60, (i+2)%60)
	}
	size := `width="300" height="300"`
	for name, c := range map[string]struct {
		data []byte
		says string // "": it is drawn
	}{
		"uses that double":     {svg(size, uses), "are to be drawn"},
		"a use of itself":      {svg(size, `<g id="a"><use href="#a"/></g>`), "use each other"},
		"elements":             {svg(size, strings.Repeat("<g/>", mostElements)), "more than 100000 elements"},
		"depth":                {svg(size, strings.Repeat("<g>", 300)+strings.Repeat("</g>", 300)), "deep in each other"},
		"patterns in patterns": {svg(size, patterns+`<rect width="300" height="300" fill="url(#p0)"/>`), "lie too deep"},
		"masks in masks":       {svg(size, masks+`<rect width="300" height="300" mask="url(#m0)"/>`), "too"},
		"a pattern of itself":  {svg(size, `<pattern id="p" width="1" height="1"><rect width="9" height="9" fill="url(#p)"/></pattern><rect width="300" height="300" fill="url(#p)"/>`), "lie too deep"},
		"a gradient of itself": {svg(size, `<linearGradient id="g" href="#h"/><linearGradient id="h" href="#g"/><rect width="300" height="300" fill="url(#g)"/>`), ""},
		"a clip of itself":     {svg(size, `<clipPath id="c" clip-path="url(#d)"><rect width="9" height="9"/></clipPath><clipPath id="d" clip-path="url(#c)"><rect width="9" height="9"/></clipPath><rect width="300" height="300" clip-path="url(#c)"/>`), "lie too deep"},
		"see-through groups":   {svg(size, strings.Repeat(`<g opacity=".9">`, 150)+strings.Repeat(`<rect width="300" height="300"/>`, 100)+strings.Repeat("</g>", 150)), ""},
		"much see-through":     {svg(size, strings.Repeat(`<g opacity=".9"><rect width="300" height="300" stroke="red"/></g>`, 40_000)), "too much work"},
		"filters":              {svg(size, `<filter id="f">`+strings.Repeat("<feOffset/>", 100)+`</filter><rect width="30" height="30" filter="url(#f)"/>`), "more than 60 primitives"},
		"blurs":                {svg(size, `<filter id="f"><feGaussianBlur stdDeviation="1e8"/></filter><rect width="300" height="300" filter="url(#f)"/>`), ""},
		"many blurs":           {svg(size, `<filter id="f">`+strings.Repeat("<feGaussianBlur stdDeviation='9'/>", 50)+`</filter>`+strings.Repeat(`<rect width="300" height="300" filter="url(#f)"/>`, 500)), "too much work"},
		"dashes":               {svg(size, `<path d="M0 0H1e9" stroke="red" stroke-dasharray=".000001"/>`), ""},
		"points":               {svg(size, `<path stroke="red" stroke-linejoin="round" stroke-width="9" d="M0 0`+strings.Repeat("C300 0 0 300 300 300", 9_000)+`"/>`), "too much work"},
		"large numbers":        {svg(size, `<path d="M-1e11 0H1e11V1e11z"/><rect x="1e308" width="1e308" height="1e9"/><g transform="scale(1e30)"><circle r="1e9"/></g>`), ""},
		"turbulence":           {svg(size, `<filter id="f"><feTurbulence numOctaves="1000000" baseFrequency="1e9"/></filter>`+strings.Repeat(`<rect width="300" height="300" filter="url(#f)"/>`, 200)), "too much work"},
		"morphology":           {svg(size, `<filter id="f"><feMorphology radius="1e6"/></filter><rect width="300" height="300" filter="url(#f)"/>`), "too much work"},
		"characters":           {svg(size, `<text>`+strings.Repeat("kite ", 30_000)+`</text>`), "characters"},
		"rules":                {svg(size, `<style>`+strings.Repeat("g g g g g g g rect{fill:red}", 6000)+`</style>`), "style rules"},
		"rules for elements":   {svg(size, `<style>`+strings.Repeat(".a{fill:red}", 4900)+`</style>`+strings.Repeat("<g/>", 50_000)), "style rules"},
		"entities in entities": {[]byte(`<!DOCTYPE svg [<!ENTITY a "ha"><!ENTITY b "&a;&a;">]><svg xmlns="http://www.w3.org/2000/svg">&b;</svg>`), "other entities"},
		"markers":              {svg(size, `<marker id="m" orient="auto"><path d="M0 0H9" marker-mid="url(#m)" marker-start="url(#m)"/></marker><path marker-mid="url(#m)" d="M0 0`+strings.Repeat("h1v1", 2000)+`"/>`), "too deep"},
		"another root":         {[]byte("<html/>"), "outermost"},
		"foreign pages":        {svg(size, `<foreignObject width="9" height="9"><rect/></foreignObject>`), "foreignObject"},
		"a filter not drawn":   {svg(size, `<filter id="f"><feDisplacementMap/></filter><rect width="9" height="9" filter="url(#f)"/>`), "feDisplacementMap"},
		"another charset":      {[]byte(`<?xml version="1.0" encoding="koi8-r"?><svg xmlns="http://www.w3.org/2000/svg"/>`), "UTF-8"},
		"bytes":                {svg(size, strings.Repeat(" ", mostBytes)), "bytes"},
	} {
		e := problem(t, c.data)
		switch {
		case c.says == "" && e != nil:
			t.Errorf("%s: %v", name, e)
		case c.says != "" && (e == nil || !strings.Contains(e.Problem, c.says)):
			t.Errorf("%s: %v, want it to say %q", name, e, c.says)
		}
	}
}

func TestDrawingsThatEndAreTruncated(t *testing.T) {
	files, _ := filepath.Glob("../../../conformance/drawings/*.svg")
	if len(files) < 40 {
		t.Fatalf("there are %d drawings", len(files))
	}
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		for i := range 31 {
			part := data[:len(data)*(i+1)/32]
			if e := problem(t, part); e == nil || !e.Truncated && e.Problem != "there is no svg element" {
				t.Errorf("%s, %d of 32: %v", f, i+1, e)
			}
		}
	}
}

func FuzzSVG(f *testing.F) {
	files, _ := filepath.Glob("../../../conformance/drawings/*.svg")
	for _, name := range files {
		if data, err := os.ReadFile(name); err == nil {
			f.Add(data)
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		info, err := Probe(data)
		var e *codec.Error
		if err != nil {
			if !errors.As(err, &e) {
				t.Errorf("%v is no *codec.Error", err)
			}
			return
		}
		if info.W < 1 || info.H < 1 {
			t.Errorf("%d × %d", info.W, info.H)
		}
		if p, err := Draw(data, codec.Part{W: float64(info.W), H: float64(info.H)}, 32, 32, nil); err == nil {
			p.Free()
		} else if !errors.As(err, &e) {
			t.Errorf("%v is no *codec.Error", err)
		}
	})
}
