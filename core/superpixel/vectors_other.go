//go:build !amd64

package superpixel

var hasVectors = false

func nearer(l, a, b, far []float32, of []int32, c *centre, x, dy, k float32, name int32) {
	nearerPlain(l, a, b, far, of, c, x, dy, k, name)
}

func shortened(to, from []float32, apart float32) bool { return shortenedPlain(to, from, apart) }
