// Package convolve has the sums of products that small networks are made of, with vectors where the processor has them. What
// vectors give differs by what they round.
package convolve

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

// Apart convolves each of n channels of w places by itself with 3×3 weights; in holds three rows of w+2 places, and n is a
// multiple of 8.
func Apart(in []float32, w, n int, k, out []float32) {
	if hasVectors {
		for c := 0; c < n; c += 8 {
			apartFMA(&in[c], 4*(w+2)*n, 4*n, &k[c], &out[c], w)
		}
		return
	}
	clear(out[:w*n])
	for x := range w {
		to := out[x*n:][:n]
		for dy := range 3 {
			for dx := range 3 {
				f := k[(dy*3+dx)*n:][:n]
				for c, v := range in[(dy*(w+2)+x+dx)*n:][:n] {
					to[c] += v * f[c]
				}
			}
		}
	}
}

// Largest is the largest of two by two in two rows of w places of c channels, a multiple of 8; what lies outside doesn't count.
func Largest(a, b []float32, w, c int, out []float32) {
	x := 0
	if hasVectors && w >= 2 {
		largestAVX2(&a[0], &b[0], c/8, &out[0], w/2)
		x = w / 2
	}
	for ; x < (w+1)/2; x++ {
		one, next := 2*x*c, min(2*x+1, w-1)*c
		for i := range c {
			out[x*c+i] = max(a[one+i], a[next+i], b[one+i], b[next+i])
		}
	}
}
