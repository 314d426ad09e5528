package declare

import (
	"math"
	"slices"
	"strconv"
	"strings"

	"echolane/core/length"
)

func keyword(words []string, i int) string {
	if i < len(words) {
		return words[i]
	}
	return ""
}

// find returns the index of word in words, 0 (no value's own index) where it isn't there.
func find(words []string, word string) int {
	for i, w := range words {
		if w != "" && w == word {
			return i
		}
	}
	return 0
}

// appendNumber writes v the one way that the address form writes numbers: the shortest decimal that reads
// back as v, without exponent.
func appendNumber(b []byte, v float64) []byte {
	if v == math.Trunc(v) && v < 1e15 {
		return strconv.AppendInt(b, int64(v), 10)
	}
	return strconv.AppendFloat(b, v, 'f', -1, 64)
}

func number(v float64) string { return string(appendNumber(nil, v)) }

// cssNumber reads a CSS <number> (CSS Syntax Level 3, section 4.3.12): an optional sign, digits with an
// optional fraction (`.5`, but not `5.`), an optional exponent. What strconv takes beyond that is refused.
func cssNumber(s string) (float64, bool) {
	if s == "" || len(s) > 32 {
		return 0, false
	}
	i, n := 0, 0
	for ; i < len(s) && i < 9 && s[i] >= '0' && s[i] <= '9'; i++ {
		n = 10*n + int(s[i]-'0')
	}
	if i == len(s) { // a whole number, as nearly all are
		return float64(n), true
	}
	i = 0
	digits := func() int {
		from := i
		for i < len(s) && s[i] >= '0' && s[i] <= '9' {
			i++
		}
		return i - from
	}
	if s[i] == '+' || s[i] == '-' {
		i++
	}
	whole := digits()
	if i < len(s) && s[i] == '.' {
		i++
		if digits() == 0 {
			return 0, false
		}
	} else if whole == 0 {
		return 0, false
	}
	if i < len(s) && (s[i] == 'e' || s[i] == 'E') {
		i++
		if i < len(s) && (s[i] == '+' || s[i] == '-') {
			i++
		}
		if digits() == 0 {
			return 0, false
		}
	}
	if i != len(s) {
		return 0, false
	}
	v, err := strconv.ParseFloat(s, 64)
	return v, err == nil && !math.IsInf(v, 0)
}

// A Length is pixels plus a part of some whole: CSS's <length-percentage>.
type Length struct {
	Px   float64
	Part float64 // 1 is 100 %
}

// Of is the length where the whole is so long.
func (l Length) Of(whole float64) float64 { return l.Px + l.Part*whole }

const maxLength = 100_000

// parseLength reads CSS's lengths and percentages, calc() and its like of them, and a bare number, which is what bare says: pixels
// where it is "px", percent where it is "%".
func parseLength(s, bare string) (Length, bool) {
	number, unit := s, bare
	switch n := len(s); {
	case n > 2 && strings.EqualFold(s[n-2:], "px"):
		number, unit = s[:n-2], "px"
	case n > 1 && s[n-1] == '%':
		number, unit = s[:n-1], "%"
	}
	var l Length
	v, ok := cssNumber(number)
	switch {
	case ok && unit == "%":
		l.Part = tidy(v) / 100
	case ok:
		l.Px = v
	default:
		if len(s) < 2 || len(s) > 200 {
			return Length{}, false
		}
		long, err := length.Parse(s)
		if err != nil {
			return Length{}, false
		}
		if l.Px, l.Part, ok = long.Linear(); !ok {
			return Length{}, false
		}
		l.Px, l.Part = tidy(l.Px), tidy(100*l.Part)/100
	}
	if !(math.Abs(l.Px) <= maxLength && math.Abs(l.Part) <= maxLength) {
		return Length{}, false
	}
	l.Px += 0 // no negative zero
	l.Part += 0
	return l, true
}

func appendLength(b []byte, l Length) []byte {
	switch {
	case l.Part == 0:
		return append(appendNumber(b, l.Px), "px"...)
	case l.Px == 0:
		return append(appendNumber(b, tidy(l.Part*100)), "%25"...)
	}
	b = append(appendNumber(append(b, "calc("...), tidy(l.Part*100)), "%25%20"...)
	sign, px := "%2B%20", l.Px
	if px < 0 {
		sign, px = "-%20", -px
	}
	return append(appendNumber(append(b, sign...), px), "px)"...)
}

// text is the length as a stylesheet has it.
func (l Length) text() string { return plainly.Replace(string(appendLength(nil, l))) }

func (l Length) times(k float64) Length { return Length{l.Px * k, l.Part} }

// plainly takes a query's spelling off.
var plainly = strings.NewReplacer("%25", "%", "%20", " ", "%2B", "+")

// fields divides at white space that stands in no parentheses or quotes.
func fields(s string) []string {
	return slices.DeleteFunc(divide(s, isSpace), func(w string) bool { return w == "" })
}

// parts divides at a character that stands in no parentheses or quotes, and takes the white space off.
func parts(s string, at byte) []string {
	list := divide(s, func(c byte) bool { return c == at })
	for i := range list {
		list[i] = trim(list[i])
	}
	return list
}

func isSpace(c byte) bool { return c == ' ' || c == '\t' || c == '\n' || c == '\r' || c == '\f' }

// divide divides at characters that stand in no parentheses or quotes.
func divide(s string, at func(byte) bool) (list []string) {
	depth, from, quote := 0, 0, byte(0)
	for i := range len(s) {
		switch c := s[i]; {
		case quote != 0:
			if c == quote {
				quote = 0
			}
		case c == '"' || c == '\'':
			quote = c
		case c == '(':
			depth++
		case c == ')':
			depth--
		case depth == 0 && at(c):
			list, from = append(list, s[from:i]), i+1
		}
	}
	return append(list, s[from:])
}

// tidy takes off what binary fractions add to percentages.
func tidy(v float64) float64 { return math.Round(v*1e6)/1e6 + 0 }

// fourOf spreads one to four words over top, right, bottom and left.
func fourOf(value string) ([4]string, bool) {
	w := fields(value)
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

func readColor(to *Color, value string) string {
	c, ok := ParseColor(value)
	if !ok {
		return "unparsable"
	}
	*to = c
	return ""
}

// appendEscaped writes text into a query the one way of the address form: percent-encoded UTF-8 but for
// letters, digits and -_.!~*'()/,:
func appendEscaped(b []byte, text string) []byte { return escape(b, text, "-_.!~*'()/,:") }

// AppendSegment writes one element of a path the one way of the address form: as encodeURIComponent does.
func AppendSegment(b []byte, text string) []byte { return escape(b, text, "-_.!~*'()") }

// AppendPath writes a slash and a path: each of its elements between slashes, or whole the path as one element, as lanes
// have it that take URLs.
func AppendPath(b []byte, path string, whole bool) []byte {
	if whole {
		return AppendSegment(append(b, '/'), path)
	}
	for element := range strings.SplitSeq(path, "/") {
		b = AppendSegment(append(b, '/'), element)
	}
	return b
}

func escape(b []byte, text, plain string) []byte {
	const hex = "0123456789ABCDEF"
	for i := range len(text) {
		c := text[i]
		if c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || strings.IndexByte(plain, c) >= 0 {
			b = append(b, c)
		} else {
			b = append(b, '%', hex[c>>4], hex[c&15])
		}
	}
	return b
}
