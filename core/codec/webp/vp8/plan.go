// Package vp8 writes the key frames of lossy WebP anew, in fewer bytes: the modes that an encoder has chosen stay, and
// what is kept of each coefficient is weighed against the bits it takes, as far as the eye sees it. An encoder rounds
// for the least squared error; here bits are dearer where much goes on, which hides what is dropped, and in colour.
// (Rate-distortion optimal quantisation: K. Ramchandran, M. Vetterli, *Rate-distortion optimal fast thresholding with
// complete JPEG/MPEG decoder compatibility*, IEEE Transactions on Image Processing 3, 1994. What hides: S. Daly, *The
// visible differences predictor*, Digital Images and Human Vision, 1993.) The format is RFC 6386's.
package vp8

import (
	"fmt"
	"math"

	"echolane/core/raster"
)

// A Plan is a picture and how it is predicted, of which frames are written that differ in their quantizers. It isn't
// safe for concurrent use.
type Plan struct {
	header     header
	blocks     []macroblock
	across     int
	source     [3]plane
	dear       []float32 // how dear bits are in each small block of luma
	dearColour []float32 // and of colour
	dearMeans  []float32 // and in each macroblock's means
	made       [3]made
	levels     []coefficients
	weigher    weigher
}

// A plane is filled up to whole macroblocks.
type plane struct {
	pix    []uint8
	stride int
}

// What is kept was chosen on the corpus, for the fewest bytes at equal SSIM of luma with colour as near as libjpeg-turbo
// has it, and so that searches by our own measure end near what SSIM says. Dearer colour saves twice as much by SSIM, which
// doesn't see it, and shows: thin coloured lines turn grey, and colour runs over edges.
const (
	// The prices of a bit in squared steps, and how much coarser colour's steps are, in indexes.
	lumaPrice, meansPrice, colourPrice = 0.04, 0.02, 0.1
	colourCoarser                      = 2

	// Bits are as much dearer as a power of the variance, over what is usual, of what is around them: of luma, and of
	// that power for the means of macroblocks.
	power, leastVariance, usualVariance = 0.45, 3, 220
	meansPower                          = 0.7
)

// Read takes the plan of a key frame that was made of a 4:2:0 picture.
func Read(frame []byte, from *raster.YCbCr) (*Plan, error) {
	h, blocks, err := read(frame)
	if err != nil {
		return nil, err
	}
	if h.w != from.W || h.h != from.H {
		return nil, fmt.Errorf("the VP8 frame is %d×%d, the picture %d×%d", h.w, h.h, from.W, from.H)
	}
	p := &Plan{header: *h, blocks: blocks, across: (h.w + 15) / 16, levels: make([]coefficients, len(blocks))}
	p.weigher.prices = pricesOf(&h.chances)
	p.header.colourDC = min(15, h.colourDC+colourCoarser)
	p.header.colourAC = min(15, h.colourAC+colourCoarser)
	down := (h.h + 15) / 16
	for i, s := range []*raster.Plane{&from.Y, &from.Cb, &from.Cr} {
		side := 8
		if i == 0 {
			side = 16
		}
		p.source[i] = filled(s, side*p.across, side*down)
		p.made[i] = newMade(side*p.across, side*down)
	}
	p.weighPlaces()
	return p, nil
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

// weighPlaces sets how dear bits are: the more, the more goes on in the 8×8 samples around a block.
func (p *Plan) weighPlaces() {
	luma := &p.source[0]
	w, h := luma.stride/4, len(luma.pix)/luma.stride
	p.dear = make([]float32, w*(h/4))
	for i := range p.dear {
		x, y := i%w*4, i/w*4
		sum, squares, n := 0, 0, 0
		for j := max(0, y-2); j < min(h, y+6); j++ {
			row := luma.pix[j*luma.stride+max(0, x-2) : j*luma.stride+min(luma.stride, x+6)]
			for _, v := range row {
				sum += int(v)
				squares += int(v) * int(v)
			}
			n += len(row)
		}
		mean := float64(sum) / float64(n)
		p.dear[i] = float32(math.Pow((float64(squares)/float64(n)-mean*mean+leastVariance)/usualVariance, power))
	}
	p.dearColour = means(p.dear, w, 2)
	for i, v := range p.dearColour { // an edge of luma doesn't hide what colour loses
		p.dearColour[i] = min(1, v)
	}
	p.dearMeans = means(p.dear, w, 4)
	for i, v := range p.dearMeans {
		p.dearMeans[i] = float32(math.Pow(float64(v), meansPower))
	}
}

// means are those of n×n values.
func means(v []float32, w, n int) []float32 {
	out := make([]float32, len(v)/(n*n))
	for i := range v {
		out[i/w/n*(w/n)+i%w/n] += v[i] / float32(n*n)
	}
	return out
}

// Write gives the frame with its quantizers so many indexes coarser than the encoder's (below 0: finer). Of a part of
// an index as many segments take the next. thrift, 0–1, is how much of what costs more than it shows is dropped.
func (p *Plan) Write(coarser, thrift float64) ([]byte, error) {
	h := p.header
	for i := range h.index {
		part := 0.5
		if h.segmented {
			part = (float64(i) + 0.5) / segments
		}
		h.index[i] = min(127, max(0, h.index[i]+int(math.Floor(coarser+part))))
	}
	run := run{Plan: p, thrift: float32(thrift)}
	for i := range run.quants {
		run.quants[i] = quantizerOf(&h, i)
	}
	run.all()
	return h.write(p.blocks, p.levels)
}

// A run makes one frame's levels.
type run struct {
	*Plan
	thrift float32
	quants [segments]quantizer
}

func (r *run) all() {
	above := make([][9]uint8, r.across)
	var left [9]uint8
	for i := range r.blocks {
		if i%r.across == 0 {
			left = [9]uint8{}
		}
		r.macroblock(i%r.across, i/r.across, &above[i%r.across], &left)
	}
}

// macroblock chooses a macroblock's levels and makes its samples, from which others are predicted. up and left say
// which of the blocks above and on the left have coefficients: four of luma, two of each colour, and that of means.
func (r *run) macroblock(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	c := &r.levels[i]
	c.empty = true
	if r.blocks[i].mode == bySmall {
		r.small(mx, my, up, left)
	} else {
		r.whole(mx, my, up, left)
	}
	r.colour(mx, my, up, left)
}

func (r *run) small(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	m, c, luma := &r.blocks[i], &r.levels[i], &r.made[0]
	q := &r.quants[m.segment]
	var edge edge
	var predicted [16]uint8
	var values [16]float32
	var back [16]int32
	for b := range 16 {
		x, y := 16*mx+b&3*4, 16*my+b>>2*4
		luma.edge(x, y, mx == r.across-1, &edge)
		edge.small(m.small[b], &predicted)
		r.source[0].moved(x, y, predicted[:], 4, &values)
		used := r.weigher.choose(&values, &c.level[b], kindWhole, 0, int(up[b&3]+left[b>>2]), q.whole, r.price(x, y, q))
		c.set(b, used, 0, &up[b&3], &left[b>>2])
		at := luma.at(x, y)
		if used == 0 {
			copied(predicted[:], 4, luma.pix[at:], luma.stride)
			continue
		}
		restored(&c.level[b], q.whole, 0, used, &back)
		inverse(&back, predicted[:], 4, luma.pix[at:], luma.stride)
	}
}

// price is that of a bit of luma at a place.
func (r *run) price(x, y int, q *quantizer) float32 {
	step := float32(q.whole[1])
	return lumaPrice * r.thrift * step * step * r.dear[y/4*(r.source[0].stride/4)+x/4]
}

func (r *run) whole(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	m, c, luma := &r.blocks[i], &r.levels[i], &r.made[0]
	q := &r.quants[m.segment]
	var predicted [256]uint8
	luma.block(m.mode, 16*mx, 16*my, 16, predicted[:])
	var values [16][16]float32
	var means, ordered [16]float32
	for b := range 16 {
		x, y := b&3*4, b>>2*4
		r.source[0].moved(16*mx+x, 16*my+y, predicted[16*y+x:], 16, &values[b])
		means[b] = values[b][0]
	}
	forwardMeans(&means)
	inZigzag(&means, &ordered)
	step := float32(q.whole[1])
	const area = 4 // what is squared of means is so much larger than in pixels
	used := r.weigher.choose(&ordered, &c.level[meansAt], kindMeans, 0, int(up[8]+left[8]), q.means, area*meansPrice*r.thrift*step*step*r.dearMeans[i])
	c.set(meansAt, used, 0, &up[8], &left[8])
	var back, dc [16]int32
	restored(&c.level[meansAt], q.means, 0, used, &dc)
	inverseMeans(&dc)
	for b := range 16 {
		x, y := 16*mx+b&3*4, 16*my+b>>2*4
		used := r.weigher.choose(&values[b], &c.level[b], kindAfterMeans, 1, int(up[b&3]+left[b>>2]), q.whole, r.price(x, y, q))
		c.set(b, used, 1, &up[b&3], &left[b>>2])
		from, at := predicted[b>>2*64+b&3*4:], luma.at(x, y)
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
	step := float32(q.colour[1])
	base := colourPrice * r.thrift * step * step
	var predicted [64]uint8
	var values [16]float32
	var back [16]int32
	for p := 1; p < 3; p++ {
		made := &r.made[p]
		made.block(m.colour, 8*mx, 8*my, 8, predicted[:])
		for k := range 4 {
			b, u, l := 12+4*p+k, 2+2*p+k&1, 2+2*p+k>>1
			x, y := k&1*4, k>>1*4
			price := base * r.dearColour[(2*my+y/4)*2*r.across+2*mx+x/4]
			r.source[p].moved(8*mx+x, 8*my+y, predicted[8*y+x:], 8, &values)
			used := r.weigher.choose(&values, &c.level[b], kindColour, 0, int(up[u]+left[l]), q.colour, price)
			c.set(b, used, 0, &up[u], &left[l])
			at := made.at(8*mx+x, 8*my+y)
			if used == 0 {
				copied(predicted[8*y+x:], 8, made.pix[at:], made.stride)
				continue
			}
			restored(&c.level[b], q.colour, 0, used, &back)
			inverse(&back, predicted[8*y+x:], 8, made.pix[at:], made.stride)
		}
	}
}

// moved is the transform, in zigzag order, of what a prediction of a small block at (x, y) leaves.
func (p *plane) moved(x, y int, predicted []uint8, step int, out *[16]float32) {
	var left, moved [16]float32
	for j := range 4 {
		row, from := p.pix[(y+j)*p.stride+x:][:4], predicted[j*step:][:4]
		for i := range 4 {
			left[4*j+i] = float32(int32(row[i]) - int32(from[i]))
		}
	}
	forward(&left, &moved)
	inZigzag(&moved, out)
}

// inZigzag orders coefficients as files do.
func inZigzag(in, out *[16]float32) {
	for n, at := range zigzag {
		out[n] = in[at]
	}
}

// copied is a small block that is as it was predicted.
func copied(predicted []uint8, step int, out []uint8, stride int) {
	for y := range 4 {
		copy(out[y*stride:y*stride+4], predicted[y*step:y*step+4])
	}
}

// restored are coefficients as decoders have them, in reading order.
func restored(levels *[16]int16, steps [2]int32, first, used int, out *[16]int32) {
	*out = [16]int32{}
	for n := first; n < used; n++ {
		out[zigzag[n]] = int32(levels[n]) * steps[min(n, 1)]
	}
}
