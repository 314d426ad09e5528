#include "libwebp.h"

#include <stdlib.h>
#include <string.h>

#include <webp/decode.h>
#include <webp/demux.h>
#include <webp/encode.h>
#include <webp/mux.h>

int el_webp_probe(const uint8_t *data, size_t n, el_webp_info *info) {
	memset(info, 0, sizeof *info);
	WebPBitstreamFeatures f;
	info->status = WebPGetFeatures(data, n, &f);
	if (info->status != VP8_STATUS_OK)
		return 0;
	info->width = f.width;
	info->height = f.height;
	info->alpha = f.has_alpha;
	info->animated = f.has_animation;
	info->frames = 1;
	WebPData d = {data, n};
	WebPDemuxState state;
	WebPDemuxer *demux = WebPDemuxPartial(&d, &state);
	if (demux) {
		if (f.has_animation) {
			info->frames = WebPDemuxGetI(demux, WEBP_FF_FRAME_COUNT);
			info->plays = WebPDemuxGetI(demux, WEBP_FF_LOOP_COUNT);
		}
		WebPChunkIterator chunk;
		if (WebPDemuxGetChunk(demux, "ICCP", 1, &chunk)) {
			info->profile_at = chunk.chunk.bytes - data;
			info->profile_size = chunk.chunk.size;
			WebPDemuxReleaseChunkIterator(&chunk);
		}
		WebPDemuxDelete(demux);
	}
	return 1;
}

int el_webp_read(const uint8_t *data, size_t n, int animated, int cut, uint8_t *pix, int stride, int w, int h) {
	if (!animated) {
		WebPDecoderConfig c;
		if (!WebPInitDecoderConfig(&c))
			return VP8_STATUS_OUT_OF_MEMORY;
		c.output.colorspace = MODE_RGBA;
		c.output.is_external_memory = 1;
		c.output.u.RGBA.rgba = pix;
		c.output.u.RGBA.stride = stride;
		c.output.u.RGBA.size = (size_t)stride * h;
		c.options.use_cropping = cut;
		c.options.crop_width = w;
		c.options.crop_height = h;
		int status = WebPDecode(data, n, &c);
		WebPFreeDecBuffer(&c.output);
		return status;
	}
	WebPData d = {data, n};
	WebPAnimDecoderOptions o;
	if (!WebPAnimDecoderOptionsInit(&o))
		return VP8_STATUS_OUT_OF_MEMORY;
	o.color_mode = MODE_RGBA;
	WebPAnimDecoder *a = WebPAnimDecoderNew(&d, &o);
	if (!a)
		return VP8_STATUS_BITSTREAM_ERROR;
	uint8_t *frame;
	int at, ok = WebPAnimDecoderGetNext(a, &frame, &at);
	if (ok)
		for (int y = 0; y < h; y++)
			memcpy(pix + (size_t)y * stride, frame + (size_t)y * w * 4, (size_t)w * 4);
	WebPAnimDecoderDelete(a);
	return ok ? VP8_STATUS_OK : VP8_STATUS_BITSTREAM_ERROR;
}

int el_webp_read_planes(const uint8_t *data, size_t n, uint8_t *y, int ys, uint8_t *u, uint8_t *v, int cs, int h) {
	WebPDecoderConfig c;
	if (!WebPInitDecoderConfig(&c))
		return VP8_STATUS_OUT_OF_MEMORY;
	c.output.colorspace = MODE_YUV;
	c.output.is_external_memory = 1;
	WebPYUVABuffer *b = &c.output.u.YUVA;
	b->y = y;
	b->u = u;
	b->v = v;
	b->y_stride = ys;
	b->u_stride = b->v_stride = cs;
	b->y_size = (size_t)ys * h;
	b->u_size = b->v_size = (size_t)cs * ((h + 1) / 2);
	int status = WebPDecode(data, n, &c);
	WebPFreeDecBuffer(&c.output);
	return status;
}

static int write(WebPPicture *p, const WebPConfig *c, uint8_t **out, size_t *n) {
	WebPMemoryWriter w;
	WebPMemoryWriterInit(&w);
	p->writer = WebPMemoryWrite;
	p->custom_ptr = &w;
	if (!WebPEncode(c, p)) {
		int code = p->error_code;
		WebPMemoryWriterClear(&w);
		return code ? code : VP8_ENC_ERROR_LAST;
	}
	*out = w.mem;
	*n = w.size;
	return 0;
}

int el_webp_write_planes(const uint8_t *y, int ys, const uint8_t *u, const uint8_t *v, int cs,
	int w, int h, float quality, int method, uint8_t **out, size_t *n) {
	WebPConfig c;
	WebPPicture p;
	if (!WebPConfigInit(&c) || !WebPPictureInit(&p))
		return VP8_ENC_ERROR_INVALID_CONFIGURATION;
	c.quality = quality;
	c.method = method;
	p.use_argb = 0;
	p.colorspace = WEBP_YUV420;
	p.width = w;
	p.height = h;
	p.y = (uint8_t *)y;
	p.u = (uint8_t *)u;
	p.v = (uint8_t *)v;
	p.y_stride = ys;
	p.uv_stride = cs;
	int code = write(&p, &c, out, n);
	WebPPictureFree(&p);
	return code;
}

int el_webp_write_pixels(const uint8_t *rgba, int stride, int w, int h, int opaque,
	float quality, int lossless, int method, uint8_t **out, size_t *n) {
	WebPConfig c;
	WebPPicture p;
	if (!WebPConfigInit(&c) || !WebPPictureInit(&p))
		return VP8_ENC_ERROR_INVALID_CONFIGURATION;
	c.quality = quality;
	c.method = method;
	c.lossless = lossless;
	c.exact = 0;
	p.use_argb = lossless;
	p.width = w;
	p.height = h;
	int ok = opaque ? WebPPictureImportRGBX(&p, rgba, stride) : WebPPictureImportRGBA(&p, rgba, stride);
	if (!ok) {
		WebPPictureFree(&p);
		return VP8_ENC_ERROR_OUT_OF_MEMORY;
	}
	int code = write(&p, &c, out, n);
	WebPPictureFree(&p);
	return code;
}

void *el_webp_frames(const uint8_t *data, size_t n) {
	WebPData d = {data, n};
	WebPAnimDecoderOptions o;
	if (!WebPAnimDecoderOptionsInit(&o))
		return NULL;
	o.color_mode = MODE_RGBA;
	return WebPAnimDecoderNew(&d, &o);
}

int el_webp_next(void *frames, uint8_t *pix, int stride, int w, int h, int *at) {
	WebPAnimDecoder *a = frames;
	if (!WebPAnimDecoderHasMoreFrames(a))
		return 0;
	uint8_t *frame;
	if (!WebPAnimDecoderGetNext(a, &frame, at))
		return -1;
	for (int y = 0; y < h; y++)
		memcpy(pix + (size_t)y * stride, frame + (size_t)y * w * 4, (size_t)w * 4);
	return 1;
}

void el_webp_end_frames(void *frames) { WebPAnimDecoderDelete(frames); }

void *el_webp_animation(int w, int h, int plays) {
	WebPAnimEncoderOptions o;
	if (!WebPAnimEncoderOptionsInit(&o))
		return NULL;
	o.anim_params.loop_count = plays;
	return WebPAnimEncoderNew(w, h, &o);
}

int el_webp_add(void *animation, const uint8_t *rgba, int stride, int w, int h, int at, float quality, int lossless, int method) {
	WebPConfig c;
	WebPPicture p;
	if (!WebPConfigInit(&c) || !WebPPictureInit(&p))
		return VP8_ENC_ERROR_INVALID_CONFIGURATION;
	c.quality = quality;
	c.lossless = lossless;
	c.method = method;
	p.use_argb = 1;
	p.width = w;
	p.height = h;
	if (!WebPPictureImportRGBA(&p, rgba, stride))
		return VP8_ENC_ERROR_OUT_OF_MEMORY;
	int ok = WebPAnimEncoderAdd(animation, &p, at, &c);
	int code = p.error_code;
	WebPPictureFree(&p);
	return ok ? 0 : code ? code : -1;
}

int el_webp_finish(void *animation, int at, uint8_t **out, size_t *n) {
	WebPData d;
	WebPDataInit(&d);
	if (!WebPAnimEncoderAdd(animation, NULL, at, NULL) || !WebPAnimEncoderAssemble(animation, &d))
		return -1;
	*out = (uint8_t *)d.bytes;
	*n = d.size;
	return 0;
}

void el_webp_end_animation(void *animation) { WebPAnimEncoderDelete(animation); }
