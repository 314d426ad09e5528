package convolve

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

func numbers(r *rand.Rand, n int) []float32 {
	v := make([]float32, n)
	for i := range v {
		v[i] = r.Float32() - 0.5
	}
	return v
}

// Vectors and plain code give the same, but for what they round.
func TestVectorsSayTheSame(t *testing.T) {
	if !hasVectors {
		t.Skip("this processor has none")
	}
	r := rand.New(rand.NewPCG(1, 2))
	for _, w := range []int{1, 5, 6, 7, 13, 40} {
		const n, outputs = 24, 32
		in, k, bias := numbers(r, 3*(w+2)*n), numbers(r, 3*n*outputs), numbers(r, outputs)
		both := func(size int, work func(out []float32)) {
			t.Helper()
			a, b := make([]float32, size), make([]float32, size)
			work(a)
			hasVectors = false
			work(b)
			hasVectors = true
			for i := range a {
				if d := math.Abs(float64(a[i] - b[i])); d > 1e-4 {
					t.Fatalf("%d wide: output %d is %v with vectors and %v without", w, i, a[i], b[i])
				}
			}
		}
		products := func(out []float32) { Products(in, n, 3, (w+2)*n, n, k, bias, out, outputs, w, 0.1) }
		both(w*outputs, products)
		if wide, narrow := make([]float32, w*outputs), make([]float32, w*outputs); hasWide {
			products(wide)
			hasWide = false
			products(narrow)
			hasWide = true
			if !slices.Equal(wide, narrow) {
				t.Errorf("%d wide: wide vectors give something else", w)
			}
		}
		both(w*n, func(out []float32) { Apart(in, w, n, k, out) })
		both((w+1)/2*n, func(out []float32) { Largest(in, in[(w+2)*n:], w, n, out) })
	}
}
