package vp8

import (
	"errors"
	"slices"
	"sync"
)

// coeffProbs are the probabilities of a 0 at the branches of the token tree, by block type, coefficient band and the
// context of the coefficient before (RFC 6386, section 13.3).
type coeffProbs [blockTypes][bands][3][branches]uint8

// The block types (RFC 6386, section 13.3).
const (
	typeYAfterY2 = iota // luma whose DC is in a Y2 block
	typeY2
	typeChroma
	typeYWithDC
	blockTypes
	bands = 8
)

// segments is how many segments a frame has, each with quantizers and a filter level of its own (RFC 6386, section 9.3).
const segments = 4

// A macroblock is how 16×16 pixels are predicted.
type macroblock struct {
	yMode, uvMode uint8
	segment       uint8
	bMode         [16]uint8 // where yMode is bPred
}

// header is the frame header, as far as it differs between our frames. All have segments.
type header struct {
	w, h        int
	qIndex      [segments]int // the quantizer indices, 0–127
	filterLevel [segments]int // the loop filter levels, 0–63
	uvDCDelta   int           // added to the quantizer index for chroma's DC, and for its AC (RFC 6386, section 9.6)
	uvACDelta   int
}

var errTooManyModes = errors.New("the picture has more modes than a VP8 frame holds")

// Index reads the quantizer index of a key frame, 0 (finest) to 127; where there are segments, the finest one's
// (RFC 6386, sections 9.1–9.6 and 19.2). ok is false where it can't be read.
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

// bModeTree is how a subblock mode is written: the probability that is used, and the bit.
var bModeTree = [bModes][]struct {
	chance uint8
	set    bool
}{
	bDCPred: {{0, false}},
	bTMPred: {{0, true}, {1, false}},
	bVEPred: {{0, true}, {1, true}, {2, false}},
	bHEPred: {{0, true}, {1, true}, {2, true}, {3, false}, {4, false}},
	bRDPred: {{0, true}, {1, true}, {2, true}, {3, false}, {4, true}, {5, false}},
	bVRPred: {{0, true}, {1, true}, {2, true}, {3, false}, {4, true}, {5, true}},
	bLDPred: {{0, true}, {1, true}, {2, true}, {3, true}, {6, false}},
	bVLPred: {{0, true}, {1, true}, {2, true}, {3, true}, {6, true}, {7, false}},
	bHDPred: {{0, true}, {1, true}, {2, true}, {3, true}, {6, true}, {7, true}, {8, false}},
	bHUPred: {{0, true}, {1, true}, {2, true}, {3, true}, {6, true}, {7, true}, {8, true}},
}

func writeModes(w *boolWriter, m *macroblock, above []uint8, left *[4]uint8) {
	w.put(m.yMode != bPred, 145)
	if m.yMode == bPred {
		for y := range 4 {
			for x := range 4 {
				v := m.bMode[4*y+x]
				p := &bModeProbs[above[x]][left[y]]
				for _, step := range bModeTree[v] {
					w.put(step.set, p[step.chance])
				}
				above[x], left[y] = v, v
			}
		}
	} else {
		across := m.yMode == hPred || m.yMode == tmPred
		if w.put(across, 156); across {
			w.put(m.yMode == tmPred, 128)
		} else {
			w.put(m.yMode == vPred, 163)
		}
		for i := range 4 {
			above[i], left[i] = impliedBMode[m.yMode], impliedBMode[m.yMode]
		}
	}
	if w.put(m.uvMode != dcPred, 142); m.uvMode != dcPred {
		if w.put(m.uvMode != vPred, 114); m.uvMode != vPred {
			w.put(m.uvMode == tmPred, 183)
		}
	}
}

// maxModes is how long the first partition may be, which holds the header and the modes, bytes.
const maxModes = 1<<19 - 1

// write puts the frame together: the header, with the probabilities that suit the coefficients, the modes, and one partition
// of coefficients. It returns those probabilities too. room is for the tokens.
func (h *header) write(blocks []macroblock, levels []coefficients, room *tokens) ([]byte, *coeffProbs, error) {
	across := (h.w + 15) / 16
	t := room.of(blocks, levels, across)
	probs := t.probs()
	rest := newBoolWriter(len(blocks) * 32)
	var beside sync.WaitGroup
	beside.Go(func() { t.write(rest, &probs) })
	defer beside.Wait()
	empty := 0
	for i := range levels {
		if levels[i].empty() {
			empty++
		}
	}
	skipped := probOf(len(levels)-empty, empty)
	w := newBoolWriter(len(blocks) * 8)
	w.number(0, 2)
	for range 4 { // segments are enabled, with a map and with data, which are absolute
		w.put(true, 128)
	}
	for _, v := range h.qIndex {
		w.signed(v, 7)
	}
	for _, v := range h.filterLevel {
		w.signed(v, 6)
	}
	which := segmentProbs(blocks)
	for _, p := range which {
		if w.put(p != 255, 128); p != 255 {
			w.number(int(p), 8)
		}
	}
	w.put(false, 128)                         // the normal loop filter
	w.number(slices.Max(h.filterLevel[:]), 6) // the frame's level: with 0 segments have no filter either
	w.number(0, 3)                            // its sharpness
	w.put(false, 128)                         // no other levels by mode
	w.number(0, 2)                            // one partition
	w.number(h.qIndex[0], 7)
	for _, d := range []int{0, 0, 0, h.uvDCDelta, h.uvACDelta} {
		w.signed(d, 4)
	}
	w.put(true, 128)
	for t := range probs {
		for b := range probs[t] {
			for c := range probs[t][b] {
				for i, p := range probs[t][b][c] {
					anew := p != defaultCoeffProbs[t][b][c][i]
					if w.put(anew, coeffUpdateProbs[t][b][c][i]); anew {
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
		return nil, nil, errTooManyModes
	}
	beside.Wait()
	second := rest.bytes()
	out := make([]byte, 10, 10+n+len(second))
	out[0], out[1], out[2] = uint8(1<<4|n<<5), uint8(n>>3), uint8(n>>11)
	out[3], out[4], out[5] = 0x9d, 0x01, 0x2a
	out[6], out[7], out[8], out[9] = uint8(h.w), uint8(h.w>>8), uint8(h.h), uint8(h.h>>8)
	return append(append(out, first...), second...), &probs, nil
}

// probOf is the probability of a 0, from how often each bit was written.
func probOf(zeros, ones int) uint8 {
	if zeros+ones == 0 {
		return 255
	}
	return uint8(min(255, max(1, (zeros*255+(zeros+ones)/2)/(zeros+ones))))
}

// segmentProbs are the probabilities of the segment map (RFC 6386, section 10).
func segmentProbs(blocks []macroblock) [segments - 1]uint8 {
	var n [segments]int
	for i := range blocks {
		n[blocks[i].segment]++
	}
	return [segments - 1]uint8{probOf(n[0]+n[1], n[2]+n[3]), probOf(n[0], n[1]), probOf(n[2], n[3])}
}
