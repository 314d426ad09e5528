#include "libheif.h"

#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <libheif/heif.h>

static int failed(struct heif_error e, el_heif_info *info) {
	if (e.code == heif_error_Ok)
		return 0;
	info->code = e.code;
	info->subcode = e.subcode;
	snprintf(info->message, sizeof info->message, "%s", e.message ? e.message : "no reason given");
	return 1;
}

// open gives the primary picture's handle, and the context that it needs.
static struct heif_image_handle *open(const uint8_t *data, size_t n, struct heif_context **c, el_heif_info *info) {
	struct heif_image_handle *h = NULL;
	*c = heif_context_alloc();
	if (!*c)
		return NULL;
	heif_context_set_max_decoding_threads(*c, 0);
	if (failed(heif_context_read_from_memory_without_copy(*c, data, n, NULL), info) ||
		failed(heif_context_get_primary_image_handle(*c, &h), info)) {
		heif_context_free(*c);
		*c = NULL;
		return NULL;
	}
	return h;
}

int el_heif_probe(const uint8_t *data, size_t n, el_heif_info *info) {
	memset(info, 0, sizeof *info);
	struct heif_context *c;
	struct heif_image_handle *h = open(data, n, &c, info);
	if (!h)
		return 0;
	info->width = heif_image_handle_get_width(h);
	info->height = heif_image_handle_get_height(h);
	info->depth = heif_image_handle_get_luma_bits_per_pixel(h);
	info->alpha = heif_image_handle_has_alpha_channel(h);
	info->frames = 1;
	size_t size = heif_image_handle_get_raw_color_profile_size(h);
	if (size > 0 && size < (4 << 20) && (info->profile = malloc(size))) {
		info->profile_size = size;
		struct heif_error e = heif_image_handle_get_raw_color_profile(h, info->profile);
		if (e.code != heif_error_Ok) {
			free(info->profile);
			info->profile = NULL;
			info->profile_size = 0;
		}
	}
	struct heif_color_profile_nclx *nclx = NULL;
	if (!info->profile_size && heif_image_handle_get_nclx_color_profile(h, &nclx).code == heif_error_Ok && nclx) {
		info->primaries = nclx->color_primaries;
		info->transfer = nclx->transfer_characteristics;
		heif_nclx_color_profile_free(nclx);
	}
	heif_image_handle_release(h);
	heif_context_free(c);
	return 1;
}

int el_heif_read(const uint8_t *data, size_t n, uint8_t *pix, int stride, int w, int h, el_heif_info *info) {
	struct heif_context *c;
	struct heif_image_handle *handle = open(data, n, &c, info);
	if (!handle)
		return 0;
	struct heif_image *m = NULL;
	int ok = 0;
	if (!failed(heif_decode_image(handle, &m, heif_colorspace_RGB, heif_chroma_interleaved_RGBA, NULL), info)) {
		int from = 0;
		const uint8_t *rows = heif_image_get_plane_readonly(m, heif_channel_interleaved, &from);
		if (rows && heif_image_get_width(m, heif_channel_interleaved) == w && heif_image_get_height(m, heif_channel_interleaved) == h) {
			for (int y = 0; y < h; y++)
				memcpy(pix + (size_t)y * stride, rows + (size_t)y * from, (size_t)w * 4);
			ok = 1;
		} else
			snprintf(info->message, sizeof info->message, "the picture isn't of the size that its header gives");
		heif_image_release(m);
	}
	heif_image_handle_release(handle);
	heif_context_free(c);
	return ok;
}
