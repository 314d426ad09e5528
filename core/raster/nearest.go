package raster

import "math"

// NearestRGBA makes a picture of x.Len×y.Len pixels, each the one of src that its middle falls into. Beyond src's edges its
// outermost pixels go on.
func NearestRGBA(src *RGBA, x, y Axis) *RGBA {
	dst := PooledRGBA(x.Len, y.Len)
	dst.Opaque = src.Opaque
	columns := x.nearest(src.W)
	last, above := -1, []uint8(nil)
	for j, from := range y.nearest(src.H) {
		row := dst.Row(j)
		if from == last {
			copy(row, above)
			continue
		}
		line := src.Row(from)
		for i, c := range columns {
			copy(row[4*i:4*i+4], line[4*c:4*c+4])
		}
		last, above = from, row
	}
	return dst
}

// nearest gives the source sample that each of the axis's samples falls into, of n.
func (a Axis) nearest(n int) []int {
	at := make([]int, a.Len)
	for i := range at {
		// What lies on an edge belongs to the pixel before it, as browsers have it.
		at[i] = min(max(int(math.Floor(a.From+(float64(i)+0.5)*a.Step-1e-6)), 0), n-1)
	}
	return at
}

// TransformNearest sees src through t, each pixel of w×h the one of src that its middle falls into. Outside of src there is
// nothing; the edge between is as smooth as one pixel can make it.
func TransformNearest(src *RGBA, w, h int, t Turning) *RGBA {
	dst := NewRGBA(w, h)
	reach := math.Max(1e-6, math.Sqrt(math.Abs(t.A*t.D-t.B*t.C)))
	for y := range h {
		row := dst.Row(y)
		for x := range w {
			cx, cy := float64(x)+0.5, float64(y)+0.5
			u, v := t.A*cx+t.C*cy+t.E, t.B*cx+t.D*cy+t.F
			cover := edgeCover(u, float64(src.W), reach) * edgeCover(v, float64(src.H), reach)
			if cover <= 0 {
				continue
			}
			from := src.Row(min(max(int(math.Floor(v)), 0), src.H-1))[4*min(max(int(math.Floor(u)), 0), src.W-1):]
			for c := range 4 {
				row[4*x+c] = uint8(float64(from[c])*cover + 0.5)
			}
		}
	}
	return dst
}
