package vp8

import (
	"math"
	"math/bits"
)

// A quantizer is one segment's steps.
type quantizer struct {
	whole, means, colour [2]int32 // of the first coefficient and of the others
}

func quantizerOf(h *header, segment int) quantizer {
	i := h.index[segment]
	at := func(table *[128]int32, d int) int32 { return table[min(127, max(0, i+d))] }
	return quantizer{
		whole:  [2]int32{stepDC[i], stepAC[i]},
		means:  [2]int32{2 * stepDC[i], max(8, stepAC[i]*155/100)},
		colour: [2]int32{min(132, at(&stepDC, h.colourDC)), at(&stepAC, h.colourAC)},
	}
}

// bitPrices are what levels take in bits, where the chances are known.
type bitPrices struct {
	level [kinds][bands][3][priced]float32 // with its sign, and behind a level that isn't 0 with that there is more
	more  [kinds][bands][3]float32
	end   [kinds][bands][3]float32
}

// priced is how many levels' prices are worked out beforehand.
const priced = 68

// levelTokens are those of the levels that are priced.
var levelTokens = func() (levels [priced]tokens) {
	for v := range levels {
		levels[v].level(0, v)
	}
	return levels
}()

func pricesOf(c *chances) *bitPrices {
	p := &bitPrices{}
	for k := range c {
		for b := range c[k] {
			for x := range c[k][b] {
				q, before := &c[k][b][x], float32(0)
				p.more[k][b][x], p.end[k][b][x] = bitCost(true, q[0]), bitCost(false, q[0])
				if x > 0 { // after a 0 there always is more
					before = p.more[k][b][x]
				}
				for v := range levelTokens {
					p.level[k][b][x][v] = before + levelTokens[v].bits(q)
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
	links  [17][2]link // of the chains that end before a place
}

// A link is a level of one coefficient in the cheapest chain that ends with it.
type link struct {
	level int16
	prev  uint8 // which of the chains before it
}

// A chain is what the levels so far cost.
type chain struct {
	cost, bits float32
	last       uint8 // how large the last level was, up to 2
}

// choose gives the levels for coefficients, column by column, that cost least in squared error and bits together, of
// which a bit costs price; how many there are to the last that isn't 0; and that error and those bits. Of each
// coefficient the nearest level and the one below are tried, in all chains of them, since what a level takes depends
// on the one before.
func (w *weigher) choose(c *[16]float32, levels *[16]int16, kind, first, context int, steps [2]int32, price float32) (used int, off, bits float32) {
	var ratio [16]float32
	var tail [17]float32 // the squared error of dropping all from a place on
	inverse, squared := 1/float32(steps[1]), float32(steps[1])*float32(steps[1])
	last := -1
	for n := 15; n >= first; n-- {
		if n == 0 {
			inverse, squared = 1/float32(steps[0]), float32(steps[0])*float32(steps[0])
		}
		v := c[inColumns[n]] * inverse
		if v < 0 {
			v = -v
		}
		ratio[n] = v
		tail[n] = tail[n+1] + v*v*squared
		if v > 0.5 && last < 0 {
			last = n
		}
	}
	*levels = [16]int16{}
	prices, ends := &w.prices.level[kind], &w.prices.end[kind]
	bits = ends[band[first]][context]
	if last < 0 {
		return first, tail[first], bits
	}
	best, bestAt, bestOf := tail[first]+price*bits, first, uint8(0)
	a, b, two := chain{last: uint8(context)}, chain{}, false
	if context == 0 {
		more := w.prices.more[kind][band[first]][0]
		a.cost, a.bits = price*more, more
	}
	for n := first; n <= last; n++ {
		if n < 2 {
			squared = float32(steps[n]) * float32(steps[n])
		}
		v, here := ratio[n], &prices[band[n]]
		high := int(v + 0.5)
		if high == 0 {
			var of uint8
			a, of = cheaper(&a, &b, two, here, 0, price)
			a.cost += v * v * squared
			w.links[n+1][0] = link{0, of}
			two = false
			continue
		}
		end := &ends[band[n+1]]
		x, of := cheaper(&a, &b, two, here, high, price)
		y, ofLower := cheaper(&a, &b, two, here, high-1, price)
		d := v - float32(high)
		x.cost += d * d * squared
		d++
		y.cost += d * d * squared
		w.links[n+1] = [2]link{{int16(min(high, maxLevel)), of}, {int16(min(high-1, maxLevel)), ofLower}}
		a, b, two = x, y, true
		stop := float32(0)
		if n < 15 {
			stop = end[a.last]
		}
		if total := a.cost + tail[n+1] + price*stop; total < best {
			best, bits, bestAt, bestOf = total, a.bits+stop, n+1, 0
		}
		if high > 1 {
			if n < 15 {
				stop = end[b.last]
			}
			if total := b.cost + tail[n+1] + price*stop; total < best {
				best, bits, bestAt, bestOf = total, b.bits+stop, n+1, 1
			}
		}
	}
	for n, of := bestAt, bestOf; n > first; n-- {
		l := w.links[n][of]
		if of = l.prev; c[inColumns[n-1]] < 0 {
			levels[n-1] = -l.level
		} else {
			levels[n-1] = l.level
		}
	}
	return bestAt, max(0, best-price*bits), bits
}

// What decides of a level that is taken by itself: how dear its guessed bits are beside those that are weighed, in luma and in
// colour, and from which part of a step on it is the next higher. Found on the corpus.
const quickPrice, quickColour, quickUp = 2.5, 1.6, 0.55

// quickly gives the levels for coefficients, each by itself: none where its guessed bits cost more than its error.
func quickly(c *[16]float32, levels *[16]int16, first int, steps [2]int32, price float32) (used int) {
	inverse := 1 / float32(steps[1])
	p := price * inverse * inverse
	// Where v² = p·(roughLeast + roughMore·v).
	least := max(quickUp, (roughMore*p+float32(math.Sqrt(float64(p*(roughMore*roughMore*p+4*roughLeast)))))/2)
	*levels = [16]int16{}
	used = first
	// Sizes are compared as whole numbers, which are in the same order.
	below := [2]uint32{math.Float32bits(least*float32(steps[0])) - 1, math.Float32bits(least*float32(steps[1])) - 1}
	large := (below[0] - math.Float32bits(c[0])&^(1<<31)) >> 31
	for i := 1; i < len(c); i++ {
		large |= (below[1] - math.Float32bits(c[i])&^(1<<31)) >> 31 << i
	}
	if first > 0 {
		large &^= 1
	}
	for ; large != 0; large &= large - 1 {
		i := bits.TrailingZeros32(large)
		v := c[i] * inverse
		if i == 0 {
			v = c[0] / float32(steps[0])
		}
		n := int(fromColumns[i])
		if v < 0 {
			levels[n] = -min(int16(1-quickUp-v), maxLevel)
		} else {
			levels[n] = min(int16(1-quickUp+v), maxLevel)
		}
		used = max(used, n+1)
	}
	return used
}

// cheaper is the cheaper of two chains with a level more, without its error, and which it is.
func cheaper(a, b *chain, two bool, here *[3][priced]float32, level int, price float32) (c chain, of uint8) {
	at := min(level, priced-1)
	bits := here[a.last][at]
	c = chain{a.cost + price*bits, a.bits + bits, uint8(min(level, 2))}
	if two {
		bits := here[b.last][at]
		if cost := b.cost + price*bits; cost < c.cost {
			c.cost, c.bits, of = cost, b.bits+bits, 1
		}
	}
	if level >= priced {
		bits := beyondBits(min(level, maxLevel), 5) - beyondBits(priced-1, 5)
		c.cost += price * bits
		c.bits += bits
	}
	return c, of
}
