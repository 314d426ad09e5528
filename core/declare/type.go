package declare

import (
	"math"
	"slices"
	"strconv"
	"strings"
)

// Type is how a layer's text is set, as its rules say. Lengths are CSS pixels.
type Type struct {
	Families      []string
	Size          float64
	Least, Most   float64 // of fit(); 0: the size is given
	Weight        int
	Italic        bool
	Variations    []Variation
	LineHeight    float64 // of the size, or pixels; 0: normal
	HeightInEms   bool
	LetterSpacing Spacing
	WordSpacing   Spacing
	Align         string // start, end, left, right, center, justify
	Middle        string // align-content: normal, start, center, end
	Transform     string
	Wrap          string // wrap, nowrap, balance
	Space         string // of white-space
	Anywhere      bool
	Clamp         int // lines; 0: all
	Shadows       []InnerShadow
	Stroke        float64
	StrokeColor   Color
	Color         Color
	RightToLeft   bool
	Writing       string   // horizontal-tb, vertical-rl, vertical-lr
	Orientation   string   // mixed, upright, sideways
	Lines         []string // underline, overline, line-through
	LineColor     Color    // not declared: the text's
	Hyphens       bool
}

// Vertical reports whether lines go down.
func (t *Type) Vertical() bool { return t.Writing != "" && t.Writing != "horizontal-tb" }

// Variation is a variable font's axis and where the font stands on it.
type Variation struct {
	Axis  string
	Value float64
}

// Spacing is a length in pixels or in ems.
type Spacing struct {
	Value float64
	Ems   bool
}

// Of is the length at a font size.
func (s Spacing) Of(size float64) float64 {
	if s.Ems {
		return s.Value * size
	}
	return s.Value
}

// Type is how the layer's text is set.
func (b *Box) Type() Type {
	t := Type{Size: 16, Weight: 400, Align: "start", Middle: "normal", Transform: "none", Wrap: "wrap", Space: "pre-line", Color: Color{Declared: true, A: 255}, Hyphens: true}
	for _, f := range parts(b.of("font-family"), ',') {
		if f = strings.TrimSpace(f); f != "" {
			if s, ok := cssString(f); ok {
				f = s
			}
			t.Families = append(t.Families, f)
		}
	}
	t.Size, t.Least, t.Most, _ = parseFontSize(b.or("font-size", "16px"))
	t.Weight, _ = strconv.Atoi(b.or("font-weight", "400"))
	t.Italic = b.or("font-style", "normal") != "normal"
	t.Variations, _ = parseVariations(b.of("font-variation-settings"))
	if text := b.of("font-stretch"); text != "" && text != "100%" && !slices.ContainsFunc(t.Variations, func(v Variation) bool { return v.Axis == "wdth" }) {
		width, _ := strconv.ParseFloat(strings.TrimSuffix(text, "%"), 64)
		t.Variations = append(t.Variations, Variation{"wdth", width})
	}
	t.LineHeight, t.HeightInEms, _ = parseLineHeight(b.or("line-height", "normal"))
	t.LetterSpacing, _ = parseSpacing(b.of("letter-spacing"))
	t.WordSpacing, _ = parseSpacing(b.of("word-spacing"))
	t.Align, t.Middle, t.Transform = b.or("text-align", t.Align), b.or("align-content", t.Middle), b.or("text-transform", t.Transform)
	t.Wrap, t.Space = b.or("text-wrap", t.Wrap), b.or("white-space", t.Space)
	if t.Space == "nowrap" {
		t.Space, t.Wrap = "normal", "nowrap"
	}
	if t.Space == "pre" {
		t.Wrap = "nowrap"
	}
	t.Anywhere = b.or("overflow-wrap", "normal") != "normal"
	t.Clamp, _ = strconv.Atoi(b.of("line-clamp"))
	t.Shadows, _ = parseTextShadows(b.of("text-shadow"))
	t.Stroke, t.StrokeColor, _ = parseStroke(b.of("-webkit-text-stroke"))
	if text := b.of("color"); text != "" {
		t.Color, _ = ParseColor(text)
	}
	if !t.StrokeColor.Declared {
		t.StrokeColor = t.Color
	}
	t.RightToLeft = b.of("direction") == "rtl"
	t.Writing, t.Orientation = b.or("writing-mode", "horizontal-tb"), b.or("text-orientation", "mixed")
	t.Lines, t.LineColor, _ = parseDecoration(b.of("text-decoration"))
	t.Hyphens = b.or("hyphens", "manual") == "manual"
	return t
}

func (b *Box) or(name, initial string) string {
	if text := b.of(name); text != "" {
		return text
	}
	return initial
}

func readFamily(value string) (string, string) {
	if s, ok := cssString(value); ok {
		if value = s; strings.TrimSpace(s) == "" || strings.ContainsAny(s, `"'\,`) || len(s) > 100 {
			return "", "unparsable"
		}
		return quoted(value), ""
	}
	words := fields(value)
	name := strings.Join(words, " ")
	if name == "" || strings.ContainsAny(name, `"'\(),;{}`) || len(name) > 100 {
		return "", "unparsable"
	}
	return name, ""
}

const leastFont = 0.5

func readFontSize(value string) (string, string) {
	size, least, most, reason := parseFontSize(value)
	switch {
	case reason != "":
		return "", reason
	case most > 0:
		return "fit(" + number(least) + "px, " + number(most) + "px)", ""
	}
	return number(size) + "px", ""
}

func parseFontSize(value string) (size, least, most float64, reason string) {
	one := func(word string) float64 {
		l, ok := parseLength(strings.ToLower(strings.TrimSpace(word)), "")
		switch {
		case !ok || l.Part != 0:
			reason = "unparsable"
		case l.Px < leastFont || l.Px > maxFontSize:
			reason = "out-of-range"
		}
		return l.Px
	}
	if inner, ok := cutFunction(strings.ToLower(value), "fit"); ok {
		list := parts(inner, ',')
		if len(list) != 2 {
			return 0, 0, 0, "unparsable"
		}
		least, most = one(list[0]), one(list[1])
		if reason == "" && least > most {
			reason = "out-of-range"
		}
		return most, least, most, reason
	}
	return one(value), 0, 0, reason
}

func readWeight(value string) (string, string) {
	switch strings.ToLower(value) {
	case "normal":
		return "400", ""
	case "bold":
		return "700", ""
	}
	v, ok := cssNumber(value)
	switch {
	case !ok:
		return "", "unparsable"
	case v < 1 || v > 1000:
		return "", "out-of-range"
	}
	return strconv.Itoa(int(math.Round(v))), ""
}

// stretches are how wide a font's letters are, in parts of a hundred of the usual (CSS Fonts Level 4, section 2.5).
var stretches = []struct {
	word  string
	width float64
}{
	{"ultra-condensed", 50}, {"extra-condensed", 62.5}, {"condensed", 75}, {"semi-condensed", 87.5}, {"normal", 100},
	{"semi-expanded", 112.5}, {"expanded", 125}, {"extra-expanded", 150}, {"ultra-expanded", 200},
}

func stretchWords() (list []string) {
	for _, s := range stretches {
		list = append(list, s.word)
	}
	return list
}

// readStretch gives it as a percentage.
func readStretch(value string) (string, string) {
	for _, s := range stretches {
		if strings.EqualFold(value, s.word) {
			return number(s.width) + "%", ""
		}
	}
	text, ok := strings.CutSuffix(value, "%")
	v, is := cssNumber(text)
	switch {
	case !ok || !is:
		return "", "unparsable"
	case v < 50 || v > 200:
		return "", "out-of-range"
	}
	return number(v) + "%", ""
}

func readVariations(value string) (string, string) {
	list, reason := parseVariations(value)
	return inList(list, reason, "normal", func(v Variation) string { return quoted(v.Axis) + " " + number(v.Value) })
}

func parseVariations(value string) (list []Variation, reason string) {
	if value == "" || strings.EqualFold(value, "normal") {
		return nil, ""
	}
	for _, one := range parts(value, ',') {
		words := fields(one)
		if len(words) != 2 {
			return nil, "unparsable"
		}
		axis, ok := cssString(words[0])
		v, is := cssNumber(words[1])
		if !ok || !is || len(axis) != 4 || strings.ContainsFunc(axis, func(r rune) bool { return r <= ' ' || r > '~' || r == '"' || r == '\\' }) {
			return nil, "unparsable"
		}
		if math.Abs(v) > 32767 || len(list) == 16 {
			return nil, "out-of-range"
		}
		list = append(list, Variation{axis, v})
	}
	return list, ""
}

func readLineHeight(value string) (string, string) {
	v, ems, reason := parseLineHeight(value)
	switch {
	case reason != "":
		return "", reason
	case v == 0:
		return "normal", ""
	case ems:
		return number(v), ""
	}
	return number(v) + "px", ""
}

func parseLineHeight(value string) (v float64, ems bool, reason string) {
	value = strings.ToLower(strings.TrimSpace(value))
	if value == "normal" {
		return 0, false, ""
	}
	if n, ok := cssNumber(value); ok {
		v, ems = n, true
	} else if s, err := parseSpacing(value); err == "" && value != "" && s.Ems {
		v, ems = s.Value, true
	} else if l, ok := parseLength(value, ""); ok && l.Part == 0 {
		v = l.Px
	} else if ok && l.Px == 0 {
		v, ems = l.Part, true
	} else {
		return 0, false, "unparsable"
	}
	if most := 2000.0; v <= 0 || v > most || ems && v > 20 {
		return 0, false, "out-of-range"
	}
	return v, ems, ""
}

func readSpacing(value string) (string, string) {
	s, reason := parseSpacing(value)
	switch {
	case reason != "":
		return "", reason
	case s.Value == 0:
		return "normal", ""
	case s.Ems:
		return number(s.Value) + "em", ""
	}
	return number(s.Value) + "px", ""
}

func parseSpacing(value string) (s Spacing, reason string) {
	value = strings.ToLower(strings.TrimSpace(value))
	if value == "" || value == "normal" {
		return s, ""
	}
	if text, ok := strings.CutSuffix(value, "em"); ok {
		v, is := cssNumber(text)
		if !is {
			return s, "unparsable"
		}
		s = Spacing{v, true}
	} else {
		l, is := parseLength(value, "px")
		if !is || l.Part != 0 {
			return s, "unparsable"
		}
		s = Spacing{l.Px, false}
	}
	if math.Abs(s.Value) > 500 || s.Ems && math.Abs(s.Value) > 10 {
		return s, "out-of-range"
	}
	return s, ""
}

func readClamp(value string) (string, string) {
	if strings.EqualFold(value, "none") {
		return "none", ""
	}
	n, err := strconv.Atoi(value)
	switch {
	case err != nil:
		return "", "unparsable"
	case n < 1 || n > 1000:
		return "", "out-of-range"
	}
	return strconv.Itoa(n), ""
}

func readTextShadow(value string) (string, string) {
	list, reason := parseTextShadows(value)
	return inList(list, reason, "none", func(s InnerShadow) string {
		return number(s.X) + "px " + number(s.Y) + "px " + number(s.Blur) + "px " + plainly.Replace(string(appendColor(nil, s.Color)))
	})
}

func parseTextShadows(value string) (list []InnerShadow, reason string) {
	if value == "" || strings.EqualFold(value, "none") {
		return nil, ""
	}
	for _, one := range parts(value, ',') {
		n := 0
		for _, w := range fields(one) {
			_, bare := cssNumber(w)
			if _, ok := parseLength(w, "px"); ok && (!bare || len(w) < 3) {
				n++
			}
			if strings.EqualFold(w, "inset") {
				return nil, "unparsable"
			}
		}
		got, reason := parseShadows("inset " + one)
		if reason != "" || n > 3 {
			return nil, "unparsable"
		}
		list = append(list, got[0])
	}
	if len(list) > maxShadows {
		return nil, "out-of-range"
	}
	return list, ""
}

func readStroke(value string) (string, string) {
	w, c, reason := parseStroke(value)
	if reason != "" {
		return "", reason
	}
	text := number(w) + "px"
	if c.Declared {
		text += " " + plainly.Replace(string(appendColor(nil, c)))
	}
	return text, ""
}

func parseStroke(value string) (width float64, c Color, reason string) {
	for _, w := range fields(value) {
		if v, ok := borderWidth(w); ok {
			if width = v; v < 0 || v > 500 {
				return 0, c, "out-of-range"
			}
			continue
		}
		var ok bool
		if c, ok = ParseColor(w); !ok {
			return 0, c, "unparsable"
		}
	}
	return width, c, ""
}

func readDecoration(value string) (string, string) {
	lines, c, reason := parseDecoration(value)
	if reason != "" {
		return "", reason
	}
	if len(lines) == 0 {
		return "none", ""
	}
	text := strings.Join(lines, " ")
	if c.Declared {
		text += " " + plainly.Replace(string(appendColor(nil, c)))
	}
	return text, ""
}

func parseDecoration(value string) (lines []string, c Color, reason string) {
	for _, w := range fields(value) {
		switch l := strings.ToLower(w); l {
		case "none", "solid", "auto":
		case "underline", "overline", "line-through":
			if !slices.Contains(lines, l) {
				lines = append(lines, l)
			}
		default:
			var ok bool
			if c, ok = ParseColor(w); !ok {
				return nil, c, "unparsable"
			}
		}
	}
	slices.SortFunc(lines, func(a, b string) int {
		return strings.Index("underline overline line-through", a) - strings.Index("underline overline line-through", b)
	})
	return lines, c, ""
}

// readBoxFont reads the font shorthand: style, weight, width, size with or without a line height, and families (CSS Fonts Level 4, section 2.7).
func readBoxFont(b *Box, value string) string {
	style, weight, stretch, size, height := "normal", "400", "100%", "", "normal"
	rest := strings.TrimSpace(value)
	for size == "" {
		word := rest
		if i := strings.IndexFunc(rest, func(r rune) bool { return r <= ' ' }); i >= 0 && !strings.HasPrefix(strings.ToLower(rest), "fit(") {
			word = rest[:i]
		} else if strings.HasPrefix(strings.ToLower(rest), "fit(") {
			end := strings.IndexByte(rest, ')')
			if end < 0 {
				return "unparsable"
			}
			word = rest[:end+1]
			if tail := rest[end+1:]; strings.HasPrefix(tail, "/") {
				word += strings.Fields(tail)[0]
			}
		}
		if word == "" {
			return "unparsable"
		}
		rest = strings.TrimSpace(rest[len(word):])
		switch lower := strings.ToLower(word); lower {
		case "normal":
			continue
		case "italic", "oblique":
			style = lower
			continue
		}
		if text, reason := readWeight(word); reason == "" {
			weight = text
			continue
		}
		if text, reason := readStretch(word); reason == "" && !strings.HasSuffix(word, "%") {
			stretch = text
			continue
		}
		head, tail, slash := strings.Cut(word, "/")
		text, reason := readFontSize(head)
		if reason != "" {
			return reason
		}
		size = text
		if !slash && strings.HasPrefix(rest, "/") {
			words := strings.Fields(strings.TrimPrefix(rest, "/"))
			if len(words) == 0 {
				return "unparsable"
			}
			tail, slash = words[0], true
			rest = strings.TrimSpace(strings.TrimPrefix(rest, "/"))
			rest = strings.TrimSpace(rest[len(words[0]):])
		}
		if slash {
			if height, reason = readLineHeight(tail); reason != "" {
				return reason
			}
		}
	}
	family, reason := propertyOfBox("font-family").read(rest)
	if reason != "" {
		return reason
	}
	for name, text := range map[string]string{"font-style": style, "font-weight": weight, "font-stretch": stretch, "font-size": size, "line-height": height, "font-family": family} {
		b.say(name, text)
	}
	return ""
}
