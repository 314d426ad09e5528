package vp8

import "math"

// Modes are chosen by the squared error that is left and the bits that it takes. Bits are so many times as dear as where levels are
// weighed, those of colour more, those that say the modes more. Found on the corpus, as what plan.go says.
const (
	modePrice, modeColourPrice = 2.5, 4
	modeBits                   = 1.3
)

// secondWithin is how many bits more than the best a small block's second best mode may be guessed to cost, to be tried.
const secondWithin = 6

// smallBits is what a small block's mode takes by those above and on the left.
var smallBits = func() (bits [smallModes][smallModes][smallModes]float32) {
	for a := range bits {
		for l := range bits[a] {
			for mode, path := range smallPath {
				for _, step := range path {
					bits[a][l][mode] += bitCost(step.set, placed[a][l][step.chance])
				}
			}
		}
	}
	return bits
}()

// wholeBits and colourBits are what a macroblock's modes take.
var (
	wholeBits = [modes + 1]float32{
		meanMode:   bitCost(true, 145) + bitCost(false, 156) + bitCost(false, 163),
		downMode:   bitCost(true, 145) + bitCost(false, 156) + bitCost(true, 163),
		acrossMode: bitCost(true, 145) + bitCost(true, 156) + bitCost(false, 128),
		slopeMode:  bitCost(true, 145) + bitCost(true, 156) + bitCost(true, 128),
		bySmall:    bitCost(false, 145),
	}
	colourBits = [modes]float32{
		meanMode:   bitCost(false, 142),
		downMode:   bitCost(true, 142) + bitCost(false, 114),
		acrossMode: bitCost(true, 142) + bitCost(true, 114) + bitCost(false, 183),
		slopeMode:  bitCost(true, 142) + bitCost(true, 114) + bitCost(true, 183),
	}
)

// A guess is a macroblock's luma by one mode, and what it costs in bits.
type guess struct {
	mode uint8
	cost float32
	coefficients
}

// choose has a run choose all modes as it goes along.
func (r *run) choose() {
	luma, colour := r.contexts(), r.contexts()
	modesAbove := make([][4]uint8, r.across)
	var modesLeft [4]uint8
	r.pricedBy(&usual)
	const begin, later = 16, 4 // chances are counted anew after a sixteenth and a quarter of the picture
	n := len(r.blocks)
	first := max(1, n/begin)
	if r.quick { // which doesn't ask for chances
		first = n
	}
	for from, to := 0, first; from < n; from, to = to, min(n, to*later) {
		if from > 0 {
			c := tokensOf(r.blocks[:from], r.levels[:from], r.across).chances()
			r.pricedBy(&c)
		}
		r.sideBySide(from, to, func(x, y int) {
			up, left := luma.at(x)
			if x == 0 {
				modesLeft = [4]uint8{}
			}
			r.levels[y*r.across+x].noLuma = true
			r.chooseLuma(x, y, up, left, &modesAbove[x], &modesLeft)
		}, func(x, y int) {
			up, left := colour.at(x)
			r.chooseColour(x, y)
			r.colour(x, y, up, left)
		})
	}
}

func (r *run) chooseLuma(mx, my int, up, left *[9]uint8, modesUp, modesLeft *[4]uint8) {
	i := my*r.across + mx
	m, c := &r.blocks[i], &r.levels[i]
	var best guess
	r.bestWhole(mx, my, *up, *left, &best)
	u, l, a, b := *up, *left, *modesUp, *modesLeft
	if m.mode = bySmall; r.bestSmall(mx, my, &u, &l, &a, &b, best.cost) {
		*up, *left, *modesUp, *modesLeft = u, l, a, b
		return
	}
	m.mode = best.mode
	for k := range 4 {
		modesUp[k], modesLeft[k] = asSmall[m.mode], asSmall[m.mode]
	}
	if r.quick {
		r.whole(mx, my, up, left)
		return
	}
	for b := range 16 {
		c.level[b] = best.level[b]
		c.set(b, int(best.used[b]), 1, &up[b&3], &left[b>>2])
	}
	c.level[meansAt] = best.level[meansAt]
	c.set(meansAt, int(best.used[meansAt]), 0, &up[8], &left[8])
	var predicted [256]uint8
	r.made[0].block(m.mode, 16*mx, 16*my, 16, predicted[:])
	r.makeWhole(mx, my, predicted[:])
}

// bestWhole guesses which mode of a whole macroblock's luma is cheapest, and finds its levels.
func (r *run) bestWhole(mx, my int, up, left [9]uint8, best *guess) {
	i := my*r.across + mx
	m, luma := &r.blocks[i], &r.made[0]
	q := &r.quants[m.segment]
	var predicted [256]uint8
	var values, bestValues [16][16]float32
	var dear, bestMeans [16]float32
	step := float32(q.whole[1])
	for b := range 16 {
		dear[b] = step * step / (modePrice * r.price(16*mx+b&3*4, 16*my+b>>2*4, q))
	}
	least := float32(math.MaxFloat32)
	for mode := range uint8(modes) {
		luma.block(mode, 16*mx, 16*my, 16, predicted[:])
		means, sum := r.transformed(mx, my, predicted[:], &values, &dear, q)
		sum += modeBits * wholeBits[mode]
		sum += rough(&means, float32(q.means[1]), float32(q.means[1]*q.means[1])/(modePrice*r.meansPrice(i, q)))
		if sum < least {
			best.mode, least, bestValues, bestMeans = mode, sum, values, means
		}
	}
	if r.quick {
		best.cost = least
		return
	}
	best.cost = modeBits * wholeBits[best.mode]
	price := r.meansPrice(i, q)
	used, off, bits := r.weigher.choose(&bestMeans, &best.level[meansAt], kindMeans, 0, int(up[8]+left[8]), q.means, price*r.thrift)
	best.used[meansAt] = uint8(used)
	best.cost += bits + off/(modePrice*price)
	for b := range 16 {
		price := r.price(16*mx+b&3*4, 16*my+b>>2*4, q)
		used, off, bits := r.weigher.choose(&bestValues[b], &best.level[b], kindAfterMeans, 1, int(up[b&3]+left[b>>2]), q.whole, price*r.thrift)
		best.used[b] = uint8(used)
		up[b&3] = some(uint8(used), 1)
		left[b>>2] = up[b&3]
		best.cost += bits + off/(modePrice*price)
	}
}

// bestSmall chooses the modes of the small blocks, and makes them, as long as they cost less than a limit.
func (r *run) bestSmall(mx, my int, up, left *[9]uint8, modesUp, modesLeft *[4]uint8, limit float32) bool {
	i := my*r.across + mx
	m, c, luma := &r.blocks[i], &r.levels[i], &r.made[0]
	q := &r.quants[m.segment]
	var edge edge
	var predicted [16 * smallModes]uint8
	var values [smallModes][16]float32
	var costs [smallModes]float32
	var levels [16]int16
	step := float32(q.whole[1])
	sum := modeBits * wholeBits[bySmall]
	for b := range 16 {
		x, y := 16*mx+b&3*4, 16*my+b>>2*4
		luma.edge(x, y, mx == r.across-1, &edge)
		of := &smallBits[modesUp[b&3]][modesLeft[b>>2]]
		price := r.price(x, y, q)
		edge.small(&predicted)
		t := r.source[0].tries(x, y, predicted[:], 4, 16)
		dear := [1]float32{step * step / (modePrice * price)}
		t.values, t.costs, t.dear, t.pairs, t.inverse = values[:], costs[:], dear[:], smallModes/2, 1/step
		t.all()
		first, second := 0, -1 // those that look cheapest
		for mode := range costs {
			costs[mode] += modeBits * of[mode]
			switch {
			case mode == 0:
			case costs[mode] < costs[first]:
				first, second = mode, first
			case second < 0 || costs[mode] < costs[second]:
				second = mode
			}
		}
		least, used := float32(math.MaxFloat32), 0
		tried := []int{first, second}
		if costs[second]-costs[first] > secondWithin {
			tried = tried[:1]
		}
		if r.quick {
			tried, least = nil, costs[first]
			m.small[b], used = uint8(first), quickly(&values[first], &c.level[b], 0, q.whole, quickPrice*price*r.thrift)
		}
		for _, mode := range tried {
			n, off, bits := r.weigher.choose(&values[mode], &levels, kindWhole, 0, int(up[b&3]+left[b>>2]), q.whole, price*r.thrift)
			if cost := off/(modePrice*price) + bits + modeBits*of[mode]; cost < least {
				least, used = cost, n
				m.small[b], c.level[b] = uint8(mode), levels
			}
		}
		if sum += least; sum >= limit {
			c.noLuma = true
			return false
		}
		modesUp[b&3], modesLeft[b>>2] = m.small[b], m.small[b]
		c.set(b, used, 0, &up[b&3], &left[b>>2])
		luma.restore(x, y, &c.level[b], used, q.whole, predicted[16*int(m.small[b]):], 4)
	}
	return true
}

// chooseColour guesses which mode is cheapest.
func (r *run) chooseColour(mx, my int) {
	i := my*r.across + mx
	q := &r.quants[r.blocks[i].segment]
	var predicted [64]uint8
	var values [2][16]float32
	var costs, dear [2]float32
	step := float32(q.colour[1])
	least := float32(math.MaxFloat32)
	for mode := range uint8(modes) {
		sum := modeBits * colourBits[mode]
		for p := 1; p < 3; p++ {
			r.made[p].block(mode, 8*mx, 8*my, 8, predicted[:])
			for y := 0; y < 8; y += 4 {
				t := r.source[p].tries(8*mx, 8*my+y, predicted[8*y:], 8, 4)
				for k := range dear {
					dear[k] = step * step / (modeColourPrice * r.colourPrice(mx, my, y/2+k, q))
				}
				t.sourceNext, t.values, t.costs, t.dear, t.dearNext, t.pairs, t.inverse = 4, values[:], costs[:], dear[:], 1, 1, 1/step
				t.all()
				sum += costs[0] + costs[1]
			}
		}
		if sum < least {
			r.blocks[i].colour, least = mode, sum
		}
	}
}

// rough guesses what coefficients cost in bits, as tries do.
func rough(values *[16]float32, step, dear float32) (sum float32) {
	for _, v := range values {
		if v /= step; v < 0 {
			v = -v
		}
		sum += min(v*v*dear, roughLeast+roughMore*v)
	}
	return sum
}
