package pictures

/*
#cgo LDFLAGS: -ljpeg
#include <stdio.h>
#include <stdlib.h>
#include <string.h>
#include <stdint.h>
#include <jpeglib.h>

// libjpeg's default error handler ends the process; here that can only be for want of memory.
static void write_cmyk(const uint8_t *inks, int w, int h, int quality, uint8_t **out, unsigned long *n) {
	struct jpeg_compress_struct c;
	struct jpeg_error_mgr e;
	memset(&c, 0, sizeof c);
	c.err = jpeg_std_error(&e);
	jpeg_create_compress(&c);
	jpeg_mem_dest(&c, out, n);
	c.image_width = w;
	c.image_height = h;
	c.input_components = 4;
	c.in_color_space = JCS_CMYK;
	jpeg_set_defaults(&c);
	jpeg_set_quality(&c, quality, TRUE);
	jpeg_start_compress(&c, TRUE);
	while (c.next_scanline < c.image_height) {
		JSAMPROW row = (JSAMPROW)inks + (size_t)c.next_scanline * w * 4;
		jpeg_write_scanlines(&c, &row, 1);
	}
	jpeg_finish_compress(&c);
	jpeg_destroy_compress(&c);
}
*/
import "C"

import "unsafe"

func writeCMYK(inks []byte, w, h, quality int) ([]byte, error) {
	var out *C.uint8_t
	var n C.ulong
	C.write_cmyk((*C.uint8_t)(&inks[0]), C.int(w), C.int(h), C.int(quality), &out, &n)
	defer C.free(unsafe.Pointer(out))
	return C.GoBytes(unsafe.Pointer(out), C.int(n)), nil
}
