package matte

import (
	"math/rand/v2"
	"testing"
)

// The smallest cut is what trying all partings gives.
func TestCutsAreTheSmallest(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 5))
	const n = 7
	for range 60 {
		var ends [n][2]float32
		var ways [n][n]float32
		g := newGraph(n)
		for i := range n {
			ends[i] = [2]float32{r.Float32(), r.Float32()}
			g.link(n, i, ends[i][0], 0)
			g.link(i, n+1, ends[i][1], 0)
			for j := range i {
				if r.Float32() < 0.6 {
					v := r.Float32() / 2
					ways[i][j] = v
					g.link(i, j, v, v)
				}
			}
		}
		cost := func(stays func(i int) bool) (sum float32) {
			for i := range n {
				if stays(i) {
					sum += ends[i][1]
				} else {
					sum += ends[i][0]
				}
				for j := range i {
					if stays(i) != stays(j) {
						sum += ways[i][j]
					}
				}
			}
			return sum
		}
		least := float32(1e9)
		for set := range 1 << n {
			least = min(least, cost(func(i int) bool { return set>>i&1 == 1 }))
		}
		stays := g.cut()
		if got := cost(func(i int) bool { return stays[i] }); got > least+1e-3 {
			t.Fatalf("the cut costs %v, the smallest %v", got, least)
		}
	}
}

func TestMixturesTellColoursApart(t *testing.T) {
	colours := [][3]float32{{0.5, 0.1, 0.1}, {0.52, 0.11, 0.1}, {0.9, 0, 0}, {0.88, 0.01, 0}}
	m, ok := mixtureOf(colours, []float32{4, 4, 2, 2})
	if !ok {
		t.Fatal("no mixture")
	}
	if near, far := m.cost([3]float32{0.51, 0.1, 0.1}), m.cost([3]float32{0.2, -0.2, 0.1}); near >= far-2 {
		t.Errorf("a colour of the mixture costs %.2f, another one %.2f", near, far)
	}
	if _, ok := mixtureOf(colours, make([]float32, 4)); ok {
		t.Error("a mixture of nothing")
	}
}
