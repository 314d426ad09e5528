package metadata

import (
	"encoding/binary"

	"echolane/core/codec"
)

// Bounds on what a file in boxes may ask of whoever reads it, whatever its size: an honest one of a thousand tiles has a few
// thousand of each.
const (
	mostBoxes   = 1 << 15
	mostExtents = 1 << 16
	mostDepth   = 10
)

// containers are the boxes that hold boxes, and how many bytes come before those.
var containers = map[string]int{
	"meta": 4, "iprp": 0, "ipco": 0, "iinf": 6, "moov": 0, "trak": 0, "mdia": 0, "minf": 0, "stbl": 0, "dinf": 0, "edts": 0, "stsd": 8, "dref": 8, "grpl": 0, "tref": 0, "iref": 4,
}

// CheckBoxes says what of an AVIF or HEIC goes beyond bounds: boxes, their depth, the extents of its items. It reads no
// picture, and leaves what is merely broken to the decoder.
func CheckBoxes(mediaType string, data []byte) error {
	beyond := func(what string) error {
		return &codec.Error{Type: mediaType, Problem: "it has more " + what + " than a picture needs"}
	}
	count, extents := 0, 0
	var walk func(s span, depth int) error
	walk = func(s span, depth int) error {
		if depth > mostDepth {
			return beyond("boxes in boxes")
		}
		for at := s.from; s.to-at >= 8; {
			n, head := int64(binary.BigEndian.Uint32(data[at:])), int64(8)
			switch {
			case n == 0:
				n = int64(s.to - at)
			case n == 1:
				if s.to-at < 16 {
					return nil
				}
				n, head = int64(binary.BigEndian.Uint64(data[at+8:])), 16
			}
			if n < head || n > int64(s.to-at) {
				return nil // broken: the decoder says so
			}
			if count++; count > mostBoxes {
				return beyond("boxes")
			}
			kind := string(data[at+4 : at+8])
			body := span{at + int(head), at + int(n)}
			if skip, holds := containers[kind]; holds && body.to-body.from >= skip {
				if err := walk(span{body.from + skip, body.to}, depth+1); err != nil {
					return err
				}
			}
			if kind == "iloc" {
				if extents += countExtents(data, body); extents > mostExtents {
					return beyond("extents of its items")
				}
			}
			at += int(n)
		}
		return nil
	}
	return walk(span{0, len(data)}, 0)
}

// countExtents adds up the extents that an item location box has, up to more than there may be.
func countExtents(data []byte, body span) (sum int) {
	c := cursor{data: data, span: body}
	l := c.locations()
	for range l.items {
		c.number(l.id)
		if l.version > 0 {
			c.number(2)
		}
		c.number(2)
		c.from = min(c.to, c.from+l.base)
		extents := int(c.number(2))
		if c.over {
			return sum
		}
		if sum += extents; sum > mostExtents {
			return sum
		}
		c.from = min(c.to, c.from+extents*(l.offset+l.length+l.index))
	}
	return sum
}
