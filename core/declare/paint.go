package declare

import (
	"math"
	"strings"
)

// A Length is pixels plus a part of some whole: CSS's <length-percentage>.
type Length struct {
	Px   float64
	Part float64 // 1 is 100 %
}

// Of is the length where the whole is so long.
func (l Length) Of(whole float64) float64 { return l.Px + l.Part*whole }

const maxLength = 100_000

// parseLength reads px, %, and a bare number, which is what bare says: pixels where it is "px", percent where
// it is "%".
func parseLength(s, bare string) (Length, bool) {
	s = strings.ToLower(s)
	unit := bare
	switch {
	case strings.HasSuffix(s, "px"):
		s, unit = s[:len(s)-2], "px"
	case strings.HasSuffix(s, "%"):
		s, unit = s[:len(s)-1], "%"
	}
	v, ok := cssNumber(s)
	if !ok || math.Abs(v) > maxLength {
		return Length{}, false
	}
	if v == 0 {
		v = 0 // no negative zero
	}
	if unit == "%" {
		return Length{Part: tidy(v) / 100}, true
	}
	return Length{Px: v}, true
}

// Region is the value of xywh (Media Fragments, section 4.2.2): a part of the upright picture.
type Region struct {
	Declared   bool
	Percent    bool
	X, Y, W, H float64
}

func setRegion(to *Region, value string) string {
	r := Region{Declared: true}
	value = strings.ToLower(value)
	if rest, ok := strings.CutPrefix(value, "percent:"); ok {
		r.Percent, value = true, rest
	} else {
		value = strings.TrimPrefix(value, "pixel:")
	}
	parts := strings.Split(value, ",")
	if len(parts) != 4 {
		return "unparsable"
	}
	for i, to := range []*float64{&r.X, &r.Y, &r.W, &r.H} {
		v, ok := cssNumber(strings.TrimSpace(parts[i]))
		if !ok {
			return "unparsable"
		}
		if v < 0 || v > maxSide || r.Percent && v > 100 || i >= 2 && v == 0 {
			return "out-of-range"
		}
		*to = v
	}
	*to = r
	return ""
}

func appendRegion(b []byte, r Region) []byte {
	if r.Percent {
		b = append(b, "percent:"...)
	}
	for i, v := range []float64{r.X, r.Y, r.W, r.H} {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendNumber(b, v)
	}
	return b
}

func (r Region) String() string { return string(appendRegion(nil, r)) }

// Mirror is the value of scale: whether the picture is mirrored across (X) and down (Y).
type Mirror struct {
	Declared bool
	X, Y     bool
}

func setMirror(to *Mirror, value string) string {
	parts := strings.Fields(value)
	if len(parts) == 1 {
		parts = append(parts, parts[0])
	}
	if len(parts) != 2 {
		return "unparsable"
	}
	m := Mirror{Declared: true}
	for i, to := range []*bool{&m.X, &m.Y} {
		v, ok := cssNumber(parts[i])
		if !ok {
			return "unparsable"
		}
		if v != 1 && v != -1 {
			return "out-of-range"
		}
		*to = v < 0
	}
	*to = m
	return ""
}

func appendMirror(b []byte, m Mirror) []byte {
	word := map[bool]string{false: "1", true: "-1"}
	return append(append(append(b, word[m.X]...), "%20"...), word[m.Y]...)
}

// Turn is the value of rotate: clockwise, in degrees, 0 to below 360.
type Turn struct {
	Declared bool
	Degrees  float64
}

func setTurn(to *Turn, value string) string {
	v, ok := ParseAngle(value, false)
	if !ok {
		return "unparsable"
	}
	if math.Abs(v) > 1e6 {
		return "out-of-range"
	}
	v = math.Mod(v, 360)
	if v < 0 {
		v += 360
	}
	v = math.Round(v*1e6) / 1e6 // a turn of an eighth in radians is the one in degrees
	if v >= 360 {
		v = 0
	}
	*to = Turn{true, v + 0}
	return ""
}

// Position is the value of object-position. The zero Position means not declared: the centre.
type Position struct {
	Declared bool
	Aim      Aim    // where it isn't Plain, X and Y are not used
	X, Y     Length // from the left and top edge of the slot; parts are of what the slot is longer than the picture
}

// Aim says whether a position follows the picture's content.
type Aim uint8

const (
	Plain   Aim = iota
	Subject     // what the picture is of
	Detail      // its busiest part
)

var aims = []string{Subject: "subject", Detail: "detail"}

// setPosition reads a CSS <position> of one to four values (CSS Values Level 4, section 8.3).
func setPosition(to *Position, value string) string {
	words := strings.Fields(strings.ToLower(value))
	edge := map[string]struct {
		across, down bool
		part         float64
	}{"left": {true, false, 0}, "right": {true, false, 1}, "top": {false, true, 0}, "bottom": {false, true, 1}, "center": {true, true, 0.5}}
	p := Position{Declared: true, X: Length{Part: 0.5}, Y: Length{Part: 0.5}}
	if len(words) == 1 {
		if a := find(aims, words[0]); a != 0 {
			*to = Position{Declared: true, Aim: Aim(a)}
			return ""
		}
	}
	isWord := func(s string) bool { _, ok := edge[s]; return ok }
	switch len(words) {
	case 1:
		if e, ok := edge[words[0]]; ok {
			if e.across {
				p.X = Length{Part: e.part}
			} else {
				p.Y = Length{Part: e.part}
			}
			break
		}
		l, ok := parseLength(words[0], "%")
		if !ok {
			return "unparsable"
		}
		p.X = l
	case 2:
		a, b := words[0], words[1]
		if ea, eb := edge[a], edge[b]; isWord(a) && isWord(b) && (!ea.across || !eb.down) { // top left, and the like
			a, b = b, a
		}
		for i, w := range []string{a, b} {
			to := []*Length{&p.X, &p.Y}[i]
			if e, ok := edge[w]; ok {
				if i == 0 && !e.across || i == 1 && !e.down {
					return "unparsable"
				}
				*to = Length{Part: e.part}
				continue
			}
			l, ok := parseLength(w, "%")
			if !ok {
				return "unparsable"
			}
			*to = l
		}
	case 3, 4:
		// Each axis is an edge, with an offset from it or without.
		var hasX, hasY bool
		for i := 0; i < len(words); {
			e, ok := edge[words[i]]
			if !ok {
				return "unparsable"
			}
			offset := Length{}
			hasOffset := i+1 < len(words) && !isWord(words[i+1])
			if hasOffset {
				if offset, ok = parseLength(words[i+1], "%"); !ok || words[i] == "center" {
					return "unparsable"
				}
			}
			at := Length{Part: e.part + offset.Part, Px: offset.Px}
			if e.part == 1 {
				at = Length{Part: tidy(100-100*offset.Part) / 100, Px: 0 - offset.Px}
			}
			switch {
			case words[i] == "center" && hasX:
				hasY, p.Y = true, at
			case words[i] == "center":
				// the axis that the other edge leaves over
				if other := words[len(words)-2]; i == 0 && (edge[other].across && !edge[other].down) {
					hasY, p.Y = true, at
				} else {
					hasX, p.X = true, at
				}
			case e.across && !hasX:
				hasX, p.X = true, at
			case e.down && !e.across && !hasY:
				hasY, p.Y = true, at
			default:
				return "unparsable"
			}
			i++
			if hasOffset {
				i++
			}
		}
		if !hasX || !hasY {
			return "unparsable"
		}
	default:
		return "unparsable"
	}
	*to = p
	return ""
}

// appendPosition writes two values, or edges with offsets where an axis is measured from both ends.
func appendPosition(b []byte, p Position) []byte {
	if p.Aim != Plain {
		return append(b, aims[p.Aim]...)
	}
	plain := func(l Length) bool { return l.Px == 0 || l.Part == 0 }
	one := func(b []byte, l Length, far string) []byte {
		switch {
		case l.Part == 1 && l.Px != 0 && far != "":
			return append(appendNumber(append(append(b, far...), "%20"...), -l.Px), "px"...)
		case l.Px != 0:
			return append(appendNumber(b, l.Px), "px"...)
		}
		return appendNumber(b, tidy(l.Part*100))
	}
	if plain(p.X) && plain(p.Y) {
		return one(append(one(b, p.X, ""), "%20"...), p.Y, "")
	}
	b = edgeForm(b, p.X, "left", "right", one)
	return edgeForm(append(b, "%20"...), p.Y, "top", "bottom", one)
}

func edgeForm(b []byte, l Length, near, far string, one func([]byte, Length, string) []byte) []byte {
	if l.Part == 1 && l.Px != 0 {
		return one(b, l, far)
	}
	return one(append(append(b, near...), "%20"...), l, "")
}

// tidy takes off what binary fractions add to percentages.
func tidy(v float64) float64 { return math.Round(v*1e6)/1e6 + 0 }

// Radius is the value of border-radius: top left, top right, bottom right, bottom left. Parts are of the
// slot's width across and of its height down.
type Radius struct {
	Declared bool
	Corner   [4]Length
}

func setRadius(to *Radius, value string) string {
	words := strings.Fields(value)
	if len(words) < 1 || len(words) > 4 {
		return "unparsable"
	}
	var v [4]Length
	for i, w := range words {
		l, ok := parseLength(w, "px")
		if !ok {
			return "unparsable"
		}
		if l.Px < 0 || l.Part < 0 {
			return "out-of-range"
		}
		v[i] = l
	}
	switch len(words) {
	case 1:
		v[1], v[2], v[3] = v[0], v[0], v[0]
	case 2:
		v[2], v[3] = v[0], v[1]
	case 3:
		v[3] = v[1]
	}
	*to = Radius{true, v}
	return ""
}

func appendRadius(b []byte, r Radius) []byte {
	n := 4
	c := r.Corner
	if c[3] == c[1] {
		n = 3
		if c[2] == c[0] {
			n = 2
			if c[1] == c[0] {
				n = 1
			}
		}
	}
	for i := range n {
		if i > 0 {
			b = append(b, "%20"...)
		}
		if c[i].Part != 0 {
			b = append(appendNumber(b, tidy(c[i].Part*100)), "%25"...)
		} else {
			b = append(appendNumber(b, c[i].Px), "px"...)
		}
	}
	return b
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
		if l, ok := parseLength(word, "px"); ok && l.Part == 0 && (strings.HasSuffix(strings.ToLower(word), "px") || l.Px == 0 && !hasColorDigits(word)) {
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

// Map is the value of gradient-map: the picture's luminance is mapped along Stops, mixed in at Strength.
type Map struct {
	Declared bool
	Stops    [maxStops]Color
	Count    int
	Strength float64 // 0–1
}

const maxStops = 8

func setMap(to *Map, value string) string {
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
