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

// ToLimited gives a copy of a Full picture in Limited range.
func (p *YCbCr) ToLimited() *YCbCr {
	out := New420(p.W, p.H, Limited)
	var light, colour [256]uint8
	for i := range light {
		light[i] = uint8((i*219+127)/255 + 16)
		colour[i] = uint8(min(240, max(16, ((i-128)*224+128*255+127)/255)))
	}
	for i, planes := range [3][2]Plane{{p.Y, out.Y}, {p.Cb, out.Cb}, {p.Cr, out.Cr}} {
		table := &colour
		if i == 0 {
			table = &light
		}
		for y := range planes[1].H {
			to := planes[1].Row(y)
			for x, v := range planes[0].Row(y)[:len(to)] {
				to[x] = table[v]
			}
		}
	}
	return out
}
