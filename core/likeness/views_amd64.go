package likeness

// halvedAVX2 is the means of two by two samples of two rows, n times eight of them.
//
//go:noescape
func halvedAVX2(a, b, to *float32, n int)

// smoothedAVX2 is 1:6:1 of the samples of three rows, n times eight of them.
//
//go:noescape
func smoothedAVX2(a, b, c, to *float32, n int)

// thirdsAVX2 is the sums of each three samples, n times eight of them.
//
//go:noescape
func thirdsAVX2(from, to *float32, n int)

// clipsAVX2 marks, n times for eight samples of colour, a bit each, those beside whose four samples of luma (two of first, two of
// second) some of red, green and blue may come near the ends of what they can be. The constants are what red, blue, and green
// have of colour, what luma begins at and is scaled by, and the bounds below and above which they are marked.
//
//go:noescape
func clipsAVX2(blue, red *float32, first, second *uint8, constants *[8]float32, marks *uint8, n int)

// droppedAVX2 is droppedPlain.
//
//go:noescape
func droppedAVX2(of *group, steps, inverse *[64]float32, up float32, off, left *[8]float32)

func dropped(g *group, steps, inverse *[64]float32, up float32, off, left *[8]float32) {
	if hasVectors {
		droppedAVX2(g, steps, inverse, up, off, left)
	} else {
		droppedPlain(g, steps, inverse, up, off, left)
	}
}

// transformedAVX2 is transformedPlain; across is basis with its indices the other way round.
//
//go:noescape
func transformedAVX2(block *[64]float32, basis, across *[8][8]float32, out *[64]float32)

func transformed(block *[64]float32, basis, across *[8][8]float32, out *[64]float32) {
	if hasVectors {
		transformedAVX2(block, basis, across, out)
	} else {
		transformedPlain(block, basis, across, out)
	}
}

func halvedRow(a, b, to []float32) {
	done := 0
	if n := len(to) / 8; hasVectors && n > 0 {
		halvedAVX2(&a[0], &b[0], &to[0], n)
		done = 8 * n
	}
	halvedRowPlain(a[2*done:], b[2*done:], to[done:])
}

func smoothed(a, b, c, to []float32) {
	done := 0
	if n := len(to) / 8; hasVectors && n > 0 {
		smoothedAVX2(&a[0], &b[0], &c[0], &to[0], n)
		done = 8 * n
	}
	smoothedPlain(a[done:], b[done:], c[done:], to[done:])
}

func thirds(from, to []float32) {
	done := 0
	if n := len(to) / 8; hasVectors && n > 0 {
		thirdsAVX2(&from[0], &to[0], n)
		done = 8 * n
	}
	thirdsPlain(from[block*done:], to[done:])
}

// markClips marks which samples of colour may have to be clipped, eight a byte, and gives for how many it did: those after
// them are to be looked at too. Bounds are a little wider than near, so that it doesn't matter how sums are rounded.
func markClips(blue, red []float32, first, second []uint8, low, scale, near float32, marks []uint8) int {
	n := len(first) / 16
	if !hasVectors || n == 0 {
		return 0
	}
	const wider = 0.01
	constants := [8]float32{1.402, 1.772, -0.344136, -0.714136, low, scale, near + wider, 255 - near - wider}
	clipsAVX2(&blue[0], &red[0], &first[0], &second[0], &constants, &marks[0], n)
	return 8 * n
}
