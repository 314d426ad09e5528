// Package vp8 writes the key frames of lossy WebP: how each block is predicted and what is kept of each coefficient
// is weighed against the bits it takes, as far as the eye sees it. Bits are dearer where much goes on, which hides what is
// dropped, and in colour. (Choosing by error and bits: G. Sullivan, T. Wiegand, *Rate-distortion optimization for video
// compression*, IEEE Signal Processing Magazine 15, 1998; of levels: K. Ramchandran, M. Vetterli, *Rate-distortion
// optimal fast thresholding with complete JPEG/MPEG decoder compatibility*, IEEE Transactions on Image Processing 3, 1994.
// What hides: S. Daly, *The visible differences predictor*, Digital Images and Human Vision, 1993.) The format is RFC 6386's.
package vp8

import (
	"math"
	"slices"
	"sync"

	"echolane/core/raster"
)

// A Plan is a picture and how it is predicted, of which frames are written that differ in their quantizers. It isn't
// safe for concurrent use.
type Plan struct {
	w, h       int
	across     int // macroblocks
	blocks     []macroblock
	source     [3]plane
	coarser    [segments]float64 // by how many indexes a segment's steps are
	dear       []float32         // how dear bits are in each small block of luma
	dearColour []float32         // and of colour
	dearMeans  []float32         // and in each macroblock's means
	made       [3]made
	levels     []coefficients
	weigher    weigher // of luma's levels
	tints      weigher // and of colour's
	last       *header // of what was made last
	smoothed   [3][]uint8
}

// A plane is filled up to whole macroblocks.
type plane struct {
	pix    []uint8
	stride int
}

// What is kept was chosen on the corpus, for the fewest bytes at equal SSIM of luma with colour about as near as
// libjpeg-turbo has it, and so that searches by our own measure end near what SSIM says. Dearer colour saves as much again by
// SSIM, which doesn't see it, and shows: thin coloured lines turn grey, colour runs over edges and lies on greys in patches.
const (
	// The prices of a bit in squared steps.
	lumaPrice, meansPrice, colourPrice = 0.035, 0.03, 0.06

	// How many indexes coarser colour's steps are: of its means, which show where all else is plain and so don't go beyond
	// an index by themselves, and the others.
	colourDC, colourAC = -2, 2
	coarsestDC         = 45

	// Bits are as much dearer as a power of the variance, over what is usual, of what is around them: of luma, and of
	// that power for the means of macroblocks; and of colour, up to a most.
	power, leastVariance, usualVariance   = 0.42, 3, 220
	meansPower                            = 0.6
	colourPower, leastColour, usualColour = 0.6, 1.5, 40
	mostColour                            = 1.5

	// How many indexes coarser steps are where bits are e times as dear, but below an index less and less, down to nothing at
	// the finest; and the level of the loop filter for a step.
	busier, evenBelow = 4, 15
	smoother          = 0.38
)

// nothing is how dear a squared step is where nobody asks.
var nothing [16]float32

// New takes a 4:2:0 picture in Limited range.
func New(from *raster.YCbCr) *Plan {
	across, down := (from.W+15)/16, (from.H+15)/16
	p := &Plan{w: from.W, h: from.H, across: across, blocks: make([]macroblock, across*down), levels: make([]coefficients, across*down)}
	for i, s := range []*raster.Plane{&from.Y, &from.Cb, &from.Cr} {
		side := 8
		if i == 0 {
			side = 16
		}
		p.source[i] = filled(s, side*across, side*down)
		p.made[i] = newMade(side*across, side*down)
	}
	p.segment(p.weighPlaces())
	return p
}

// filled is a plane with its last column and row repeated.
func filled(from *raster.Plane, w, h int) plane {
	p := plane{make([]uint8, w*h), w}
	for y := range h {
		row, to := from.Row(min(y, from.H-1))[:from.W], p.pix[y*w:y*w+w]
		for x := copy(to, row); x < w; x++ {
			to[x] = row[len(row)-1]
		}
	}
	return p
}

// weighPlaces sets how dear bits are: the more, the more goes on around a block. It gives the logarithms for luma.
func (p *Plan) weighPlaces() (logs []float32) {
	var luma, blue, red []float32
	var colour sync.WaitGroup
	colour.Go(func() { blue, red = p.source[1].variances(), p.source[2].variances() })
	luma = p.source[0].variances()
	colour.Wait()
	p.dear, logs = make([]float32, len(luma)), luma
	for i, v := range luma {
		d := &dears[dearFor(v)]
		p.dear[i], logs[i] = d.dear, d.log
	}
	p.dearColour = make([]float32, len(blue))
	for i := range blue { // only colour hides what colour loses
		p.dearColour[i] = float32(min(mostColour, math.Pow(float64((blue[i]+red[i]+leastColour)/usualColour), colourPower)))
	}
	w := p.source[0].stride / 4
	p.dearMeans = means(p.dear, w, 4)
	for i, v := range p.dearMeans {
		p.dearMeans[i] = float32(math.Pow(float64(v), meansPower))
	}
	return logs
}

// variances are those of the 8×8 samples around each small block.
func (p *plane) variances() []float32 {
	w, h := p.stride/4, len(p.pix)/p.stride/4
	// Sums and sums of squares of 2×2 samples, with nothing around the picture; then of 8×2.
	type sums struct{ n, v, squares int32 }
	rows := make([][]sums, 2*h+2)
	at := make([]sums, 2*w+2)
	all := make([]sums, len(rows)*w)
	for y := range rows {
		clear(at)
		if y > 0 && y <= 2*h {
			above, below := p.pix[(2*y-2)*p.stride:][:p.stride], p.pix[(2*y-1)*p.stride:][:p.stride]
			for x := range 2 * w {
				a, b, c, d := int32(above[2*x]), int32(above[2*x+1]), int32(below[2*x]), int32(below[2*x+1])
				at[x+1] = sums{4, a + b + c + d, a*a + b*b + c*c + d*d}
			}
		}
		rows[y] = all[y*w : (y+1)*w]
		for x := range w {
			a, b, c, d := &at[2*x], &at[2*x+1], &at[2*x+2], &at[2*x+3]
			rows[y][x] = sums{a.n + b.n + c.n + d.n, a.v + b.v + c.v + d.v, a.squares + b.squares + c.squares + d.squares}
		}
	}
	out := make([]float32, w*h)
	for i := range out {
		x, y := i%w, i/w*2
		a, b, c, d := &rows[y][x], &rows[y+1][x], &rows[y+2][x], &rows[y+3][x]
		n := float32(a.n + b.n + c.n + d.n)
		mean := float32(a.v+b.v+c.v+d.v) / n
		out[i] = max(0, float32(a.squares+b.squares+c.squares+d.squares)/n-mean*mean)
	}
	return out
}

// dearFor is where it lies how dear bits are at a variance of luma, to a half of a hundredth.
func dearFor(variance float32) int {
	return min(len(dears)-1, max(0, int(math.Float32bits(variance+leastVariance)>>dearShift)-dearFrom))
}

// dears are by the leading bits of variances, of which there are eight behind the exponent.
const dearShift = 23 - 8

var (
	dearFrom = int(math.Float32bits(float32(leastVariance)) >> dearShift)
	dears    = func() []struct{ dear, log float32 } {
		out := make([]struct{ dear, log float32 }, int(math.Float32bits(1<<14)>>dearShift)-dearFrom+1)
		for i := range out {
			v := math.Float32frombits(uint32(i+dearFrom)<<dearShift | 1<<(dearShift-1))
			log := power * math.Log(float64(v)/usualVariance)
			out[i].dear, out[i].log = float32(math.Exp(log)), float32(log)
		}
		return out
	}()
)

// means are those of n×n values.
func means(v []float32, w, n int) []float32 {
	out := make([]float32, len(v)/(n*n))
	for i := range v {
		out[i/w/n*(w/n)+i%w/n] += v[i] / float32(n*n)
	}
	return out
}

// segment groups the macroblocks by how much goes on there, whose steps are the coarser the more that is.
func (p *Plan) segment(logs []float32) {
	busy := make([]float64, len(p.blocks))
	mean := 0.0
	w := p.source[0].stride / 4
	for i, v := range logs {
		busy[i/w/4*p.across+i%w/4] += float64(v) / 16
	}
	for _, v := range busy {
		mean += v / float64(len(busy))
	}
	// The middles of four groups (S. Lloyd, *Least squares quantization in PCM*, IEEE Transactions on Information Theory 28, 1982).
	sorted := slices.Sorted(slices.Values(busy))
	var middle [segments]float64
	for i := range middle {
		middle[i] = sorted[(2*i+1)*len(sorted)/(2*segments)]
	}
	const rounds = 10
	for range rounds {
		var sum, n [segments]float64
		for i, v := range busy {
			near := 0
			for k, m := range middle {
				if math.Abs(v-m) < math.Abs(v-middle[near]) {
					near = k
				}
			}
			p.blocks[i].segment = uint8(near)
			sum[near] += v
			n[near]++
		}
		for k := range middle {
			if n[k] > 0 {
				middle[k] = sum[k] / n[k]
			}
		}
	}
	for k, m := range middle {
		p.coarser[k] = math.Round(busier * (m - mean))
	}
}

// headerAt is a frame's around an index. Of a part of an index as many segments take the next.
func (p *Plan) headerAt(index float64) *header {
	h := &header{w: p.w, h: p.h, colourDC: max(-15, min(colourDC, coarsestDC-int(index))), colourAC: colourAC}
	part := math.Min(1, math.Max(0, index)/evenBelow)
	for i := range h.index {
		h.index[i] = min(127, max(0, int(math.Floor(index+part*p.coarser[i]+(float64(i)+0.5)/segments))))
		h.level[i] = min(63, int(smoother*float64(stepAC[h.index[i]])))
	}
	return h
}

// Choose chooses all modes and levels anew, for a frame at an index, 0 (finest) to 127. thrift, 0–1, is how much of what
// costs more than it shows is dropped. quick takes each mode and level by itself, in half the time for a fiftieth more
// bytes.
func (p *Plan) Choose(index, thrift float64, quick bool) {
	r := p.run(index, thrift)
	r.quick = quick
	r.choose()
}

// Again makes the frame of another index from the modes that were chosen, quickly: for a twentieth more bytes, even where it is near.
func (p *Plan) Again(index, thrift float64) {
	r := p.run(index, thrift)
	r.quick = true
	r.all()
}

// Frame writes what was made last.
func (p *Plan) Frame() ([]byte, error) {
	frame, c, err := p.last.write(p.blocks, p.levels)
	if err != nil {
		return nil, err
	}
	p.pricedBy(c)
	return frame, nil
}

// pricedBy takes the prices of bits from chances.
func (p *Plan) pricedBy(c *chances) {
	p.weigher.prices = pricesOf(c)
	p.tints.prices = p.weigher.prices
}

// A run makes one frame's levels.
type run struct {
	*Plan
	header *header
	thrift float32
	quick  bool // each mode and level is taken by itself
	quants [segments]quantizer
}

func (p *Plan) run(index, thrift float64) *run {
	r := &run{Plan: p, header: p.headerAt(index), thrift: float32(thrift)}
	p.last = r.header
	for i := range r.quants {
		r.quants[i] = quantizerOf(r.header, i)
	}
	return r
}

// contexts say which of the blocks above and on the left have coefficients: four of luma, two of each colour, and that of
// means.
type contexts struct {
	up   [][9]uint8
	left [9]uint8
}

// at are the contexts of a macroblock, which come row by row.
func (c *contexts) at(x int) (up, left *[9]uint8) {
	if x == 0 {
		c.left = [9]uint8{}
	}
	return &c.up[x], &c.left
}

func (r *run) contexts() *contexts { return &contexts{up: make([][9]uint8, r.across)} }

// all chooses all levels and makes the samples, from which others are predicted.
func (r *run) all() {
	luma, colour := r.contexts(), r.contexts()
	r.sideBySide(0, len(r.blocks), func(x, y int) {
		up, left := luma.at(x)
		i := y*r.across + x
		if r.levels[i].noLuma = true; r.blocks[i].mode == bySmall {
			r.small(x, y, up, left)
		} else {
			r.whole(x, y, up, left)
		}
	}, func(x, y int) {
		up, left := colour.at(x)
		r.colour(x, y, up, left)
	})
}

// sideBySide visits the macroblocks from one on up to another. Luma and colour know nothing of each other.
func (r *run) sideBySide(from, to int, luma, colour func(x, y int)) {
	var beside sync.WaitGroup
	beside.Go(func() {
		for i := from; i < to; i++ {
			colour(i%r.across, i/r.across)
		}
	})
	for i := from; i < to; i++ {
		luma(i%r.across, i/r.across)
	}
	beside.Wait()
}

func (r *run) small(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	m, c, luma := &r.blocks[i], &r.levels[i], &r.made[0]
	q := &r.quants[m.segment]
	var edge edge
	var all [16 * smallModes]uint8
	var values [2][16]float32
	var costs [2]float32
	for b := range 16 {
		x, y := 16*mx+b&3*4, 16*my+b>>2*4
		luma.edge(x, y, mx == r.across-1, &edge)
		edge.small(&all)
		predicted := all[16*int(m.small[b]):][:16]
		t := r.source[0].tries(x, y, predicted, 4, 0)
		t.values, t.costs, t.dear, t.pairs = values[:], costs[:], nothing[:], 1
		t.all()
		used := r.chosen(&r.weigher, &values[0], &c.level[b], kindWhole, 0, int(up[b&3]+left[b>>2]), q.whole, r.price(x, y, q))
		c.set(b, used, 0, &up[b&3], &left[b>>2])
		luma.restore(x, y, &c.level[b], used, q.whole, predicted, 4)
	}
}

// chosen are the levels of a block, and how many there are to the last that isn't 0.
func (r *run) chosen(w *weigher, c *[16]float32, levels *[16]int16, kind, first, context int, steps [2]int32, price float32) int {
	if r.quick {
		dear := float32(quickPrice)
		if kind == kindColour {
			dear = quickColour
		}
		return quickly(c, levels, first, steps, dear*r.thrift*price)
	}
	used, _, _ := w.choose(c, levels, kind, first, context, steps, r.thrift*price)
	return used
}

// price is that of a bit of luma at a place, in squared error of what is transformed.
func (r *run) price(x, y int, q *quantizer) float32 {
	step := float32(q.whole[1])
	return lumaPrice * step * step * r.dear[y/4*(r.source[0].stride/4)+x/4]
}

// meansPrice is that of a bit of a macroblock's means, whose errors are squared over so large an area.
func (r *run) meansPrice(i int, q *quantizer) float32 {
	const area = 4
	step := float32(q.whole[1])
	return area * meansPrice * step * step * r.dearMeans[i]
}

// colourPrice is that of a bit of one of a macroblock's four small blocks of either colour.
func (r *run) colourPrice(mx, my, k int, q *quantizer) float32 {
	step := float32(q.colour[1])
	return colourPrice * step * step * r.dearColour[(2*my+k>>1)*2*r.across+2*mx+k&1]
}

func (r *run) whole(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	m, c := &r.blocks[i], &r.levels[i]
	q := &r.quants[m.segment]
	var predicted [256]uint8
	r.made[0].block(m.mode, 16*mx, 16*my, 16, predicted[:])
	var values [16][16]float32
	means, _ := r.transformed(mx, my, predicted[:], &values, &nothing, q)
	used := r.chosen(&r.weigher, &means, &c.level[meansAt], kindMeans, 0, int(up[8]+left[8]), q.means, r.meansPrice(i, q))
	c.set(meansAt, used, 0, &up[8], &left[8])
	for b := range 16 {
		used := r.chosen(&r.weigher, &values[b], &c.level[b], kindAfterMeans, 1, int(up[b&3]+left[b>>2]), q.whole, r.price(16*mx+b&3*4, 16*my+b>>2*4, q))
		c.set(b, used, 1, &up[b&3], &left[b>>2])
	}
	r.makeWhole(mx, my, predicted[:])
}

// transformed are the coefficients of what a prediction of a macroblock's luma leaves, and those of its means; and what
// the others are guessed to cost in bits, where a squared step of each small block costs dear.
func (r *run) transformed(mx, my int, predicted []uint8, values *[16][16]float32, dear *[16]float32, q *quantizer) (means [16]float32, cost float32) {
	var costs [4]float32
	for y := 0; y < 16; y += 4 {
		t := r.source[0].tries(16*mx, 16*my+y, predicted[16*y:], 16, 4)
		t.sourceNext, t.values, t.costs, t.dear, t.dearNext, t.pairs = 4, values[y:], costs[:], dear[y:], 1, 2
		t.inverse, t.first = 1/float32(q.whole[1]), 0
		t.all()
		cost += costs[0] + costs[1] + costs[2] + costs[3]
	}
	for b := range 16 {
		means[b&3<<2|b>>2] = values[b][0]
	}
	forwardMeans(&means)
	return means, cost
}

// makeWhole makes a macroblock's luma of its levels.
func (r *run) makeWhole(mx, my int, predicted []uint8) {
	i := my*r.across + mx
	c, luma := &r.levels[i], &r.made[0]
	q := &r.quants[r.blocks[i].segment]
	var back, dc [16]int32
	restored(&c.level[meansAt], q.means, 0, int(c.used[meansAt]), &dc)
	inverseMeans(&dc)
	for b := range 16 {
		x, y := b&3*4, b>>2*4
		from, at := predicted[16*y+x:], luma.at(16*mx+x, 16*my+y)
		used := int(c.used[b])
		if used == 1 && dc[b] == 0 {
			copied(from, 16, luma.pix[at:], luma.stride)
			continue
		}
		restored(&c.level[b], q.whole, 1, used, &back)
		back[0] = dc[b]
		inverse(&back, from, 16, luma.pix[at:], luma.stride)
	}
}

func (r *run) colour(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	m, c := &r.blocks[i], &r.levels[i]
	q := &r.quants[m.segment]
	c.noColour = true
	var predicted [64]uint8
	var values [4][16]float32
	var costs [4]float32
	for p := 1; p < 3; p++ {
		made := &r.made[p]
		made.block(m.colour, 8*mx, 8*my, 8, predicted[:])
		for y := 0; y < 8; y += 4 {
			t := r.source[p].tries(8*mx, 8*my+y, predicted[8*y:], 8, 4)
			t.sourceNext, t.values, t.costs, t.dear, t.pairs = 4, values[y/2:], costs[y/2:], nothing[:], 1
			t.all()
		}
		for k := range 4 {
			b, u, l := 12+4*p+k, 2+2*p+k&1, 2+2*p+k>>1
			x, y := k&1*4, k>>1*4
			used := r.chosen(&r.tints, &values[k], &c.level[b], kindColour, 0, int(up[u]+left[l]), q.colour, r.colourPrice(mx, my, k, q))
			c.set(b, used, 0, &up[u], &left[l])
			made.restore(8*mx+x, 8*my+y, &c.level[b], used, q.colour, predicted[8*y+x:], 8)
		}
	}
}

// copied is a small block that is as it was predicted.
func copied(predicted []uint8, step int, out []uint8, stride int) {
	for y := range 4 {
		copy(out[y*stride:y*stride+4], predicted[y*step:y*step+4])
	}
}

// restore makes a small block of its prediction and its levels; rows of predictions are as wide as what is predicted.
func (m *made) restore(x, y int, levels *[16]int16, used int, steps [2]int32, predicted []uint8, step int) {
	at := m.at(x, y)
	if used == 0 {
		copied(predicted, step, m.pix[at:], m.stride)
		return
	}
	var back [16]int32
	restored(levels, steps, 0, used, &back)
	inverse(&back, predicted, step, m.pix[at:], m.stride)
}

// restored are coefficients as decoders have them, in reading order.
func restored(levels *[16]int16, steps [2]int32, first, used int, out *[16]int32) {
	*out = [16]int32{}
	for n := first; n < used; n++ {
		out[zigzag[n]] = int32(levels[n]) * steps[min(n, 1)]
	}
}
