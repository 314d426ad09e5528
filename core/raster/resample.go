package raster

// Resampling is separable, with Lanczos's kernel of three lobes, on gamma-encoded premultiplied values.
//
// The vertical pass comes first: it works along rows whatever the channels are, needs one temporary row
// only, and is the half that vector instructions like best. It goes from bytes to int16 in Q6; the
// horizontal pass goes from there to bytes. Weights are Q14 and sum to exactly what they should, by rounding
// their running sum instead of each alone, so a flat area stays flat to the level. Sums are int32
// throughout, which makes the order of additions irrelevant: the assembly and the plain code give the same
// bytes, and a test holds them to it.
//
// Q14 has too few levels for hundreds of taps. Where more than maxStep source samples go into one, the
// source is first reduced by a whole number with a box, rounded once, to between half of that and all of it.

import "math"

const (
	lobes      = 3
	weightBits = 14
	tempBits   = 6
	weightOne  = 1 << weightBits
	maxStep    = 8
	halfByte   = 1 << (weightBits + tempBits - 1)
)

// An Axis says, for one direction, where destination samples come from: sample i is centred on
// From + (i+0.5)×Step in source samples, whose own centres lie at whole numbers and a half. A negative Step
// mirrors. Len is the number of destination samples.
type Axis struct {
	From, Step float64
	Len        int
}

// copies reports whether the axis only picks samples, and which is the first.
func (a Axis) copies(n int) (first int, ok bool) {
	f := math.Round(a.From)
	return int(f), a.Step == 1 && math.Abs(a.From-f) < 1e-6 && f >= 0 && int(f)+a.Len <= n
}

// reduced is the same axis over a source reduced by whole f.
func (a Axis) reduced(f int) Axis {
	return Axis{From: a.From / float64(f), Step: a.Step / float64(f), Len: a.Len}
}

// boxFor is the whole number to reduce by before this axis is resampled.
func (a Axis) boxFor() int {
	if s := math.Abs(a.Step); s > maxStep {
		return int(s / (maxStep / 2))
	}
	return 1
}

// A bank holds the weights of one axis: for destination sample i, taps weights at weights[i×taps:], which
// apply to source samples start[i]…start[i]+taps−1.
type bank struct {
	start   []int32
	weights []int16
	taps    int
	lo, hi  int // source samples that any destination sample uses: [lo, hi)
}

// exactSteps is into how many parts of a sample places are reckoned without rounding.
const exactSteps = 1 << 16

// newBank works the weights out. The window never leaves the n source samples: what the kernel wants beyond
// an edge goes to the edge's own sample, as if it were repeated. Weights of one sample sum to gain.
func newBank(a Axis, n int, gain float64) *bank {
	scale := math.Max(1, math.Abs(a.Step))
	reach, narrow := lobes*scale, 1/scale
	// Of points a whole step apart, an open interval of this length holds no more than this.
	taps := min(int(math.Ceil(2*reach)), n)
	b := &bank{start: make([]int32, a.Len), weights: make([]int16, a.Len*taps), taps: taps, lo: n}
	exact := make([]float64, taps)
	same, like, taken := math.NaN(), 0, 0 // where the last sample lay in its window, which, and how wide that was
	for i := range a.Len {
		centre := a.From + (float64(i)+0.5)*a.Step
		first := int(math.Floor(centre-reach-0.5)) + 1
		last := int(math.Ceil(centre+reach-0.5)) - 1
		start := min(max(first, 0), n-taps)
		if at := centre - float64(first); first == start && last < n && at*exactSteps == math.Floor(at*exactSteps) {
			if at == same && last-first == taken { // as half the size has everywhere
				copy(b.weights[i*taps:(i+1)*taps], b.weights[like*taps:])
				b.start[i] = int32(start)
				b.lo, b.hi = min(b.lo, start), max(b.hi, start+taps)
				continue
			}
			same, like, taken = at, i, last-first
		}
		clear(exact)
		var sum float64
		for j := first; j <= last; j++ {
			w := lanczos((float64(j) + 0.5 - centre) * narrow)
			exact[min(max(min(max(j, 0), n-1)-start, 0), taps-1)] += w
			sum += w
		}
		roundWeights(b.weights[i*taps:(i+1)*taps], exact, gain*weightOne/sum)
		b.start[i] = int32(start)
		b.lo = min(b.lo, start)
		b.hi = max(b.hi, start+taps)
	}
	return b
}

// roundWeights gives to w what exact times f is, each rounded so that no sum from the start is off by more than
// a half.
func roundWeights(w []int16, exact []float64, f float64) {
	var running float64
	var given int
	for j, v := range exact {
		running += v * f
		next := int(math.Round(running))
		w[j] = int16(min(next-given, math.MaxInt16))
		given = next
	}
}

// lanczosTable is sinc(x)·sinc(x/3) (Duchon 1979) at every 1/1024, and one more for the last step between.
// Between two entries a straight line is within 5·10⁻⁷, a sixtieth of what rounding to Q14 does.
const lanczosSteps = 1024

var lanczosTable = func() (t [lobes*lanczosSteps + 2]float64) {
	t[0] = 1
	for i := 1; i < lobes*lanczosSteps; i++ {
		px := math.Pi * float64(i) / lanczosSteps
		t[i] = lobes * math.Sin(px) * math.Sin(px/lobes) / (px * px)
	}
	return t
}()

// lanczos is the kernel at x, zero beyond three lobes.
func lanczos(x float64) float64 {
	x = math.Abs(x) * lanczosSteps
	if x >= lobes*lanczosSteps {
		return 0
	}
	i := int(x)
	return lanczosTable[i] + (x-float64(i))*(lanczosTable[i+1]-lanczosTable[i])
}

// ResamplePlane makes dst, of x.Len×y.Len samples, from src. Values are multiplied by gain and raised by
// offset on the way (1 and 0 leave them alone), which turns one sample range into another without a second
// rounding.
func ResamplePlane(src Plane, x, y Axis, gain, offset float64) Plane {
	if fx, fy := x.boxFor(), y.boxFor(); fx > 1 || fy > 1 {
		src = src.box(fx, fy, 1)
		defer src.Free()
		x, y = x.reduced(fx), y.reduced(fy)
	}
	if gain == 1 && offset == 0 {
		if x0, ok := x.copies(src.W); ok {
			if y0, ok := y.copies(src.H); ok {
				return Plane{Pix: src.Pix[y0*src.Stride+x0:], Stride: src.Stride, W: x.Len, H: y.Len}
			}
		}
	}
	dst := PooledPlane(x.Len, y.Len, Stride(x.Len))
	resample(dst.Pix, dst.Stride, src, x, y, 1, gain, offset)
	return dst
}

// ResampleRGBA makes a picture of x.Len×y.Len pixels from src.
func ResampleRGBA(src *RGBA, x, y Axis) *RGBA {
	plane := Plane{Pix: src.Pix, Stride: src.Stride, W: src.W, H: src.H}
	if fx, fy := x.boxFor(), y.boxFor(); fx > 1 || fy > 1 {
		plane = plane.box(fx, fy, 4)
		defer plane.Free()
		x, y = x.reduced(fx), y.reduced(fy)
	}
	if x0, ok := x.copies(plane.W); ok {
		if y0, ok := y.copies(plane.H); ok {
			return &RGBA{Pix: plane.Pix[y0*plane.Stride+4*x0:], Stride: plane.Stride, W: x.Len, H: y.Len, Opaque: src.Opaque}
		}
	}
	dst := PooledRGBA(x.Len, y.Len)
	dst.Opaque = src.Opaque
	resample(dst.Pix, dst.Stride, plane, x, y, 4, 1, 0)
	if !dst.Opaque {
		dst.clampColour()
	}
	return dst
}

// clampColour keeps colour within alpha: the kernel overshoots each channel on its own.
func (p *RGBA) clampColour() {
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			a := row[i+3]
			row[i], row[i+1], row[i+2] = min(row[i], a), min(row[i+1], a), min(row[i+2], a)
		}
	}
}

// resample runs both passes. src.W counts pixels of so many channels, 1 or 4.
func resample(dst []uint8, dstStride int, src Plane, x, y Axis, channels int, gain, offset float64) {
	round := int32(math.Round(offset*(1<<(weightBits+tempBits)))) + halfByte
	resampleBanks(dst, dstStride, src, newBank(x, src.W, gain), newBank(y, src.H, 1), channels, round)
}

// resampleBanks runs both passes with weights that are given. What round adds to the sums is in 2^-20.
func resampleBanks(dst []uint8, dstStride int, src Plane, bx, by *bank, channels int, round int32) {
	if hasVectors {
		resampleVectors(dst, dstStride, src, bx, by, channels, round)
	} else {
		resamplePlain(dst, dstStride, src, bx, by, channels, round)
	}
}
