package declare

import (
	"slices"
	"strings"
	"unicode/utf8"
)

// layerOf are the declarations of the layer under the picture or on top of it, as CSS's ::before and ::after.
func layerOf(name string, at func(*Declarations) *Layer) []declaration {
	list := []declaration{
		contentField(at, declaration{name: "content", label: "Content", example: "url(lane/mark.png) or 'text'", grammar: "url(lane/path) or a text in quotes, at most 500 characters", script: "verbatim"}),
		field(declaration{name: "width", label: "Width", example: "18%", grammar: "a length, a percentage of the slot, or auto, such as 18%25"},
			func(d *Declarations) *Side { return &at(d).Width }, readSide, appendSide),
		field(declaration{name: "height", label: "Height", example: "auto", grammar: "a length, a percentage of the slot, or auto"},
			func(d *Declarations) *Side { return &at(d).Height }, readSide, appendSide),
		field(declaration{name: "inset", label: "Inset", example: "auto 4% 4% auto", grammar: "one to four lengths, percentages or auto: top, right, bottom, left, such as auto 4%25 4%25 auto"},
			func(d *Declarations) *Inset { return &at(d).Inset }, readInset, appendInset),
		field(declaration{name: "opacity", label: "Opacity", example: "0.7", grammar: "a number from 0 to 1 or a percentage", script: "alpha"},
			func(d *Declarations) *Opacity { return &at(d).Opacity }, readOpacity, appendOpacity),
		keywordField(declaration{name: "mix-blend-mode", grammar: "one of the sixteen modes, such as multiply"},
			func(d *Declarations) *Blend { return &at(d).Blend }, blends, Normal),
		field(declaration{name: "rotate", label: "Turn", example: "-8deg", grammar: "an angle, such as -12deg"},
			func(d *Declarations) *Turn { return &at(d).Turn }, readTurn, appendTurn),
		field(declaration{name: "color", label: "Colour", example: "white", grammar: "a CSS colour"},
			func(d *Declarations) *Color { return &at(d).Color }, readColor, appendColor),
		field(declaration{name: "font", label: "Font", example: "bold 28px sans-serif", grammar: "style, weight, size and family, such as bold 24px sans-serif"},
			func(d *Declarations) *Font { return &at(d).Font }, readFont, appendFont),
		keywordField(declaration{name: "text-align", label: "Alignment", example: "center", grammar: "left, center or right"},
			func(d *Declarations) *Align { return &at(d).Align }, aligns, AlignLeft),
		field(declaration{name: "background-color", label: "Ground", example: "rgb(0 0 0 / 50%)", grammar: "a CSS colour"},
			func(d *Declarations) *Color { return &at(d).Background }, readColor, appendColor),
		field(declaration{name: "padding", label: "Padding", example: "4px 8px", grammar: "one to four lengths or percentages, such as 4px 8px"},
			func(d *Declarations) *Padding { return &at(d).Padding }, readPadding, appendPadding),
	}
	for i := range list {
		list[i].name = name + "-" + list[i].name
	}
	return list
}

// Layer is the before-… or after-… declarations: what lies under the picture or on top of it, as CSS's ::before and ::after would,
// positioned in the slot. Percentages are of the slot.
type Layer struct {
	Content    string // lane/path of a picture, or the text itself; "" for none
	Text       bool
	Width      Side
	Height     Side
	Inset      Inset
	Opacity    Opacity
	Blend      Blend
	Turn       Turn
	Color      Color
	Font       Font
	Align      Align
	Background Color
	Padding    Padding
}

// contentField is the layer's content, which is two fields: what it says, and whether that is text.
func contentField(at func(*Declarations) *Layer, d declaration) declaration {
	d = field(d, func(d *Declarations) *string { return &at(d).Content }, nil, nil)
	d.read = func(d *Declarations, v string) string { return readContent(at(d), v) }
	d.write = func(b []byte, d *Declarations) []byte { return appendContent(b, at(d)) }
	d.take = func(d, from *Declarations) { at(d).Content, at(d).Text = at(from).Content, at(from).Text }
	return d
}

// Side is a length or auto.
type Side struct {
	Declared bool
	Length
}

// Inset is where the layer's edges are: top, right, bottom, left, each a length or auto.
type Inset struct {
	Declared bool
	Edge     [4]Side // not declared: auto
}

// Padding is around text: top, right, bottom, left.
type Padding struct {
	Declared bool
	Edge     [4]Length
}

// Font is the size, in pixels, and whether the text is bold, in italics, or in a font of one width.
type Font struct {
	Declared bool
	Size     float64
	Bold     bool
	Italic   bool
	Mono     bool
}

// Align is the value of before-text-align and after-text-align.
type Align uint8

// Its values.
const (
	AlignUnset Align = iota
	AlignLeft
	AlignCenter
	AlignRight
)

var aligns = []string{AlignLeft: "left", AlignCenter: "center", AlignRight: "right"}

// Blend is a mix-blend-mode (Compositing Level 1, section 9).
type Blend uint8

// Its values.
const (
	BlendUnset Blend = iota
	Normal
	Multiply
	Screen
	Overlay
	Darken
	Lighten
	ColorDodge
	ColorBurn
	HardLight
	SoftLight
	Difference
	Exclusion
	Hue
	Saturation
	ColorBlend
	Luminosity
)

var blends = []string{
	Normal: "normal", Multiply: "multiply", Screen: "screen", Overlay: "overlay", Darken: "darken", Lighten: "lighten", ColorDodge: "color-dodge", ColorBurn: "color-burn",
	HardLight: "hard-light", SoftLight: "soft-light", Difference: "difference", Exclusion: "exclusion", Hue: "hue", Saturation: "saturation", ColorBlend: "color", Luminosity: "luminosity",
}

const maxText = 500

func readContent(l *Layer, value string) string {
	if text, ok := unquote(value); ok {
		if text == "" || !utf8.ValidString(text) || strings.ContainsFunc(text, func(r rune) bool { return r < ' ' && r != '\n' || r == 0x7f || r == '"' }) {
			return "unparsable"
		}
		if utf8.RuneCountInString(text) > maxText {
			return "out-of-range"
		}
		l.Content, l.Text = text, true
		return ""
	}
	l.Text = false
	return readURL(&l.Content, value)
}

func appendContent(b []byte, l *Layer) []byte {
	if l.Text {
		return appendEscaped(b, `"`+l.Content+`"`)
	}
	return appendEscaped(b, "url("+l.Content+")")
}

func readSide(to *Side, value string) string {
	if strings.EqualFold(value, "auto") {
		*to = Side{Declared: true, Length: Length{Px: -1}}
		return ""
	}
	l, ok := parseLength(value, "px")
	if !ok {
		return "unparsable"
	}
	if l.Px < 0 || l.Part < 0 || l.Px == 0 && l.Part == 0 {
		return "out-of-range"
	}
	*to = Side{true, l}
	return ""
}

// Auto reports whether the side follows from the content.
func (s Side) Auto() bool { return !s.Declared || s.Px < 0 && s.Part == 0 }

func appendSide(b []byte, s Side) []byte {
	if s.Auto() {
		return append(b, "auto"...)
	}
	return appendLength(b, s.Length)
}

func readInset(to *Inset, value string) string {
	words, ok := fourOf(value)
	if !ok {
		return "unparsable"
	}
	in := Inset{Declared: true}
	for i, w := range words {
		if strings.EqualFold(w, "auto") {
			continue
		}
		l, ok := parseLength(w, "px")
		if !ok {
			return "unparsable"
		}
		in.Edge[i] = Side{true, l}
	}
	*to = in
	return ""
}

func appendInset(b []byte, in Inset) []byte {
	for i, e := range in.Edge {
		if i > 0 {
			b = append(b, "%20"...)
		}
		if !e.Declared {
			b = append(b, "auto"...)
		} else {
			b = appendLength(b, e.Length)
		}
	}
	return b
}

func readPadding(to *Padding, value string) string {
	words, ok := fourOf(value)
	if !ok {
		return "unparsable"
	}
	edges, problem := readLengths(words[:])
	if problem == "" {
		*to = Padding{Declared: true, Edge: edges}
	}
	return problem
}

func appendPadding(b []byte, p Padding) []byte {
	for i, e := range p.Edge {
		if i > 0 {
			b = append(b, "%20"...)
		}
		b = appendLength(b, e)
	}
	return b
}

const maxFontSize = 2000

// readFont reads a part of CSS's font shorthand: style and weight, the size, and a family, which is sans-serif or
// monospace, in that order.
func readFont(to *Font, value string) string {
	f := Font{Declared: true}
	for _, w := range strings.Fields(strings.ToLower(value)) {
		switch w {
		case "normal", "400", "regular", "sans-serif":
		case "bold", "600", "700", "800", "900":
			f.Bold = true
		case "italic", "oblique":
			f.Italic = true
		case "monospace":
			f.Mono = true
		default:
			l, ok := parseLength(w, "px")
			if !ok || l.Part != 0 || f.Size != 0 {
				return "unparsable"
			}
			if l.Px < 1 || l.Px > maxFontSize {
				return "out-of-range"
			}
			f.Size = l.Px
		}
	}
	if f.Size == 0 {
		return "unparsable"
	}
	*to = f
	return ""
}

func appendFont(b []byte, f Font) []byte {
	if f.Italic {
		b = append(b, "italic%20"...)
	}
	if f.Bold {
		b = append(b, "bold%20"...)
	}
	b = append(appendNumber(b, f.Size), "px"...)
	if f.Mono {
		return append(b, "%20monospace"...)
	}
	return append(b, "%20sans-serif"...)
}

// lengthsTimes is the layer with its lengths multiplied by k.
func (l Layer) lengthsTimes(k float64) Layer {
	for _, s := range []*Side{&l.Width, &l.Height} {
		if !s.Auto() {
			s.Px *= k
		}
	}
	for i := range l.Inset.Edge {
		l.Inset.Edge[i].Px *= k
	}
	for i := range l.Padding.Edge {
		l.Padding.Edge[i].Px *= k
	}
	l.Font.Size *= k
	return l
}

// Pictures lists the sources that the declarations name beside the picture itself, as lane/path: the ground's
// and the layers'.
func (d *Declarations) Pictures() []string {
	var list []string
	if d.BackgroundImage != "" && !IsGradient(d.BackgroundImage) {
		list = append(list, d.BackgroundImage)
	}
	for _, l := range []*Layer{&d.Before, &d.After} {
		if l.Content != "" && !l.Text && !slices.Contains(list, l.Content) {
			list = append(list, l.Content)
		}
	}
	if m := d.Mask(); m.Kind == ImageMask && !slices.Contains(list, m.Image) {
		list = append(list, m.Image)
	}
	return list
}
