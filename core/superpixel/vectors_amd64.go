package superpixel

import "golang.org/x/sys/cpu"

// hasVectors is settled once, at start, by what the processor says.
var hasVectors = cpu.X86.HasAVX2

// nearerAVX2 is nearerPlain for n times eight pixels.
//
//go:noescape
func nearerAVX2(l, a, b, far *float32, of *int32, c *centre, x, dy, k float32, name int32, n int)

// shortenedAVX2 is shortenedPlain for n times eight ways.
//
//go:noescape
func shortenedAVX2(to, from *float32, apart float32, n int) bool

func nearer(l, a, b, far []float32, of []int32, c *centre, x, dy, k float32, name int32) {
	n := len(far)
	if !hasVectors || n < 8 {
		nearerPlain(l, a, b, far, of, c, x, dy, k, name)
		return
	}
	nearerAVX2(&l[0], &a[0], &b[0], &far[0], &of[0], c, x, dy, k, name, n/8)
	if n%8 > 0 { // a pixel looked at twice is no nearer the second time
		n -= 8
		nearerAVX2(&l[n], &a[n], &b[n], &far[n], &of[n], c, x+float32(n), dy, k, name, 1)
	}
}

func shortened(to, from []float32, apart float32) bool {
	if !hasVectors {
		return shortenedPlain(to, from, apart)
	}
	n := len(to) / 8
	changed := n > 0 && shortenedAVX2(&to[0], &from[0], apart, n)
	return shortenedPlain(to[8*n:], from[8*n:], apart) || changed
}
