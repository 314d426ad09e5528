package vp8

import "encoding/binary"

// The modes of whole macroblocks, in luma and in colour (RFC 6386, section 8.2).
const (
	meanMode = iota
	downMode // as the row above
	acrossMode
	slopeMode
	modes
	bySmall = modes // luma in blocks of 4×4, each with a mode of its own
)

// The modes of blocks of 4×4 (RFC 6386, section 8.3).
const (
	smallMean = iota
	smallSlope
	smallDown
	smallAcross
	smallDownRight
	smallVerticalRight
	smallDownLeft
	smallVerticalLeft
	smallHorizontalDown
	smallHorizontalUp
	smallModes
)

// asSmall is what a macroblock's mode counts as for its neighbours' small blocks.
var asSmall = [modes]uint8{smallMean, smallDown, smallAcross, smallSlope}

// made is a plane as a decoder makes it, before its loop filter, with a border above and on the left.
type made struct {
	pix    []uint8
	stride int
}

const border = 16

// newMade has the borders that predictions begin with: 127 above, 129 on the left (RFC 6386, section 12.2).
func newMade(w, h int) made {
	m := made{stride: w + 2*border}
	m.pix = make([]uint8, m.stride*(h+1))
	for x := range m.stride {
		m.pix[x] = 127
	}
	for y := 1; y <= h; y++ {
		m.pix[y*m.stride+border-1] = 129
	}
	return m
}

// at is where a sample lies.
func (m *made) at(x, y int) int { return (y+1)*m.stride + border + x }

func clamp(v int32) uint8 {
	if uint32(v) > 255 {
		return uint8(^(v >> 31))
	}
	return uint8(v)
}

// block predicts n×n samples at (x, y) from the row above and the column on the left (RFC 6386, sections 12.2, 12.3).
func (m *made) block(mode uint8, x, y, n int, out []uint8) {
	at := m.at(x, y)
	above := m.pix[at-m.stride:][:n]
	switch mode {
	case meanMode:
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
	case downMode:
		for i := range n {
			copy(out[i*n:i*n+n], above)
		}
	case acrossMode:
		for i := range n {
			v := m.pix[at+i*m.stride-1]
			row := out[i*n : i*n+n]
			for j := range row {
				row[j] = v
			}
		}
	case slopeMode:
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

// edge is what a small block is predicted from: the column on the left from below, the corner, the row above and four
// samples beyond it, the last of them once more; what follows is never looked at.
type edge [24]uint8

// edge gathers a small block's at (x, y). Blocks that aren't at the top of their macroblock take what lies above and
// to the right of that instead of what isn't made yet; beyond the last macroblock it is the last sample again.
func (m *made) edge(x, y int, last bool, e *edge) {
	at := m.at(x, y)
	for i := range 4 {
		e[3-i] = m.pix[at+i*m.stride-1]
	}
	copy(e[4:9], m.pix[at-m.stride-1:])
	if x&15 == 12 {
		right := m.at(x+4, y&^15-1)
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

// Eight samples at once, the first in the lowest byte: the means of two, rounded up and down.
func upper(a, b uint64) uint64 { return a | b - (a^b)>>1&0x7f7f7f7f7f7f7f7f }
func lower(a, b uint64) uint64 { return a&b + (a^b)>>1&0x7f7f7f7f7f7f7f7f }

// four is a sample four times.
func four(v uint64) uint32 { return uint32(v&255) * 0x01010101 }

// spread is four samples with nothing behind each.
func spread(v uint32) uint64 {
	x := uint64(v)
	x = (x | x<<16) & 0x0000ffff0000ffff
	return (x | x<<8) & 0x00ff00ff00ff00ff
}

// slope is the row above and a sample on the left, less the corner, clamped (RFC 6386, section 12.2).
func slope(above uint64, left, corner uint8) uint32 {
	const ones = 0x0001000100010001
	sum := above + (256+uint64(left)-uint64(corner))*ones // 256 too much
	over := sum >> 9 & ones
	in := sum>>8&ones | over
	sum = (sum | over*255) & (in * 255)
	sum = (sum | sum>>8) & 0x0000ffff0000ffff
	return uint32(sum | sum>>16)
}

// small predicts a block of 4×4 by all modes, one after the other (RFC 6386, section 12.3).
func (e *edge) small(out *[16 * smallModes]uint8) {
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
	rows(smallMean, v, v, v, v)
	above := spread(uint32(at(5)))
	rows(smallSlope, slope(above, e[3], e[4]), slope(above, e[2], e[4]), slope(above, e[1], e[4]), slope(above, e[0], e[4]))
	v = uint32(three >> 32)
	rows(smallDown, v, v, v, v)
	rows(smallAcross, four(three>>16), four(three>>8), four(three), four(lowest))
	rows(smallDownRight, uint32(three>>24), uint32(three>>16), uint32(three>>8), uint32(three))
	a, b := uint32(two>>32), uint32(three>>24)
	rows(smallVerticalRight, a, b, a<<8|uint32(three>>16)&255, b<<8|uint32(three>>8)&255)
	rows(smallDownLeft, uint32(threeAbove), uint32(threeAbove>>8), uint32(threeAbove>>16), uint32(threeAbove>>24))
	rows(smallVerticalLeft, uint32(twoAbove), uint32(threeAbove), uint32(twoAbove>>8)&0xffffff|uint32(threeAbove>>32)<<24,
		uint32(threeAbove>>8)&0xffffff|uint32(threeAbove>>40)<<24)
	turns := spread(uint32(two)) | spread(uint32(three))<<8
	rows(smallHorizontalDown, uint32(turns>>48)|uint32(three>>32)<<16, uint32(turns>>32), uint32(turns>>16), uint32(turns))
	b = uint32(two>>8)&255 | uint32(three)&255<<8
	c := uint32(two)&255 | uint32(lowest)<<8
	rows(smallHorizontalUp, uint32(two>>16)&255|uint32(three>>8)&255<<8|b<<16, b|c<<16, c|four(uint64(e[0]))<<16, four(uint64(e[0])))
}
