package markup

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"echolane/core/declare"
)

// Inline says what the markup shows until the picture has loaded.
type Inline string

const (
	Nothing      Inline = ""
	SmallPicture Inline = "picture" // the placeholder, as a data URL
	OneColour    Inline = "colour"  // the colour of the subject, the cheapest of them
)

// Facts describe a source.
type Facts struct {
	Width, Height int // upright, in pixels
	Alpha         bool
	Placeholder   string // a data URL; "" for none
	Colour        string // of its subject, as #rrggbb; "" where it isn't known

	// Weights holds measured sizes of variants, by the declarations of the slot (see Anchors), by rising width. Where there are none,
	// bytes are taken to grow as they usually do.
	Weights map[declare.Declarations][]Weight
}

// Options say what Make writes. Source, Base, Slot, Facts and one of Alt and Decorative are required.
type Options struct {
	Base   string // what the addresses begin with: https://img.example.test/kestrel
	Source string // lane/path, with its path percent-encoded
	Slot   *Slot
	// Container is the box that percentages refer to; nil: the viewport, or whatever the browser finds.
	Container *Slot
	Facts     Facts

	Alt        *string // the text alternative of the picture
	Decorative bool    // it says nothing that the page's text doesn't

	Over       declare.Declarations // what the URL says beside the slot
	Site       declare.Declarations // the site's own, which the URL needn't say
	LayersMove bool                 // the sheet moves layers of the picture
	Rungs      []float64            // the ladder, upwards; none: any width
	Waste      float64              // the largest share of bytes that a step between two widths may waste; 0: 0.35

	First   bool             // it is seen first: loaded at once, before others
	Above   bool             // it is seen without scrolling: loaded at once
	Formats []declare.Format // a <source> for each, for caches that don't look at Vary; none: negotiated
	Inline  Inline           // what stands in the markup until the picture is there
}

// Markup is an image element, ready to be written in one of several languages.
type Markup struct {
	Src      string      `json:"src"`
	Srcset   []Candidate `json:"srcset"`
	Sizes    string      `json:"sizes,omitempty"`
	Width    int         `json:"width"`
	Height   int         `json:"height"`
	Alt      string      `json:"alt"`
	Loading  string      `json:"loading"`
	Decoding string      `json:"decoding"`
	Priority string      `json:"fetchpriority,omitempty"`
	Style    string      `json:"style,omitempty"`
	Sources  []Source    `json:"sources"`  // for <picture>
	Warnings []string    `json:"warnings"` // what couldn't be kept

	mime string
}

// A Source is a <source> of a <picture>.
type Source struct {
	Media  string      `json:"media,omitempty"`
	Type   string      `json:"type,omitempty"`
	Srcset []Candidate `json:"srcset"`
	Sizes  string      `json:"sizes,omitempty"`
	Width  int         `json:"width"`
	Height int         `json:"height"`

	still bool // in the place of one that moves
}

// lessMotion is the media condition for people who asked for less motion.
const lessMotion = "(prefers-reduced-motion: reduce)"

// A Candidate is one image of a srcset.
type Candidate struct {
	URL     string  `json:"url"`
	Width   int     `json:"width"`             // device pixels
	Density float64 `json:"density,omitempty"` // with x descriptors
	Bytes   int     `json:"bytes,omitempty"`   // about, where it was measured
}

// DefaultWaste is the largest share of bytes that a step between two widths may waste where Options.Waste is 0.
const DefaultWaste = 0.35

// The viewports, in CSS pixels, that slots are evaluated for.
const (
	narrowest, widest = 320, 1920
	phone             = 600 // up to here screens have up to three device pixels to one of CSS, above two
)

// Make writes the markup. It errs where the text alternative or the size of the source is missing. What it can't keep to, such as a width
// that the source has no pixels for, it says in Warnings.
func Make(o Options) (Markup, error) {
	var m Markup
	switch {
	case o.Alt == nil && !o.Decorative:
		return m, errors.New("alt is missing: give the text alternative of the picture, or say that it's decorative")
	case o.Alt != nil && *o.Alt == "" && !o.Decorative:
		return m, errors.New("alt is empty: give the text alternative of the picture, or say that it's decorative")
	case o.Facts.Width <= 0 || o.Facts.Height <= 0:
		return m, errors.New("the source's size isn't known")
	}
	if o.Alt != nil && !o.Decorative {
		m.Alt = *o.Alt
	}
	m.Loading, m.Decoding = "lazy", "async"
	if o.First || o.Above {
		m.Loading = "eager"
	}
	if o.First {
		m.Priority = "high"
	}
	groups := o.groups()
	var stills []Source
	formats := o.Formats
	if len(formats) == 0 {
		formats = []declare.Format{declare.FormatUnset}
	}
	for i := len(groups) - 1; i >= 0; i-- { // of two conditions that hold, the one for wider viewports comes first
		g := groups[i]
		widths, warning := o.widths(g)
		if warning != "" && !slices.Contains(m.Warnings, warning) {
			m.Warnings = append(m.Warnings, warning)
		}
		w, h := o.dimensions(g)
		for j, f := range formats {
			d := g.declared
			if f != declare.FormatUnset {
				d.Format = f
			}
			s := Source{Media: g.media(), Srcset: o.candidates(g, d, widths), Sizes: o.sizes(g, m.Loading == "lazy"), Width: w, Height: h}
			if f != declare.FormatUnset {
				s.Type = f.MediaType()
			}
			if o.moves(d) {
				still := s
				d.Animation = declare.AnimationNone
				still.Media, still.Srcset, still.still = lessMotion, o.candidates(g, d, widths), true
				if s.Media != "" {
					still.Media += " and " + s.Media
				}
				stills = append(stills, still)
			}
			if i == 0 && j == len(formats)-1 { // what every browser takes
				m.Srcset, m.Sizes, m.Width, m.Height, m.mime = s.Srcset, s.Sizes, w, h, s.Type
				m.Src = fallback(s.Srcset)
				continue
			}
			m.Sources = append(m.Sources, s)
		}
	}
	m.Sources = append(stills, m.Sources...)
	style := ""
	switch {
	case o.Inline == SmallPicture && o.Facts.Placeholder != "":
		style = "background:url(" + o.Facts.Placeholder + ") center/cover no-repeat"
	case o.Inline == OneColour && o.Facts.Colour != "":
		style = "background:" + o.Facts.Colour
	}
	if style != "" {
		if o.Facts.Alpha {
			m.Warnings = append(m.Warnings, "no placeholder stands in the markup: the picture has transparent parts, through which it would go on showing")
		} else {
			m.Style = style
		}
	}
	if m.Sources == nil {
		m.Sources = []Source{}
	}
	if m.Warnings == nil {
		m.Warnings = []string{}
	}
	return m, nil
}

// moves reports whether a sheet moves a picture with these declarations.
func (o *Options) moves(d declare.Declarations) bool {
	full := d.Over(o.Site)
	_, moves := full.Moving()
	return moves || o.LayersMove && d.Animation != declare.AnimationNone
}

// Moves reports whether a sheet moves the picture.
func (o *Options) Moves() bool { return o.moves(o.Over) }

// fallback gives the src, for clients that don't know srcset: the candidate in the middle.
func fallback(list []Candidate) string { return list[(len(list)-1)/2].URL }

// A group is consecutive pieces of a slot that show the same picture at different widths.
type group struct {
	from     float64
	pieces   []piece
	declared declare.Declarations
	fixed    bool // one width in CSS pixels
	css      float64
	curve    *curve
}

func (g *group) media() string {
	if g.from == 0 {
		return ""
	}
	return "(min-width: " + trimmed(g.from) + "px)"
}

func trimmed(v float64) string { return strconv.FormatFloat(math.Round(v*100)/100, 'f', -1, 64) }

func (o *Options) groups() (groups []group) {
	for _, p := range o.Slot.pieces {
		d := o.Over.Over(p.declared)
		if d.Fit == o.Site.Fit { // the sheet says so already
			d.Fit = declare.FitUnset
		}
		if !p.height.IsZero() && !p.width.IsZero() && p.height.Fixed() && p.width.Fixed() && d.Aspect.IsZero() {
			d.Aspect = declare.Ratio{W: p.width.In(0, 0), H: p.height.In(0, 0)}
		}
		if n := len(groups); n > 0 && groups[n-1].declared == d {
			groups[n-1].pieces = append(groups[n-1].pieces, p)
			continue
		}
		groups = append(groups, group{from: p.from, pieces: []piece{p}, declared: d})
	}
	for i := range groups {
		g := &groups[i]
		g.fixed = len(g.pieces) == 1
		for j := range g.pieces {
			p := &g.pieces[j]
			g.fixed = g.fixed && !p.inset && (!p.width.IsZero() && p.width.Fixed() || p.width.IsZero() && !p.height.IsZero() && p.height.Fixed()) && (p.maxWidth.IsZero() || p.maxWidth.Fixed())
		}
		if g.fixed {
			g.css = o.widthIn(&g.pieces[0], g.declared, narrowest)
		}
		g.curve = curveOf(o.Facts.Weights[g.declared], math.Max(1, o.limit(g.declared)))
	}
	return groups
}

// shape gives the aspect ratio of a group, width by height.
func (o *Options) shape(d declare.Declarations) float64 {
	full := d.Over(o.Site)
	if !full.Aspect.IsZero() {
		return full.Aspect.Value()
	}
	w, h := o.natural(full)
	return w / h
}

// natural gives the size of the source after cropping and turning by quarters.
func (o *Options) natural(d declare.Declarations) (w, h float64) {
	w, h = float64(o.Facts.Width), float64(o.Facts.Height)
	if r := d.XYWH; r.Declared {
		_, _, cw, ch := r.Of(w, h)
		w, h = math.Min(w, cw), math.Min(h, ch)
	}
	if turns := math.Mod(math.Abs(d.Turn.Degrees), 180); turns == 90 {
		w, h = h, w
	}
	return math.Max(1, w), math.Max(1, h)
}

// widthIn gives the width of the slot in a viewport, in CSS pixels.
func (o *Options) widthIn(p *piece, d declare.Declarations, viewport float64) float64 {
	container := viewport
	if o.Container != nil {
		q := o.Container.at(viewport)
		container = (&Options{}).plain(q, viewport)
	}
	w := container
	switch {
	case !p.width.IsZero():
		w = p.width.In(viewport, container)
	case !p.height.IsZero() && !p.inset:
		w = p.height.In(viewport, container) * o.shape(d)
	case p.maxWidth.IsZero() && !p.inset: // as large as it is
		w, _ = o.natural(d)
		w = math.Min(w, container)
	}
	if !p.maxWidth.IsZero() {
		w = math.Min(w, p.maxWidth.In(viewport, container))
	}
	return math.Max(1, w)
}

// plain gives the width of a box without a picture in it.
func (o *Options) plain(p *piece, viewport float64) float64 {
	w := viewport
	if !p.width.IsZero() {
		w = p.width.In(viewport, viewport)
	}
	if !p.maxWidth.IsZero() {
		w = math.Min(w, p.maxWidth.In(viewport, viewport))
	}
	return w
}

func (s *Slot) at(viewport float64) *piece {
	for i := len(s.pieces) - 1; i > 0; i-- {
		if viewport >= s.pieces[i].from {
			return &s.pieces[i]
		}
	}
	return &s.pieces[0]
}

// Address gives the URL of the variant with these declarations and this width in device pixels; 0: no width in the URL.
func (o *Options) Address(d declare.Declarations, width int) string {
	d.Width, d.Height, d.Resolution = float64(width), 0, 0
	return o.Base + "/" + o.Source + "?" + d.AddressForm()
}

// Declared gives the declarations of the slot in the widest viewport, by which its weights are measured.
func (o *Options) Declared() declare.Declarations {
	groups := o.groups()
	return groups[len(groups)-1].declared
}

func (o *Options) candidates(g group, d declare.Declarations, widths []int) []Candidate {
	list := make([]Candidate, 0, len(widths))
	for _, w := range widths {
		c := Candidate{Width: w, URL: o.Address(d, w)}
		if g.curve.measured() && (len(o.Formats) == 0 || d.Format == o.Formats[0]) { // of other formats nothing is known
			c.Bytes = int(math.Round(g.curve.bytes(float64(w))))
		}
		if g.fixed {
			c.Density = math.Round(float64(w)/g.css*100) / 100
			if density := c.Density; density == math.Trunc(density) || density == 1.5 {
				e := d
				e.Width, e.Height, e.Resolution = math.Round(float64(w)/density*100)/100, 0, 0
				if density != 1 {
					e.Resolution = density
				}
				c.URL = o.Base + "/" + o.Source + "?" + e.AddressForm() // so lengths keep their look
			}
		}
		list = append(list, c)
	}
	return list
}

// dimensions gives the width and height attributes: the real aspect ratio, at the largest size in CSS pixels.
func (o *Options) dimensions(g group) (w, h int) {
	shape := o.shape(g.declared)
	width := o.limit(g.declared)
	if g.fixed {
		width = g.css
	} else {
		width = math.Min(width, math.Round(o.widest(g)))
	}
	return max(1, int(math.Round(width))), max(1, int(math.Round(width/shape)))
}

// sizes gives the sizes attribute; "" with x descriptors.
func (o *Options) sizes(g group, lazy bool) string {
	if g.fixed {
		return ""
	}
	var parts []string
	relative := false
	for i := len(g.pieces) - 1; i >= 0; i-- {
		p := &g.pieces[i]
		container := "100vw"
		if o.Container != nil {
			c := o.Container.at(math.Max(p.from, narrowest))
			container = boxText(c)
		}
		var text string
		switch {
		case !p.width.IsZero():
			text = p.width.Print(container)
			relative = relative || p.width.Relative()
		case p.maxWidth.IsZero() && !p.inset:
			text = fmt.Sprintf("min(%s, %.0fpx)", container, o.widthIn(p, g.declared, 1e6))
		default:
			text = container
			relative = true
		}
		if !p.maxWidth.IsZero() {
			text = "min(" + text + ", " + p.maxWidth.Print(container) + ")"
		}
		if p.from > g.from {
			text = "(min-width: " + trimmed(p.from) + "px) " + text
		}
		parts = append(parts, text)
	}
	all := strings.Join(parts, ", ")
	if relative && lazy && o.Container == nil {
		return "auto, " + all // the browser knows the box by then
	}
	return all
}

func boxText(p *piece) string {
	text := "100vw"
	if !p.width.IsZero() {
		text = p.width.Print("100vw")
	}
	if !p.maxWidth.IsZero() {
		text = "min(" + text + ", " + p.maxWidth.Print("100vw") + ")"
	}
	return text
}
