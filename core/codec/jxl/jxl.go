// Package jxl turns JPEG XL bytes (ISO/IEC 18181) into pixels and back, and JPEGs into JPEG XL and back, through libjxl.
package jxl

// #cgo LDFLAGS: -ljxl
// #include <stdlib.h>
// #include "libjxl.h"
import "C"

import (
	"math"
	"runtime"
	"time"
	"unsafe"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// Type is the media type this package reads and writes.
const Type = "image/jxl"

// What a header may claim before anything is made room for; a site's own limits are below it.
const (
	mostPixels = 1 << 28
	mostFrames = 10_000
)

type decoder struct {
	d    *C.el_jxl_decoder
	info C.el_jxl_info
	pin  runtime.Pinner
}

func open(data []byte) (*decoder, error) {
	if len(data) < 12 {
		return nil, &codec.Error{Type: Type, Truncated: true, Problem: "the file ends in its header"}
	}
	if err := metadata.CheckBoxes(Type, data); err != nil {
		return nil, err
	}
	d := &decoder{}
	d.pin.Pin(&data[0])
	if d.d = C.el_jxl_open((*C.uint8_t)(&data[0]), C.size_t(len(data)), mostPixels, mostFrames, &d.info); d.d == nil {
		d.pin.Unpin()
		return nil, failure(d.info.status)
	}
	return d, nil
}

func (d *decoder) close() {
	C.free(unsafe.Pointer(d.info.profile))
	C.el_jxl_close(d.d)
	d.pin.Unpin()
}

func (d *decoder) describe() codec.Info {
	f := &d.info
	info := codec.Info{
		Type: Type, W: int(f.width), H: int(f.height), Orientation: max(1, int(f.orientation)), Alpha: f.alpha != 0,
		Frames: max(1, int(f.frames)), Plays: int(f.plays), Depth: int(f.depth), Colour: codec.Colour{Primaries: int(f.primaries), Transfer: int(f.transfer)},
	}
	switch {
	case info.Frames > 1:
		info.Coding = "animated"
	case f.grey != 0:
		info.Coding = "grey"
	}
	if f.profile_size > 0 {
		info.Profile = C.GoBytes(unsafe.Pointer(f.profile), C.int(f.profile_size))
	}
	return info
}

// next decodes a frame of 8 bits a sample.
func (d *decoder) next() (*raster.RGBA, time.Duration, error) {
	p := raster.PooledRGBA(int(d.info.width), int(d.info.height))
	p.Opaque = d.info.alpha == 0
	var shown C.double
	if status := C.el_jxl_next(d.d, unsafe.Pointer(&p.Pix[0]), C.size_t(p.Stride), 8, &shown); status != 0 {
		p.Free()
		return nil, 0, failure(status)
	}
	if d.info.alpha != 0 {
		p.FindOpaque()
	}
	return p, time.Duration(math.Min(float64(shown), 1e9) * 1e6), nil
}

// Probe reads the header, of an animation those of all frames.
func Probe(data []byte) (codec.Info, error) {
	d, err := open(data)
	if err != nil {
		return codec.Info{}, err
	}
	defer d.close()
	return d.describe(), nil
}

// Decode gives the picture as stored, of an animation its first frame. Samples of more than 8 bits come rounded; a high dynamic
// range is brought to sRGB.
func Decode(data []byte) (codec.Picture, error) {
	d, err := open(data)
	if err != nil {
		return codec.Picture{}, err
	}
	defer d.close()
	if info := d.describe(); info.Colour.HighRange() {
		p := codec.NewDeep(info.W, info.H)
		var shown C.double
		if status := C.el_jxl_next(d.d, unsafe.Pointer(&p.Pix[0]), C.size_t(8*info.W), 16, &shown); status != 0 {
			return codec.Picture{}, failure(status)
		}
		return codec.Picture{RGBA: p.ToSRGB(info.Colour)}, nil
	}
	p, _, err := d.next()
	return codec.Picture{RGBA: p}, err
}

// Frames gives an animation's frames, as they are shown, straight.
func Frames(data []byte, each func(p *raster.RGBA, shown time.Duration) error) error {
	d, err := open(data)
	if err != nil {
		return err
	}
	defer d.close()
	for range max(1, int(d.info.frames)) {
		p, shown, err := d.next()
		if err != nil {
			return err
		}
		if err := each(p, shown); err != nil {
			return err
		}
	}
	return nil
}

// Rebuild gives the JPEG that FromJPEG made a file of, to the byte. Its error says that the file holds none, or is broken.
func Rebuild(data []byte) ([]byte, error) {
	if len(data) < 12 {
		return nil, failure(C.el_jxl_short)
	}
	var out *C.uint8_t
	var n C.size_t
	if status := C.el_jxl_rebuild((*C.uint8_t)(&data[0]), C.size_t(len(data)), C.size_t(64*len(data)+1<<20), &out, &n); status != 0 {
		return nil, failure(status)
	}
	defer C.free(unsafe.Pointer(out))
	return C.GoBytes(unsafe.Pointer(out), C.int(n)), nil
}

func failure(status C.int) error {
	e := &codec.Error{Type: Type}
	switch status {
	case C.el_jxl_short:
		e.Truncated, e.Problem = true, "the file ends before the picture does"
	case C.el_jxl_memory:
		e.Problem = "it takes more memory than there is"
	case C.el_jxl_beyond:
		e.Problem = "it has more pixels or channels than are read"
	case C.el_jxl_black:
		e.Problem = "it is in CMYK, which isn't read of this format"
	default:
		e.Problem = "its data is broken"
	}
	return e
}

// Settings are how a picture is written.
type Settings struct {
	// Distance is libjxl's: how far from the picture, in units of what can just be seen, 0.01 (finest) to 15.
	Distance float64
	// Effort is libjxl's, 1 (quick) to 9 (thorough).
	Effort int
	// Facts are embedded.
	Facts metadata.Facts
}

// hold makes C's settings, whose facts stay in place until the pinner lets go.
func (s Settings) hold(pin *runtime.Pinner, lossless bool) C.el_jxl_settings {
	c := C.el_jxl_settings{distance: C.float(math.Min(MaxDistance, math.Max(0.01, s.Distance))), effort: C.int(s.Effort)}
	switch {
	case lossless:
		c.lossless = 1
	case s.Effort >= keptEffort: // an eighth of the size comes first in any case; one more pass before it costs no bytes from there on
		c.progressive = 1
	}
	if e := s.Facts.Exif; len(e) > 0 {
		pin.Pin(&e[0])
		c.exif, c.exif_size = (*C.uint8_t)(&e[0]), C.size_t(len(e))
	}
	if x := s.Facts.XMP; len(x) > 0 {
		pin.Pin(&x[0])
		c.xmp, c.xmp_size = (*C.uint8_t)(&x[0]), C.size_t(len(x))
	}
	return c
}

// MaxDistance is the coarsest that is written.
const MaxDistance = 15

// Encode writes a picture with straight alpha.
func Encode(p *raster.RGBA, s Settings) ([]byte, error) { return encode(p, s, false) }

// EncodeLossless writes a picture with straight alpha, every pixel kept. Distance isn't looked at.
func EncodeLossless(p *raster.RGBA, s Settings) ([]byte, error) { return encode(p, s, true) }

func encode(p *raster.RGBA, s Settings, lossless bool) ([]byte, error) {
	var pin runtime.Pinner
	defer pin.Unpin()
	c := s.hold(&pin, lossless)
	opaque := C.int(0)
	if p.Opaque {
		opaque = 1
	}
	e := C.el_jxl_begin(C.int(p.W), C.int(p.H), opaque, -1, &c)
	if e == nil {
		return nil, unwritten
	}
	defer C.el_jxl_drop(e)
	if C.el_jxl_add(e, (*C.uint8_t)(&p.Pix[0]), C.size_t(p.Stride), 0, &c) != 0 {
		return nil, unwritten
	}
	return taken(func(out **C.uint8_t, n *C.size_t) C.int { return C.el_jxl_end(e, out, n) })
}

var unwritten = &codec.Error{Type: Type, Problem: "encoding failed"}

func taken(write func(out **C.uint8_t, n *C.size_t) C.int) ([]byte, error) {
	var out *C.uint8_t
	var n C.size_t
	if write(&out, &n) != 0 {
		return nil, unwritten
	}
	defer C.free(unsafe.Pointer(out))
	return C.GoBytes(unsafe.Pointer(out), C.int(n)), nil
}

// FromJPEG writes a JPEG's own coefficients as JPEG XL: the very same picture in about four fifths of the bytes, from which Rebuild
// gives the JPEG back, unless that has parts that nothing uses. It errs on JPEGs that the format has no room for, such as CMYK.
func FromJPEG(data []byte) ([]byte, error) {
	if len(data) == 0 {
		return nil, unwritten
	}
	return taken(func(out **C.uint8_t, n *C.size_t) C.int {
		return C.el_jxl_from_jpeg((*C.uint8_t)(&data[0]), C.size_t(len(data)), jpegEffort, out, n)
	})
}

// jpegEffort is libjxl's for coefficients that are there already.
const jpegEffort = 7

// animation is one on its way.
type animation struct {
	e        *C.el_jxl_encoder
	w, h     int
	lossless bool
	plays    int
	opaque   bool
}

// NewAnimation begins one of w×h pixels that plays so often, 0 for ever.
func NewAnimation(w, h, plays int, opaque bool) codec.Animation {
	return &animation{w: w, h: h, plays: plays, opaque: opaque}
}

// Add adds a frame, straight, at a fineness, or codec.Exactly. Whether pixels are kept is the first frame's to say.
func (a *animation) Add(p *raster.RGBA, shown time.Duration, setting float64) error {
	s := Settings{Distance: Distance(setting), Effort: frameEffort}
	var pin runtime.Pinner
	defer pin.Unpin()
	if a.e == nil {
		a.lossless = setting == codec.Exactly
		c := s.hold(&pin, a.lossless)
		opaque := C.int(0)
		if a.opaque {
			opaque = 1
		}
		if a.e = C.el_jxl_begin(C.int(a.w), C.int(a.h), opaque, C.int(a.plays), &c); a.e == nil {
			return unwritten
		}
	}
	c := s.hold(&pin, a.lossless)
	if C.el_jxl_add(a.e, (*C.uint8_t)(&p.Pix[0]), C.size_t(p.Stride), C.int(shown.Milliseconds()), &c) != 0 {
		return unwritten
	}
	return nil
}

func (a *animation) Bytes() ([]byte, error) {
	if a.e == nil {
		return nil, unwritten
	}
	return taken(func(out **C.uint8_t, n *C.size_t) C.int { return C.el_jxl_end(a.e, out, n) })
}

func (a *animation) Close() {
	C.el_jxl_drop(a.e)
	a.e = nil
}
