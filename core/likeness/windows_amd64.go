package likeness

import "golang.org/x/sys/cpu"

// hasVectors is settled once, at start, by what the processor says.
var hasVectors = cpu.X86.HasAVX2

// columnsAVX2 sums n times eight columns of rows rows, stride bytes apart: a's samples, b's, their squares and their
// products, into five runs of sums that lie apart bytes from each other.
//
//go:noescape
func columnsAVX2(a, b *float32, stride int, rows int, out *float32, apart int, n int)

// windowsAVX2 says of n times eight windows of two by two blocks what window says of one.
//
//go:noescape
func windowsAVX2(up, row *float32, apart int, lost, err, masked *float32, constants *[5]float32, n int)

func columns(a, b []float32, stride, rows int, out *runs, n int) {
	done := 0
	if hasVectors && n >= 8 {
		columnsAVX2(&a[0], &b[0], 4*stride, rows, &out.v[0], 4*out.apart, n/8)
		done = n &^ 7
	}
	columnsPlain(a, b, stride, rows, out, done, n)
}

func windows(up, row *runs, g *grid, at int, c *[5]float32, n int) {
	done := 0
	if hasVectors && n >= 8 {
		windowsAVX2(&up.v[0], &row.v[0], 4*up.apart, &g.lost[at], &g.err[at], &g.masked[at], c, n/8)
		done = n &^ 7
	}
	windowsPlain(up, row, g, at, c, done, n)
}
