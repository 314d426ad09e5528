package raster

import "math"

// A Turning says how a turned picture is seen: every pixel of the destination looks back into the source
// through Affine, whose columns are what one pixel across and one down move there, and the origin: source x =
// A×x + C×y + E, source y = B×x + D×y + F, in pixels with centres at halves.
type Turning struct{ A, B, C, D, E, F float64 }

// Transform samples src, premultiplied, through t with a Catmull-Rom kernel (Keys 1981, a = -1/2). Outside the
// source there is nothing; the edge between is as smooth as one pixel can make it.
func Transform(src *RGBA, w, h int, t Turning) *RGBA {
	dst := NewRGBA(w, h)
	// How wide the edge is, in source pixels: one pixel of the destination.
	reach := math.Max(1e-6, math.Sqrt(math.Abs(t.A*t.D-t.B*t.C)))
	sw, sh := float64(src.W), float64(src.H)
	for y := range h {
		row := dst.Row(y)
		cy := float64(y) + 0.5
		for x := range w {
			cx := float64(x) + 0.5
			u, v := t.A*cx+t.C*cy+t.E, t.B*cx+t.D*cy+t.F
			// Coverage from the distance to each side.
			cover := edgeCover(u, sw, reach) * edgeCover(v, sh, reach)
			if cover <= 0 {
				continue
			}
			sampleCubic(src, u-0.5, v-0.5, float32(cover), row[4*x:4*x+4])
		}
	}
	return dst
}

func edgeCover(at, size, reach float64) float64 {
	return math.Min(1, math.Max(0, math.Min(at, size-at)/reach+0.5))
}

func sampleCubic(src *RGBA, x, y float64, cover float32, to []uint8) {
	fx, fy := math.Floor(x), math.Floor(y)
	wx, wy := cubicWeights(float32(x-fx)), cubicWeights(float32(y-fy))
	var sum [4]float32
	x0, y0 := int(fx)-1, int(fy)-1
	inner := x0 >= 0 && y0 >= 0 && x0+3 < src.W && y0+3 < src.H
	for j := range 4 {
		yy := y0 + j
		if !inner {
			yy = min(max(yy, 0), src.H-1)
		}
		line := src.Pix[yy*src.Stride:]
		var r, g, b, a float32
		for i := range 4 {
			xx := x0 + i
			if !inner {
				xx = min(max(xx, 0), src.W-1)
			}
			q := line[4*xx : 4*xx+4 : 4*xx+4]
			k := wx[i]
			r += k * float32(q[0])
			g += k * float32(q[1])
			b += k * float32(q[2])
			a += k * float32(q[3])
		}
		k := wy[j]
		sum[0] += k * r
		sum[1] += k * g
		sum[2] += k * b
		sum[3] += k * a
	}
	alpha := clamp255(sum[3])
	for c := range 3 {
		to[c] = uint8(min(clamp255(sum[c]), alpha)*cover + 0.5)
	}
	to[3] = uint8(alpha*cover + 0.5)
}

func cubicWeights(f float32) [4]float32 {
	f2, f3 := f*f, f*f*f
	return [4]float32{-0.5*f + f2 - 0.5*f3, 1 - 2.5*f2 + 1.5*f3, 0.5*f + 2*f2 - 1.5*f3, -0.5*f2 + 0.5*f3}
}
