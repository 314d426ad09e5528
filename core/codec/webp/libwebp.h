// The narrow door to libwebp.
#ifndef ECHOLANE_LIBWEBP_H
#define ECHOLANE_LIBWEBP_H

#include <stddef.h>
#include <stdint.h>

typedef struct { int width, height, alpha, animated, frames; size_t profile_at, profile_size; int status; } el_webp_info;

int el_webp_probe(const uint8_t *data, size_t n, el_webp_info *info);
// Straight RGBA. The first frame where there are several. Returns a VP8StatusCode.
int el_webp_read(const uint8_t *data, size_t n, int animated, uint8_t *pix, int stride, int w, int h);
// *out is malloc'ed. Returns 0, or a WebPEncodingError.
int el_webp_write_planes(const uint8_t *y, int ys, const uint8_t *u, const uint8_t *v, int cs,
	int w, int h, float quality, int method, uint8_t **out, size_t *n);
int el_webp_write_pixels(const uint8_t *rgba, int stride, int w, int h, int opaque,
	float quality, int lossless, int method, uint8_t **out, size_t *n);
#endif
