// Package avif turns AVIF bytes into pixels and back, through libavif.
package avif

// #cgo LDFLAGS: -lavif
// #include <stdlib.h>
// #include "libavif.h"
import "C"

import (
	"bytes"
	"fmt"
	"runtime"
	"unsafe"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// Type is the media type this package reads and writes.
const Type = "image/avif"

// MaxSide is the longest side that is written: what decoders of the format's baseline profile take.
const MaxSide = 8192

// mostPixels is what a header may claim before anything is made room for; a site's own limits are below it.
const mostPixels = 1 << 28

// orientations are what quarter turns anticlockwise (HEIF, section 6.5.10), then mirroring (section 6.5.12), are
// as an Exif orientation: by turns, and by none, top and bottom, left and right.
var orientations = [4][3]int{{1, 4, 2}, {8, 5, 7}, {3, 2, 4}, {6, 7, 5}}

type decoder struct {
	d    *C.el_avif_decoder
	info C.el_avif_info
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
	if d.d = C.el_avif_open((*C.uint8_t)(&data[0]), C.size_t(len(data)), mostPixels, &d.info); d.d == nil {
		d.pin.Unpin()
		return nil, failure(d.info.status)
	}
	return d, nil
}

func (d *decoder) close() {
	C.free(unsafe.Pointer(d.info.profile))
	C.el_avif_close(d.d)
	d.pin.Unpin()
}

func (d *decoder) describe() codec.Info {
	f := &d.info
	info := codec.Info{
		Type: Type, W: int(f.width), H: int(f.height), Orientation: orientations[f.turns&3][f.mirror%3],
		Alpha: f.alpha != 0, Frames: max(1, int(f.frames)), Depth: int(f.depth),
		Colour: codec.Colour{Primaries: int(f.primaries), Transfer: int(f.transfer)},
	}
	if info.Frames > 1 {
		info.Coding = "animated"
	}
	if f.profile_size > 0 {
		info.Profile = C.GoBytes(unsafe.Pointer(f.profile), C.int(f.profile_size))
		info.Colour = codec.Colour{}
	}
	return info
}

// Probe reads the header.
func Probe(data []byte) (codec.Info, error) {
	d, err := open(data)
	if err != nil {
		return codec.Info{}, err
	}
	defer d.close()
	info := d.describe()
	info.GainMap = bytes.Contains(data[:min(len(data), 64)], []byte("tmap")) // among the brands (ISO/IEC 23008-12, section 6.6.2.4.1)
	return info, nil
}

// Decode gives the picture, of a sequence its first frame. Samples of 10 and 12 bits come rounded to 8, but where
// the transfer function is a high dynamic range's: then the picture has 16.
func Decode(data []byte) (codec.Picture, error) {
	d, err := open(data)
	if err != nil {
		return codec.Picture{}, err
	}
	defer d.close()
	info := d.describe()
	if info.Colour.HighRange() {
		p := codec.NewDeep(info.W, info.H)
		if status := C.el_avif_read(d.d, unsafe.Pointer(&p.Pix[0]), C.int(8*info.W), 16); status != 0 {
			return codec.Picture{}, failure(status)
		}
		return codec.Picture{RGBA: p.ToSRGB(info.Colour)}, nil
	}
	p := raster.PooledRGBA(info.W, info.H)
	p.Opaque = !info.Alpha
	if status := C.el_avif_read(d.d, unsafe.Pointer(&p.Pix[0]), C.int(p.Stride), 8); status != 0 {
		p.Free()
		return codec.Picture{}, failure(status)
	}
	if info.Alpha {
		p.FindOpaque()
	}
	return codec.Picture{RGBA: p}, nil
}

// DecodePlanes gives an 8-bit 4:2:0 picture of full range, as EncodePlanes writes it.
func DecodePlanes(data []byte) (*raster.YCbCr, error) {
	d, err := open(data)
	if err != nil {
		return nil, err
	}
	defer d.close()
	p := raster.New420(int(d.info.width), int(d.info.height), raster.Full)
	status := C.el_avif_read_planes(d.d, (*C.uint8_t)(&p.Y.Pix[0]), C.int(p.Y.Stride), (*C.uint8_t)(&p.Cb.Pix[0]), (*C.uint8_t)(&p.Cr.Pix[0]), C.int(p.Cb.Stride))
	if status != 0 {
		return nil, failure(status)
	}
	return p, nil
}

func failure(status C.int) error {
	e := &codec.Error{Type: Type, Problem: "its data is broken: " + C.GoString(C.el_avif_says(status))}
	if C.GoString(C.el_avif_says(status)) == "Truncated data" {
		e.Truncated, e.Problem = true, "the file ends before the picture does"
	}
	return e
}

// Settings are how a picture is written.
type Settings struct {
	// Quantizer is AV1's, scaled by libavif to 0 (finest) to 63.
	Quantizer int
	// Coarser is by how many quarters of a step of Quantizer more, 0 to 3: its high frequencies are coarser (AV1, section
	// 5.9.12: using_qmatrix). Beyond about 54 it does little.
	Coarser int
	// Speed is libavif's, 0 (thorough) to 10 (quick).
	Speed int
	// Copies lets blocks be copied from elsewhere in the picture (AV1, section 5.9.2: allow_intrabc): fewer bytes where a drawing repeats
	// itself, else more, for edges aren't filtered then; it takes up to ten times as long.
	Copies bool
	// FullChroma keeps colour at full size, which sharp coloured edges want.
	FullChroma bool
	// Facts are embedded.
	Facts metadata.Facts
}

// matrices are the levels of AV1's quantizer matrices, 15 (flat) to 0, that are about as coarse as one, two and three quarters of
// a quantizer step. `go test ./core/render -run TestPartsOfAQuantizer` holds them to that.
var matrices = []struct {
	below  int
	levels [3]int
}{
	{22, [3]int{11, 10, 10}}, {30, [3]int{10, 9, 8}}, {34, [3]int{9, 8, 7}}, {38, [3]int{8, 7, 6}}, {42, [3]int{8, 6, 5}},
	{46, [3]int{7, 5, 4}}, {50, [3]int{6, 4, 3}}, {54, [3]int{5, 3, 2}}, {MaxQuantizer + 1, [3]int{3, 2, 2}},
}

func matrixFor(quantizer, coarser int) int {
	for _, m := range matrices {
		if quantizer < m.below {
			return m.levels[min(3, coarser)-1]
		}
	}
	return 0
}

// MaxQuantizer is the coarsest.
const MaxQuantizer = 63

// hold makes C's settings, whose facts stay in place until the pinner lets go.
func (s Settings) hold(pin *runtime.Pinner, lossless bool) C.el_avif_settings {
	// Alpha is what edges are seen by: finer than colour.
	c := C.el_avif_settings{quantizer: C.int(s.Quantizer), alpha_quantizer: C.int(s.Quantizer / 2), speed: C.int(s.Speed)}
	if s.Copies {
		c.copies = 1
	}
	if s.Coarser > 0 {
		c.matrix = C.int(matrixFor(s.Quantizer, s.Coarser))
	}
	if lossless {
		c = C.el_avif_settings{speed: C.int(s.Speed), lossless: 1}
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

// write hands the settings to the encoder.
func (s Settings) write(lossless bool, encode func(c *C.el_avif_settings, out **C.uint8_t, n *C.size_t) C.int) ([]byte, error) {
	var pin runtime.Pinner
	defer pin.Unpin()
	c := s.hold(&pin, lossless)
	var out *C.uint8_t
	var n C.size_t
	return taken(encode(&c, &out, &n), out, n)
}

// EncodePlanes writes a 4:2:0 picture in Full range.
func EncodePlanes(p *raster.YCbCr, s Settings) ([]byte, error) {
	return s.write(false, func(c *C.el_avif_settings, out **C.uint8_t, n *C.size_t) C.int {
		return C.el_avif_write_planes((*C.uint8_t)(&p.Y.Pix[0]), C.int(p.Y.Stride), (*C.uint8_t)(&p.Cb.Pix[0]), (*C.uint8_t)(&p.Cr.Pix[0]),
			C.int(p.Cb.Stride), C.int(p.W), C.int(p.H), c, out, n)
	})
}

// EncodeRGBA writes a picture with straight alpha.
func EncodeRGBA(p *raster.RGBA, s Settings) ([]byte, error) { return encode(p, s, false) }

// EncodeLossless writes a picture with straight alpha, every pixel kept. Quantizer isn't looked at.
func EncodeLossless(p *raster.RGBA, s Settings) ([]byte, error) {
	s.FullChroma = true
	return encode(p, s, true)
}

func encode(p *raster.RGBA, s Settings, lossless bool) ([]byte, error) {
	flag := func(b bool) C.int {
		if b {
			return 1
		}
		return 0
	}
	return s.write(lossless, func(c *C.el_avif_settings, out **C.uint8_t, n *C.size_t) C.int {
		return C.el_avif_write_pixels((*C.uint8_t)(&p.Pix[0]), C.int(p.Stride), C.int(p.W), C.int(p.H), flag(p.Opaque), flag(s.FullChroma), c, out, n)
	})
}

func taken(status C.int, out *C.uint8_t, n C.size_t) ([]byte, error) {
	if status != 0 {
		return nil, unwritten(C.GoString(C.el_avif_says(status)))
	}
	defer C.el_avif_free(out, n)
	return C.GoBytes(unsafe.Pointer(out), C.int(n)), nil
}

func unwritten(why string) error {
	return &codec.Error{Type: Type, Problem: fmt.Sprintf("encoding failed: %s", why)}
}
