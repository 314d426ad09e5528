package webp

import "encoding/binary"

// Quantizer reads how coarsely a lossy still was written: VP8's index for luma, 0 (finest) to 127; where the file has
// segments, the finest one's. ok is false for anything else (RFC 6386, sections 9.1–9.6 and 19.2).
func Quantizer(data []byte) (index int, ok bool) {
	frame := frameOf(data)
	if len(frame) < 11 || frame[0]&1 != 0 || frame[3] != 0x9d || frame[4] != 0x01 || frame[5] != 0x2a {
		return 0, false
	}
	d := newBools(frame[10:])
	d.flag() // colour space
	d.flag() // clamping
	var segments []int
	absolute := false
	if d.flag() {
		moved := d.flag() // the map
		if d.flag() {     // its data
			absolute = d.flag()
			for range 4 {
				v := 0
				if d.flag() {
					if v = d.bits(7); d.flag() {
						v = -v
					}
				}
				segments = append(segments, v)
			}
			for range 4 {
				if d.flag() { // a level of the loop filter
					d.bits(7)
				}
			}
		}
		if moved {
			for range 3 {
				if d.flag() {
					d.bits(8)
				}
			}
		}
	}
	d.flag()      // the loop filter's type
	d.bits(6 + 3) // level, sharpness
	if d.flag() && d.flag() {
		for range 8 {
			if d.flag() {
				d.bits(7)
			}
		}
	}
	d.bits(2) // partitions
	base := d.bits(7)
	if d.over {
		return 0, false
	}
	if index = base; len(segments) > 0 {
		index = 127
		for _, s := range segments {
			if !absolute {
				s += base
			}
			index = min(index, max(0, s))
		}
	}
	return index, true
}

// frameOf is the VP8 frame of a still.
func frameOf(data []byte) []byte {
	for at := 12; at+8 <= len(data); {
		n := int64(binary.LittleEndian.Uint32(data[at+4:]))
		body := data[at+8 : min(int64(len(data)), int64(at)+8+n)]
		switch string(data[at : at+4]) {
		case "VP8 ":
			return body
		case "VP8L", "ANMF":
			return nil
		}
		if at += int(8 + n + n&1); n > int64(len(data)) {
			return nil
		}
	}
	return nil
}

// bools is the boolean decoder of RFC 6386, section 7.3, for what has even odds.
type bools struct {
	data        []byte
	value, span uint32
	count       int
	over        bool
}

func newBools(data []byte) *bools {
	return &bools{data: data[2:], value: uint32(data[0])<<8 | uint32(data[1]), span: 255}
}

func (d *bools) flag() bool {
	split := 1 + (d.span-1)>>1
	set := d.value >= split<<8
	if set {
		d.span -= split
		d.value -= split << 8
	} else {
		d.span = split
	}
	for d.span < 128 {
		d.value, d.span = d.value<<1, d.span<<1
		if d.count++; d.count == 8 {
			d.count = 0
			if len(d.data) == 0 {
				d.over = true
				continue
			}
			d.value |= uint32(d.data[0])
			d.data = d.data[1:]
		}
	}
	return set
}

func (d *bools) bits(n int) (v int) {
	for range n {
		v <<= 1
		if d.flag() {
			v |= 1
		}
	}
	return v
}
