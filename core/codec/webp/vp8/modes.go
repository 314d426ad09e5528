package vp8

import "math"

// Modes are chosen by rate and distortion. Their λ is so many times that of the levels; chroma's is larger, and the bits of
// the modes themselves count more. `make quality-report` measures these constants, as those in plan.go.
const (
	modeLambda, modeLambdaUV = 2.5, 4
	modeBitWeight            = 1.3
)

// secondModeWithin is how many bits more than the best subblock mode the second best may be estimated to cost and still be
// tried.
const secondModeWithin = 6

// bModeBits are the bits of a subblock mode, by the modes above and on the left.
var bModeBits = func() (bits [bModes][bModes][bModes]float32) {
	for a := range bits {
		for l := range bits[a] {
			for mode, path := range bModeTree {
				for _, step := range path {
					bits[a][l][mode] += bitCost(step.set, bModeProbs[a][l][step.chance])
				}
			}
		}
	}
	return bits
}()

// yModeBits and uvModeBits are the bits of a macroblock's modes.
var (
	yModeBits = [mbModes + 1]float32{
		dcPred: bitCost(true, 145) + bitCost(false, 156) + bitCost(false, 163),
		vPred:  bitCost(true, 145) + bitCost(false, 156) + bitCost(true, 163),
		hPred:  bitCost(true, 145) + bitCost(true, 156) + bitCost(false, 128),
		tmPred: bitCost(true, 145) + bitCost(true, 156) + bitCost(true, 128),
		bPred:  bitCost(false, 145),
	}
	uvModeBits = [mbModes]float32{
		dcPred: bitCost(false, 142),
		vPred:  bitCost(true, 142) + bitCost(false, 114),
		hPred:  bitCost(true, 142) + bitCost(true, 114) + bitCost(false, 183),
		tmPred: bitCost(true, 142) + bitCost(true, 114) + bitCost(true, 183),
	}
)

// A yGuess is a macroblock's luma by one mode, and its cost in bits.
type yGuess struct {
	mode uint8
	cost float32
	coefficients
}

// choose chooses all modes and levels, macroblock by macroblock.
func (r *run) choose() {
	luma, colour := r.contexts(), r.contexts()
	modesAbove := make([][4]uint8, r.across)
	var modesLeft [4]uint8
	r.costBy(&defaultCoeffProbs)
	const begin, later = 16, 4 // probabilities are counted anew after a sixteenth and a quarter of the picture
	n := len(r.blocks)
	first := max(1, n/begin)
	if r.quick { // which doesn't use probabilities
		first = n
	}
	for from, to := 0, first; from < n; from, to = to, min(n, to*later) {
		if from > 0 {
			c := r.tokens.of(r.blocks[:from], r.coefficients[:from], r.across).probs()
			r.costBy(&c)
		}
		r.sideBySide(from, to, func(x, y int) {
			up, left := luma.at(x)
			if x == 0 {
				modesLeft = [4]uint8{}
			}
			r.coefficients[y*r.across+x].skipY = true
			r.chooseYMode(x, y, up, left, &modesAbove[x], &modesLeft)
		}, func(x, y int) {
			up, left := colour.at(x)
			r.chooseUVMode(x, y)
			r.macroblockUV(x, y, up, left)
		})
	}
}

func (r *run) chooseYMode(mx, my int, up, left *[9]uint8, modesUp, modesLeft *[4]uint8) {
	i := my*r.across + mx
	m, c := &r.blocks[i], &r.coefficients[i]
	var best yGuess
	r.bestYMode(mx, my, *up, *left, &best)
	u, l, a, b := *up, *left, *modesUp, *modesLeft
	if m.yMode = bPred; r.bestBModes(mx, my, &u, &l, &a, &b, best.cost) {
		*up, *left, *modesUp, *modesLeft = u, l, a, b
		return
	}
	m.yMode = best.mode
	for k := range 4 {
		modesUp[k], modesLeft[k] = impliedBMode[m.yMode], impliedBMode[m.yMode]
	}
	if r.quick {
		r.macroblockY(mx, my, up, left)
		return
	}
	for b := range 16 {
		c.levels[b] = best.levels[b]
		c.set(b, int(best.endOfBlock[b]), 1, &up[b&3], &left[b>>2])
	}
	c.levels[y2Block] = best.levels[y2Block]
	c.set(y2Block, int(best.endOfBlock[y2Block]), 0, &up[8], &left[8])
	var predicted [256]uint8
	r.recon[0].predict(m.yMode, 16*mx, 16*my, 16, predicted[:])
	r.reconstructY(mx, my, predicted[:])
}

// bestYMode estimates which 16×16 luma mode is cheapest, and finds its levels.
func (r *run) bestYMode(mx, my int, up, left [9]uint8, best *yGuess) {
	i := my*r.across + mx
	m, luma := &r.blocks[i], &r.recon[0]
	q := &r.quantizers[m.segment]
	var predicted [256]uint8
	var values, bestValues [16][16]float32
	var squareBits, bestMeans [16]float32
	step := float32(q.y[1])
	for b := range 16 {
		squareBits[b] = step * step / (modeLambda * r.lambdaAt(16*mx+b&3*4, 16*my+b>>2*4, q))
	}
	least := float32(math.MaxFloat32)
	for mode := range uint8(mbModes) {
		luma.predict(mode, 16*mx, 16*my, 16, predicted[:])
		means, sum := r.residualY(mx, my, predicted[:], &values, &squareBits, q)
		sum += modeBitWeight * yModeBits[mode]
		sum += coarseCost(&means, float32(q.y2[1]), float32(q.y2[1]*q.y2[1])/(modeLambda*r.lambdaY2At(i, q)))
		if sum < least {
			best.mode, least, bestValues, bestMeans = mode, sum, values, means
		}
	}
	if r.quick {
		best.cost = least
		return
	}
	best.cost = modeBitWeight * yModeBits[best.mode]
	lambda := r.lambdaY2At(i, q)
	used, off, bits := r.lumaTrellis.quantize(&bestMeans, &best.levels[y2Block], typeY2, 0, int(up[8]+left[8]), q.y2, lambda*r.thrift)
	best.endOfBlock[y2Block] = uint8(used)
	best.cost += bits + off/(modeLambda*lambda)
	for b := range 16 {
		lambda := r.lambdaAt(16*mx+b&3*4, 16*my+b>>2*4, q)
		used, off, bits := r.lumaTrellis.quantize(&bestValues[b], &best.levels[b], typeYAfterY2, 1, int(up[b&3]+left[b>>2]), q.y, lambda*r.thrift)
		best.endOfBlock[b] = uint8(used)
		up[b&3] = some(uint8(used), 1)
		left[b>>2] = up[b&3]
		best.cost += bits + off/(modeLambda*lambda)
	}
}

// bestBModes chooses the modes of the sixteen subblocks and reconstructs them. It gives up, with false, where they cost more
// than the limit.
func (r *run) bestBModes(mx, my int, up, left *[9]uint8, modesUp, modesLeft *[4]uint8, limit float32) bool {
	i := my*r.across + mx
	m, c, luma := &r.blocks[i], &r.coefficients[i], &r.recon[0]
	q := &r.quantizers[m.segment]
	var edge edge
	var predicted [16 * bModes]uint8
	var values [bModes][16]float32
	var costs [bModes]float32
	var levels [16]int16
	step := float32(q.y[1])
	sum := modeBitWeight * yModeBits[bPred]
	for b := range 16 {
		x, y := 16*mx+b&3*4, 16*my+b>>2*4
		luma.edge(x, y, mx == r.across-1, &edge)
		of := &bModeBits[modesUp[b&3]][modesLeft[b>>2]]
		lambda := r.lambdaAt(x, y, q)
		edge.small(&predicted)
		t := r.source[0].candidates(x, y, predicted[:], 4, 16)
		squareBits := [1]float32{step * step / (modeLambda * lambda)}
		t.values, t.costs, t.squareBits, t.pairs, t.inverse = values[:], costs[:], squareBits[:], bModes/2, 1/step
		t.scoreAll()
		first, second := 0, -1 // the cheapest two by estimate
		for mode := range costs {
			costs[mode] += modeBitWeight * of[mode]
			switch {
			case mode == 0:
			case costs[mode] < costs[first]:
				first, second = mode, first
			case second < 0 || costs[mode] < costs[second]:
				second = mode
			}
		}
		least, used := float32(math.MaxFloat32), 0
		candidates := []int{first, second}
		if costs[second]-costs[first] > secondModeWithin {
			candidates = candidates[:1]
		}
		if r.quick {
			candidates, least = nil, costs[first]
			m.bMode[b], used = uint8(first), deadZone(&values[first], &c.levels[b], 0, q.y, deadZoneY*lambda*r.thrift)
		}
		for _, mode := range candidates {
			n, off, bits := r.lumaTrellis.quantize(&values[mode], &levels, typeYWithDC, 0, int(up[b&3]+left[b>>2]), q.y, lambda*r.thrift)
			if cost := off/(modeLambda*lambda) + bits + modeBitWeight*of[mode]; cost < least {
				least, used = cost, n
				m.bMode[b], c.levels[b] = uint8(mode), levels
			}
		}
		if sum += least; sum >= limit {
			c.skipY = true
			return false
		}
		modesUp[b&3], modesLeft[b>>2] = m.bMode[b], m.bMode[b]
		c.set(b, used, 0, &up[b&3], &left[b>>2])
		luma.reconstruct(x, y, &c.levels[b], used, q.y, predicted[16*int(m.bMode[b]):], 4)
	}
	return true
}

// chooseUVMode takes the chroma mode that is cheapest by estimate.
func (r *run) chooseUVMode(mx, my int) {
	i := my*r.across + mx
	q := &r.quantizers[r.blocks[i].segment]
	var predicted [64]uint8
	var values [2][16]float32
	var costs, squareBits [2]float32
	step := float32(q.uv[1])
	least := float32(math.MaxFloat32)
	for mode := range uint8(mbModes) {
		sum := modeBitWeight * uvModeBits[mode]
		for p := 1; p < 3; p++ {
			r.recon[p].predict(mode, 8*mx, 8*my, 8, predicted[:])
			for y := 0; y < 8; y += 4 {
				t := r.source[p].candidates(8*mx, 8*my+y, predicted[8*y:], 8, 4)
				for k := range squareBits {
					squareBits[k] = step * step / (modeLambdaUV * r.lambdaUVAt(mx, my, y/2+k, q))
				}
				t.sourceNext, t.values, t.costs, t.squareBits, t.squareBitsNext, t.pairs, t.inverse = 4, values[:], costs[:], squareBits[:], 1, 1, 1/step
				t.scoreAll()
				sum += costs[0] + costs[1]
			}
		}
		if sum < least {
			r.blocks[i].uvMode, least = mode, sum
		}
	}
}

// coarseCost estimates the cost of coefficients in bits, as candidates do.
func coarseCost(values *[16]float32, step, squareBits float32) (sum float32) {
	for _, v := range values {
		if v /= step; v < 0 {
			v = -v
		}
		sum += min(v*v*squareBits, coarseBits+coarseBitsPerStep*v)
	}
	return sum
}
