package sheet

import (
	"fmt"
	"strings"
	"testing"

	"echolane/core/declare"
	"echolane/core/wording"
)

const kestrel = `/* Kestrel & Twine */
* { object-fit: cover; quality: 72 }
.tile, .wide.tile { width: 320px; aspect-ratio: 1; object-position: subject }
.wide.tile { aspect-ratio: 16 / 9 }
.stamped::after { content: url("catalogue/mark.png"); width: 18%; inset: auto 4% 4% auto; opacity: .7 }
.dusk { gradient-map: #123 #fed 80%; filter: brightness(1.1) contrast(90%) }
.tile { quality: 60 }
@media (resolution >= 2x) { .tile { quality: 50 } * { quality: 65 } }
@media (prefers-reduced-data: reduce) and (resolution < 2x) { * { quality: 40 } }
`

func parsed(t *testing.T, text string) *Sheet {
	t.Helper()
	s, err := Parse(text)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestTheCascade(t *testing.T) {
	s := parsed(t, kestrel)
	if data, motion := s.AsksFor(""); strings.Join(s.Classes(), " ") != "dusk stamped tile wide" || !data || motion {
		t.Errorf("classes %q, asks %v %v", s.Classes(), data, motion)
	}
	for _, c := range []struct {
		query string
		saves bool
		want  string
	}{
		{"", false, "object-fit=cover&quality=72"},
		{"quality=90", false, "object-fit=cover&quality=90"},
		{"resolution=2x", false, "resolution=2x&object-fit=cover&quality=65"},
		{"", true, "object-fit=cover&quality=40"},
		{"resolution=2x", true, "resolution=2x&object-fit=cover&quality=65"},
		{"class=tile", false, "width=320&aspect-ratio=1&object-fit=cover&object-position=subject&quality=60&class=tile"},
		{"class=tile", true, "width=320&aspect-ratio=1&object-fit=cover&object-position=subject&quality=60&class=tile"},
		{"class=tile&resolution=2x", false, "width=320&aspect-ratio=1&resolution=2x&object-fit=cover&object-position=subject&quality=50&class=tile"},
		{"class=wide+tile+tile", false, "width=320&aspect-ratio=16/9&object-fit=cover&object-position=subject&quality=60&class=tile%20wide"},
		{"class=wide", false, "object-fit=cover&quality=72&class=wide"},
		{"class=tile&width=200&object-position=left", false, "width=200&aspect-ratio=1&object-fit=cover&object-position=0%25%2050%25&quality=60&class=tile"},
		{"class=stamped&after-width=30%25", false, "object-fit=cover&after-width=30%25&quality=72&class=stamped"}, // its layer is Layers'

	} {
		d, err := declare.Parse(c.query)
		if err != nil {
			t.Fatal(err)
		}
		got := s.Over(d, Client{Saves: c.saves})
		want, err := declare.Parse(c.want)
		if err != nil {
			t.Fatalf("%s: %v", c.want, err)
		}
		if got != want {
			t.Errorf("%q, saving %v: %s\nwant %s", c.query, c.saves, got.AddressForm(), want.AddressForm())
		}
		if !c.saves && c.query == "class=wide" && s.OfClasses(d, Client{}).Quality != 0 {
			t.Error("what * says is taken for a class's")
		}
	}
}

func TestProblemsHaveTheirPlaceAndTheNearestName(t *testing.T) {
	for _, c := range []struct {
		text         string
		line, column int
		says         string
		nearest      string
	}{
		{"* { widht: 3px }", 1, 5, "widht", "width"},
		{".tile {\n  width: wide\n}", 2, 10, "wide", ""},
		{"/* é */ .a { quality: loseless }", 1, 23, "loseless", "lossless"},
		{".a { object-fit: covr }", 1, 18, "covr", "cover"},
		{".a { after-width: 3px }", 1, 6, "after-width", ""},
		{".a::after { fliter: blur(2px) }", 1, 13, "fliter", "filter"},
		{".a::layer(x) { resolution: 2x }", 1, 16, "resolution", ""},
		{".a::layer(after) { width: 3px }", 1, 1, "selector", ""},
		{".a::layers(x) { width: 3px }", 1, 1, "selector", ""},
		{".a::layer(x) { content: attr(title) }", 1, 25, "content", ""},
		{"@font-face { font-family: B; src: url(https://x.test/b.woff2) }", 1, 35, "src", ""},
		{"@font-face { font-family: B }", 1, 12, "src", ""},
		{"@font-face { font-famly: B; src: url(a/b.ttf) }", 1, 14, "font-famly", "font-family"},
		{".a { download: x }", 1, 6, "download", ""},
		{".a { class: b }", 1, 6, "class", ""},
		{"tile { width: 3px }", 1, 1, "selector", ".tile"},
		{".a .b { width: 3px }", 1, 1, "selector", ""},
		{".a:hover { width: 3px }", 1, 1, "selector", ""},
		{".a, { width: 3px }", 1, 1, "selector", ""},
		{".1a { width: 3px }", 1, 1, "selector", ""},
		{"#a { width: 3px }", 1, 1, "selector", ""},
		{"{ width: 3px }", 1, 1, "selector", ""},
		{".a { width: 3px", 1, 4, "isn't closed", ""},
		{".a { width: 3px } }", 1, 19, "no open block", ""},
		{"@media (resolution >= 2x) { .a { width: 3px }", 1, 27, "isn't closed", ""},
		{"@media (width > 3px) { .a { width: 3px } }", 1, 8, "media condition", ""},
		{"@media print { .a { width: 3px } }", 1, 8, "media condition", ""},
		{"@media (resolution >= 2x), (resolution < 1x) { }", 1, 8, "media condition", ""},
		{"@medai (resolution >= 2x) { .a { width: 3px } }", 1, 1, "isn't known", "@media"},
		{"@import 'x.css';\n* { quality: 3 }", 1, 1, "isn't known", ""},
		{".a { width }", 1, 6, "isn't a declaration", ""},
		{".a { 3: 4 }", 1, 6, "isn't a declaration", ""},
		{".a { width: }", 1, 6, "no value", ""},
		{".a { width: 3px !important }", 1, 13, "importance", ""},
		{".a { .b { width: 3px } }", 1, 6, "a block stands inside a rule", ""},
		{".a, .b::after { width: 3px }", 1, 1, "either for pictures", ""},
		{".a", 1, 1, "no block", ""},
		{"/* never closed", 1, 1, "comment", ""},
		{".a::after { content: \"never closed\n }", 1, 22, "closed", ""},
		{strings.Repeat("x", MostBytes+1), 1, 1, "bytes", ""},
	} {
		_, err := Parse(c.text)
		ps, ok := err.(Problems)
		if !ok {
			t.Errorf("%q is taken", wording.Cut(c.text, 80))
			continue
		}
		p := ps[0]
		if p.Line != c.line || p.Column != c.column || !strings.Contains(p.String(), c.says) || p.Nearest != c.nearest {
			t.Errorf("%q: %v (nearest %q); want %d:%d with %q, nearest %q", wording.Cut(c.text, 80), p, p.Nearest, c.line, c.column, c.says, c.nearest)
		}
	}
}

const kites = `@keyframes drift { from { object-view-box: inset(0 20% 0 0) } 50%, 60% { opacity: .5; animation-timing-function: steps(2) } to { object-view-box: inset(0 0 0 20%); opacity: 1 } 50% { filter: sepia(1) } }
.slow { animation: drift 4s ease-in-out infinite alternate }
@media (prefers-reduced-motion: reduce) { .slow { animation: none } }
`

func TestKeyframes(t *testing.T) {
	s := parsed(t, kites)
	var got []string
	for _, k := range s.Keyframes("drift") {
		got = append(got, fmt.Sprintf("%g %s %s", k.At, k.Set.Plain(), k.Easing))
	}
	if want := "0 xywh=percent:0,0,80,100 |0.5 filter=sepia(1)  opacity=0.5 steps(2,jump-end)|0.6 opacity=0.5 steps(2,jump-end)|1 xywh=percent:20,0,80,100  opacity=1 "; !strings.EqualFold(strings.Join(got, "|"), want) {
		t.Errorf("%s\nwant\n%s", strings.Join(got, "|"), want)
	}
	slow := declare.Declarations{DeliveryValues: declare.DeliveryValues{Class: "slow"}}
	if d := s.Over(slow, Client{}); d.Animation != "drift 4s ease-in-out infinite alternate" {
		t.Errorf("%q", d.Animation)
	}
	if d := s.Over(slow, Client{Still: true}); d.Animation != declare.AnimationNone {
		t.Errorf("%q", d.Animation)
	}
	if _, motion := s.AsksFor("slow"); !motion {
		t.Error("an answer for .slow doesn't depend on the preference")
	}
	if _, motion := s.AsksFor("other"); motion {
		t.Error("an answer for another class depends on the preference")
	}
	for text, says := range map[string]string{
		".a { animation: dirft 3s } @keyframes drift { to { opacity: 0 } }": "did you mean drift",
		".a { animation: drift }":             "animation: drift is not allowed",
		".a { animation: drift 3s, sway 2s }": "not allowed",
		".a { animation: drift 3s infinite 1s } @keyframes drift { to { opacity: 0 } }": "not allowed",
		".a { animation: drift 3h }":                                                        "not allowed",
		".a { animation: drift 900s }":                                                      "not allowed",
		".a { animation: drift 3s } @keyframes drift { to { rotate: 9deg } }":               "@keyframes drift move nothing of a picture",
		".a::after { animation: drift 3s } @keyframes drift { to { filter: blur(2px) } }":   "@keyframes drift move nothing of a layer",
		".a::layer(b) { animation: dirft 3s } @keyframes drift { to { opacity: 0 } }":       "did you mean drift",
		".a::layer(b) { animation: drift 3s 4s 5s } @keyframes drift { to { opacity: 0 } }": "not allowed",
		"@keyframes drift { to { left: soon } }":                                            "not allowed",
		"@keyframes { to { opacity: 0 } }":                                                  "can't be the name",
		"@keyframes none { to { opacity: 0 } }":                                             "can't be the name",
		"@keyframes drift;":                                                                 "has no block",
		"@keyframes drift { }":                                                              "says nothing",
		"@keyframes drift { to { opacity: 0 }":                                              "isn't closed",
		"@keyframes drift { to { opacity: 0 ":                                               "isn't closed",
		"@keyframes drift { 120% { opacity: 0 } }":                                          "no time of a keyframe",
		"@keyframes drift { to }":                                                           "no block",
		"@keyframes drift { to { width: 3px } }":                                            "width isn't a property here",
		"@keyframes drift { to { opacity: 3px } }":                                          "not allowed",
		"@keyframes drift { to { object-position: subject } }":                              "not allowed",
		"@keyframes drift { to { xywh: faces } }":                                           "not allowed",
		"@keyframes drift { to { animation-timing-function: bounce } }":                     "not allowed",
	} {
		if _, err := Parse(text); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v; want %q", text, err, says)
		}
	}
	var many strings.Builder
	for i := range mostKeyframes + 1 {
		fmt.Fprintf(&many, "%g%% { opacity: .5 } ", float64(i)/2)
	}
	if _, err := Parse("@keyframes drift { " + many.String() + "}"); err == nil || !strings.Contains(err.Error(), "too many") {
		t.Errorf("%v", err)
	}
}

func TestAllProblemsAreFound(t *testing.T) {
	_, err := Parse("* { widht: 3px; quality: 500 }\n@page { }\n.a { heigth: 2px }\n.b { width: 3px }")
	if ps := err.(Problems); len(ps) != 4 || ps[0].Line != 1 || ps[2].Line != 2 || ps[3].Line != 3 {
		t.Errorf("%v", err)
	}
	many := strings.Repeat(".a { x: y }\n", 500)
	if _, err := Parse(many); len(err.(Problems)) != mostProblems {
		t.Errorf("%d problems", len(err.(Problems)))
	}
}

func TestTheLaterOfTwoDeclarationsHolds(t *testing.T) {
	s := parsed(t, ".a { quality: 50; QUALITY: 60 }\n.a { width: 100px }\n.a { width: 200px }")
	d := s.Over(declare.Declarations{DeliveryValues: declare.DeliveryValues{Class: "a"}}, Client{})
	if d.Quality != 60 || d.Width != 200 {
		t.Errorf("%s", d.AddressForm())
	}
}

func TestResolutionConditions(t *testing.T) {
	for _, c := range []struct {
		when  string
		holds []float64
		not   []float64
	}{
		{"(resolution >= 2x)", []float64{2, 3}, []float64{0, 1, 1.99}},
		{"(resolution > 2dppx)", []float64{2.5}, []float64{2, 1}},
		{"(resolution<=1.5x)", []float64{1, 1.5}, []float64{2}},
		{"(resolution: 2x)", []float64{2}, []float64{1, 3}},
		{"(min-resolution: 192dpi)", []float64{2, 3}, []float64{1}},
		{"(max-resolution: 1x)", []float64{0, 1}, []float64{2}},
		{"(resolution >= 2x) and (resolution < 3x)", []float64{2, 2.9}, []float64{1, 3}},
	} {
		s := parsed(t, "@media "+c.when+" { * { quality: 9 } }")
		for _, r := range c.holds {
			if s.Over(declare.Declarations{GeometryValues: declare.GeometryValues{Resolution: r}}, Client{}).Quality != 9 {
				t.Errorf("%s doesn't hold at %v", c.when, r)
			}
		}
		for _, r := range c.not {
			if s.Over(declare.Declarations{GeometryValues: declare.GeometryValues{Resolution: r}}, Client{}).Quality != 0 {
				t.Errorf("%s holds at %v", c.when, r)
			}
		}
	}
}

func TestTheUsualCascadeAllocatesNothing(t *testing.T) {
	s := parsed(t, ".tile { width: 320px }\n* { quality: 72 }\n@media (resolution >= 2x) { .tile { quality: 50 } }")
	for _, d := range []declare.Declarations{{}, {DeliveryValues: declare.DeliveryValues{Class: "tile"}}, {DeliveryValues: declare.DeliveryValues{Class: "a tile"}, GeometryValues: declare.GeometryValues{Resolution: 2}}} {
		if n := testing.AllocsPerRun(100, func() { s.Over(d, Client{}) }); n > 0 {
			t.Errorf("%v allocations for class %q", n, d.Class)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(kestrel)
	for _, s := range []string{"@media", "@media (", ".a{", "}", "*{}", ".a::after{content:\"", "/*", ".a{width:url(", "<!-- -->", ".a{b:{}}", "\\", "@media (resolution>=2x){@media (resolution<3x){*{quality:1}}}"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, text string) {
		s, err := Parse(text)
		if err != nil {
			for _, p := range err.(Problems) {
				if p.Line < 1 || p.Column < 1 || p.Line > strings.Count(text, "\n")+1 {
					t.Errorf("%q: a problem at %d:%d", text, p.Line, p.Column)
				}
			}
			return
		}
		for _, c := range s.Classes() {
			s.Over(declare.Declarations{DeliveryValues: declare.DeliveryValues{Class: c}}, Client{Saves: true})
		}
	})
}

// Layers cascade as pictures do, each by itself, and keep the order in which the sheet has them first.
func TestLayersCascade(t *testing.T) {
	s := parsed(t, `
.card::layer(shade) { inset: 0; background: linear-gradient(transparent, black) }
.card::layer(title) { content: "Kites"; font: bold 40px/1.1 Brand, sans-serif; left: 5%; bottom: 8% }
.card.wide::layer(title) { font-size: 64px }
*::after { content: url(catalogue/mark.png); width: 18%; right: 4%; bottom: 4% }
.plain::after { content: none }
.card::before { background-color: navy; inset: 0 }
@media (resolution >= 2x) { .card::layer(title) { letter-spacing: .02em } }
@font-face { font-family: Brand; src: url(brand/brand.woff2) format("woff2"), url(brand/brand.ttf); font-weight: 100 900 }
@font-face { font-family: Other; src: url(brand/other.ttf) }
`)
	names := func(query string) (list []string, boxes []declare.Box) {
		d, err := declare.Parse(query)
		if err != nil {
			t.Fatal(err)
		}
		boxes = s.Layers(&d, Client{})
		for _, b := range boxes {
			list = append(list, b.Name)
		}
		return list, boxes
	}
	for query, want := range map[string]string{"": "after", "class=card": "shade title after before", "class=plain": "after"} {
		if got, _ := names(query); strings.Join(got, " ") != want {
			t.Errorf("%q has %q, not %q", query, got, want)
		}
	}
	_, boxes := names("class=card+wide&resolution=2x")
	title := boxes[1].Type()
	if title.Size != 64 || title.Weight != 700 || title.LineHeight != 1.1 || !title.LetterSpacing.Ems || strings.Join(title.Families, ",") != "Brand,sans-serif" {
		t.Errorf("%+v", title)
	}
	if fonts := declare.FontsOf(boxes, s.Fonts()); len(fonts) != 1 || fonts[0] != (declare.FontFace{Family: "Brand", File: "brand/brand.woff2", MinWeight: 100, Weight: 900}) {
		t.Errorf("%+v", fonts)
	}
	r := declare.Resolved{Layers: boxes}
	under, over := r.Boxes()
	if len(under) != 1 || under[0].Name != "before" || len(over) != 3 || over[2].Name != "after" {
		t.Errorf("%d under, %d over", len(under), len(over))
	}
	if _, boxes := names("class=plain"); boxes[0].Shows() {
		t.Error("content: none shows")
	}
	one, two := declare.Resolved{Layers: boxes}, declare.Resolved{Layers: boxes}
	two.Scale(2)
	if one.String() == two.String() {
		t.Error("layers of twice the size are taken for the same")
	}
}
