package independent

import (
	"errors"
	"unsafe"
)

// #cgo LDFLAGS: -ljxl
// #include <jxl/butteraugli.h>
//
// static double away(const void *a, const void *b, unsigned w, unsigned h, size_t size, float norm) {
//   JxlPixelFormat f = {4, JXL_TYPE_UINT8, JXL_NATIVE_ENDIAN, 0};
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

// Butteraugli is how far apart libjxl's measure of that name sees two opaque pictures on a screen of 80 cd/m²: the 3-norm
// over the picture, 0 for equal, about 1 where one begins to see it. Pixels are straight sRGB in RGBA, rows without gaps.
func Butteraugli(a, b []uint8, w, h int) (float64, error) {
	if len(a) != 4*w*h || len(b) != 4*w*h || w == 0 || h == 0 {
		return 0, errors.New("butteraugli: the pictures aren't of that size")
	}
	d := float64(C.away(unsafe.Pointer(&a[0]), unsafe.Pointer(&b[0]), C.uint(w), C.uint(h), C.size_t(len(a)), 3))
	if d < 0 {
		return 0, errors.New("butteraugli: libjxl doesn't compare these pictures")
	}
	return d, nil
}
