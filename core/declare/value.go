package declare

import (
	"math"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"
)

// appendNumber writes v the one way that the address form writes numbers: the shortest decimal that reads
// back as v, without exponent.
func appendNumber(b []byte, v float64) []byte {
	if v == math.Trunc(v) && v < 1e15 {
		return strconv.AppendInt(b, int64(v), 10)
	}
	return strconv.AppendFloat(b, v, 'f', -1, 64)
}

func setResolution(to *float64, value string) string {
	n := len(value) - 1
	if n < 1 || value[n] != 'x' && value[n] != 'X' {
		return "unparsable"
	}
	v, ok := cssNumber(value[:n])
	if !ok {
		return "unparsable"
	}
	if !(v >= 0.5 && v <= 4) {
		return "out-of-range"
	}
	*to = v
	return ""
}

func setColor(to *Color, value string) string {
	c, ok := ParseColor(value)
	if !ok {
		return "unparsable"
	}
	*to = c
	return ""
}

func setSharpen(to *Sharpen, value string) string {
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

// filterWords are offered where a filter is nearly one of them.
var filterWords = func() (words []string) {
	for _, n := range filterNames {
		words = append(words, n+"()")
	}
	return append(words, "none")
}()

func setFilter(to *string, value string) string {
	list, reason := parseFilter(value)
	if reason != "" {
		return reason
	}
	if *to = writeFilter(list, 1); *to == "" {
		*to = "none"
	}
	return ""
}

func setOpacity(to *Opacity, value string) string {
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

func setDownload(d *Declarations, value string) string {
	if len(value) > 200 || !utf8.ValidString(value) || strings.ContainsFunc(value, func(r rune) bool { return r < ' ' || r == 0x7f || r == '/' || r == '\\' }) {
		return "unparsable"
	}
	d.Download = Download{true, value}
	return ""
}

// lastYear keeps times within what RFC 3339 can write.
const lastYear = 9999

func setExpires(d *Declarations, value string) string {
	value = strings.ToUpper(value)
	if !strings.HasSuffix(value, "Z") {
		return "unparsable"
	}
	t, err := time.Parse(time.RFC3339, value)
	if err != nil || t.Nanosecond() != 0 {
		return "unparsable"
	}
	if t.Unix() <= 0 || t.Year() > lastYear {
		return "out-of-range"
	}
	d.Expires = t.Unix()
	return ""
}

func setToken(to *string, value string, most int, may func(byte) bool) string {
	if len(value) > most {
		return "unparsable"
	}
	for i := range len(value) {
		if !may(value[i]) {
			return "unparsable"
		}
	}
	*to = value
	return ""
}

func isKeyID(c byte) bool { return c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-' }

func isBase64URL(c byte) bool {
	return c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z' || c >= '0' && c <= '9' || c == '-' || c == '_'
}

// appendEscaped writes text into a query the one way of the address form: percent-encoded UTF-8 but for
// letters, digits and -_.!~*'()/,:
func appendEscaped(b []byte, text string) []byte { return escape(b, text, "-_.!~*'()/,:") }

// AppendSegment writes one element of a path the one way of the address form: as encodeURIComponent does.
func AppendSegment(b []byte, text string) []byte { return escape(b, text, "-_.!~*'()") }

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

func setKeyword[T ~uint8](to *T, words []string, value string) string {
	i := find(words, strings.ToLower(value))
	if i == 0 {
		return "unparsable"
	}
	*to = T(i)
	return ""
}

func setLength(to *float64, value string) string {
	if n := len(value) - 2; n > 0 && strings.EqualFold(value[n:], "px") {
		value = value[:n]
	}
	v, ok := cssNumber(value)
	if !ok {
		return "unparsable"
	}
	if !(v >= 1 && v <= maxSide) {
		return "out-of-range"
	}
	*to = v
	return ""
}

func setRatio(to *Ratio, value string) string {
	left, right, two := strings.Cut(value, "/")
	w, ok := cssNumber(strings.TrimSpace(left))
	h, ok2 := 1.0, true
	if two {
		h, ok2 = cssNumber(strings.TrimSpace(right))
	}
	if !ok || !ok2 {
		return "unparsable"
	}
	if !(w > 0 && h > 0 && w <= maxSide && h <= maxSide && w/h >= 1.0/1000 && w/h <= 1000) {
		return "out-of-range"
	}
	if w == math.Trunc(w) && h == math.Trunc(h) {
		g := gcd(int(w), int(h))
		w, h = w/float64(g), h/float64(g)
	}
	*to = Ratio{w, h}
	return ""
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

func setQuality(to *Quality, value string) string {
	if strings.EqualFold(value, "lossless") {
		*to = Lossless
		return ""
	}
	v, ok := cssNumber(value)
	if !ok || v != math.Trunc(v) {
		return "unparsable"
	}
	if !(v >= 1 && v <= 100) {
		return "out-of-range"
	}
	*to = Quality(v)
	return ""
}

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
