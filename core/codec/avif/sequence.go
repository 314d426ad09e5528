package avif

// #include <stdlib.h>
// #include "libavif.h"
import "C"

import (
	"encoding/binary"
	"math"
	"runtime"
	"time"
	"unsafe"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Frames gives the frames of a sequence in their order, straight. Samples of more than 8 bits come rounded.
func Frames(data []byte, each func(p *raster.RGBA, shown time.Duration) error) error {
	d, err := open(data)
	if err != nil {
		return err
	}
	defer d.close()
	info := d.describe()
	for range info.Frames {
		p := raster.PooledRGBA(info.W, info.H)
		p.Opaque = !info.Alpha
		var shown C.double
		if status := C.el_avif_next(d.d, unsafe.Pointer(&p.Pix[0]), C.int(p.Stride), &shown); status != 0 {
			p.Free()
			return failure(status)
		}
		if info.Alpha {
			p.FindOpaque()
		}
		if err := each(p, time.Duration(math.Min(float64(shown), 1e9)*1e6)); err != nil {
			return err
		}
	}
	return nil
}

// A film is a sequence that is being written. What doesn't change from frame to frame isn't written again.
type film struct {
	f      *C.el_avif_film
	opaque bool
}

// Add adds a frame, straight, at a setting, or codec.Exactly. All frames are written at the first one's.
func (s *film) Add(p *raster.RGBA, shown time.Duration, setting float64) error {
	flag := func(b bool) C.int {
		if b {
			return 1
		}
		return 0
	}
	if s.f == nil {
		var pin runtime.Pinner
		defer pin.Unpin()
		exactly := setting == codec.Exactly
		c := settingsAt(setting, FrameSpeed).hold(&pin, exactly)
		if s.f = C.el_avif_film_begin(flag(s.opaque), flag(exactly), &c); s.f == nil {
			return unwritten(C.GoString(C.el_avif_says(outOfMemory)))
		}
	}
	ms := math.Round(shown.Seconds() * 1000)
	if status := C.el_avif_film_add(s.f, (*C.uint8_t)(&p.Pix[0]), C.int(p.Stride), C.int(p.W), C.int(p.H), C.int(ms)); status != 0 {
		return unwritten(C.GoString(C.el_avif_says(status)))
	}
	return nil
}

// Bytes writes the file.
func (s *film) Bytes() ([]byte, error) {
	if s.f == nil {
		return nil, unwritten("it has no frame")
	}
	var out *C.uint8_t
	var n C.size_t
	data, err := taken(C.el_avif_film_end(s.f, &out, &n), out, n)
	timeless(data)
	return data, err
}

// timeless takes away when a sequence was made, which libavif writes down (ISO/IEC 14496-12, sections 8.2.2, 8.3.2, 8.4.2): the same
// frames are to be the same bytes.
func timeless(data []byte) {
	for len(data) >= 8 {
		size := int(binary.BigEndian.Uint32(data))
		if size < 8 || size > len(data) {
			return // the last box, which may reach to the end
		}
		box := data[8:size]
		switch string(data[4:8]) {
		case "moov", "trak", "mdia":
			timeless(box)
		case "mvhd", "tkhd", "mdhd":
			times := 8 // of creation and of the last change
			if len(box) > 0 && box[0] == 1 {
				times = 16
			}
			if len(box) >= 4+times {
				clear(box[4:][:times])
			}
		}
		data = data[size:]
	}
}

// Close frees what the sequence holds.
func (s *film) Close() {
	C.el_avif_film_drop(s.f)
	s.f = nil
}

// outOfMemory is libavif's result for that.
const outOfMemory = C.int(26)
