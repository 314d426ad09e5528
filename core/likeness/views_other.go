//go:build !amd64

package likeness

func dropped(g *group, steps, inverse *[64]float32, up float32, off, left *[8]float32) {
	droppedPlain(g, steps, inverse, up, off, left)
}

func transformed(block *[64]float32, basis, across *[8][8]float32, out *[64]float32) {
	transformedPlain(block, basis, across, out)
}

func halvedRow(a, b, to []float32) { halvedRowPlain(a, b, to) }

func smoothed(a, b, c, to []float32) { smoothedPlain(a, b, c, to) }

func thirds(from, to []float32) { thirdsPlain(from, to) }

func markClips(_, _ []float32, _, _ []uint8, _, _, _ float32, _ []uint8) int { return 0 }
