package matte

import (
	"math"

	"echolane/core/linear"
	"echolane/core/superpixel"
)

// An evenGround is a ground whose colour changes slowly over the picture, as a studio's does: in each of the three channels of
// Oklab a square function of the place, and how far regions of the ground are from it.
type evenGround struct {
	of     [3][terms]float64
	spread [3]float64 // the standard deviation
}

const terms = 6

// termsAt are what the function sums up at a place, in parts of the longer side.
func termsAt(x, y float32) [terms]float64 {
	u, v := float64(x)-0.5, float64(y)-0.5
	return [terms]float64{1, u, v, u * u, u * v, v * v}
}

// What a ground is to be called even: this share of it is within so much of the function, in lightness and in colour.
const evenShare, evenLight, evenColour = 0.9, 0.03, 0.012

// evenGroundOf fits a ground to regions by how much each counts, with less weight to what lies far from the others. ok is false where the
// ground isn't even.
func evenGroundOf(r *superpixel.Regions, counts []float32) (g *evenGround, ok bool) {
	g = &evenGround{}
	var area float64
	weights := make([]float64, len(counts))
	for k, c := range counts {
		weights[k] = float64(c)
		area += float64(c)
	}
	if area <= 0 {
		return nil, false
	}
	for range 5 {
		a := make([][]float64, terms) // normal equations
		for i := range a {
			a[i] = make([]float64, terms+3)
		}
		for k, w := range weights {
			if w <= 0 {
				continue
			}
			t := termsAt(r.X[k], r.Y[k])
			for i := range terms {
				for j := range terms {
					a[i][j] += w * t[i] * t[j]
				}
				for c := range 3 {
					a[i][terms+c] += w * t[i] * float64(r.Colour[k][c])
				}
			}
		}
		if !linear.Solve(a) {
			return nil, false
		}
		for c := range 3 {
			for i := range terms {
				g.of[c][i] = a[i][terms+c]
			}
		}
		var sum [3]float64
		var all float64
		for k, c := range counts {
			off := g.off(r, k)
			far := off[0]*off[0]/(evenLight*evenLight) + (off[1]*off[1]+off[2]*off[2])/(evenColour*evenColour)
			weights[k] = float64(c) / (1 + far*far)
			all += weights[k]
			for i, d := range off {
				sum[i] += weights[k] * d * d
			}
		}
		for i := range sum {
			g.spread[i] = math.Sqrt(sum[i] / all)
		}
	}
	var within float64
	for k, c := range counts {
		if off := g.off(r, k); math.Abs(off[0]) < evenLight && math.Hypot(off[1], off[2]) < evenColour {
			within += float64(c)
		}
	}
	return g, within >= evenShare*area
}

// off is how far a region's colour is from the ground's where it lies.
func (g *evenGround) off(r *superpixel.Regions, k int) (off [3]float64) {
	for c := range off {
		off[c] = float64(r.Colour[k][c])
		for i, t := range termsAt(r.X[k], r.Y[k]) {
			off[c] -= g.of[c][i] * t
		}
	}
	return off
}

// cost is minus the logarithm of how likely a region is the ground's, up to what the ground's own have. What is darker and has the
// ground's colour in less light, all three of Oklab's channels by the same factor less, may be a shadow, and costs nothing.
func (g *evenGround) cost(r *superpixel.Regions, k int) float64 {
	const leastLight, leastColour = 0.008, 0.0015
	off := g.off(r, k)
	light, colour := off[0]/max(leastLight, 1.5*g.spread[0]), 0.0
	here := float64(r.Colour[k][0])
	dimmed := min(1, here/max(1e-6, here-off[0]))
	for _, c := range []int{1, 2} {
		d := (off[c] + (1-dimmed)*(float64(r.Colour[k][c])-off[c])) / max(leastColour, 3*g.spread[c])
		colour += d * d
	}
	return (max(0, light)*max(0, light) + colour) / 2
}
