package render

import (
	"math"

	"echolane/core/declare"
	"echolane/core/raster"
)

// shadeSteps is how finely a gradient's colours are worked out between its first stop and its last.
const shadeSteps = 8192

// shades are a gradient's colours over an area.
type shades struct {
	at      func(x, y float64) float64 // where on its line a place of the area is, in parts of it
	repeats bool
	low     float64                    // where the first stop is
	high    float64                    // where the last is
	colours [shadeSteps + 2][4]float64 // premultiplied, 0–1: before the first stop, between, behind the last
}

// gradientOf is a gradient as a picture of w×h pixels, premultiplied; k is device pixels to one of CSS.
func gradientOf(g declare.Gradient, w, h int, k float64) *raster.RGBA {
	s := shadesOf(g, float64(w), float64(h), k)
	var table [len(s.colours)][4]uint8
	for i, c := range s.colours {
		for j := range c {
			table[i][j] = uint8(255*c[j] + 0.5)
		}
	}
	out := raster.PooledRGBA(w, h)
	for y := range h {
		row := out.Row(y)
		for x := range w {
			copy(row[4*x:][:4], table[s.index(float64(x)+0.5, float64(y)+0.5)][:])
		}
	}
	out.Opaque = g.Opaque()
	return out
}

// shadesOf works a gradient out over an area of w×h canvas pixels (CSS Images Level 3, section 3; Level 4, section 3.3).
func shadesOf(g declare.Gradient, w, h, k float64) *shades {
	s := &shades{repeats: g.Repeats}
	of := func(l declare.Length, whole float64) float64 { return l.Px*k + l.Part*whole }
	var length float64 // of the gradient's line, in pixels
	switch g.Kind {
	case declare.LinearGradient:
		sin, cos := math.Sincos(g.Angle * math.Pi / 180)
		if g.Corner != [2]int8{} { // its middle line goes through the other two corners
			d := math.Hypot(w, h)
			sin, cos = float64(g.Corner[0])*h/d, -float64(g.Corner[1])*w/d
		}
		length = math.Abs(w*sin) + math.Abs(h*cos)
		s.at = func(x, y float64) float64 { return ((x-w/2)*sin-(y-h/2)*cos)/length + 0.5 }
	case declare.RadialGradient:
		cx, cy := of(g.At[0], w), of(g.At[1], h)
		rx, ry := radiiOf(g, cx, cy, w, h, k)
		length = rx
		s.at = func(x, y float64) float64 {
			dx, dy := (x-cx)/max(rx, 1e-9), (y-cy)/max(ry, 1e-9)
			return math.Sqrt(dx*dx + dy*dy)
		}
	default:
		cx, cy, from := of(g.At[0], w), of(g.At[1], h), g.Angle/360
		s.at = func(x, y float64) float64 {
			t := math.Atan2(x-cx, cy-y)/(2*math.Pi) - from
			return t - math.Floor(t)
		}
	}
	places := placesOf(g.Stops, length, k)
	s.low, s.high = places[0], places[len(places)-1]
	type stop struct {
		at     float64
		colour [4]float64
		half   float64 // where between it and the next they are mixed in halves, 0–1
	}
	var stops []stop
	for i, at := range places {
		if c := g.Stops[i].Color; !g.Stops[i].Hint {
			a := float64(c.A) / 255
			stops = append(stops, stop{at, [4]float64{float64(c.R) / 255 * a, float64(c.G) / 255 * a, float64(c.B) / 255 * a, a}, 0.5})
		} else if before := &stops[len(stops)-1]; places[i+1] > before.at {
			before.half = (at - before.at) / (places[i+1] - before.at)
		}
	}
	last := len(stops) - 1
	colour := func(t float64) [4]float64 {
		i := last
		for i > 0 && stops[i].at > t {
			i--
		}
		if i == last || t < stops[0].at {
			return stops[i].colour
		}
		a, b := &stops[i], &stops[i+1]
		p := (t - a.at) / (b.at - a.at)
		switch {
		case a.half == 0.5:
		case a.half <= 0:
			p = 1
		case a.half >= 1:
			p = 0
		default: // (CSS Images Level 4, section 3.5.1)
			p = math.Pow(p, math.Log(0.5)/math.Log(a.half))
		}
		var out [4]float64
		for j := range out {
			out[j] = a.colour[j] + (b.colour[j]-a.colour[j])*p
		}
		return out
	}
	for i := range s.colours {
		s.colours[i] = colour(s.low + (s.high-s.low)*(float64(i)-0.5)/shadeSteps)
	}
	s.colours[0], s.colours[shadeSteps+1] = stops[0].colour, stops[last].colour
	return s
}

// index is which of the colours a place has.
func (s *shades) index(x, y float64) int {
	t := s.at(x, y)
	wide := s.high - s.low
	if s.repeats && wide > 0 {
		t -= s.low
		t -= math.Floor(t/wide) * wide
		t += s.low
	}
	switch {
	case t < s.low:
		return 0
	case t >= s.high:
		return shadeSteps + 1
	}
	return min(shadeSteps, max(1, int((t-s.low)*shadeSteps/wide+1)))
}

// radiiOf are a radial gradient's (CSS Images Level 3, section 3.2.2).
func radiiOf(g declare.Gradient, cx, cy, w, h, k float64) (rx, ry float64) {
	left, right, top, bottom := math.Abs(cx), math.Abs(w-cx), math.Abs(cy), math.Abs(h-cy)
	if g.Size == declare.RadialByLength {
		return g.Radii[0].Px*k + g.Radii[0].Part*w, g.Radii[1].Px*k + g.Radii[1].Part*h
	}
	closest := g.Size == declare.ClosestCorner || g.Size == declare.ClosestEdge
	pick := math.Max
	if closest {
		pick = math.Min
	}
	rx, ry = pick(left, right), pick(top, bottom)
	corner := g.Size == declare.ClosestCorner || g.Size == declare.FarthestCorner
	switch {
	case g.Circle && corner:
		rx = math.Hypot(rx, ry)
		ry = rx
	case g.Circle:
		rx = pick(rx, ry)
		ry = rx
	case corner: // of the shape that the sides would give
		rx, ry = rx*math.Sqrt2, ry*math.Sqrt2
	}
	return rx, ry
}

// placesOf are where the stops lie on the line, in parts of it, each no further back than the one before.
func placesOf(stops []declare.GradientStop, length, k float64) []float64 {
	n := len(stops)
	at, placed := make([]float64, n), make([]bool, n)
	for i, s := range stops {
		if placed[i] = s.Placed; s.Placed {
			at[i] = s.At.Part + s.At.Px*k/max(1e-9, length)
		}
	}
	if !placed[0] {
		placed[0] = true
	}
	if !placed[n-1] {
		at[n-1], placed[n-1] = 1, true
	}
	highest := at[0]
	for i := range at {
		if placed[i] {
			at[i] = max(at[i], highest)
			highest = at[i]
		}
	}
	for i := 1; i < n; i++ {
		if placed[i] {
			continue
		}
		j := i
		for !placed[j] {
			j++
		}
		for m := i; m < j; m++ {
			at[m] = at[i-1] + (at[j]-at[i-1])*float64(m-i+1)/float64(j-i+1)
		}
		i = j
	}
	return at
}
