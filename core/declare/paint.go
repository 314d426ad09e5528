package declare

import (
	"math"
	"strings"
	"unicode/utf8"
)

// PaintValues are the values of the paint's declarations.
type PaintValues struct {
	Background      Color
	BackgroundImage string // lane/path; "" for none
	GroundPosition  Position
	GroundSize      GroundSize
	GroundRepeat    Repeats
	Backdrop        string // as writeFilter writes it; "" for none
	Blend           Blend  // of the picture over its ground
	Border          string // as Border.text writes it; "" for none
	Padding         string // one to four lengths: top, right, bottom, left; "" for none
	Shadows         string // as writeShadows writes it; "" for none
	Clip            string // as Shape.text writes it; "" for none
	MaskImage       string // as Mask.text writes it; "" for none
	MaskMode        MaskMode
	MaskPosition    Position // of a mask's picture
	MaskSize        GroundSize
	MaskRepeat      Repeats
	Map             Map
	Sharpen         Sharpen
	Radius          string // as Radius.text writes it; "" for none
	Filter          string // as writeFilter writes it; "" for none
	Opacity         Opacity
	Matte           Color
}

// What is painted under the picture.
var ground = []declaration{
	field(declaration{name: "background-color", label: "Background", example: "oklch(90% 0.05 185)", grammar: "a CSS colour, such as gold, 0a7, rgb(10 120 110 / 0.5) or oklch(48% 0.09 185)"},
		func(d *Declarations) *Color { return &d.Background }, readColor, appendColor),
	field(declaration{name: "background-image", label: "Background image", example: "url(lane/path.jpg)", grammar: "url(lane/path), a source of the same site; or " + gradientGrammar, script: "verbatim"},
		func(d *Declarations) *string { return &d.BackgroundImage }, readGroundImage, appendGroundImage),
	field(declaration{name: "background-position", label: "Its place", example: "right 12px bottom 12px", grammar: "one to four values, such as left top, 75 20 or right 10px bottom 20px", keywords: []string{"left", "right", "top", "bottom", "center"}},
		func(d *Declarations) *Position { return &d.GroundPosition }, readGroundPosition, appendPosition),
	field(declaration{name: "background-size", label: "Its size", example: "contain", grammar: "cover, contain, or one or two lengths, percentages or auto, such as 40px auto", keywords: []string{"cover", "contain", "auto"}},
		func(d *Declarations) *GroundSize { return &d.GroundSize }, readGroundSize, appendGroundSize),
	field(declaration{name: "background-repeat", label: "Repeats", example: "repeat", grammar: "repeat, no-repeat, space or round, for both axes or each; repeat-x or repeat-y", keywords: append([]string{"repeat-x", "repeat-y"}, repeats[1:]...)},
		func(d *Declarations) *Repeats { return &d.GroundRepeat }, readRepeats, appendRepeats),
	field(declaration{name: "backdrop-filter", label: "Its filter", example: "blur(8px)", keywords: filterWords, grammar: "what filter takes, for what lies under the picture, or none"},
		func(d *Declarations) *string { return &d.Backdrop }, readFilter, appendEscaped, "none"),
}

// What is done to the picture itself.
var onPicture = []declaration{
	field(declaration{name: "gradient-map", label: "Gradient map", example: "navy teal ivory 60%", grammar: "two to eight colours from dark to light, and a percentage, such as 123 fed 80%25"},
		func(d *Declarations) *Map { return &d.Map }, readMap, appendMap),
	field(declaration{name: "sharpen", label: "Sharpen", example: "0.6", grammar: "a number from 0 to 3, such as 1", script: "number"},
		func(d *Declarations) *Sharpen { return &d.Sharpen }, readSharpen, appendSharpen, Sharpen{Declared: true}),
}

// What is done to the whole.
var overLayer = []declaration{
	field(declaration{name: "border-radius", label: "Radius", example: "24px", grammar: "one to four lengths or percentages, such as 12px or 50%25"},
		func(d *Declarations) *string { return &d.Radius }, readCorners, appendEscaped, "0px"),
	field(declaration{name: "filter", label: "Filter", example: "grayscale(1) contrast(1.2)", keywords: filterWords,
		grammar: "at most 16 of blur() brightness() contrast() grayscale() hue-rotate() invert() opacity() saturate() sepia() drop-shadow(), or none"},
		func(d *Declarations) *string { return &d.Filter }, readFilter, appendEscaped, "none"),
	field(declaration{name: "opacity", label: "Opacity", example: "0.8", grammar: "a number from 0 to 1 or a percentage, such as .6 or 60%25", script: "alpha"},
		func(d *Declarations) *Opacity { return &d.Opacity }, readOpacity, appendOpacity, Opacity{true, 1}),
	field(declaration{name: "matte", label: "Matte", example: "white", grammar: "a CSS colour, such as white or 0a7"},
		func(d *Declarations) *Color { return &d.Matte }, readColor, appendColor, Color{true, 255, 255, 255, 255}),
}

// readURL reads url(lane/path), with quotes or without.
func readURL(to *string, value string) string {
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

func appendURL(b []byte, source string) []byte { return appendEscaped(b, "url("+source+")") }

// Map is the value of gradient-map: the picture's luminance is mapped along Stops, mixed in at Strength.
type Map struct {
	Declared bool
	Stops    [maxStops]Color
	Count    int
	Strength float64 // 0–1
}

const maxStops = 8

func readMap(to *Map, value string) string {
	m := Map{Declared: true, Strength: 1}
	rest := strings.TrimSpace(value)
	for rest != "" {
		word := rest
		if i := strings.IndexAny(rest, " \t("); i >= 0 && rest[i] == '(' {
			end := strings.IndexByte(rest, ')')
			if end < 0 {
				return "unparsable"
			}
			word = rest[:end+1]
		} else if i >= 0 {
			word = rest[:i]
		}
		rest = strings.TrimSpace(rest[len(word):])
		if t, ok := strings.CutSuffix(word, "%"); ok && rest == "" && m.Count >= 2 {
			v, ok := cssNumber(t)
			if !ok {
				return "unparsable"
			}
			if v < 0 || v > 100 {
				return "out-of-range"
			}
			m.Strength = tidy(v) / 100
			break
		}
		c, ok := ParseColor(word)
		if !ok {
			return "unparsable"
		}
		if m.Count == maxStops {
			return "out-of-range"
		}
		m.Stops[m.Count] = c
		m.Count++
	}
	if m.Count < 2 {
		return "unparsable"
	}
	*to = m
	return ""
}

func appendMap(b []byte, m Map) []byte {
	for i := range m.Count {
		if i > 0 {
			b = append(b, "%20"...)
		}
		b = appendColor(b, m.Stops[i])
	}
	if m.Strength != 1 {
		b = append(appendNumber(append(b, "%20"...), tidy(m.Strength*100)), "%25"...)
	}
	return b
}

// Sharpen is the value of sharpen: an unsharp mask in units of its usual strength, 0–3.
type Sharpen struct {
	Declared bool
	Amount   float64
}

func readSharpen(to *Sharpen, value string) string {
	v, ok := cssNumber(value)
	if !ok {
		return "unparsable"
	}
	if v < 0 || v > 3 {
		return "out-of-range"
	}
	*to = Sharpen{true, v + 0}
	return ""
}

func appendSharpen(b []byte, s Sharpen) []byte { return appendNumber(b, s.Amount) }

// Radius is the value of border-radius: of each corner, from the top left one clockwise, across and down. Parts are of the slot's
// width across and of its height down.
type Radius struct {
	Declared     bool
	Across, Down [4]Length
}

// Round reports whether any corner is.
func (r *Radius) Round() bool { return r.Across != [4]Length{} && r.Down != [4]Length{} }

// readLengths reads up to four lengths that aren't below zero.
func readLengths(words []string) (v [4]Length, problem string) {
	for i, w := range words {
		l, ok := parseLength(w, "px")
		if !ok {
			return v, "unparsable"
		}
		if l.Px < 0 && l.Part <= 0 || l.Part < 0 && l.Px <= 0 { // of both kinds it may be above zero somewhere
			return v, "out-of-range"
		}
		v[i] = l
	}
	return v, ""
}

func readRadius(to *Radius, value string) string {
	axes := parts(value, '/')
	if len(axes) > 2 {
		return "unparsable"
	}
	r := Radius{Declared: true}
	for i, axis := range axes {
		words, ok := fourOf(axis)
		if !ok {
			return "unparsable"
		}
		v, problem := readLengths(words[:])
		if problem != "" {
			return problem
		}
		if r.Down = v; i == 0 {
			r.Across = v
		}
	}
	*to = r
	return ""
}

func readCorners(to *string, value string) string {
	var r Radius
	reason := readRadius(&r, value)
	if reason == "" {
		*to = r.text()
	}
	return reason
}

func (r Radius) text() string { return plainly.Replace(string(appendRadius(nil, r))) }

// Corners are the radii of border-radius.
func (d *Declarations) Corners() (r Radius) {
	if d.Radius != "" {
		readRadius(&r, d.Radius) // it was checked when it was declared
	}
	return r
}

func appendRadius(b []byte, r Radius) []byte {
	b = appendFour(b, r.Across)
	if r.Down != r.Across {
		b = appendFour(append(b, "%20/%20"...), r.Down)
	}
	return b
}

// appendFour writes four lengths with as few as say the same.
func appendFour(b []byte, v [4]Length) []byte {
	n := 4
	if v[3] == v[1] {
		n = 3
		if v[2] == v[0] {
			n = 2
			if v[1] == v[0] {
				n = 1
			}
		}
	}
	for i := range n {
		if i > 0 {
			b = append(b, "%20"...)
		}
		b = appendLength(b, v[i])
	}
	return b
}

func (r Radius) times(k float64) Radius {
	for i := range r.Across {
		r.Across[i], r.Down[i] = r.Across[i].times(k), r.Down[i].times(k)
	}
	return r
}

// A FilterFunction is one function of filter.
type FilterFunction struct {
	Name   string  // as CSS has it
	Amount float64 // of the others; degrees for hue-rotate; sigma in pixels for blur
	Shadow Shadow  // of drop-shadow
}

// Shadow is drop-shadow's arguments.
type Shadow struct {
	X, Y, Sigma float64 // pixels
	Color       Color
}

const maxFilters = 16

var filterNames = []string{"blur", "brightness", "contrast", "grayscale", "hue-rotate", "invert", "opacity", "saturate", "sepia", "drop-shadow"}

// filterWords are offered where a filter is nearly one of them.
var filterWords = func() (words []string) {
	for _, n := range filterNames {
		words = append(words, n+"()")
	}
	return append(words, "none")
}()

func readFilter(to *string, value string) string {
	list, reason := parseFilter(value)
	if reason != "" {
		return reason
	}
	if *to = writeFilter(list, 1); *to == "" {
		*to = "none"
	}
	return ""
}

// parseFilter reads a <filter-value-list> (Filter Effects Level 1, section 5), at most 16 functions.
func parseFilter(value string) (list []FilterFunction, reason string) {
	rest := strings.TrimSpace(value)
	if strings.EqualFold(rest, "none") {
		return nil, ""
	}
	for rest != "" {
		name, after, ok := strings.Cut(rest, "(")
		if !ok {
			return nil, "unparsable"
		}
		depth, end := 1, -1
		for i := range len(after) {
			switch after[i] {
			case '(':
				depth++
			case ')':
				if depth--; depth == 0 {
					end = i
				}
			}
			if end >= 0 {
				break
			}
		}
		if end < 0 {
			return nil, "unparsable"
		}
		f, reason := filterFunction(strings.ToLower(strings.TrimSpace(name)), strings.TrimSpace(after[:end]))
		if reason != "" {
			return nil, reason
		}
		if list = append(list, f); len(list) > maxFilters {
			return nil, "out-of-range"
		}
		rest = strings.TrimSpace(after[end+1:])
	}
	return list, ""
}

func filterFunction(name, arg string) (FilterFunction, string) {
	f := FilterFunction{Name: name}
	switch name {
	case "blur":
		if arg == "" {
			return f, ""
		}
		l, ok := parseLength(arg, "px")
		if !ok || l.Part != 0 {
			return f, "unparsable"
		}
		if l.Px < 0 || l.Px > maxSigma {
			return f, "out-of-range"
		}
		f.Amount = l.Px
	case "hue-rotate":
		if arg == "" {
			return f, ""
		}
		v, ok := ParseAngle(arg, false)
		if !ok {
			return f, "unparsable"
		}
		f.Amount = tidy(v)
	case "brightness", "contrast", "grayscale", "invert", "opacity", "saturate", "sepia":
		f.Amount = 1
		if arg == "" {
			return f, ""
		}
		scale := 1.0
		if t, ok := strings.CutSuffix(arg, "%"); ok {
			arg, scale = t, 100
		}
		v, ok := cssNumber(arg)
		if !ok {
			return f, "unparsable"
		}
		if v < 0 || v > 1e6 {
			return f, "out-of-range"
		}
		f.Amount = v / scale
		if name != "brightness" && name != "contrast" && name != "saturate" {
			f.Amount = math.Min(1, f.Amount)
		}
	case "drop-shadow":
		return dropShadow(f, arg)
	default:
		return f, "unparsable"
	}
	return f, ""
}

const maxSigma = 10_000

// dropShadow reads two or three lengths and a colour before or behind them.
func dropShadow(f FilterFunction, arg string) (FilterFunction, string) {
	f.Shadow.Color = Color{Declared: true, A: 255}
	var lengths []float64
	hasColor := false
	for arg = strings.TrimSpace(arg); arg != ""; arg = strings.TrimSpace(arg) {
		word := arg
		if i := strings.IndexAny(arg, " \t("); i >= 0 && arg[i] == '(' {
			end := strings.IndexByte(arg, ')')
			if end < 0 {
				return f, "unparsable"
			}
			word = arg[:end+1]
		} else if i >= 0 {
			word = arg[:i]
		}
		arg = arg[len(word):]
		_, bare := cssNumber(word)
		if l, ok := parseLength(word, "px"); ok && l.Part == 0 && (!bare || l.Px == 0 && !hasColorDigits(word)) {
			lengths = append(lengths, l.Px)
			continue
		}
		c, ok := ParseColor(word)
		if !ok || hasColor {
			return f, "unparsable"
		}
		f.Shadow.Color, hasColor = c, true
	}
	if len(lengths) < 2 || len(lengths) > 3 {
		return f, "unparsable"
	}
	f.Shadow.X, f.Shadow.Y = lengths[0], lengths[1]
	if len(lengths) == 3 {
		if lengths[2] < 0 || lengths[2] > maxSigma {
			return f, "out-of-range"
		}
		f.Shadow.Sigma = lengths[2]
	}
	return f, ""
}

// hasColorDigits reports whether a word of zeros is a colour, such as 000.
func hasColorDigits(word string) bool { return len(word) >= 3 }

// writeFilter writes a list the one way, lengths multiplied by k.
func writeFilter(list []FilterFunction, k float64) string {
	var b []byte
	for i, f := range list {
		if i > 0 {
			b = append(b, ' ')
		}
		b = append(append(b, f.Name...), '(')
		switch f.Name {
		case "blur":
			b = append(appendNumber(b, f.Amount*k), "px"...)
		case "hue-rotate":
			b = append(appendNumber(b, tidy(f.Amount)), "deg"...)
		case "drop-shadow":
			for _, v := range []float64{f.Shadow.X, f.Shadow.Y, f.Shadow.Sigma} {
				b = append(appendNumber(b, v*k), "px "...)
			}
			b = appendColor(b, f.Shadow.Color)
		default:
			b = appendNumber(b, f.Amount)
		}
		b = append(b, ')')
	}
	return string(b)
}

// Filters are the functions of filter, in order.
func (d *Declarations) Filters() []FilterFunction {
	list, _ := parseFilter(d.Filter) // it was checked when it was declared
	return list
}

// BackdropFilters are the functions of backdrop-filter, in order.
func (d *Declarations) BackdropFilters() []FilterFunction {
	list, _ := parseFilter(d.Backdrop)
	return list
}

// Opacity is the value of opacity, 0 (nothing to see) to 1. The zero Opacity means not declared.
type Opacity struct {
	Declared bool
	Value    float64
}

func readOpacity(to *Opacity, value string) string {
	scale := 1.0
	if n := len(value) - 1; n > 0 && value[n] == '%' {
		value, scale = value[:n], 100
	}
	v, ok := cssNumber(value)
	if !ok {
		return "unparsable"
	}
	if !(v >= 0 && v <= scale) {
		return "out-of-range"
	}
	*to = Opacity{true, math.Abs(v / scale)} // no negative zero
	return ""
}

func appendOpacity(b []byte, o Opacity) []byte { return appendNumber(b, o.Value) }
