//go:build !amd64

package raster

const hasVectors = false

func resampleVectors(dst []uint8, dstStride int, src Plane, bx, by *bank, channels int, round int32) {
	resamplePlain(dst, dstStride, src, bx, by, channels, round)
}
