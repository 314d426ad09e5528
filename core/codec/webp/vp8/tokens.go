package vp8

// coefficients are a macroblock's levels, in zigzag order: sixteen blocks of luma, four each of blue and red
// difference, and the block of luma's means.
type coefficients struct {
	level [25][16]int16
	used  [25]uint8 // how many levels to the last that isn't 0; counted from the beginning of the block

	noLuma, noColour bool // has no levels
}

// empty says that a macroblock has no levels at all.
func (c *coefficients) empty() bool { return c.noLuma && c.noColour }

const meansAt = 24

// set notes how many levels a block has, for itself and for its neighbours' context.
func (c *coefficients) set(block, used, first int, up, left *uint8) {
	c.used[block] = uint8(used)
	*up = some(uint8(used), first)
	*left = *up
	if *up == 0 {
		return
	}
	if block < 16 || block == meansAt {
		c.noLuma = false
	} else {
		c.noColour = false
	}
}

// zigzag is where the coefficients lie in a block (RFC 6386, section 13).
var zigzag = [16]uint8{0, 1, 4, 8, 5, 2, 3, 6, 9, 12, 13, 10, 7, 11, 14, 15}

// inColumns is where they lie in a block that is kept column by column.
var inColumns = func() (at [16]uint8) {
	for n, v := range zigzag {
		at[n] = v&3<<2 | v>>2
	}
	return at
}()

// fromColumns is the other way.
var fromColumns = func() (n [16]uint8) {
	for i, at := range inColumns {
		n[at] = uint8(i)
	}
	return n
}()

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

// A token is one bit of the tree of tokens (RFC 6386, section 13.2): twice the place of its chance, and the bit. Beyond
// the chances that the frame gives there are those that never change, at their own number.
type token uint16

const (
	branches   = 11
	unchanging = kinds * bands * 3 * branches
)

// tokens are a frame's, in the order of the file.
type tokens []token

func (t *tokens) put(at int, set bool) {
	bit := token(at << 1)
	if set {
		bit |= 1
	}
	*t = append(*t, bit)
}

// block adds one block's levels from a place on; context is how many of the blocks above and to the left have any.
func (t *tokens) block(levels []int16, kind, first, used, context int) {
	node := func(n, context int) int { return ((kind*bands+int(band[n]))*3 + context) * branches }
	n := first
	at := node(n, context)
	t.put(at, n < used)
	for n < used {
		v := int(levels[n])
		n++
		t.level(at, v)
		if n == 16 {
			return
		}
		at = node(n, min(max(v, -v), 2))
		if v != 0 { // after a 0 there always is more
			t.put(at, n < used)
		}
	}
}

// level adds a level, whose chances are at a place.
func (t *tokens) level(at, v int) {
	if t.put(at+1, v != 0); v == 0 {
		return
	}
	size := max(v, -v)
	if t.put(at+2, size > 1); size > 1 {
		t.large(at, size)
	}
	t.put(unchanging+128, v < 0)
}

// large adds the size of a level above 1.
func (t *tokens) large(at, size int) {
	t.put(at+3, size > 4)
	if size <= 4 {
		if t.put(at+4, size > 2); size > 2 {
			t.put(at+5, size == 4)
		}
		return
	}
	g := groupOf(size)
	if t.put(at+6, g >= 2); g < 2 {
		t.put(at+7, g == 1)
	} else {
		t.put(at+8, g >= 4)
		t.put(at+9+(g-2)>>1, g&1 != 0)
	}
	rest, of := size-beyond[g].least, beyond[g].bits
	for i, chance := range of {
		t.put(unchanging+int(chance), rest>>(len(of)-1-i)&1 != 0)
	}
}

// tokensOf are all macroblocks'.
func tokensOf(blocks []macroblock, levels []coefficients, across int) tokens {
	t := make(tokens, 0, 128*len(blocks))
	each(blocks, levels, across, t.block)
	return t
}

// bits is how many they take by the chances of one place, which is the first.
func (t tokens) bits(q *[branches]uint8) (sum float32) {
	for _, v := range t {
		chance := uint8(v>>1 - unchanging)
		if v>>1 < branches {
			chance = q[v>>1]
		}
		sum += bitCost(v&1 != 0, chance)
	}
	return sum
}

// chances are those with which the tokens take the fewest bits, those included that say so.
func (t tokens) chances() chances {
	var count [unchanging + 256][2]uint32
	for _, v := range t {
		count[v>>1][v&1]++
	}
	c, at := usual, 0
	for k := range c {
		for b := range c[k] {
			for x := range c[k][b] {
				for i, old := range c[k][b][x] {
					n := count[at]
					at++
					total := n[0] + n[1]
					if total == 0 {
						continue
					}
					says := changed[k][b][x][i]
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

// write writes them by these chances.
func (t tokens) write(w *boolWriter, c *chances) {
	var zero [unchanging + 256]uint8
	flat := zero[:0]
	for k := range c {
		for b := range c[k] {
			for x := range c[k][b] {
				flat = append(flat, c[k][b][x][:]...)
			}
		}
	}
	for v := range 256 {
		zero[unchanging+v] = uint8(v)
	}
	for _, v := range t {
		w.put(v&1 != 0, zero[v>>1])
	}
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
		if c.empty() {
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
