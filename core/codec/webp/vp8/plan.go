// Package vp8 writes the key frames of lossy WebP (RFC 6386) by rate-distortion optimization: prediction modes and
// coefficient levels are chosen for the least squared error plus λ times the bits. λ is larger where the picture is busy,
// which masks the error, and in chroma. (Modes by rate and distortion: G. Sullivan, T. Wiegand, *Rate-distortion optimization for video
// compression*, IEEE Signal Processing Magazine 15, 1998; levels: K. Ramchandran, M. Vetterli, *Rate-distortion
// optimal fast thresholding with complete JPEG/MPEG decoder compatibility*, IEEE Transactions on Image Processing 3, 1994.
// Masking: S. Daly, *The visible differences predictor*, Digital Images and Human Vision, 1993.)
package vp8

import (
	"math"
	"slices"
	"sync"

	"echolane/core/raster"
)

// A Plan is a picture with its prediction modes, of which frames are written at different quantizer indices. It isn't safe for
// concurrent use.
type Plan struct {
	w, h          int
	across        int // macroblocks
	blocks        []macroblock
	source        [3]plane
	segmentDelta  [segments]float64 // added to a segment's quantizer index
	lambda        []float32         // λ of each luma subblock, as a multiple of the usual
	lambdaUV      []float32         // of each chroma subblock
	lambdaY2      []float32         // of each Y2 block
	recon         [3]reconstruction
	coefficients  []coefficients
	lumaTrellis   trellis // chooses luma's levels
	chromaTrellis trellis // and chroma's
	last          *header // of the frame that was made last
	filtered      [3][]uint8
	tokens        tokens
	logs          []float32
	busy          []float64
}

// plans are those that nobody uses, with room for the next picture.
var plans = sync.Pool{New: func() any { return &Plan{} }}

// sized is v with room for n values, all zero.
func sized[T any](v []T, n int) []T {
	if cap(v) < n {
		return make([]T, n)
	}
	clear(v[:n])
	return v[:n]
}

// A plane is padded to whole macroblocks.
type plane struct {
	pix    []uint8
	stride int

	moments  []moments // of variances
	at       []moments
	variance []float32
}

// These constants give the fewest bytes on the corpus at equal SSIM of luma, with chroma about as near as libjpeg-turbo's
// (`make quality-report` measures both). A larger λ for chroma saves as much again by SSIM, which doesn't see it, and
// shows: thin coloured lines turn grey, and colour bleeds over edges and into greys.
const (
	// λ in squared quantizer steps, for luma, for Y2 and for chroma.
	lambdaLuma, lambdaDC, lambdaChroma = 0.035, 0.03, 0.06

	// Added to the quantizer index for chroma: for its DC, which shows in plain areas and so stays within an index, and for its
	// AC.
	colourDC, colourAC = -2, 2
	coarsestDC         = 45

	// λ grows with a power of the local variance over the usual one: for luma; for Y2 with a power of that; and for chroma, up
	// to a bound.
	power, leastVariance, usualVariance   = 0.42, 3, 220
	meansPower                            = 0.6
	colourPower, leastColour, usualColour = 0.6, 1.5, 40
	mostLambdaUV                          = 1.5

	// How many indices coarser a segment is where λ is e times as large, fading to none below evenBelow; and the loop filter
	// level for a quantizer step.
	segmentSpread, evenBelow = 4, 15
	filterPerStep            = 0.38
)

// noSquareBits is for candidates whose cost nobody asks for.
var noSquareBits [16]float32

// New makes a plan of a 4:2:0 picture in Limited range. It may be freed.
func New(from *raster.YCbCr) *Plan {
	across, down := (from.W+15)/16, (from.H+15)/16
	p := plans.Get().(*Plan)
	*p = Plan{
		w: from.W, h: from.H, across: across, blocks: sized(p.blocks, across*down), coefficients: sized(p.coefficients, across*down),
		source: p.source, recon: p.recon, filtered: p.filtered, tokens: p.tokens,
		lambda: p.lambda, lambdaUV: p.lambdaUV, lambdaY2: p.lambdaY2, logs: p.logs, busy: p.busy,
	}
	for i, s := range []*raster.Plane{&from.Y, &from.Cb, &from.Cr} {
		side := 8
		if i == 0 {
			side = 16
		}
		p.source[i].fill(s, side*across, side*down)
		p.recon[i].reset(side*across, side*down)
	}
	p.setLambdas()
	p.segment()
	return p
}

// Free gives back the plan's room; it isn't used any more.
func (p *Plan) Free() { plans.Put(p) }

// fill makes the plane a padded one: its last column and row are repeated.
func (p *plane) fill(from *raster.Plane, w, h int) {
	p.pix, p.stride = sized(p.pix, w*h), w
	for y := range h {
		row, to := from.Row(min(y, from.H-1))[:from.W], p.pix[y*w:y*w+w]
		for x := copy(to, row); x < w; x++ {
			to[x] = row[len(row)-1]
		}
	}
}

// setLambdas sets λ from the variance around each block, and keeps its logarithms for luma.
func (p *Plan) setLambdas() {
	var luma, blue, red []float32
	var colour sync.WaitGroup
	colour.Go(func() { blue, red = p.source[1].variances(), p.source[2].variances() })
	luma = p.source[0].variances()
	colour.Wait()
	p.lambda, p.logs = sized(p.lambda, len(luma)), sized(p.logs, len(luma))
	for i, v := range luma {
		d := &lambdas[lambdaIndex(v)]
		p.lambda[i], p.logs[i] = d.dear, d.log
	}
	p.lambdaUV = sized(p.lambdaUV, len(blue))
	for i := range blue { // only chroma masks chroma
		p.lambdaUV[i] = float32(min(mostLambdaUV, math.Pow(float64((blue[i]+red[i]+leastColour)/usualColour), colourPower)))
	}
	w := p.source[0].stride / 4
	p.lambdaY2 = means(p.lambdaY2, p.lambda, w, 4)
	for i, v := range p.lambdaY2 {
		p.lambdaY2[i] = float32(math.Pow(float64(v), meansPower))
	}
}

// moments are of some samples: how many there are, what they come to, and their squares.
type moments struct{ n, v, squares int32 }

// variances are those of the 8×8 samples around each subblock. They are the plane's, until it is looked at again.
func (p *plane) variances() []float32 {
	w, h := p.stride/4, len(p.pix)/p.stride/4
	// Of 2×2 samples, with nothing around the picture; then of 8×2.
	p.at, p.moments = sized(p.at, 2*w+2), sized(p.moments, (2*h+2)*w)
	at := p.at
	row := func(y int) []moments { return p.moments[y*w : (y+1)*w] }
	for y := range 2*h + 2 {
		clear(at)
		if y > 0 && y <= 2*h {
			above, below := p.pix[(2*y-2)*p.stride:][:p.stride], p.pix[(2*y-1)*p.stride:][:p.stride]
			for x := range 2 * w {
				a, b, c, d := int32(above[2*x]), int32(above[2*x+1]), int32(below[2*x]), int32(below[2*x+1])
				at[x+1] = moments{4, a + b + c + d, a*a + b*b + c*c + d*d}
			}
		}
		for x, to := 0, row(y); x < w; x++ {
			a, b, c, d := &at[2*x], &at[2*x+1], &at[2*x+2], &at[2*x+3]
			to[x] = moments{a.n + b.n + c.n + d.n, a.v + b.v + c.v + d.v, a.squares + b.squares + c.squares + d.squares}
		}
	}
	p.variance = sized(p.variance, w*h)
	for y := range h {
		one, two, three, four := row(2*y), row(2*y+1), row(2*y+2), row(2*y+3)
		for x := range w {
			a, b, c, d := &one[x], &two[x], &three[x], &four[x]
			n := float32(a.n + b.n + c.n + d.n)
			mean := float32(a.v+b.v+c.v+d.v) / n
			p.variance[y*w+x] = max(0, float32(a.squares+b.squares+c.squares+d.squares)/n-mean*mean)
		}
	}
	return p.variance
}

// lambdaIndex is where lambdas has the λ of a luma variance, within half a hundredth.
func lambdaIndex(variance float32) int {
	return min(len(lambdas)-1, max(0, int(math.Float32bits(variance+leastVariance)>>lambdaShift)-lambdaFrom))
}

// lambdas are indexed by the leading bits of a variance: its exponent and eight bits behind it.
const lambdaShift = 23 - 8

var (
	lambdaFrom = int(math.Float32bits(float32(leastVariance)) >> lambdaShift)
	lambdas    = func() []struct{ dear, log float32 } {
		out := make([]struct{ dear, log float32 }, int(math.Float32bits(1<<14)>>lambdaShift)-lambdaFrom+1)
		for i := range out {
			v := math.Float32frombits(uint32(i+lambdaFrom)<<lambdaShift | 1<<(lambdaShift-1))
			log := power * math.Log(float64(v)/usualVariance)
			out[i].dear, out[i].log = float32(math.Exp(log)), float32(log)
		}
		return out
	}()
)

// means averages n×n values, into out where there is room.
func means(out, v []float32, w, n int) []float32 {
	out = sized(out, len(v)/(n*n))
	for i := range v {
		out[i/w/n*(w/n)+i%w/n] += v[i] / float32(n*n)
	}
	return out
}

// segment groups the macroblocks by how busy they are. Busier segments have coarser quantizers.
func (p *Plan) segment() {
	p.busy = sized(p.busy, len(p.blocks))
	busy := p.busy
	mean := 0.0
	w := p.source[0].stride / 4
	for i, v := range p.logs {
		busy[i/w/4*p.across+i%w/4] += float64(v) / 16
	}
	for _, v := range busy {
		mean += v / float64(len(busy))
	}
	// k-means of four groups (S. Lloyd, *Least squares quantization in PCM*, IEEE Transactions on Information Theory 28, 1982).
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
		p.segmentDelta[k] = math.Round(segmentSpread * (m - mean))
	}
}

// headerAt is the header of a frame at a quantizer index. A fraction of an index moves as many of the segments to the next.
func (p *Plan) headerAt(index float64) *header {
	h := &header{w: p.w, h: p.h, uvDCDelta: max(-15, min(colourDC, coarsestDC-int(index))), uvACDelta: colourAC}
	part := math.Min(1, math.Max(0, index)/evenBelow)
	for i := range h.qIndex {
		h.qIndex[i] = min(127, max(0, int(math.Floor(index+part*p.segmentDelta[i]+(float64(i)+0.5)/segments))))
		h.filterLevel[i] = min(63, int(filterPerStep*float64(stepAC[h.qIndex[i]])))
	}
	return h
}

// Choose chooses all modes and levels for a frame at a quantizer index, 0 (finest) to 127. thrift, 0–1, scales λ for the
// levels. quick estimates modes and uses a dead zone instead of a trellis: half the time, a fiftieth more bytes.
func (p *Plan) Choose(index, thrift float64, quick bool) {
	r := p.run(index, thrift)
	r.quick = quick
	r.choose()
}

// Again makes the frame at another index with the modes that Choose took and a dead zone: a quarter of the time of a quick
// Choose, a twentieth more bytes.
func (p *Plan) Again(index, thrift float64) {
	r := p.run(index, thrift)
	r.quick = true
	r.all()
}

// Frame writes the frame that was made last. It fails where the modes don't fit into the first partition.
func (p *Plan) Frame() ([]byte, error) {
	frame, c, err := p.last.write(p.blocks, p.coefficients, &p.tokens)
	if err != nil {
		return nil, err
	}
	p.costBy(c)
	return frame, nil
}

// costBy takes the costs of levels from probabilities.
func (p *Plan) costBy(c *coeffProbs) {
	p.lumaTrellis.costs = levelCostsOf(c)
	p.chromaTrellis.costs = p.lumaTrellis.costs
}

// A run makes one frame.
type run struct {
	*Plan
	header     *header
	thrift     float32
	quick      bool // modes by estimate, levels by a dead zone
	quantizers [segments]quantizer
}

func (p *Plan) run(index, thrift float64) *run {
	r := &run{Plan: p, header: p.headerAt(index), thrift: float32(thrift)}
	p.last = r.header
	for i := range r.quantizers {
		r.quantizers[i] = quantizerOf(r.header, i)
	}
	return r
}

// contexts say which of the blocks above and on the left have coefficients: four of luma, two of each chroma plane, and Y2.
type contexts struct {
	up   [][9]uint8
	left [9]uint8
}

// at gives the contexts of a macroblock. Macroblocks come in raster order.
func (c *contexts) at(x int) (up, left *[9]uint8) {
	if x == 0 {
		c.left = [9]uint8{}
	}
	return &c.up[x], &c.left
}

func (r *run) contexts() *contexts { return &contexts{up: make([][9]uint8, r.across)} }

// all quantizes and reconstructs every macroblock with the modes that it has.
func (r *run) all() {
	luma, colour := r.contexts(), r.contexts()
	r.sideBySide(0, len(r.blocks), func(x, y int) {
		up, left := luma.at(x)
		i := y*r.across + x
		if r.coefficients[i].skipY = true; r.blocks[i].yMode == bPred {
			r.bPredMacroblock(x, y, up, left)
		} else {
			r.macroblockY(x, y, up, left)
		}
	}, func(x, y int) {
		up, left := colour.at(x)
		r.macroblockUV(x, y, up, left)
	})
}

// sideBySide visits the macroblocks [from, to), luma and chroma at the same time: neither depends on the other.
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

func (r *run) bPredMacroblock(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	m, c, luma := &r.blocks[i], &r.coefficients[i], &r.recon[0]
	q := &r.quantizers[m.segment]
	var edge edge
	var all [16 * bModes]uint8
	var values [2][16]float32
	var costs [2]float32
	for b := range 16 {
		x, y := 16*mx+b&3*4, 16*my+b>>2*4
		luma.edge(x, y, mx == r.across-1, &edge)
		edge.small(&all)
		predicted := all[16*int(m.bMode[b]):][:16]
		t := r.source[0].candidates(x, y, predicted, 4, 0)
		t.values, t.costs, t.squareBits, t.pairs = values[:], costs[:], noSquareBits[:], 1
		t.scoreAll()
		used := r.quantize(&r.lumaTrellis, &values[0], &c.levels[b], typeYWithDC, 0, int(up[b&3]+left[b>>2]), q.y, r.lambdaAt(x, y, q))
		c.set(b, used, 0, &up[b&3], &left[b>>2])
		luma.reconstruct(x, y, &c.levels[b], used, q.y, predicted, 4)
	}
}

// quantize sets the levels of a block and returns how many there are up to the last that isn't 0.
func (r *run) quantize(w *trellis, c *[16]float32, levels *[16]int16, kind, first, context int, steps [2]int32, lambda float32) int {
	if r.quick {
		times := float32(deadZoneY)
		if kind == typeChroma {
			times = deadZoneUV
		}
		return deadZone(c, levels, first, steps, times*r.thrift*lambda)
	}
	used, _, _ := w.quantize(c, levels, kind, first, context, steps, r.thrift*lambda)
	return used
}

// lambdaAt is λ of a luma subblock, in squared error of its coefficients.
func (r *run) lambdaAt(x, y int, q *quantizer) float32 {
	step := float32(q.y[1])
	return lambdaLuma * step * step * r.lambda[y/4*(r.source[0].stride/4)+x/4]
}

// lambdaY2At is λ of a macroblock's Y2 block, whose errors spread over an area.
func (r *run) lambdaY2At(i int, q *quantizer) float32 {
	const area = 4
	step := float32(q.y[1])
	return area * lambdaDC * step * step * r.lambdaY2[i]
}

// lambdaUVAt is λ of one of a macroblock's four subblocks of either chroma plane.
func (r *run) lambdaUVAt(mx, my, k int, q *quantizer) float32 {
	step := float32(q.uv[1])
	return lambdaChroma * step * step * r.lambdaUV[(2*my+k>>1)*2*r.across+2*mx+k&1]
}

func (r *run) macroblockY(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	m, c := &r.blocks[i], &r.coefficients[i]
	q := &r.quantizers[m.segment]
	var predicted [256]uint8
	r.recon[0].predict(m.yMode, 16*mx, 16*my, 16, predicted[:])
	var values [16][16]float32
	means, _ := r.residualY(mx, my, predicted[:], &values, &noSquareBits, q)
	used := r.quantize(&r.lumaTrellis, &means, &c.levels[y2Block], typeY2, 0, int(up[8]+left[8]), q.y2, r.lambdaY2At(i, q))
	c.set(y2Block, used, 0, &up[8], &left[8])
	for b := range 16 {
		used := r.quantize(&r.lumaTrellis, &values[b], &c.levels[b], typeYAfterY2, 1, int(up[b&3]+left[b>>2]), q.y, r.lambdaAt(16*mx+b&3*4, 16*my+b>>2*4, q))
		c.set(b, used, 1, &up[b&3], &left[b>>2])
	}
	r.reconstructY(mx, my, predicted[:])
}

// residualY transforms the residual of a luma prediction: into values, and into means for Y2. It returns the estimated cost
// of the AC coefficients in bits, where squareBits is what a squared step of each subblock costs.
func (r *run) residualY(mx, my int, predicted []uint8, values *[16][16]float32, lambda *[16]float32, q *quantizer) (means [16]float32, cost float32) {
	var costs [4]float32
	for y := 0; y < 16; y += 4 {
		t := r.source[0].candidates(16*mx, 16*my+y, predicted[16*y:], 16, 4)
		t.sourceNext, t.values, t.costs, t.squareBits, t.squareBitsNext, t.pairs = 4, values[y:], costs[:], lambda[y:], 1, 2
		t.inverse, t.first = 1/float32(q.y[1]), 0
		t.scoreAll()
		cost += costs[0] + costs[1] + costs[2] + costs[3]
	}
	for b := range 16 {
		means[b&3<<2|b>>2] = values[b][0]
	}
	forwardWHT(&means)
	return means, cost
}

// reconstructY reconstructs a macroblock's luma from its levels.
func (r *run) reconstructY(mx, my int, predicted []uint8) {
	i := my*r.across + mx
	c, luma := &r.coefficients[i], &r.recon[0]
	q := &r.quantizers[r.blocks[i].segment]
	var back, dc [16]int32
	dequantized(&c.levels[y2Block], q.y2, 0, int(c.endOfBlock[y2Block]), &dc)
	inverseWHT(&dc)
	for b := range 16 {
		x, y := b&3*4, b>>2*4
		from, at := predicted[16*y+x:], luma.offset(16*mx+x, 16*my+y)
		used := int(c.endOfBlock[b])
		if used == 1 && dc[b] == 0 {
			copyPrediction(from, 16, luma.pix[at:], luma.stride)
			continue
		}
		dequantized(&c.levels[b], q.y, 1, used, &back)
		back[0] = dc[b]
		inverseDCT(&back, from, 16, luma.pix[at:], luma.stride)
	}
}

func (r *run) macroblockUV(mx, my int, up, left *[9]uint8) {
	i := my*r.across + mx
	m, c := &r.blocks[i], &r.coefficients[i]
	q := &r.quantizers[m.segment]
	c.skipUV = true
	var predicted [64]uint8
	var values [4][16]float32
	var costs [4]float32
	for p := 1; p < 3; p++ {
		recon := &r.recon[p]
		recon.predict(m.uvMode, 8*mx, 8*my, 8, predicted[:])
		for y := 0; y < 8; y += 4 {
			t := r.source[p].candidates(8*mx, 8*my+y, predicted[8*y:], 8, 4)
			t.sourceNext, t.values, t.costs, t.squareBits, t.pairs = 4, values[y/2:], costs[y/2:], noSquareBits[:], 1
			t.scoreAll()
		}
		for k := range 4 {
			b, u, l := 12+4*p+k, 2+2*p+k&1, 2+2*p+k>>1
			x, y := k&1*4, k>>1*4
			used := r.quantize(&r.chromaTrellis, &values[k], &c.levels[b], typeChroma, 0, int(up[u]+left[l]), q.uv, r.lambdaUVAt(mx, my, k, q))
			c.set(b, used, 0, &up[u], &left[l])
			recon.reconstruct(8*mx+x, 8*my+y, &c.levels[b], used, q.uv, predicted[8*y+x:], 8)
		}
	}
}

// copyPrediction reconstructs a subblock without coefficients.
func copyPrediction(predicted []uint8, step int, out []uint8, stride int) {
	for y := range 4 {
		copy(out[y*stride:y*stride+4], predicted[y*step:y*step+4])
	}
}

// reconstruct adds the dequantized residual of a subblock to its prediction, whose rows are step apart.
func (m *reconstruction) reconstruct(x, y int, levels *[16]int16, used int, steps [2]int32, predicted []uint8, step int) {
	at := m.offset(x, y)
	if used == 0 {
		copyPrediction(predicted, step, m.pix[at:], m.stride)
		return
	}
	var back [16]int32
	dequantized(levels, steps, 0, used, &back)
	inverseDCT(&back, predicted, step, m.pix[at:], m.stride)
}

// dequantized are the coefficients that a decoder gets, in raster order.
func dequantized(levels *[16]int16, steps [2]int32, first, used int, out *[16]int32) {
	*out = [16]int32{}
	for n := first; n < used; n++ {
		out[zigzag[n]] = int32(levels[n]) * steps[min(n, 1)]
	}
}
