package vp8

import (
	"math"
	"math/bits"
)

// boolWriter is the boolean encoder of RFC 6386, section 7.3.
type boolWriter struct {
	out   []byte
	low   uint32
	span  uint32
	count int // of settled bits, less 24
}

func newBoolWriter(room int) *boolWriter {
	return &boolWriter{out: make([]byte, 0, room), span: 255, count: -24}
}

// put writes a bit whose probability of being 0 is zero/256.
func (w *boolWriter) put(set bool, zero uint8) {
	split := 1 + (w.span-1)*uint32(zero)>>8
	if set {
		w.low += split
		w.span -= split
	} else {
		w.span = split
	}
	shift := bits.LeadingZeros32(w.span) - 24
	w.span <<= shift
	if w.count += shift; w.count >= 0 {
		first := shift - w.count
		if w.low<<(first-1)&(1<<31) != 0 { // a carry
			i := len(w.out) - 1
			for ; w.out[i] == 255; i-- {
				w.out[i] = 0
			}
			w.out[i]++
		}
		w.out = append(w.out, uint8(w.low>>(24-first)))
		w.low = w.low << first & 0xffffff
		shift = w.count
		w.count -= 8
	}
	w.low <<= shift
}

// number writes n bits of even probability, the highest first.
func (w *boolWriter) number(v, n int) {
	for n--; n >= 0; n-- {
		w.put(v>>n&1 != 0, 128)
	}
}

// signed writes a flag for a number that isn't 0, and then its n bits and its sign.
func (w *boolWriter) signed(v, n int) {
	w.put(v != 0, 128)
	if v != 0 {
		w.number(max(v, -v), n)
		w.put(v < 0, 128)
	}
}

func (w *boolWriter) bytes() []byte {
	for range 32 {
		w.put(false, 128)
	}
	return w.out
}

// boolReader is the boolean decoder of RFC 6386, section 7.3. Beyond its data it reads zeros, and over is set.
type boolReader struct {
	data        []byte
	value, span uint32
	count       int
	over        bool
}

func newBoolReader(data []byte) *boolReader {
	r := &boolReader{data: data, span: 255}
	r.value = r.next()<<8 | r.next()
	return r
}

func (r *boolReader) next() uint32 {
	if len(r.data) == 0 {
		r.over = true
		return 0
	}
	b := r.data[0]
	r.data = r.data[1:]
	return uint32(b)
}

func (r *boolReader) get(zero uint8) bool {
	split := 1 + (r.span-1)*uint32(zero)>>8
	set := r.value >= split<<8
	if set {
		r.span -= split
		r.value -= split << 8
	} else {
		r.span = split
	}
	for r.span < 128 {
		r.span <<= 1
		r.value <<= 1
		if r.count++; r.count == 8 {
			r.count = 0
			r.value |= r.next()
		}
	}
	return set
}

func (r *boolReader) flag() bool { return r.get(128) }

func (r *boolReader) number(n int) (v int) {
	for range n {
		v <<= 1
		if r.flag() {
			v |= 1
		}
	}
	return v
}

// signed reads what boolWriter.signed writes.
func (r *boolReader) signed(n int) int {
	if !r.flag() {
		return 0
	}
	v := r.number(n)
	if r.flag() {
		return -v
	}
	return v
}

// cost is how many bits a 0 of probability zero/256 takes; a 1 takes cost[256-zero].
var cost = func() (c [257]float32) {
	for i := range c {
		c[i] = float32(-math.Log2(math.Max(0.5, float64(i)) / 256))
	}
	return c
}()

func bitCost(set bool, zero uint8) float32 {
	if set {
		return cost[256-int(zero)]
	}
	return cost[zero]
}
