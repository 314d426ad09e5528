package raster

import "golang.org/x/sys/cpu"

// The vector passes work on eight lanes of 32 bits: two rows of four channels, or eight rows of one. Between
// them a group of 16 words holds two neighbouring pixels of all lanes, lane by lane, so that one multiply-add
// takes two taps of everything, and both kinds share the horizontal pass. The vertical pass makes two rows at
// once, which mostly come from the same source rows and share the work of reading them.
//
// Rejected: rows one by one with the taps of one sample side by side (sums have to be folded at each
// sample's end, and short kernels waste half a vector).

const (
	lanes      = 8
	groupWords = 2 * lanes
	vector     = 32 // bytes of source row that the vertical pass takes at once
	across     = 4  // pixels that the horizontal pass makes at once
)

// hasVectors is settled once, at start, by what the processor says.
var hasVectors = cpu.X86.HasAVX2

// vertical4AVX2 makes two rows of groups from n vectors of four-channel rows. weights are, for each pair of
// source rows, two for the first row made and two for the second.
//
//go:noescape
func vertical4AVX2(temp *int16, rows *uint8, stride int, weights *int16, pairs int, n int)

// vertical1AVX2 is the same for one channel: it fills two neighbouring lanes of the groups.
//
//go:noescape
func vertical1AVX2(temp *int16, rows *uint8, stride int, weights *int16, pairs int, n int)

// horizontal4AVX2 makes n times four pixels of the two rows at dst and dst+stride; horizontal1AVX2 n times four
// samples of eight rows. weights are, for each four pixels and each pair of taps, two a pixel.
//
//go:noescape
func horizontal4AVX2(dst *uint8, stride int, temp *int16, start *int32, weights *int16, pairs int, n int, round int32)

//go:noescape
func horizontal1AVX2(dst *uint8, stride int, temp *int16, start *int32, weights *int16, pairs int, n int, round int32)

// packed is a bank as the horizontal pass wants it: starts are even and counted in words of the temporary
// rows, and there is a multiple of four of them.
type packed struct {
	start   []int32
	weights []int16
	pairs   int
}

func pack(b *bank) packed {
	n := (len(b.start) + across - 1) / across * across
	pairs := (b.taps + 2) / 2 // room for one more in front, which makes the start even
	p := packed{start: make([]int32, n), weights: make([]int16, n*2*pairs), pairs: pairs}
	for i, s := range b.start {
		from := int(s) - b.lo
		p.start[i] = int32(from / 2 * groupWords)
		for j, w := range b.weights[i*b.taps : (i+1)*b.taps] {
			tap := j + from&1
			p.weights[(i/across*pairs+tap/2)*2*across+i%across*2+tap&1] = w
		}
	}
	return p
}

func resampleVectors(dst []uint8, dstStride int, src Plane, bx, by *bank, channels int, round int32) {
	rowsAtOnce := lanes / channels
	vectors := ((bx.hi-bx.lo)*channels + vector - 1) / vector
	across4 := pack(bx)
	full := len(bx.start) / across
	// A group for every two pixels that a vector holds, and one for the taps that packing adds.
	temp := make([]int16, vectors*(vector/channels)/2*groupWords+groupWords)
	var weights []int16
	var rows []uint8
	last := make([]uint8, rowsAtOnce*across*channels)
	edge := make([]uint8, rowsAtOnce*dstStride)

	for top := 0; top < len(by.start); top += rowsAtOnce {
		for i := top; i < min(top+rowsAtOnce, len(by.start)); i += 2 {
			var first, pairs int
			first, pairs, weights = by.two(i, weights[:0])
			from := src.Pix[first*src.Stride+bx.lo*channels:]
			stride := src.Stride
			if need := (2*pairs-1)*stride + vectors*vector; need > len(from) {
				rows = copyRows(rows, from, stride, 2*pairs, vectors*vector)
				from, stride = rows, vectors*vector
			}
			if channels == 4 {
				vertical4AVX2(&temp[0], &from[0], stride, &weights[0], pairs, vectors)
			} else {
				vertical1AVX2(&temp[2*(i-top)], &from[0], stride, &weights[0], pairs, vectors)
			}
		}
		to, stride := dst[top*dstStride:], dstStride
		rest := len(by.start) - top
		if rest < rowsAtOnce {
			to = edge
		}
		if channels == 4 {
			if full > 0 {
				horizontal4AVX2(&to[0], stride, &temp[0], &across4.start[0], &across4.weights[0], across4.pairs, full, round)
			}
		} else if full > 0 {
			horizontal1AVX2(&to[0], stride, &temp[0], &across4.start[0], &across4.weights[0], across4.pairs, full, round)
		}
		if left := len(bx.start) - full*across; left > 0 {
			start, w := &across4.start[full*across], &across4.weights[full*2*across*across4.pairs]
			if channels == 4 {
				horizontal4AVX2(&last[0], across*channels, &temp[0], start, w, across4.pairs, 1, round)
			} else {
				horizontal1AVX2(&last[0], across*channels, &temp[0], start, w, across4.pairs, 1, round)
			}
			for y := range min(rest, rowsAtOnce) {
				copy(to[y*stride+full*across*channels:][:left*channels], last[y*across*channels:])
			}
		}
		if rest < rowsAtOnce {
			for y := range rest {
				copy(dst[(top+y)*dstStride:][:len(bx.start)*channels], edge[y*dstStride:])
			}
		}
	}
}

// two is what the vertical pass needs for destination rows i and i+1: the first source row of either, how
// many pairs of source rows from there, and their weights, appended to room. Beyond the last row there's nothing.
func (b *bank) two(i int, room []int16) (first, pairs int, weights []int16) {
	j := min(i+1, len(b.start)-1)
	a0, b0 := int(b.start[i]), int(b.start[j])
	first = min(a0, b0)
	pairs = (max(a0, b0) + b.taps - first + 1) / 2
	weights = room
	for range 4 * pairs {
		weights = append(weights, 0)
	}
	put := func(row, from, offset int) {
		for t, w := range b.weights[row*b.taps : (row+1)*b.taps] {
			at := from - first + t
			weights[at/2*4+offset+at&1] = w
		}
	}
	put(i, a0, 0)
	if j > i {
		put(j, b0, 2)
	}
	return first, pairs, weights
}

// copyRows is n rows of width bytes, with zeros where from ends: whole vectors may then be read.
func copyRows(room, from []uint8, stride, n, width int) []uint8 {
	if cap(room) < n*width {
		room = make([]uint8, n*width)
	}
	room = room[:n*width]
	clear(room)
	for y := range n {
		if at := y * stride; at < len(from) {
			copy(room[y*width:(y+1)*width], from[at:])
		}
	}
	return room
}
