// What a JPEG shows, without its being written: the integer DCT of eight by eight samples, quantization, and the way back, to
// the bit as libjpeg-turbo's accurate method has them. (DCT: C. Loeffler, A. Ligtenberg, G. Moschytz, "Practical fast 1-D DCT
// algorithms with 11 multiplications", ICASSP 1989.)

#include "libjpeg.h"

#include <string.h>

// Eight numbers side by side. The compiler makes them vectors of whatever the processor has.
typedef int32_t eight __attribute__((vector_size(32)));
typedef float eight_floats __attribute__((vector_size(32)));

#define INLINE static inline __attribute__((always_inline))

// Fractions are of 13 bits, as are the constants; the first of two passes leaves two bits more than samples have.
enum { BITS = 13, MORE = 2 };

enum {
	C0_298 = 2446, C0_390 = 3196, C0_541 = 4433, C0_765 = 6270, C0_899 = 7373, C1_175 = 9633,
	C1_501 = 12299, C1_847 = 15137, C1_961 = 16069, C2_053 = 16819, C2_562 = 20995, C3_072 = 25172,
};

// What many bits are dropped of, rounded.
#define ROUNDED(v, bits) (((v) + (1 << ((bits) - 1))) >> (bits))

// The odd half of both directions: a to d become what they give together.
INLINE void odd(eight *a, eight *b, eight *c, eight *d) {
	eight z1 = *a + *d, z2 = *b + *c, z3 = *a + *c, z4 = *b + *d;
	eight z5 = (z3 + z4) * C1_175;
	z1 *= -C0_899;
	z2 *= -C2_562;
	z3 = z5 - z3 * C1_961;
	z4 = z5 - z4 * C0_390;
	*a = *a * C0_298 + z1 + z3;
	*b = *b * C2_053 + z2 + z4;
	*c = *c * C3_072 + z2 + z3;
	*d = *d * C1_501 + z1 + z4;
}

// The DCT over v's eight, for eight at a time.
INLINE void forward(eight v[8], int second) {
	int bits = second ? BITS + MORE : BITS - MORE;
	eight s0 = v[0] + v[7], s1 = v[1] + v[6], s2 = v[2] + v[5], s3 = v[3] + v[4];
	eight d0 = v[0] - v[7], d1 = v[1] - v[6], d2 = v[2] - v[5], d3 = v[3] - v[4];
	eight e0 = s0 + s3, e1 = s1 + s2, o0 = s0 - s3, o1 = s1 - s2;
	v[0] = second ? ROUNDED(e0 + e1, MORE) : (e0 + e1) << MORE;
	v[4] = second ? ROUNDED(e0 - e1, MORE) : (e0 - e1) << MORE;
	eight z = (o1 + o0) * C0_541;
	v[2] = ROUNDED(z + o0 * C0_765, bits);
	v[6] = ROUNDED(z - o1 * C1_847, bits);
	odd(&d3, &d2, &d1, &d0);
	v[7] = ROUNDED(d3, bits);
	v[5] = ROUNDED(d2, bits);
	v[3] = ROUNDED(d1, bits);
	v[1] = ROUNDED(d0, bits);
}

// And back.
INLINE void backward(eight v[8], int second) {
	int bits = second ? BITS + MORE + 3 : BITS - MORE;
	eight z = (v[2] + v[6]) * C0_541;
	eight t2 = z - v[6] * C1_847, t3 = z + v[2] * C0_765;
	eight t0 = (v[0] + v[4]) << BITS, t1 = (v[0] - v[4]) << BITS;
	eight e0 = t0 + t3, e3 = t0 - t3, e1 = t1 + t2, e2 = t1 - t2;
	eight a = v[7], b = v[5], c = v[3], d = v[1];
	odd(&a, &b, &c, &d);
	v[0] = ROUNDED(e0 + d, bits);
	v[7] = ROUNDED(e0 - d, bits);
	v[1] = ROUNDED(e1 + c, bits);
	v[6] = ROUNDED(e1 - c, bits);
	v[2] = ROUNDED(e2 + b, bits);
	v[5] = ROUNDED(e2 - b, bits);
	v[3] = ROUNDED(e3 + a, bits);
	v[4] = ROUNDED(e3 - a, bits);
}

#define PICK(a, b, ...) __builtin_shufflevector(a, b, __VA_ARGS__)

INLINE void transpose(eight v[8]) {
	eight a[8], b[8];
	for (int i = 0; i < 8; i += 2) {
		a[i] = PICK(v[i], v[i + 1], 0, 8, 2, 10, 4, 12, 6, 14);
		a[i + 1] = PICK(v[i], v[i + 1], 1, 9, 3, 11, 5, 13, 7, 15);
	}
	for (int i = 0; i < 8; i += 4)
		for (int k = 0; k < 2; k++) {
			b[i + k] = PICK(a[i + k], a[i + k + 2], 0, 1, 8, 9, 4, 5, 12, 13);
			b[i + k + 2] = PICK(a[i + k], a[i + k + 2], 2, 3, 10, 11, 6, 7, 14, 15);
		}
	for (int k = 0; k < 4; k++) {
		v[k] = PICK(b[k], b[k + 4], 0, 1, 2, 3, 8, 9, 10, 11);
		v[k + 4] = PICK(b[k], b[k + 4], 4, 5, 6, 7, 12, 13, 14, 15);
	}
}

// One block: steps are the quantizer's, times eight.
INLINE void block(const uint8_t *from, int stride, uint8_t *to, int to_stride, const eight steps[8], const eight table[8]) {
	eight v[8];
	for (int y = 0; y < 8; y++)
		for (int x = 0; x < 8; x++)
			v[y][x] = from[(size_t)y * stride + x] - 128;
	transpose(v);
	forward(v, 0);
	transpose(v);
	forward(v, 1);
	for (int i = 0; i < 8; i++) {
		eight sign = v[i] >> 31;
		eight size = (v[i] ^ sign) - sign;
		// Whole numbers this small divide without an error that matters: the next whole quotient is further off than a float's last bit.
		eight_floats n = __builtin_convertvector(size + (steps[i] >> 1), eight_floats) / __builtin_convertvector(steps[i], eight_floats);
		eight level = __builtin_convertvector(n, eight);
		v[i] = ((level ^ sign) - sign) * table[i];
	}
	backward(v, 0);
	transpose(v);
	backward(v, 1);
	transpose(v);
	int32_t wide[64];
	uint8_t narrow[64];
	memcpy(wide, v, sizeof wide);
	for (int i = 0; i < 64; i++) {
		int32_t s = wide[i] + 128;
		narrow[i] = s < 0 ? 0 : s > 255 ? 255 : s;
	}
	for (int y = 0; y < 8; y++)
		memcpy(to + (size_t)y * to_stride, narrow + 8 * y, 8);
}

#if defined __x86_64__
__attribute__((target_clones("avx2", "default")))
#endif
void el_show(const uint8_t *from, int stride, uint8_t *to, int to_stride, int w, int h, const uint16_t *quantizer) {
	eight table[8], steps[8];
	for (int i = 0; i < 64; i++)
		((int32_t *)table)[i] = quantizer[i];
	for (int i = 0; i < 8; i++)
		steps[i] = table[i] << 3;
	for (int y = 0; y < h; y += 8)
		for (int x = 0; x < w; x += 8) {
			if (x + 8 <= w && y + 8 <= h) {
				block(from + (size_t)y * stride + x, stride, to + (size_t)y * to_stride + x, to_stride, steps, table);
				continue;
			}
			uint8_t part[64], shown[64]; // the last samples are repeated
			for (int i = 0; i < 64; i++)
				part[i] = from[(size_t)(y + i / 8 < h ? y + i / 8 : h - 1) * stride + (x + i % 8 < w ? x + i % 8 : w - 1)];
			block(part, 8, shown, 8, steps, table);
			for (int i = 0; i < 8 && y + i < h; i++)
				memcpy(to + (size_t)(y + i) * to_stride + x, shown + 8 * i, x + 8 <= w ? 8 : w - x);
		}
}
