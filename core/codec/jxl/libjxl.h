#include <stddef.h>
#include <stdint.h>

enum { el_jxl_fine, el_jxl_broken, el_jxl_short, el_jxl_memory, el_jxl_beyond, el_jxl_black };

typedef struct {
	int status;        // el_jxl_fine, or why the file can't be read
	int width, height; // as stored
	int orientation;   // Exif's
	int depth;         // bits a sample
	int alpha, grey, frames, plays;
	int primaries, transfer; // CICP (ITU-T H.273) of what is decoded; 0: sRGB, or the profile's
	uint8_t *profile;        // of what is decoded; malloc'd, or NULL
	size_t profile_size;
	int jpeg; // it holds a whole JPEG
} el_jxl_info;

typedef struct el_jxl_decoder el_jxl_decoder;

// el_jxl_open reads the header, of an animation those of its frames too. It gives NULL where that fails, with info->status set.
el_jxl_decoder *el_jxl_open(const uint8_t *data, size_t n, uint64_t most_pixels, int most_frames, el_jxl_info *info);
// el_jxl_next decodes the next frame, as it is shown, into straight RGBA of 8 or 16 bits a sample, and gives how long it is shown in
// milliseconds. Before the first it begins again.
int el_jxl_next(el_jxl_decoder *d, void *pix, size_t stride, int depth, double *shown);
void el_jxl_close(el_jxl_decoder *d);
// el_jxl_rebuild gives the JPEG that the file holds; *out is malloc'd.
int el_jxl_rebuild(const uint8_t *data, size_t n, size_t most, uint8_t **out, size_t *size);

typedef struct {
	float distance; // 0.01 to 15, in units of what can just be seen
	int effort;     // 1 (quick) to 9
	int lossless;
	int progressive;
	const uint8_t *exif, *xmp; // NULL for none
	size_t exif_size, xmp_size;
} el_jxl_settings;

typedef struct el_jxl_encoder el_jxl_encoder;

// el_jxl_begin begins a picture, or an animation that plays so often, 0 for ever; plays is -1 for a still.
el_jxl_encoder *el_jxl_begin(int w, int h, int opaque, int plays, const el_jxl_settings *s);
// el_jxl_add adds a frame of straight RGBA, shown for so many milliseconds.
int el_jxl_add(el_jxl_encoder *e, const uint8_t *rgba, size_t stride, int shown, const el_jxl_settings *s);
// el_jxl_end writes the file; *out is malloc'd. el_jxl_drop frees the encoder.
int el_jxl_end(el_jxl_encoder *e, uint8_t **out, size_t *n);
void el_jxl_drop(el_jxl_encoder *e);
// el_jxl_from_jpeg writes a file that holds a JPEG's picture, from which the JPEG can be rebuilt to the byte where that can be; *out is
// malloc'd.
int el_jxl_from_jpeg(const uint8_t *data, size_t n, int effort, uint8_t **out, size_t *size);
