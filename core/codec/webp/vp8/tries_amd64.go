package vp8

import "golang.org/x/sys/cpu"

// hasVectors is settled once, at start, by what the processor says.
var hasVectors = cpu.X86.HasAVX2

//go:noescape
func triesAVX2(t *tries)

func (t *tries) all() {
	if hasVectors {
		triesAVX2(t)
	} else {
		t.plain()
	}
}
