package inpaint

// votes are what patches say of a level's pixels, w to a row: for each the sum of four channels and of the weights.
type votes struct {
	sums, weights []float32
	w             int
}

// add has the patch whose samples begin at from speak for the pixels of the one that begins at pixel at. Those outside of the
// hole hear it too, in vain: eight pixels are added to faster than those of them are found that want it.
func (v *votes) add(at int, pix []uint8, from, stride int, weight float32) {
	_, _, _ = v.sums[4*(at+7*v.w)+31], v.weights[at+7*v.w+7], pix[from+7*stride+31]
	if hasVectors {
		addPatchAVX2(&v.sums[4*at], &v.weights[at], &pix[from], stride, v.w, weight)
		return
	}
	v.addPlain(at, pix, from, stride, weight)
}

func (v *votes) addPlain(at int, pix []uint8, from, stride int, weight float32) {
	for range patch {
		sums, weights, p := v.sums[4*at:][:4*patch], v.weights[at:][:patch], pix[from:][:4*patch]
		for i, s := range p {
			sums[i] += float32(weight * float32(s)) // rounded in between on every processor
		}
		for i := range weights {
			weights[i] += weight
		}
		at, from = at+v.w, from+stride
	}
}

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
