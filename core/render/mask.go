package render

import (
	"math"

	"echolane/core/declare"
	"echolane/core/raster"
)

// maskOf is how much shows of each pixel of a canvas.
func maskOf(m declare.Mask, mode declare.MaskMode, w, h int, k float64) raster.Plane {
	fw, fh := float64(w), float64(h)
	of := func(l declare.Length, whole float64) float64 { return l.Px*k + l.Part*whole }
	var length float64                // of the gradient's line, in pixels
	var at func(x, y float64) float64 // where on it a place is, in parts of it
	switch m.Kind {
	case declare.LinearMask:
		sin, cos := math.Sincos(m.Angle * math.Pi / 180)
		if m.Corner != [2]int8{} { // its middle line goes through the other two corners
			d := math.Hypot(fw, fh)
			sin, cos = float64(m.Corner[0])*fh/d, -float64(m.Corner[1])*fw/d
		}
		length = math.Abs(fw*sin) + math.Abs(fh*cos)
		at = func(x, y float64) float64 { return ((x-fw/2)*sin-(y-fh/2)*cos)/length + 0.5 }
	default:
		cx, cy := of(m.At[0], fw), of(m.At[1], fh)
		rx, ry := radiiOf(m, cx, cy, fw, fh, k)
		length = rx
		at = func(x, y float64) float64 {
			dx, dy := (x-cx)/max(rx, 1e-9), (y-cy)/max(ry, 1e-9)
			return math.Sqrt(dx*dx + dy*dy)
		}
	}
	places := placesOf(m.Stops, length, k)
	// Colours mix premultiplied: what counts of them is how opaque they are, or their luminance by that (CSS Masking, section 7.10).
	shown := make([]float64, len(m.Stops))
	for i, s := range m.Stops {
		if shown[i] = float64(s.Color.A) / 255; mode == declare.LuminanceMask {
			shown[i] *= (0.2125*float64(s.Color.R) + 0.7154*float64(s.Color.G) + 0.0721*float64(s.Color.B)) / 255
		}
	}
	value := func(t float64) float64 {
		last := len(places) - 1
		for last > 0 && places[last] > t {
			last--
		}
		if last == len(places)-1 || t < places[0] {
			return shown[last]
		}
		return shown[last] + (t-places[last])/(places[last+1]-places[last])*(shown[last+1]-shown[last])
	}
	const fine = 8192
	table := make([]uint8, fine+2)
	low, high := places[0], places[len(places)-1]
	for i := range table {
		table[i] = uint8(255*value(low+(high-low)*(float64(i)-0.5)/fine) + 0.5)
	}
	table[0], table[fine+1] = uint8(255*shown[0]+0.5), uint8(255*shown[len(shown)-1]+0.5)
	out := raster.PooledPlane(w, h, raster.Stride(w))
	scale := fine / max(1e-9, high-low)
	for y := range h {
		row := out.Row(y)
		for x := range row {
			t := at(float64(x)+0.5, float64(y)+0.5)
			switch i := int(math.Floor((t-low)*scale + 1)); {
			case t < low:
				row[x] = table[0]
			case t >= high || i > fine:
				row[x] = table[fine+1]
			default:
				row[x] = table[max(1, i)]
			}
		}
	}
	return out
}

// radiiOf are a radial gradient's (CSS Images Level 3, section 3.2.2).
func radiiOf(m declare.Mask, cx, cy, w, h, k float64) (rx, ry float64) {
	left, right, top, bottom := math.Abs(cx), math.Abs(w-cx), math.Abs(cy), math.Abs(h-cy)
	if m.Size == declare.RadialByLength {
		return m.Radii[0].Px*k + m.Radii[0].Part*w, m.Radii[1].Px*k + m.Radii[1].Part*h
	}
	closest := m.Size == declare.ClosestCorner || m.Size == declare.ClosestEdge
	pick := math.Max
	if closest {
		pick = math.Min
	}
	rx, ry = pick(left, right), pick(top, bottom)
	corner := m.Size == declare.ClosestCorner || m.Size == declare.FarthestCorner
	switch {
	case m.Circle && corner:
		rx = math.Hypot(rx, ry)
		ry = rx
	case m.Circle:
		rx = pick(rx, ry)
		ry = rx
	case corner: // of the shape that the sides would give
		rx, ry = rx*math.Sqrt2, ry*math.Sqrt2
	}
	return rx, ry
}

// placesOf are where the stops lie on the line, in parts of it, each no further back than the one before.
func placesOf(stops []declare.MaskStop, length, k float64) []float64 {
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

// maskBy is how much shows of each pixel by a picture, premultiplied.
func maskBy(p *raster.RGBA, mode declare.MaskMode) raster.Plane {
	out := raster.PooledPlane(p.W, p.H, raster.Stride(p.W))
	for y := range p.H {
		from, to := p.Row(y), out.Row(y)
		for x := range to {
			q := from[4*x:][:4]
			if to[x] = q[3]; mode == declare.LuminanceMask {
				to[x] = uint8((2125*uint32(q[0]) + 7154*uint32(q[1]) + 721*uint32(q[2]) + 5000) / 10000)
			}
		}
	}
	return out
}
