package raster

import "golang.org/x/sys/cpu"

// avx2 is settled once, at start, by what the processor says.
var avx2 = cpu.X86.HasAVX2

//go:noescape
func verticalAVX2(temp *int16, rows *uint8, stride int, weights *int16, pairs int, n int)

//go:noescape
func horizontal1AVX2(dst *uint8, temp *int16, start *int32, weights *int16, stride int, n int, round int32)

//go:noescape
func horizontal4AVX2(dst *uint8, temp *int16, start *int32, weights *int16, stride int, n int, round int32)

// vertical is verticalPlain, with vectors of 32 columns where the processor has them. A last incomplete
// vector is done again from its end backwards, which gives the same values twice.
func vertical(temp []int16, rows []uint8, stride int, weights []int16) {
	const lanes = 32
	n := len(temp)
	if !avx2 || n < lanes || len(weights)&1 == 1 {
		verticalPlain(temp, rows, stride, weights)
		return
	}
	_ = rows[(len(weights)-1)*stride+n-1]
	verticalAVX2(&temp[0], &rows[0], stride, &weights[0], len(weights)/2, n&^(lanes-1))
	if rest := n & (lanes - 1); rest != 0 {
		verticalAVX2(&temp[n-lanes], &rows[n-lanes], stride, &weights[0], len(weights)/2, lanes)
	}
}

// horizontal1 is horizontal1Plain, four destination samples at a time, sixteen taps a step. temp needs
// rowPad readable samples beyond what the bank uses.
func horizontal1(dst []uint8, temp []int16, b *bank, round int32) {
	n := len(dst) &^ 3
	if !avx2 || n == 0 {
		horizontal1Plain(dst, temp, b, round)
		return
	}
	horizontal1AVX2(&dst[0], &temp[0], &b.start[0], &b.weights[0], b.stride, n, round)
	if n < len(dst) {
		horizontal1Plain(dst[n:], temp, b.from(n), round)
	}
}

// horizontal4 is horizontal4Plain, one pixel at a time, four taps a step.
func horizontal4(dst []uint8, temp []int16, b *bank, round int32) {
	if !avx2 || len(dst) == 0 {
		horizontal4Plain(dst, temp, b, round)
		return
	}
	horizontal4AVX2(&dst[0], &temp[0], &b.start[0], &b.weights[0], b.stride, len(dst)/4, round)
}

// from is the bank without its first n destination samples.
func (b *bank) from(n int) *bank {
	return &bank{start: b.start[n:], weights: b.weights[n*b.stride:], taps: b.taps, stride: b.stride, lo: b.lo, hi: b.hi}
}
