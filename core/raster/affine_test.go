package raster

import (
	"math"
	"testing"
)

// What is done one after another is undone by its inverse; what flattens has none.
func TestAffine(t *testing.T) {
	sin, cos := math.Sincos(0.7)
	m := Affine{1, 0, 0, 1, 5, -3}.After(Affine{cos, sin, -sin, cos, 0, 0}).After(Affine{2, 0, 0, 3, 0, 0})
	x, y := m.At(4, 1)
	if wantX, wantY := 5+8*cos-3*sin, -3+8*sin+3*cos; math.Abs(x-wantX) > 1e-9 || math.Abs(y-wantY) > 1e-9 {
		t.Errorf("%g, %g, not %g, %g", x, y, wantX, wantY)
	}
	back, ok := m.Inverse()
	if u, v := back.At(x, y); !ok || math.Abs(u-4) > 1e-9 || math.Abs(v-1) > 1e-9 {
		t.Errorf("back at %g, %g", u, v)
	}
	if s := m.Scale(); math.Abs(s-math.Sqrt(6)) > 1e-9 {
		t.Errorf("scale %g", s)
	}
	for _, flat := range []Affine{{}, {1, 2, 2, 4, 0, 0}, {math.NaN(), 0, 0, 1, 0, 0}, {math.Inf(1), 0, 0, 1, 0, 0}} {
		if _, ok := flat.Inverse(); ok {
			t.Errorf("%v has an inverse", flat)
		}
	}
}
