#include <stddef.h>
#include <stdint.h>

typedef struct {
	int status; // libavif's result, 0 for fine
	int width, height; // within clap, before irot and imir
	int depth, alpha, frames, grid;
	int turns; // quarter turns anticlockwise (irot)
	int mirror; // 0 none, 1 top and bottom change places, 2 left and right (imir)
	int primaries, transfer, matrix, full; // CICP (ITU-T H.273)
	int crop_x, crop_y;
	uint8_t *profile; // malloc'd by us, or NULL
	size_t profile_size;
} el_avif_info;

typedef struct el_avif_decoder el_avif_decoder;

// el_avif_open reads the header. It gives NULL where that fails, with info->status set.
el_avif_decoder *el_avif_open(const uint8_t *data, size_t n, uint32_t most_pixels, el_avif_info *info);
// el_avif_read decodes the first frame into straight RGBA of 8 or 16 bits a sample.
int el_avif_read(el_avif_decoder *d, void *pix, int stride, int depth);
// el_avif_read_planes decodes the first frame, which must be 8-bit 4:2:0, into planes.
int el_avif_read_planes(el_avif_decoder *d, uint8_t *y, int ys, uint8_t *cb, uint8_t *cr, int cs);
// el_avif_next decodes the next frame of a sequence into straight RGBA of 8 bits a sample, and gives how long it is shown in milliseconds.
int el_avif_next(el_avif_decoder *d, void *pix, int stride, double *shown);
void el_avif_close(el_avif_decoder *d);

typedef struct {
	int quantizer, alpha_quantizer; // 0 (lossless) to 63
	int copies; // whether blocks may be copied from elsewhere in the picture
	int matrix; // the level of the quantizer matrices, 1 to 15; 0: none
	int speed; // 0 (thorough) to 10
	int lossless;
	const uint8_t *exif, *xmp; // NULL for none
	size_t exif_size, xmp_size;
} el_avif_settings;

// Both write 8-bit pictures, from 4:2:0 planes in full range or straight RGBA; *out is libavif's, for el_avif_free.
int el_avif_write_planes(const uint8_t *y, int ys, const uint8_t *cb, const uint8_t *cr, int cs, int w, int h,
	const el_avif_settings *s, uint8_t **out, size_t *n);
int el_avif_write_pixels(const uint8_t *rgba, int stride, int w, int h, int opaque, int full_chroma,
	const el_avif_settings *s, uint8_t **out, size_t *n);

typedef struct el_avif_film el_avif_film;

// el_avif_film_begin begins a sequence of frames that are written alike; NULL where there is no memory.
el_avif_film *el_avif_film_begin(int opaque, int full_chroma, const el_avif_settings *s);
// el_avif_film_add adds a frame of straight RGBA, shown for so many milliseconds.
int el_avif_film_add(el_avif_film *f, const uint8_t *rgba, int stride, int w, int h, int shown);
int el_avif_film_end(el_avif_film *f, uint8_t **out, size_t *n);
void el_avif_film_drop(el_avif_film *f);
void el_avif_free(uint8_t *out, size_t n);
const char *el_avif_says(int status);
