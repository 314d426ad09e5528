package declare

import (
	"fmt"
	"math"
	"net/url"
	"strconv"
	"strings"

	"echolane/core/spelling"
)

// A Problem is one thing that is wrong with a query.
type Problem struct {
	Parameter string // the name, as it was given
	Given     string // the value, as it was given, decoded; shortened to 80 bytes
	Reason    string // a stable word: unknown-name, repeated, empty, unparsable, out-of-range, not-decodable
	Allowed   string // what may stand there
	Nearest   string // the nearest right spelling of the name or keyword, "" where none is near
}

func (p Problem) String() string {
	var s string
	switch p.Reason {
	case "unknown-name":
		s = fmt.Sprintf("there is no declaration named %q", p.Parameter)
	case "repeated":
		s = fmt.Sprintf("%s is given twice", p.Parameter)
	case "empty":
		s = fmt.Sprintf("%s has no value", p.Parameter)
	case "not-decodable":
		s = fmt.Sprintf("%q is not percent-encoded as a query must be", p.Given)
	default:
		s = fmt.Sprintf("%s=%s is not allowed", p.Parameter, p.Given)
	}
	if p.Nearest != "" {
		s += fmt.Sprintf("; did you mean %s?", p.Nearest)
	}
	return s
}

// Problems is the error that Parse gives: everything that is wrong with a query, in its order, at most 20.
type Problems []Problem

func (ps Problems) Error() string {
	words := make([]string, len(ps))
	for i, p := range ps {
		words[i] = p.String()
	}
	return strings.Join(words, "; ")
}

const (
	maxProblems = 20
	maxQuery    = 8 << 10
)

// Parse reads a query string, without its question mark. Its error is a Problems.
//
// Names and keywords are read in any case; `+` is a space; empty pieces between `&` are passed over, as the
// URL standard's form decoder does.
func Parse(query string) (Declarations, error) {
	var d Declarations
	var problems Problems
	if len(query) > maxQuery {
		return d, Problems{{Parameter: "query", Given: shorten(query), Reason: "out-of-range", Allowed: "at most 8192 bytes"}}
	}
	report := func(p Problem) {
		if len(problems) < maxProblems {
			p.Given = shorten(p.Given)
			p.Parameter = shorten(p.Parameter)
			problems = append(problems, p)
		}
	}
	var seen [len(properties)]bool
	for piece := range strings.SplitSeq(query, "&") {
		if piece == "" {
			continue
		}
		rawName, rawValue, _ := strings.Cut(piece, "=")
		name, err := unescape(rawName)
		if err != nil {
			report(Problem{Parameter: rawName, Given: rawName, Reason: "not-decodable", Allowed: "percent-encoded UTF-8, with % itself as %25"})
			continue
		}
		i := index(name)
		if i < 0 {
			report(Problem{Parameter: name, Given: rawValue, Reason: "unknown-name", Allowed: strings.Join(Names(), ", "), Nearest: spelling.Nearest(name, Names())})
			continue
		}
		p := &properties[i]
		value, err := unescape(rawValue)
		if err != nil {
			report(Problem{Parameter: p.name, Given: rawValue, Reason: "not-decodable", Allowed: "percent-encoded UTF-8, with % itself as %25"})
			continue
		}
		if seen[i] {
			report(Problem{Parameter: p.name, Given: value, Reason: "repeated", Allowed: "once"})
			continue
		}
		seen[i] = true
		value = strings.Trim(value, " \t\n\r\f") // CSS white space
		if value == "" {
			report(Problem{Parameter: p.name, Reason: "empty", Allowed: p.allowed})
			continue
		}
		if reason := p.set(&d, value); reason != "" {
			report(Problem{Parameter: p.name, Given: value, Reason: reason, Allowed: p.allowed, Nearest: spelling.Nearest(value, p.keywords)})
		}
	}
	if problems != nil {
		return Declarations{}, problems
	}
	return d, nil
}

func index(name string) int {
	for i := range properties {
		if strings.EqualFold(properties[i].name, name) {
			return i
		}
	}
	return -1
}

func unescape(s string) (string, error) {
	if !strings.ContainsAny(s, "%+") {
		return s, nil
	}
	return url.QueryUnescape(s)
}

func shorten(s string) string {
	if len(s) <= 80 {
		return s
	}
	return strings.ToValidUTF8(s[:77], "") + "…"
}

// A property is one name of the language: how its value is read, written and inherited.
type property struct {
	name     string
	allowed  string   // what may stand there, for people
	keywords []string // words to offer when a value is nearly one of them
	set      func(d *Declarations, value string) (reason string)
	declared func(d *Declarations) bool
	inherit  func(d, from *Declarations)
	append   func(b []byte, d *Declarations) []byte
}

const maxSide = 65535

// properties stand in the order of the language, which is the order of the address form.
var properties = [6]property{
	{
		name: "width", allowed: "a length in CSS pixels from 1 to 65535, such as 480 or 480px",
		set:      func(d *Declarations, v string) string { return setLength(&d.Width, v) },
		declared: func(d *Declarations) bool { return d.Width != 0 },
		inherit:  func(d, from *Declarations) { d.Width = from.Width },
		append:   func(b []byte, d *Declarations) []byte { return append(b, number(d.Width)...) },
	},
	{
		name: "height", allowed: "a length in CSS pixels from 1 to 65535, such as 320 or 320px",
		set:      func(d *Declarations, v string) string { return setLength(&d.Height, v) },
		declared: func(d *Declarations) bool { return d.Height != 0 },
		inherit:  func(d, from *Declarations) { d.Height = from.Height },
		append:   func(b []byte, d *Declarations) []byte { return append(b, number(d.Height)...) },
	},
	{
		name: "aspect-ratio", allowed: "width/height or one number, such as 4/3 or 1.91, from 1/1000 to 1000",
		set:      func(d *Declarations, v string) string { return setRatio(&d.Aspect, v) },
		declared: func(d *Declarations) bool { return !d.Aspect.IsZero() },
		inherit:  func(d, from *Declarations) { d.Aspect = from.Aspect },
		append:   func(b []byte, d *Declarations) []byte { return append(b, d.Aspect.String()...) },
	},
	{
		name: "object-fit", allowed: "fill, cover or contain", keywords: fits[1:],
		set:      func(d *Declarations, v string) string { return setKeyword(&d.Fit, fits, v) },
		declared: func(d *Declarations) bool { return d.Fit != FitUnset },
		inherit:  func(d, from *Declarations) { d.Fit = from.Fit },
		append:   func(b []byte, d *Declarations) []byte { return append(b, d.Fit.String()...) },
	},
	{
		name: "format", allowed: "webp, jpeg or png", keywords: formats[1:],
		set:      func(d *Declarations, v string) string { return setKeyword(&d.Format, formats, v) },
		declared: func(d *Declarations) bool { return d.Format != FormatUnset },
		inherit:  func(d, from *Declarations) { d.Format = from.Format },
		append:   func(b []byte, d *Declarations) []byte { return append(b, d.Format.String()...) },
	},
	{
		name: "quality", allowed: "a whole number from 1 to 100, or lossless", keywords: []string{"lossless"},
		set:      func(d *Declarations, v string) string { return setQuality(&d.Quality, v) },
		declared: func(d *Declarations) bool { return d.Quality != 0 },
		inherit:  func(d, from *Declarations) { d.Quality = from.Quality },
		append:   func(b []byte, d *Declarations) []byte { return append(b, d.Quality.String()...) },
	},
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
	i := 0
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
