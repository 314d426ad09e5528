#ifndef ECHOLANE_DIRECT_H
#define ECHOLANE_DIRECT_H

#include <stddef.h>
#include <stdint.h>

typedef struct {
	uint8_t *y, *cb, *cr;
	int ys, cs, w, h;
	float setting;
	int effort;
} el_planes;

int direct_jpeg_decode(const uint8_t *data, size_t n);
int direct_webp_decode(const uint8_t *data, size_t n);
int direct_avif_decode(const uint8_t *data, size_t n);
int direct_heic_decode(const uint8_t *data, size_t n);
int direct_jpeg_encode(const el_planes *p);
int direct_webp_encode(const el_planes *p);
int direct_avif_encode(const el_planes *p);
int direct_avif_alone(const el_planes *p, uint8_t **out, size_t *n); // free what is given
#endif
