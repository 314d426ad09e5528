package vp8

import (
	"errors"
	"slices"
	"sync"
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

// header is what a frame says once, as far as it differs between frames. All have segments.
type header struct {
	w, h     int
	index    [segments]int // the quantizers, 0–127
	level    [segments]int // of the loop filter, 0–63
	colourDC int           // how much coarser colour's steps are than their index says: of the means, and of the others
	colourAC int
}

var errLarge = errors.New("the picture has more modes than a VP8 frame holds")

// Index is how coarsely a key frame was written: the index of luma's steps, 0 (finest) to 127; where there are
// segments, the finest one's (RFC 6386, sections 9.1–9.6 and 19.2).
func Index(frame []byte) (index int, ok bool) {
	if len(frame) < 11 || frame[0]&1 != 0 || frame[3] != 0x9d || frame[4] != 0x01 || frame[5] != 0x2a {
		return 0, false
	}
	r := newBoolReader(frame[10:])
	r.number(2) // colour space, clamping
	absolute := false
	var of [segments]int
	segmented := r.flag()
	if segmented {
		mapped := r.flag()
		if r.flag() {
			absolute = r.flag()
			for i := range of {
				of[i] = r.signed(7)
			}
			for range of {
				r.signed(6)
			}
		}
		if mapped {
			for range segments - 1 {
				if r.flag() {
					r.number(8)
				}
			}
		}
	}
	r.number(1 + 6 + 3) // the loop filter
	if r.flag() && r.flag() {
		for range 8 {
			r.signed(6)
		}
	}
	r.number(2) // partitions
	index = r.number(7)
	if segmented {
		if finest := slices.Min(of[:]); absolute {
			index = finest
		} else {
			index += finest
		}
	}
	return min(127, max(0, index)), !r.over
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
// coefficients. It gives those chances too.
func (h *header) write(blocks []macroblock, levels []coefficients) ([]byte, *chances, error) {
	across := (h.w + 15) / 16
	t := tokensOf(blocks, levels, across)
	chances := t.chances()
	rest := newBoolWriter(len(blocks) * 32)
	var beside sync.WaitGroup
	beside.Go(func() { t.write(rest, &chances) })
	defer beside.Wait()
	empty := 0
	for i := range levels {
		if levels[i].empty() {
			empty++
		}
	}
	skipped := chance(len(levels)-empty, empty)
	w := newBoolWriter(len(blocks) * 8)
	w.number(0, 2)
	for range 4 { // there are segments, with a map, and with data, which are absolute
		w.put(true, 128)
	}
	for _, v := range h.index {
		w.signed(v, 7)
	}
	for _, v := range h.level {
		w.signed(v, 6)
	}
	which := segmentChances(blocks)
	for _, p := range which {
		if w.put(p != 255, 128); p != 255 {
			w.number(int(p), 8)
		}
	}
	w.put(false, 128)                   // the loop filter for pictures of all kinds
	w.number(slices.Max(h.level[:]), 6) // with 0 segments would have none either
	w.number(0, 3)                      // its sharpness
	w.put(false, 128)                   // no other levels by mode
	w.number(0, 2)                      // one partition
	w.number(h.index[0], 7)
	for _, d := range []int{0, 0, 0, h.colourDC, h.colourAC} {
		w.signed(d, 4)
	}
	w.put(true, 128)
	for t := range chances {
		for b := range chances[t] {
			for c := range chances[t][b] {
				for i, p := range chances[t][b][c] {
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
		w.put(m.segment >= 2, which[0])
		w.put(m.segment&1 != 0, which[1+m.segment>>1])
		w.put(levels[i].empty(), skipped)
		writeModes(w, m, above[4*(i%across):][:4], &left)
	}
	first := w.bytes()
	n := len(first)
	if n > maxModes {
		return nil, nil, errLarge
	}
	beside.Wait()
	second := rest.bytes()
	out := make([]byte, 10, 10+n+len(second))
	out[0], out[1], out[2] = uint8(1<<4|n<<5), uint8(n>>3), uint8(n>>11)
	out[3], out[4], out[5] = 0x9d, 0x01, 0x2a
	out[6], out[7], out[8], out[9] = uint8(h.w), uint8(h.w>>8), uint8(h.h), uint8(h.h>>8)
	return append(append(out, first...), second...), &chances, nil
}

// chance is that of a 0, by how often either was.
func chance(zeros, ones int) uint8 {
	if zeros+ones == 0 {
		return 255
	}
	return uint8(min(255, max(1, (zeros*255+(zeros+ones)/2)/(zeros+ones))))
}

// segmentChances are those of the map (RFC 6386, section 10).
func segmentChances(blocks []macroblock) [segments - 1]uint8 {
	var n [segments]int
	for i := range blocks {
		n[blocks[i].segment]++
	}
	return [segments - 1]uint8{chance(n[0]+n[1], n[2]+n[3]), chance(n[0], n[1]), chance(n[2], n[3])}
}
