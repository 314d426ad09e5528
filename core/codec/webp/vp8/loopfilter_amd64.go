package vp8

//go:noescape
func outerAcrossAVX2(a, b *uint8, stride int, limits *[11]int16)

//go:noescape
func innerAcrossAVX2(a, b *uint8, stride int, limits *[11]int16)

//go:noescape
func outerAlongAVX2(a, b *uint8, stride int, limits *[11]int16)

//go:noescape
func innerAlongAVX2(a, b *uint8, stride int, limits *[11]int16)

// edges filters an edge of 16 samples with vectors: eight from a, eight from b; upright says that it runs down. It reports
// whether it did.
func (s *loopFilter) edges(a, b []uint8, at, next, stride int, upright, between bool) bool {
	if !hasVectors {
		return false
	}
	limits := [11]int16{int16(s.inner), int16(s.across), int16(s.sharp), 4, 3, 63, 27, 18, 9, 127, -128}
	if between {
		limits[0] = int16(s.outer)
	}
	switch {
	case upright && between:
		outerAcrossAVX2(&a[at-4], &b[next-4], stride, &limits)
	case upright:
		innerAcrossAVX2(&a[at-4], &b[next-4], stride, &limits)
	case between:
		outerAlongAVX2(&a[at-4*stride], &b[next-4*stride], stride, &limits)
	default:
		innerAlongAVX2(&a[at-4*stride], &b[next-4*stride], stride, &limits)
	}
	return true
}
