package vp8

import "math"

// A quantizer is one segment's steps.
type quantizer struct {
	whole, means, colour [2]int32 // of the first coefficient and of the others
}

func quantizerOf(h *header, segment int) quantizer {
	i := h.index[segment]
	at := func(table *[128]int32, d int) int32 { return table[min(127, max(0, i+d))] }
	return quantizer{
		whole:  [2]int32{at(&stepDC, h.lumaDC), at(&stepAC, 0)},
		means:  [2]int32{2 * at(&stepDC, h.meansDC), max(8, at(&stepAC, h.meansAC)*155/100)},
		colour: [2]int32{min(132, at(&stepDC, h.colourDC)), at(&stepAC, h.colourAC)},
	}
}

// bitPrices are what levels take in bits, where the chances are known.
type bitPrices struct {
	level [kinds][bands][3][priced]float32 // with its sign, without whether there is more
	more  [kinds][bands][3]float32
	end   [kinds][bands][3]float32
}

// priced is how many levels' prices are worked out beforehand.
const priced = 68

func pricesOf(c *chances) *bitPrices {
	p := &bitPrices{}
	var levels [priced]tokens
	for v := range levels {
		levels[v].level(0, v)
	}
	for k := range c {
		for b := range c[k] {
			for x := range c[k][b] {
				q := &c[k][b][x]
				p.more[k][b][x], p.end[k][b][x] = bitCost(true, q[0]), bitCost(false, q[0])
				for v := range priced {
					p.level[k][b][x][v] = levels[v].bits(q)
				}
			}
		}
	}
	return p
}

// beyondBits are those of what a level has beyond the least of its group.
func beyondBits(v, g int) (bits float32) {
	rest, of := v-beyond[g].least, beyond[g].bits
	for i, chance := range of {
		bits += bitCost(rest>>(len(of)-1-i)&1 != 0, chance)
	}
	return bits
}

// A weigher chooses the levels of a block.
type weigher struct {
	prices *bitPrices
	chains [17][3]link // those that end before a place
}

// A link is a level of one coefficient in the cheapest chain that ends with it.
type link struct {
	level int16
	prev  uint8 // which of the chains before it
}

// worthTrying is from which part of a step above a level on the next is tried too.
const worthTrying = 0.35

// choose gives the levels for coefficients in zigzag order that cost least in squared error and bits together, of
// which a bit costs price, and how many there are to the last that isn't 0. It follows all chains of the levels near
// each coefficient, since what a level takes depends on the one before.
func (w *weigher) choose(c *[16]float32, levels *[16]int16, kind, first, context int, steps [2]int32, price float32) int {
	var ratio [16]float32
	var tail [17]float32 // the squared error of dropping all from a place on
	inverse := [2]float32{1 / float32(steps[0]), 1 / float32(steps[1])}
	squared := [2]float32{float32(steps[0]) * float32(steps[0]), float32(steps[1]) * float32(steps[1])}
	last := -1
	for n := 15; n >= first; n-- {
		v, of := c[n]*inverse[1], squared[1]
		if n == 0 {
			v, of = c[0]*inverse[0], squared[0]
		}
		if v < 0 {
			v = -v
		}
		ratio[n] = v
		tail[n] = tail[n+1] + v*v*of
		if v > 0.5 && last < 0 {
			last = n
		}
	}
	*levels = [16]int16{}
	if last < 0 {
		return first
	}
	prices, ends, mores := &w.prices.level[kind], &w.prices.end[kind], &w.prices.more[kind]
	// The chains that end before a place: what they cost, and the context that they leave.
	var scores, scoresNext [3]float32
	contexts, contextsNext := [3]uint8{uint8(context)}, [3]uint8{}
	count := 1
	best, bestAt, bestOf := tail[first]+price*ends[band[first]][context], first, 0
	for n := first; n <= last; n++ {
		v, of := ratio[n], squared[min(n, 1)]
		low := int(v)
		var tries [3]int
		k := 0
		if low > 0 {
			tries[0] = low
			k = 1
		}
		if v-float32(low) > worthTrying {
			tries[k] = low + 1
			k++
		}
		if low <= 1 {
			tries[k] = 0
			k++
		}
		here, more := &prices[band[n]], &mores[band[n]]
		for i := range k {
			level := tries[i]
			score, prev := float32(math.MaxFloat32), uint8(0)
			at := min(level, priced-1)
			for j := range count {
				x := contexts[j]
				bits := here[x][at]
				if x > 0 || n == first { // after a 0 there always is more
					bits += more[x]
				}
				if s := scores[j] + price*bits; s < score {
					score, prev = s, uint8(j)
				}
			}
			if level >= priced {
				score += price * (beyondBits(min(level, maxLevel), 5) - beyondBits(priced-1, 5))
			}
			d := v - float32(level)
			score += d * d * of
			next := uint8(min(level, 2))
			scoresNext[i], contextsNext[i] = score, next
			w.chains[n+1][i] = link{int16(min(level, maxLevel)), prev}
			if level > 0 {
				total := score + tail[n+1]
				if n < 15 {
					total += price * ends[band[n+1]][next]
				}
				if total < best {
					best, bestAt, bestOf = total, n+1, i
				}
			}
		}
		scores, contexts, count = scoresNext, contextsNext, k
	}
	for n, of := bestAt, uint8(bestOf); n > first; n-- {
		l := w.chains[n][of]
		if of = l.prev; c[n-1] < 0 {
			levels[n-1] = -l.level
		} else {
			levels[n-1] = l.level
		}
	}
	return bestAt
}
