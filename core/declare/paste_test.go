package declare

import (
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"
)

// pasted is a query of declarations as a stylesheet has them.
func pasted(css string) string {
	var parts []string
	for one := range strings.SplitSeq(css, ";") {
		if name, value, ok := strings.Cut(one, ":"); ok {
			parts = append(parts, strings.TrimSpace(name)+"="+url.QueryEscape(strings.TrimSpace(value)))
		}
	}
	return strings.Join(parts, "&")
}

func TestCSSIsTakenAsItStandsInAStylesheet(t *testing.T) {
	for css, want := range map[string]string{
		"width: auto; height: 20rem":                          "height=320",
		"width: 10em; height: auto":                           "width=160",
		"width: 72pt":                                         "width=96",
		"width: 2.54cm":                                       "width=96",
		"width: 25.4mm; height: 1in":                          "width=96&height=96",
		"width: 8pc; height: 101.6Q":                          "width=128&height=96",
		"width: calc(20rem + 2 * 10px)":                       "width=340",
		"width: min(480px, 20rem); height: max(10px, 1in)":    "width=320&height=96",
		"width: clamp(100px, 50rem, 40em)":                    "width=640",
		"aspect-ratio: auto":                                  "",
		"aspect-ratio: auto 16 / 9":                           "aspect-ratio=16/9",
		"aspect-ratio: 4 / 3 auto":                            "aspect-ratio=4/3",
		"resolution: 2dppx":                                   "resolution=2x",
		"resolution: 192dpi":                                  "resolution=2x",
		"resolution: 75.590551dpcm":                           "resolution=2x",
		"object-fit: initial":                                 "object-fit=fill",
		"width: initial; opacity: unset":                      "opacity=1",
		"border-radius: 50% / 30%":                            "border-radius=50%25%20/%2030%25",
		"border-radius: 1px 2px / 1px 2px":                    "border-radius=1px%202px",
		"border-radius: calc(10% + 4px)":                      "border-radius=calc(10%25%20%2B%204px)",
		"border-radius: calc(10% - 4px)":                      "border-radius=calc(10%25%20-%204px)",
		"border-top-left-radius: 8px":                         "border-radius=8px%200px%200px",
		"border-radius: 4px; border-bottom-right-radius: 50%": "border-radius=4px%204px%2050%25",
		"border-top-right-radius: 8px 2px":                    "border-radius=0px%208px%200px%200px%20/%200px%202px%200px%200px",
		"object-position: calc(50% - 10px) 2em":               "object-position=calc(50%25%20-%2010px)%2032px",
		"object-position: right 1rem bottom 25%":              "object-position=right%2016px%20top%2075",

		"transform: rotate(90deg)":                               "scale=1%201&rotate=90deg",
		"transform: scaleX(-1)":                                  "scale=-1%201&rotate=0deg",
		"transform: scale(1, -1)":                                "scale=1%20-1&rotate=0deg",
		"transform: scale(-1)":                                   "scale=1%201&rotate=180deg",
		"transform: rotate(0.25turn) scaleX(-1)":                 "scale=-1%201&rotate=90deg",
		"transform: scaleX(-1) rotate(90deg)":                    "scale=-1%201&rotate=270deg",
		"transform: none":                                        "scale=1%201&rotate=0deg",
		"scale: -1; rotate: none":                                "scale=-1%20-1&rotate=0deg",
		"scale: -100% 100%":                                      "scale=-1%201",
		"object-view-box: inset(10% 20%)":                        "xywh=percent:20,10,60,80",
		"object-view-box: inset(0 25% 0 25%)":                    "xywh=percent:25,0,50,100",
		"object-view-box: xywh(10px 20px 300px 200px)":           "xywh=10,20,300,200",
		"object-view-box: rect(20px 310px 220px 10px)":           "xywh=10,20,300,200",
		"object-view-box: inset(10px)":                           "xywh=10px,10px,calc(100%25%20-%2020px),calc(100%25%20-%2020px)",
		"object-view-box: rect(auto 50% auto 0)":                 "xywh=percent:0,0,50,100",
		"object-view-box: none":                                  "",
		"clip-path: circle()":                                    "clip-path=circle(closest-side%20at%2050%25%2050%25)",
		"clip-path: circle(40% at left 10px)":                    "clip-path=circle(40%25%20at%200px%2010px)",
		"clip-path: ellipse(farthest-side 20px at 3em)":          "clip-path=ellipse(farthest-side%2020px%20at%2048px%2050%25)",
		"clip-path: inset(1px 2px 1px 2px round 8px)":            "clip-path=inset(1px%202px%20round%208px)",
		"clip-path: rect(10px 90% 90% 10px)":                     "clip-path=inset(10px%2010%25%2010%25%2010px)",
		"clip-path: polygon(0 0, 100% 0, 50% calc(100% - 2rem))": "clip-path=polygon(0px%200px,%20100%25%200px,%2050%25%20calc(100%25%20-%2032px))",
		"clip-path: padding-box circle(10px)":                    "clip-path=circle(10px%20at%2050%25%2050%25)%20padding-box",
		"clip-path: none":                                        "clip-path=none",

		"border: 1px solid #ccc":                     "border=1px%20solid%20cccccc",
		"border: solid":                              "border=3px%20solid%20000000",
		"border: thick double teal":                  "border=5px%20double%20008080",
		"border: none":                               "border=none",
		"border: 0":                                  "border=0px%20none%20000000",
		"border-bottom: 4px dashed gold":             "border=none,%20none,%204px%20dashed%20ffd700,%20none",
		"border-width: 1px 2px; border-style: solid": "border=1px%20solid%20000000,%202px%20solid%20000000,%201px%20solid%20000000,%202px%20solid%20000000",
		"border: 2px solid red; border-color: teal":  "border=2px%20solid%20008080",
		"border: 2px solid red; border-left: none":   "border=2px%20solid%20ff0000,%202px%20solid%20ff0000,%202px%20solid%20ff0000,%20none",
		"padding: 1rem":                              "padding=16px",
		"padding: 4px 2%; padding-left: 10px":        "padding=4px%202%25%204px%2010px",
		"box-shadow: inset 0 0 10px rgba(0,0,0,.5)":  "box-shadow=inset%200px%200px%2010px%200px%2000000080",
		"box-shadow: none":                           "box-shadow=none",
		"mix-blend-mode: multiply":                   "mix-blend-mode=multiply",
		"background: #f4efe6":                        "background-color=f4efe6",
		"background: transparent":                    "background-color=00000000",
		"background: none":                           "",
		"background: url(catalogue/paper.png) center / cover no-repeat":           "background-color=00000000&background-image=url(catalogue/paper.png)&background-position=50%2050&background-size=cover&background-repeat=no-repeat",
		"background: gold url('catalogue/paper.png') repeat-x right 2em top/40px": "background-color=ffd700&background-image=url(catalogue/paper.png)&background-position=right%2032px%20top%200&background-size=40px&background-repeat=repeat-x",
		"background-size: 50% auto; background-repeat: space round":               "background-size=50%25&background-repeat=space%20round",
		"background-position: center":                                             "background-position=50%2050",
		"filter: blur(0.5rem) drop-shadow(0 2px 1em #0008)":                       "filter=blur(8px)%20drop-shadow(0px%202px%2016px%2000000088)",
	} {
		d, err := Parse(pasted(css))
		if err != nil {
			t.Errorf("%s: %v", css, err)
			continue
		}
		got := d.AddressForm()
		if strings.HasPrefix(css, "background: url") { // what isn't said of a ground is as initially
			got = "background-color=00000000&" + strings.TrimPrefix(got, "background-color=00000000&")
		}
		if got != want {
			t.Errorf("%s\nbecomes %s\n   want %s", css, got, want)
		}
		if again, err := Parse(d.AddressForm()); err != nil || again != d {
			t.Errorf("%s: %s reads back as %s, %v", css, d.AddressForm(), again.AddressForm(), err)
		}
		if semicolons, err := Parse(strings.ReplaceAll(pasted(css)+"&", "&", "%3B&")); err != nil || semicolons != d {
			t.Errorf("%s with semicolons behind each: %s, %v", css, semicolons.AddressForm(), err)
		}
	}
}

func TestWhatAURLCantKnowSaysWhereItBelongs(t *testing.T) {
	for css, want := range map[string]string{
		"width: 50vw":                          "echolane markup SITE/LANE/PATH --slot 'width: 50vw'",
		"width: 100%":                          "echolane markup SITE/LANE/PATH --slot 'width: 100%'",
		"max-width: 100%":                      "echolane markup SITE/LANE/PATH --slot",
		"display: block":                       "the slot's",
		"margin: 0 auto":                       "the slot's",
		"width: var(--w)":                      "write the value itself",
		"width: 300px !important":              "leave !important out",
		"object-fit: inherit":                  "write the value itself",
		"background-color: currentColor":       "write the colour itself",
		"width: max-content":                   "leave it out",
		"width: 40ch":                          "px or rem",
		"background: image-set(url(a.png) 1x)": "url(lane/path)",
		"background-image: url(/img/a.png)":    "url(lane/path)",
		"box-shadow: 0 2px 4px #000":           "begins with inset",
		"border: 4px groove gold":              "solid, dashed, dotted and double",
		"transform: translate(10px)":           "turns and mirrorings",
		"scale: 1.5":                           "turns and mirrorings",
		"clip-path: path('M0 0')":              "polygon() are read",
		"border-radius: max(10px, 5%)":         "px + percent",
		"mask: url(a.svg)":                     "clip-path",
		"blur: 4px":                            "write filter",
		"transition: opacity .2s":              "the page's",
		"cursor: pointer":                      "the page's",
		"outline: 2px solid":                   "border draws inside",
		"image-rendering: crisp-edges":         "pixelated",
		"--gap: 3px":                           "custom property",
		"crop: 1":                              "xywh",
		"flip: h":                              "scale=-1 1",
	} {
		_, err := Parse(pasted(css))
		ps, _ := err.(Problems)
		if len(ps) != 1 || !strings.Contains(ps[0].Remedy, want) {
			t.Errorf("%s: %+v, want a remedy with %q", css, ps, want)
		}
	}
	for given, want := range map[string]string{
		"mask": "", "background-colour": "background-color", "bakground": "background", "-webkit-filter": "filter", "-webkit-clip-path": "clip-path", "heigth": "height", "after-colour": "after-color", "befor-content": "before-content", "afer-width": "after-width", "border-raduis": "border-radius",
		"fitt": "", "as-of": "", "afterglow": "", "grain": "",
	} {
		_, err := Parse(given + "=1")
		if ps, _ := err.(Problems); len(ps) != 1 || ps[0].Nearest != want {
			t.Errorf("%s: %+v, want the nearest to be %q", given, ps, want)
		}
	}
}

// A list of turns and mirrorings is the mirroring and the turn that it becomes, for every point.
func TestATransformBecomesOneMirroringAndOneTurn(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	apply := func(d Declarations, x, y float64) (float64, float64) {
		if d.Mirror.X {
			x = -x
		}
		if d.Mirror.Y {
			y = -y
		}
		for range int(d.Turn.Degrees / 90) {
			x, y = -y, x
		}
		return x, y
	}
	for range 2000 {
		var list []string
		for range 1 + r.IntN(6) {
			list = append(list, []string{"rotate(90deg)", "rotate(180deg)", "rotate(-90deg)", "scale(-1, 1)", "scaleY(-1)", "scale(-1)"}[r.IntN(6)])
		}
		whole, err := Parse("transform=" + url.QueryEscape(strings.Join(list, " ")))
		if err != nil {
			t.Fatal(err)
		}
		x, y := 3.0, 5.0
		for i := len(list) - 1; i >= 0; i-- {
			one, err := Parse("transform=" + url.QueryEscape(list[i]))
			if err != nil {
				t.Fatal(err)
			}
			x, y = apply(one, x, y)
		}
		if gx, gy := apply(whole, 3, 5); gx != x || gy != y {
			t.Fatalf("%v takes (3, 5) to (%g, %g), and becomes %s, which takes it to (%g, %g)", list, x, y, whole.AddressForm(), gx, gy)
		}
	}
}

func TestResolvingScalesWhatFramesAndClips(t *testing.T) {
	d, err := Parse(pasted("width: 100px; resolution: 2x; object-fit: cover; border: 3px dashed gold; padding: 4px 5%; clip-path: polygon(0 0, 100% 10px, 50% calc(100% - 4px)); box-shadow: inset 1px 2px 3px 4px red; background: url(a/b) 10px 20% / 30px auto"))
	if err != nil {
		t.Fatal(err)
	}
	got := d.Resolve(Declarations{}, []Format{WebP}).String()
	for _, want := range []string{"border=6px%20dashed%20ffd700", "padding=8px%205%25", "clip-path=polygon(0px%200px,%20100%25%2020px,%2050%25%20calc(100%25%20-%208px))", "box-shadow=inset%202px%204px%206px%208px%20ff0000", "background-position=20px%2020", "background-size=60px&"} {
		if !strings.Contains(got, want) {
			t.Errorf("%s\nlacks %s", got, want)
		}
	}
	bare, _ := Parse(pasted("border: 0; background-size: cover; mix-blend-mode: multiply; border-radius: 0"))
	if got := bare.Resolve(Declarations{}, []Format{WebP}).String(); got != "format=webp" {
		t.Errorf("what shows nothing is a variant of its own: %s", got)
	}
}
