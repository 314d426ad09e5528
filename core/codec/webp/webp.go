// Package webp turns WebP bytes into pixels and back, through libwebp; opaque pictures are written by our own encoder too.
package webp

// #cgo LDFLAGS: -lwebp -lwebpdemux -lwebpmux
// #include <stdlib.h>
// #include "libwebp.h"
import "C"

import (
	"encoding/binary"
	"fmt"
	"math"
	"unsafe"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Type is the media type this package reads and writes.
const Type = "image/webp"

// MaxSide is the longest side that the format can hold.
const MaxSide = 16383

// Probe reads the header.
func Probe(data []byte) (codec.Info, error) {
	if len(data) < 12 {
		return codec.Info{}, &codec.Error{Type: Type, Truncated: true, Problem: "the file ends in its header"}
	}
	var f C.el_webp_info
	if C.el_webp_probe((*C.uint8_t)(&data[0]), C.size_t(len(data)), &f) == 0 {
		return codec.Info{}, failure(int(f.status), data)
	}
	info := codec.Info{
		Type: Type, W: int(f.width), H: int(f.height), Orientation: 1,
		Alpha: f.alpha != 0, Frames: max(1, int(f.frames)), Depth: 8,
	}
	if f.animated != 0 {
		info.Coding, info.Plays = "animated", int(f.plays)
	}
	if n := int(f.profile_size); n > 0 {
		info.Profile = data[f.profile_at:][:n:n]
	}
	return info, nil
}

// Decode gives the picture, of an animation its first frame.
func Decode(data []byte) (codec.Picture, error) { return DecodeRows(data, 0) }

// DecodeRows is Decode for no more than the first so many rows; what is below isn't decoded. 0 means all.
func DecodeRows(data []byte, rows int) (codec.Picture, error) {
	info, err := Probe(data)
	if err != nil {
		return codec.Picture{}, err
	}
	h, animated, cut := info.H, C.int(0), C.int(0)
	if info.Coding == "animated" {
		animated = 1
	} else if rows > 0 && rows+beyond < h {
		h, cut = rows+beyond, 1
	}
	p := raster.PooledRGBA(info.W, h)
	p.Opaque = !info.Alpha && animated == 0
	status := C.el_webp_read((*C.uint8_t)(&data[0]), C.size_t(len(data)), animated, cut, (*C.uint8_t)(&p.Pix[0]), C.int(p.Stride), C.int(p.W), C.int(p.H))
	if status != 0 {
		p.Free()
		return codec.Picture{}, failure(int(status), data)
	}
	if rows > 0 {
		p.H = min(rows, p.H)
	}
	return codec.Picture{RGBA: p}, nil
}

// beyond is how many rows below those that are wanted are decoded: colour is made of its neighbours'.
const beyond = 2

// DecodePlanes gives an opaque still as 4:2:0 planes in Limited range.
func DecodePlanes(data []byte) (*raster.YCbCr, error) {
	info, err := Probe(data)
	if err != nil {
		return nil, err
	}
	p := raster.New420(info.W, info.H, raster.Limited)
	status := C.el_webp_read_planes((*C.uint8_t)(&data[0]), C.size_t(len(data)), (*C.uint8_t)(&p.Y.Pix[0]), C.int(p.Y.Stride),
		(*C.uint8_t)(&p.Cb.Pix[0]), (*C.uint8_t)(&p.Cr.Pix[0]), C.int(p.Cb.Stride), C.int(p.H))
	if status != 0 {
		return nil, failure(int(status), data)
	}
	return p, nil
}

func failure(status int, data []byte) error {
	e := &codec.Error{Type: Type, Problem: "its data is broken"}
	const outOfMemory, suspended, notEnough = 1, 5, 7
	claimed := int64(binary.LittleEndian.Uint32(data[4:])) + 8
	switch {
	case status == outOfMemory:
		e.Problem = "there was no memory to decode it"
	case status == suspended, status == notEnough, claimed > int64(len(data)):
		e.Truncated = true
		e.Problem = "the file ends before the picture does"
	}
	return e
}

// Effort is libwebp's method, 0 (quick) to 6 (thorough).
const Effort = 4

// Quality is libwebp's own quality for a fineness of 0–100, on which its quantizers lie evenly: twice as far below 100 is
// twice as many of their steps. libwebp takes quality by two straight lines that meet at 75, and then by its cube root.
func Quality(fineness float64) float64 {
	c := fineness / 100
	c = c * c * c
	if c < 0.5 {
		return 150 * c
	}
	return 50 + 50*c
}

// Fineness is the fineness of libwebp's own quality.
func Fineness(quality float64) float64 {
	c := quality / 150
	if c >= 0.5 {
		c = quality/50 - 1
	}
	return 100 * math.Cbrt(c)
}

// EncodePlanes writes a 4:2:0 picture in Limited range. quality is libwebp's own, 0–100.
func EncodePlanes(p *raster.YCbCr, quality float64) ([]byte, error) {
	return EncodePlanesWith(p, quality, Effort)
}

// EncodePlanesWith is EncodePlanes at another effort: libwebp's method, 0–6.
func EncodePlanesWith(p *raster.YCbCr, quality float64, method int) ([]byte, error) {
	var out *C.uint8_t
	var n C.size_t
	code := C.el_webp_write_planes((*C.uint8_t)(&p.Y.Pix[0]), C.int(p.Y.Stride), (*C.uint8_t)(&p.Cb.Pix[0]), (*C.uint8_t)(&p.Cr.Pix[0]),
		C.int(p.Cb.Stride), C.int(p.W), C.int(p.H), C.float(quality), C.int(method), &out, &n)
	return taken(code, out, n)
}

// EncodeRGBA writes a picture with straight alpha.
func EncodeRGBA(p *raster.RGBA, quality float64) ([]byte, error) { return encode(p, quality, 0) }

// EncodeLossless writes a picture with straight alpha, every visible pixel kept.
func EncodeLossless(p *raster.RGBA) ([]byte, error) { return encode(p, 75, 1) }

func encode(p *raster.RGBA, quality float64, lossless C.int) ([]byte, error) {
	var out *C.uint8_t
	var n C.size_t
	opaque := C.int(0)
	if p.Opaque {
		opaque = 1
	}
	code := C.el_webp_write_pixels((*C.uint8_t)(&p.Pix[0]), C.int(p.Stride), C.int(p.W), C.int(p.H), opaque, C.float(quality), lossless, Effort, &out, &n)
	return taken(code, out, n)
}

func taken(code C.int, out *C.uint8_t, n C.size_t) ([]byte, error) {
	if code != 0 {
		return nil, &codec.Error{Type: Type, Problem: fmt.Sprintf("encoding failed with libwebp's error %d", int(code))}
	}
	defer C.free(unsafe.Pointer(out))
	return C.GoBytes(unsafe.Pointer(out), C.int(n)), nil
}
