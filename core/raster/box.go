package raster

// box reduces by whole fx and fy: each sample is the rounded mean of its cell. Cells at the right and
// bottom may be smaller.
func (p Plane) box(fx, fy, channels int) Plane {
	w, h := (p.W+fx-1)/fx, (p.H+fy-1)/fy
	dst := PooledPlane(w, h, Stride(w*channels))
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
		out := dst.Pix[y*dst.Stride:][:w*channels]
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
