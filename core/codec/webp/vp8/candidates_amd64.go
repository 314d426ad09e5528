package vp8

import "golang.org/x/sys/cpu"

// hasVectors is settled once, at start, by what the processor says.
var hasVectors = cpu.X86.HasAVX2

//go:noescape
func scoreAVX2(t *candidates)

func (t *candidates) scoreAll() {
	if hasVectors {
		scoreAVX2(t)
	} else {
		t.score()
	}
}
