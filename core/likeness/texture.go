package likeness

import (
	"math"

	"echolane/core/raster"
)

// A Texture is what is known of a picture before any encode: some of its blocks, spread evenly, as JPEG's cosine
// transform has them (ITU-T T.81, annex A.3.3).
type Texture struct {
	Busy  float64 // the mean logarithm of the blocks' variances over the measure's constant
	Plain float64 // the share of blocks that have next to no texture

	blocks    int
	groups    []group
	variances []float32 // 0 behind the last block
}

// group is the coefficients of eight blocks: frequency, block.
type group [64][8]float32

// mostBlocks is how many are looked at.
const mostBlocks = 300

// Texture looks at the lightness of the picture, on black where it's transparent.
func (p *Picture) Texture() *Texture {
	l := p.grounds[0].light[0]
	return textureOf(l.w, l.h, func(x0, y0 int, v *[64]float32) {
		for y := range 8 {
			copy(v[8*y:8*y+8], l.v[(y0+y)*l.w+x0:])
		}
	})
}

// TextureOfPlanes looks at an opaque picture in planes: at nothing but the blocks that it takes.
func TextureOfPlanes(p *raster.YCbCr) *Texture {
	light := lightnessIn(p.Range)
	return textureOf(p.W, p.H, func(x0, y0 int, v *[64]float32) {
		for y := range 8 {
			for x, s := range p.Y.Row(y0 + y)[x0 : x0+8] {
				v[8*y+x] = light[s]
			}
		}
	})
}

func textureOf(w, h int, read func(x0, y0 int, v *[64]float32)) *Texture {
	t := &Texture{}
	across, down := w/8, h/8
	all := across * down
	if all == 0 {
		return t
	}
	every := (all + mostBlocks - 1) / mostBlocks
	if every > 1 && across%every == 0 { // never the same columns all the way down
		every++
	}
	t.groups, t.variances = make([]group, 0, all/every/8+1), make([]float32, 0, all/every+8)
	for i := every / 2; i < all; i += every {
		var v [64]float32
		read(i%across*8, i/across*8, &v)
		c := cosines(&v)
		var variance float32
		for _, v := range c[1:] {
			variance += v * v / 64
		}
		if t.blocks%8 == 0 {
			t.groups, t.variances = append(t.groups, group{}), append(t.variances, make([]float32, 8)...)
		}
		for k, v := range c {
			t.groups[t.blocks/8][k][t.blocks%8] = v
		}
		t.variances[t.blocks] = variance
		t.blocks++
		t.Busy += math.Log(float64(1 + variance/c2))
		if variance < c2/16 {
			t.Plain++
		}
	}
	t.Busy /= float64(t.blocks)
	t.Plain /= float64(t.blocks)
	return t
}

// basis is the orthonormal cosine basis: frequency, place.
var basis = func() (b [8][8]float32) {
	for u := range 8 {
		for x := range 8 {
			b[u][x] = float32(math.Cos(float64(2*x+1)*float64(u)*math.Pi/16) / 2)
		}
		if u == 0 {
			for x := range 8 {
				b[0][x] = float32(math.Sqrt(1.0 / 8))
			}
		}
	}
	return b
}()

// across is basis as what multiplies rows: place, frequency.
var across = func() (t [8][8]float32) {
	for u := range 8 {
		for x := range 8 {
			t[x][u] = basis[u][x]
		}
	}
	return t
}()

// cosines is the transform of a block: of its rows, then of its columns.
func cosines(block *[64]float32) (out [64]float32) {
	transformed(block, &basis, &across, &out)
	return out
}

func transformedPlain(block *[64]float32, basis, _ *[8][8]float32, out *[64]float32) {
	var rows [64]float32
	for y := range 8 {
		v := block[8*y : 8*y+8 : 8*y+8]
		for u := range 8 {
			b := &basis[u]
			rows[y*8+u] = b[0]*v[0] + b[1]*v[1] + b[2]*v[2] + b[3]*v[3] + b[4]*v[4] + b[5]*v[5] + b[6]*v[6] + b[7]*v[7]
		}
	}
	for w := range 8 {
		b := &basis[w]
		for u := range 8 {
			out[w*8+u] = b[0]*rows[u] + b[1]*rows[8+u] + b[2]*rows[16+u] + b[3]*rows[24+u] + b[4]*rows[32+u] + b[5]*rows[40+u] + b[6]*rows[48+u] + b[7]*rows[56+u]
		}
	}
}

// lost is how much structure the blocks lose where their coefficients are rounded to multiples of steps; what is
// below 1−up of a step is dropped.
func (t *Texture) lost(steps *[64]float32, up float32) float64 {
	var inverse [64]float32
	for k, s := range steps {
		inverse[k] = 1 / s
	}
	var sum float32
	for i := range t.groups {
		var off, left [8]float32
		dropped(&t.groups[i], steps, &inverse, up, &off, &left)
		for j, o := range off[:min(8, t.blocks-8*i)] {
			sum += o / 64 / (t.variances[8*i+j] + left[j]/64 + c2)
		}
	}
	return float64(sum) / float64(max(1, t.blocks))
}

// droppedPlain says of each of eight blocks the sum of the squares of what is off after rounding, and of what is left.
func droppedPlain(g *group, steps, inverse *[64]float32, up float32, off, left *[8]float32) {
	for k := 1; k < 64; k++ {
		for j, v := range &g[k] {
			if v < 0 {
				v = -v
			}
			r := float32(int32(v*inverse[k]+up)) * steps[k]
			left[j] += r * r
			off[j] += (v - r) * (v - r)
		}
	}
}

// luma are JPEG's steps at quality 50 (ITU-T T.81, annex K.1).
var luma = [64]float64{
	16, 11, 10, 16, 24, 40, 51, 61, 12, 12, 14, 19, 26, 58, 60, 55, 14, 13, 16, 24, 40, 57, 69, 56, 14, 17, 22, 29, 51, 87, 80, 62,
	18, 22, 37, 56, 68, 109, 103, 77, 24, 35, 55, 64, 81, 104, 113, 92, 49, 64, 78, 87, 103, 121, 120, 101, 72, 92, 95, 98, 112, 100, 103, 99,
}

// jpegSteps are libjpeg-turbo's steps at a quality.
func jpegSteps(quality float64) (steps [64]float32) {
	for i, v := range luma {
		steps[i] = jpegStep(v, quality)
	}
	return steps
}

func jpegStep(v, quality float64) float32 {
	scale := 5000 / math.Max(1, quality)
	if quality >= 50 {
		scale = 200 - 2*quality
	}
	return float32(math.Min(255, math.Max(1, (v*scale+50)/100)) / 2.55)
}

// Lost is how much structure libjpeg-turbo is thought to lose at a quality.
func (t *Texture) Lost(quality float64) float64 {
	steps := jpegSteps(quality)
	return t.lost(&steps, 0.5) + 1e-9
}

// Step is the logarithm of the one step for all frequencies that loses as much structure as libjpeg-turbo's steps at a
// quality do: what an encoder is likely to need that has no table of steps.
func (t *Texture) Step(quality float64) float64 {
	want := math.Log(t.Lost(quality))
	var steps [64]float32
	const least, most, up = -1.5, 5, 0.4 // up to 148 of 100
	over := func(step float64) float64 {
		for i := range steps {
			steps[i] = float32(math.Exp(step))
		}
		return math.Log(t.lost(&steps, up)+1e-9) - want
	}
	// From the step of the middle frequencies along the slope that pictures have, then between what has been found.
	low, high := least, float64(most)
	at := math.Log(float64(jpegStep(20, quality)))
	below, above := math.Inf(-1), math.Inf(1)
	for range 4 {
		off := over(at)
		if off < 0 {
			low, below = at, off
		} else {
			high, above = at, off
		}
		next := at - off/1.2
		if !math.IsInf(below, 0) && !math.IsInf(above, 0) {
			next = low + (high-low)*below/(below-above)
		}
		at = math.Min(high, math.Max(low, next))
	}
	return at
}
