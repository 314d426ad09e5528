package raster

// limitAVX2 is (from×scale + offset)/255 + low, rounded down, of n times sixteen samples.
//
//go:noescape
func limitAVX2(from, to *uint8, n int, scale, offset, low uint16)

func (l limiter) row(from, to []uint8) {
	done := 0
	if n := len(to) / 16; hasVectors && n > 0 {
		limitAVX2(&from[0], &to[0], n, l.scale, l.offset, l.low)
		done = 16 * n
	}
	l.rowPlain(from[done:len(to)], to[done:])
}
