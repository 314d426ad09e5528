#include <stddef.h>
#include <stdint.h>

typedef struct {
	int code, subcode;
	char message[256];
	int width, height, depth, alpha, frames;
	uint8_t *profile; // malloc'd, or NULL
	size_t profile_size;
	int primaries, transfer;
} el_heif_info;

// Both give 1 where it went well. The size is the upright one: the library turns pictures as their files say.
int el_heif_probe(const uint8_t *data, size_t n, el_heif_info *info);
int el_heif_read(const uint8_t *data, size_t n, uint8_t *pix, int stride, int w, int h, el_heif_info *info);
