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
			cover := 1.0
			if u < reach || v < reach || u > sw-reach || v > sh-reach {
				if cover = edgeCover(u, sw, reach) * edgeCover(v, sh, reach); cover <= 0 {
					continue
				}
			}
			sampleCubic(src, u-0.5, v-0.5, cover, row[4*x:4*x+4])
		}
	}
	return dst
}

func edgeCover(at, size, reach float64) float64 {
	return math.Min(1, math.Max(0, math.Min(at, size-at)/reach+0.5))
}

// phases are the kernel's weights for places between two pixels, in 1/64, in units of 1/256 that sum to 256.
const phases = 64

var cubicTable = func() (t [phases][4]int32) {
	for i := range t {
		w := cubicWeights((float32(i) + 0.5) / phases)
		left := int32(256)
		for j := range w {
			t[i][j] = int32(math.Round(float64(w[j]) * 256))
			left -= t[i][j]
		}
		t[i][1] += left
	}
	return t
}()

func sampleCubic(src *RGBA, x, y, cover float64, to []uint8) {
	fx, fy := math.Floor(x), math.Floor(y)
	wx, wy := &cubicTable[int((x-fx)*phases)], &cubicTable[int((y-fy)*phases)]
	var s0, s1, s2, s3 int32
	x0, y0 := int(fx)-1, int(fy)-1
	if x0 >= 0 && y0 >= 0 && x0+3 < src.W && y0+3 < src.H {
		at := y0*src.Stride + 4*x0
		for j := range 4 {
			q := src.Pix[at : at+16 : at+16]
			k := wy[j]
			s0 += k * (wx[0]*int32(q[0]) + wx[1]*int32(q[4]) + wx[2]*int32(q[8]) + wx[3]*int32(q[12]))
			s1 += k * (wx[0]*int32(q[1]) + wx[1]*int32(q[5]) + wx[2]*int32(q[9]) + wx[3]*int32(q[13]))
			s2 += k * (wx[0]*int32(q[2]) + wx[1]*int32(q[6]) + wx[2]*int32(q[10]) + wx[3]*int32(q[14]))
			s3 += k * (wx[0]*int32(q[3]) + wx[1]*int32(q[7]) + wx[2]*int32(q[11]) + wx[3]*int32(q[15]))
			at += src.Stride
		}
	} else {
		for j := range 4 {
			line := src.Pix[min(max(y0+j, 0), src.H-1)*src.Stride:]
			for i := range 4 {
				q := line[4*min(max(x0+i, 0), src.W-1):][:4]
				k := wy[j] * wx[i]
				s0, s1, s2, s3 = s0+k*int32(q[0]), s1+k*int32(q[1]), s2+k*int32(q[2]), s3+k*int32(q[3])
			}
		}
	}
	a := min(255, max(0, (s3+32768)>>16))
	r, g, b := min(a, max(0, (s0+32768)>>16)), min(a, max(0, (s1+32768)>>16)), min(a, max(0, (s2+32768)>>16))
	if cover < 1 {
		k := int32(cover*256 + 0.5)
		r, g, b, a = (r*k+128)>>8, (g*k+128)>>8, (b*k+128)>>8, (a*k+128)>>8
	}
	to[0], to[1], to[2], to[3] = uint8(r), uint8(g), uint8(b), uint8(a)
}

func cubicWeights(f float32) [4]float32 {
	f2, f3 := f*f, f*f*f
	return [4]float32{-0.5*f + f2 - 0.5*f3, 1 - 2.5*f2 + 1.5*f3, 0.5*f + 2*f2 - 1.5*f3, -0.5*f2 + 0.5*f3}
}
