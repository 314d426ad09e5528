package markup

import (
	"math"
	"regexp"
	"strings"
	"testing"

	"echolane/core/declare"
	"echolane/core/wording"
)

func slot(t testing.TB, text string) *Slot {
	t.Helper()
	s, err := ParseSlot(text)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func text(s string) *string { return &s }

// photo is a source of 2400×1600 pixels whose weight grows with the power 1.6 of its width.
func photo(slotText string, t testing.TB) Options {
	var ws []Weight
	for _, w := range []int{320, 640, 1280, 2400} {
		ws = append(ws, Weight{w, int(20000 * math.Pow(float64(w)/640, 1.6))})
	}
	o := Options{
		Base: "https://img.test/kestrel", Source: "catalogue/delta-red.jpg", Slot: slot(t, slotText),
		Facts: Facts{Width: 2400, Height: 1600}, Alt: text("A red delta kite"), Site: declare.Declarations{GeometryValues: declare.GeometryValues{Fit: declare.Cover}, EncodingValues: declare.EncodingValues{Quality: 72}},
	}
	o.Facts.Weights = map[declare.Declarations][]Weight{}
	for _, a := range Anchors(o) {
		o.Facts.Weights[a.Declared] = ws
	}
	return o
}

func made(t testing.TB, o Options) Markup {
	t.Helper()
	m, err := Make(o)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestAFixedSlotHasDensities(t *testing.T) {
	m := made(t, photo("width: 320px; aspect-ratio: 3/2", t))
	want := `<img src="https://img.test/kestrel/catalogue/delta-red.jpg?width=320&amp;aspect-ratio=3/2&amp;resolution=2x" ` +
		`srcset="https://img.test/kestrel/catalogue/delta-red.jpg?width=320&amp;aspect-ratio=3/2 1x, https://img.test/kestrel/catalogue/delta-red.jpg?width=320&amp;aspect-ratio=3/2&amp;resolution=2x 2x, https://img.test/kestrel/catalogue/delta-red.jpg?width=320&amp;aspect-ratio=3/2&amp;resolution=3x 3x" ` +
		`width="320" height="213" alt="A red delta kite" loading="lazy" decoding="async">` + "\n"
	if got := m.HTML(); got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	// A source with pixels for 1.5x alone offers these and no more.
	o := photo("width: 320px", t)
	o.Facts.Width, o.Facts.Height = 480, 320
	if m := made(t, o); len(m.Srcset) != 2 || m.Srcset[1].Width != 480 || m.Srcset[1].Density != 1.5 {
		t.Errorf("%+v", m.Srcset)
	}
	o.Facts.Width, o.Facts.Height = 200, 100
	if m := made(t, o); len(m.Srcset) != 1 || m.Srcset[0].Width != 200 || m.Width != 320 || m.Height != 160 {
		t.Errorf("%+v", m)
	}
}

func TestAFluidSlotOffersWidthsByTheirBytes(t *testing.T) {
	o := photo("(min-width: 900px) 33vw, 100vw", t)
	m := made(t, o)
	if m.Sizes != "(min-width: 900px) 33vw, 100vw" || m.Loading != "lazy" {
		t.Errorf("%+v", m)
	}
	bytes := o.groups()[0].curve.bytes
	for i := 1; i < len(m.Srcset); i++ {
		a, b := m.Srcset[i-1], m.Srcset[i]
		// Whoever needs a little more than a has to take b.
		if wasted := 1 - bytes(float64(a.Width))/bytes(float64(b.Width)); wasted > DefaultWaste+0.001 {
			t.Errorf("from %d to %d wide %.0f %% can be wasted", a.Width, b.Width, 100*wasted)
		}
	}
	if first, last := m.Srcset[0].Width, m.Srcset[len(m.Srcset)-1].Width; first < 290 || first > 330 || last < 1780 || last > 1840 {
		t.Errorf("from %d to %d", first, last) // 33 % of 900, and three times 600
	}
	tight := o
	tight.Waste = 0.1
	if n := len(made(t, tight).Srcset); n <= len(m.Srcset) {
		t.Errorf("%d widths where little may be wasted, %d otherwise", n, len(m.Srcset))
	}
	o.Rungs = []float64{160, 320, 480, 640, 960, 1280, 1920, 3840}
	m = made(t, o)
	for _, c := range m.Srcset {
		if c.Width != 320 && c.Width != 480 && c.Width != 640 && c.Width != 960 && c.Width != 1280 && c.Width != 1920 {
			t.Errorf("%d is offered", c.Width)
		}
	}
	o.Facts.Width, o.Facts.Height = 700, 500
	if m := made(t, o); m.Srcset[len(m.Srcset)-1].Width != 640 {
		t.Errorf("above the source: %+v", m.Srcset)
	}
}

func TestSlotsInTheirSpellings(t *testing.T) {
	for _, c := range []struct{ slot, container, sizes string }{
		{"max-width: 800px", "", "auto, min(100vw, 800px)"},
		{"width: 100%", "", "auto, 100vw"},
		{"width: 50%; max-width: 400px", "", "auto, min(50vw, 400px)"},
		{"width: 100%", "max-width: 720px", "min(100vw, 720px)"},
		{"width: 50%", "width: calc(100vw - 48px)", "calc(0.5 * (100vw - 48px))"},
		{"width: 100%", "(min-width: 900px) 33vw, 100vw", "100vw"},
		{"inset: 0; object-fit: cover; aspect-ratio: 21/9", "", "auto, 100vw"},
		{"width: calc(50vw - 2rem)", "", "calc(50vw - 32px)"},
		{"width: min(100vw, 60rem)", "", "min(100vw, 960px)"},
		{"width: clamp(200px, 50vw, 800px)", "", "clamp(200px, 50vw, 800px)"},
		{"width: 100vw; @media (width >= 600px) { width: 50vw } @media (min-width: 75em) { width: 600px }", "", "(min-width: 1200px) 600px, (min-width: 600px) 50vw, 100vw"},
		{"(max-width: 599px) 100vw, 50vw", "", "(min-width: 599.02px) 50vw, 100vw"},
		{"100vw", "", "100vw"},
	} {
		o := photo(c.slot, t)
		if c.container != "" {
			o.Container = slot(t, c.container)
		}
		if m := made(t, o); m.Sizes != c.sizes {
			t.Errorf("%q in %q: sizes %q, want %q", c.slot, c.container, m.Sizes, c.sizes)
		}
	}
}

func TestAnotherShapeInOtherViewports(t *testing.T) {
	o := photo("width: 100vw; aspect-ratio: 21/9; object-position: subject; @media (width < 600px) { aspect-ratio: 1 }", t)
	o.First = true
	m := made(t, o)
	html := m.HTML()
	if len(m.Sources) != 1 || m.Sources[0].Media != "(min-width: 600px)" || !strings.HasPrefix(html, "<picture>\n  <source media=\"(min-width: 600px)\" srcset=") {
		t.Fatalf("%s", html)
	}
	if m.Width != m.Height || m.Sources[0].Height >= m.Sources[0].Width {
		t.Errorf("%d × %d, %d × %d", m.Width, m.Height, m.Sources[0].Width, m.Sources[0].Height)
	}
	for _, c := range m.Srcset {
		if !strings.Contains(c.URL, "aspect-ratio=1&object-position=subject") || c.Width > 1600 {
			t.Errorf("%+v", c)
		}
	}
	for _, want := range []string{`loading="eager"`, `fetchpriority="high"`} {
		if !strings.Contains(html, want) {
			t.Errorf("without %s: %s", want, html)
		}
	}
	preload := m.Preload()
	if strings.Count(preload, "<link ") != 2 || !strings.Contains(preload, `media="(min-width: 600px)"`) || !strings.Contains(preload, `media="(not (min-width: 600px))"`) || !strings.Contains(preload, `sizes="100vw"`) {
		t.Errorf("%s", preload)
	}
	if link := m.Link(); strings.Count(link, `rel="preload"`) != 2 || !strings.HasPrefix(link, "<https://img.test/") {
		t.Errorf("%s", link)
	}
}

func TestASourceForEachFormat(t *testing.T) {
	o := photo("width: 320px", t)
	o.Formats = []declare.Format{declare.AVIF, declare.WebP, declare.JPEG}
	m := made(t, o)
	html := m.HTML()
	if strings.Count(html, "<source ") != 2 || !strings.Contains(html, `type="image/avif"`) || !strings.Contains(m.Src, "format=jpeg") || strings.Count(m.Preload(), "<link") != 1 || !strings.Contains(m.Preload(), `type="image/avif"`) {
		t.Errorf("%s%s", html, m.Preload())
	}
}

func TestWrittenForOthers(t *testing.T) {
	o := photo("width: 320px", t)
	o.Alt = text(`A "red" kite & its <tail>`)
	m := made(t, o)
	if html := m.HTML(); !strings.Contains(html, `alt="A &quot;red&quot; kite &amp; its &lt;tail&gt;"`) {
		t.Errorf("%s", html)
	}
	if jsx := m.JSX(); !strings.Contains(jsx, `alt={"A \"red\" kite & its <tail>"}`) || !strings.Contains(jsx, "srcSet={") || !strings.Contains(jsx, "width={320}") || !strings.HasSuffix(jsx, " />\n") {
		t.Errorf("%s", jsx)
	}
	if css := m.CSS(); !regexp.MustCompile(`^background-image: image-set\(url\("https://img.test/[^"]+"\) 1x, url\("[^"]+"\) 2x, url\("[^"]+"\) 3x\);\n$`).MatchString(css) {
		t.Errorf("%s", css)
	}
	if fluid := made(t, photo("100vw", t)); strings.Count(fluid.CSS(), "url(") != 2 {
		t.Errorf("%s", fluid.CSS())
	}
	o.Facts.Placeholder, o.Facts.Colour, o.Inline = "data:image/webp;base64,AAAA", "#b3989c", OneColour
	if m := made(t, o); m.Style != "background:#b3989c" {
		t.Errorf("%s", m.Style)
	}
	o.Inline = SmallPicture
	if m := made(t, o); !strings.Contains(m.HTML(), `style="background:url(data:image/webp;base64,AAAA) center/cover no-repeat"`) || !strings.Contains(m.JSX(), `style={{ background: "url(`) {
		t.Errorf("%s%s", m.HTML(), m.JSX())
	}
	o.Facts.Alpha = true
	if m := made(t, o); m.Style != "" || len(m.Warnings) != 1 {
		t.Errorf("a placeholder would show through: %+v", m)
	}
}

func TestAltIsAskedForAndNeverInvented(t *testing.T) {
	o := photo("width: 320px", t)
	for _, alt := range []*string{nil, text("")} {
		o.Alt = alt
		if _, err := Make(o); err == nil || !strings.Contains(err.Error(), "alt") {
			t.Errorf("%v", err)
		}
	}
	o.Decorative = true
	if m := made(t, o); !strings.Contains(m.HTML(), ` alt="" `) {
		t.Errorf("%s", m.HTML())
	}
}

func TestBadSlots(t *testing.T) {
	for given, says := range map[string]string{
		"":                       "empty",
		"wdith: 320px":           "did you mean width",
		"width: 320":             "length",
		"width: 10vh":            "length",
		"width: calc(1px+2px)":   "length",
		"width: calc(1px + 2)":   "length",
		"width: calc(1px / 0)":   "length",
		"(min-height: 3px) 3px":  "media condition",
		"(min-width: 3px 33vw":   "isn't closed",
		"100vw, (min-width: 3x)": "media condition",
		"width: 3px; @media (width > 5px) { width: 6px": "isn't closed",
		"width: 3px; @media print { width: 6px }":       "media condition",
		"aspect-ratio: wide":                            "width/height",
		"inset: 5px":                                    "inset: 0",
		"width":                                         "length",
		"class: 1":                                      "class",
		"width: " + strings.Repeat("calc(", 100) + strings.Repeat(")", 100): "length",
		strings.Repeat("width: 3px;", 1000):                                 "at most 4096",
	} {
		if _, err := ParseSlot(given); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%q: %v, want %q", wording.Cut(given, 80), err, says)
		}
	}
}

func FuzzParseSlot(f *testing.F) {
	for _, s := range []string{"width: 320px", "max-width: 800px; aspect-ratio: 3/2", "(min-width: 900px) 33vw, 100vw", "width: min(100%, 3em); @media (width < 9px) { inset: 0 }", "width: calc((1px + 2vw) * 3)", "@media", "(", "width: clamp(1px,2px,3px)"} {
		f.Add(s, 800, 600)
	}
	f.Fuzz(func(t *testing.T, s string, w, h int) {
		parsed, err := ParseSlot(s)
		if err != nil || w < 1 || h < 1 || w > 65535 || h > 65535 {
			return
		}
		o := Options{Base: "https://img.test/s", Source: "l/p", Slot: parsed, Facts: Facts{Width: w, Height: h}, Decorative: true}
		Anchors(o)
		m, err := Make(o)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range m.Srcset {
			if c.Width < 1 || c.Width > w && c.Width > h {
				t.Errorf("%q for %d×%d offers %d", s, w, h, c.Width)
			}
		}
		if m.Width < 1 || m.Height < 1 {
			t.Errorf("%q: %d × %d", s, m.Width, m.Height)
		}
	})
}

func BenchmarkMake(b *testing.B) {
	o := photo("(min-width: 900px) 33vw, 100vw", b)
	for b.Loop() {
		m, err := Make(o)
		if err != nil {
			b.Fatal(err)
		}
		_ = m.HTML()
	}
}

func TestWhatABrowserPicks(t *testing.T) {
	o := photo("width: 320px", t)
	for density, want := range map[float64]int{1: 320, 1.2: 640, 1.5: 640, 2: 640, 2.2: 960, 2.5: 960, 3: 960, 4: 960} {
		if p := o.Pick(1000, density); p.Width != want || p.Shown != 320 {
			t.Errorf("at %vx: %+v, want %d", density, p, want)
		}
	}
	fluid := photo("width: 50vw", t)
	m := made(t, fluid)
	for _, v := range []float64{320, 500, 900, 1400, 1900} {
		p := fluid.Pick(v, 2)
		if p.Shown != v/2 || float64(p.Width) < v*0.8 {
			t.Errorf("in %v: %+v of %+v", v, p, m.Srcset)
		}
	}
}
