package vp8

// coefficients are a macroblock's levels in zigzag order: sixteen luma blocks, four of U, four of V, and Y2.
type coefficients struct {
	levels     [25][16]int16
	endOfBlock [25]uint8 // how many levels up to the last that isn't 0, counted from the beginning of the block

	skipY, skipUV bool // all levels are 0
}

// empty reports that all levels are 0.
func (c *coefficients) empty() bool { return c.skipY && c.skipUV }

const y2Block = 24

// set notes a block's end, for itself and for the contexts of its neighbours.
func (c *coefficients) set(block, used, first int, up, left *uint8) {
	c.endOfBlock[block] = uint8(used)
	*up = some(uint8(used), first)
	*left = *up
	if *up == 0 {
		return
	}
	if block < 16 || block == y2Block {
		c.skipY = false
	} else {
		c.skipUV = false
	}
}

// zigzag is the raster place of each coefficient (RFC 6386, section 13).
var zigzag = [16]uint8{0, 1, 4, 8, 5, 2, 3, 6, 9, 12, 13, 10, 7, 11, 14, 15}

// inColumns is the place of each coefficient in a block that is kept column by column.
var inColumns = func() (at [16]uint8) {
	for n, v := range zigzag {
		at[n] = v&3<<2 | v>>2
	}
	return at
}()

// fromColumns is the inverse of inColumns.
var fromColumns = func() (n [16]uint8) {
	for i, at := range inColumns {
		n[at] = uint8(i)
	}
	return n
}()

// band is the coefficient band of a place (RFC 6386, section 13.3).
var band = [17]uint8{0, 1, 2, 3, 6, 4, 5, 6, 6, 6, 6, 6, 6, 6, 6, 7, 0}

// beyond are the DCT extra-bits categories: the least level of each, and the probabilities of its extra bits (RFC 6386,
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

// maxLevel is the largest level that can be written.
const maxLevel = 67 + 1<<11 - 1

func groupOf(v int) int {
	g := 0
	for g < 5 && v >= beyond[g+1].least {
		g++
	}
	return g
}

// A token is one bit of the token tree (RFC 6386, section 13.2): twice the place of its probability, plus the bit. Places
// beyond the frame's probabilities stand for fixed ones.
type token uint16

const (
	branches   = 11
	unchanging = blockTypes * bands * 3 * branches
)

// tokens are a frame's bits in file order.
type tokens []token

func (t *tokens) put(at int, set bool) {
	bit := token(at << 1)
	if set {
		bit |= 1
	}
	*t = append(*t, bit)
}

// block adds one block's levels from a place on. context is how many of the blocks above and on the left have any.
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
		if v != 0 { // after a 0 there is no end-of-block branch
			t.put(at, n < used)
		}
	}
}

// level adds a level, whose probabilities are at a place.
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

// large adds the magnitude of a level above 1.
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
	for i, prob := range of {
		t.put(unchanging+int(prob), rest>>(len(of)-1-i)&1 != 0)
	}
}

// of has the tokens be those of all macroblocks.
func (t *tokens) of(blocks []macroblock, levels []coefficients, across int) tokens {
	if *t = (*t)[:0]; cap(*t) == 0 {
		*t = make(tokens, 0, 128*len(blocks))
	}
	each(blocks, levels, across, t.block)
	return *t
}

// bits is how many bits they take by the probabilities of the first place.
func (t tokens) bits(q *[branches]uint8) (sum float32) {
	for _, v := range t {
		prob := uint8(v>>1 - unchanging)
		if v>>1 < branches {
			prob = q[v>>1]
		}
		sum += bitCost(v&1 != 0, prob)
	}
	return sum
}

// probs are the probabilities with which the tokens take the fewest bits, counting the bits that update them.
func (t tokens) probs() coeffProbs {
	var count [unchanging + 256][2]uint32
	for _, v := range t {
		count[v>>1][v&1]++
	}
	c, at := defaultCoeffProbs, 0
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
					says := coeffUpdateProbs[k][b][x][i]
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

// write writes them with these probabilities.
func (t tokens) write(w *boolWriter, c *coeffProbs) {
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
		whole := blocks[i].yMode == bPred
		if c.empty() {
			means, meansUp := left[8], up[8]
			left, *up = [9]uint8{}, [9]uint8{}
			if whole { // has no Y2, so that the context stays that of its neighbours
				left[8], up[8] = means, meansUp
			}
			continue
		}
		kind, first := typeYWithDC, 0
		if !whole {
			visit(c.levels[y2Block][:], typeY2, 0, int(c.endOfBlock[y2Block]), int(up[8]+left[8]))
			up[8] = some(c.endOfBlock[y2Block], 0)
			left[8] = up[8]
			kind, first = typeYAfterY2, 1
		}
		for b := range 16 {
			x, y := b&3, b>>2
			visit(c.levels[b][:], kind, first, int(c.endOfBlock[b]), int(up[x]+left[y]))
			up[x] = some(c.endOfBlock[b], first)
			left[y] = up[x]
		}
		for b := 16; b < 24; b++ {
			x, y := 4+(b-16)>>2*2+b&1, 4+(b-16)>>2*2+b>>1&1
			visit(c.levels[b][:], typeChroma, 0, int(c.endOfBlock[b]), int(up[x]+left[y]))
			up[x] = some(c.endOfBlock[b], 0)
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
