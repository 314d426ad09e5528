#include "textflag.h"

DATA full<>+0(SB)/4, $0x437f0000 // 255
GLOBL full<>(SB), RODATA|NOPTR, $4
DATA half<>+0(SB)/4, $0x3f000000 // 0.5
GLOBL half<>(SB), RODATA|NOPTR, $4
DATA low<>+0(SB)/4, $0x000000ff
GLOBL low<>(SB), RODATA|NOPTR, $4
DATA one<>+0(SB)/4, $0x3f800000 // 1
GLOBL one<>(SB), RODATA|NOPTR, $4

// One row of a matrix on red, green and blue in Y0, Y1, Y2, clamped to 0…255 in Y12 and Y13.
#define ROW(at, out) \
	VBROADCASTSS (at+0)(AX), out \
	VBROADCASTSS (at+4)(AX), Y8 \
	VBROADCASTSS (at+8)(AX), Y9 \
	VBROADCASTSS (at+12)(AX), Y10 \
	VMULPS Y0, out, out \
	VMULPS Y1, Y8, Y8 \
	VADDPS Y8, out, out \
	VMULPS Y2, Y9, Y9 \
	VADDPS Y9, out, out \
	VADDPS Y10, out, out \
	VMAXPS Y12, out, out \
	VMINPS Y13, out, out

// func matricesAVX2(pix *uint8, n int, ms *Matrix, count int)
TEXT ·matricesAVX2(SB), NOSPLIT, $0-32
	MOVQ pix+0(FP), DI
	MOVQ n+8(FP), R11
	MOVQ ms+16(FP), R8
	MOVQ count+24(FP), R9
	VXORPS Y12, Y12, Y12
	VBROADCASTSS full<>(SB), Y13
	VPBROADCASTD low<>(SB), Y14
	VBROADCASTSS half<>(SB), Y15

pixels:
	VMOVDQU (DI), Y7
	VPAND Y14, Y7, Y0
	VPSRLD $8, Y7, Y1
	VPAND Y14, Y1, Y1
	VPSRLD $16, Y7, Y2
	VPAND Y14, Y2, Y2
	VPSRLD $24, Y7, Y3
	VCVTDQ2PS Y0, Y0
	VCVTDQ2PS Y1, Y1
	VCVTDQ2PS Y2, Y2
	VCVTDQ2PS Y3, Y3
	// Straight colours: where there's no alpha there is no colour either, and any factor will do.
	VBROADCASTSS one<>(SB), Y4
	VMAXPS Y4, Y3, Y4
	VDIVPS Y4, Y13, Y4
	VMULPS Y4, Y0, Y0
	VMULPS Y4, Y1, Y1
	VMULPS Y4, Y2, Y2
	MOVQ R8, AX
	MOVQ R9, CX

matrices:
	ROW(0, Y4)
	ROW(16, Y5)
	ROW(32, Y6)
	VMOVAPS Y4, Y0
	VMOVAPS Y5, Y1
	VMOVAPS Y6, Y2
	ADDQ $48, AX
	DECQ CX
	JNZ matrices

	VDIVPS Y13, Y3, Y3
	VMULPS Y3, Y0, Y0
	VMULPS Y3, Y1, Y1
	VMULPS Y3, Y2, Y2
	VADDPS Y15, Y0, Y0
	VADDPS Y15, Y1, Y1
	VADDPS Y15, Y2, Y2
	VCVTTPS2DQ Y0, Y0
	VCVTTPS2DQ Y1, Y1
	VCVTTPS2DQ Y2, Y2
	VPSRLD $24, Y7, Y7
	VPSLLD $24, Y7, Y7
	VPSLLD $8, Y1, Y1
	VPSLLD $16, Y2, Y2
	VPOR Y1, Y0, Y0
	VPOR Y2, Y7, Y7
	VPOR Y7, Y0, Y0
	VMOVDQU Y0, (DI)
	ADDQ $32, DI
	DECQ R11
	JNZ pixels
	VZEROUPPER
	RET
