package svg

import (
	"math"
	"strconv"
	"strings"

	"echolane/core/declare"
	"echolane/core/raster"
)

type matrix = raster.Affine

var identity = raster.Identity

func moved(x, y float64) matrix  { return matrix{1, 0, 0, 1, x, y} }
func scaled(x, y float64) matrix { return matrix{x, 0, 0, y, 0, 0} }
func turned(degrees float64) matrix {
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	return matrix{cos, sin, -sin, cos, 0, 0}
}
func (b box) matrix() matrix { return matrix{b.x1 - b.x0, 0, 0, b.y1 - b.y0, b.x0, b.y0} }
func number(s string) (float64, bool) {
	v, err := strconv.ParseFloat(strings.TrimSpace(s), 64)
	return v, err == nil && !math.IsNaN(v) && math.Abs(v) < 1e9
}

// A box is a rectangle, empty at first.
type box struct{ x0, y0, x1, y1 float64 }

var nothing = box{math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)}

func (b box) empty() bool { return !(b.x1 >= b.x0 && b.y1 >= b.y0) }

func (b *box) add(x, y float64) {
	b.x0, b.y0, b.x1, b.y1 = math.Min(b.x0, x), math.Min(b.y0, y), math.Max(b.x1, x), math.Max(b.y1, y)
}

func (b *box) join(o box) {
	if !o.empty() {
		b.add(o.x0, o.y0)
		b.add(o.x1, o.y1)
	}
}

// through is the box around what a matrix makes of b.
func (b box) through(m matrix) box {
	out := nothing
	if b.empty() {
		return out
	}
	for _, p := range [][2]float64{{b.x0, b.y0}, {b.x1, b.y0}, {b.x0, b.y1}, {b.x1, b.y1}} {
		out.add(m.At(p[0], p[1]))
	}
	return out
}

// Percentages are of the viewport's width, height, or what lies between (SVG 2, section 8.9).
type axis uint8

const (
	across axis = iota
	down
	either
)

// measures are what relative lengths are relative to.
type measures struct {
	w, h float64 // of the viewport
	em   float64
}

func (m measures) of(a axis) float64 {
	switch a {
	case across:
		return m.w
	case down:
		return m.h
	}
	return math.Sqrt((m.w*m.w + m.h*m.h) / 2)
}

var units = map[string]float64{"px": 1, "in": 96, "cm": 96 / 2.54, "mm": 96 / 25.4, "q": 96 / 101.6, "pt": 96.0 / 72, "pc": 16}

// length reads a length or percentage, in pixels.
func (m measures) length(s string, a axis) (float64, bool) {
	s = strings.ToLower(strings.TrimSpace(s))
	if v, ok := number(s); ok {
		return v, true
	}
	if p, ok := strings.CutSuffix(s, "%"); ok {
		v, ok := number(p)
		return v / 100 * m.of(a), ok
	}
	for _, u := range []struct {
		name string
		of   float64
	}{{"rem", 16}, {"em", m.em}, {"ex", m.em / 2}, {"ch", m.em / 2}, {"vw", m.w / 100}, {"vh", m.h / 100}} {
		if p, ok := strings.CutSuffix(s, u.name); ok {
			v, ok := number(p)
			return v * u.of, ok
		}
	}
	for name, of := range units {
		if p, ok := strings.CutSuffix(s, name); ok {
			if v, ok := number(p); ok {
				return v * of, true
			}
		}
	}
	return 0, false
}

// or is a length, or what holds without one.
func (m measures) or(s string, a axis, usual float64) float64 {
	if v, ok := m.length(s, a); ok {
		return v
	}
	return usual
}

// part is a fraction: a number, or a percentage of 1.
func part(s string, usual float64) float64 {
	if p, ok := strings.CutSuffix(strings.TrimSpace(s), "%"); ok {
		if v, ok := number(p); ok {
			return v / 100
		}
		return usual
	}
	if v, ok := number(s); ok {
		return v
	}
	return usual
}

// numbers reads numbers that spaces or commas part, as path data does: signs and points part them too. It ends with what
// isn't one.
func numbers(s string) []float64 {
	var all []float64
	for {
		v, rest, ok := leading(s)
		if !ok {
			return all
		}
		all, s = append(all, v), rest
	}
}

// leading takes a number off the front.
func leading(s string) (v float64, rest string, ok bool) {
	s = strings.TrimLeft(s, " \t\r\n\f,")
	i := 0
	digits := func() (some bool) {
		for i < len(s) && s[i] >= '0' && s[i] <= '9' {
			i, some = i+1, true
		}
		return some
	}
	if i < len(s) && (s[i] == '+' || s[i] == '-') {
		i++
	}
	some := digits()
	if i < len(s) && s[i] == '.' {
		i++
		some = digits() || some
	}
	if !some {
		return 0, s, false
	}
	if i < len(s) && s[i]|0x20 == 'e' {
		back := i
		i++
		if i < len(s) && (s[i] == '+' || s[i] == '-') {
			i++
		}
		if !digits() {
			i = back
		}
	}
	v, err := strconv.ParseFloat(s[:i], 64)
	if err != nil || math.Abs(v) > 1e12 {
		return 0, s, false
	}
	return v, s[i:], true
}

// transform reads a transform list, of attributes or of CSS; what it can't read does nothing.
func (m measures) transform(s string) matrix {
	out := identity
	for {
		name, rest, ok := strings.Cut(strings.TrimLeft(s, " \t\r\n,"), "(")
		if !ok {
			return out
		}
		inner, after, ok := strings.Cut(rest, ")")
		if !ok {
			return out
		}
		s = after
		var v []float64
		for i, field := range strings.FieldsFunc(inner, func(r rune) bool { return r == ',' || r == ' ' || r == '\n' || r == '\t' || r == '\r' }) {
			if n, ok := number(field); ok {
				v = append(v, n)
			} else if angle, ok := declare.ParseAngle(field, true); ok {
				v = append(v, angle)
			} else if n, ok := m.length(field, axis(i%2)); ok {
				v = append(v, n)
			} else if n := numbers(field); len(n) > 0 { // such as 1-2
				v = append(v, n...)
			}
		}
		if len(v) == 0 {
			continue
		}
		get := func(i int, usual float64) float64 {
			if i < len(v) {
				return v[i]
			}
			return usual
		}
		switch strings.ToLower(strings.TrimSpace(name)) {
		case "translate":
			out = out.After(moved(v[0], get(1, 0)))
		case "translatex":
			out = out.After(moved(v[0], 0))
		case "translatey":
			out = out.After(moved(0, v[0]))
		case "scale":
			out = out.After(scaled(v[0], get(1, v[0])))
		case "scalex":
			out = out.After(scaled(v[0], 1))
		case "scaley":
			out = out.After(scaled(1, v[0]))
		case "rotate":
			x, y := get(1, 0), get(2, 0)
			out = out.After(moved(x, y)).After(turned(v[0])).After(moved(-x, -y))
		case "skewx":
			out = out.After(matrix{1, 0, math.Tan(v[0] * math.Pi / 180), 1, 0, 0})
		case "skewy":
			out = out.After(matrix{1, math.Tan(v[0] * math.Pi / 180), 0, 1, 0, 0})
		case "matrix":
			if len(v) == 6 {
				out = out.After(matrix{v[0], v[1], v[2], v[3], v[4], v[5]})
			}
		}
	}
}

// A viewBox is a part of the user space that is fitted into a viewport; ok is false where there is none.
func viewBox(s string) (b box, ok bool) {
	v := numbers(s)
	if len(v) != 4 || v[2] <= 0 || v[3] <= 0 {
		return box{}, false
	}
	return box{v[0], v[1], v[0] + v[2], v[1] + v[3]}, true
}

// fitted is the matrix that puts a box into a viewport of w×h at the origin, as preserveAspectRatio says (SVG 2, section 8.6).
func fitted(b box, w, h float64, how string) matrix {
	kx, ky := w/(b.x1-b.x0), h/(b.y1-b.y0)
	words := strings.Fields(how)
	if len(words) > 0 && words[0] == "none" {
		return scaled(kx, ky).After(moved(-b.x0, -b.y0))
	}
	align := "xMidYMid"
	if len(words) > 0 && len(words[0]) == 8 {
		align = words[0]
	}
	k := math.Min(kx, ky)
	if len(words) > 1 && words[1] == "slice" {
		k = math.Max(kx, ky)
	}
	place := func(word string, room float64) float64 {
		switch word {
		case "Min":
			return 0
		case "Max":
			return room
		}
		return room / 2
	}
	x, y := place(align[1:4], w-k*(b.x1-b.x0)), place(align[5:8], h-k*(b.y1-b.y0))
	return moved(x, y).After(scaled(k, k)).After(moved(-b.x0, -b.y0))
}
