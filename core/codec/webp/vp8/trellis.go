package vp8

import (
	"math"
	"math/bits"
)

// A quantizer is one segment's quantizer steps (RFC 6386, section 14.1).
type quantizer struct {
	y, y2, uv [2]int32 // of DC and of AC
}

func quantizerOf(h *header, segment int) quantizer {
	i := h.qIndex[segment]
	at := func(table *[128]int32, d int) int32 { return table[min(127, max(0, i+d))] }
	return quantizer{
		y:  [2]int32{stepDC[i], stepAC[i]},
		y2: [2]int32{2 * stepDC[i], max(8, stepAC[i]*155/100)},
		uv: [2]int32{min(132, at(&stepDC, h.uvDCDelta)), at(&stepAC, h.uvACDelta)},
	}
}

// levelCosts are the bits of levels under known probabilities.
type levelCosts struct {
	level [blockTypes][bands][3][costedLevels]float32 // with its sign and, after a level that isn't 0, with the bit that says there is more
	more  [blockTypes][bands][3]float32
	end   [blockTypes][bands][3]float32
}

// costedLevels is how many levels have their costs in the table.
const costedLevels = 68

// levelTokens are the tokens of those levels.
var levelTokens = func() (levels [costedLevels]tokens) {
	for v := range levels {
		levels[v].level(0, v)
	}
	return levels
}()

func levelCostsOf(c *coeffProbs) *levelCosts {
	p := &levelCosts{}
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

// beyondBits are the extra bits of a level in its category.
func beyondBits(v, g int) (bits float32) {
	rest, of := v-beyond[g].least, beyond[g].bits
	for i, prob := range of {
		bits += bitCost(rest>>(len(of)-1-i)&1 != 0, prob)
	}
	return bits
}

// A trellis chooses the levels of a block by rate and distortion.
type trellis struct {
	costs *levelCosts
	nodes [17][2]node // of the paths that end before a place
}

// A node is a level of one coefficient on the cheapest path that ends with it.
type node struct {
	level int16
	prev  uint8 // which of the paths before it
}

// A path is the cost of the levels so far.
type path struct {
	cost, bits float32
	last       uint8 // how large the last level was, up to 2
}

// quantize sets the levels of coefficients, which come column by column, for the least squared error plus λ times the bits.
// It returns how many levels there are up to the last that isn't 0, the error and the bits. The nearest level of each
// coefficient and the one below it are tried on all paths, since the bits of a level depend on the level before.
func (w *trellis) quantize(c *[16]float32, levels *[16]int16, kind, first, context int, steps [2]int32, lambda float32) (used int, off, bits float32) {
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
	prices, ends := &w.costs.level[kind], &w.costs.end[kind]
	bits = ends[band[first]][context]
	if last < 0 {
		return first, tail[first], bits
	}
	best, bestAt, bestOf := tail[first]+lambda*bits, first, uint8(0)
	a, b, two := path{last: uint8(context)}, path{}, false
	if context == 0 {
		more := w.costs.more[kind][band[first]][0]
		a.cost, a.bits = lambda*more, more
	}
	for n := first; n <= last; n++ {
		if n < 2 {
			squared = float32(steps[n]) * float32(steps[n])
		}
		v, here := ratio[n], &prices[band[n]]
		high := int(v + 0.5)
		if high == 0 {
			var of uint8
			a, of = cheaperPath(&a, &b, two, here, 0, lambda)
			a.cost += v * v * squared
			w.nodes[n+1][0] = node{0, of}
			two = false
			continue
		}
		end := &ends[band[n+1]]
		x, of := cheaperPath(&a, &b, two, here, high, lambda)
		y, ofLower := cheaperPath(&a, &b, two, here, high-1, lambda)
		d := v - float32(high)
		x.cost += d * d * squared
		d++
		y.cost += d * d * squared
		w.nodes[n+1] = [2]node{{int16(min(high, maxLevel)), of}, {int16(min(high-1, maxLevel)), ofLower}}
		a, b, two = x, y, true
		stop := float32(0)
		if n < 15 {
			stop = end[a.last]
		}
		if total := a.cost + tail[n+1] + lambda*stop; total < best {
			best, bits, bestAt, bestOf = total, a.bits+stop, n+1, 0
		}
		if high > 1 {
			if n < 15 {
				stop = end[b.last]
			}
			if total := b.cost + tail[n+1] + lambda*stop; total < best {
				best, bits, bestAt, bestOf = total, b.bits+stop, n+1, 1
			}
		}
	}
	for n, of := bestAt, bestOf; n > first; n-- {
		l := w.nodes[n][of]
		if of = l.prev; c[inColumns[n-1]] < 0 {
			levels[n-1] = -l.level
		} else {
			levels[n-1] = l.level
		}
	}
	return bestAt, max(0, best-lambda*bits), bits
}

// The dead zone: λ as a multiple of the trellis's, for luma and for chroma, and the fraction of a step from which on a level is
// rounded up. `go run ./bench encoding` measures them.
const deadZoneY, deadZoneUV, deadZoneRounding = 2.5, 1.6, 0.55

// deadZone sets each level by itself: 0 where its estimated bits cost more than its error.
func deadZone(c *[16]float32, levels *[16]int16, first int, steps [2]int32, lambda float32) (used int) {
	inverse := 1 / float32(steps[1])
	p := lambda * inverse * inverse
	// Where v² = λ·(coarseBits + coarseBitsPerStep·v).
	least := max(deadZoneRounding, (coarseBitsPerStep*p+float32(math.Sqrt(float64(p*(coarseBitsPerStep*coarseBitsPerStep*p+4*coarseBits)))))/2)
	*levels = [16]int16{}
	used = first
	// Magnitudes are compared as integers, which are in the same order.
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
			levels[n] = -min(int16(1-deadZoneRounding-v), maxLevel)
		} else {
			levels[n] = min(int16(1-deadZoneRounding+v), maxLevel)
		}
		used = max(used, n+1)
	}
	return used
}

// cheaperPath extends two paths by a level, without its error, and returns the cheaper one and which it was.
func cheaperPath(a, b *path, two bool, here *[3][costedLevels]float32, level int, lambda float32) (c path, of uint8) {
	at := min(level, costedLevels-1)
	bits := here[a.last][at]
	c = path{a.cost + lambda*bits, a.bits + bits, uint8(min(level, 2))}
	if two {
		bits := here[b.last][at]
		if cost := b.cost + lambda*bits; cost < c.cost {
			c.cost, c.bits, of = cost, b.bits+bits, 1
		}
	}
	if level >= costedLevels {
		bits := beyondBits(min(level, maxLevel), 5) - beyondBits(costedLevels-1, 5)
		c.cost += lambda * bits
		c.bits += bits
	}
	return c, of
}
