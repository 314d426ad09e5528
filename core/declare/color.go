package declare

import (
	"image/color"
	"math"
	"strconv"
	"strings"

	"golang.org/x/image/colornames"
)

// A Color is a CSS <color> in sRGB, straight alpha. The zero Color means not declared.
type Color struct {
	Declared   bool
	R, G, B, A uint8
}

// Opaque reports whether nothing shows through.
func (c Color) Opaque() bool { return c.A == 255 }

// appendColor writes a colour the one way: six hexadecimal digits, eight where it isn't opaque.
func appendColor(b []byte, c Color) []byte {
	const hex = "0123456789abcdef"
	parts := []uint8{c.R, c.G, c.B, c.A}
	if c.A == 255 {
		parts = parts[:3]
	}
	for _, v := range parts {
		b = append(b, hex[v>>4], hex[v&15])
	}
	return b
}

// ParseColor reads a CSS <color> (CSS Color Level 4): names, hexadecimal with or without #, rgb(), hsl(), hwb(),
// oklab(), oklch(), transparent. What lies outside sRGB is clipped to it, as browsers do.
func ParseColor(text string) (Color, bool) {
	s := strings.ToLower(strings.TrimSpace(text))
	if s == "transparent" {
		return Color{Declared: true}, true
	}
	if s == "rebeccapurple" {
		return Color{true, 0x66, 0x33, 0x99, 255}, true
	}
	if c, ok := colornames.Map[s]; ok {
		return fromRGBA(c), true
	}
	if name, args, ok := strings.Cut(s, "("); ok && strings.HasSuffix(args, ")") {
		return colorFunction(strings.TrimSpace(name), args[:len(args)-1])
	}
	return hexColor(strings.TrimPrefix(s, "#"))
}

func fromRGBA(c color.RGBA) Color { return Color{true, c.R, c.G, c.B, c.A} }

func hexColor(s string) (Color, bool) {
	for i := range len(s) {
		if !strings.ContainsRune("0123456789abcdef", rune(s[i])) {
			return Color{}, false
		}
	}
	switch len(s) {
	case 3, 4:
		long := make([]byte, 0, 8)
		for i := range len(s) {
			long = append(long, s[i], s[i])
		}
		s = string(long)
	case 6, 8:
	default:
		return Color{}, false
	}
	v, err := strconv.ParseUint(s, 16, 64)
	if err != nil {
		return Color{}, false
	}
	if len(s) == 6 {
		v = v<<8 | 255
	}
	return Color{true, uint8(v >> 24), uint8(v >> 16), uint8(v >> 8), uint8(v)}, true
}

// colorFunction reads the arguments of a colour function, with commas (legacy) or white space and a slash.
func colorFunction(name, args string) (Color, bool) {
	legacy := strings.Contains(args, ",")
	var parts []string
	alpha := "1"
	if legacy {
		parts = strings.Split(args, ",")
		for i := range parts {
			parts[i] = strings.TrimSpace(parts[i])
		}
		if len(parts) == 4 {
			alpha, parts = parts[3], parts[:3]
		}
	} else {
		main, a, ok := strings.Cut(args, "/")
		parts = strings.Fields(main)
		if ok {
			alpha = strings.TrimSpace(a)
		}
	}
	if len(parts) != 3 || legacy && (name == "hwb" || strings.HasPrefix(name, "ok")) {
		return Color{}, false
	}
	a, ok := component(alpha, 1, 1)
	if !ok {
		return Color{}, false
	}
	var v [3]float64
	read := func(i int, whole, number float64) bool {
		v[i], ok = component(parts[i], whole, number)
		return ok
	}
	hue := func(i int) bool {
		if parts[i] == "none" {
			v[i] = 0
			return true
		}
		v[i], ok = ParseAngle(parts[i], true)
		return ok
	}
	var rgb [3]float64 // 0–1
	switch name {
	case "rgb", "rgba":
		if !read(0, 255, 1) || !read(1, 255, 1) || !read(2, 255, 1) {
			return Color{}, false
		}
		rgb = [3]float64{v[0] / 255, v[1] / 255, v[2] / 255}
	case "hsl", "hsla":
		if !hue(0) || !read(1, 100, 1) || !read(2, 100, 1) {
			return Color{}, false
		}
		rgb = hslToRGB(v[0], clamp01(v[1]/100), clamp01(v[2]/100))
	case "hwb":
		if !hue(0) || !read(1, 100, 1) || !read(2, 100, 1) {
			return Color{}, false
		}
		white, black := clamp01(v[1]/100), clamp01(v[2]/100)
		if white+black >= 1 {
			grey := white / (white + black)
			rgb = [3]float64{grey, grey, grey}
			break
		}
		rgb = hslToRGB(v[0], 1, 0.5)
		for i := range rgb {
			rgb[i] = rgb[i]*(1-white-black) + white
		}
	case "oklab":
		if !read(0, 1, 1) || !read(1, 0.4, 1) || !read(2, 0.4, 1) {
			return Color{}, false
		}
		rgb = oklabToRGB(clamp01(v[0]), v[1], v[2])
	case "oklch":
		if !read(0, 1, 1) || !read(1, 0.4, 1) || !hue(2) {
			return Color{}, false
		}
		sin, cos := math.Sincos(v[2] * math.Pi / 180)
		chroma := math.Max(0, v[1])
		rgb = oklabToRGB(clamp01(v[0]), chroma*cos, chroma*sin)
	default:
		return Color{}, false
	}
	byteOf := func(f float64) uint8 { return uint8(math.Floor(clamp01(f)*255 + 0.5)) }
	return Color{true, byteOf(rgb[0]), byteOf(rgb[1]), byteOf(rgb[2]), byteOf(a)}, true
}

func clamp01(v float64) float64 { return math.Min(1, math.Max(0, v)) }

// component reads a number, or a percentage of whole, or none.
func component(s string, whole, number float64) (float64, bool) {
	if s == "none" {
		return 0, true
	}
	if t, ok := strings.CutSuffix(s, "%"); ok {
		v, ok := cssNumber(t)
		return v / 100 * whole, ok
	}
	v, ok := cssNumber(s)
	return v * number, ok
}

// hslToRGB is CSS Color Level 4, section 7.1. h in degrees.
func hslToRGB(h, s, l float64) [3]float64 {
	h = math.Mod(math.Mod(h, 360)+360, 360)
	f := func(n float64) float64 {
		k := math.Mod(n+h/30, 12)
		a := s * math.Min(l, 1-l)
		return l - a*math.Max(-1, math.Min(math.Min(k-3, 9-k), 1))
	}
	return [3]float64{f(0), f(8), f(4)}
}

// oklabToRGB is CSS Color Level 4, section 9.2 and the sample code of section 18, up to gamma-encoded sRGB.
func oklabToRGB(l, a, b float64) [3]float64 {
	l_, m_, s_ := l+0.3963377773761749*a+0.2158037573099136*b, l-0.1055613458156586*a-0.0638541728258133*b, l-0.0894841775298119*a-1.2914855480194092*b
	l3, m3, s3 := l_*l_*l_, m_*m_*m_, s_*s_*s_
	linear := [3]float64{
		4.0767416360759583*l3 - 3.3077115392580629*m3 + 0.2309699031821043*s3,
		-1.2684379732850315*l3 + 2.6097573492876882*m3 - 0.3413193760026570*s3,
		-0.0041960761386756*l3 - 0.7034186179359362*m3 + 1.7076146940746117*s3,
	}
	for i, v := range linear {
		if v <= 0.0031308 {
			linear[i] = 12.92 * v
		} else {
			linear[i] = 1.055*math.Pow(v, 1/2.4) - 0.055
		}
	}
	return linear
}

// ParseAngle reads a CSS <angle> into degrees: deg, grad, rad, turn; a bare number only where bare is set, or 0.
func ParseAngle(s string, bare bool) (float64, bool) {
	s = strings.ToLower(s)
	for _, u := range []struct {
		unit    string
		degrees float64
	}{{"deg", 1}, {"grad", 0.9}, {"rad", 180 / math.Pi}, {"turn", 360}} {
		if t, ok := strings.CutSuffix(s, u.unit); ok && !(u.unit == "rad" && strings.HasSuffix(s, "grad")) {
			v, ok := cssNumber(t)
			return v * u.degrees, ok
		}
	}
	v, ok := cssNumber(s)
	return v, ok && (bare || v == 0)
}
