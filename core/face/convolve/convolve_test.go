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
		both(w*n, func(out []float32) { Apart(in, w+2, w, n, k, out) })
		both((w+1)/2*n, func(out []float32) { Largest(in, in[(w+2)*n:], w, n, out) })
		both(w*n, func(out []float32) { LargestNext(in, in[(w+2)*n:], w, n, out) })
		both(w*n, func(out []float32) { // over itself
			copy(out, in)
			LargestNext(out, in[(w+2)*n:], w, n, out)
		})
		if hasWide {
			const n = 32
			in, k := numbers(r, 3*(w+2)*n), numbers(r, 9*n)
			apart, most := make([]float32, w*n), make([]float32, w*n)
			Apart(in, w+2, w, n, k, apart)
			LargestNext(in, in[(w+2)*n:], w, n, most)
			hasWide = false
			narrow := make([]float32, w*n)
			if Apart(in, w+2, w, n, k, narrow); !slices.Equal(apart, narrow) {
				t.Errorf("%d wide: wide vectors convolve to something else", w)
			}
			if LargestNext(in, in[(w+2)*n:], w, n, narrow); !slices.Equal(most, narrow) {
				t.Errorf("%d wide: wide vectors have another largest", w)
			}
			hasWide = true
		}
	}
}

func TestBytesSayTheSame(t *testing.T) {
	if !hasWhole {
		t.Skip("this processor has no products of bytes")
	}
	r := rand.New(rand.NewPCG(3, 4))
	for _, w := range []int{1, 11, 12, 13, 40} {
		line := 3*(w+2) + 4
		in := make([]byte, 3*line)
		for i := range in {
			in[i] = byte(r.Uint32())
		}
		b := Bytes{Offsets: []int{0, 4, 8, line, line + 4, line + 8, 2 * line, 2*line + 4, 2*line + 8, 2 * line}, Scale: 0.003, Bias: numbers(r, Panel)}
		for range len(b.Offsets) * Panel * 4 {
			b.K = append(b.K, int8(r.Uint32()))
		}
		fast, plain := make([]float32, w*Panel), make([]float32, w*Panel)
		b.Products(in, fast, w, 0.1)
		b.plain(in, plain, w, 0.1)
		for i, v := range fast {
			if d := math.Abs(float64(v - plain[i])); d > 1e-3 {
				t.Fatalf("%d wide: output %d is %v by vectors and %v without", w, i, v, plain[i])
			}
		}
	}
}

func TestWordsSayTheSame(t *testing.T) {
	if !hasWhole {
		t.Skip("this processor has no products of words")
	}
	r := rand.New(rand.NewPCG(5, 6))
	for _, w := range []int{1, 11, 12, 13, 40} {
		const n, outputs, step = 32, 48, 1.0 / 4096
		in, k := numbers(r, 3*(w+2)*n), numbers(r, 9*n)
		apart, steps := make([]float32, w*n), make([]float32, 9*n)
		for i, v := range k {
			steps[i] = v / step
		}
		Apart(in, w+2, w, n, k, apart)
		whole := make([]int16, w*n)
		if ApartWords(in, w+2, w, n, steps, whole); whole[0] == 0 && whole[n-1] == 0 {
			t.Fatal("all is zero")
		}
		for i, v := range whole {
			if d := math.Abs(float64(v)*step - float64(apart[i])); d > 0.6*step {
				t.Fatalf("%d wide: a word is %v, the number %v", w, float64(v)*step, apart[i])
			}
		}
		b := Words{N: n, Scale: step / 128, Bias: numbers(r, outputs)}
		plain := make([]float32, n*outputs)
		for o := 0; o < outputs; o += Panel {
			for i := 0; i < n; i += 2 {
				for j := range Panel {
					for e := range 2 {
						v := int16(r.IntN(300) - 150)
						b.K = append(b.K, v)
						plain[(o*n+(i+e)*Panel)+j] = float32(v) / 128
					}
				}
			}
		}
		fast, want := make([]float32, w*outputs), make([]float32, w*outputs)
		b.Products(whole, fast, w, 0.1)
		Products(apart, n, 1, 0, n, plain, b.Bias, want, outputs, w, 0.1)
		for i, v := range fast {
			if d := math.Abs(float64(v - want[i])); d > 0.02 {
				t.Fatalf("%d wide: output %d is %v of words and %v of numbers", w, i, v, want[i])
			}
		}
	}
}
