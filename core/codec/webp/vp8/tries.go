package vp8

// tries are predictions of small blocks, two by two: what they leave is transformed, and what that costs in bits is
// guessed. Distances are in samples. The order of its fields is known to tries_amd64.s.
type tries struct {
	source                []uint8
	sourceRow, sourceNext int // from row to row, and from block to block
	predicted             []uint8
	row, next             int
	values                [][16]float32 // coefficients, column by column
	costs                 []float32
	dear                  []float32 // what a squared step costs in bits
	dearNext              int
	pairs                 int

	// The reciprocal of a step; a coefficient's bits, at least and more for each step; and 0 where the first isn't counted, else 1.
	inverse, least, more, first float32
}

// What a coefficient is guessed to take in bits, whatever it is and for each step that it is large.
const roughLeast, roughMore = 4, 1.5

// tries begins with some at (x, y).
func (p *plane) tries(x, y int, predicted []uint8, row, next int) tries {
	return tries{source: p.pix[y*p.stride+x:], sourceRow: p.stride, predicted: predicted, row: row, next: next, least: roughLeast, more: roughMore, first: 1}
}

// plain is how it is done where there are no vector instructions, to the same bits.
func (t *tries) plain() {
	for i := range 2 * t.pairs {
		var left [4][4]float32
		source, predicted := t.source[i*t.sourceNext:], t.predicted[i*t.next:]
		for y := range left {
			for x := range left[y] {
				left[y][x] = float32(int32(source[y*t.sourceRow+x]) - int32(predicted[y*t.row+x]))
			}
		}
		out := &t.values[i]
		forward(&left, out)
		dear := t.dear[i*t.dearNext]
		var sums [4]float32
		for k, v := range out {
			if v < 0 {
				v = -v
			}
			v *= t.inverse
			cost, most := v*v*dear, v*t.more+t.least
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
