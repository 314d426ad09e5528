package vp8

// coefficients are a macroblock's levels, in zigzag order: sixteen blocks of luma, four each of blue and red
// difference, and the block of luma's means.
type coefficients struct {
	level [25][16]int16
	used  [25]uint8 // how many levels to the last that isn't 0; counted from the beginning of the block
	empty bool
}

const meansAt = 24

// set notes how many levels a block has, for itself and for its neighbours' context.
func (c *coefficients) set(block, used, first int, up, left *uint8) {
	c.used[block] = uint8(used)
	*up = some(uint8(used), first)
	*left = *up
	c.empty = c.empty && *up == 0
}

// zigzag is where the coefficients lie in a block (RFC 6386, section 13).
var zigzag = [16]uint8{0, 1, 4, 8, 5, 2, 3, 6, 9, 12, 13, 10, 7, 11, 14, 15}

// band is a place's.
var band = [17]uint8{0, 1, 2, 3, 6, 4, 5, 6, 6, 6, 6, 6, 6, 6, 6, 7, 0}

// beyond are the chances of the bits of what a level has beyond the least of its group, from five on (RFC 6386,
// section 13.2).
var beyond = [6]struct {
	least int
	bits  []uint8
}{
	{5, []uint8{159}},
	{7, []uint8{165, 145}},
	{11, []uint8{173, 148, 140}},
	{19, []uint8{176, 155, 140, 135}},
	{35, []uint8{180, 157, 141, 134, 130}},
	{67, []uint8{254, 254, 243, 230, 196, 177, 153, 140, 133, 130, 129}},
}

// maxLevel is the largest that can be written.
const maxLevel = 67 + 1<<11 - 1

func groupOf(v int) int {
	g := 0
	for g < 5 && v >= beyond[g+1].least {
		g++
	}
	return g
}

// tokens writes one block's levels from a place on; context is how many of the blocks above and to the left have any.
func tokens(w *boolWriter, levels []int16, first, used int, context int, p *[bands][3][11]uint8) {
	n := first
	q := &p[band[n]][context]
	if n >= used {
		w.put(false, q[0])
		return
	}
	w.put(true, q[0])
	for n < used {
		v := int(levels[n])
		n++
		if v == 0 {
			w.put(false, q[1])
			q = &p[band[n]][0]
			continue
		}
		w.put(true, q[1])
		negative := v < 0
		if negative {
			v = -v
		}
		next := 2
		if v == 1 {
			w.put(false, q[2])
			next = 1
		} else {
			w.put(true, q[2])
			if v <= 4 {
				w.put(false, q[3])
				if v == 2 {
					w.put(false, q[4])
				} else {
					w.put(true, q[4])
					w.put(v == 4, q[5])
				}
			} else {
				w.put(true, q[3])
				g := groupOf(v)
				if g < 2 {
					w.put(false, q[6])
					w.put(g == 1, q[7])
				} else {
					w.put(true, q[6])
					w.put(g >= 4, q[8])
					w.put(g&1 != 0, q[9+(g-2)>>1])
				}
				rest := v - beyond[g].least
				for i, chance := range beyond[g].bits {
					w.put(rest>>(len(beyond[g].bits)-1-i)&1 != 0, chance)
				}
			}
		}
		w.put(negative, 128)
		if n == 16 {
			return
		}
		q = &p[band[n]][next]
		w.put(n < used, q[0])
	}
}

// A tally counts the branches that are taken.
type tally [kinds][bands][3][11][2]uint32

func (t *tally) block(levels []int16, kind, first, used, context int) {
	n := first
	q := &t[kind][band[n]][context]
	if n >= used {
		q[0][0]++
		return
	}
	q[0][1]++
	for n < used {
		v := int(levels[n])
		n++
		if v == 0 {
			q[1][0]++
			q = &t[kind][band[n]][0]
			continue
		}
		q[1][1]++
		if v < 0 {
			v = -v
		}
		next := 2
		if v == 1 {
			q[2][0]++
			next = 1
		} else {
			q[2][1]++
			if v <= 4 {
				q[3][0]++
				if v == 2 {
					q[4][0]++
				} else {
					q[4][1]++
					q[5][v&1^1]++
				}
			} else {
				q[3][1]++
				if g := groupOf(v); g < 2 {
					q[6][0]++
					q[7][g]++
				} else {
					q[6][1]++
					q[8][g>>2]++
					q[9+(g-2)>>1][g&1]++
				}
			}
		}
		if n == 16 {
			return
		}
		q = &t[kind][band[n]][next]
		more := 0
		if n < used {
			more = 1
		}
		q[0][more]++
	}
}

// chances are those with which the tally takes the fewest bits, those included that say so.
func (t *tally) chances() chances {
	c := usual
	for k := range t {
		for b := range t[k] {
			for x := range t[k][b] {
				for i, n := range t[k][b][x] {
					total := n[0] + n[1]
					if total == 0 {
						continue
					}
					old, says := c[k][b][x][i], changed[k][b][x][i]
					p := uint8(min(255, max(1, (n[0]*256+total/2)/total)))
					zeros, ones := float32(n[0]), float32(n[1])
					before := zeros*cost[old] + ones*cost[256-int(old)] + bitCost(false, says)
					after := zeros*cost[p] + ones*cost[256-int(p)] + bitCost(true, says) + 8
					if after < before {
						c[k][b][x][i] = p
					}
				}
			}
		}
	}
	return c
}

// each visits every block of coefficients in the order of the file (RFC 6386, section 13.3), with its context.
func each(blocks []macroblock, levels []coefficients, across int, visit func(levels []int16, kind, first, used, context int)) {
	above := make([][9]uint8, across)
	var left [9]uint8
	for i := range blocks {
		if i%across == 0 {
			left = [9]uint8{}
		}
		up, c := &above[i%across], &levels[i]
		whole := blocks[i].mode == bySmall
		if c.empty {
			means, meansUp := left[8], up[8]
			left, *up = [9]uint8{}, [9]uint8{}
			if whole { // has no means, so that those of its neighbours stay
				left[8], up[8] = means, meansUp
			}
			continue
		}
		kind, first := kindWhole, 0
		if !whole {
			visit(c.level[meansAt][:], kindMeans, 0, int(c.used[meansAt]), int(up[8]+left[8]))
			up[8] = some(c.used[meansAt], 0)
			left[8] = up[8]
			kind, first = kindAfterMeans, 1
		}
		for b := range 16 {
			x, y := b&3, b>>2
			visit(c.level[b][:], kind, first, int(c.used[b]), int(up[x]+left[y]))
			up[x] = some(c.used[b], first)
			left[y] = up[x]
		}
		for b := 16; b < 24; b++ {
			x, y := 4+(b-16)>>2*2+b&1, 4+(b-16)>>2*2+b>>1&1
			visit(c.level[b][:], kindColour, 0, int(c.used[b]), int(up[x]+left[y]))
			up[x] = some(c.used[b], 0)
			left[y] = up[x]
		}
	}
}

func some(used uint8, first int) uint8 {
	if int(used) > first {
		return 1
	}
	return 0
}

func writeTokens(w *boolWriter, blocks []macroblock, levels []coefficients, across int, p *chances) {
	each(blocks, levels, across, func(levels []int16, kind, first, used, context int) {
		tokens(w, levels, first, used, context, &p[kind])
	})
}
