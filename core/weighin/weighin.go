// Package weighin tells what a page's pictures waste: what a browser saw of them goes in, what each costs, what it would
// cost made to fit, and what to do about it comes out.
package weighin

import (
	"fmt"
	"math"
	"sort"
	"strings"
	"time"

	"echolane/core/declare"
)

// Report is a weigh-in of one page.
type Report struct {
	Page   string    `json:"page"`
	Title  string    `json:"title"`
	At     time.Time `json:"at"`
	TookMS int64     `json:"took_ms"`
	Static bool      `json:"static"` // from the HTML alone: no browser laid the page out
	Notes  []string  `json:"notes"`  // what couldn't be known or done
	Views  []View    `json:"views"`
	Loads  []Loading `json:"loads"` // over throttled lines; empty: it wasn't tried
}

// View is the page on one screen.
type View struct {
	Name         string    `json:"name"`
	Width        int       `json:"width"`   // CSS pixels
	Height       int       `json:"height"`  // CSS pixels
	Density      float64   `json:"density"` // device pixels to one of CSS
	Requests     int       `json:"requests"`
	Bytes        int64     `json:"bytes"`         // over the wire, all of it
	ImageBytes   int64     `json:"image_bytes"`   // of that, pictures
	AfterBytes   int64     `json:"after_bytes"`   // what the pictures would be
	ContentMS    float64   `json:"content_ms"`    // largest contentful paint; 0: none was seen
	Content      string    `json:"content"`       // its element
	ContentURL   string    `json:"content_url"`   // its picture, where it is one
	Shift        float64   `json:"shift"`         // cumulative layout shift
	Shifts       []Shift   `json:"shifts"`        // what jumped, worst first
	Pictures     []Picture `json:"pictures"`      // what saves most first
	Unmeasured   int       `json:"unmeasured"`    // pictures whose saving was not found by making them
	PageHeight   int       `json:"page_height"`   // CSS pixels
	LoadMS       float64   `json:"load_ms"`       // until the load event
	ImagesFailed int       `json:"images_failed"` // that didn't load
	Shot         int       `json:"shot"`          // the whole page's screenshot, by number; 0: there is none
	ShotHeight   int       `json:"shot_height"`   // how much of the page it shows, CSS pixels
	ShotData     []byte    `json:"-"`             // JPEG
}

// Shift is an element that jumped.
type Shift struct {
	Element string  `json:"element"`
	Score   float64 `json:"score"`
}

// Picture is one place on the page where a picture stands.
type Picture struct {
	URL      string  `json:"url"`                                        // that the browser chose; "" where none loaded
	Kind     string  `json:"kind" words:"img picture background poster"` // img, picture, background, poster
	Element  string  `json:"element"`                                    // as a selector
	Alt      *string `json:"alt"`                                        // null: it has none
	X        float64 `json:"x"`                                          // CSS pixels from the page's corner
	Y        float64 `json:"y"`
	W        float64 `json:"w"` // CSS pixels as displayed
	H        float64 `json:"h"`
	NaturalW int     `json:"natural_w"` // pixels
	NaturalH int     `json:"natural_h"`
	Fit      string  `json:"fit"`      // object-fit, or what the background's size comes to
	Position string  `json:"position"` // object-position
	Bytes    int64   `json:"bytes"`    // over the wire; shared: counted once
	Type     string  `json:"type"`
	Srcset   string  `json:"srcset"` // as it is written
	Sizes    string  `json:"sizes"`
	Src      string  `json:"src"`
	Above    bool    `json:"above"`  // some of it is seen without scrolling
	Lazy     bool    `json:"lazy"`   // loading=lazy
	Sized    bool    `json:"sized"`  // its box is there before it has loaded
	Sizing   string  `json:"sizing"` // what would size it without changing the page: attributes, height-auto, ratio
	Inline   bool    `json:"inline"` // a data URL
	Cache    string  `json:"cache"`  // its Cache-Control
	Repeated bool    `json:"repeated"`
	Failed   string  `json:"failed"` // why it didn't load
	First    bool    `json:"first"`  // it is the largest contentful paint

	// What tells its tag apart in the page's HTML: the values of src, srcset and data-src, and the how-manieth with these.
	Key string `json:"-"`
	Nth int    `json:"-"`

	Source   string   `json:"source"`  // lane/path on the site, "" where no lane has it
	Refused  string   `json:"refused"` // why no lane has it
	Rule     string   `json:"rule"`    // the command that would let one have it
	After    *After   `json:"after"`   // made to fit
	Remedies []Remedy `json:"remedies"`
}

// After is a picture made to fit.
type After struct {
	Query    string  `json:"query"` // its declarations
	Bytes    int64   `json:"bytes"`
	Type     string  `json:"type"`
	Width    int     `json:"width"` // pixels
	Height   int     `json:"height"`
	Likeness float64 `json:"likeness"` // to its pixels unencoded; 0: not looked at
	Quality  int     `json:"quality"`
}

// Remedy is one thing to do about a picture.
type Remedy struct {
	What  string `json:"what"` // pixels, format, quality, lazy, size, candidates, allow, twice, alt, eager
	Saves int64  `json:"saves"`
	Text  string `json:"text"`
}

// Saved is how many bytes a picture could be smaller.
func (p *Picture) Saved() int64 {
	if p.After == nil || p.Repeated || p.Bytes <= p.After.Bytes {
		return 0
	}
	return p.Bytes - p.After.Bytes
}

// Declared are the declarations that make a picture to fit, on a screen of this density.
func (p *Picture) Declared(density float64) declare.Declarations {
	d := declare.Declarations{GeometryValues: declare.GeometryValues{Width: hundredth(math.Min(65535, math.Max(1, p.W)))}}
	if density != 1 {
		d.Resolution = math.Min(4, math.Max(0.5, density))
	}
	if p.NaturalW <= 0 || p.NaturalH <= 0 || p.H <= 0 {
		return d
	}
	natural, box := float64(p.NaturalW)/float64(p.NaturalH), p.W/p.H
	near := math.Abs(box/natural-1) < 0.015 || math.Abs(p.H-p.W/natural) < 1
	switch p.Fit {
	case "contain", "scale-down", "none":
		d.Width = hundredth(math.Max(1, math.Min(p.W, p.H*natural)))
	case "cover":
		if !near {
			d.Aspect, d.Fit = aspect(p.W, p.H), declare.Cover
			if p.Position != "" && p.Position != "50% 50%" {
				var with declare.Declarations
				if with.SetInSheet("object-position", p.Position, "") == nil {
					d.Position = with.Position
				}
			}
		}
	default:
		if !near { // it is squeezed
			d.Aspect, d.Fit = aspect(p.W, p.H), declare.Fill
		}
	}
	return d
}

func aspect(w, h float64) declare.Ratio {
	return declare.Ratio{W: hundredth(w), H: hundredth(h)}
}

func hundredth(v float64) float64 { return math.Round(v*100) / 100 }

// Made is what making a picture to fit came to.
type Made struct {
	After
	Alike int64 // the bytes of a JPEG of the same size and quality; 0: not made
}

// Assess writes down what was made, and what is to do about the picture. density is the screen's.
func (p *Picture) Assess(m *Made, density float64) {
	if m != nil {
		a := m.After
		p.After = &a
	}
	add := func(what string, saves int64, format string, args ...any) {
		p.Remedies = append(p.Remedies, Remedy{what, max(0, saves), fmt.Sprintf(format, args...)})
	}
	if p.Refused != "" && p.Source == "" && !p.Inline {
		add("allow", 0, "%s", p.Refused)
	}
	if p.After != nil && !p.Repeated && p.Saved() > p.Bytes/20 {
		left := p.Saved()
		need := float64(p.After.Width) * float64(p.After.Height)
		have := float64(p.NaturalW) * float64(p.NaturalH)
		if have > need*1.1 {
			share := int64(float64(p.Bytes) * (1 - math.Pow(need/have, 0.85)))
			share = min(left, share)
			left -= share
			add("pixels", share, "%d × %d pixels where %d × %d are shown", p.NaturalW, p.NaturalH, p.After.Width, p.After.Height)
		}
		if p.Type != p.After.Type && m.Alike > p.After.Bytes {
			share := min(left, m.Alike-p.After.Bytes)
			left -= share
			add("format", share, "%s instead of %s", shortType(p.After.Type), shortType(p.Type))
		}
		switch {
		case left > p.Bytes/20 || len(p.Remedies) == 0 || p.Remedies[len(p.Remedies)-1].Saves == 0:
			add("quality", left, "finer than anybody sees: quality %d is enough", p.After.Quality)
		default: // little enough to count with what came before
			p.Remedies[len(p.Remedies)-1].Saves += left
		}
	}
	if p.Kind == "img" || p.Kind == "picture" {
		switch {
		case !p.Above && !p.Lazy && !p.Inline:
			add("lazy", 0, "loaded at once, though it is seen only after scrolling: loading=\"lazy\"")
		case p.Above && p.Lazy && p.First:
			add("eager", 0, "what the page is waited for is loaded late: leave loading=\"lazy\" out, and preload it")
		}
		if !p.Sized {
			add("size", 0, "the page jumps when it comes: width and height, or aspect-ratio")
		}
		if p.Srcset == "" && p.Kind == "img" && !p.Inline && p.NaturalW > 0 && float64(p.NaturalW) > p.W*1.2 {
			add("candidates", 0, "one size for every screen: srcset and sizes")
		}
		if p.Alt == nil {
			add("alt", 0, "no alt: what is to be read where it can't be seen?")
		}
	}
	if hops := optimisers(p.URL); hops > 1 {
		add("twice", 0, "made smaller %d times in a row: each loses something; point at the original", hops)
	}
	sort.SliceStable(p.Remedies, func(i, j int) bool { return p.Remedies[i].Saves > p.Remedies[j].Saves })
}

func shortType(t string) string {
	if t == "" {
		return "what it is"
	}
	return strings.ToUpper(strings.TrimSuffix(strings.TrimPrefix(t, "image/"), "+xml"))
}

// optimisers counts the URLs in a URL whose parameters ask for a size or a quality: each a service that makes pictures.
func optimisers(address string) int {
	n := 0
	for text := address; ; {
		if sized(text) {
			n++
		}
		inner := max(strings.LastIndex(text, "http://"), strings.LastIndex(text, "https://"))
		if inner <= 0 {
			lower := strings.ToLower(text)
			if inner = max(strings.LastIndex(lower, "http%3a"), strings.LastIndex(lower, "https%3a")); inner <= 0 {
				return n
			}
			text = strings.NewReplacer("%3A", ":", "%3a", ":", "%2F", "/", "%2f", "/", "%3F", "?", "%3f", "?", "%3D", "=", "%3d", "=", "%26", "&", "%25", "%").Replace(encoded(text[inner:]))
			continue
		}
		text = text[inner:]
	}
}

// encoded is a URL within another's path or query, without what follows it there.
func encoded(text string) string {
	if i := strings.IndexAny(text, "?&"); i >= 0 {
		return text[:i]
	}
	return text
}

// sized reports whether an address' own query or path asks for a size or a quality.
func sized(address string) bool {
	own := address
	if i := max(strings.LastIndex(own, "http://"), strings.LastIndex(own, "https://")); i > 0 { // not what it fetches
		own = own[:i]
	}
	_, query, _ := strings.Cut(own, "?")
	for part := range strings.SplitSeq(query, "&") {
		name, value, _ := strings.Cut(part, "=")
		switch strings.ToLower(name) {
		case "w", "h", "width", "height", "q", "quality", "resize", "size":
			if value != "" {
				return true
			}
		}
	}
	path, _, _ := strings.Cut(own, "?")
	for element := range strings.SplitSeq(path, "/") {
		for _, word := range strings.Split(element, ",") {
			for _, name := range []string{"w_", "h_", "q_", "width=", "height=", "quality=", "rs:", "resize:"} {
				if strings.HasPrefix(word, name) {
					return true
				}
			}
		}
	}
	return false
}

// Finish sums every view up, with its pictures in the order of what they would save, and says how long it took.
func (r *Report) Finish(took time.Duration) {
	for i := range r.Views {
		v := &r.Views[i]
		if v.Pictures == nil {
			v.Pictures = []Picture{}
		}
		if v.Shifts == nil {
			v.Shifts = []Shift{}
		}
		v.Sum()
		v.Sort()
	}
	if r.Loads == nil {
		r.Loads = []Loading{}
	}
	r.TookMS = took.Milliseconds()
}

// Sum works out a view's totals from its pictures.
func (v *View) Sum() {
	v.ImageBytes, v.AfterBytes, v.Unmeasured, v.ImagesFailed = 0, 0, 0, 0
	seen := map[string]bool{}
	for i := range v.Pictures {
		p := &v.Pictures[i]
		if p.Failed != "" {
			v.ImagesFailed++
		}
		if p.URL != "" && !p.Inline {
			p.Repeated = seen[p.URL]
			seen[p.URL] = true
		}
	}
	for i := range v.Pictures {
		p := &v.Pictures[i]
		if !p.Repeated {
			v.ImageBytes += p.Bytes
			if p.After != nil {
				v.AfterBytes += min(p.Bytes, p.After.Bytes)
			} else {
				v.AfterBytes += p.Bytes
				if p.Bytes > 0 {
					v.Unmeasured++
				}
			}
		}
	}
}

// Sort puts what saves most first.
func (v *View) Sort() {
	sort.SliceStable(v.Pictures, func(i, j int) bool { return v.Pictures[i].Saved() > v.Pictures[j].Saved() })
}

// Saved is what a view's pictures could be smaller.
func (v *View) Saved() int64 { return max(0, v.ImageBytes-v.AfterBytes) }
