//go:build !amd64

package likeness

func halvedRow(a, b, to []float32) { halvedRowPlain(a, b, to) }

func smoothed(a, b, c, to []float32) { smoothedPlain(a, b, c, to) }

func thirds(from, to []float32) { thirdsPlain(from, to) }

func markClips(_, _ []float32, _, _ []uint8, _, _, _ float32, _ []uint8) int { return 0 }
