package independent

import (
	"errors"
	"math"
	"unsafe"
)

// #cgo LDFLAGS: -ljxl
// #include <jxl/butteraugli.h>
//
// static double away(const void *a, const void *b, unsigned w, unsigned h, size_t size, float norm) {
//   JxlPixelFormat f = {3, JXL_TYPE_FLOAT, JXL_NATIVE_ENDIAN, 0};
//   JxlButteraugliApi *api = JxlButteraugliApiCreate(NULL);
//   if (!api) return -1;
//   JxlButteraugliApiSetIntensityTarget(api, 80);
//   JxlButteraugliResult *r = JxlButteraugliCompute(api, w, h, &f, a, size, &f, b, size);
//   double d = r ? JxlButteraugliResultGetDistance(r, norm) : -1;
//   if (r) JxlButteraugliResultDestroy(r);
//   JxlButteraugliApiDestroy(api);
//   return d;
// }
import "C"

// Butteraugli is how far apart libjxl's measure of that name sees another picture from the original, on a screen of
// 80 cd/m²: the 3-norm over the picture, 0 for equal, about 1 where one begins to see it. Pixels are straight, opaque sRGB
// in RGBA, of the original's size.
func (o *Original) Butteraugli(pix []uint8, stride int) (float64, error) {
	if len(o.linear) == 0 || stride < 4*o.w || len(pix) < stride*(o.h-1)+4*o.w {
		return 0, errors.New("butteraugli: the pictures aren't of one size")
	}
	other := linear(pix, stride, o.w, o.h)
	d := float64(C.away(unsafe.Pointer(&o.linear[0]), unsafe.Pointer(&other[0]), C.uint(o.w), C.uint(o.h), C.size_t(4*len(other)), 3))
	if d < 0 {
		return 0, errors.New("butteraugli: libjxl doesn't compare these pictures")
	}
	return d, nil
}

// linear are a picture's red, green and blue as linear light (IEC 61966-2-1), 0–1. libjxl takes half the time for these:
// it would compute a power for each sample itself.
func linear(pix []uint8, stride, w, h int) []float32 {
	out := make([]float32, 0, 3*w*h)
	for y := range h {
		for x := range w {
			for _, v := range pix[y*stride+4*x:][:3] {
				out = append(out, light[v])
			}
		}
	}
	return out
}

var light = func() (of [256]float32) {
	for i := range of {
		v := float64(i) / 255
		if v <= 0.04045 {
			v /= 12.92
		} else {
			v = math.Pow((v+0.055)/1.055, 2.4)
		}
		of[i] = float32(v)
	}
	return of
}()
