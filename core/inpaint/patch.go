package inpaint

// differences is how far the samples of two patches are apart that begin at a and b, in all.
func differences(pix []uint8, a, b, stride int) uint32 {
	_, _ = pix[a+7*stride+31], pix[b+7*stride+31]
	if hasVectors {
		return differencesAVX2(&pix[a], &pix[b], stride)
	}
	return differencesPlain(pix, a, b, stride)
}

func differencesPlain(pix []uint8, a, b, stride int) (sum uint32) {
	for range patch {
		p, q := pix[a:][:4*patch], pix[b:][:4*patch]
		for i, v := range p {
			d := int(v) - int(q[i])
			sum += uint32(max(d, -d))
		}
		a, b = a+stride, b+stride
	}
	return sum
}
