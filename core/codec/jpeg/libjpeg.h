// The narrow door to libjpeg-turbo. libjpeg reports errors by longjmp, so every call that can fail runs
// wholly inside one C function with its own setjmp: no jump ever crosses a Go frame.
#ifndef ECHOLANE_LIBJPEG_H
#define ECHOLANE_LIBJPEG_H

#include <stddef.h>
#include <stdint.h>

typedef struct {
	int width, height, stride; // samples that mean something, and bytes from row to row
	int rows;                  // rows to allocate: whole blocks
	int scale;                 // eighths of the stored size, across and down, of this component's blocks
	int h, v;                  // sampling factors
} el_plane;

typedef struct {
	int width, height;   // at the chosen scale
	int components;
	int ycbcr, cmyk;     // the file's colour space
	int max_h, max_v, min_scale;
	el_plane plane[3];
	int truncated;       // the data ended before the picture did
	char message[256];
} el_info;

typedef struct el_decoder el_decoder;

// Opens data, which must stay where it is until el_close, and works out sizes at scale eighths.
el_decoder *el_open(const uint8_t *data, size_t n, int scale, el_info *info);
// At least the first so many rows, in whole blocks.
int el_read_planes(el_decoder *d, uint8_t *y, uint8_t *cb, uint8_t *cr, int wanted, el_info *info);
// Four bytes a pixel: RGB and 255, or CMYK as stored.
int el_read_pixels(el_decoder *d, uint8_t *pix, int stride, int wanted, el_info *info);
void el_close(el_decoder *d);

// Encoding. 4:2:0, progressive, optimised tables. *out is malloc'ed.
int el_write_planes(const uint8_t *y, int ys, const uint8_t *cb, const uint8_t *cr, int cs,
	int w, int h, int quality, int plain, uint8_t **out, unsigned long *n, char *message);
// What a plane of a baseline JPEG shows, written with a quantizer whose 64 steps are in natural order.
void el_show(const uint8_t *from, int stride, uint8_t *to, int to_stride, int w, int h, const uint16_t *quantizer);
int el_write_pixels(const uint8_t *rgbx, int stride, int w, int h, int quality, int full,
	uint8_t **out, unsigned long *n, char *message);

// One component's quantised coefficients: blocks of 64 in reading order, row after row of across×down blocks.
typedef struct {
	const int16_t *blocks;
	int across, down;
	uint16_t table[64]; // steps, in reading order
} el_coefficients;
// Writes a 4:2:0 picture whose coefficients are given; script 0 refines in bits, 1 in bands of frequency alone.
int el_write_coefficients(const el_coefficients planes[3], int w, int h, int script, uint8_t **out, unsigned long *n, char *message);
#endif
