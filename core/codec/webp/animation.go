package webp

// #include <stdlib.h>
// #include "libwebp.h"
import "C"

import (
	"fmt"
	"runtime"
	"time"
	"unsafe"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Frames hands over every frame as a whole picture, straight; the picture is the receiver's.
func Frames(data []byte, each func(p *raster.RGBA, shown time.Duration) error) error {
	info, err := Probe(data)
	if err != nil {
		return err
	}
	var pin runtime.Pinner
	pin.Pin(&data[0])
	defer pin.Unpin()
	frames := C.el_webp_frames((*C.uint8_t)(&data[0]), C.size_t(len(data)))
	if frames == nil {
		return &codec.Error{Type: Type, Problem: "its animation is broken"}
	}
	defer C.el_webp_end_frames(frames)
	var before C.int
	for i := range info.Frames {
		p := raster.PooledRGBA(info.W, info.H)
		var at C.int
		if C.el_webp_next(frames, (*C.uint8_t)(&p.Pix[0]), C.int(p.Stride), C.int(p.W), C.int(p.H), &at) != 1 {
			p.Free()
			return &codec.Error{Type: Type, Problem: fmt.Sprintf("frame %d of its animation is broken", i+1)}
		}
		p.FindOpaque()
		shown := time.Duration(at-before) * time.Millisecond
		before = at
		if err := each(p, shown); err != nil {
			return err
		}
	}
	return nil
}

// An Animation is a WebP that is being written. What doesn't change from frame to frame isn't written again. It must
// be closed.
type Animation struct {
	a     unsafe.Pointer
	w, h  int
	plays int
	at    time.Duration
}

// NewAnimation makes one of w×h pixels that plays so often, 0 for ever.
func NewAnimation(w, h, plays int) (*Animation, error) {
	a := &Animation{a: C.el_webp_animation(C.int(w), C.int(h), C.int(plays)), w: w, h: h, plays: plays}
	if a.a == nil {
		return nil, &codec.Error{Type: Type, Problem: "there was no memory for an animation"}
	}
	return a, nil
}

// Add adds a frame, straight, at a fineness of 0–100 or codec.Exactly.
func (a *Animation) Add(p *raster.RGBA, shown time.Duration, fineness float64) error {
	lossless, quality := C.int(0), 0.0
	if fineness == codec.Exactly {
		lossless, quality = 1, 75
	} else {
		quality = Quality(fineness)
	}
	code := C.el_webp_add(a.a, (*C.uint8_t)(&p.Pix[0]), C.int(p.Stride), C.int(p.W), C.int(p.H), C.int(a.at.Milliseconds()), C.float(quality), lossless, Effort)
	if code != 0 {
		return &codec.Error{Type: Type, Problem: fmt.Sprintf("encoding a frame failed with libwebp's error %d", int(code))}
	}
	a.at += shown
	return nil
}

// Bytes writes the file.
func (a *Animation) Bytes() ([]byte, error) {
	var out *C.uint8_t
	var n C.size_t
	if C.el_webp_finish(a.a, C.int(a.at.Milliseconds()), &out, &n) != 0 {
		return nil, &codec.Error{Type: Type, Problem: "putting the animation together failed"}
	}
	return taken(0, out, n)
}

// Close frees what the animation holds.
func (a *Animation) Close() { C.el_webp_end_animation(a.a) }
