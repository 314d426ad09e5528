package declare

import (
	"strings"
	"unicode/utf8"
)

// Layer is the after-… declarations: what lies on top of the picture, as CSS's ::after would, positioned in the
// slot. Percentages are of the slot.
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

// Align is the value of after-text-align.
type Align uint8

const (
	AlignUnset Align = iota
	AlignLeft
	AlignCenter
	AlignRight
)

var aligns = []string{AlignLeft: "left", AlignCenter: "center", AlignRight: "right"}

// Blend is a mix-blend-mode (Compositing Level 1, section 9).
type Blend uint8

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

// setURL reads url(lane/path), with quotes or without.
func setURL(to *string, value string) string {
	inner, ok := cutFunction(value, "url")
	if !ok {
		return "unparsable"
	}
	if s, ok := unquote(inner); ok {
		inner = s
	}
	lane, path, ok := strings.Cut(inner, "/")
	if !ok || lane == "" || path == "" || len(inner) > 1024 || !utf8.ValidString(inner) || strings.ContainsAny(inner, "\x00\\\"'()\n") {
		return "unparsable"
	}
	*to = inner
	return ""
}

func cutFunction(value, name string) (string, bool) {
	if len(value) < len(name)+2 || !strings.EqualFold(value[:len(name)], name) || value[len(name)] != '(' || value[len(value)-1] != ')' {
		return "", false
	}
	return strings.TrimSpace(value[len(name)+1 : len(value)-1]), true
}

func unquote(s string) (string, bool) {
	if len(s) < 2 || s[0] != '"' && s[0] != '\'' || s[len(s)-1] != s[0] {
		return "", false
	}
	inner := s[1 : len(s)-1]
	if strings.IndexByte(inner, s[0]) >= 0 {
		return "", false
	}
	return inner, true
}

func setContent(l *Layer, value string) string {
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
	return setURL(&l.Content, value)
}

func appendContent(b []byte, l *Layer) []byte {
	if l.Text {
		return appendEscaped(b, `"`+l.Content+`"`)
	}
	return appendEscaped(b, "url("+l.Content+")")
}

func setSide(to *Side, value string) string {
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

func appendLength(b []byte, l Length) []byte {
	if l.Part != 0 {
		return append(appendNumber(b, tidy(l.Part*100)), "%25"...)
	}
	return append(appendNumber(b, l.Px), "px"...)
}

func appendSide(b []byte, s Side) []byte {
	if s.Auto() {
		return append(b, "auto"...)
	}
	return appendLength(b, s.Length)
}

// fourOf spreads one to four words over top, right, bottom and left.
func fourOf(value string) ([4]string, bool) {
	w := strings.Fields(value)
	switch len(w) {
	case 1:
		return [4]string{w[0], w[0], w[0], w[0]}, true
	case 2:
		return [4]string{w[0], w[1], w[0], w[1]}, true
	case 3:
		return [4]string{w[0], w[1], w[2], w[1]}, true
	case 4:
		return [4]string{w[0], w[1], w[2], w[3]}, true
	}
	return [4]string{}, false
}

func setInset(to *Inset, value string) string {
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

func setPadding(to *Padding, value string) string {
	words, ok := fourOf(value)
	if !ok {
		return "unparsable"
	}
	p := Padding{Declared: true}
	for i, w := range words {
		l, ok := parseLength(w, "px")
		if !ok {
			return "unparsable"
		}
		if l.Px < 0 || l.Part < 0 {
			return "out-of-range"
		}
		p.Edge[i] = l
	}
	*to = p
	return ""
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

// setFont reads a part of CSS's font shorthand: style and weight, the size, and a family, which is sans-serif or
// monospace, in that order.
func setFont(to *Font, value string) string {
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
// and the layer's.
func (d *Declarations) Pictures() []string {
	var list []string
	if d.BackgroundImage != "" {
		list = append(list, d.BackgroundImage)
	}
	if d.After.Content != "" && !d.After.Text && d.After.Content != d.BackgroundImage {
		list = append(list, d.After.Content)
	}
	return list
}
