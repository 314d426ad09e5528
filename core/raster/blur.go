package raster

import "math"

// A blur is a kernel, and every kernel goes through the two passes that resampling has: from sigma 2 on the three
// box averages of Filter Effects Level 1, section 9.7, taken together; a sampled Gaussian below.
//
// A wide blur leaves nothing that a picture of fewer pixels couldn't hold. Where sigma is more than a few pixels
// the picture is first averaged to one of a whole number of times fewer, the kernel works there, and what comes
// out is interpolated, so the cost hardly depends on sigma. What averaging and interpolating spread is taken off
// the kernel's variance.
//
// Rejected: running sums, which need a whole pass for each box and don't go into vectors along a row.

// Edge says what a blur takes the picture to be beyond its edges.
type Edge uint8

const (
	Extended Edge = iota // the edge's own colour, as far as it takes
	Faded                // nothing
)

// Blur blurs the picture in place by a Gaussian of standard deviation sigma, in pixels.
func (p *RGBA) Blur(sigma float64, edge Edge) {
	if sigma <= 0 {
		return
	}
	from := Plane{Pix: p.Pix, Stride: p.Stride, W: p.W, H: p.H}
	out := blurred(from, newBlurAxis(sigma, p.W, 0, p.W, edge), newBlurAxis(sigma, p.H, 0, p.H, edge), 4)
	p.Free()
	p.Pix, p.Stride, p.whole = out.Pix, out.Stride, out.whole
	if edge == Faded {
		p.Opaque = false
	}
}

// blurAxis is a blur in one direction: over reduced samples where reduce is set.
type blurAxis struct {
	reduce, kernel, enlarge *bank
}

// newBlurAxis blurs n samples and gives length of them from from on, which may lie beyond either end.
func newBlurAxis(sigma float64, n, from, length int, edge Edge) blurAxis {
	f := reduction(sigma, n)
	if f == 1 {
		w, before := kernelOf(sigma)
		return blurAxis{kernel: fixedBank(length, n, edge, func(i int) (int, []float64) { return from + i - before, w })}
	}
	k := float64(f)
	// A cell more on either side, so that at the edges too the way up is between two cells.
	cells := (n+f-1)/f + 2
	even := make([]float64, f)
	for i := range even {
		even[i] = 1 / k
	}
	w, before := boxOf((variance(sigma) - (k*k-1)/12 - k*k/6) / (k * k) / 3).thrice()
	place := func(i int) float64 { return (float64(from+i)+0.5)/k - 0.5 }
	var two [2]float64
	between := func(v float64) []float64 { two[1] = v - math.Floor(v); two[0] = 1 - two[1]; return two[:] }
	first := int(math.Floor(place(0)))
	last := int(math.Floor(place(length-1))) + 1
	return blurAxis{
		reduce: fixedBank(cells, n, edge, func(i int) (int, []float64) { return (i - 1) * f, even }),
		kernel: fixedBank(last-first+1, cells, edge, func(i int) (int, []float64) { return first + i + 1 - before, w }),
		enlarge: fixedBank(length, last-first+1, edge, func(i int) (int, []float64) {
			v := place(i)
			return int(math.Floor(v)) - first, between(v)
		}),
	}
}

// reduction is how many times fewer samples a blur works on: so that sigma stays at 2.5 or more, and there are
// some samples to speak of.
func reduction(sigma float64, n int) int {
	f := 1
	for sigma/float64(2*f) >= 2.5 && n/(2*f) >= 8 {
		f *= 2
	}
	return f
}

// blurred runs both directions of a blur over pixels of so many channels.
func blurred(src Plane, x, y blurAxis, channels int) Plane {
	var made Plane // the last one
	apply := func(x, y *bank) {
		if x == nil && y == nil {
			return
		}
		if x == nil {
			x = identity(src.W)
		}
		if y == nil {
			y = identity(src.H)
		}
		dst := PooledPlane(len(x.start), len(y.start), Stride(len(x.start)*channels))
		resampleBanks(dst.Pix, dst.Stride, src, x, y, channels, halfByte)
		made.Free()
		src, made = dst, dst
	}
	apply(x.reduce, y.reduce)
	apply(x.kernel, y.kernel)
	apply(x.enlarge, y.enlarge)
	return src
}

func identity(n int) *bank {
	one := []float64{1}
	return fixedBank(n, n, Extended, func(i int) (int, []float64) { return i, one })
}

// fixedBank is a bank of weights that are given: for destination sample i those that apply to source samples from
// first on, beyond whose n there's what edge says.
func fixedBank(length, n int, edge Edge, weigh func(i int) (first int, w []float64)) *bank {
	_, w := weigh(0)
	taps := min(len(w), n)
	b := &bank{start: make([]int32, length), weights: make([]int16, length*taps), taps: taps, lo: n}
	exact := make([]float64, taps)
	for i := range length {
		first, w := weigh(i)
		start := min(max(first, 0), n-taps)
		clear(exact)
		for j, v := range w {
			at := first + j
			if at < 0 || at >= n {
				if edge == Faded {
					continue
				}
				at = min(max(at, 0), n-1)
			}
			exact[at-start] += v
		}
		roundWeights(b.weights[i*taps:(i+1)*taps], exact, weightOne)
		b.start[i] = int32(start)
		b.lo, b.hi = min(b.lo, start), max(b.hi, start+taps)
	}
	return b
}

// kernelOf is a blur's kernel, and how many of its weights lie before the sample that it's for.
func kernelOf(sigma float64) (w []float64, before int) {
	w = []float64{1}
	switch {
	case sigma <= 0:
		return w, 0
	case sigma < 2:
		return gaussian(sigma)
	}
	for _, b := range threeBoxes(sigma) {
		w = b.over(w)
		before += b.left
	}
	return w, before
}

// box averages from left samples before to right samples behind, and of the next on either side a share of ends.
type box struct {
	left, right int
	ends        float64
}

// over is the kernel w averaged by the box. Where there are shares at its ends the box is one longer on each side.
func (b box) over(w []float64) []float64 {
	n := b.left + b.right + 1
	weight := 1 / (float64(n) + 2*b.ends)
	kernel := make([]float64, n, n+2)
	for i := range kernel {
		kernel[i] = weight
	}
	if b.ends > 0 {
		kernel = append(append([]float64{b.ends * weight}, kernel...), b.ends*weight)
	}
	out := make([]float64, len(w)+len(kernel)-1)
	for i, v := range w {
		for j, k := range kernel {
			out[i+j] += v * k
		}
	}
	return out
}

func (b box) thrice() (w []float64, before int) {
	w = b.over(b.over(b.over([]float64{1})))
	return w, len(w) / 2
}

// boxOf is the box of a variance.
func boxOf(variance float64) box {
	r := 0.0
	for (r+1)*(r+2)/3 <= variance {
		r++
	}
	size := 2*r + 1
	ends := (variance*size - r*(r+1)*size/3) / (2*(r+1)*(r+1) - 2*variance)
	return box{int(r), int(r), max(ends, 0)}
}

// threeBoxes are the boxes of the specification: of d each for odd d; for even d two of d, shifted to either
// side, and one of d+1.
func threeBoxes(sigma float64) [3]box {
	d := int(math.Floor(sigma*3*math.Sqrt(2*math.Pi)/4 + 0.5))
	if d%2 == 1 {
		b := box{d / 2, d / 2, 0}
		return [3]box{b, b, b}
	}
	return [3]box{{d / 2, d/2 - 1, 0}, {d/2 - 1, d / 2, 0}, {d / 2, d / 2, 0}}
}

// variance is what the three boxes together have.
func variance(sigma float64) (v float64) {
	for _, b := range threeBoxes(sigma) {
		size := float64(b.left + b.right + 1)
		v += (size*size - 1) / 12
	}
	return v
}

// gaussian is a sampled Gaussian whose weights sum to 1.
func gaussian(sigma float64) (w []float64, before int) {
	r := int(math.Ceil(3 * sigma))
	w = make([]float64, 2*r+1)
	var sum float64
	for i := range w {
		x := float64(i - r)
		w[i] = math.Exp(-x * x / (2 * sigma * sigma))
		sum += w[i]
	}
	for i := range w {
		w[i] /= sum
	}
	return w, r
}

// DropShadow puts the picture's own shadow under it: its alpha, blurred, shifted and coloured. colour is
// straight. The canvas stays as large as it is.
func (p *RGBA) DropShadow(dx, dy, sigma float64, colour [4]uint8) {
	ox, oy := int(math.Floor(dx+0.5)), int(math.Floor(dy+0.5))
	alpha := NewPlane(p.W, p.H)
	for y := range p.H {
		row, to := p.Row(y), alpha.Row(y)
		for x := range to {
			to[x] = row[4*x+3]
		}
	}
	// Beyond the canvas there's nothing to cast a shadow, and a shadow that leaves it is gone.
	shade := blurred(alpha, newBlurAxis(sigma, p.W, -ox, p.W, Faded), newBlurAxis(sigma, p.H, -oy, p.H, Faded), 1)
	var shades [256][4]uint8
	for v := range shades {
		a := uint32(div255(uint32(v) * uint32(colour[3])))
		shades[v] = [4]uint8{div255(uint32(colour[0]) * a), div255(uint32(colour[1]) * a), div255(uint32(colour[2]) * a), uint8(a)}
	}
	defer shade.Free()
	defer alpha.Free()
	for y := range p.H {
		row := p.Row(y)
		for x, v := range shade.Row(y) {
			q := row[4*x : 4*x+4 : 4*x+4]
			if k := 255 - uint32(q[3]); k > 0 && v > 0 {
				s := &shades[v]
				for c := range q {
					q[c] += div255(uint32(s[c]) * k)
				}
			}
		}
	}
}
