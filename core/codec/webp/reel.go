package webp

import (
	"encoding/binary"
	"time"

	"echolane/core/codec"
	"echolane/core/raster"
)

// A reel is an animation of which all changes from frame to frame: each is written by itself, as a still is (RFC 9649, section 2.7.1).
type reel struct {
	w, h, plays int
	frames      []byte // ANMF chunks
	alpha       bool
}

// Changing says, before the first frame, that all of the picture changes from frame to frame, so that nothing is looked for that
// doesn't.
func (a *Animation) Changing() codec.Animation { return &reel{w: a.w, h: a.h, plays: a.plays} }

// Add adds a frame, straight, at a fineness of 0–100 or codec.Exactly.
func (r *reel) Add(p *raster.RGBA, shown time.Duration, fineness float64) error {
	var file []byte
	var err error
	if fineness == codec.Exactly {
		file, err = EncodeLossless(p)
	} else {
		file, err = EncodeRGBA(p, Quality(fineness))
	}
	if err != nil {
		return err
	}
	r.alpha = r.alpha || !p.Opaque
	head := make([]byte, 16) // at the corner, in the place of the frame before
	put24(head[6:], r.w-1)
	put24(head[9:], r.h-1)
	put24(head[12:], int(min(shown.Milliseconds(), 1<<24-1)))
	head[15] = 2
	for rest := file[12:]; len(rest) >= 8; {
		n := 8 + int(binary.LittleEndian.Uint32(rest[4:]))
		n = min(n+n&1, len(rest))
		switch string(rest[:4]) {
		case "ALPH", "VP8 ", "VP8L":
			head = append(head, rest[:n]...)
		}
		rest = rest[n:]
	}
	r.frames = appendChunk(r.frames, "ANMF", head)
	return nil
}

// Bytes writes the file.
func (r *reel) Bytes() ([]byte, error) {
	canvas := make([]byte, 10)
	if canvas[0] = 0x02; r.alpha {
		canvas[0] |= 0x10
	}
	put24(canvas[4:], r.w-1)
	put24(canvas[7:], r.h-1)
	loop := make([]byte, 6)
	binary.LittleEndian.PutUint16(loop[4:], uint16(min(r.plays, 1<<16-1)))
	body := appendChunk(appendChunk([]byte("WEBP"), "VP8X", canvas), "ANIM", loop)
	return appendChunk(nil, "RIFF", append(body, r.frames...)), nil
}

// Close has nothing to give back.
func (r *reel) Close() {}

func put24(b []byte, v int) { b[0], b[1], b[2] = byte(v), byte(v>>8), byte(v>>16) }

func appendChunk(b []byte, name string, data []byte) []byte {
	b = append(binary.LittleEndian.AppendUint32(append(b, name...), uint32(len(data))), data...)
	if len(data)%2 == 1 {
		b = append(b, 0)
	}
	return b
}
