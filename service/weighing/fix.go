package weighing

import (
	"context"
	"fmt"
	"math"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/net/html/charset"

	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/core/weighin"
	"echolane/core/wording"
)

// Fixed is a rewritten page.
type Fixed struct {
	HTML    []byte    `json:"html"` // in JSON base64: no byte of it changes on the way
	Changed int       `json:"changed"`
	Left    []LeftOut `json:"left"` // images that stay as they were
}

// LeftOut is an image that wasn't touched, and why.
type LeftOut struct {
	Src string `json:"src"`
	Why string `json:"why"`
}

// place is an <img> of the page, over all screens.
type place struct {
	key      string
	nth      int
	picture  *weighin.Picture // on the narrowest screen that it is seen on
	above    bool
	first    bool
	sized    bool
	sizing   string
	inlined  bool
	source   string
	refused  string
	cover    bool
	position string
	shapes   [2]float64 // the least and the most of its width by its height
	loaded   []string   // what the browser took for it, on all screens
}

// widths at which the page is measured to know what its slots do.
func measured() (widths []int) {
	for w := 320; w <= 1920; w += 40 {
		widths = append(widths, w)
	}
	return widths
}

// A plan is what becomes of a page's images.
type plan struct {
	html    []byte
	read    func(string) string
	changes map[string]*markup.Change // with addresses that this machine can load
	final   map[string]*markup.Change // with those that the page is to have
	whyNot  map[string]string
	of      map[string]*place
	own     func(address string) bool // of this service
}

func placeName(key string, nth int) string { return key + "\x00" + strconv.Itoa(nth) }

// plan works out for each picture the markup that its place wants.
func (w *Weigher) plan(ctx context.Context, b *browser, a *Ask, kind string, report *weighin.Report) (*plan, error) {
	sizes, err := b.boxes(a.Page, measured())
	if err != nil {
		return nil, fmt.Errorf("measure the page's slots: %w", err)
	}
	places := map[string]*place{}
	id := placeName
	for i := range report.Views {
		v := &report.Views[i]
		largest := largestSeen(v)
		for j := range v.Pictures {
			p := &v.Pictures[j]
			if p.Kind != "img" && p.Kind != "picture" {
				continue
			}
			at := places[id(p.Key, p.Nth)]
			if at == nil {
				at = &place{key: p.Key, nth: p.Nth, picture: p, sized: true, source: p.Source, refused: p.Refused, inlined: p.Inline, shapes: [2]float64{math.Inf(1), 0}}
				places[id(p.Key, p.Nth)] = at
			}
			at.above, at.first = at.above || p.Above, at.first || j == largest
			if p.URL != "" && !p.Inline {
				at.loaded = append(at.loaded, p.URL)
			}
			if !p.Sized {
				at.sized = false
			}
			if p.Sizing != "" {
				at.sizing = p.Sizing
			}
			if at.source == "" {
				at.source, at.refused = p.Source, p.Refused
			}
			if p.Fit == "cover" {
				at.cover, at.position = true, p.Position
			}
			if p.H > 0 {
				at.shapes[0], at.shapes[1] = math.Min(at.shapes[0], p.W/p.H), math.Max(at.shapes[1], p.W/p.H)
			}
		}
	}
	changes, final := map[string]*markup.Change{}, map[string]*markup.Change{}
	own, wanted := a.bases()
	whyNot := map[string]string{}
	var mu sync.Mutex
	var all sync.WaitGroup
	room := make(chan struct{}, 2)
	for name, p := range places {
		if why := p.leave(); why != "" {
			whyNot[name] = why
			continue
		}
		w.Panics.Go(&all, "write a picture's markup", func() {
			room <- struct{}{}
			defer func() { <-room }()
			change, why := w.change(ctx, a, p, sizes, own)
			last := change
			if change != nil && wanted != own {
				last, why = w.change(ctx, a, p, sizes, wanted)
			}
			mu.Lock()
			defer mu.Unlock()
			if change == nil || last == nil {
				whyNot[name] = why
			} else {
				changes[name], final[name] = change, last
			}
		})
	}
	all.Wait()
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return &plan{html: a.HTML, read: reader(a.HTML, kind), changes: changes, final: final, whyNot: whyNot, of: places, own: func(u string) bool { _, ok := a.own(u); return ok }}, nil
}

// largestSeen is the picture that fills most of the first screen, -1 where none fills a twentieth of it. The browser's own largest
// paint depends on how fast things came.
func largestSeen(v *weighin.View) int {
	best, at := float64(v.Width*v.Height)/20, -1
	for j := range v.Pictures {
		p := &v.Pictures[j]
		wide := math.Min(p.X+p.W, float64(v.Width)) - math.Max(0, p.X)
		high := math.Min(p.Y+p.H, float64(v.Height)) - math.Max(0, p.Y)
		if area := wide * high; wide > 0 && high > 0 && area > best {
			best, at = area, j
		}
	}
	return at
}

// write gives the page with all changes that still hold. An <img> and the <source>s of its <picture> change together or not at
// all.
func (p *plan) write(final bool) *Fixed {
	out := &Fixed{Left: []LeftOut{}}
	counts := map[string]int{}
	var decided []*markup.Change // of all tags, in their order
	var sources []int            // of the <picture> that is open
	artful := false              // one of them has a condition of its own
	markup.Rewrite(p.html, func(i *markup.Image) *markup.Change {
		if i.Tag == "source" {
			media, _ := i.Attr("media")
			artful = artful || media != ""
			sources = append(sources, len(decided))
			decided = append(decided, nil)
			return nil
		}
		if !i.InPicture {
			sources, artful = nil, false
		}
		c := p.decide(i, counts, artful && i.InPicture, final, out)
		if c != nil && i.InPicture {
			for _, at := range sources { // the image's own markup leaves formats to negotiation
				decided[at] = &markup.Change{Drop: append([]string{"srcset", "sizes", "type"}, lazyNames...)}
			}
		}
		sources, artful = nil, false
		decided = append(decided, c)
		return nil
	})
	next := 0
	out.HTML = markup.Rewrite(p.html, func(*markup.Image) *markup.Change {
		next++
		return decided[next-1]
	})
	return out
}

// decide is what becomes of an <img>; nil: it stays, and out says why.
func (p *plan) decide(i *markup.Image, counts map[string]int, artful, final bool, out *Fixed) *markup.Change {
	key, src := keyOf(i, p.read)
	name := placeName(key, counts[key])
	if !i.InNoscript {
		counts[key]++
	}
	left := func(why string) *markup.Change {
		out.Left = append(out.Left, LeftOut{src, why})
		return nil
	}
	if artful {
		return left("its <picture> shows other pictures on other screens, which is kept")
	}
	c := p.changes[name]
	if c == nil && i.InNoscript {
		name = placeName(key, 0)
		c = p.changes[name]
	}
	if c == nil {
		if why := p.whyNot[name]; why != "" {
			return left(why)
		}
		return left("the browser didn't see it")
	}
	lazy, why := lazily(i, p.of[name])
	if why != "" {
		return left(why)
	}
	if final {
		c = p.final[name]
	}
	out.Changed++
	with := *c
	with.Drop = append(append([]string{}, c.Drop...), lazy...)
	return &with
}

// lazyNames are the attributes that scripts which load late take a picture's address from, and the sizes that go with it.
var lazyNames = []string{
	"data-src", "data-srcset", "data-sizes", "data-original", "data-original-src", "data-original-set", "data-lazy", "data-lazy-src", "data-lazy-srcset", "data-lazy-sizes",
	"data-lazyload", "data-defer-src", "data-echo", "data-image", "data-img", "data-url", "data-hi-res", "data-at2x", "data-retina",
}

// bound are attributes that a script of the page fills the source from, whatever the tag says.
var bound = []string{":src", ":srcset", "v-bind:src", "v-bind:srcset", "v-lazy", "ng-src", "ng-srcset", "x-bind:src", "x-bind:srcset", "[src]", "bind:src", "data-bind"}

// lazily are the attributes of an image whose script loads it late, which go, where the browser took the picture that they name.
// why says that the image is left alone, since its script is unknown.
func lazily(i *markup.Image, at *place) (drop []string, why string) {
	for _, a := range i.Attrs() {
		if slices.Contains(bound, a.Name) {
			return nil, fmt.Sprintf("%s is bound by a script, which would put its own picture back", a.Name)
		}
		if !slices.Contains(lazyNames, a.Name) {
			continue
		}
		if !strings.HasSuffix(a.Name, "sizes") && a.Value != "" && !names(a.Value, at.loaded) && strings.ContainsAny(a.Value, "./") {
			return nil, fmt.Sprintf("%s names another picture than the one that the browser took", a.Name)
		}
		drop = append(drop, a.Name)
	}
	return drop, ""
}

// names reports whether a source, or one of a set, is an address that was loaded, by the end of its path.
func names(value string, loaded []string) bool {
	for candidate := range strings.SplitSeq(value, ",") {
		fields := strings.Fields(candidate)
		if len(fields) == 0 {
			continue
		}
		u, err := url.Parse(fields[0])
		if err != nil {
			continue
		}
		for _, l := range loaded {
			if took, err := url.Parse(l); err == nil && strings.HasSuffix(took.Path, strings.TrimLeft(u.Path, "./")) {
				return true
			}
		}
	}
	return false
}

// takeBack takes back the changes of images that weigh more than before on some screen, or don't load, all of them where the page
// as a whole is heavier or this was the last try. It reports whether it took back any.
func (p *plan) takeBack(before, after *weighin.Report, last bool) (any bool) {
	back := func(name, why string) {
		if p.changes[name] != nil {
			delete(p.changes, name)
			p.whyNot[name], any = why, true
		}
	}
	for i := range after.Views {
		if i >= len(before.Views) {
			break
		}
		was := map[string]*weighin.Picture{}
		for j := range before.Views[i].Pictures {
			b := &before.Views[i].Pictures[j]
			was[placeName(b.Key, b.Nth)] = b
		}
		screen := after.Views[i].Name
		for j := range after.Views[i].Pictures {
			n := &after.Views[i].Pictures[j]
			name := placeName(n.Key, n.Nth)
			b := was[name]
			if b == nil || p.changes[name] == nil || n.Kind != "img" && n.Kind != "picture" {
				continue
			}
			switch {
			case n.Failed != "" && b.Failed == "" && b.Bytes > 0:
				back(name, fmt.Sprintf("rewritten, it didn't load on the %s (%s): taken back", screen, n.Failed))
			case n.NaturalW == 0 && b.NaturalW > 0 && n.URL != "":
				back(name, fmt.Sprintf("rewritten, it showed nothing on the %s: taken back", screen))
			case b.Bytes > 0 && n.Bytes > b.Bytes:
				back(name, fmt.Sprintf("rewritten, it weighed %s instead of %s on the %s: taken back", wording.Bytes(n.Bytes), wording.Bytes(b.Bytes), screen))
			case n.URL == b.URL && n.URL != "" && !n.Inline && !p.own(n.URL):
				back(name, fmt.Sprintf("rewritten, a script put its own picture back on the %s: taken back", screen))
			}
		}
		if !any && after.Views[i].Bytes > before.Views[i].Bytes {
			for name := range p.changes {
				back(name, fmt.Sprintf("rewritten, the page weighed %s instead of %s on the %s: taken back", wording.Bytes(after.Views[i].Bytes), wording.Bytes(before.Views[i].Bytes), screen))
			}
		}
	}
	if any && last {
		for name := range p.changes {
			back(name, "other images had to be taken back again and again, and this one with them")
		}
	}
	return any
}

// keyOf is what tells an <img> apart, as measure.js has it, and its source for people.
func keyOf(i *markup.Image, read func(string) string) (key, src string) {
	get := func(name string) string {
		v, _ := i.Attr(name)
		return read(v)
	}
	src = get("src")
	key = brief(src) + "\n" + brief(get("srcset")) + "\n" + brief(get("data-src"))
	return key, wording.Cut(src, 80)
}

// reader turns a page's bytes into text as browsers do, by what it is served as and says itself.
func reader(page []byte, kind string) func(string) string {
	if utf8.Valid(page) {
		return func(v string) string { return v }
	}
	encoding, _, _ := charset.DetermineEncoding(page[:min(1024, len(page))], kind)
	return func(v string) string {
		if text, err := encoding.NewDecoder().String(v); err == nil {
			return text
		}
		return v
	}
}

// brief is what measure.js tells a long value apart by; it counts in UTF-16, as JavaScript does.
func brief(v string) string {
	if len(v) <= 2048 {
		return v
	}
	u := utf16.Encode([]rune(v))
	if len(u) <= 2048 {
		return v
	}
	return string(utf16.Decode(u[:1000])) + strconv.Itoa(len(u)) + string(utf16.Decode(u[len(u)-1000:]))
}

// leave says why an image stays as it is, "" where it needn't.
func (p *place) leave() string {
	switch {
	case p.inlined:
		return "it stands in the page itself"
	case p.source == "" && p.refused != "":
		return p.refused
	case p.source == "":
		return "it never loaded"
	case p.picture.Type == "image/svg+xml":
		return "it's a drawing, which is sharp at any size"
	}
	return ""
}

// change works out an image's new attributes.
func (w *Weigher) change(ctx context.Context, a *Ask, p *place, sizes map[int][]box, base string) (*markup.Change, string) {
	slot, shape := p.slot(sizes)
	if slot == "" {
		return nil, "it has no size on any screen"
	}
	var d declare.Declarations
	if p.cover && shape > 0 && p.picture.NaturalH > 0 {
		natural := float64(p.picture.NaturalW) / float64(p.picture.NaturalH)
		if math.Abs(shape/natural-1) > 0.015 {
			d.Aspect, d.Fit = niceRatio(shape), declare.Cover
			if p.position != "" && p.position != "50% 50%" {
				var with declare.Declarations
				if with.SetInSheet("object-position", p.position, "") == nil {
					d.Position = with.Position
				}
			}
		}
	}
	m, no := w.MarkupFor(ctx, a.Site, base, p.source, slot, d, p.first)
	if no != nil {
		return nil, no.Detail
	}
	c := &markup.Change{Drop: []string{"srcset", "sizes"}}
	set := func(name, value string) { c.Set = append(c.Set, markup.Attribute{Name: name, Value: value}) }
	for _, x := range m.Attributes() {
		switch x.Name {
		case "src", "srcset", "sizes":
			set(x.Name, strings.TrimPrefix(x.Value, "auto, "))
		}
	}
	if !p.sized {
		switch p.sizing {
		case "attributes":
			set("width", strconv.Itoa(m.Width))
			set("height", strconv.Itoa(m.Height))
		case "height-auto":
			set("width", strconv.Itoa(m.Width))
			set("height", strconv.Itoa(m.Height))
			c.Style = "height:auto"
		case "ratio":
			c.Style = fmt.Sprintf("aspect-ratio:%d/%d", m.Width, m.Height)
		}
	}
	switch {
	case p.first:
		set("fetchpriority", "high")
		c.Drop = append(c.Drop, "loading")
	case p.above:
		c.Drop = append(c.Drop, "loading")
	default:
		set("loading", "lazy")
		c.Drop = append(c.Drop, "fetchpriority")
	}
	set("decoding", "async")
	return c, ""
}

// slot is the place's width over all viewports, in CSS, and its shape where that is the same in all of them; 0: it isn't.
func (p *place) slot(sizes map[int][]box) (css string, shape float64) {
	type sample struct{ viewport, width float64 }
	var samples []sample
	least, most := math.Inf(1), 0.0
	var widths []int
	for w := range sizes {
		widths = append(widths, w)
	}
	sort.Ints(widths)
	varies := p.shapes[1] > p.shapes[0]*1.03
	for _, viewport := range widths {
		for _, b := range sizes[viewport] {
			if b.Key != p.key || b.Nth != p.nth || b.W < 1 || b.H < 1 {
				continue
			}
			least, most = math.Min(least, b.W/b.H), math.Max(most, b.W/b.H)
			width := b.W
			if p.cover && p.picture.NaturalH > 0 && (varies || most > least*1.03) { // as wide as covering needs
				width = math.Max(width, b.H*float64(p.picture.NaturalW)/float64(p.picture.NaturalH))
			}
			samples = append(samples, sample{float64(viewport), width})
		}
	}
	if len(samples) == 0 {
		return "", 0
	}
	if most <= least*1.03 && !varies {
		shape = (least + most) / 2
	}
	// Straight lines through the samples, as long as they hold to a pixel.
	type line struct{ from, slope, base float64 }
	var lines []line
	for i := 0; i < len(samples); {
		best := line{samples[i].viewport, 0, samples[i].width}
		end := i + 1
		for j := i + 1; j < len(samples); j++ {
			slope := (samples[j].width - samples[i].width) / (samples[j].viewport - samples[i].viewport)
			base := samples[i].width - slope*samples[i].viewport
			good := true
			for k := i; k <= j && good; k++ {
				good = math.Abs(base+slope*samples[k].viewport-samples[k].width) <= 1
			}
			if !good {
				break
			}
			best, end = line{samples[i].viewport, slope, base}, j+1
		}
		lines = append(lines, best)
		i = end
	}
	var parts []string
	for i := len(lines) - 1; i >= 0; i-- {
		l := lines[i]
		text := trimNumber(l.base+l.slope*l.from) + "px"
		vw := math.Round(l.slope*10000) / 100
		switch {
		case math.Abs(l.slope) < 0.002:
		case math.Abs(l.base) < 1:
			text = trimNumber(vw) + "vw"
		case l.base < 0:
			text = "calc(" + trimNumber(vw) + "vw - " + trimNumber(-l.base) + "px)"
		default:
			text = "calc(" + trimNumber(vw) + "vw + " + trimNumber(l.base) + "px)"
		}
		if i > 0 {
			text = "(min-width: " + trimNumber(l.from) + "px) " + text
		}
		parts = append(parts, text)
	}
	if len(lines) == 1 && math.Abs(lines[0].slope) < 0.002 {
		return "width: " + parts[0], shape
	}
	return strings.Join(parts, ", "), shape
}

func trimNumber(v float64) string {
	return strconv.FormatFloat(math.Round(v*10)/10, 'f', -1, 64)
}

// niceRatio is a shape in small whole numbers where one is near enough.
func niceRatio(v float64) declare.Ratio {
	for h := 1.0; h <= 32; h++ {
		if w := math.Round(v * h); w >= 1 && math.Abs(w/h/v-1) < 0.004 {
			return declare.Ratio{W: w, H: h}
		}
	}
	return declare.Ratio{W: math.Round(v * 1000), H: 1000}
}

// bases are what addresses begin with: those that are tried here, and those that the page is to have.
func (a *Ask) bases() (own, wanted string) {
	if len(a.Own) > 0 {
		own = a.Own[0]
	}
	if u, err := url.Parse(a.Base); err == nil && u.Host != "" {
		return own, a.Base
	}
	return own, own
}
