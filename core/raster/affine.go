package raster

import "math"

// An Affine maps points from one coordinate system to another: with a, b, c, d, e and f, as CSS's matrix() has them, x' = ax + cy + e and
// y' = bx + dy + f.
type Affine [6]float64

// Identity leaves points where they are.
var Identity = Affine{1, 0, 0, 1, 0, 0}

// After composes two maps: the result applies n first, then m.
func (m Affine) After(n Affine) Affine {
	return Affine{
		m[0]*n[0] + m[2]*n[1], m[1]*n[0] + m[3]*n[1], m[0]*n[2] + m[2]*n[3], m[1]*n[2] + m[3]*n[3],
		m[0]*n[4] + m[2]*n[5] + m[4], m[1]*n[4] + m[3]*n[5] + m[5],
	}
}

// At maps a point.
func (m Affine) At(x, y float64) (float64, float64) {
	return m[0]*x + m[2]*y + m[4], m[1]*x + m[3]*y + m[5]
}

// Inverse maps back; ok is false where the map has no inverse, since it flattens the plane.
func (m Affine) Inverse() (back Affine, ok bool) {
	det := m[0]*m[3] - m[1]*m[2]
	if math.Abs(det) < 1e-12 || math.IsNaN(det) || math.IsInf(det, 0) {
		return Identity, false
	}
	return Affine{m[3] / det, -m[1] / det, -m[2] / det, m[0] / det, (m[2]*m[5] - m[3]*m[4]) / det, (m[1]*m[4] - m[0]*m[5]) / det}, true
}

// Scale gives the factor by which lengths grow in the mean: the square root of that by which areas do.
func (m Affine) Scale() float64 { return math.Sqrt(math.Abs(m[0]*m[3] - m[1]*m[2])) }
