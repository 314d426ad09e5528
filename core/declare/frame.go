package declare

import (
	"math"
	"strings"
)

// The frame: what CSS puts around an image within its slot, and the shape that the whole is clipped to.
var frame = []declaration{
	keywordField(declaration{name: "mix-blend-mode", label: "Blend", example: "multiply", grammar: "one of the sixteen modes, such as multiply: of the picture over its ground"},
		func(d *Declarations) *Blend { return &d.Blend }, blends, Normal),
	field(declaration{name: "border", label: "Border", example: "4px solid white", grammar: "width, style and colour, such as 4px solid gold; the style is solid, dashed, dotted, double or none; four of these, top, right, bottom, left, with commas between, where sides differ"},
		func(d *Declarations) *string { return &d.Border }, readBorder, appendEscaped, "none"),
	field(declaration{name: "padding", label: "Padding", example: "12px", grammar: "one to four lengths or percentages of the slot's width, such as 12px or 4%25"},
		func(d *Declarations) *string { return &d.Padding }, readFramePadding, appendEscaped, "0px"),
	field(declaration{name: "box-shadow", label: "Inner shadow", example: "inset 0 0 24px black", grammar: "at most 8 shadows that fall inwards, such as inset 0 0 24px rgb(0 0 0 / 40%25), or none", keywords: []string{"none", "inset"}},
		func(d *Declarations) *string { return &d.Shadows }, readShadows, appendEscaped, "none"),
	field(declaration{name: "clip-path", label: "Clip", example: "circle(50%)", grammar: "inset(), circle(), ellipse() or polygon(), such as circle(40%25 at 50%25 50%25), or none", keywords: shapeWords},
		func(d *Declarations) *string { return &d.Clip }, readShape, appendEscaped, "none"),
	field(declaration{name: "mask-image", label: "Mask", example: "subject", grammar: "subject, which cuts out what the picture is of, or subject or-none; " + gradientGrammar + ", such as linear-gradient(black, transparent); url(lane/path), a source of the same site; or none", keywords: []string{"subject", "linear-gradient()", "radial-gradient()", "conic-gradient()", "url()", "none"}, script: "verbatim"},
		func(d *Declarations) *string { return &d.MaskImage }, readMask, appendEscaped, "none"),
	keywordField(declaration{name: "mask-mode", label: "Mask mode", example: "luminance", grammar: "match-source, alpha or luminance: what of a gradient or a picture counts"},
		func(d *Declarations) *MaskMode { return &d.MaskMode }, maskModes, MatchSource),
	field(declaration{name: "mask-position", label: "Mask's place", example: "center", grammar: "one to four values, as of background-position: where a mask's picture lies", keywords: []string{"left", "right", "top", "bottom", "center"}},
		func(d *Declarations) *Position { return &d.MaskPosition }, readGroundPosition, appendPosition),
	field(declaration{name: "mask-size", label: "Mask's size", example: "contain", grammar: "cover, contain, or one or two lengths, percentages or auto: of a mask's picture", keywords: []string{"cover", "contain", "auto"}},
		func(d *Declarations) *GroundSize { return &d.MaskSize }, readGroundSize, appendGroundSize),
	field(declaration{name: "mask-repeat", label: "Mask repeats", example: "no-repeat", grammar: "repeat, no-repeat, space or round, for both axes or each; repeat-x or repeat-y", keywords: append([]string{"repeat-x", "repeat-y"}, repeats[1:]...)},
		func(d *Declarations) *Repeats { return &d.MaskRepeat }, readRepeats, appendRepeats, Repeats{Tiled, Tiled}),
}

// BorderStyle is how a side of a border is drawn (CSS Backgrounds Level 3, section 3.2).
type BorderStyle uint8

// The styles that are drawn.
const (
	BorderNone BorderStyle = iota // initially
	Solid
	Dashed
	Dotted
	Double
)

var borderStyles = []string{BorderNone: "none", Solid: "solid", Dashed: "dashed", Dotted: "dotted", Double: "double"}

// BorderSide is one side of a border. Width is in pixels.
type BorderSide struct {
	Width float64
	Style BorderStyle
	Color Color
}

// Shows reports whether anything is drawn, and takes room.
func (s BorderSide) Shows() bool { return s.Style != BorderNone && s.Width > 0 }

// Border is the four sides: top, right, bottom, left.
type Border [4]BorderSide

// sideInitial is CSS's initial side: medium, none, the text's colour, which is black initially.
var sideInitial = BorderSide{Width: 3, Color: Color{Declared: true, A: 255}}

// BorderSides are the sides of border. Nothing declared: none shows.
func (d *Declarations) BorderSides() Border {
	b, _ := parseBorder(d.Border) // it was checked when it was declared
	return b
}

const maxBorder = 10_000

func readBorder(to *string, value string) string {
	b, reason := parseBorder(value)
	if reason == "" {
		*to = b.text(1)
	}
	return reason
}

func parseBorder(value string) (Border, string) {
	b := Border{sideInitial, sideInitial, sideInitial, sideInitial}
	if value == "" {
		return b, ""
	}
	sides := parts(value, ',')
	if len(sides) != 1 && len(sides) != 4 {
		return b, "unparsable"
	}
	for i := range b {
		if len(sides) == 1 && i > 0 {
			b[i] = b[0]
			continue
		}
		var reason string
		if b[i], reason = parseSide(sides[i]); reason != "" {
			return b, reason
		}
	}
	return b, ""
}

// parseSide reads a <line-width>, a <line-style> and a <color> in any order, each at most once.
func parseSide(value string) (BorderSide, string) {
	s := sideInitial
	var width, style, color bool
	for _, w := range fields(value) {
		if v, ok := borderStyle(w); ok && !style {
			s.Style, style = v, true
			continue
		}
		if !width {
			if v, ok := borderWidth(w); ok {
				if v < 0 || v > maxBorder {
					return s, "out-of-range"
				}
				s.Width, width = v, true
				continue
			}
		}
		c, ok := ParseColor(w)
		if !ok || color {
			return s, "unparsable"
		}
		s.Color, color = c, true
	}
	if !width && !style && !color {
		return s, "unparsable"
	}
	return s, ""
}

func borderStyle(word string) (BorderStyle, bool) {
	word = strings.ToLower(word)
	if word == "hidden" {
		return BorderNone, true
	}
	for i, w := range borderStyles {
		if w == word {
			return BorderStyle(i), true
		}
	}
	return 0, false
}

// borderWidth reads a <line-width>; a bare number of three digits and more is a colour unless it is 0.
func borderWidth(word string) (float64, bool) {
	switch strings.ToLower(word) {
	case "thin":
		return 1, true
	case "medium":
		return 3, true
	case "thick":
		return 5, true
	}
	l, ok := parseLength(word, "px")
	if !ok || l.Part != 0 {
		return 0, false
	}
	if _, bare := cssNumber(word); bare && len(word) >= 3 {
		return 0, false
	}
	return l.Px, true
}

// text writes the border the one way, its widths multiplied by k. A side without a style keeps what else was said of it, for a
// longhand that gives it one.
func (b Border) text(k float64) string {
	if b == (Border{sideInitial, sideInitial, sideInitial, sideInitial}) {
		return "none"
	}
	var t []byte
	for i, s := range b {
		if i > 0 {
			if b[1] == b[0] && b[2] == b[0] && b[3] == b[0] {
				break
			}
			t = append(t, ", "...)
		}
		if s == sideInitial {
			t = append(t, "none"...)
			continue
		}
		t = append(append(append(appendNumber(t, s.Width*k), "px "...), borderStyles[s.Style]...), ' ')
		t = appendColor(t, s.Color)
	}
	return string(t)
}

func readFramePadding(to *string, value string) string {
	var p Padding
	reason := readPadding(&p, value)
	if reason == "" {
		reason = framePadding(to, p.Edge)
	}
	return reason
}

// framePadding takes a padding that leaves room for the picture.
func framePadding(to *string, edge [4]Length) string {
	for _, l := range edge {
		if l.Part >= 0.5 {
			return "out-of-range"
		}
	}
	*to = plainly.Replace(string(appendFour(nil, edge)))
	return ""
}

// PaddingEdges are the lengths of padding: top, right, bottom, left. Parts are of the slot's width.
func (d *Declarations) PaddingEdges() [4]Length {
	var p Padding
	if d.Padding != "" {
		readPadding(&p, d.Padding) // it was checked when it was declared
	}
	return p.Edge
}

// Framed reports whether a border or padding takes room from the picture.
func (d *Declarations) Framed() bool {
	if d.PaddingEdges() != [4]Length{} {
		return true
	}
	if d.Border == "" || d.Border == "none" {
		return false
	}
	for _, s := range d.BorderSides() {
		if s.Shows() {
			return true
		}
	}
	return false
}

// InnerShadow is a shadow that falls inwards from the padding's edge (CSS Backgrounds Level 3, section 6.1). Lengths are pixels.
type InnerShadow struct {
	X, Y   float64
	Blur   float64 // twice the deviation
	Spread float64
	Color  Color
}

const maxShadows = 8

func readShadows(to *string, value string) string {
	list, reason := parseShadows(value)
	if reason == "" {
		*to = writeShadows(list, 1)
	}
	return reason
}

func parseShadows(value string) (list []InnerShadow, reason string) {
	if value == "" || strings.EqualFold(value, "none") {
		return nil, ""
	}
	for _, one := range parts(value, ',') {
		s := InnerShadow{Color: Color{Declared: true, A: 255}}
		var lengths []float64
		var inset, color bool
		for _, w := range fields(one) {
			if strings.EqualFold(w, "inset") && !inset {
				inset = true
				continue
			}
			l, ok := parseLength(w, "px")
			if _, bare := cssNumber(w); ok && l.Part == 0 && (!bare || l.Px == 0 && len(w) < 3) {
				lengths = append(lengths, l.Px)
				continue
			}
			c, ok := ParseColor(w)
			if !ok || color {
				return nil, "unparsable"
			}
			s.Color, color = c, true
		}
		if !inset || len(lengths) < 2 || len(lengths) > 4 {
			return nil, "unparsable"
		}
		lengths = append(lengths, 0, 0)
		s.X, s.Y, s.Blur, s.Spread = lengths[0], lengths[1], lengths[2], lengths[3]
		for _, v := range lengths {
			if math.Abs(v) > maxSigma {
				return nil, "out-of-range"
			}
		}
		if s.Blur < 0 {
			return nil, "out-of-range"
		}
		if list = append(list, s); len(list) > maxShadows {
			return nil, "out-of-range"
		}
	}
	return list, ""
}

func writeShadows(list []InnerShadow, k float64) string {
	if len(list) == 0 {
		return "none"
	}
	var b []byte
	for i, s := range list {
		if i > 0 {
			b = append(b, ", "...)
		}
		b = append(b, "inset "...)
		for _, v := range []float64{s.X, s.Y, s.Blur, s.Spread} {
			b = append(appendNumber(b, v*k), "px "...)
		}
		b = appendColor(b, s.Color)
	}
	return string(b)
}

// InnerShadows are the shadows of box-shadow, the one on top first.
func (d *Declarations) InnerShadows() []InnerShadow {
	list, _ := parseShadows(d.Shadows) // it was checked when it was declared
	return list
}
