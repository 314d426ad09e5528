package inpaint

import "golang.org/x/sys/cpu"

// hasVectors is settled once, at start, by what the processor says.
var hasVectors = cpu.X86.HasAVX2

// differencesAVX2 is the sum of the differences of two patches of eight by eight pixels.
//
//go:noescape
func differencesAVX2(a, b *uint8, stride int) uint32

// addPatchAVX2 adds eight by eight pixels, times a weight, to sums, and the weight to weights; across is how many pixels those have
// in a row. It gives what addPlain does, to the bit.
//
//go:noescape
func addPatchAVX2(sums, weights *float32, pix *uint8, stride, across int, weight float32)
