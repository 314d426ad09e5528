package conformance

import (
	"fmt"
	"image"
	"math"
	"math/rand/v2"
	"net/url"
	"strings"
)

// Kind says which measure tells right from wrong.
type Kind string

const (
	Fit      Kind = "fit"      // size and gross place, at device scale 1
	Kernel   Kind = "kernel"   // resampling, at device scale 4
	Same     Kind = "same"     // identical
	Pixels   Kind = "pixels"   // identical but for pixels that lie on an edge of the source's
	Colour   Kind = "colour"   // filters that look at one pixel
	Soft     Kind = "blur"     // blur
	Corner   Kind = "corner"   // border-radius
	Turned   Kind = "turned"   // any angle, and mirrors and right angles at other sizes
	Blended  Kind = "blended"  // a layer on top, in a mode
	Composed Kind = "composed" // grounds, opacity, shadows
	Framed   Kind = "framed"   // borders, padding, shapes, inner shadows, tiled grounds
)

// Case is one set of declarations on one source, and the CSS that says the same.
type Case struct {
	Kind   Kind
	Source Source
	Query  string // without encoding
	Style  string
	Before Before
	Ground Source // of the same site, where the declarations name lane/ and its name; the browser's url() is its name
	Margin int    // left out of the comparison on every side
}

// Name says which case it is.
func (c Case) Name() string { return fmt.Sprintf("%s %s?%s", c.Kind, c.Source.Name, c.Query) }

// Result is what the judge saw.
type Result struct {
	Case
	Ours, Theirs *image.RGBA
	Figures      Figures
	Place        Place
	Alpha        int
	Failures     []string
	Headroom     float64 // how far the case is from failing, in parts of its threshold
}

// encoded is the query as it goes into a URL.
func encoded(query string) string {
	var parts []string
	for p := range strings.SplitSeq(query, "&") {
		if p == "" {
			continue
		}
		name, value, _ := strings.Cut(p, "=")
		parts = append(parts, name+"="+url.QueryEscape(value))
	}
	return strings.Join(parts, "&")
}

// Run puts a case to the judge. ours, where it isn't nil, stands in for what the core makes.
func (j *Judge) Run(c Case, ours *image.RGBA) (Result, error) {
	r := Result{Case: c, Ours: ours}
	var err error
	if ours == nil {
		var layers []Source
		if c.Before.Layer != nil {
			layers = append(layers, c.Before.Layer.Source)
		}
		if c.Ground.Name != "" {
			layers = append(layers, c.Ground)
		}
		if r.Ours, err = Ours(c.Source.Data, encoded(c.Query), layers...); err != nil {
			return r, fmt.Errorf("%s: %w", c.Name(), err)
		}
	}
	scale := 1.0
	if c.Kind == Kernel {
		scale = 4
	}
	if r.Theirs, err = j.Painted(c.Source.Name, c.Style, c.Before, scale); err != nil {
		return r, fmt.Errorf("%s: %w", c.Name(), err)
	}
	if c.Kind == Kernel {
		r.Theirs = Reduce4(r.Theirs)
	}
	r.judge()
	return r, nil
}

// judge holds the figures to the thresholds that were measured to tell right from wrong.
func (r *Result) judge() {
	r.Figures = Compare(r.Ours, r.Theirs, r.Margin)
	r.Headroom = math.Inf(1)
	least := func(what string, got, bound float64) {
		if !(got >= bound) {
			r.Failures = append(r.Failures, fmt.Sprintf("%s %.2f, at least %.2f", what, got, bound))
		}
		r.Headroom = math.Min(r.Headroom, got/bound-1)
	}
	most := func(what string, got, bound float64) {
		if !(got <= bound) {
			r.Failures = append(r.Failures, fmt.Sprintf("%s %.2f, at most %.2f", what, got, bound))
		}
		r.Headroom = math.Min(r.Headroom, 1-got/bound)
	}
	f := r.Figures
	if !f.Size {
		r.Failures = append(r.Failures, fmt.Sprintf("size %v, and the browser's box is %v", r.Ours.Rect.Size(), r.Theirs.Rect.Size()))
		r.Headroom = -1
		return
	}
	switch r.Kind {
	case Fit:
		// A sharp kernel shows more of a detailed picture, and of one that is reduced a lot, than the browser's.
		reduced := math.Max(float64(r.Source.W)/float64(r.Ours.Rect.Dx()), float64(r.Source.H)/float64(r.Ours.Rect.Dy()))
		bound := 35.0
		switch {
		case r.Ground.Name != "": // whose tiles are small
			bound = 30
		case reduced > 4: // 30 in all but one of some thousand cases, which had 29.98
			bound = 29.5
		case r.Source.Detailed:
			bound = 32
		}
		least("PSNR", f.PSNR, bound)
		if r.Source.Detailed && reduced <= 4 && Locatable(r.Ours) {
			r.Place = Locate(r.Ours, r.Theirs, r.Margin)
			most("shift", r.Place.Shift(), 0.10)
			most("stretch", r.Place.Stretch(), 0.12)
		}
	case Kernel:
		if r.Source.Alpha {
			most("p99.9", f.P999, 20)
			least("PSNR", f.PSNR, 42)
		} else {
			most("p99.9", f.P999, 8)
			least("PSNR", f.PSNR, 45)
		}
	case Same:
		bound := 0.5
		if r.Source.Alpha {
			bound = 1 // PNG has straight alpha, and going there and back rounds
		}
		most("largest difference", float64(f.Max), bound)
	case Pixels:
		// A pixel whose middle lies on an edge may be either neighbour's, which shows only where they differ.
		least("PSNR", f.PSNR, 60)
	case Colour:
		bound := 2.0
		if r.Source.Alpha {
			bound = 4
		}
		most("largest difference", float64(f.Max), bound)
		least("PSNR", f.PSNR, 50)
	case Soft:
		most("largest difference", float64(f.Max), 12)
		least("PSNR", f.PSNR, 47)
	case Corner:
		r.Alpha = AlphaMax(r.Ours, r.Theirs)
		most("difference of alpha", float64(r.Alpha), 100)
	case Turned:
		least("PSNR", f.PSNR, 32)
	case Blended:
		most("p99.9", f.P999, 4)
		least("PSNR", f.PSNR, 48)
	case Framed:
		// Edges of shapes lie on pixels, which everybody covers a little otherwise.
		r.Alpha = AlphaMax(r.Ours, r.Theirs)
		most("difference of alpha", float64(r.Alpha), 100)
		least("PSNR", f.PSNR, 36)
	case Composed:
		most("largest difference", float64(f.Max), 12)
		least("PSNR", f.PSNR, 45)
	}
}

func find(sources []Source, name string) Source {
	for _, s := range sources {
		if s.Name == name {
			return s
		}
	}
	panic("no source " + name)
}

// style is the CSS of geometry declarations.
func style(w, h float64, aspect, fit, position string) string {
	var b strings.Builder
	if w != 0 {
		fmt.Fprintf(&b, "width:%gpx;", w)
	}
	if h != 0 {
		fmt.Fprintf(&b, "height:%gpx;", h)
	}
	if aspect != "" {
		fmt.Fprintf(&b, "aspect-ratio:%s;", aspect)
	}
	if fit != "" {
		fmt.Fprintf(&b, "object-fit:%s;", fit)
	}
	if position != "" {
		fmt.Fprintf(&b, "object-position:%s;", position)
	}
	return b.String()
}

func query(w, h float64, aspect, fit, position string) string {
	var parts []string
	add := func(name, value string) { parts = append(parts, name+"="+value) }
	if w != 0 {
		add("width", fmt.Sprint(w))
	}
	if h != 0 {
		add("height", fmt.Sprint(h))
	}
	if aspect != "" {
		add("aspect-ratio", aspect)
	}
	if fit != "" {
		add("object-fit", fit)
	}
	if position != "" {
		add("object-position", position)
	}
	return strings.Join(parts, "&")
}

// Fixed are the cases that every run has.
func Fixed(sources []Source) []Case {
	var cs []Case
	for _, s := range sources {
		margin := 0
		for _, g := range []struct {
			w, h     float64
			aspect   string
			fit, pos string
		}{
			{240, 0, "", "", ""},
			{0, 180, "", "", ""},
			{201, 133, "", "fill", ""},
			{200, 200, "", "cover", ""},
			{180, 0, "3/2", "cover", "left top"},
			{151, 240, "", "cover", "75% 20%"},
			{150, 150, "", "cover", "right 10% bottom 30%"},
			{160, 90, "", "cover", "bottom right"},
		} {
			cs = append(cs, Case{Kind: Fit, Source: s, Query: query(g.w, g.h, g.aspect, g.fit, g.pos), Style: style(g.w, g.h, g.aspect, g.fit, g.pos), Margin: margin})
		}
		if !s.JPEG {
			cs = append(cs, Case{Kind: Same, Source: s, Style: ""})
			cs = append(cs, Case{Kind: Same, Source: s, Query: "width=200&height=150&object-fit=none&object-position=30% 60%", Style: "width:200px;height:150px;object-fit:none;object-position:30% 60%"})
			cs = append(cs, Case{Kind: Same, Source: s, Query: "xywh=20,30,150,110", Before: Before{Cut: []float64{20, 30, 150, 110}}})
			for _, turn := range []float64{90, 180, 270} {
				cs = append(cs, Case{Kind: Same, Source: s, Query: fmt.Sprintf("rotate=%gdeg&scale=-1 1", turn), Before: Before{Turn: turn, Mirror: []float64{-1, 1}}})
			}
		}
		// Reductions of two and a half and more, seen at four times the resolution.
		if s.Name != "panorama.jpg" {
			w := math.Floor(float64(s.W) / 3.3)
			cs = append(cs, Case{Kind: Kernel, Source: s, Query: query(w, 0, "", "", ""), Style: style(w, math.Round(w*float64(s.H)/float64(s.W)), "", "fill", ""), Margin: 2})
		}
	}
	photo, alpha, crowd := find(sources, "photo.png"), find(sources, "alpha.png"), find(sources, "crowd.png")
	cut := "xywh=0,0,300,220"
	before := Before{Cut: []float64{0, 0, 300, 220}}
	for _, s := range []Source{photo, crowd, alpha} {
		for _, f := range []string{
			"grayscale(1)", "grayscale(.4)", "sepia(1)", "sepia(60%)", "saturate(0)", "saturate(2.5)", "hue-rotate(90deg)", "hue-rotate(-0.4turn)", "invert(1)", "invert(.3)",
			"brightness(1.4)", "brightness(.5)", "contrast(1.6)", "contrast(.4)", "opacity(.4)", "sepia(.7) hue-rotate(200deg) saturate(1.8) contrast(1.2)",
		} {
			cs = append(cs, Case{Kind: Colour, Source: s, Query: cut + "&filter=" + f, Style: "filter:" + f, Before: before})
		}
	}
	for _, sigma := range []float64{2, 5, 20} {
		// The edges are a departure: ours are extended, a browser's fade.
		f := fmt.Sprintf("blur(%gpx)", sigma)
		cs = append(cs, Case{Kind: Soft, Source: photo, Query: "filter=" + f, Style: "filter:" + f, Margin: int(3*sigma) + 4},
			Case{Kind: Soft, Source: alpha, Query: "filter=" + f, Style: "filter:" + f, Margin: int(3*sigma) + 4})
	}
	for _, r := range []string{"12px", "40px 10px", "50%", "10% 30px 60px", "0 0 80px 5px", "400px"} {
		cs = append(cs, Case{Kind: Corner, Source: photo, Query: cut + "&border-radius=" + r, Style: "border-radius:" + r, Before: before})
	}
	for _, c := range []struct{ query, style string }{
		{"opacity=.6", "opacity:.6"},
		{"background-color=gold", "background-color:gold"},
		{"background-color=rgb(10 120 110 / 0.5)", "background-color:rgb(10 120 110 / 0.5)"},
		{"background-color=oklch(70% 0.1 185)", "background-color:oklch(70% 0.1 185)"},
		{"background-color=hwb(200 20% 10% / .8)&opacity=.5", "background-color:hwb(200 20% 10% / .8);opacity:.5"},
		{"width=300&height=220&object-fit=contain&background-color=tomato", "width:300px;height:220px;object-fit:contain;background-color:tomato"},
		{"width=120&height=220&object-fit=contain&background-color=hsl(120 40% 40%)&object-position=20% 80%", "width:120px;height:220px;object-fit:contain;background-color:hsl(120 40% 40%);object-position:20% 80%"},
	} {
		kind := Composed
		if strings.Contains(c.query, "width") {
			kind = Fit // scaled, so the kernels differ
		}
		cs = append(cs, Case{Kind: kind, Source: alpha, Query: "xywh=90,60,300,300&" + c.query, Style: c.style, Before: Before{Cut: []float64{90, 60, 300, 300}}})
	}
	for _, mode := range []string{
		"normal", "multiply", "screen", "overlay", "darken", "lighten", "color-dodge", "color-burn", "hard-light", "soft-light", "difference", "exclusion",
		"hue", "saturation", "color", "luminosity",
	} {
		for _, below := range []Source{photo, alpha} {
			cs = append(cs, Case{Kind: Blended, Source: below, Query: "after-content=url(lane/alpha.png)&after-inset=40px auto auto 60px&after-opacity=.8&after-mix-blend-mode=" + mode,
				Before: Before{Layer: &Layer{Source: alpha, X: 60, Y: 40, Alpha: 0.8, Mode: mode}}})
		}
	}
	turned := find(sources, "turned.jpg")
	for _, g := range []struct {
		w, h     float64
		fit, pos string
	}{{240, 0, "", ""}, {0, 200, "", ""}, {150, 200, "cover", "30% 70%"}} {
		cs = append(cs, Case{Kind: Fit, Source: turned, Query: "image-orientation=none&" + query(g.w, g.h, "", g.fit, g.pos), Style: style(g.w, g.h, "", g.fit, g.pos) + "image-orientation:none"})
	}
	for _, s := range []Source{photo, alpha, crowd} {
		for _, g := range []struct {
			w, h     float64
			fit, pos string
		}{{240, 0, "", ""}, {201, 133, "fill", ""}, {150, 200, "cover", "30% 70%"}, {301, 90, "cover", "left top"}} {
			cs = append(cs, Case{Kind: Pixels, Source: s, Query: query(g.w, g.h, "", g.fit, g.pos) + "&image-rendering=pixelated", Style: style(g.w, g.h, "", g.fit, g.pos) + "image-rendering:pixelated"})
		}
		cs = append(cs, Case{Kind: Pixels, Source: s, Query: "xywh=100,80,40,30&width=320&grow=yes&image-rendering=pixelated", Style: "width:320px;image-rendering:pixelated", Before: Before{Cut: []float64{100, 80, 40, 30}}},
			Case{Kind: Pixels, Source: s, Query: "xywh=100,80,37,23&scale=-1 1&rotate=90deg&width=210&grow=yes&image-rendering=pixelated", Style: "width:210px;image-rendering:pixelated", Before: Before{Cut: []float64{100, 80, 37, 23}, Mirror: []float64{-1, 1}, Turn: 90}})
	}
	cs = append(cs, framed(sources)...)
	for _, turn := range []float64{7, 45, -12.5, 100} {
		before := Before{Cut: []float64{0, 0, 300, 220}, Turn: math.Mod(turn+360, 360)}
		cs = append(cs, Case{Kind: Turned, Source: photo, Query: fmt.Sprintf("%s&rotate=%gdeg", cut, turn), Before: before, Margin: 1})
	}
	for _, res := range []float64{1.5, 2} { // snapped in device pixels, which zoom does as a real screen would
		cs = append(cs, Case{Kind: Fit, Source: crowd, Query: query(151, 103, "", "cover", "30% 70%") + fmt.Sprintf("&resolution=%gx", res), Style: style(151, 103, "", "cover", "30% 70%"), Before: Before{Zoom: res}})
	}
	return cs
}

// framed are what stands in stylesheets around an image, and the shapes that clip it. Two things of borders, which CSS leaves
// open, aren't judged: where dots of 3 pixels and less begin, and how long the browser takes a rounded corner's middle line to be.
func framed(sources []Source) (cs []Case) {
	photo, alpha, square := find(sources, "photo.png"), find(sources, "alpha.png"), find(sources, "square.png")
	cut, before := "xywh=0,0,300,220", Before{Cut: []float64{0, 0, 300, 220}}
	for _, css := range []string{
		"border: 12px solid gold", "border: 1px solid #000", "border: 5.7px solid rgb(10 120 110 / .5)", "border-top: 20px solid navy; border-bottom: 8px solid gold",
		"border: solid; border-width: 10px 20px 30px 4px; border-color: teal gold navy crimson", "border: 9px double #222", "border: 15px double teal", "border: 4px double teal", "border: 2px double teal",
		"border: 12px solid gold; border-radius: 40px", "border: 12px solid gold; border-radius: 8px", "border: 20px solid gold; border-radius: 60px 20px / 30px 90px", "border: 12px double teal; border-radius: 50%",
		"border-width: 10px 24px; border-style: solid; border-color: teal gold; border-radius: 36px",
		"border: 4px dashed navy", "border: 10px dashed navy", "border: 2px dashed navy", "border: 10px dotted navy", "border-left: 8px dashed crimson",
		"padding: 16px; background-color: gold", "padding: 10px 14px 20px 7px; background-color: gold; border: 3px solid navy", "padding: 12px; border-radius: 30px; background-color: teal", "padding: 14px; border: 6px solid #333; border-radius: 24px; background-color: #fff",
		"border-radius: 50% / 30%", "border-radius: 10px 40px / 60px 20px 5px", "border-top-left-radius: 60px 30px; border-bottom-right-radius: 25%",
		"clip-path: circle()", "clip-path: circle(40% at 30% 60%)", "clip-path: circle(closest-side at 80px 60px)", "clip-path: circle(farthest-side at 80px 60px)", "clip-path: ellipse()", "clip-path: ellipse(120px 30% at right 40% bottom 30%)",
		"clip-path: inset(10px 20px 30px 5%)", "clip-path: inset(10% round 30px)", "clip-path: inset(20px 10px round 40px / 20px 60px)", "clip-path: polygon(50% 0, 100% 38%, 82% 100%, 18% 100%, 0 38%)",
		"clip-path: polygon(evenodd, 50% 0, 80% 100%, 0 35%, 100% 35%, 20% 100%)", "clip-path: polygon(50% 0, 80% 100%, 0 35%, 100% 35%, 20% 100%)", "clip-path: polygon(0 0, calc(100% - 40px) 0, 100% 40px, 100% 100%, 0 100%)",
		"clip-path: rect(10px 250px 200px 20px round 16px)", "clip-path: xywh(10% 20% 60% 70% round 12px)", "border: 20px solid gold; clip-path: circle(45%) padding-box",
		"mask-image: linear-gradient(black, transparent)", "mask-image: linear-gradient(45deg, #000 30%, transparent 70%)", "mask-image: linear-gradient(to top right, transparent, #000)", "mask-image: linear-gradient(to left, #000 40px, rgb(0 0 0 / .3) 60%, transparent)",
		"mask-image: radial-gradient(black, transparent)", "mask-image: radial-gradient(circle, #000 50%, transparent 80%)", "mask-image: radial-gradient(closest-side, #000, transparent)", "mask-image: radial-gradient(circle at 30% 40px, #000 60px, transparent 140px)",
		"mask-image: radial-gradient(120px 60px at right 40% bottom 30%, #000 70%, transparent)", "mask-image: radial-gradient(farthest-side at 20% 30%, #000, transparent, #000)", "mask-image: linear-gradient(90deg, white, black, gold); mask-mode: luminance",
		"mask-image: radial-gradient(circle closest-corner at 40% 40%, #000 80%, transparent); border-radius: 30px", "mask-image: linear-gradient(#000 60%, transparent 60%)",
		"mask-image: conic-gradient(#000, transparent)", "mask-image: repeating-radial-gradient(circle, #000 0 30px, transparent 60px)",
		"padding: 24px; box-shadow: inset 0 0 20px #000", "padding: 24px; box-shadow: inset 8px 12px 10px 4px rgb(0 0 60 / .7); background-color: ivory", "padding: 30px; border: 4px solid gold; border-radius: 40px; box-shadow: inset 0 0 12px 6px teal",
		"padding: 20px; box-shadow: inset 0 0 0 6px teal, inset 0 0 0 12px gold", "padding: 60px; box-shadow: inset 10px 20px 120px 20px rgb(0 60 60 / .8); background-color: ivory",
	} {
		cs = append(cs, Case{Kind: Framed, Source: photo, Query: cut + asQuery(css), Style: css, Before: before})
	}
	for _, css := range []string{"width: 240px; border: 12px solid gold; padding: 15px", "width: 240px; height: 200px; object-fit: cover; padding: 20px; border: 7px dashed navy", "height: 160px; padding: 8px 20px; background-color: teal",
		"width: 220px; aspect-ratio: 1; object-fit: contain; border: 10px solid gold; background-color: ivory", "width: 210px; aspect-ratio: 16 / 9; object-fit: cover; object-position: 10px top; border-bottom: 14px solid crimson"} {
		cs = append(cs, Case{Kind: Fit, Source: photo, Query: asQuery(css), Style: "box-sizing: border-box;" + css})
	}
	for _, css := range []string{
		"mask-image: url(G)", "mask-image: url(G); mask-size: 120px; mask-repeat: no-repeat; mask-position: center", "mask-image: url(G); mask-size: contain; mask-position: right bottom; mask-repeat: no-repeat", "mask-image: url(G); mask-size: 50px; mask-mode: luminance",
		"mask-image: url(G); mask-size: cover; border: 10px solid gold", "mask-image: url(G); mask-size: 25% auto; mask-repeat: round",
	} {
		cs = append(cs, Case{Kind: Fit, Source: photo, Ground: alpha, Query: cut + asQuery(strings.Replace(css, "url(G)", "url(lane/alpha.png)", 1)), Style: strings.Replace(css, "url(G)", "url(/alpha.png)", 1), Before: before})
	}
	for _, css := range []string{
		"background-image: url(G); background-size: 60px; background-repeat: repeat", "background-image: url(G); background-size: 80px 40px; background-position: 10px 20px; background-repeat: repeat", "background-image: url(G); background-size: 25% auto; background-repeat: space",
		"background-image: url(G); background-size: 70px; background-repeat: round", "background-image: url(G); background-size: contain; background-repeat: no-repeat; background-position: right bottom", "background: gold url(G) center / 100px no-repeat",
		"background: url(G) right 12px bottom 8px / 80px auto repeat-x teal", "background-image: url(G); background-size: 90px; background-repeat: repeat-y; background-position: center",
	} {
		for _, frame := range []string{"", "; padding: 30px; border: 10px solid rgb(0 0 0 / .4)"} {
			css := css + frame
			cs = append(cs, Case{Kind: Fit, Source: alpha, Ground: photo, Query: asQuery(strings.Replace(css, "url(G)", "url(lane/photo.png)", 1)), Style: strings.Replace(css, "url(G)", "url(/photo.png)", 1)})
		}
	}
	for _, gradient := range []string{
		"linear-gradient(gold, teal)", "linear-gradient(45deg, #123 10%, gold, rgb(200 30 60 / .4) 80%)", "linear-gradient(to bottom left, crimson, 30%, navy)", "linear-gradient(90deg, teal 40px, gold 40px 120px, #fff0 calc(100% - 30px))",
		"radial-gradient(gold, teal)", "radial-gradient(circle at 20% 30%, #fff, navy 70%)", "radial-gradient(closest-side at 60% 40%, gold, transparent)", "radial-gradient(80px 50px at right 30px top 60px, crimson 20%, gold)",
		"conic-gradient(crimson, gold, teal, crimson)", "conic-gradient(from 40deg at 30% 60%, navy 0 25%, gold 90deg 180deg, teal)", "repeating-linear-gradient(60deg, teal 0 20px, gold 50px)", "repeating-radial-gradient(circle at 50% 50%, navy 0 10px, gold 24px)",
		"repeating-conic-gradient(from 10deg, #222 0 15deg, #eee 40deg)",
	} {
		for _, more := range []string{"", "; background-size: 60px 40px; background-repeat: repeat; border: 8px solid rgb(0 0 0 / .4); padding: 20px", "; background-size: 40% auto; background-repeat: no-repeat; background-position: right bottom; background-color: ivory"} {
			css := "background-image: " + gradient + more
			cs = append(cs, Case{Kind: Fit, Source: alpha, Query: asQuery(css), Style: css})
		}
	}
	cs = append(cs, Case{Kind: Fit, Source: alpha, Query: asQuery("background: linear-gradient(#fff, #888) center / 70% 70% no-repeat teal; width: 230px"), Style: "background: linear-gradient(#fff, #888) center / 70% 70% no-repeat teal; width: 230px"})
	for _, mode := range []string{"multiply", "screen", "overlay", "luminosity", "difference", "color-dodge"} {
		// Of the picture over its ground: the same as of a ground's picture over its colour.
		cs = append(cs, Case{Kind: Blended, Source: photo, Query: "background-color=#c84&mix-blend-mode=" + mode,
			Style: "object-position:9999px 0;object-fit:none;background:url(/photo.png) #c84;background-blend-mode:" + mode})
	}
	for _, box := range []string{"inset(10% 20%)", "inset(64px 96px 128px 48px)", "xywh(96px 64px 480px 320px)", "rect(64px 672px 384px 192px)", "xywh(10% 5% 480px 50%)"} {
		cs = append(cs, Case{Kind: Same, Source: photo, Query: "object-view-box=" + box, Style: "object-view-box:" + box})
	}
	for _, transform := range []string{"rotate(90deg)", "scaleX(-1)", "rotate(90deg) scaleX(-1)", "scaleX(-1) rotate(90deg)", "scale(-1, 1) rotateZ(-0.25turn) scaleY(-1)", "scale(-1)", "rotate(270deg) scale(1, -1) rotate(180deg)"} {
		cs = append(cs, Case{Kind: Same, Source: square, Query: "transform=" + transform, Style: "transform:" + transform})
	}
	return cs
}

// asQuery is a rule's declarations as a query has them, after a & of its own.
func asQuery(css string) string {
	var b strings.Builder
	for one := range strings.SplitSeq(css, ";") {
		if name, value, ok := strings.Cut(one, ":"); ok {
			b.WriteString("&" + strings.TrimSpace(name) + "=" + strings.TrimSpace(value))
		}
	}
	return b.String()
}

// Random draws n cases of geometry: sources, slots, fits and positions.
func Random(sources []Source, r *rand.Rand, n int) []Case {
	var cs []Case
	for len(cs) < n {
		s := sources[r.IntN(len(sources))]
		w, h := float64(40+r.IntN(260)), float64(40+r.IntN(260))
		if r.IntN(3) == 0 {
			w += float64(r.IntN(4)) / 4
		}
		fit := []string{"cover", "cover", "fill"}[r.IntN(3)]
		pos := ""
		if fit == "cover" {
			switch r.IntN(4) {
			case 0:
				pos = fmt.Sprintf("%d%% %d%%", r.IntN(101), r.IntN(101))
			case 1:
				pos = []string{"left", "right top", "bottom", "center 25%"}[r.IntN(4)]
			}
		}
		across, down := float64(s.W)/w, float64(s.H)/h
		if across < 1 || down < 1 {
			continue // slots that shrink are zoomed, which has cases of its own
		}
		if lean := across / down; fit == "fill" && (lean > 1.5 || lean < 1/1.5) || math.Min(across, down) > 6 {
			continue // the browser halves both sides alike, and is too soft on one of them to judge by
		}
		cs = append(cs, Case{Kind: Fit, Source: s, Query: query(w, h, "", fit, pos), Style: style(w, h, "", fit, pos)})
	}
	return cs
}
