#include "libjpeg.h"

#include <setjmp.h>
#include <stdio.h>
#include <stdlib.h>
#include <string.h>

#include <jerror.h>
#include <jpeglib.h>

#if JPEG_LIB_VERSION >= 70
#define COMP_SCALE(c) ((c)->DCT_h_scaled_size)
#define MIN_SCALE(i) ((i).min_DCT_h_scaled_size)
#else
#define COMP_SCALE(c) ((c)->DCT_scaled_size)
#define MIN_SCALE(i) ((i).min_DCT_scaled_size)
#endif

typedef struct {
	struct jpeg_error_mgr pub;
	jmp_buf jump;
	int truncated;
	char message[JMSG_LENGTH_MAX];
} errors;

static void on_error(j_common_ptr info) {
	errors *e = (errors *)info->err;
	info->err->format_message(info, e->message);
	longjmp(e->jump, 1);
}

// Warnings are let pass, as browsers do, except for the one that says the data ran out.
static void on_message(j_common_ptr info, int level) {
	if (level < 0) {
		info->err->num_warnings++;
		if (info->err->msg_code == JWRN_JPEG_EOF)
			((errors *)info->err)->truncated = 1;
	}
}

static void on_output(j_common_ptr info) { (void)info; }

static struct jpeg_error_mgr *handle(errors *e) {
	jpeg_std_error(&e->pub);
	e->pub.error_exit = on_error;
	e->pub.emit_message = on_message;
	e->pub.output_message = on_output;
	e->truncated = 0;
	return &e->pub;
}

struct el_decoder {
	struct jpeg_decompress_struct info;
	errors err;
};

static void tell(el_decoder *d, el_info *info) {
	info->truncated = d->err.truncated;
	snprintf(info->message, sizeof info->message, "%s", d->err.message);
}

el_decoder *el_open(const uint8_t *data, size_t n, int scale, el_info *info) {
	memset(info, 0, sizeof *info);
	el_decoder *d = calloc(1, sizeof *d);
	if (!d) {
		snprintf(info->message, sizeof info->message, "out of memory");
		return NULL;
	}
	d->info.err = handle(&d->err);
	if (setjmp(d->err.jump)) {
		tell(d, info);
		el_close(d);
		return NULL;
	}
	jpeg_create_decompress(&d->info);
	jpeg_mem_src(&d->info, data, n);
	jpeg_read_header(&d->info, TRUE);
	d->info.scale_num = scale;
	d->info.scale_denom = 8;
	jpeg_calc_output_dimensions(&d->info);
	info->width = d->info.output_width;
	info->height = d->info.output_height;
	info->components = d->info.num_components;
	info->ycbcr = d->info.jpeg_color_space == JCS_YCbCr && d->info.num_components == 3;
	info->cmyk = d->info.jpeg_color_space == JCS_CMYK || d->info.jpeg_color_space == JCS_YCCK;
	info->max_h = d->info.max_h_samp_factor;
	info->max_v = d->info.max_v_samp_factor;
	info->min_scale = MIN_SCALE(d->info);
	for (int i = 0; i < 3 && i < d->info.num_components; i++) {
		jpeg_component_info *c = &d->info.comp_info[i];
		int s = COMP_SCALE(c);
		info->plane[i].scale = s;
		info->plane[i].h = c->h_samp_factor;
		info->plane[i].v = c->v_samp_factor;
		info->plane[i].width = c->downsampled_width;
		info->plane[i].height = c->downsampled_height;
		// Whole interleaved units, which is what raw reading writes.
		int across = (d->info.image_width + 8 * d->info.max_h_samp_factor - 1) / (8 * d->info.max_h_samp_factor);
		int down = (d->info.image_height + 8 * d->info.max_v_samp_factor - 1) / (8 * d->info.max_v_samp_factor);
		info->plane[i].stride = across * c->h_samp_factor * s;
		info->plane[i].rows = down * c->v_samp_factor * s;
	}
	return d;
}

// What is beyond the rows that are asked for isn't decoded.
static void end(el_decoder *d, int rows) {
	if (rows < (int)d->info.output_height)
		jpeg_abort_decompress(&d->info);
	else
		jpeg_finish_decompress(&d->info);
}

int el_read_planes(el_decoder *d, uint8_t *y, uint8_t *cb, uint8_t *cr, int wanted, el_info *info) {
	uint8_t *base[3] = {y, cb, cr};
	if (setjmp(d->err.jump)) {
		tell(d, info);
		return 0;
	}
	d->info.raw_data_out = TRUE;
	d->info.do_fancy_upsampling = FALSE;
	jpeg_start_decompress(&d->info);
	int step = d->info.max_v_samp_factor * MIN_SCALE(d->info);
	JSAMPROW rows[3][4 * DCTSIZE];
	JSAMPARRAY planes[3] = {rows[0], rows[1], rows[2]};
	for (int unit = 0; (int)d->info.output_scanline < wanted; unit++) {
		for (int i = 0; i < 3; i++) {
			int n = info->plane[i].v * info->plane[i].scale;
			for (int r = 0; r < n; r++) {
				int at = unit * n + r;
				if (at >= info->plane[i].rows)
					at = info->plane[i].rows - 1;
				rows[i][r] = base[i] + (size_t)at * info->plane[i].stride;
			}
		}
		jpeg_read_raw_data(&d->info, planes, step);
	}
	end(d, wanted);
	tell(d, info);
	return 1;
}

int el_read_pixels(el_decoder *d, uint8_t *pix, int stride, int wanted, el_info *info) {
	if (setjmp(d->err.jump)) {
		tell(d, info);
		return 0;
	}
	d->info.out_color_space = info->cmyk ? JCS_CMYK : JCS_EXT_RGBA;
	jpeg_start_decompress(&d->info);
	while ((int)d->info.output_scanline < wanted) {
		JSAMPROW row = pix + (size_t)d->info.output_scanline * stride;
		jpeg_read_scanlines(&d->info, &row, 1);
	}
	end(d, wanted);
	tell(d, info);
	return 1;
}

void el_close(el_decoder *d) {
	if (d) {
		jpeg_destroy_decompress(&d->info);
		free(d);
	}
}

static void set_up(struct jpeg_compress_struct *c, int w, int h, int quality, int plain, int full) {
	c->image_width = w;
	c->image_height = h;
	jpeg_set_defaults(c);
	jpeg_set_colorspace(c, JCS_YCbCr);
	jpeg_set_quality(c, quality, TRUE);
	c->comp_info[0].h_samp_factor = c->comp_info[0].v_samp_factor = full ? 1 : 2;
	c->comp_info[1].h_samp_factor = c->comp_info[1].v_samp_factor = 1;
	c->comp_info[2].h_samp_factor = c->comp_info[2].v_samp_factor = 1;
	c->optimize_coding = !plain;
	if (!plain)
		jpeg_simple_progression(c);
}

// A row with its last sample repeated up to whole blocks.
static JSAMPROW padded(uint8_t *to, const uint8_t *from, int n, int whole) {
	memcpy(to, from, n);
	memset(to + n, from[n - 1], whole - n);
	return to;
}

// encode runs one compression from its creation to its end: body sets it up, and hands over the picture. What body
// needs room for comes from libjpeg's own pools, so that an error leaves nothing behind.
static int encode(void (*body)(struct jpeg_compress_struct *, void *), void *picture, uint8_t **out, unsigned long *n, char *message) {
	struct jpeg_compress_struct c;
	errors e;
	*out = NULL;
	*n = 0;
	memset(&c, 0, sizeof c);
	c.err = handle(&e);
	if (setjmp(e.jump)) {
		snprintf(message, 256, "%s", e.message);
		jpeg_destroy_compress(&c);
		free(*out);
		*out = NULL;
		return 0;
	}
	jpeg_create_compress(&c);
	jpeg_mem_dest(&c, out, n);
	body(&c, picture);
	jpeg_finish_compress(&c);
	jpeg_destroy_compress(&c);
	return 1;
}

typedef struct {
	const uint8_t *y, *cb, *cr;
	int ys, cs, w, h, quality, plain;
} planes420;

static void write_planes(struct jpeg_compress_struct *c, void *picture) {
	const planes420 *p = picture;
	c->input_components = 3;
	c->in_color_space = JCS_YCbCr;
	set_up(c, p->w, p->h, p->quality, p->plain, 0);
	c->raw_data_in = TRUE;
	jpeg_start_compress(c, TRUE);
	int cw = (p->w + 1) / 2, ch = (p->h + 1) / 2;
	int whole = (p->w + 15) / 16 * 16;
	uint8_t *sy = (*c->mem->alloc_large)((j_common_ptr)c, JPOOL_IMAGE, (size_t)whole * 16 + (size_t)whole / 2 * 16);
	uint8_t *scb = sy + (size_t)whole * 16, *scr = scb + (size_t)whole / 2 * 8;
	JSAMPROW ry[16], rcb[8], rcr[8];
	JSAMPARRAY rows[3] = {ry, rcb, rcr};
	while (c->next_scanline < c->image_height) {
		int top = c->next_scanline;
		for (int i = 0; i < 16; i++) {
			int at = top + i < p->h ? top + i : p->h - 1;
			ry[i] = padded(sy + (size_t)whole * i, p->y + (size_t)at * p->ys, p->w, whole);
		}
		for (int i = 0; i < 8; i++) {
			int at = top / 2 + i < ch ? top / 2 + i : ch - 1;
			rcb[i] = padded(scb + (size_t)whole / 2 * i, p->cb + (size_t)at * p->cs, cw, whole / 2);
			rcr[i] = padded(scr + (size_t)whole / 2 * i, p->cr + (size_t)at * p->cs, cw, whole / 2);
		}
		jpeg_write_raw_data(c, rows, 16);
	}
}

int el_write_planes(const uint8_t *y, int ys, const uint8_t *cb, const uint8_t *cr, int cs,
	int w, int h, int quality, int plain, uint8_t **out, unsigned long *n, char *message) {
	planes420 p = {y, cb, cr, ys, cs, w, h, quality, plain};
	return encode(write_planes, &p, out, n, message);
}

typedef struct {
	const uint8_t *rgbx;
	int stride, w, h, quality, full;
} pixels444;

static void write_pixels(struct jpeg_compress_struct *c, void *picture) {
	const pixels444 *p = picture;
	c->input_components = 4;
	c->in_color_space = JCS_EXT_RGBX;
	set_up(c, p->w, p->h, p->quality, 0, p->full);
	jpeg_start_compress(c, TRUE);
	while (c->next_scanline < c->image_height) {
		JSAMPROW row = (JSAMPROW)p->rgbx + (size_t)c->next_scanline * p->stride;
		jpeg_write_scanlines(c, &row, 1);
	}
}

int el_write_pixels(const uint8_t *rgbx, int stride, int w, int h, int quality, int full,
	uint8_t **out, unsigned long *n, char *message) {
	pixels444 p = {rgbx, stride, w, h, quality, full};
	return encode(write_pixels, &p, out, n, message);
}

// A script of scans by bands of frequency, each with all its bits at once: fewer bytes than refining where few
// coefficients are left.
static const jpeg_scan_info bands[] = {
	{3, {0, 1, 2}, 0, 0, 0, 0}, {1, {0}, 1, 8, 0, 0}, {1, {2}, 1, 63, 0, 0}, {1, {1}, 1, 63, 0, 0}, {1, {0}, 9, 63, 0, 0},
};

typedef struct {
	const el_coefficients *planes;
	int w, h, script;
	jvirt_barray_ptr arrays[3]; // libjpeg reads them until the picture is finished
} coefficients420;

static void write_coefficients(struct jpeg_compress_struct *c, void *picture) {
	coefficients420 *p = picture;
	c->input_components = 3;
	c->in_color_space = JCS_YCbCr;
	set_up(c, p->w, p->h, 75, 0, 0);
	if (p->script == 1) {
		c->scan_info = bands;
		c->num_scans = sizeof bands / sizeof *bands;
	}
	for (int i = 0; i < 3; i++) {
		unsigned int table[64];
		for (int k = 0; k < 64; k++)
			table[k] = p->planes[i].table[k];
		if (i < 2)
			jpeg_add_quant_table(c, i, table, 100, TRUE);
		int v = c->comp_info[i].v_samp_factor, hs = c->comp_info[i].h_samp_factor;
		p->arrays[i] = (*c->mem->request_virt_barray)((j_common_ptr)c, JPOOL_IMAGE, TRUE, (p->planes[i].across + hs - 1) / hs * hs, (p->planes[i].down + v - 1) / v * v, v);
	}
	jpeg_write_coefficients(c, p->arrays);
	for (int i = 0; i < 3; i++) {
		const int16_t *from = p->planes[i].blocks;
		int v = c->comp_info[i].v_samp_factor;
		for (int y = 0; y < p->planes[i].down; y++) {
			JBLOCKARRAY row = (*c->mem->access_virt_barray)((j_common_ptr)c, p->arrays[i], y / v * v, v, TRUE);
			memcpy(row[y % v], from, (size_t)p->planes[i].across * sizeof(JBLOCK));
			from += (size_t)p->planes[i].across * 64;
		}
	}
}

int el_write_coefficients(const el_coefficients planes[3], int w, int h, int script, uint8_t **out, unsigned long *n, char *message) {
	coefficients420 p = {planes, w, h, script, {NULL}};
	return encode(write_coefficients, &p, out, n, message);
}
