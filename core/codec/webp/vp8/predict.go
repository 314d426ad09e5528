package vp8

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
// samples beyond it.
type edge [13]uint8

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
			e[9], e[10], e[11], e[12] = v, v, v, v
			return
		}
		copy(e[9:], m.pix[right:right+4])
		return
	}
	copy(e[9:], m.pix[at-m.stride+4:at-m.stride+8])
}

func avg2(a, b uint8) uint8    { return uint8((uint(a) + uint(b) + 1) >> 1) }
func avg3(a, b, c uint8) uint8 { return uint8((uint(a) + 2*uint(b) + uint(c) + 2) >> 2) }

// small predicts a block of 4×4 (RFC 6386, section 12.3).
func (e *edge) small(mode uint8, out *[16]uint8) {
	const corner = 4
	switch mode {
	case smallMean:
		sum := uint(4)
		for i := range 4 {
			sum += uint(e[i]) + uint(e[5+i])
		}
		for i := range out {
			out[i] = uint8(sum >> 3)
		}
	case smallSlope:
		for y := range 4 {
			by := int32(e[3-y]) - int32(e[corner])
			for x := range 4 {
				out[4*y+x] = clamp(by + int32(e[5+x]))
			}
		}
	case smallDown:
		for x := range 4 {
			v := avg3(e[4+x], e[5+x], e[6+x])
			out[x], out[4+x], out[8+x], out[12+x] = v, v, v, v
		}
	case smallAcross:
		for y := range 4 {
			v := avg3(e[max(0, 2-y)], e[3-y], e[4-y])
			out[4*y], out[4*y+1], out[4*y+2], out[4*y+3] = v, v, v, v
		}
	case smallDownLeft:
		for i := range 7 {
			v := avg3(e[5+i], e[6+i], e[min(12, 7+i)])
			for y := max(0, i-3); y <= min(3, i); y++ {
				out[4*y+i-y] = v
			}
		}
	case smallDownRight:
		for i := range 7 {
			v := avg3(e[i], e[i+1], e[i+2])
			for x := max(0, i-3); x <= min(3, i); x++ {
				out[4*(x+3-i)+x] = v
			}
		}
	case smallVerticalRight:
		out[12] = avg3(e[1], e[2], e[3])
		out[8] = avg3(e[2], e[3], e[4])
		out[13] = avg3(e[3], e[4], e[5])
		out[4] = out[13]
		out[9] = avg2(e[4], e[5])
		out[0] = out[9]
		out[14] = avg3(e[4], e[5], e[6])
		out[5] = out[14]
		out[10] = avg2(e[5], e[6])
		out[1] = out[10]
		out[15] = avg3(e[5], e[6], e[7])
		out[6] = out[15]
		out[11] = avg2(e[6], e[7])
		out[2] = out[11]
		out[7] = avg3(e[6], e[7], e[8])
		out[3] = avg2(e[7], e[8])
	case smallVerticalLeft:
		a := e[5:]
		out[0] = avg2(a[0], a[1])
		out[4] = avg3(a[0], a[1], a[2])
		out[8] = avg2(a[1], a[2])
		out[1] = out[8]
		out[5] = avg3(a[1], a[2], a[3])
		out[12] = out[5]
		out[9] = avg2(a[2], a[3])
		out[2] = out[9]
		out[13] = avg3(a[2], a[3], a[4])
		out[6] = out[13]
		out[10] = avg2(a[3], a[4])
		out[3] = out[10]
		out[14] = avg3(a[3], a[4], a[5])
		out[7] = out[14]
		out[11] = avg3(a[4], a[5], a[6])
		out[15] = avg3(a[5], a[6], a[7])
	case smallHorizontalDown:
		out[12] = avg2(e[0], e[1])
		out[13] = avg3(e[0], e[1], e[2])
		out[8] = avg2(e[1], e[2])
		out[14] = out[8]
		out[9] = avg3(e[1], e[2], e[3])
		out[15] = out[9]
		out[10] = avg2(e[2], e[3])
		out[4] = out[10]
		out[11] = avg3(e[2], e[3], e[4])
		out[5] = out[11]
		out[6] = avg2(e[3], e[4])
		out[0] = out[6]
		out[7] = avg3(e[3], e[4], e[5])
		out[1] = out[7]
		out[2] = avg3(e[4], e[5], e[6])
		out[3] = avg3(e[5], e[6], e[7])
	case smallHorizontalUp:
		l0, l1, l2, l3 := e[3], e[2], e[1], e[0]
		out[0] = avg2(l0, l1)
		out[1] = avg3(l0, l1, l2)
		out[2] = avg2(l1, l2)
		out[4] = out[2]
		out[3] = avg3(l1, l2, l3)
		out[5] = out[3]
		out[6] = avg2(l2, l3)
		out[8] = out[6]
		out[7] = avg3(l2, l3, l3)
		out[9] = out[7]
		out[10], out[11], out[12], out[13], out[14], out[15] = l3, l3, l3, l3, l3, l3
	}
}
