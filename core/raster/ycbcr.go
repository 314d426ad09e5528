package raster

// To420 makes planes of an opaque picture (BT.601 as JFIF has it, Full range), colour at half the size by the mean
// of four pixels.
func (p *RGBA) To420() *YCbCr {
	out := New420(p.W, p.H, Full)
	for y := 0; y < p.H; y += 2 {
		cb, cr := out.Cb.Row(y/2), out.Cr.Row(y/2)
		a, b := p.Row(y), p.Row(min(y+1, p.H-1))
		la, lb := out.Y.Row(y), out.Y.Row(min(y+1, p.H-1))
		for x := 0; x < p.W; x += 2 {
			x1 := min(x+1, p.W-1)
			var red, green, blue int32
			for _, q := range [4][]uint8{a[4*x:], a[4*x1:], b[4*x:], b[4*x1:]} {
				red, green, blue = red+int32(q[0]), green+int32(q[1]), blue+int32(q[2])
			}
			la[x], la[x1], lb[x], lb[x1] = luma(a[4*x:]), luma(a[4*x1:]), luma(b[4*x:]), luma(b[4*x1:])
			const half = 1 << 17
			cb[x/2] = uint8(min(255, max(0, (-11059*red-21709*green+32768*blue+half)>>18+128)))
			cr[x/2] = uint8(min(255, max(0, (32768*red-27439*green-5329*blue+half)>>18+128)))
		}
	}
	return out
}

func luma(q []uint8) uint8 {
	return uint8((19595*uint32(q[0]) + 38470*uint32(q[1]) + 7471*uint32(q[2]) + 32768) >> 16)
}

// LargeArea is from how many pixels on it is worth it that two goroutines look at a picture's planes: below it takes longer to wake
// another than it saves.
const LargeArea = 1_000_000

// A limiter takes samples of Full range to Limited range: (v×scale + offset)/255 + low, rounded down.
type limiter struct{ scale, offset, low uint16 }

var limitLuma, limitColour = limiter{219, 127, 16}, limiter{224, 127 + 128*(255-224), 0}

func (l limiter) rowPlain(from, to []uint8) {
	for x, v := range from {
		to[x] = uint8((uint16(v)*l.scale+l.offset)/255 + l.low)
	}
}

// ToLimited gives a copy of a Full picture in Limited range.
func (p *YCbCr) ToLimited() *YCbCr {
	out := New420(p.W, p.H, Limited)
	for i, planes := range [3][2]Plane{{p.Y, out.Y}, {p.Cb, out.Cb}, {p.Cr, out.Cr}} {
		l := limitColour
		if i == 0 {
			l = limitLuma
		}
		for y := range planes[1].H {
			to := planes[1].Row(y)
			l.row(planes[0].Row(y)[:len(to)], to)
		}
	}
	return out
}
