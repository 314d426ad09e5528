// Package heic turns HEIC bytes, as phones upload them, into pixels, through libheif.
package heic

// #cgo LDFLAGS: -lheif
// #include <stdlib.h>
// #include "libheif.h"
import "C"

import (
	"strings"
	"unsafe"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// Type is the media type this package reads.
const Type = "image/heic"

// Probe reads the header.
func Probe(data []byte) (codec.Info, error) {
	if len(data) < 12 {
		return codec.Info{}, &codec.Error{Type: Type, Truncated: true, Problem: "the file ends in its header"}
	}
	if err := metadata.CheckBoxes(Type, data); err != nil {
		return codec.Info{}, err
	}
	var f C.el_heif_info
	if C.el_heif_probe((*C.uint8_t)(&data[0]), C.size_t(len(data)), &f) == 0 {
		return codec.Info{}, failure(&f)
	}
	defer C.free(unsafe.Pointer(f.profile))
	info := codec.Info{Type: Type, W: int(f.width), H: int(f.height), Orientation: 1, Alpha: f.alpha != 0, Frames: 1, Depth: int(f.depth)}
	if info.W < 1 || info.H < 1 {
		return codec.Info{}, &codec.Error{Type: Type, Problem: "its header gives no size"}
	}
	if f.profile_size > 0 {
		info.Profile = C.GoBytes(unsafe.Pointer(f.profile), C.int(f.profile_size))
	} else {
		info.Colour = codec.Colour{Primaries: int(f.primaries), Transfer: int(f.transfer)}
	}
	return info, nil
}

// Decode gives the picture, upright; samples of more than 8 bits are rounded.
func Decode(data []byte) (codec.Picture, error) {
	info, err := Probe(data)
	if err != nil {
		return codec.Picture{}, err
	}
	p := raster.PooledRGBA(info.W, info.H)
	p.Opaque = !info.Alpha
	var f C.el_heif_info
	if C.el_heif_read((*C.uint8_t)(&data[0]), C.size_t(len(data)), (*C.uint8_t)(&p.Pix[0]), C.int(p.Stride), C.int(p.W), C.int(p.H), &f) == 0 {
		p.Free()
		return codec.Picture{}, failure(&f)
	}
	if info.Alpha {
		p.FindOpaque()
	}
	return codec.Picture{RGBA: p}, nil
}

func failure(f *C.el_heif_info) error {
	says := C.GoString(&f.message[0])
	e := &codec.Error{Type: Type, Problem: "its data is broken: " + says}
	if strings.Contains(says, "nd of data") || strings.Contains(says, "nd of file") {
		e.Truncated, e.Problem = true, "the file ends before the picture does"
	}
	return e
}
