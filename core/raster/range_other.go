//go:build !amd64

package raster

func (l limiter) row(from, to []uint8) { l.rowPlain(from, to) }
