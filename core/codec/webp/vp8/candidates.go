package vp8

// candidates are predictions of subblocks, in pairs: their residuals are transformed, and the cost in bits is estimated.
// Distances are in samples. candidates_amd64.s knows the order of the fields.
type candidates struct {
	source                []uint8
	sourceRow, sourceNext int // from row to row, and from block to block
	predicted             []uint8
	row, next             int
	values                [][16]float32 // coefficients, column by column
	costs                 []float32
	squareBits            []float32 // what a squared quantizer step costs in bits
	squareBitsNext        int
	pairs                 int

	// The reciprocal of a quantizer step; the estimated bits of a coefficient, at least and for each step; and 0 where DC isn't
	// counted, else 1.
	inverse, least, more, first float32
}

// The estimated bits of a coefficient: at least, and for each step of its magnitude.
const coarseBits, coarseBitsPerStep = 4, 1.5

// candidates are predictions of the subblocks from (x, y) on.
func (p *plane) candidates(x, y int, predicted []uint8, row, next int) candidates {
	return candidates{source: p.pix[y*p.stride+x:], sourceRow: p.stride, predicted: predicted, row: row, next: next, least: coarseBits, more: coarseBitsPerStep, first: 1}
}

// score is the reference for the vector code: the same numbers to the bit.
func (t *candidates) score() {
	for i := range 2 * t.pairs {
		var left [4][4]float32
		source, predicted := t.source[i*t.sourceNext:], t.predicted[i*t.next:]
		for y := range left {
			for x := range left[y] {
				left[y][x] = float32(int32(source[y*t.sourceRow+x]) - int32(predicted[y*t.row+x]))
			}
		}
		out := &t.values[i]
		forwardDCT(&left, out)
		squareBits := t.squareBits[i*t.squareBitsNext]
		var sums [4]float32
		for k, v := range out {
			if v < 0 {
				v = -v
			}
			v *= t.inverse
			cost, most := v*v*squareBits, v*t.more+t.least
			if most < cost {
				cost = most
			}
			if k == 0 {
				cost *= t.first
			}
			sums[k%4] += cost
		}
		t.costs[i] = sums[0] + sums[1] + (sums[2] + sums[3])
	}
}
