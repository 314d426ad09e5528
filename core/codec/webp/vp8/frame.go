package vp8

import (
	"errors"
	"slices"
)

// chances are those of the branches of a coefficient's tree, by the kind of its block, the band of its place and how
// large the one before it was (RFC 6386, section 13.3).
type chances [kinds][bands][3][branches]uint8

// The kinds of blocks of coefficients.
const (
	kindAfterMeans = iota // luma whose means are in a block of their own
	kindMeans
	kindColour
	kindWhole
	kinds
	bands = 8
)

// segments is how many groups of macroblocks may have quantizers of their own.
const segments = 4

// A macroblock is how 16×16 pixels are predicted.
type macroblock struct {
	mode, colour uint8
	segment      uint8
	small        [16]uint8 // where mode is bySmall
}

// header is what a frame says once, as far as it is of use here.
type header struct {
	w, h           int
	segmented      bool
	index          [segments]int // the quantizers, 0–127
	level          [segments]int // of the loop filter, 0–63
	simple         bool          // the loop filter's kind
	sharpness      int
	meansDC        int // how much finer or coarser than their index: the block of means, and colour
	meansAC        int
	lumaDC         int
	colourDC       int
	colourAC       int
	segmentChances [3]uint8
	chances        chances
}

var (
	errBroken = errors.New("the VP8 frame is broken")
	errLarge  = errors.New("the picture has more modes than a VP8 frame holds")
)

// begun reads what comes before the chances of coefficients (RFC 6386, sections 9.1–9.6 and 19.2), and whether the
// segments are mapped.
func begun(frame []byte) (h *header, r *boolReader, mapped bool, err error) {
	if len(frame) < 11 || frame[0]&1 != 0 || frame[3] != 0x9d || frame[4] != 0x01 || frame[5] != 0x2a {
		return nil, nil, false, errBroken
	}
	h = &header{
		w:              int(frame[6]) | int(frame[7]&0x3f)<<8,
		h:              int(frame[8]) | int(frame[9]&0x3f)<<8,
		chances:        usual,
		segmentChances: [3]uint8{255, 255, 255},
	}
	r = newBoolReader(frame[10:])
	r.number(2) // colour space, clamping
	absolute := false
	var index, level [segments]int
	if h.segmented = r.flag(); h.segmented {
		mapped = r.flag()
		if r.flag() {
			absolute = r.flag()
			for i := range index {
				index[i] = r.signed(7)
			}
			for i := range level {
				level[i] = r.signed(6)
			}
		}
		if mapped {
			for i := range h.segmentChances {
				if r.flag() {
					h.segmentChances[i] = uint8(r.number(8))
				}
			}
		}
	}
	h.simple = r.flag()
	filter := r.number(6)
	h.sharpness = r.number(3)
	if r.flag() && r.flag() {
		for range 8 {
			r.signed(6)
		}
	}
	r.number(2) // partitions
	base := r.number(7)
	for i := range segments {
		if absolute {
			h.index[i], h.level[i] = index[i], level[i]
		} else {
			h.index[i], h.level[i] = base+index[i], filter+level[i]
		}
		h.index[i], h.level[i] = min(127, max(0, h.index[i])), min(63, max(0, h.level[i]))
	}
	for _, d := range []*int{&h.lumaDC, &h.meansDC, &h.meansAC, &h.colourDC, &h.colourAC} {
		*d = r.signed(4)
	}
	if r.over || h.w == 0 || h.h == 0 {
		return nil, nil, false, errBroken
	}
	return h, r, mapped, nil
}

// Index is how coarsely a key frame was written: the index of luma's steps, 0 (finest) to 127; where there are
// segments, the finest one's.
func Index(frame []byte) (index int, ok bool) {
	h, _, _, err := begun(frame)
	if err != nil {
		return 0, false
	}
	if h.segmented {
		return slices.Min(h.index[:]), true
	}
	return h.index[0], true
}

// read takes the header and the modes from a key frame that an encoder wrote.
func read(frame []byte) (*header, []macroblock, error) {
	h, r, mapped, err := begun(frame)
	if err != nil {
		return nil, nil, err
	}
	r.flag() // chances kept for the next frame
	for t := range h.chances {
		for b := range h.chances[t] {
			for c := range h.chances[t][b] {
				for i := range h.chances[t][b][c] {
					if r.get(changed[t][b][c][i]) {
						h.chances[t][b][c][i] = uint8(r.number(8))
					}
				}
			}
		}
	}
	skips, skipped := r.flag(), uint8(0)
	if skips {
		skipped = uint8(r.number(8))
	}
	across, down := (h.w+15)/16, (h.h+15)/16
	blocks := make([]macroblock, across*down)
	above := make([]uint8, 4*across)
	for y := range down {
		var left [4]uint8
		for x := range across {
			m := &blocks[y*across+x]
			if mapped {
				if r.get(h.segmentChances[0]) {
					m.segment = 2
					if r.get(h.segmentChances[2]) {
						m.segment = 3
					}
				} else if r.get(h.segmentChances[1]) {
					m.segment = 1
				}
			}
			if skips {
				r.get(skipped)
			}
			readModes(r, m, above[4*x:4*x+4], &left)
		}
		if r.over {
			return nil, nil, errBroken
		}
	}
	return h, blocks, nil
}

func readModes(r *boolReader, m *macroblock, above []uint8, left *[4]uint8) {
	if r.get(145) {
		if r.get(156) {
			m.mode = acrossMode
			if r.get(128) {
				m.mode = slopeMode
			}
		} else if r.get(163) {
			m.mode = downMode
		}
		for i := range 4 {
			above[i], left[i] = asSmall[m.mode], asSmall[m.mode]
		}
	} else {
		m.mode = bySmall
		for y := range 4 {
			for x := range 4 {
				v := readSmall(r, &placed[above[x]][left[y]])
				m.small[4*y+x], above[x], left[y] = v, v, v
			}
		}
	}
	if r.get(142) {
		if !r.get(114) {
			m.colour = downMode
		} else if m.colour = acrossMode; r.get(183) {
			m.colour = slopeMode
		}
	}
}

// readSmall walks the tree of RFC 6386, section 11.2.
func readSmall(r *boolReader, p *[smallModes - 1]uint8) uint8 {
	switch {
	case !r.get(p[0]):
		return smallMean
	case !r.get(p[1]):
		return smallSlope
	case !r.get(p[2]):
		return smallDown
	case !r.get(p[3]):
		if !r.get(p[4]) {
			return smallAcross
		} else if !r.get(p[5]) {
			return smallDownRight
		}
		return smallVerticalRight
	case !r.get(p[6]):
		return smallDownLeft
	case !r.get(p[7]):
		return smallVerticalLeft
	case !r.get(p[8]):
		return smallHorizontalDown
	}
	return smallHorizontalUp
}

// smallPath is how a small block's mode is written: which chance is used, and the bit.
var smallPath = [smallModes][]struct {
	chance uint8
	set    bool
}{
	smallMean:           {{0, false}},
	smallSlope:          {{0, true}, {1, false}},
	smallDown:           {{0, true}, {1, true}, {2, false}},
	smallAcross:         {{0, true}, {1, true}, {2, true}, {3, false}, {4, false}},
	smallDownRight:      {{0, true}, {1, true}, {2, true}, {3, false}, {4, true}, {5, false}},
	smallVerticalRight:  {{0, true}, {1, true}, {2, true}, {3, false}, {4, true}, {5, true}},
	smallDownLeft:       {{0, true}, {1, true}, {2, true}, {3, true}, {6, false}},
	smallVerticalLeft:   {{0, true}, {1, true}, {2, true}, {3, true}, {6, true}, {7, false}},
	smallHorizontalDown: {{0, true}, {1, true}, {2, true}, {3, true}, {6, true}, {7, true}, {8, false}},
	smallHorizontalUp:   {{0, true}, {1, true}, {2, true}, {3, true}, {6, true}, {7, true}, {8, true}},
}

func writeModes(w *boolWriter, m *macroblock, above []uint8, left *[4]uint8) {
	w.put(m.mode != bySmall, 145)
	if m.mode == bySmall {
		for y := range 4 {
			for x := range 4 {
				v := m.small[4*y+x]
				p := &placed[above[x]][left[y]]
				for _, step := range smallPath[v] {
					w.put(step.set, p[step.chance])
				}
				above[x], left[y] = v, v
			}
		}
	} else {
		across := m.mode == acrossMode || m.mode == slopeMode
		if w.put(across, 156); across {
			w.put(m.mode == slopeMode, 128)
		} else {
			w.put(m.mode == downMode, 163)
		}
		for i := range 4 {
			above[i], left[i] = asSmall[m.mode], asSmall[m.mode]
		}
	}
	if w.put(m.colour != meanMode, 142); m.colour != meanMode {
		if w.put(m.colour != downMode, 114); m.colour != downMode {
			w.put(m.colour == slopeMode, 183)
		}
	}
}

// maxModes is how long the first partition may be, which holds the modes.
const maxModes = 1<<19 - 1

// write puts the frame together: its header, with the chances that suit the coefficients, its modes, and one partition of
// coefficients.
func (h *header) write(blocks []macroblock, levels []coefficients) ([]byte, error) {
	across := (h.w + 15) / 16
	t := tokensOf(blocks, levels, across)
	h.chances = t.chances()
	empty := 0
	for i := range levels {
		if levels[i].empty {
			empty++
		}
	}
	skipped := chance(len(levels)-empty, empty)
	w := newBoolWriter(len(blocks) * 8)
	w.number(0, 2)
	w.put(h.segmented, 128)
	if h.segmented {
		w.put(true, 128) // the map
		w.put(true, 128) // and the data
		w.put(true, 128) // which are absolute
		for _, v := range h.index {
			w.signed(v, 7)
		}
		for _, v := range h.level {
			w.signed(v, 6)
		}
		h.countSegments(blocks)
		for _, p := range h.segmentChances {
			if w.put(p != 255, 128); p != 255 {
				w.number(int(p), 8)
			}
		}
	}
	w.put(h.simple, 128)
	w.number(h.level[0], 6)
	w.number(h.sharpness, 3)
	w.put(false, 128) // no other levels by mode
	w.number(0, 2)    // one partition
	w.number(h.index[0], 7)
	for _, d := range []int{h.lumaDC, h.meansDC, h.meansAC, h.colourDC, h.colourAC} {
		w.signed(d, 4)
	}
	w.put(true, 128)
	for t := range h.chances {
		for b := range h.chances[t] {
			for c := range h.chances[t][b] {
				for i, p := range h.chances[t][b][c] {
					anew := p != usual[t][b][c][i]
					if w.put(anew, changed[t][b][c][i]); anew {
						w.number(int(p), 8)
					}
				}
			}
		}
	}
	w.put(true, 128)
	w.number(int(skipped), 8)
	above := make([]uint8, 4*across)
	var left [4]uint8
	for i := range blocks {
		m := &blocks[i]
		if i%across == 0 {
			left = [4]uint8{}
		}
		if h.segmented {
			w.put(m.segment >= 2, h.segmentChances[0])
			w.put(m.segment&1 != 0, h.segmentChances[1+m.segment>>1])
		}
		w.put(levels[i].empty, skipped)
		writeModes(w, m, above[4*(i%across):][:4], &left)
	}
	first := w.bytes()
	rest := newBoolWriter(len(blocks) * 32)
	t.write(rest, &h.chances)
	second := rest.bytes()
	n := len(first)
	if n > maxModes {
		return nil, errLarge
	}
	out := make([]byte, 10, 10+n+len(second))
	out[0], out[1], out[2] = uint8(1<<4|n<<5), uint8(n>>3), uint8(n>>11)
	out[3], out[4], out[5] = 0x9d, 0x01, 0x2a
	out[6], out[7], out[8], out[9] = uint8(h.w), uint8(h.w>>8), uint8(h.h), uint8(h.h>>8)
	return append(append(out, first...), second...), nil
}

// chance is that of a 0, by how often either was.
func chance(zeros, ones int) uint8 {
	if zeros+ones == 0 {
		return 255
	}
	return uint8(min(255, max(1, (zeros*255+(zeros+ones)/2)/(zeros+ones))))
}

// countSegments sets the chances of the map.
func (h *header) countSegments(blocks []macroblock) {
	var n [segments]int
	for i := range blocks {
		n[blocks[i].segment]++
	}
	h.segmentChances = [3]uint8{chance(n[0]+n[1], n[2]+n[3]), chance(n[0], n[1]), chance(n[2], n[3])}
}
