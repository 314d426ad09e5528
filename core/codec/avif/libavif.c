#include "libavif.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <avif/avif.h>

struct el_avif_decoder {
	avifDecoder *d;
	el_avif_info info;
	uint32_t at; // the frame that el_avif_next decodes
};

const char *el_avif_says(int status) { return avifResultToString(status); }

el_avif_decoder *el_avif_open(const uint8_t *data, size_t n, uint32_t most_pixels, el_avif_info *info) {
	memset(info, 0, sizeof *info);
	avifDecoder *d = avifDecoderCreate();
	if (!d) {
		info->status = AVIF_RESULT_OUT_OF_MEMORY;
		return NULL;
	}
	d->maxThreads = 1;
	d->ignoreExif = d->ignoreXMP = AVIF_TRUE;
	d->strictFlags = AVIF_STRICT_DISABLED; // as browsers do
	if (most_pixels)
		d->imageSizeLimit = most_pixels;
	avifResult r = avifDecoderSetIOMemory(d, data, n);
	if (r == AVIF_RESULT_OK)
		r = avifDecoderParse(d);
	if (r != AVIF_RESULT_OK) {
		info->status = r;
		avifDecoderDestroy(d);
		return NULL;
	}
	avifImage *m = d->image;
	info->width = m->width;
	info->height = m->height;
	info->depth = m->depth;
	info->alpha = d->alphaPresent;
	info->frames = d->imageCount;
	info->primaries = m->colorPrimaries;
	info->transfer = m->transferCharacteristics;
	info->matrix = m->matrixCoefficients;
	info->full = m->yuvRange == AVIF_RANGE_FULL;
	if (m->transformFlags & AVIF_TRANSFORM_CLAP) {
		avifCropRect c;
		avifDiagnostics diag;
		if (avifCropRectConvertCleanApertureBox(&c, &m->clap, m->width, m->height, m->yuvFormat, &diag)) {
			info->crop_x = c.x;
			info->crop_y = c.y;
			info->width = c.width;
			info->height = c.height;
		}
	}
	if (m->transformFlags & AVIF_TRANSFORM_IROT)
		info->turns = m->irot.angle & 3;
	if (m->transformFlags & AVIF_TRANSFORM_IMIR)
		info->mirror = m->imir.mode ? 2 : 1;
	if (m->icc.size && (info->profile = malloc(m->icc.size))) {
		memcpy(info->profile, m->icc.data, m->icc.size);
		info->profile_size = m->icc.size;
	}
	el_avif_decoder *e = malloc(sizeof *e);
	if (!e) {
		free(info->profile);
		info->profile = NULL;
		info->status = AVIF_RESULT_OUT_OF_MEMORY;
		avifDecoderDestroy(d);
		return NULL;
	}
	e->d = d;
	e->info = *info;
	e->at = 0;
	return e;
}

// pixels gives the decoded frame in RGBA.
static avifResult pixels(el_avif_decoder *e, void *pix, int stride, int depth) {
	avifResult r;
	avifImage *m = e->d->image, *view = m;
	if (e->info.width != (int)m->width || e->info.height != (int)m->height) {
		avifCropRect c = {e->info.crop_x, e->info.crop_y, e->info.width, e->info.height};
		if (!(view = avifImageCreateEmpty()))
			return AVIF_RESULT_OUT_OF_MEMORY;
		if ((r = avifImageSetViewRect(view, m, &c)) != AVIF_RESULT_OK) {
			avifImageDestroy(view);
			return r;
		}
	}
	avifRGBImage rgb;
	avifRGBImageSetDefaults(&rgb, view);
	rgb.format = AVIF_RGB_FORMAT_RGBA;
	rgb.depth = depth;
	rgb.pixels = pix;
	rgb.rowBytes = stride;
	rgb.alphaPremultiplied = AVIF_FALSE;
	r = avifImageYUVToRGB(view, &rgb);
	if (view != m)
		avifImageDestroy(view);
	return r;
}

int el_avif_read(el_avif_decoder *e, void *pix, int stride, int depth) {
	avifResult r = avifDecoderNthImage(e->d, 0);
	return r == AVIF_RESULT_OK ? pixels(e, pix, stride, depth) : r;
}

int el_avif_next(el_avif_decoder *e, void *pix, int stride, double *shown) {
	avifResult r = avifDecoderNthImage(e->d, e->at++);
	if (r != AVIF_RESULT_OK)
		return r;
	*shown = e->d->imageTiming.duration * 1000;
	return pixels(e, pix, stride, 8);
}

int el_avif_read_planes(el_avif_decoder *e, uint8_t *y, int ys, uint8_t *cb, uint8_t *cr, int cs) {
	avifResult r = avifDecoderNthImage(e->d, 0);
	if (r != AVIF_RESULT_OK)
		return r;
	avifImage *m = e->d->image;
	if (m->depth != 8 || m->yuvFormat != AVIF_PIXEL_FORMAT_YUV420)
		return AVIF_RESULT_UNSUPPORTED_DEPTH;
	uint8_t *to[3] = {y, cb, cr};
	int stride[3] = {ys, cs, cs};
	for (int i = 0; i < 3; i++) {
		int w = i ? (m->width + 1) / 2 : m->width, h = i ? (m->height + 1) / 2 : m->height;
		for (int row = 0; row < h; row++)
			memcpy(to[i] + (size_t)row * stride[i], m->yuvPlanes[i] + (size_t)row * m->yuvRowBytes[i], w);
	}
	return 0;
}

void el_avif_close(el_avif_decoder *e) {
	if (!e)
		return;
	avifDecoderDestroy(e->d);
	free(e);
}

// encoder is one with these settings; NULL where there is no memory.
static avifEncoder *encoder(const el_avif_settings *s) {
	avifEncoder *e = avifEncoderCreate();
	if (!e)
		return NULL;
	e->maxThreads = 1;
	e->speed = s->speed;
	e->minQuantizer = e->maxQuantizer = s->quantizer;
	e->minQuantizerAlpha = e->maxQuantizerAlpha = s->alpha_quantizer;
	if (!s->lossless) {
		avifEncoderSetCodecSpecificOption(e, "tune", "ssim");
		avifEncoderSetCodecSpecificOption(e, "enable-cdef", "1"); // which libaom leaves out of stills
		if (!s->copies)
			avifEncoderSetCodecSpecificOption(e, "enable-intrabc", "0");
	}
	if (s->matrix) {
		char level[12];
		snprintf(level, sizeof level, "%d", s->matrix);
		avifEncoderSetCodecSpecificOption(e, "enable-qm", "1");
		avifEncoderSetCodecSpecificOption(e, "qm-min", level);
		avifEncoderSetCodecSpecificOption(e, "qm-max", level);
	}
	return e;
}

static int encode(avifImage *m, const el_avif_settings *s, uint8_t **out, size_t *n) {
	*out = NULL;
	*n = 0;
	avifEncoder *e = encoder(s);
	if (!e)
		return AVIF_RESULT_OUT_OF_MEMORY;
	if (s->exif)
		avifImageSetMetadataExif(m, s->exif, s->exif_size);
	if (s->xmp)
		avifImageSetMetadataXMP(m, s->xmp, s->xmp_size);
	avifRWData data = AVIF_DATA_EMPTY;
	avifResult r = avifEncoderWrite(e, m, &data);
	avifEncoderDestroy(e);
	if (r != AVIF_RESULT_OK) {
		avifRWDataFree(&data);
		return r;
	}
	*out = data.data;
	*n = data.size;
	return 0;
}

void el_avif_free(uint8_t *out, size_t n) {
	avifRWData data = {out, n};
	avifRWDataFree(&data);
}

static void srgb(avifImage *m, int matrix) {
	m->yuvRange = AVIF_RANGE_FULL;
	m->colorPrimaries = AVIF_COLOR_PRIMARIES_BT709;
	m->transferCharacteristics = AVIF_TRANSFER_CHARACTERISTICS_SRGB;
	m->matrixCoefficients = matrix;
}

int el_avif_write_planes(const uint8_t *y, int ys, const uint8_t *cb, const uint8_t *cr, int cs, int w, int h,
	const el_avif_settings *s, uint8_t **out, size_t *n) {
	avifImage *m = avifImageCreate(w, h, 8, AVIF_PIXEL_FORMAT_YUV420);
	if (!m)
		return AVIF_RESULT_OUT_OF_MEMORY;
	srgb(m, AVIF_MATRIX_COEFFICIENTS_BT601);
	m->yuvPlanes[0] = (uint8_t *)y;
	m->yuvPlanes[1] = (uint8_t *)cb;
	m->yuvPlanes[2] = (uint8_t *)cr;
	m->yuvRowBytes[0] = ys;
	m->yuvRowBytes[1] = m->yuvRowBytes[2] = cs;
	m->imageOwnsYUVPlanes = AVIF_FALSE;
	int r = encode(m, s, out, n);
	avifImageDestroy(m);
	return r;
}

// image is a picture of straight RGBA in planes; NULL where that fails, with *r set.
static avifImage *image(const uint8_t *rgba, int stride, int w, int h, int opaque, int full_chroma, int lossless, int limited, avifResult *r) {
	avifImage *m = avifImageCreate(w, h, 8, full_chroma || lossless ? AVIF_PIXEL_FORMAT_YUV444 : AVIF_PIXEL_FORMAT_YUV420);
	*r = AVIF_RESULT_OUT_OF_MEMORY;
	if (!m)
		return NULL;
	srgb(m, lossless ? AVIF_MATRIX_COEFFICIENTS_IDENTITY : AVIF_MATRIX_COEFFICIENTS_BT601);
	if (limited)
		m->yuvRange = AVIF_RANGE_LIMITED;
	avifRGBImage rgb;
	avifRGBImageSetDefaults(&rgb, m);
	rgb.format = AVIF_RGB_FORMAT_RGBA;
	rgb.depth = 8;
	rgb.ignoreAlpha = opaque;
	rgb.pixels = (uint8_t *)rgba;
	rgb.rowBytes = stride;
	if ((*r = avifImageRGBToYUV(m, &rgb)) != AVIF_RESULT_OK) {
		avifImageDestroy(m);
		return NULL;
	}
	return m;
}

int el_avif_write_pixels(const uint8_t *rgba, int stride, int w, int h, int opaque, int full_chroma,
	const el_avif_settings *s, uint8_t **out, size_t *n) {
	avifResult r;
	avifImage *m = image(rgba, stride, w, h, opaque, full_chroma, s->lossless, 0, &r);
	if (!m)
		return r;
	r = encode(m, s, out, n);
	avifImageDestroy(m);
	return r;
}

struct el_avif_film {
	avifEncoder *e;
	int opaque, full_chroma, lossless;
};

el_avif_film *el_avif_film_begin(int opaque, int full_chroma, const el_avif_settings *s) {
	el_avif_film *f = calloc(1, sizeof *f);
	if (!f || !(f->e = encoder(s))) {
		free(f);
		return NULL;
	}
	f->e->timescale = 1000;
	f->opaque = opaque;
	f->full_chroma = full_chroma;
	f->lossless = s->lossless;
	return f;
}

int el_avif_film_add(el_avif_film *f, const uint8_t *rgba, int stride, int w, int h, int shown) {
	avifResult r;
	// Chromium takes all sequences for ones of limited range: those that are, everybody shows right.
	avifImage *m = image(rgba, stride, w, h, f->opaque, f->full_chroma, f->lossless, !f->lossless, &r);
	if (!m)
		return r;
	// Only frames by themselves keep every pixel.
	r = avifEncoderAddImage(f->e, m, shown > 0 ? shown : 1, f->lossless ? AVIF_ADD_IMAGE_FLAG_FORCE_KEYFRAME : AVIF_ADD_IMAGE_FLAG_NONE);
	avifImageDestroy(m);
	return r;
}

int el_avif_film_end(el_avif_film *f, uint8_t **out, size_t *n) {
	avifRWData data = AVIF_DATA_EMPTY;
	avifResult r = avifEncoderFinish(f->e, &data);
	if (r != AVIF_RESULT_OK) {
		avifRWDataFree(&data);
		return r;
	}
	*out = data.data;
	*n = data.size;
	return 0;
}

void el_avif_film_drop(el_avif_film *f) {
	if (!f)
		return;
	avifEncoderDestroy(f->e);
	free(f);
}
