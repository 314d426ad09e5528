// Package icc takes colours from an ICC profile to sRGB, through Little CMS.
package icc

/*
#cgo LDFLAGS: -llcms2
#include <stdlib.h>
#include <stdint.h>
#include <lcms2.h>

static void el_quiet(cmsContext c, cmsUInt32Number code, const char *text) { (void)c; (void)code; (void)text; }

// Rows of four bytes a pixel, in place. kind is the profile's own: 3 RGB, 1 grey (all channels alike), 4 CMYK
// (255 for no ink). Alpha stays as it is, for CMYK it becomes 255. Perceptual intent, as browsers take it.
static cmsHTRANSFORM el_transform(const void *profile, size_t n, int kind, cmsContext *context) {
	*context = cmsCreateContext(NULL, NULL);
	if (!*context)
		return NULL;
	cmsSetLogErrorHandlerTHR(*context, el_quiet);
	cmsHPROFILE from = cmsOpenProfileFromMemTHR(*context, profile, n);
	cmsHPROFILE to = cmsCreate_sRGBProfileTHR(*context);
	cmsHTRANSFORM t = NULL;
	if (from && to) {
		cmsColorSpaceSignature space = cmsGetColorSpace(from);
		cmsUInt32Number format = 0;
		if (kind == 3 && space == cmsSigRgbData)
			format = TYPE_RGBA_8;
		else if (kind == 3 && space == cmsSigGrayData)
			format = COLORSPACE_SH(PT_GRAY) | EXTRA_SH(3) | CHANNELS_SH(1) | BYTES_SH(1);
		else if (kind == 4 && space == cmsSigCmykData)
			format = TYPE_CMYK_8_REV;
		if (format)
			t = cmsCreateTransformTHR(*context, from, format, to, TYPE_RGBA_8, INTENT_PERCEPTUAL, 0);
	}
	if (from)
		cmsCloseProfile(from);
	if (to)
		cmsCloseProfile(to);
	return t;
}

static void el_free(cmsHTRANSFORM t, cmsContext c) {
	if (t)
		cmsDeleteTransform(t);
	if (c)
		cmsDeleteContext(c);
}

static void el_convert(cmsHTRANSFORM t, uint8_t *pix, int stride, int w, int h) {
	cmsDoTransformLineStride(t, pix, pix, w, h, stride, stride, 0, 0);
}
*/
import "C"

import (
	"unsafe"

	"echolane/core/raster"
)

// A Transform takes pixels from one profile to sRGB. It belongs to one goroutine; Close it.
type Transform struct {
	handle  C.cmsHTRANSFORM
	context C.cmsContext
	cmyk    bool
}

// New makes a transform for pixels with three colours or grey in three (cmyk false), or for CMYK. It gives
// nil where the profile is broken or is for another kind of pixel: such a profile is ignored, as browsers do.
func New(profile []byte, cmyk bool) *Transform {
	if len(profile) < 128 {
		return nil
	}
	t := &Transform{cmyk: cmyk}
	kind := C.int(3)
	if cmyk {
		kind = 4
	}
	t.handle = C.el_transform(unsafe.Pointer(&profile[0]), C.size_t(len(profile)), kind, &t.context)
	if t.handle == nil {
		t.Close()
		return nil
	}
	return t
}

// Close frees what the transform holds.
func (t *Transform) Close() {
	C.el_free(t.handle, t.context)
	t.handle, t.context = nil, nil
}

// Apply converts p, with straight alpha, in place. CMYK becomes opaque RGB.
func (t *Transform) Apply(p *raster.RGBA) {
	var alpha []uint8
	if !t.cmyk && !p.Opaque {
		alpha = make([]uint8, 0, p.W*p.H)
		for y := range p.H {
			row := p.Row(y)
			for i := 3; i < len(row); i += 4 {
				alpha = append(alpha, row[i])
			}
		}
	}
	C.el_convert(t.handle, (*C.uint8_t)(&p.Pix[0]), C.int(p.Stride), C.int(p.W), C.int(p.H))
	for y := range p.H {
		row := p.Row(y)
		for x := range p.W {
			if alpha != nil {
				row[4*x+3] = alpha[y*p.W+x]
			} else {
				row[4*x+3] = 255
			}
		}
	}
}

// IsIdentity reports whether the transform moves no colour of a 9×9×9 lattice by more than one level: the
// profile is sRGB by another name.
func (t *Transform) IsIdentity() bool {
	if t.cmyk {
		return false
	}
	const n = 9
	p := raster.NewRGBA(n*n*n, 1)
	p.Opaque = true
	for i := range n * n * n {
		for c, v := range []int{i % n, i / n % n, i / n / n} {
			p.Pix[4*i+c] = uint8(v * 255 / (n - 1))
		}
	}
	before := append([]uint8(nil), p.Pix...)
	t.Apply(p)
	for i := range p.Pix {
		if i%4 != 3 && (int(p.Pix[i])-int(before[i]) > 1 || int(before[i])-int(p.Pix[i]) > 1) {
			return false
		}
	}
	return true
}

// NaiveCMYK turns CMYK (255 for no ink) into RGB in place without a profile: each colour times black, as
// browsers do for untagged files.
func NaiveCMYK(p *raster.RGBA) {
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			k := uint32(row[i+3])
			for c := range 3 {
				row[i+c] = uint8((uint32(row[i+c])*k + 127) / 255)
			}
			row[i+3] = 255
		}
	}
	p.Opaque = true
}
