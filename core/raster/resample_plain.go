package raster

// The plain passes: the reference for the vectors, and what runs where there are none. They make two rows at
// once, whose sums share one 64-bit word, the second multiplied by 2³²: words add and multiply as numbers, and
// the lower half, read as a signed number and taken away, leaves the upper one exact. A pair of weights is such a
// word too, so one multiplication serves both rows.

const tempRound = 1 << (weightBits - tempBits - 1)

// together puts two numbers into a word.
func together(low, high int32) uint64 { return uint64(int64(low)) + uint64(uint32(high))<<32 }

// apart takes them out.
func apart(s uint64) (low, high int32) {
	low = int32(s)
	return low, int32((s - uint64(int64(low))) >> 32)
}

func resamplePlain(dst []uint8, dstStride int, src Plane, bx, by *bank, channels int, round int32) {
	n := (bx.hi - bx.lo) * channels
	temp := make([]uint64, n)
	var weights []uint64
	spare := make([]uint8, len(bx.start)*channels) // for the second row of the last pair, where there's none
	for i := 0; i < len(by.start); i += 2 {
		var first int
		first, weights = by.twoPlain(i, weights[:0])
		verticalPlain(temp, src.Pix[first*src.Stride+bx.lo*channels:], src.Stride, weights)
		a, b := dst[i*dstStride:][:len(spare)], spare
		if i+1 < len(by.start) {
			b = dst[(i+1)*dstStride:][:len(spare)]
		}
		if channels == 4 {
			horizontal4Plain(a, b, temp, bx, round)
		} else {
			horizontal1Plain(a, b, temp, bx, round)
		}
	}
}

// twoPlain is what the vertical pass needs for destination rows i and i+1: the first source row of either and
// both rows' weights from there on, appended to room. Beyond the last row there's nothing.
func (b *bank) twoPlain(i int, room []uint64) (first int, weights []uint64) {
	j := min(i+1, len(b.start)-1)
	a0, b0 := int(b.start[i]), int(b.start[j])
	first = min(a0, b0)
	weights = room
	for t := range max(a0, b0) + b.taps - first {
		var low, high int32
		if s := first + t - a0; s >= 0 && s < b.taps {
			low = int32(b.weights[i*b.taps+s])
		}
		if s := first + t - b0; j > i && s >= 0 && s < b.taps {
			high = int32(b.weights[j*b.taps+s])
		}
		weights = append(weights, together(low, high))
	}
	return first, weights
}

// verticalPlain makes temp[i] the weighted sums of column i over len(weights) rows, in Q6.
func verticalPlain(temp []uint64, rows []uint8, stride int, weights []uint64) {
	i := 0
	for ; i+8 <= len(temp); i += 8 {
		const r = tempRound | tempRound<<32
		var s0, s1, s2, s3, s4, s5, s6, s7 uint64 = r, r, r, r, r, r, r, r
		at := i
		for _, w := range weights {
			v := rows[at : at+8 : at+8]
			s0 += w * uint64(v[0])
			s1 += w * uint64(v[1])
			s2 += w * uint64(v[2])
			s3 += w * uint64(v[3])
			s4 += w * uint64(v[4])
			s5 += w * uint64(v[5])
			s6 += w * uint64(v[6])
			s7 += w * uint64(v[7])
			at += stride
		}
		t := temp[i : i+8 : i+8]
		t[0], t[1], t[2], t[3] = toTemp(s0), toTemp(s1), toTemp(s2), toTemp(s3)
		t[4], t[5], t[6], t[7] = toTemp(s4), toTemp(s5), toTemp(s6), toTemp(s7)
	}
	for ; i < len(temp); i++ {
		s := uint64(tempRound | tempRound<<32)
		for t, w := range weights {
			s += w * uint64(rows[t*stride+i])
		}
		temp[i] = toTemp(s)
	}
}

func toTemp(s uint64) uint64 {
	low, high := apart(s)
	return together(low>>(weightBits-tempBits), high>>(weightBits-tempBits))
}

func horizontal1Plain(a, b []uint8, temp []uint64, bx *bank, round int32) {
	first := together(round, round)
	for i := range a {
		w := bx.weights[i*bx.taps : (i+1)*bx.taps]
		s := temp[int(bx.start[i])-bx.lo:][:len(w)]
		sum := first
		for j, v := range w {
			sum += uint64(int64(v)) * s[j]
		}
		a[i], b[i] = toBytes(sum)
	}
}

func horizontal4Plain(a, b []uint8, temp []uint64, bx *bank, round int32) {
	first := together(round, round)
	for i := range bx.start {
		w := bx.weights[i*bx.taps : (i+1)*bx.taps]
		s := temp[4*(int(bx.start[i])-bx.lo):][:4*len(w)]
		s0, s1, s2, s3 := first, first, first, first
		for _, v := range w {
			k := uint64(int64(v))
			p := s[:4:4]
			s = s[4:]
			s0 += k * p[0]
			s1 += k * p[1]
			s2 += k * p[2]
			s3 += k * p[3]
		}
		p, q := a[4*i:4*i+4:4*i+4], b[4*i:4*i+4:4*i+4]
		p[0], q[0] = toBytes(s0)
		p[1], q[1] = toBytes(s1)
		p[2], q[2] = toBytes(s2)
		p[3], q[3] = toBytes(s3)
	}
}

func toBytes(s uint64) (a, b uint8) {
	low, high := apart(s)
	return clamp8(low >> (weightBits + tempBits)), clamp8(high >> (weightBits + tempBits))
}

func clamp8(v int32) uint8 { return uint8(min(max(v, 0), 255)) }
