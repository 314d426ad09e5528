// Package linear solves systems of linear equations.
package linear

import "math"

// nothing is up to which a pivot is taken for zero.
const nothing = 1e-9

// Solve solves n equations, the rows of m, for each of the right sides that stand behind their n coefficients, in place: the
// solutions stand there after it, row by row. It eliminates with partial pivoting (Golub and Van Loan 2013, section 3.4). What the
// equations leave open is 0, and reported as false.
func Solve(m [][]float64) bool {
	n, whole := len(m), true
	for i := range n {
		best := i
		for j := i + 1; j < n; j++ {
			if math.Abs(m[j][i]) > math.Abs(m[best][i]) {
				best = j
			}
		}
		m[i], m[best] = m[best], m[i]
		if math.Abs(m[i][i]) <= nothing {
			m[i][i], whole = 0, false
			continue
		}
		for j := range n {
			if j == i {
				continue
			}
			f := m[j][i] / m[i][i]
			for k := i; k < len(m[j]); k++ {
				m[j][k] -= f * m[i][k]
			}
		}
	}
	for i, row := range m {
		for k := n; k < len(row); k++ {
			if row[i] == 0 {
				row[k] = 0
			} else {
				row[k] /= row[i]
			}
		}
	}
	return whole
}
