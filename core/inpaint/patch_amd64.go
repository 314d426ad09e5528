package inpaint

import "golang.org/x/sys/cpu"

// hasVectors is settled once, at start, by what the processor says.
var hasVectors = cpu.X86.HasAVX2

// differencesAVX2 is the sum of the differences of two patches of eight by eight pixels.
//
//go:noescape
func differencesAVX2(a, b *uint8, stride int) uint32
