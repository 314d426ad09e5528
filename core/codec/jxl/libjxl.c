#define _GNU_SOURCE
#include "libjxl.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <jxl/decode.h>
#include <jxl/encode.h>

// libjxl, as Debian builds it, tells stderr of each broken file. That is said by what is returned; crashes and Go write to the
// descriptor and go on doing so.
static ssize_t drop(void *to, const char *text, size_t n) {
	(void)to;
	(void)text;
	return n;
}

__attribute__((constructor)) static void hush(void) {
	FILE *nowhere = fopencookie(NULL, "w", (cookie_io_functions_t){.write = drop});
	if (nowhere)
		stderr = nowhere;
}

struct el_jxl_decoder {
	JxlDecoder *d;
	const uint8_t *data;
	size_t n;
	int begun;
	int width, height;
	int srgb; // what is decoded can be had as sRGB
	double tick; // ms
};

static int why(JxlDecoderStatus s) {
	return s == JXL_DEC_NEED_MORE_INPUT ? el_jxl_short : el_jxl_broken;
}

// start has the decoder begin with the file, and report these events.
static int start(el_jxl_decoder *e, int events) {
	JxlDecoderReset(e->d);
	if (JxlDecoderSubscribeEvents(e->d, events) != JXL_DEC_SUCCESS || JxlDecoderSetKeepOrientation(e->d, JXL_TRUE) != JXL_DEC_SUCCESS ||
		JxlDecoderSetUnpremultiplyAlpha(e->d, JXL_TRUE) != JXL_DEC_SUCCESS || JxlDecoderSetInput(e->d, e->data, e->n) != JXL_DEC_SUCCESS)
		return el_jxl_memory;
	return 0; // the input isn't closed: then the end of a file that is cut would be an error like any other
}

// colours says what the decoded samples mean. Other than sRGB they are only where the file is in its own colours, or in a high range.
static int colours(el_jxl_decoder *e, int own, el_jxl_info *info) {
	static const JxlPixelFormat format = {4, JXL_TYPE_UINT8, JXL_NATIVE_ENDIAN, 0};
	JxlColorEncoding c;
	if (JxlDecoderGetColorAsEncodedProfile(e->d, &format, JXL_COLOR_PROFILE_TARGET_ORIGINAL, &c) == JXL_DEC_SUCCESS) {
		int high = c.transfer_function == JXL_TRANSFER_FUNCTION_PQ || c.transfer_function == JXL_TRANSFER_FUNCTION_HLG;
		int known = c.white_point == JXL_WHITE_POINT_D65 &&
			(c.color_space == JXL_COLOR_SPACE_GRAY || c.primaries == JXL_PRIMARIES_SRGB || c.primaries == JXL_PRIMARIES_2100 || c.primaries == JXL_PRIMARIES_P3) &&
			(high || c.transfer_function == JXL_TRANSFER_FUNCTION_709 || c.transfer_function == JXL_TRANSFER_FUNCTION_SRGB || c.transfer_function == JXL_TRANSFER_FUNCTION_LINEAR);
		if (known && (own || high)) {
			info->primaries = c.color_space == JXL_COLOR_SPACE_GRAY ? 1 : c.primaries == JXL_PRIMARIES_P3 ? 12 : c.primaries;
			info->transfer = c.transfer_function;
			return 0;
		}
	}
	if (!own) {
		e->srgb = 1;
		return 0;
	}
	size_t n = 0;
	if (JxlDecoderGetICCProfileSize(e->d, &format, JXL_COLOR_PROFILE_TARGET_DATA, &n) != JXL_DEC_SUCCESS || n == 0 || n > 16 << 20)
		return 0; // without one that is understood they are taken for sRGB
	if (!(info->profile = malloc(n)))
		return el_jxl_memory;
	if (JxlDecoderGetColorAsICCProfile(e->d, &format, JXL_COLOR_PROFILE_TARGET_DATA, info->profile, n) != JXL_DEC_SUCCESS) {
		free(info->profile);
		info->profile = NULL;
		return 0;
	}
	info->profile_size = n;
	return 0;
}

static int look(el_jxl_decoder *e, uint64_t most_pixels, int most_frames, el_jxl_info *info) {
	int r = start(e, JXL_DEC_BASIC_INFO | JXL_DEC_COLOR_ENCODING);
	if (r)
		return r;
	JxlBasicInfo b;
	memset(&b, 0, sizeof b);
	for (int coloured = 0; !coloured;) {
		JxlDecoderStatus s = JxlDecoderProcessInput(e->d);
		if (s == JXL_DEC_BASIC_INFO) {
			if (JxlDecoderGetBasicInfo(e->d, &b) != JXL_DEC_SUCCESS)
				return el_jxl_broken;
			if ((uint64_t)b.xsize * b.ysize > most_pixels || b.xsize > 1 << 20 || b.ysize > 1 << 20 || b.num_extra_channels > 8)
				return el_jxl_beyond;
			for (uint32_t i = 0; i < b.num_extra_channels; i++) {
				JxlExtraChannelInfo x;
				if (JxlDecoderGetExtraChannelInfo(e->d, i, &x) == JXL_DEC_SUCCESS && x.type == JXL_CHANNEL_BLACK)
					return el_jxl_black;
			}
		} else if (s == JXL_DEC_COLOR_ENCODING) {
			coloured = 1;
			if ((r = colours(e, b.uses_original_profile, info)))
				return r;
		} else {
			return why(s);
		}
	}
	info->width = e->width = b.xsize;
	info->height = e->height = b.ysize;
	info->orientation = b.orientation;
	info->depth = b.bits_per_sample;
	info->alpha = b.alpha_bits > 0;
	info->grey = b.num_color_channels == 1;
	info->frames = 1;
	if (!b.have_animation)
		return 0;
	info->plays = b.animation.num_loops;
	if (b.animation.tps_numerator)
		e->tick = 1000.0 * b.animation.tps_denominator / b.animation.tps_numerator;
	if ((r = start(e, JXL_DEC_FRAME)))
		return r;
	for (info->frames = 0;;) {
		JxlDecoderStatus s = JxlDecoderProcessInput(e->d);
		JxlFrameHeader h;
		if (s != JXL_DEC_FRAME || JxlDecoderGetFrameHeader(e->d, &h) != JXL_DEC_SUCCESS)
			return why(s);
		if (++info->frames > most_frames || h.is_last)
			return 0;
	}
}

el_jxl_decoder *el_jxl_open(const uint8_t *data, size_t n, uint64_t most_pixels, int most_frames, el_jxl_info *info) {
	memset(info, 0, sizeof *info);
	el_jxl_decoder *e = calloc(1, sizeof *e);
	if (!e || !(e->d = JxlDecoderCreate(NULL))) {
		free(e);
		info->status = el_jxl_memory;
		return NULL;
	}
	e->data = data;
	e->n = n;
	if ((info->status = look(e, most_pixels, most_frames, info))) {
		free(info->profile);
		info->profile = NULL;
		el_jxl_close(e);
		return NULL;
	}
	return e;
}

typedef struct {
	uint8_t *pix;
	size_t stride, pixel;
} target;

static void put(void *to, size_t x, size_t y, size_t n, const void *pixels) {
	target *t = to;
	memcpy(t->pix + y * t->stride + x * t->pixel, pixels, n * t->pixel);
}

int el_jxl_next(el_jxl_decoder *e, void *pix, size_t stride, int depth, double *shown) {
	target to = {pix, stride, depth == 16 ? 8 : 4};
	JxlPixelFormat format = {4, depth == 16 ? JXL_TYPE_UINT16 : JXL_TYPE_UINT8, JXL_NATIVE_ENDIAN, 0};
	if (!e->begun) {
		int r = start(e, JXL_DEC_COLOR_ENCODING | JXL_DEC_FRAME | JXL_DEC_FULL_IMAGE);
		if (r)
			return r;
		e->begun = 1;
	}
	*shown = 0;
	for (;;) {
		JxlDecoderStatus s = JxlDecoderProcessInput(e->d);
		switch (s) {
		case JXL_DEC_COLOR_ENCODING:
			if (e->srgb) {
				JxlColorEncoding c;
				JxlColorEncodingSetToSRGB(&c, JXL_FALSE);
				JxlDecoderSetPreferredColorProfile(e->d, &c); // grey keeps its own, which is sRGB's curve
			}
			break;
		case JXL_DEC_FRAME: {
			JxlFrameHeader h;
			if (JxlDecoderGetFrameHeader(e->d, &h) == JXL_DEC_SUCCESS)
				*shown = h.duration * e->tick;
			break;
		}
		case JXL_DEC_NEED_IMAGE_OUT_BUFFER:
			if (JxlDecoderSetImageOutCallback(e->d, &format, put, &to) != JXL_DEC_SUCCESS)
				return el_jxl_broken;
			break;
		case JXL_DEC_FULL_IMAGE:
			return 0;
		default:
			return why(s);
		}
	}
}

void el_jxl_close(el_jxl_decoder *e) {
	if (!e)
		return;
	JxlDecoderDestroy(e->d);
	free(e);
}

int el_jxl_rebuild(const uint8_t *data, size_t n, size_t most, uint8_t **out, size_t *size) {
	*out = NULL;
	*size = 0;
	el_jxl_decoder e = {JxlDecoderCreate(NULL), data, n};
	if (!e.d)
		return el_jxl_memory;
	int r = start(&e, JXL_DEC_JPEG_RECONSTRUCTION | JXL_DEC_FULL_IMAGE);
	size_t room = 0, used = 0;
	while (!r) {
		JxlDecoderStatus s = JxlDecoderProcessInput(e.d);
		if (s == JXL_DEC_JPEG_RECONSTRUCTION || s == JXL_DEC_JPEG_NEED_MORE_OUTPUT) {
			if (room)
				used = room - JxlDecoderReleaseJPEGBuffer(e.d);
			room = room ? room * 2 : n * 2 + 4096;
			uint8_t *larger = room <= most ? realloc(*out, room) : NULL;
			if (!larger) {
				r = el_jxl_memory;
				break;
			}
			*out = larger;
			if (JxlDecoderSetJPEGBuffer(e.d, *out + used, room - used) != JXL_DEC_SUCCESS)
				r = el_jxl_broken;
		} else if (s == JXL_DEC_FULL_IMAGE && room) {
			*size = room - JxlDecoderReleaseJPEGBuffer(e.d);
			break;
		} else {
			r = why(s); // it holds none
		}
	}
	JxlDecoderDestroy(e.d);
	if (r) {
		free(*out);
		*out = NULL;
	}
	return r;
}

struct el_jxl_encoder {
	JxlEncoder *e;
	int w, h, channels, moves;
};

static int boxes(JxlEncoder *e, const el_jxl_settings *s) {
	if (!s->exif_size && !s->xmp_size)
		return 0;
	if (JxlEncoderUseBoxes(e) != JXL_ENC_SUCCESS)
		return el_jxl_memory;
	if (s->exif_size) { // four bytes before it say where it begins (ISO/IEC 18181-2, section 9.4)
		uint8_t *with = calloc(1, s->exif_size + 4);
		if (!with)
			return el_jxl_memory;
		memcpy(with + 4, s->exif, s->exif_size);
		int bad = JxlEncoderAddBox(e, "Exif", with, s->exif_size + 4, JXL_FALSE) != JXL_ENC_SUCCESS;
		free(with);
		if (bad)
			return el_jxl_memory;
	}
	if (s->xmp_size && JxlEncoderAddBox(e, "xml ", s->xmp, s->xmp_size, JXL_FALSE) != JXL_ENC_SUCCESS)
		return el_jxl_memory;
	JxlEncoderCloseBoxes(e);
	return 0;
}

el_jxl_encoder *el_jxl_begin(int w, int h, int opaque, int plays, const el_jxl_settings *s) {
	el_jxl_encoder *e = calloc(1, sizeof *e);
	if (!e || !(e->e = JxlEncoderCreate(NULL))) {
		free(e);
		return NULL;
	}
	e->w = w;
	e->h = h;
	e->channels = opaque ? 3 : 4;
	e->moves = plays >= 0;
	JxlBasicInfo b;
	JxlEncoderInitBasicInfo(&b);
	b.xsize = w;
	b.ysize = h;
	b.bits_per_sample = 8;
	b.uses_original_profile = s->lossless;
	b.num_color_channels = 3;
	if (!opaque) {
		b.num_extra_channels = 1;
		b.alpha_bits = 8;
	}
	if (e->moves) {
		b.have_animation = JXL_TRUE;
		b.animation.tps_numerator = 1000;
		b.animation.tps_denominator = 1;
		b.animation.num_loops = plays;
	}
	JxlColorEncoding c;
	JxlColorEncodingSetToSRGB(&c, JXL_FALSE);
	if (boxes(e->e, s) || JxlEncoderSetBasicInfo(e->e, &b) != JXL_ENC_SUCCESS || JxlEncoderSetColorEncoding(e->e, &c) != JXL_ENC_SUCCESS) {
		el_jxl_drop(e);
		return NULL;
	}
	return e;
}

int el_jxl_add(el_jxl_encoder *e, const uint8_t *rgba, size_t stride, int shown, const el_jxl_settings *s) {
	JxlEncoderFrameSettings *f = JxlEncoderFrameSettingsCreate(e->e, NULL);
	if (!f)
		return el_jxl_memory;
	if (JxlEncoderFrameSettingsSetOption(f, JXL_ENC_FRAME_SETTING_EFFORT, s->effort) != JXL_ENC_SUCCESS)
		return el_jxl_broken;
	if (s->lossless ? JxlEncoderSetFrameLossless(f, JXL_TRUE) != JXL_ENC_SUCCESS : JxlEncoderSetFrameDistance(f, s->distance) != JXL_ENC_SUCCESS)
		return el_jxl_broken;
	if (s->progressive && JxlEncoderFrameSettingsSetOption(f, JXL_ENC_FRAME_SETTING_PROGRESSIVE_DC, 1) != JXL_ENC_SUCCESS)
		return el_jxl_broken;
	if (e->moves) {
		JxlFrameHeader h;
		JxlEncoderInitFrameHeader(&h);
		h.duration = shown;
		if (JxlEncoderSetFrameHeader(f, &h) != JXL_ENC_SUCCESS)
			return el_jxl_broken;
	}
	size_t row = (size_t)e->w * e->channels;
	uint8_t *packed = malloc(row * e->h);
	if (!packed)
		return el_jxl_memory;
	for (int y = 0; y < e->h; y++) {
		const uint8_t *from = rgba + y * stride;
		uint8_t *to = packed + y * row;
		if (e->channels == 4)
			memcpy(to, from, row);
		else
			for (int x = 0; x < e->w; x++, from += 4, to += 3)
				to[0] = from[0], to[1] = from[1], to[2] = from[2];
	}
	JxlPixelFormat format = {e->channels, JXL_TYPE_UINT8, JXL_NATIVE_ENDIAN, 0};
	JxlEncoderStatus r = JxlEncoderAddImageFrame(f, &format, packed, row * e->h);
	free(packed);
	return r == JXL_ENC_SUCCESS ? 0 : el_jxl_broken;
}

static int written(JxlEncoder *e, size_t guess, uint8_t **out, size_t *n) {
	size_t room = guess < 4096 ? 4096 : guess;
	uint8_t *b = malloc(room), *next = b;
	size_t left = room;
	for (JxlEncoderStatus s = JXL_ENC_NEED_MORE_OUTPUT; b;) {
		s = JxlEncoderProcessOutput(e, &next, &left);
		if (s == JXL_ENC_SUCCESS) {
			*out = b;
			*n = next - b;
			return 0;
		}
		if (s != JXL_ENC_NEED_MORE_OUTPUT)
			break;
		size_t used = next - b;
		uint8_t *larger = realloc(b, room *= 2);
		if (!larger)
			break;
		b = larger;
		next = b + used;
		left = room - used;
	}
	free(b);
	return b ? el_jxl_broken : el_jxl_memory;
}

int el_jxl_end(el_jxl_encoder *e, uint8_t **out, size_t *n) {
	JxlEncoderCloseInput(e->e);
	return written(e->e, (size_t)e->w * e->h / 4, out, n);
}

void el_jxl_drop(el_jxl_encoder *e) {
	if (!e)
		return;
	JxlEncoderDestroy(e->e);
	free(e);
}

static int from_jpeg(const uint8_t *data, size_t n, int effort, JXL_BOOL rebuildable, uint8_t **out, size_t *size) {
	JxlEncoder *e = JxlEncoderCreate(NULL);
	if (!e)
		return el_jxl_memory;
	int r = el_jxl_broken;
	JxlEncoderFrameSettings *f = JxlEncoderFrameSettingsCreate(e, NULL);
	if (f && JxlEncoderUseContainer(e, rebuildable) == JXL_ENC_SUCCESS && JxlEncoderStoreJPEGMetadata(e, rebuildable) == JXL_ENC_SUCCESS &&
		JxlEncoderFrameSettingsSetOption(f, JXL_ENC_FRAME_SETTING_EFFORT, effort) == JXL_ENC_SUCCESS && JxlEncoderAddJPEGFrame(f, data, n) == JXL_ENC_SUCCESS) {
		JxlEncoderCloseInput(e);
		r = written(e, n, out, size);
	}
	JxlEncoderDestroy(e);
	return r;
}

int el_jxl_from_jpeg(const uint8_t *data, size_t n, int effort, uint8_t **out, size_t *size) {
	int r = from_jpeg(data, n, effort, JXL_TRUE, out, size);
	if (r == el_jxl_broken) // it has what can't be written down for rebuilding, such as a quantization table that nothing uses
		r = from_jpeg(data, n, effort, JXL_FALSE, out, size);
	return r;
}
