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

	// rowPad is how many samples a temporary row has beyond its end, for kernels that read whole vectors.
	rowPad = 64
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

// A bank holds the weights of one axis: for destination sample i, taps weights at weights[i×stride:], which
// apply to source samples start[i]…start[i]+taps−1. Beyond taps, up to stride, weights are zero.
type bank struct {
	start        []int32
	weights      []int16
	taps, stride int
	lo, hi       int // source samples that any destination sample uses: [lo, hi)
}

// newBank works the weights out. The window never leaves the n source samples: what the kernel wants beyond
// an edge goes to the edge's own sample, as if it were repeated. Weights of one sample sum to gain. taps is
// even wherever the source has that many samples, and stride a multiple of pad.
func newBank(a Axis, n int, gain float64, pad int) *bank {
	scale := math.Max(1, math.Abs(a.Step))
	reach := lobes * scale
	taps := int(math.Ceil(2*reach)) + 1
	taps += taps & 1
	taps = min(taps, n)
	stride := (taps + pad - 1) / pad * pad
	b := &bank{
		start: make([]int32, a.Len), weights: make([]int16, a.Len*stride),
		taps: taps, stride: stride, lo: n, hi: 0,
	}
	exact := make([]float64, taps)
	for i := range a.Len {
		centre := a.From + (float64(i)+0.5)*a.Step
		first := int(math.Floor(centre - reach))
		last := int(math.Ceil(centre + reach))
		start := min(max(first, 0), n-taps)
		clear(exact)
		var sum float64
		for j := first; j <= last; j++ {
			w := lanczos((float64(j) + 0.5 - centre) / scale)
			if w == 0 {
				continue
			}
			exact[min(max(min(max(j, 0), n-1)-start, 0), taps-1)] += w
			sum += w
		}
		f := gain * weightOne / sum
		q := b.weights[i*stride : i*stride+taps]
		var running float64
		var given int
		for j, w := range exact {
			running += w * f
			next := int(math.Round(running))
			q[j] = int16(min(next-given, math.MaxInt16))
			given = next
		}
		b.start[i] = int32(start)
		b.lo = min(b.lo, start)
		b.hi = max(b.hi, start+taps)
	}
	return b
}

// lanczos is sinc(x)·sinc(x/3) within three lobes (Duchon 1979).
func lanczos(x float64) float64 {
	x = math.Abs(x)
	if x >= lobes {
		return 0
	}
	if x < 1e-9 {
		return 1
	}
	px := math.Pi * x
	return lobes * math.Sin(px) * math.Sin(px/lobes) / (px * px)
}

// ResamplePlane makes dst, of x.Len×y.Len samples, from src. Values are multiplied by gain and raised by
// offset on the way (1 and 0 leave them alone), which turns one sample range into another without a second
// rounding.
func ResamplePlane(src Plane, x, y Axis, gain, offset float64) Plane {
	if fx, fy := x.boxFor(), y.boxFor(); fx > 1 || fy > 1 {
		src = src.box(fx, fy, 1)
		x, y = x.reduced(fx), y.reduced(fy)
	}
	if gain == 1 && offset == 0 {
		if x0, ok := x.copies(src.W); ok {
			if y0, ok := y.copies(src.H); ok {
				return Plane{Pix: src.Pix[y0*src.Stride+x0:], Stride: src.Stride, W: x.Len, H: y.Len}
			}
		}
	}
	dst := NewPlane(x.Len, y.Len)
	resample(dst.Pix, dst.Stride, src, x, y, 1, gain, offset)
	return dst
}

// ResampleRGBA makes a picture of x.Len×y.Len pixels from src.
func ResampleRGBA(src *RGBA, x, y Axis) *RGBA {
	plane := Plane{Pix: src.Pix, Stride: src.Stride, W: src.W, H: src.H}
	if fx, fy := x.boxFor(), y.boxFor(); fx > 1 || fy > 1 {
		plane = plane.box(fx, fy, 4)
		x, y = x.reduced(fx), y.reduced(fy)
	}
	if x0, ok := x.copies(plane.W); ok {
		if y0, ok := y.copies(plane.H); ok {
			return &RGBA{Pix: plane.Pix[y0*plane.Stride+4*x0:], Stride: plane.Stride, W: x.Len, H: y.Len, Opaque: src.Opaque}
		}
	}
	dst := NewRGBA(x.Len, y.Len)
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

// resample runs both passes. src.W counts pixels of so many channels.
func resample(dst []uint8, dstStride int, src Plane, x, y Axis, channels int, gain, offset float64) {
	pad := 16
	if channels == 4 {
		pad = 4
	}
	bx := newBank(x, src.W, gain, pad)
	by := newBank(y, src.H, 1, 2)
	n := (bx.hi - bx.lo) * channels
	temp := make([]int16, n+rowPad)
	for i := range bx.start {
		bx.start[i] -= int32(bx.lo)
	}
	round := int32(math.Round(offset*(1<<(weightBits+tempBits)))) + 1<<(weightBits+tempBits-1)
	for i := range y.Len {
		top := int(by.start[i])
		rows := src.Pix[top*src.Stride+bx.lo*channels:]
		vertical(temp[:n], rows, src.Stride, by.weights[i*by.stride:i*by.stride+by.taps])
		row := dst[i*dstStride : i*dstStride+x.Len*channels]
		if channels == 4 {
			horizontal4(row, temp, bx, round)
		} else {
			horizontal1(row, temp, bx, round)
		}
	}
}

// verticalPlain is the reference for vertical: temp[i] is the weighted sum of column i over len(weights)
// rows, in Q6.
func verticalPlain(temp []int16, rows []uint8, stride int, weights []int16) {
	var acc [512]int32
	for from := 0; from < len(temp); from += len(acc) {
		part := temp[from:min(from+len(acc), len(temp))]
		sums := acc[:len(part)]
		for i := range sums {
			sums[i] = 1 << (weightBits - tempBits - 1)
		}
		for t := 0; t+1 < len(weights); t += 2 {
			w0, w1 := int32(weights[t]), int32(weights[t+1])
			a := rows[t*stride+from:][:len(part)]
			b := rows[(t+1)*stride+from:][:len(part)]
			for i := range sums {
				sums[i] += w0*int32(a[i]) + w1*int32(b[i])
			}
		}
		if len(weights)&1 == 1 {
			t := len(weights) - 1
			w := int32(weights[t])
			a := rows[t*stride+from:][:len(part)]
			for i := range sums {
				sums[i] += w * int32(a[i])
			}
		}
		for i, s := range sums {
			part[i] = int16(s >> (weightBits - tempBits))
		}
	}
}

// horizontal1Plain is the reference for one channel.
func horizontal1Plain(dst []uint8, temp []int16, b *bank, round int32) {
	for i := range dst {
		w := b.weights[i*b.stride : i*b.stride+b.taps]
		s := temp[b.start[i]:][:len(w)]
		sum := round
		for j, v := range w {
			sum += int32(v) * int32(s[j])
		}
		dst[i] = clamp8(sum >> (weightBits + tempBits))
	}
}

// horizontal4Plain is the reference for four interleaved channels.
func horizontal4Plain(dst []uint8, temp []int16, b *bank, round int32) {
	for i := 0; i < len(dst)/4; i++ {
		w := b.weights[i*b.stride : i*b.stride+b.taps]
		s := temp[4*b.start[i]:][:4*len(w)]
		s0, s1, s2, s3 := round, round, round, round
		for j, v := range w {
			v := int32(v)
			p := s[4*j : 4*j+4 : 4*j+4]
			s0 += v * int32(p[0])
			s1 += v * int32(p[1])
			s2 += v * int32(p[2])
			s3 += v * int32(p[3])
		}
		d := dst[4*i : 4*i+4 : 4*i+4]
		d[0] = clamp8(s0 >> (weightBits + tempBits))
		d[1] = clamp8(s1 >> (weightBits + tempBits))
		d[2] = clamp8(s2 >> (weightBits + tempBits))
		d[3] = clamp8(s3 >> (weightBits + tempBits))
	}
}

func clamp8(v int32) uint8 { return uint8(min(max(v, 0), 255)) }

// box reduces by whole fx and fy: each sample is the rounded mean of its cell. Cells at the right and
// bottom may be smaller.
func (p Plane) box(fx, fy, channels int) Plane {
	w, h := (p.W+fx-1)/fx, (p.H+fy-1)/fy
	dst := Plane{Pix: make([]uint8, w*h*channels), Stride: w * channels, W: w, H: h}
	sums := make([]uint32, w*channels)
	for y := range h {
		clear(sums)
		y1 := min((y+1)*fy, p.H)
		for sy := y * fy; sy < y1; sy++ {
			row := p.Pix[sy*p.Stride : sy*p.Stride+p.W*channels]
			if channels == 1 {
				boxRow1(sums, row, fx)
			} else {
				boxRow4(sums, row, fx)
			}
		}
		out := dst.Pix[y*dst.Stride : (y+1)*dst.Stride]
		for i := range out {
			cells := uint32((min((i/channels+1)*fx, p.W) - i/channels*fx) * (y1 - y*fy))
			out[i] = uint8((sums[i] + cells/2) / cells)
		}
	}
	return dst
}

func boxRow1(sums []uint32, row []uint8, fx int) {
	for x := range sums {
		var s uint32
		for _, v := range row[x*fx : min((x+1)*fx, len(row))] {
			s += uint32(v)
		}
		sums[x] += s
	}
}

func boxRow4(sums []uint32, row []uint8, fx int) {
	for x := 0; x < len(sums)/4; x++ {
		cell := row[4*x*fx : min(4*(x+1)*fx, len(row))]
		var r, g, b, a uint32
		for i := 0; i+3 < len(cell); i += 4 {
			r += uint32(cell[i])
			g += uint32(cell[i+1])
			b += uint32(cell[i+2])
			a += uint32(cell[i+3])
		}
		s := sums[4*x : 4*x+4]
		s[0] += r
		s[1] += g
		s[2] += b
		s[3] += a
	}
}
