// Each function is what a C program would write that decodes or encodes one picture in memory.
#include "direct.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <avif/avif.h>
#include <jpeglib.h>
#include <libheif/heif.h>
#include <webp/decode.h>
#include <webp/encode.h>

int direct_jpeg_decode(const uint8_t *data, size_t n) {
	struct jpeg_decompress_struct d;
	struct jpeg_error_mgr e;
	d.err = jpeg_std_error(&e);
	jpeg_create_decompress(&d);
	jpeg_mem_src(&d, data, n);
	jpeg_read_header(&d, TRUE);
	d.out_color_space = JCS_EXT_RGBA;
	jpeg_start_decompress(&d);
	size_t stride = (size_t)d.output_width * 4;
	uint8_t *pix = malloc(stride * d.output_height);
	while (d.output_scanline < d.output_height) {
		JSAMPROW row = pix + stride * d.output_scanline;
		jpeg_read_scanlines(&d, &row, 1);
	}
	jpeg_finish_decompress(&d);
	jpeg_destroy_decompress(&d);
	free(pix);
	return 0;
}

int direct_webp_decode(const uint8_t *data, size_t n) {
	int w, h;
	uint8_t *pix = WebPDecodeRGBA(data, n, &w, &h);
	WebPFree(pix);
	return pix == NULL;
}

int direct_avif_decode(const uint8_t *data, size_t n) {
	avifDecoder *d = avifDecoderCreate();
	d->maxThreads = 1;
	avifResult r = avifDecoderSetIOMemory(d, data, n);
	if (r == AVIF_RESULT_OK)
		r = avifDecoderParse(d);
	if (r == AVIF_RESULT_OK)
		r = avifDecoderNthImage(d, 0);
	if (r == AVIF_RESULT_OK) {
		avifRGBImage rgb;
		avifRGBImageSetDefaults(&rgb, d->image);
		rgb.depth = 8;
		avifRGBImageAllocatePixels(&rgb);
		r = avifImageYUVToRGB(d->image, &rgb);
		avifRGBImageFreePixels(&rgb);
	}
	avifDecoderDestroy(d);
	return r;
}

int direct_heic_decode(const uint8_t *data, size_t n) {
	struct heif_context *c = heif_context_alloc();
	struct heif_image_handle *h = NULL;
	struct heif_image *m = NULL;
	heif_context_set_max_decoding_threads(c, 0);
	struct heif_error e = heif_context_read_from_memory_without_copy(c, data, n, NULL);
	if (e.code == heif_error_Ok)
		e = heif_context_get_primary_image_handle(c, &h);
	if (e.code == heif_error_Ok)
		e = heif_decode_image(h, &m, heif_colorspace_RGB, heif_chroma_interleaved_RGBA, NULL);
	if (m)
		heif_image_release(m);
	if (h)
		heif_image_handle_release(h);
	heif_context_free(c);
	return e.code;
}

int direct_jpeg_encode(const el_planes *p) {
	struct jpeg_compress_struct c;
	struct jpeg_error_mgr e;
	uint8_t *out = NULL;
	unsigned long n = 0;
	c.err = jpeg_std_error(&e);
	jpeg_create_compress(&c);
	jpeg_mem_dest(&c, &out, &n);
	c.image_width = p->w;
	c.image_height = p->h;
	c.input_components = 3;
	c.in_color_space = JCS_YCbCr;
	jpeg_set_defaults(&c);
	jpeg_set_quality(&c, (int)p->setting, TRUE);
	c.optimize_coding = TRUE;
	jpeg_simple_progression(&c);
	c.raw_data_in = TRUE;
	jpeg_start_compress(&c, TRUE);
	JSAMPROW y[16], cb[8], cr[8]; // of pictures whose sides are whole blocks
	JSAMPARRAY planes[3] = {y, cb, cr};
	while (c.next_scanline < c.image_height) {
		for (int i = 0; i < 16; i++)
			y[i] = p->y + (size_t)(c.next_scanline + i) * p->ys;
		for (int i = 0; i < 8; i++) {
			cb[i] = p->cb + (size_t)(c.next_scanline / 2 + i) * p->cs;
			cr[i] = p->cr + (size_t)(c.next_scanline / 2 + i) * p->cs;
		}
		jpeg_write_raw_data(&c, planes, 16);
	}
	jpeg_finish_compress(&c);
	jpeg_destroy_compress(&c);
	free(out);
	return 0;
}

int direct_webp_encode(const el_planes *p) {
	WebPConfig c;
	WebPPicture m;
	if (!WebPConfigInit(&c) || !WebPPictureInit(&m))
		return -1;
	c.quality = p->setting;
	c.method = p->effort;
	m.width = p->w;
	m.height = p->h;
	m.y = p->y;
	m.u = p->cb;
	m.v = p->cr;
	m.y_stride = p->ys;
	m.uv_stride = p->cs;
	WebPMemoryWriter w;
	WebPMemoryWriterInit(&w);
	m.writer = WebPMemoryWrite;
	m.custom_ptr = &w;
	int ok = WebPEncode(&c, &m);
	WebPPictureFree(&m);
	WebPMemoryWriterClear(&w);
	return !ok;
}

static int encode_avif(const el_planes *p, int options, avifRWData *data) {
	avifImage *m = avifImageCreate(p->w, p->h, 8, AVIF_PIXEL_FORMAT_YUV420);
	m->yuvRange = AVIF_RANGE_FULL;
	m->yuvPlanes[0] = p->y;
	m->yuvPlanes[1] = p->cb;
	m->yuvPlanes[2] = p->cr;
	m->yuvRowBytes[0] = p->ys;
	m->yuvRowBytes[1] = m->yuvRowBytes[2] = p->cs;
	m->imageOwnsYUVPlanes = AVIF_FALSE;
	avifEncoder *e = avifEncoderCreate();
	e->maxThreads = 1;
	e->speed = p->effort;
	e->minQuantizer = e->maxQuantizer = (int)p->setting;
	if (options) {
		avifEncoderSetCodecSpecificOption(e, "tune", "ssim");
		avifEncoderSetCodecSpecificOption(e, "enable-cdef", "1");
	}
	avifResult r = avifEncoderWrite(e, m, data);
	avifEncoderDestroy(e);
	avifImageDestroy(m);
	return r;
}

int direct_avif_encode(const el_planes *p) {
	avifRWData data = AVIF_DATA_EMPTY;
	int r = encode_avif(p, 1, &data);
	avifRWDataFree(&data);
	return r;
}

int direct_avif_alone(const el_planes *p, uint8_t **out, size_t *n) {
	avifRWData data = AVIF_DATA_EMPTY;
	int r = encode_avif(p, 0, &data);
	if (r == AVIF_RESULT_OK && (*out = malloc(data.size))) {
		memcpy(*out, data.data, data.size);
		*n = data.size;
	}
	avifRWDataFree(&data);
	return r;
}
