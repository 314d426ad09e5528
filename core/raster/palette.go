package raster

import "slices"

// An Indexed is a picture whose pixels name colours of a palette.
type Indexed struct {
	W, H    int
	Pix     []uint8    // W×H places in Palette, row by row
	Palette [][4]uint8 // straight; at most 256
}

// Pixels gives the picture as straight RGBA.
func (m *Indexed) Pixels() *RGBA {
	p := PooledRGBA(m.W, m.H)
	for y := range m.H {
		row := p.Row(y)
		for x, i := range m.Pix[y*m.W:][:m.W] {
			copy(row[4*x:4*x+4], m.Palette[i][:])
		}
	}
	p.FindOpaque()
	return p
}

// cell is one colour of a histogram, in 6 bits a channel, with what fell into it.
type cell struct {
	sum   [4]float64
	count float64
}

func (c *cell) mean() [4]float64 {
	return [4]float64{c.sum[0] / c.count, c.sum[1] / c.count, c.sum[2] / c.count, c.sum[3] / c.count}
}

// Colours weigh as the eye does: green before red before blue, and coverage before all.
var channelWeight = [4]float64{0.6, 1, 0.4, 1.2}

// Reduce finds at most n colours (2–256) for a straight picture and says which one each pixel becomes. Boxes around
// the picture's colours are cut where their variance is largest (Wan, Wong and Prusinkiewicz 1988), then moved to
// the means of what is nearest to them (Lloyd 1982); dithering spreads each pixel's error over its neighbours that
// are still to come (Floyd and Steinberg 1976), by three quarters, so that plain areas stay plain.
func Reduce(p *RGBA, n int, dither bool) *Indexed {
	cells := histogram(p)
	m := &Indexed{W: p.W, H: p.H, Pix: make([]uint8, p.W*p.H), Palette: choose(cells, n)}
	near := newNearest(m.Palette, dither)
	if !dither {
		for y := range p.H {
			row := p.Row(y)
			for x := range p.W {
				m.Pix[y*p.W+x] = near.find(int(row[4*x]), int(row[4*x+1]), int(row[4*x+2]), int(row[4*x+3]))
			}
		}
		return m
	}
	here, below := make([][3]int32, p.W+2), make([][3]int32, p.W+2)
	for y := range p.H {
		row := p.Row(y)
		clear(below)
		for i := range p.W {
			x, step := i, 1 // every other row backwards, so that no direction shows
			if y&1 == 1 {
				x, step = p.W-1-i, -1
			}
			q := row[4*x : 4*x+4 : 4*x+4]
			if q[3] == 0 {
				m.Pix[y*p.W+x] = near.find(0, 0, 0, 0)
				continue
			}
			var want [3]int32
			for c := range want {
				want[c] = min(255, max(0, int32(q[c])+(here[x+1][c]+8)>>4))
			}
			k := near.find(int(want[0]), int(want[1]), int(want[2]), int(q[3]))
			m.Pix[y*p.W+x] = k
			for c := range want {
				e := (want[c] - int32(m.Palette[k][c])) * 3 / 4
				here[x+1+step][c] += 7 * e
				below[x+1-step][c] += 3 * e
				below[x+1][c] += 5 * e
				below[x+1+step][c] += e
			}
		}
		here, below = below, here
	}
	return m
}

func histogram(p *RGBA) []cell {
	index := map[uint32]int{}
	var cells []cell
	last, at := uint32(1)<<31, 0
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			q := [4]uint8(row[i : i+4])
			if q[3] == 0 {
				q = [4]uint8{}
			}
			if k := uint32(q[0]>>2)<<18 | uint32(q[1]>>2)<<12 | uint32(q[2]>>2)<<6 | uint32(q[3]>>2); k != last {
				var known bool
				if at, known = index[k]; !known {
					at = len(cells)
					cells = append(cells, cell{})
					index[k] = at
				}
				last = k
			}
			c := &cells[at]
			for j, v := range q {
				c.sum[j] += float64(v)
			}
			c.count++
		}
	}
	return cells
}

// group is a box of colours on the way to becoming one.
type group struct {
	cells []cell
	worth float64 // what cutting it would gain
	axis  int
}

func newGroup(cells []cell) group {
	g := group{cells: cells}
	var sum, square [4]float64
	var count float64
	for i := range cells {
		m := cells[i].mean()
		for c, v := range m {
			sum[c] += v * cells[i].count
			square[c] += v * v * cells[i].count
		}
		count += cells[i].count
	}
	for c := range sum {
		v := (square[c] - sum[c]*sum[c]/count) * channelWeight[c]
		if v > g.worth {
			g.worth, g.axis = v, c
		}
	}
	if len(cells) < 2 {
		g.worth = 0
	}
	return g
}

// cut parts a group at the mean of its widest channel.
func (g group) cut() (a, b group) {
	var sum, count float64
	for i := range g.cells {
		sum += g.cells[i].sum[g.axis]
		count += g.cells[i].count
	}
	middle := sum / count
	type ranked struct { // of two equal ones the earlier comes first
		mean float64
		at   int
	}
	order := make([]ranked, len(g.cells))
	for i := range g.cells {
		order[i] = ranked{g.cells[i].sum[g.axis] / g.cells[i].count, i}
	}
	slices.SortFunc(order, func(a, b ranked) int {
		switch {
		case a.mean < b.mean:
			return -1
		case a.mean > b.mean:
			return 1
		}
		return a.at - b.at
	})
	before := slices.Clone(g.cells)
	for i, o := range order {
		g.cells[i] = before[o.at]
	}
	at := 1
	for at < len(g.cells)-1 && g.cells[at].sum[g.axis]/g.cells[at].count <= middle {
		at++
	}
	return newGroup(g.cells[:at]), newGroup(g.cells[at:])
}

func choose(cells []cell, n int) [][4]uint8 {
	groups := []group{newGroup(cells)}
	for len(groups) < n {
		best := 0
		for i := range groups {
			if groups[i].worth > groups[best].worth {
				best = i
			}
		}
		if groups[best].worth <= 0 {
			break
		}
		a, b := groups[best].cut()
		groups[best] = a
		groups = append(groups, b)
	}
	centres := make([][4]float64, len(groups))
	for i, g := range groups {
		centres[i] = meanOf(g.cells)
	}
	k := 0 // cells that follow each other are mostly of one group
	for range 3 {
		sums := make([]cell, len(centres))
		for i := range cells {
			m := cells[i].mean()
			k = closest(centres, m, k)
			for c := range m {
				sums[k].sum[c] += cells[i].sum[c]
			}
			sums[k].count += cells[i].count
		}
		for k := range sums {
			if sums[k].count > 0 {
				centres[k] = sums[k].mean()
			}
		}
	}
	var out [][4]uint8
	for _, c := range centres {
		q := [4]uint8{uint8(c[0] + 0.5), uint8(c[1] + 0.5), uint8(c[2] + 0.5), uint8(c[3] + 0.5)}
		if q[3] == 0 {
			q = [4]uint8{}
		}
		if !slices.Contains(out, q) {
			out = append(out, q)
		}
	}
	return out
}

func meanOf(cells []cell) [4]float64 {
	var all cell
	for i := range cells {
		for c := range all.sum {
			all.sum[c] += cells[i].sum[c]
		}
		all.count += cells[i].count
	}
	return all.mean()
}

// closest is the first of the centres that are nearest to v. It is the sooner found the nearer the guessed one is: others
// are let go as soon as a part of the distance is larger.
func closest(centres [][4]float64, v [4]float64, guess int) int {
	part := func(c *[4]float64, j int) float64 {
		e := v[j] - c[j]
		return e * e * channelWeight[j]
	}
	c := &centres[guess]
	best, at := part(c, 0)+part(c, 1)+part(c, 2)+part(c, 3), guess
	for i := range centres {
		c := &centres[i]
		d := part(c, 0)
		if d > best {
			continue
		}
		if d += part(c, 1); d > best {
			continue
		}
		d += part(c, 2)
		if d += part(c, 3); d < best || d == best && i < at {
			best, at = d, i
		}
	}
	return at
}

// nearest finds palette colours, and remembers what it found: by 6 bits a channel where errors are spread anyway.
type nearest struct {
	centres [][4]float64
	known   map[uint32]uint8
	drop    int // bits of each channel that don't matter
	last    int
}

func newNearest(palette [][4]uint8, coarse bool) *nearest {
	n := &nearest{known: map[uint32]uint8{}}
	if coarse {
		n.drop = 2
	}
	for _, q := range palette {
		n.centres = append(n.centres, [4]float64{float64(q[0]), float64(q[1]), float64(q[2]), float64(q[3])})
	}
	return n
}

func (n *nearest) find(r, g, b, a int) uint8 {
	k := uint32(r>>n.drop)<<24 | uint32(g>>n.drop)<<16 | uint32(b>>n.drop)<<8 | uint32(a>>n.drop)
	if i, ok := n.known[k]; ok {
		return i
	}
	n.last = closest(n.centres, [4]float64{float64(r), float64(g), float64(b), float64(a)}, n.last)
	n.known[k] = uint8(n.last)
	return uint8(n.last)
}
