// Package convolve has the sums of products that small networks are made of, with vectors where the processor has them. What
// vectors give differs by what they round.
package convolve

import "math"

const (
	// Panel is how many outputs are worked out at once. Their number is a multiple of it.
	Panel  = 16
	places = 6 // and for how many places
)

// Products works out outputs of w places of inputs, place numbers apart: the bias and the products of rows runs of n inputs,
// apart numbers from each other, with k, which holds Panel outputs' weights for each input, then the next ones'. Negative outputs are
// multiplied with leak.
func Products(in []float32, place, rows, apart, n int, k, bias, out []float32, outputs, w int, leak float32) {
	for o := 0; o < outputs; o += Panel {
		k := k[o*rows*n:][:rows*n*Panel]
		if !hasVectors || w < places {
			productsPlain(in, place, rows, apart, n, k, bias[o:], out[o:], outputs, w, leak)
			continue
		}
		done := 0
		if hasWide {
			for ; done+2*places <= w; done += 2 * places {
				products512(&in[done*place], 4*place, rows, 4*apart, n, &k[0], &bias[o], &out[done*outputs+o], 4*outputs, leak)
			}
		}
		for x := done; x < w; x += places {
			x := min(x, w-places)
			productsFMA(&in[x*place], 4*place, rows, 4*apart, n, &k[0], &bias[o], &out[x*outputs+o], 4*outputs, leak)
		}
	}
}

func productsPlain(in []float32, place, rows, apart, n int, k, bias, out []float32, outputs, w int, leak float32) {
	for x := range w {
		to := out[x*outputs:][:Panel]
		copy(to, bias[:Panel])
		for row := range rows {
			for i, v := range in[x*place+row*apart:][:n] {
				for o, f := range k[(row*n+i)*Panel:][:Panel] {
					to[o] += v * f
				}
			}
		}
		for o, v := range to {
			to[o] = max(v, leak*v)
		}
	}
}

// Bytes are products of the bytes around places that lie three bytes apart, such as pixels: four bytes at each of some offsets
// from a place. Weights are whole numbers.
type Bytes struct {
	Offsets []int
	K       []int8    // for each offset, Panel outputs' four weights
	Scale   float32   // what a product is multiplied with
	Bias    []float32 // Panel of them
}

// HasWhole reports whether the processor is quick at Bytes and Words: it multiplies several whole numbers at once.
func HasWhole() bool { return hasWhole }

// Products works out Panel outputs of w places, a place's beside the next one's. Negative outputs are multiplied with leak. Behind the
// last place's bytes, in has as many as its offsets reach.
func (b *Bytes) Products(in []byte, out []float32, w int, leak float32) {
	const at = 2 * places
	if !hasWhole || w < at {
		b.plain(in, out, w, leak)
		return
	}
	for x := 0; x < w; x += at {
		x := min(x, w-at)
		productsBytes(&in[3*x], &b.Offsets[0], len(b.Offsets), &b.K[0], b.Scale, &b.Bias[0], &out[x*Panel], 4*Panel, leak)
	}
}

func (b *Bytes) plain(in []byte, out []float32, w int, leak float32) {
	for x := range w {
		to := out[x*Panel:][:Panel]
		for o := range to {
			sum := int32(0)
			for i, at := range b.Offsets {
				for j, v := range in[3*x+at:][:4] {
					sum += int32(v) * int32(b.K[(i*Panel+o)*4+j])
				}
			}
			v := float32(math.FMA(float64(sum), float64(b.Scale), float64(b.Bias[o])))
			to[o] = max(v, leak*v)
		}
	}
}

// Apart convolves each of n channels of w places by itself with 3×3 weights; in holds three rows of w+2 places, line places apart from
// each other, and n is a multiple of 8.
func Apart(in []float32, line, w, n int, k, out []float32) {
	if hasWide && n%16 == 0 {
		for c := 0; c < n; c += 16 {
			apart512(&in[c], 4*line*n, 4*n, &k[c], &out[c], w)
		}
		return
	}
	if hasVectors {
		for c := 0; c < n; c += 8 {
			apartFMA(&in[c], 4*line*n, 4*n, &k[c], &out[c], w)
		}
		return
	}
	clear(out[:w*n])
	for x := range w {
		to := out[x*n:][:n]
		for dy := range 3 {
			for dx := range 3 {
				f := k[(dy*3+dx)*n:][:n]
				for c, v := range in[(dy*line+x+dx)*n:][:n] {
					to[c] += v * f[c]
				}
			}
		}
	}
}

// ApartWords is Apart whose results are rounded to 16 bits; n is a multiple of 16. It takes a processor that HasWhole.
func ApartWords(in []float32, line, w, n int, k []float32, out []int16) {
	for c := 0; c < n; c += 16 {
		apartWords(&in[c], 4*line*n, 4*n, &k[c], &out[c], w)
	}
}

// Words are products of 16-bit numbers with weights that are whole numbers.
type Words struct {
	N     int       // inputs of a place, an even number
	K     []int16   // for each Panel of outputs and each two inputs, Panel times two weights
	Scale float32   // what a product is multiplied with
	Bias  []float32 // of each output
}

// Products works out the outputs of w places of N inputs. Negative ones are multiplied with leak. It takes a processor that HasWhole.
func (b *Words) Products(in []int16, out []float32, w int, leak float32) {
	const at = 2 * places
	outputs := len(b.Bias)
	if w < at {
		wider, more := make([]int16, at*b.N), make([]float32, at*outputs)
		copy(wider, in[:w*b.N])
		b.Products(wider, more, at, leak)
		copy(out, more[:w*outputs])
		return
	}
	for o := 0; o < outputs; o += Panel {
		k := b.K[o*b.N:]
		for x := 0; x < w; x += at {
			x := min(x, w-at)
			productsWords(&in[x*b.N], 2*b.N, b.N/2, &k[0], b.Scale, &b.Bias[o], &out[x*outputs+o], 4*outputs, leak)
		}
	}
}

// Largest is the largest of each two by two in two rows of w places of c channels, a multiple of 8; what lies outside doesn't count.
func Largest(a, b []float32, w, c int, out []float32) { largest(a, b, w, c, 2, out) }

// LargestNext is the largest of two by two from each place on. out may be a.
func LargestNext(a, b []float32, w, c int, out []float32) { largest(a, b, w, c, 1, out) }

// largest is that of two by two, of every step-th place.
func largest(a, b []float32, w, c, step int, out []float32) {
	x := 0
	if whole := (w-2)/step + 1; hasVectors && w >= 2 {
		if skip := 4 * (step - 1) * c; hasWide && c%16 == 0 {
			largest512(&a[0], &b[0], c/16, skip, &out[0], whole)
		} else {
			largestAVX2(&a[0], &b[0], c/8, skip, &out[0], whole)
		}
		x = whole
	}
	for ; step*x < w; x++ {
		one, next := step*x*c, min(step*x+1, w-1)*c
		for i := range c {
			out[x*c+i] = max(a[one+i], a[next+i], b[one+i], b[next+i])
		}
	}
}
