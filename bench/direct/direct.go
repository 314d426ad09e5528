// Package direct calls the codec libraries from C, with nothing of ours between: what our own calls are held against.
package direct

// #cgo LDFLAGS: -ljpeg -lwebp -lavif -lheif
// #include <stdlib.h>
// #include "direct.h"
import "C"

import (
	"fmt"
	"runtime"
	"unsafe"

	"echolane/core/raster"
)

// A Decoder decodes a file to RGBA and lets go of the pixels.
type Decoder func(file []byte) error

// An Encoder encodes 4:2:0 planes and lets go of the file.
type Encoder func(p *raster.YCbCr) error

func decoder(library string, call func(data *C.uint8_t, n C.size_t) C.int) Decoder {
	return func(file []byte) error {
		if code := call((*C.uint8_t)(unsafe.Pointer(&file[0])), C.size_t(len(file))); code != 0 {
			return fmt.Errorf("%s, called directly, doesn't decode: %d", library, code)
		}
		return nil
	}
}

func encoder(library string, setting float64, effort int, call func(p *C.el_planes) C.int) Encoder {
	return func(p *raster.YCbCr) error {
		var pin runtime.Pinner
		defer pin.Unpin()
		for _, plane := range []raster.Plane{p.Y, p.Cb, p.Cr} {
			pin.Pin(&plane.Pix[0])
		}
		planes := C.el_planes{
			y: (*C.uint8_t)(&p.Y.Pix[0]), cb: (*C.uint8_t)(&p.Cb.Pix[0]), cr: (*C.uint8_t)(&p.Cr.Pix[0]),
			ys: C.int(p.Y.Stride), cs: C.int(p.Cb.Stride), w: C.int(p.W), h: C.int(p.H), setting: C.float(setting), effort: C.int(effort),
		}
		if code := call(&planes); code != 0 {
			return fmt.Errorf("%s, called directly, doesn't encode: %d", library, code)
		}
		return nil
	}
}

// The decoders.
var (
	JPEG = decoder("libjpeg-turbo", func(d *C.uint8_t, n C.size_t) C.int { return C.direct_jpeg_decode(d, n) })
	WebP = decoder("libwebp", func(d *C.uint8_t, n C.size_t) C.int { return C.direct_webp_decode(d, n) })
	AVIF = decoder("libavif", func(d *C.uint8_t, n C.size_t) C.int { return C.direct_avif_decode(d, n) })
	HEIC = decoder("libheif", func(d *C.uint8_t, n C.size_t) C.int { return C.direct_heic_decode(d, n) })
)

// ToJPEG encodes full-range planes at libjpeg's quality, progressive and optimised.
func ToJPEG(quality int) Encoder {
	return encoder("libjpeg-turbo", float64(quality), 0, func(p *C.el_planes) C.int { return C.direct_jpeg_encode(p) })
}

// ToWebP encodes limited-range planes at libwebp's quality and method.
func ToWebP(quality float64, method int) Encoder {
	return encoder("libwebp", quality, method, func(p *C.el_planes) C.int { return C.direct_webp_encode(p) })
}

// ToAVIF encodes full-range planes at libavif's quantizer and speed, with the options that are ours.
func ToAVIF(quantizer, speed int) Encoder {
	return encoder("libavif", float64(quantizer), speed, func(p *C.el_planes) C.int { return C.direct_avif_encode(p) })
}

// AVIFAlone gives the file of full-range planes that libavif makes of them without any option.
func AVIFAlone(p *raster.YCbCr, quantizer, speed int) (file []byte, err error) {
	err = encoder("libavif", float64(quantizer), speed, func(p *C.el_planes) C.int {
		var out *C.uint8_t
		var n C.size_t
		code := C.direct_avif_alone(p, &out, &n)
		file = C.GoBytes(unsafe.Pointer(out), C.int(n))
		C.free(unsafe.Pointer(out))
		return code
	})(p)
	return file, err
}
