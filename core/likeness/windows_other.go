//go:build !amd64

package likeness

func columns(a, b []float32, stride, rows int, out *runs, n int) {
	columnsPlain(a, b, stride, rows, out, 0, n)
}

func windows(up, row *runs, g *grid, at int, c *[5]float32, n int) {
	windowsPlain(up, row, g, at, c, 0, n)
}
