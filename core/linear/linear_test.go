package linear

import (
	"math"
	"testing"
)

func TestSolve(t *testing.T) {
	// Two right sides, and a first pivot of zero.
	m := [][]float64{{0, 2, 1, 7, 1}, {1, 1, 1, 6, 0}, {2, 1, -1, 1, 0}}
	if !Solve(m) {
		t.Fatal("not solved")
	}
	for i, want := range [][2]float64{{1, -0.4}, {2, 0.6}, {3, -0.2}} {
		if math.Abs(m[i][3]-want[0]) > 1e-12 || math.Abs(m[i][4]-want[1]) > 1e-12 {
			t.Errorf("unknown %d is %v, want %v", i, m[i][3:], want)
		}
	}
	open := [][]float64{{2, 0, 4}, {4, 0, 8}}
	if Solve(open) || open[0][2] != 2 || open[1][2] != 0 {
		t.Errorf("an open system gives %v", open)
	}
}
