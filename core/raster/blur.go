package raster

import "math"

// Edge is what a blur finds beyond the picture.
type Edge uint8

const (
	Extended Edge = iota // the edge's own colour, as far as it takes
	Faded                // nothing
)

// Blur is a Gaussian blur of standard deviation sigma, in pixels. From sigma 2 on it is the three box averages
// that Filter Effects Level 1, section 9.7 gives, whose cost doesn't depend on sigma. A wide blur leaves nothing
// that a picture of fewer pixels couldn't hold, so it is made on one.
func (p *RGBA) Blur(sigma float64, edge Edge) {
	if sigma <= 0 {
		return
	}
	if f := reduction(sigma, p.W, p.H); f > 1 {
		p.blurReduced(sigma, edge, f)
		return
	}
	first := blurPass(p.Pix, p.Stride, p.W, p.H, sigma, edge)
	second := blurPass(first, 4*p.H, p.H, p.W, sigma, edge)
	for y := range p.H {
		copy(p.Row(y), second[4*p.W*y:][:4*p.W])
	}
	if edge == Faded {
		p.Opaque = false
	}
}

// reduction is how many times smaller on a side the picture is blurred: so that sigma stays at 2.5 or more, and
// the smaller picture has some pixels to speak of.
func reduction(sigma float64, w, h int) int {
	f := 1
	for sigma/float64(2*f) >= 2.5 && w/(2*f) >= 8 && h/(2*f) >= 8 {
		f *= 2
	}
	return f
}

// blurReduced blurs a picture f times smaller. What averaging on the way down and interpolating on the way up
// spread is taken off the variance.
//
// The smaller picture has a cell more on every side, so that at the edges too the way up is between two cells.
func (p *RGBA) blurReduced(sigma float64, edge Edge, f int) {
	k := float64(f)
	small := NewRGBA((p.W+f-1)/f+2, (p.H+f-1)/f+2)
	n := uint32(f * f)
	for y := range small.H {
		out := small.Row(y)
		for x := range small.W {
			x0, y0 := (x-1)*f, (y-1)*f
			var sum [4]uint32
			if x0 >= 0 && y0 >= 0 && x0+f <= p.W && y0+f <= p.H {
				for sy := y0; sy < y0+f; sy++ {
					for q := p.Pix[sy*p.Stride+4*x0 : sy*p.Stride+4*(x0+f)]; len(q) >= 4; q = q[4:] {
						sum[0] += uint32(q[0])
						sum[1] += uint32(q[1])
						sum[2] += uint32(q[2])
						sum[3] += uint32(q[3])
					}
				}
			} else {
				sum = p.sumBeyond(x0, y0, f, edge)
			}
			for c := range 4 {
				out[4*x+c] = uint8((sum[c] + n/2) / n)
			}
		}
	}
	var variance float64
	for _, b := range threeBoxes(sigma) {
		size := float64(b.left + b.right + 1)
		variance += (size*size - 1) / 12
	}
	b := boxOf((variance - (k*k-1)/12 - k*k/6) / (k * k) / 3)
	boxes := [3]box{b, b, b}
	first := boxPass(small.Pix, small.Stride, small.W, small.H, boxes, edge)
	second := &RGBA{Pix: boxPass(first, 4*small.H, small.H, small.W, boxes, edge), Stride: 4 * small.W, W: small.W, H: small.H}
	p.enlargeFrom(second, f)
	if edge == Faded {
		p.Opaque = false
	}
}

// sumBeyond sums f×f pixels from (x0, y0) on, of which some lie beyond the picture.
func (p *RGBA) sumBeyond(x0, y0, f int, edge Edge) (sum [4]uint32) {
	for sy := y0; sy < y0+f; sy++ {
		for sx := x0; sx < x0+f; sx++ {
			if edge == Faded && (sx < 0 || sy < 0 || sx >= p.W || sy >= p.H) {
				continue
			}
			q := p.Row(min(max(sy, 0), p.H-1))[4*min(max(sx, 0), p.W-1):]
			for c := range 4 {
				sum[c] += uint32(q[c])
			}
		}
	}
	return sum
}

// enlargeFrom fills p with a picture f times smaller, with a cell more on every side, interpolated between its cells' centres.
func (p *RGBA) enlargeFrom(small *RGBA, f int) {
	type tap struct {
		at int
		k  uint32 // of the second, in 256
	}
	taps := func(n, have int) []tap {
		t := make([]tap, n)
		for i := range t {
			v := (float64(i)+0.5)/float64(f) + 0.5
			at := min(int(v), have-2)
			t[i] = tap{at, uint32(math.Round((v - float64(at)) * 256))}
		}
		return t
	}
	across, down := taps(p.W, small.W), taps(p.H, small.H)
	line := make([]uint32, 4*small.W) // a row between two of small's, in 256
	for y := range p.H {
		t := down[y]
		a, b := small.Row(t.at), small.Row(t.at+1)
		for i := range a {
			line[i] = uint32(a[i])*(256-t.k) + uint32(b[i])*t.k
		}
		row := p.Row(y)
		for x, t := range across {
			q, o := line[4*t.at:4*t.at+8:4*t.at+8], row[4*x:4*x+4:4*x+4]
			k := 256 - t.k
			o[0] = uint8((q[0]*k + q[4]*t.k + 32768) >> 16)
			o[1] = uint8((q[1]*k + q[5]*t.k + 32768) >> 16)
			o[2] = uint8((q[2]*k + q[6]*t.k + 32768) >> 16)
			o[3] = uint8((q[3]*k + q[7]*t.k + 32768) >> 16)
		}
	}
}

// blurPass blurs along rows and writes the result transposed: w×h pixels become h×w.
func blurPass(pix []uint8, stride, w, h int, sigma float64, edge Edge) []uint8 {
	if sigma < 2 {
		kernel := gaussian(sigma)
		return pass(pix, stride, w, h, len(kernel)/2, edge, func(line, next []uint16) []uint16 {
			convolve(next, line, kernel, len(kernel)/2, w)
			return next
		})
	}
	return boxPass(pix, stride, w, h, threeBoxes(sigma), edge)
}

func boxPass(pix []uint8, stride, w, h int, boxes [3]box, edge Edge) []uint8 {
	pad := 0
	for _, b := range boxes {
		pad += max(b.left, b.right) + 1
	}
	return pass(pix, stride, w, h, pad, edge, func(line, next []uint16) []uint16 {
		for _, b := range boxes {
			b.average(next, line)
			line, next = next, line
		}
		return line
	})
}

// pass hands each row, with pad pixels more on either side, to blur, which may write to both of its lines and
// says which one has the result.
func pass(pix []uint8, stride, w, h, pad int, edge Edge, blur func(line, next []uint16) []uint16) []uint8 {
	out := make([]uint8, 4*w*h)
	n := w + 2*pad
	line := make([]uint16, 4*n) // in units of 1/128, four channels side by side
	next := make([]uint16, 4*n)
	for y := range h {
		row := pix[y*stride:][:4*w]
		for i := range pad {
			for c := range 4 {
				before, after := uint16(row[c])<<7, uint16(row[4*(w-1)+c])<<7
				if edge == Faded {
					before, after = 0, 0
				}
				line[4*i+c], line[4*(pad+w+i)+c] = before, after
			}
		}
		for i, v := range row {
			line[4*pad+i] = uint16(v) << 7
		}
		middle := blur(line, next)[4*pad : 4*(pad+w)]
		for x := range w {
			q, o := middle[4*x:4*x+4:4*x+4], out[4*(x*h+y):]
			o[0], o[1], o[2], o[3] = uint8((q[0]+64)>>7), uint8((q[1]+64)>>7), uint8((q[2]+64)>>7), uint8((q[3]+64)>>7)
		}
	}
	return out
}

// box averages from left samples before to right samples behind, and of the next on either side so many 256ths.
type box struct {
	left, right int
	ends        uint64
}

// boxOf is the box of a variance.
func boxOf(variance float64) box {
	r := 0.0
	for (r+1)*(r+2)/3 <= variance {
		r++
	}
	size := 2*r + 1
	ends := (variance*size - r*(r+1)*size/3) / (2*(r+1)*(r+1) - 2*variance)
	return box{int(r), int(r), uint64(math.Round(max(ends, 0) * 256))}
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

// average writes running averages of src's pixels of four channels, whose ends are extended, into dst.
func (b box) average(dst, src []uint16) {
	n := len(src) / 4
	size := uint64(b.left+b.right+1)<<8 + 2*b.ends
	// Division by a constant: exact enough for 16 bits and sizes below 2^16.
	inverse, half := (1<<40+size/2)/size, uint64(1)<<39
	var s [4]uint64
	at := func(i int) []uint16 { i = min(max(i, 0), n-1); return src[4*i : 4*i+4] }
	for i := -b.left; i <= b.right; i++ {
		for c, v := range at(i) {
			s[c] += uint64(v)
		}
	}
	for i := range n {
		o := dst[4*i : 4*i+4 : 4*i+4]
		in, out := at(i+b.right+1), at(i-b.left)
		if b.ends == 0 {
			o[0], o[1] = uint16((s[0]<<8*inverse+half)>>40), uint16((s[1]<<8*inverse+half)>>40)
			o[2], o[3] = uint16((s[2]<<8*inverse+half)>>40), uint16((s[3]<<8*inverse+half)>>40)
		} else {
			before := at(i - b.left - 1)
			o[0] = uint16(((s[0]<<8+b.ends*uint64(uint32(in[0])+uint32(before[0])))*inverse + half) >> 40)
			o[1] = uint16(((s[1]<<8+b.ends*uint64(uint32(in[1])+uint32(before[1])))*inverse + half) >> 40)
			o[2] = uint16(((s[2]<<8+b.ends*uint64(uint32(in[2])+uint32(before[2])))*inverse + half) >> 40)
			o[3] = uint16(((s[3]<<8+b.ends*uint64(uint32(in[3])+uint32(before[3])))*inverse + half) >> 40)
		}
		s[0] += uint64(in[0]) - uint64(out[0])
		s[1] += uint64(in[1]) - uint64(out[1])
		s[2] += uint64(in[2]) - uint64(out[2])
		s[3] += uint64(in[3]) - uint64(out[3])
	}
}

// gaussian is a sampled Gaussian whose weights sum to 65536.
func gaussian(sigma float64) []uint32 {
	r := int(math.Ceil(3 * sigma))
	w := make([]float64, 2*r+1)
	var sum float64
	for i := range w {
		x := float64(i - r)
		w[i] = math.Exp(-x * x / (2 * sigma * sigma))
		sum += w[i]
	}
	k := make([]uint32, len(w))
	left := 65536
	for i := range w {
		k[i] = uint32(math.Round(w[i] / sum * 65536))
		left -= int(k[i])
	}
	k[r] = uint32(int(k[r]) + left)
	return k
}

func convolve(dst, src []uint16, kernel []uint32, pad, w int) {
	r := len(kernel) / 2
	for x := pad; x < pad+w; x++ {
		var sum [4]uint32
		for i, k := range kernel {
			q := src[4*(x-r+i):][:4:4]
			sum[0] += k * uint32(q[0])
			sum[1] += k * uint32(q[1])
			sum[2] += k * uint32(q[2])
			sum[3] += k * uint32(q[3])
		}
		for c := range 4 {
			dst[4*x+c] = uint16((sum[c] + 32768) >> 16)
		}
	}
}

// DropShadow puts the picture's own shadow under it: its alpha, blurred, shifted and coloured. colour is
// straight. The canvas stays as large as it is.
func (p *RGBA) DropShadow(dx, dy, sigma float64, colour [4]uint8) {
	shadow := NewRGBA(p.W, p.H)
	ox, oy := int(math.Floor(dx+0.5)), int(math.Floor(dy+0.5))
	// Blurred on a canvas with room around it, since what lies beyond the edge casts a shadow too.
	room := int(math.Ceil(3*sigma)) + 1
	room = min(room, p.W+p.H)
	large := NewRGBA(p.W+2*room, p.H+2*room)
	for y := range p.H {
		for x := range p.W {
			large.Pix[(y+room)*large.Stride+4*(x+room)+3] = p.Pix[y*p.Stride+4*x+3]
		}
	}
	large.Blur(sigma, Faded)
	for y := range p.H {
		for x := range p.W {
			sx, sy := x-ox+room, y-oy+room
			if sx < 0 || sy < 0 || sx >= large.W || sy >= large.H {
				continue
			}
			a := uint32(div255(uint32(large.Pix[sy*large.Stride+4*sx+3]) * uint32(colour[3])))
			i := y*shadow.Stride + 4*x
			shadow.Pix[i], shadow.Pix[i+1], shadow.Pix[i+2], shadow.Pix[i+3] = div255(uint32(colour[0])*a), div255(uint32(colour[1])*a), div255(uint32(colour[2])*a), uint8(a)
		}
	}
	shadow.Over(p, 0, 0)
	for y := range p.H {
		copy(p.Row(y), shadow.Row(y))
	}
}
