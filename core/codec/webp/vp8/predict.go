package vp8

import "encoding/binary"

// The macroblock prediction modes, of luma and of chroma (RFC 6386, section 8.2).
const (
	dcPred = iota
	vPred
	hPred
	tmPred
	mbModes
	bPred = mbModes // each luma subblock has a mode of its own
)

// The subblock prediction modes (RFC 6386, section 8.3).
const (
	bDCPred = iota
	bTMPred
	bVEPred
	bHEPred
	bRDPred
	bVRPred
	bLDPred
	bVLPred
	bHDPred
	bHUPred
	bModes
)

// impliedBMode is the subblock mode that a macroblock mode stands for in the contexts of its neighbours.
var impliedBMode = [mbModes]uint8{bDCPred, bVEPred, bHEPred, bTMPred}

// reconstruction is a plane as a decoder has it before the loop filter, with a border above and on the left.
type reconstruction struct {
	pix    []uint8
	stride int
}

const border = 16

// reset sets the border that prediction begins with: 127 above, 129 on the left (RFC 6386, section 12.2).
func (m *reconstruction) reset(w, h int) {
	m.stride = w + 2*border
	m.pix = sized(m.pix, m.stride*(h+1))
	for x := range m.stride {
		m.pix[x] = 127
	}
	for y := 1; y <= h; y++ {
		m.pix[y*m.stride+border-1] = 129
	}
}

// offset is the place of a sample in pix.
func (m *reconstruction) offset(x, y int) int { return (y+1)*m.stride + border + x }

func clamp(v int32) uint8 {
	if uint32(v) > 255 {
		return uint8(^(v >> 31))
	}
	return uint8(v)
}

// predict predicts n×n samples at (x, y) from the row above and the column on the left (RFC 6386, sections 12.2, 12.3).
func (m *reconstruction) predict(mode uint8, x, y, n int, out []uint8) {
	at := m.offset(x, y)
	above := m.pix[at-m.stride:][:n]
	switch mode {
	case dcPred:
		sum, count := 0, 0
		if y > 0 {
			for _, v := range above {
				sum += int(v)
			}
			count += n
		}
		if x > 0 {
			for i := range n {
				sum += int(m.pix[at+i*m.stride-1])
			}
			count += n
		}
		mean := uint8(128)
		if count > 0 {
			mean = uint8((sum + count/2) / count)
		}
		for i := range out[:n*n] {
			out[i] = mean
		}
	case vPred:
		for i := range n {
			copy(out[i*n:i*n+n], above)
		}
	case hPred:
		for i := range n {
			v := m.pix[at+i*m.stride-1]
			row := out[i*n : i*n+n]
			for j := range row {
				row[j] = v
			}
		}
	case tmPred:
		corner := int32(m.pix[at-m.stride-1])
		for i := range n {
			by := int32(m.pix[at+i*m.stride-1]) - corner
			row := out[i*n : i*n+n]
			for j := range row {
				row[j] = clamp(by + int32(above[j]))
			}
		}
	}
}

// edge holds the neighbours of a subblock: the left column from below, the corner, the row above and four samples to its
// right, the last of them twice. The rest is padding.
type edge [24]uint8

// edge gathers the neighbours of the subblock at (x, y). Below a macroblock's top row, what is above and to the right isn't
// reconstructed yet: the samples above and to the right of the macroblock stand in (RFC 6386, section 12.3). Beyond the
// last macroblock the last sample is repeated.
func (m *reconstruction) edge(x, y int, last bool, e *edge) {
	at := m.offset(x, y)
	for i := range 4 {
		e[3-i] = m.pix[at+i*m.stride-1]
	}
	copy(e[4:9], m.pix[at-m.stride-1:])
	if x&15 == 12 {
		right := m.offset(x+4, y&^15-1)
		if last && y >= 16 {
			v := m.pix[right-1]
			e[9], e[10], e[11], e[12], e[13] = v, v, v, v, v
			return
		}
		copy(e[9:13], m.pix[right:right+4])
	} else {
		copy(e[9:13], m.pix[at-m.stride+4:at-m.stride+8])
	}
	e[13] = e[12]
}

// upper and lower average eight pairs of samples at once, rounding up and down.
func upper(a, b uint64) uint64 { return a | b - (a^b)>>1&0x7f7f7f7f7f7f7f7f }
func lower(a, b uint64) uint64 { return a&b + (a^b)>>1&0x7f7f7f7f7f7f7f7f }

// four repeats a sample four times.
func four(v uint64) uint32 { return uint32(v&255) * 0x01010101 }

// spread widens four samples to 16 bits each.
func spread(v uint32) uint64 {
	x := uint64(v)
	x = (x | x<<16) & 0x0000ffff0000ffff
	return (x | x<<8) & 0x00ff00ff00ff00ff
}

// slope is a row of TrueMotion prediction: above + left − corner, clamped (RFC 6386, section 12.2).
func slope(above uint64, left, corner uint8) uint32 {
	const ones = 0x0001000100010001
	sum := above + (256+uint64(left)-uint64(corner))*ones // 256 too much
	over := sum >> 9 & ones
	in := sum>>8&ones | over
	sum = (sum | over*255) & (in * 255)
	sum = (sum | sum>>8) & 0x0000ffff0000ffff
	return uint32(sum | sum>>16)
}

// small predicts a subblock by all modes, one after the other (RFC 6386, section 12.3).
func (e *edge) small(out *[16 * bModes]uint8) {
	at := func(i int) uint64 { return binary.LittleEndian.Uint64(e[i:]) }
	// The means of two and of three samples from the first on, and from the row above on.
	two, three := upper(at(0), at(1)), upper(lower(at(0), at(2)), at(1))
	twoAbove, threeAbove := upper(at(5), at(6)), upper(lower(at(5), at(7)), at(6))
	lowest := (3*uint64(e[0]) + uint64(e[1]) + 2) >> 2

	rows := func(mode int, a, b, c, d uint32) {
		to := out[16*mode : 16*mode+16]
		binary.LittleEndian.PutUint32(to, a)
		binary.LittleEndian.PutUint32(to[4:], b)
		binary.LittleEndian.PutUint32(to[8:], c)
		binary.LittleEndian.PutUint32(to[12:], d)
	}
	sum := uint64(4)
	for i := range 4 {
		sum += uint64(e[i]) + uint64(e[5+i])
	}
	v := four(sum >> 3)
	rows(bDCPred, v, v, v, v)
	above := spread(uint32(at(5)))
	rows(bTMPred, slope(above, e[3], e[4]), slope(above, e[2], e[4]), slope(above, e[1], e[4]), slope(above, e[0], e[4]))
	v = uint32(three >> 32)
	rows(bVEPred, v, v, v, v)
	rows(bHEPred, four(three>>16), four(three>>8), four(three), four(lowest))
	rows(bRDPred, uint32(three>>24), uint32(three>>16), uint32(three>>8), uint32(three))
	a, b := uint32(two>>32), uint32(three>>24)
	rows(bVRPred, a, b, a<<8|uint32(three>>16)&255, b<<8|uint32(three>>8)&255)
	rows(bLDPred, uint32(threeAbove), uint32(threeAbove>>8), uint32(threeAbove>>16), uint32(threeAbove>>24))
	rows(bVLPred, uint32(twoAbove), uint32(threeAbove), uint32(twoAbove>>8)&0xffffff|uint32(threeAbove>>32)<<24,
		uint32(threeAbove>>8)&0xffffff|uint32(threeAbove>>40)<<24)
	turns := spread(uint32(two)) | spread(uint32(three))<<8
	rows(bHDPred, uint32(turns>>48)|uint32(three>>32)<<16, uint32(turns>>32), uint32(turns>>16), uint32(turns))
	b = uint32(two>>8)&255 | uint32(three)&255<<8
	c := uint32(two)&255 | uint32(lowest)<<8
	rows(bHUPred, uint32(two>>16)&255|uint32(three>>8)&255<<8|b<<16, b|c<<16, c|four(uint64(e[0]))<<16, four(uint64(e[0])))
}
