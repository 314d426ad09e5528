#include "textflag.h"

// The AVX2 forms of the passes in resample.go. Every sum is the same int32 sum as there, so the bytes are
// the same; see TestVectorsEqualPlain.

// Within each half of a register, four words a pixel (r0 g0 b0 a0 r1 g1 b1 a1) become the pairs that the
// multiply-add wants: r0 r1 g0 g1 b0 b1 a0 a1.
DATA pairUp<>+0(SB)/8, $0x0b0a030209080100
DATA pairUp<>+8(SB)/8, $0x0f0e07060d0c0504
DATA pairUp<>+16(SB)/8, $0x0b0a030209080100
DATA pairUp<>+24(SB)/8, $0x0f0e07060d0c0504
GLOBL pairUp<>(SB), RODATA|NOPTR, $32

// Weights w0w1 for the lower half of a register, w2w3 for the upper.
DATA spread<>+0(SB)/8, $0x0000000000000000
DATA spread<>+8(SB)/8, $0x0000000000000000
DATA spread<>+16(SB)/8, $0x0000000100000001
DATA spread<>+24(SB)/8, $0x0000000100000001
GLOBL spread<>(SB), RODATA|NOPTR, $32

DATA roundTemp<>+0(SB)/4, $128
GLOBL roundTemp<>(SB), RODATA|NOPTR, $4

// func verticalAVX2(temp *int16, rows *uint8, stride int, weights *int16, pairs int, n int)
// n is a multiple of 32. Two rows a step: their bytes widened to words, interleaved, multiplied by a pair
// of weights and added.
TEXT ·verticalAVX2(SB), NOSPLIT, $0-48
	MOVQ temp+0(FP), DI
	MOVQ rows+8(FP), SI
	MOVQ stride+16(FP), R8
	MOVQ weights+24(FP), R9
	MOVQ pairs+32(FP), R10
	MOVQ n+40(FP), R11
	VPBROADCASTD roundTemp<>(SB), Y15

columns:
	VMOVDQA Y15, Y0
	VMOVDQA Y15, Y1
	VMOVDQA Y15, Y2
	VMOVDQA Y15, Y3
	MOVQ SI, AX
	MOVQ R9, BX
	MOVQ R10, CX

taps:
	VPBROADCASTD (BX), Y14
	VPMOVZXBW (AX), Y4
	VPMOVZXBW 16(AX), Y5
	VPMOVZXBW (AX)(R8*1), Y6
	VPMOVZXBW 16(AX)(R8*1), Y7
	VPUNPCKLWD Y6, Y4, Y8
	VPUNPCKHWD Y6, Y4, Y9
	VPUNPCKLWD Y7, Y5, Y10
	VPUNPCKHWD Y7, Y5, Y11
	VPMADDWD Y14, Y8, Y8
	VPMADDWD Y14, Y9, Y9
	VPMADDWD Y14, Y10, Y10
	VPMADDWD Y14, Y11, Y11
	VPADDD Y8, Y0, Y0
	VPADDD Y9, Y1, Y1
	VPADDD Y10, Y2, Y2
	VPADDD Y11, Y3, Y3
	LEAQ (AX)(R8*2), AX
	ADDQ $4, BX
	DECQ CX
	JNZ taps

	VPSRAD $8, Y0, Y0
	VPSRAD $8, Y1, Y1
	VPSRAD $8, Y2, Y2
	VPSRAD $8, Y3, Y3
	VPACKSSDW Y1, Y0, Y0
	VPACKSSDW Y3, Y2, Y2
	VMOVDQU Y0, (DI)
	VMOVDQU Y2, 32(DI)
	ADDQ $64, DI
	ADDQ $32, SI
	SUBQ $32, R11
	JNZ columns
	VZEROUPPER
	RET

// func horizontal1AVX2(dst *uint8, temp *int16, start *int32, weights *int16, stride int, n int, round int32)
// n is a multiple of 4, stride of 16.
TEXT ·horizontal1AVX2(SB), NOSPLIT, $0-52
	MOVQ dst+0(FP), DI
	MOVQ temp+8(FP), SI
	MOVQ start+16(FP), R8
	MOVQ weights+24(FP), R9
	MOVQ stride+32(FP), R10
	MOVQ n+40(FP), R11
	MOVL round+48(FP), AX
	VMOVD AX, X15
	VPBROADCASTD X15, X15
	SHLQ $1, R10             // bytes from one sample's weights to the next's
	LEAQ (R10)(R10*2), R14   // three of them

samples:
	MOVLQSX (R8), AX
	MOVLQSX 4(R8), BX
	MOVLQSX 8(R8), CX
	MOVLQSX 12(R8), DX
	LEAQ (SI)(AX*2), AX
	LEAQ (SI)(BX*2), BX
	LEAQ (SI)(CX*2), CX
	LEAQ (SI)(DX*2), DX
	VPXOR Y0, Y0, Y0
	VPXOR Y1, Y1, Y1
	VPXOR Y2, Y2, Y2
	VPXOR Y3, Y3, Y3
	MOVQ R10, R12

taps:
	VMOVDQU (R9), Y4
	VMOVDQU (R9)(R10*1), Y5
	VMOVDQU (R9)(R10*2), Y6
	VMOVDQU (R9)(R14*1), Y7
	VPMADDWD (AX), Y4, Y4
	VPMADDWD (BX), Y5, Y5
	VPMADDWD (CX), Y6, Y6
	VPMADDWD (DX), Y7, Y7
	VPADDD Y4, Y0, Y0
	VPADDD Y5, Y1, Y1
	VPADDD Y6, Y2, Y2
	VPADDD Y7, Y3, Y3
	ADDQ $32, R9
	ADDQ $32, AX
	ADDQ $32, BX
	ADDQ $32, CX
	ADDQ $32, DX
	SUBQ $32, R12
	JNZ taps

	VPHADDD Y1, Y0, Y0
	VPHADDD Y3, Y2, Y2
	VPHADDD Y2, Y0, Y0
	VEXTRACTI128 $1, Y0, X1
	VPADDD X1, X0, X0
	VPADDD X15, X0, X0
	VPSRAD $20, X0, X0
	VPACKSSDW X0, X0, X0
	VPACKUSWB X0, X0, X0
	VMOVD X0, (DI)
	ADDQ $4, DI
	ADDQ $16, R8
	ADDQ R14, R9
	SUBQ $4, R11
	JNZ samples
	VZEROUPPER
	RET

// func horizontal4AVX2(dst *uint8, temp *int16, start *int32, weights *int16, stride int, n int, round int32)
// stride is a multiple of 4.
TEXT ·horizontal4AVX2(SB), NOSPLIT, $0-52
	MOVQ dst+0(FP), DI
	MOVQ temp+8(FP), SI
	MOVQ start+16(FP), R8
	MOVQ weights+24(FP), R9
	MOVQ stride+32(FP), R10
	MOVQ n+40(FP), R11
	MOVL round+48(FP), AX
	VMOVD AX, X15
	VPBROADCASTD X15, X15
	VMOVDQU pairUp<>(SB), Y14
	VMOVDQU spread<>(SB), Y13

pixels:
	MOVLQSX (R8), AX
	LEAQ (SI)(AX*8), AX
	VPXOR Y0, Y0, Y0
	MOVQ R10, R12

taps:
	VPBROADCASTQ (R9), Y1
	VPERMD Y1, Y13, Y1
	VMOVDQU (AX), Y2
	VPSHUFB Y14, Y2, Y2
	VPMADDWD Y1, Y2, Y2
	VPADDD Y2, Y0, Y0
	ADDQ $8, R9
	ADDQ $32, AX
	SUBQ $4, R12
	JNZ taps

	VEXTRACTI128 $1, Y0, X1
	VPADDD X1, X0, X0
	VPADDD X15, X0, X0
	VPSRAD $20, X0, X0
	VPACKSSDW X0, X0, X0
	VPACKUSWB X0, X0, X0
	VMOVD X0, (DI)
	ADDQ $4, DI
	ADDQ $4, R8
	DECQ R11
	JNZ pixels
	VZEROUPPER
	RET
