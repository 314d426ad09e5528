package subject

import (
	"math"
	"strconv"
)

// ColourNames are the words for colours by which pictures are found: the eleven basic ones, and cyan.
var ColourNames = []string{"black", "white", "grey", "red", "orange", "yellow", "green", "cyan", "blue", "purple", "pink", "brown"}

// ColourName is the word for a colour, #rrggbb, by its place in Oklch; "" where it is none.
func ColourName(colour string) string {
	v, err := strconv.ParseUint(colour[min(1, len(colour)):], 16, 32)
	if len(colour) != 7 || colour[0] != '#' || err != nil {
		return ""
	}
	linear := func(c uint64) float64 {
		s := float64(c&255) / 255
		if s <= 0.04045 {
			return s / 12.92
		}
		return math.Pow((s+0.055)/1.055, 2.4)
	}
	r, g, b := linear(v>>16), linear(v>>8), linear(v)
	l := math.Cbrt(0.4122214708*r + 0.5363325363*g + 0.0514459929*b)
	m := math.Cbrt(0.2119034982*r + 0.6806995451*g + 0.1073969566*b)
	s := math.Cbrt(0.0883024619*r + 0.2817188376*g + 0.6299787005*b)
	light := 0.2104542553*l + 0.7936177850*m - 0.0040720468*s
	x, y := 1.9779984951*l-2.4285922050*m+0.4505937099*s, 0.0259040371*l+0.7827717662*m-0.8086757660*s
	chroma, hue := math.Hypot(x, y), math.Mod(math.Atan2(y, x)*180/math.Pi+360, 360)
	switch {
	case light < 0.22 || light < 0.32 && chroma < 0.04:
		return "black"
	case chroma < 0.02 && light > 0.92:
		return "white"
	case chroma < 0.035:
		if light > 0.95 {
			return "white"
		}
		return "grey"
	}
	switch {
	case hue >= 345 || hue < 42:
		if light > 0.72 || (hue >= 345 || hue < 15) && light > 0.6 {
			return "pink"
		}
		if hue > 25 && light < 0.45 && chroma < 0.12 {
			return "brown"
		}
		return "red"
	case hue < 82:
		if light < 0.62 && chroma < 0.13 || light < 0.5 {
			return "brown"
		}
		return "orange"
	case hue < 113:
		if light < 0.45 {
			return "brown"
		}
		return "yellow"
	case hue < 172:
		return "green"
	case hue < 218:
		return "cyan"
	case hue < 285:
		return "blue"
	case hue < 325:
		return "purple"
	}
	if light > 0.6 {
		return "pink"
	}
	return "purple"
}
