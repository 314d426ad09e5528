#include "textflag.h"

// The AVX2 forms of the passes; resample_amd64.go says how they share the work. Every sum is the same int32
// sum as in the plain passes, so the bytes are the same: TestVectorsEqualPlain.

DATA roundTemp<>+0(SB)/4, $128
GLOBL roundTemp<>(SB), RODATA|NOPTR, $4

// Four pixels of four rows, pixel by pixel, become four rows of four pixels.
DATA byRows<>+0(SB)/8, $0x0d0905010c080400
DATA byRows<>+8(SB)/8, $0x0f0b07030e0a0602
GLOBL byRows<>(SB), RODATA|NOPTR, $16

// Sums of 32 columns in Y0…Y3 for the first row and Y4…Y7 for the second. In each register the lower half
// holds four columns and the upper half the four that are sixteen further.
#define SUMS \
	VPBROADCASTD roundTemp<>(SB), Y0 \
	VMOVDQA Y0, Y1 \
	VMOVDQA Y0, Y2 \
	VMOVDQA Y0, Y3 \
	VMOVDQA Y0, Y4 \
	VMOVDQA Y0, Y5 \
	VMOVDQA Y0, Y6 \
	VMOVDQA Y0, Y7 \
	MOVQ SI, AX \
	MOVQ R9, BX \
	MOVQ R10, CX

// Two source rows: their bytes interleaved, widened to pairs of words, multiplied by a pair of weights, added.
#define TAPS \
	PREFETCHT0 256(AX) \
	PREFETCHT0 256(AX)(R8*1) \
	VMOVDQU (AX), Y10 \
	VMOVDQU (AX)(R8*1), Y11 \
	VPBROADCASTD (BX), Y12 \
	VPBROADCASTD 4(BX), Y13 \
	VPUNPCKLBW Y11, Y10, Y9 \
	VPUNPCKHBW Y11, Y10, Y11 \
	VPUNPCKLBW Y15, Y9, Y8 \
	VPUNPCKHBW Y15, Y9, Y9 \
	VPUNPCKLBW Y15, Y11, Y10 \
	VPUNPCKHBW Y15, Y11, Y11 \
	VPMADDWD Y12, Y8, Y14 \
	VPADDD Y14, Y0, Y0 \
	VPMADDWD Y12, Y9, Y14 \
	VPADDD Y14, Y1, Y1 \
	VPMADDWD Y12, Y10, Y14 \
	VPADDD Y14, Y2, Y2 \
	VPMADDWD Y12, Y11, Y14 \
	VPADDD Y14, Y3, Y3 \
	VPMADDWD Y13, Y8, Y8 \
	VPADDD Y8, Y4, Y4 \
	VPMADDWD Y13, Y9, Y9 \
	VPADDD Y9, Y5, Y5 \
	VPMADDWD Y13, Y10, Y10 \
	VPADDD Y10, Y6, Y6 \
	VPMADDWD Y13, Y11, Y11 \
	VPADDD Y11, Y7, Y7 \
	LEAQ (AX)(R8*2), AX \
	ADDQ $8, BX \
	DECQ CX

// Pixels a and a+1 in two registers of sums become pairs of words; see groupWords.
#define PAIRED(a, b) \
	VPSRLD $8, a, a \
	VPSLLD $8, b, b \
	VPBLENDW $0xaa, b, a, a

// func vertical4AVX2(temp *int16, rows *uint8, stride int, weights *int16, pairs int, n int)
TEXT ·vertical4AVX2(SB), NOSPLIT, $0-48
	MOVQ temp+0(FP), DI
	MOVQ rows+8(FP), SI
	MOVQ stride+16(FP), R8
	MOVQ weights+24(FP), R9
	MOVQ pairs+32(FP), R10
	MOVQ n+40(FP), R11
	VPXOR Y15, Y15, Y15

columns4:
	SUMS

taps4:
	TAPS
	JNZ taps4

	PAIRED(Y0, Y1)
	PAIRED(Y2, Y3)
	PAIRED(Y4, Y5)
	PAIRED(Y6, Y7)
	VINSERTI128 $1, X4, Y0, Y8
	VINSERTI128 $1, X6, Y2, Y9
	VPERM2I128 $0x31, Y4, Y0, Y10
	VPERM2I128 $0x31, Y6, Y2, Y11
	VMOVDQU Y8, (DI)
	VMOVDQU Y9, 32(DI)
	VMOVDQU Y10, 64(DI)
	VMOVDQU Y11, 96(DI)
	ADDQ $128, DI
	ADDQ $32, SI
	DECQ R11
	JNZ columns4
	VZEROUPPER
	RET

// Eight columns of both rows, first in a and second in b, four in each half: pairs of words go to the two
// lanes of eight groups of 32 bytes.
#define SPREAD(a, b, at) \
	VPUNPCKLDQ b, a, Y8 \
	VPUNPCKHDQ b, a, Y9 \
	VEXTRACTI128 $1, Y8, X10 \
	VEXTRACTI128 $1, Y9, X11 \
	VMOVQ X8, (at+0)(DI) \
	VMOVHPS X8, (at+32)(DI) \
	VMOVQ X9, (at+64)(DI) \
	VMOVHPS X9, (at+96)(DI) \
	VMOVQ X10, (at+256)(DI) \
	VMOVHPS X10, (at+288)(DI) \
	VMOVQ X11, (at+320)(DI) \
	VMOVHPS X11, (at+352)(DI)

// func vertical1AVX2(temp *int16, rows *uint8, stride int, weights *int16, pairs int, n int)
TEXT ·vertical1AVX2(SB), NOSPLIT, $0-48
	MOVQ temp+0(FP), DI
	MOVQ rows+8(FP), SI
	MOVQ stride+16(FP), R8
	MOVQ weights+24(FP), R9
	MOVQ pairs+32(FP), R10
	MOVQ n+40(FP), R11
	VPXOR Y15, Y15, Y15

columns1:
	SUMS

taps1:
	TAPS
	JNZ taps1

	VPSRAD $8, Y0, Y0
	VPSRAD $8, Y1, Y1
	VPSRAD $8, Y2, Y2
	VPSRAD $8, Y3, Y3
	VPSRAD $8, Y4, Y4
	VPSRAD $8, Y5, Y5
	VPSRAD $8, Y6, Y6
	VPSRAD $8, Y7, Y7
	VPACKSSDW Y1, Y0, Y0
	VPACKSSDW Y3, Y2, Y2
	VPACKSSDW Y5, Y4, Y4
	VPACKSSDW Y7, Y6, Y6
	SPREAD(Y0, Y4, 0)
	SPREAD(Y2, Y6, 128)
	ADDQ $512, DI
	ADDQ $32, SI
	DECQ R11
	JNZ columns1
	VZEROUPPER
	RET

#define STARTS \
	MOVLQSX (R8), AX \
	MOVLQSX 4(R8), BX \
	MOVLQSX 8(R8), CX \
	MOVLQSX 12(R8), DX \
	LEAQ (SI)(AX*2), AX \
	LEAQ (SI)(BX*2), BX \
	LEAQ (SI)(CX*2), CX \
	LEAQ (SI)(DX*2), DX \
	VMOVDQA Y15, Y0 \
	VMOVDQA Y15, Y1 \
	VMOVDQA Y15, Y2 \
	VMOVDQA Y15, Y3 \
	XORQ R12, R12

// Two taps of four pixels of all lanes.
#define PIXELS \
	VPBROADCASTD (R9), Y4 \
	VPBROADCASTD 4(R9), Y5 \
	VPBROADCASTD 8(R9), Y6 \
	VPBROADCASTD 12(R9), Y7 \
	VPMADDWD (AX)(R12*1), Y4, Y4 \
	VPMADDWD (BX)(R12*1), Y5, Y5 \
	VPMADDWD (CX)(R12*1), Y6, Y6 \
	VPMADDWD (DX)(R12*1), Y7, Y7 \
	VPADDD Y4, Y0, Y0 \
	VPADDD Y5, Y1, Y1 \
	VPADDD Y6, Y2, Y2 \
	VPADDD Y7, Y3, Y3 \
	ADDQ $16, R9 \
	ADDQ $32, R12 \
	CMPQ R12, R10

// Sums to bytes, pixel by pixel: lanes 0–3 in X0, 4–7 in X1.
#define BYTES \
	VPSRAD $20, Y0, Y0 \
	VPSRAD $20, Y1, Y1 \
	VPSRAD $20, Y2, Y2 \
	VPSRAD $20, Y3, Y3 \
	VPACKSSDW Y1, Y0, Y0 \
	VPACKSSDW Y3, Y2, Y2 \
	VPACKUSWB Y2, Y0, Y0 \
	VEXTRACTI128 $1, Y0, X1

// func horizontal4AVX2(dst *uint8, stride int, temp *int16, start *int32, weights *int16, pairs int, n int, round int32)
TEXT ·horizontal4AVX2(SB), NOSPLIT, $0-60
	MOVQ dst+0(FP), DI
	MOVQ stride+8(FP), R13
	MOVQ temp+16(FP), SI
	MOVQ start+24(FP), R8
	MOVQ weights+32(FP), R9
	MOVQ pairs+40(FP), R10
	SHLQ $5, R10
	MOVQ n+48(FP), R11
	MOVL round+56(FP), AX
	VMOVD AX, X15
	VPBROADCASTD X15, Y15

four:
	STARTS

taps:
	PIXELS
	JNE taps

	BYTES
	VMOVDQU X0, (DI)
	VMOVDQU X1, (DI)(R13*1)
	ADDQ $16, DI
	ADDQ $16, R8
	DECQ R11
	JNZ four
	VZEROUPPER
	RET

// func horizontal1AVX2(dst *uint8, stride int, temp *int16, start *int32, weights *int16, pairs int, n int, round int32)
TEXT ·horizontal1AVX2(SB), NOSPLIT, $0-60
	MOVQ dst+0(FP), DI
	MOVQ stride+8(FP), R13
	MOVQ temp+16(FP), SI
	MOVQ start+24(FP), R8
	MOVQ weights+32(FP), R9
	MOVQ pairs+40(FP), R10
	SHLQ $5, R10
	MOVQ n+48(FP), R11
	MOVL round+56(FP), AX
	VMOVD AX, X15
	VPBROADCASTD X15, Y15
	VMOVDQU byRows<>(SB), X14
	LEAQ (R13)(R13*2), R14

samples:
	STARTS

pairs:
	PIXELS
	JNE pairs

	BYTES
	VPSHUFB X14, X0, X0
	VPSHUFB X14, X1, X1
	LEAQ (DI)(R13*4), AX
	VMOVD X0, (DI)
	VPEXTRD $1, X0, (DI)(R13*1)
	VPEXTRD $2, X0, (DI)(R13*2)
	VPEXTRD $3, X0, (DI)(R14*1)
	VMOVD X1, (AX)
	VPEXTRD $1, X1, (AX)(R13*1)
	VPEXTRD $2, X1, (AX)(R13*2)
	VPEXTRD $3, X1, (AX)(R14*1)
	ADDQ $4, DI
	ADDQ $16, R8
	DECQ R11
	JNZ samples
	VZEROUPPER
	RET
