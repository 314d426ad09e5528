package avif

import "echolane/core/metadata"

// QuantizerOf reads how coarsely a still was written, as Settings.Quantizer says it. ok is false for sequences, for
// grids, and for what isn't written as a still with AV1's reduced header (AV1, sections 5.5, 5.9 and 5.9.12).
func QuantizerOf(data []byte) (quantizer int, ok bool) {
	var seq sequence
	known := false
	for obus := metadata.Primary(data, "av01"); len(obus) > 1; {
		kind, extended, sized := obus[0]>>3&15, obus[0]>>2&1 == 1, obus[0]>>1&1 == 1
		head := 1
		if extended {
			head++
		}
		n := len(obus) - head
		if sized {
			var length int
			if n, length = leb128(obus[head:]); length == 0 {
				return 0, false
			}
			head += length
		}
		if n < 0 || head+n > len(obus) {
			return 0, false
		}
		body := &bitReader{data: obus[head : head+n]}
		switch kind {
		case 1:
			if seq, known = readSequence(body); !known {
				return 0, false
			}
		case 3, 6: // a frame's header, or a frame with it
			if !known {
				return 0, false
			}
			index := seq.frame(body)
			return index / 4, !body.over // libavif's scale, but for its last two steps
		}
		obus = obus[head+n:]
	}
	return 0, false
}

func leb128(b []byte) (v, length int) {
	for i := 0; i < len(b) && i < 4; i++ {
		v |= int(b[i]&0x7f) << (7 * i)
		if b[i]&0x80 == 0 {
			return v, i + 1
		}
	}
	return 0, 0
}

type bitReader struct {
	data []byte
	at   int
	over bool
}

func (r *bitReader) bits(n int) (v int) {
	for range n {
		if r.at>>3 >= len(r.data) {
			r.over = true
			return 0
		}
		v = v<<1 | int(r.data[r.at>>3]>>(7-r.at&7)&1)
		r.at++
	}
	return v
}

func (r *bitReader) flag() bool { return r.bits(1) == 1 }

// sequence is what a frame's header needs of the sequence's.
type sequence struct {
	width, height    int
	largeSuperblocks bool
	superresolution  bool
}

func readSequence(r *bitReader) (s sequence, ok bool) {
	r.bits(3) // profile
	still, reduced := r.flag(), r.flag()
	if !still || !reduced {
		return s, false
	}
	r.bits(5) // level
	wide, high := r.bits(4)+1, r.bits(4)+1
	s.width, s.height = r.bits(wide)+1, r.bits(high)+1
	s.largeSuperblocks = r.flag()
	r.bits(2) // filter-intra, edge filter
	s.superresolution = r.flag()
	return s, !r.over
}

// frame reads up to the frame's quantizer index, 0–255, of an intra frame with the reduced header: there screen content
// tools are chosen by the frame, and so is whether vectors are whole.
func (s sequence) frame(r *bitReader) int {
	r.flag() // whether CDFs stay
	screen := r.flag()
	if screen {
		r.flag() // whole vectors
	}
	upscaled := false
	width := s.width
	if s.superresolution {
		if upscaled = r.flag(); upscaled {
			denominator := r.bits(3) + 9
			width = (s.width*8 + denominator/2) / denominator
		}
	}
	if r.flag() { // shown at another size
		r.bits(32)
	}
	if screen && !upscaled {
		r.flag() // block copy
	}
	s.tiles(r, width)
	return r.bits(8)
}

// tiles reads past how the frame is cut into tiles (AV1, section 5.9.15).
func (s sequence) tiles(r *bitReader, width int) {
	columns, rows := 2*((width+7)>>3), 2*((s.height+7)>>3) // of 4×4 samples
	shift := 4
	if s.largeSuperblocks {
		shift = 5
	}
	across, down := (columns+1<<shift-1)>>shift, (rows+1<<shift-1)>>shift // superblocks
	side := shift + 2
	mostWide, mostArea := 4096>>side, 4096*2304>>(2*side)
	log2 := func(unit, target int) (k int) {
		for unit<<k < target {
			k++
		}
		return k
	}
	leastColumns := log2(mostWide, across)
	mostColumns, mostRows := log2(1, min(across, 64)), log2(1, min(down, 64))
	least := max(leastColumns, log2(mostArea, across*down))
	increment := func(from, most int) int {
		for from < most && r.flag() {
			from++
		}
		return from
	}
	cut := 0
	if r.flag() { // even
		cut = increment(leastColumns, mostColumns)
		cut += increment(max(0, least-cut), mostRows)
	} else {
		widest := 0
		pick := func(total, most int) (n int) {
			for done := 0; done < total && !r.over; n++ {
				size := 1 + r.uneven(min(total-done, most))
				widest = max(widest, size)
				done += size
			}
			return n
		}
		n := pick(across, mostWide)
		area := across * down
		if least > 0 {
			area >>= least + 1
		}
		m := pick(down, max(1, area/max(1, widest)))
		cut = log2(1, n) + log2(1, m)
	}
	if cut > 0 {
		r.bits(cut + 2) // which tile's contexts are kept, how many bytes a size takes
	}
}

// uneven reads a number below n whose lower values take a bit less (AV1, section 4.10.7).
func (r *bitReader) uneven(n int) int {
	w := 0
	for x := n; x > 0; x >>= 1 {
		w++
	}
	m := 1<<w - n
	v := r.bits(w - 1)
	if v < m {
		return v
	}
	return v<<1 - m + r.bits(1)
}
