package superpixel

import (
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

func TestVectorsGiveWhatPlainCodeGives(t *testing.T) {
	if !hasVectors {
		t.Skip("this processor has no such vectors")
	}
	random := rand.New(rand.NewPCG(5, 7))
	some := func(n int) []float32 {
		v := make([]float32, n)
		for i := range v {
			v[i] = random.Float32() - 0.3
		}
		return v
	}
	for n := 1; n < 60; n++ {
		l, a, b, far, of := some(n), some(n), some(n), some(n), make([]int32, n)
		c := &centre{0.1, 0.2, -0.1, 25.4, 3}
		wantFar, wantOf := slices.Clone(far), slices.Clone(of)
		nearerPlain(l, a, b, wantFar, wantOf, c, 7, -2.5, 0.003, 9)
		nearer(l, a, b, far, of, c, 7, -2.5, 0.003, 9)
		if !slices.Equal(far, wantFar) || !slices.Equal(of, wantOf) {
			t.Fatalf("%d pixels: %v %v, want %v %v", n, far, of, wantFar, wantOf)
		}
		to, from := some(n), some(n)
		for _, apart := range []float32{0.1, 3} {
			want := slices.Clone(to)
			changes := shortenedPlain(want, from, apart)
			if got := shortened(to, from, apart); got != changes || !slices.Equal(to, want) {
				t.Fatalf("%d ways, %v apart: %v %v, want %v %v", n, apart, got, to, changes, want)
			}
		}
	}
}

// The ways are as short as one finds by going from region to region from each by itself.
func TestWaysAreTheShortest(t *testing.T) {
	const w, h, nothing = 120, 80, 0.004
	r := New(Oklab(halves(w, h)), w, h, 60)
	n := len(r.Beside)
	ways, stride := r.Ways(nothing)
	between := 0
	for from := range n {
		far := make([]float32, n)
		for i := range far {
			far[i] = math.MaxFloat32
		}
		far[from] = 0
		left := make([]bool, n) // Dijkstra (1959)
		for range n {
			next := -1
			for i, d := range far {
				if !left[i] && (next < 0 || d < far[next]) {
					next = i
				}
			}
			left[next] = true
			for _, l := range r.Beside[next] {
				far[l.To] = min(far[l.To], far[next]+max(0, l.Apart-nothing))
			}
		}
		for to, d := range far {
			if ways[to*stride+from] != d {
				t.Fatalf("from %d to %d it is %v, want %v", from, to, ways[to*stride+from], d)
			}
			if d > 0.1 {
				between++
			}
		}
	}
	if between < n {
		t.Errorf("only %d ways lead anywhere else", between)
	}
}
