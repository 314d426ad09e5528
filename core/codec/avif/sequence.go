package avif

// #include <stdlib.h>
// #include "libavif.h"
import "C"

import (
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
	return taken(C.el_avif_film_end(s.f, &out, &n), out, n)
}

// Close frees what the sequence holds.
func (s *film) Close() {
	C.el_avif_film_drop(s.f)
	s.f = nil
}

// outOfMemory is libavif's result for that.
const outOfMemory = C.int(26)
