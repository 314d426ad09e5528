// The narrow door to libwebp.
#ifndef ECHOLANE_LIBWEBP_H
#define ECHOLANE_LIBWEBP_H

#include <stddef.h>
#include <stdint.h>

typedef struct { int width, height, alpha, animated, frames, plays; size_t profile_at, profile_size; int status; } el_webp_info;

int el_webp_probe(const uint8_t *data, size_t n, el_webp_info *info);
// Straight RGBA. The first frame where there are several. Returns a VP8StatusCode.
// The first h rows, where cut says that there are more of a still; what is below isn't decoded.
int el_webp_read(const uint8_t *data, size_t n, int animated, int cut, uint8_t *pix, int stride, int w, int h);
// el_webp_read_planes decodes a still into 4:2:0 planes of limited range.
int el_webp_read_planes(const uint8_t *data, size_t n, uint8_t *y, int ys, uint8_t *u, uint8_t *v, int cs, int h);
// *out is malloc'ed. Returns 0, or a WebPEncodingError.
int el_webp_write_planes(const uint8_t *y, int ys, const uint8_t *u, const uint8_t *v, int cs,
	int w, int h, float quality, int method, uint8_t **out, size_t *n);
int el_webp_write_pixels(const uint8_t *rgba, int stride, int w, int h, int opaque,
	float quality, int lossless, int method, uint8_t **out, size_t *n);

// Animations. Frames come whole, straight, one after another; at is when each ends, in ms.
void *el_webp_frames(const uint8_t *data, size_t n);
int el_webp_next(void *frames, uint8_t *pix, int stride, int w, int h, int *at); // 1 a frame, 0 none left, -1 broken
void el_webp_end_frames(void *frames);

void *el_webp_animation(int w, int h, int plays);
int el_webp_add(void *animation, const uint8_t *rgba, int stride, int w, int h, int at, float quality, int lossless, int method); // a WebPEncodingError, or -1
int el_webp_finish(void *animation, int at, uint8_t **out, size_t *n);
void el_webp_end_animation(void *animation);
#endif
