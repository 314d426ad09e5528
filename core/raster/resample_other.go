//go:build !amd64

package raster

func vertical(temp []int16, rows []uint8, stride int, weights []int16) {
	verticalPlain(temp, rows, stride, weights)
}

func horizontal1(dst []uint8, temp []int16, b *bank, round int32) {
	horizontal1Plain(dst, temp, b, round)
}

func horizontal4(dst []uint8, temp []int16, b *bank, round int32) {
	horizontal4Plain(dst, temp, b, round)
}
