// Package independent measures how alike two pictures are by other code than the product's: the structural similarity of
// luma with a Gaussian window, as its authors defined it, at one size and at five; PSNR weighted by what the eye sees of each
// frequency beside a block's texture; and libjxl's butteraugli.
package independent

import "math"

// Luma is BT.601's of straight RGBA bytes, 0–255.
func Luma(pix []uint8, stride, w, h int) []float64 {
	out := make([]float64, w*h)
	for y := range h {
		for x := range w {
			q := pix[y*stride+4*x:]
			out[y*w+x] = 0.299*float64(q[0]) + 0.587*float64(q[1]) + 0.114*float64(q[2])
		}
	}
	return out
}

// An Original is what the other pictures are held against. What the measures take of it alone is computed once.
type Original struct {
	w, h   int
	sizes  [5]size
	blocks []block
	linear []float32
}

// a size is an original's luma at one of five sizes, and its Gaussian means: of the samples and of their squares.
type size struct {
	w, h                 int
	luma, mean, meanOfSq []float64
}

// Of takes an original's straight RGBA bytes; it has to be opaque.
func Of(pix []uint8, stride, w, h int) *Original {
	o := ofLuma(Luma(pix, stride, w, h), w, h)
	o.linear = linear(pix, stride, w, h)
	return o
}

func ofLuma(luma []float64, w, h int) *Original {
	o := &Original{w: w, h: h, blocks: blocks(luma, w, h)}
	for i := range o.sizes {
		o.sizes[i] = size{w, h, luma, gauss(luma, w, h), gauss(mul(luma, luma), w, h)}
		luma = halved(luma, w, h)
		w, h = w/2, h/2
	}
	return o
}

// Structure is another picture's structural similarity to the original, from its luma, of the same size: the mean SSIM
// (Wang et al. 2004), with windows of 11×11, Gaussian with sigma 1.5; and MS-SSIM at five sizes (Wang, Simoncelli and Bovik
// 2003), the product of the means of contrast and structure at each, and of luminance at the smallest, to the powers that
// its authors found. Both are 1 for equal pictures.
func (o *Original) Structure(luma []float64) (ssim, multi float64) {
	const c1, c2 = 6.5025, 58.5225
	powers := []float64{0.0448, 0.2856, 0.3001, 0.2363, 0.1333}
	multi = 1
	for i, s := range o.sizes {
		mb, bb, ab := gauss(luma, s.w, s.h), gauss(mul(luma, luma), s.w, s.h), gauss(mul(s.luma, luma), s.w, s.h)
		var structures, both float64
		for j, ma := range s.mean {
			va, vb, cov := s.meanOfSq[j]-ma*ma, bb[j]-mb[j]*mb[j], ab[j]-ma*mb[j]
			structure := (2*cov + c2) / (va + vb + c2)
			structures += structure
			both += structure * (2*ma*mb[j] + c1) / (ma*ma + mb[j]*mb[j] + c1)
		}
		n := float64(len(mb))
		if i == 0 {
			ssim = both / n
		}
		if i == len(powers)-1 {
			structures = both
		}
		multi *= math.Pow(math.Max(0, structures/n), powers[i])
		luma = halved(luma, s.w, s.h)
	}
	return ssim, multi
}

func mul(a, b []float64) []float64 {
	out := make([]float64, len(a))
	for i := range a {
		out[i] = a[i] * b[i]
	}
	return out
}

func halved(v []float64, w, h int) []float64 {
	out := make([]float64, 0, w/2*(h/2))
	for y := range h / 2 {
		for x := range w / 2 {
			at := 2*y*w + 2*x
			out = append(out, (v[at]+v[at+1]+v[at+w]+v[at+w+1])/4)
		}
	}
	return out
}

func gauss(v []float64, w, h int) []float64 {
	const r, sigma = 5, 1.5
	var k [2*r + 1]float64
	var sum float64
	for i := range k {
		k[i] = math.Exp(-float64((i-r)*(i-r)) / (2 * sigma * sigma))
		sum += k[i]
	}
	for i := range k {
		k[i] /= sum
	}
	mid, out := make([]float64, len(v)), make([]float64, len(v))
	padded := make([]float64, w+2*r)
	for y := range h {
		row := v[y*w:][:w]
		copy(padded[r:], row)
		for i := range r {
			padded[i], padded[r+w+i] = row[0], row[w-1]
		}
		for x := range w {
			p := (*[2*r + 1]float64)(padded[x:])
			mid[y*w+x] = k[0]*(p[0]+p[10]) + k[1]*(p[1]+p[9]) + k[2]*(p[2]+p[8]) + k[3]*(p[3]+p[7]) + k[4]*(p[4]+p[6]) + k[5]*p[5]
		}
	}
	for y := range h {
		to := out[y*w:][:w]
		for i, g := range k {
			from := mid[min(max(y+i-r, 0), h-1)*w:][:w]
			for x, m := range from {
				to[x] += g * m
			}
		}
	}
	return out
}

// PSNRHVSM is another picture's PSNR of luma, in decibels. The errors are weighted, in the cosine transform of blocks of
// 8×8, by how well each frequency is seen, after what the block's own texture masks was taken off them (Ponomarenko,
// Silvestri, Egiazarian, Carli, Astola and Lukin 2007). The weights are the reciprocals of the luma table of ITU-T T.81,
// annex K.1.
func (o *Original) PSNRHVSM(luma []float64) float64 {
	var sum float64
	for k, b := range blocks(luma, o.w, o.h) {
		a := &o.blocks[k]
		mask := math.Max(a.mask, b.mask)
		for i := range a.c {
			e := math.Abs(a.c[i] - b.c[i])
			if i > 0 {
				e = math.Max(0, e-mask*steps[i]*steps[i]/100)
			}
			e *= seenOfStep / steps[i]
			sum += e * e
		}
	}
	return 10 * math.Log10(255*255*64*float64(len(o.blocks))/math.Max(sum, 1e-9))
}

// a block is the cosine transform of 8×8 samples, and how much of an error its texture hides.
type block struct {
	c    [64]float64
	mask float64
}

func blocks(luma []float64, w, h int) []block {
	out := make([]block, 0, w/8*(h/8))
	for y := 0; y+8 <= h; y += 8 {
		for x := 0; x+8 <= w; x += 8 {
			c := transformed(luma, w, x, y)
			out = append(out, block{c, masks(luma, w, x, y, &c)})
		}
	}
	return out
}

// steps is the luma table of ITU-T T.81, annex K.1.
var steps = [64]float64{
	16, 11, 10, 16, 24, 40, 51, 61, 12, 12, 14, 19, 26, 58, 60, 55, 14, 13, 16, 24, 40, 57, 69, 56, 14, 17, 22, 29, 51, 87, 80, 62,
	18, 22, 37, 56, 68, 109, 103, 77, 24, 35, 55, 64, 81, 104, 113, 92, 49, 64, 78, 87, 103, 121, 120, 101, 72, 92, 95, 98, 112, 100, 103, 99,
}

// seenOfStep over a step is how well a frequency is seen.
const seenOfStep = 25.735

// masks is how much of an error a block's texture hides: the root of its energy, less where it lies in some quarters only.
func masks(v []float64, w, x, y int, c *[64]float64) float64 {
	var energy float64
	for i := 1; i < 64; i++ {
		energy += c[i] * c[i] * 100 / (steps[i] * steps[i])
	}
	deviation := func(x0, y0, n int) float64 {
		var sum, squares float64
		for j := range n {
			for _, s := range v[(y0+j)*w+x0:][:n] {
				sum += s
				squares += s * s
			}
		}
		count := float64(n * n)
		return math.Max(0, squares-sum*sum/count) * count / (count - 1)
	}
	whole := deviation(x, y, 8)
	if whole <= 1e-9 {
		return 0
	}
	parts := deviation(x, y, 4) + deviation(x+4, y, 4) + deviation(x, y+4, 4) + deviation(x+4, y+4, 4)
	return math.Sqrt(energy*parts/whole) / 32
}

var cosines = func() (cos [8][8]float64) {
	for u := range 8 {
		for x := range 8 {
			cos[u][x] = math.Cos(float64(2*x+1)*float64(u)*math.Pi/16) / 2
			if u == 0 {
				cos[u][x] = 1 / math.Sqrt(8)
			}
		}
	}
	return cos
}()

// transformed is the orthonormal cosine transform of the block of 8×8 at x, y.
func transformed(v []float64, w, x, y int) (out [64]float64) {
	var rows [64]float64
	for j := range 8 {
		for u := range 8 {
			for i, s := range v[(y+j)*w+x:][:8] {
				rows[j*8+u] += cosines[u][i] * s
			}
		}
	}
	for v := range 8 {
		for u := range 8 {
			for j := range 8 {
				out[v*8+u] += cosines[v][j] * rows[j*8+u]
			}
		}
	}
	return out
}
