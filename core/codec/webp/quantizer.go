package webp

import (
	"encoding/binary"

	"echolane/core/codec/webp/vp8"
)

// Quantizer reads how coarsely a lossy still was written: VP8's index for luma, 0 (finest) to 127; where the file has
// segments, the finest one's. ok is false for anything else (RFC 6386, sections 9.1–9.6 and 19.2).
func Quantizer(data []byte) (index int, ok bool) { return vp8.Index(frameOf(data)) }

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
