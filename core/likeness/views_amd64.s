#include "textflag.h"

// func halvedAVX2(a, b, to *float32, n int)
TEXT ·halvedAVX2(SB), NOSPLIT, $0-32
	MOVQ a+0(FP), R8
	MOVQ b+8(FP), R9
	MOVQ to+16(FP), DI
	MOVQ n+24(FP), CX
	MOVL $0x3e800000, AX // 1/4
	MOVQ AX, X15
	VBROADCASTSS X15, Y15

eight:
	VMOVUPS (R8), Y0
	VMOVUPS 32(R8), Y1
	VMOVUPS (R9), Y2
	VMOVUPS 32(R9), Y3
	VSHUFPS $0x88, Y1, Y0, Y4 // the even ones
	VSHUFPS $0xdd, Y1, Y0, Y5 // the odd ones
	VSHUFPS $0x88, Y3, Y2, Y6
	VSHUFPS $0xdd, Y3, Y2, Y7
	VADDPS Y5, Y4, Y4
	VADDPS Y6, Y4, Y4
	VADDPS Y7, Y4, Y4
	VMULPS Y15, Y4, Y4
	VPERMPD $0xd8, Y4, Y4
	VMOVUPS Y4, (DI)
	ADDQ $64, R8
	ADDQ $64, R9
	ADDQ $32, DI
	DECQ CX
	JNZ eight
	VZEROUPPER
	RET

// func smoothedAVX2(a, b, c, to *float32, n int)
TEXT ·smoothedAVX2(SB), NOSPLIT, $0-40
	MOVQ a+0(FP), R8
	MOVQ b+8(FP), R9
	MOVQ c+16(FP), R10
	MOVQ to+24(FP), DI
	MOVQ n+32(FP), CX
	MOVL $0x40c00000, AX // 6
	MOVQ AX, X15
	VBROADCASTSS X15, Y15
	MOVL $0x3e000000, AX // 1/8
	MOVQ AX, X14
	VBROADCASTSS X14, Y14

eight:
	VMULPS (R9), Y15, Y0
	VADDPS (R8), Y0, Y0
	VADDPS (R10), Y0, Y0
	VMULPS Y14, Y0, Y0
	VMOVUPS Y0, (DI)
	ADDQ $32, R8
	ADDQ $32, R9
	ADDQ $32, R10
	ADDQ $32, DI
	DECQ CX
	JNZ eight
	VZEROUPPER
	RET

DATA thirds<>+0(SB)/4, $0
DATA thirds<>+4(SB)/4, $3
DATA thirds<>+8(SB)/4, $6
DATA thirds<>+12(SB)/4, $1
DATA thirds<>+16(SB)/4, $4
DATA thirds<>+20(SB)/4, $7
DATA thirds<>+24(SB)/4, $2
DATA thirds<>+28(SB)/4, $5
GLOBL thirds<>(SB), RODATA|NOPTR, $32

// func thirdsAVX2(from, to *float32, n int)
TEXT ·thirdsAVX2(SB), NOSPLIT, $0-24
	MOVQ from+0(FP), SI
	MOVQ to+8(FP), DI
	MOVQ n+16(FP), CX
	VMOVDQU thirds<>(SB), Y15 // where 0, 3, 6 … 21 lie, each modulo 8
	VPCMPEQD Y12, Y12, Y12
	VPSRLD $31, Y12, Y12 // 1
	VPADDD Y12, Y15, Y14 // 1, 4, 7 … 22: of an index only the lowest three bits count
	VPADDD Y12, Y14, Y13

eight:
	VMOVUPS (SI), Y0
	VMOVUPS 32(SI), Y1
	VMOVUPS 64(SI), Y2
	VBLENDPS $0x92, Y1, Y0, Y3
	VBLENDPS $0x24, Y2, Y3, Y3
	VBLENDPS $0x24, Y1, Y0, Y4
	VBLENDPS $0x49, Y2, Y4, Y4
	VBLENDPS $0x49, Y1, Y0, Y5
	VBLENDPS $0x92, Y2, Y5, Y5
	VPERMPS Y3, Y15, Y3
	VPERMPS Y4, Y14, Y4
	VPERMPS Y5, Y13, Y5
	VADDPS Y4, Y3, Y3
	VADDPS Y5, Y3, Y3
	VMOVUPS Y3, (DI)
	ADDQ $96, SI
	ADDQ $32, DI
	DECQ CX
	JNZ eight
	VZEROUPPER
	RET

// func clipsAVX2(blue, red *float32, first, second *uint8, constants *[8]float32, marks *uint8, n int)
TEXT ·clipsAVX2(SB), NOSPLIT, $0-56
	MOVQ blue+0(FP), SI
	MOVQ red+8(FP), DI
	MOVQ first+16(FP), R8
	MOVQ second+24(FP), R9
	MOVQ constants+32(FP), AX
	MOVQ marks+40(FP), R10
	MOVQ n+48(FP), CX
	VBROADCASTSS (AX), Y15
	VBROADCASTSS 4(AX), Y14
	VBROADCASTSS 8(AX), Y13
	VBROADCASTSS 12(AX), Y12
	VBROADCASTSS 16(AX), Y11
	VBROADCASTSS 20(AX), Y10
	VBROADCASTSS 24(AX), Y9
	VBROADCASTSS 28(AX), Y8

eight:
	VMOVUPS (SI), Y0
	VMOVUPS (DI), Y1
	VMULPS Y1, Y15, Y2 // red
	VMULPS Y0, Y14, Y3 // blue
	VMULPS Y0, Y13, Y0
	VMULPS Y1, Y12, Y1
	VADDPS Y1, Y0, Y0  // green
	VMINPS Y2, Y3, Y1
	VMINPS Y0, Y1, Y1
	VMAXPS Y2, Y3, Y4
	VMAXPS Y0, Y4, Y4
	VMOVDQU (R8), X2
	VMOVDQU (R9), X3
	VPMINUB X3, X2, X5
	VPMAXUB X3, X2, X6
	VPSRLW $8, X5, X2
	VPMINUB X2, X5, X5 // the higher byte is 0
	VPSRLW $8, X6, X2
	VPMAXUB X2, X6, X6
	VPSLLW $8, X6, X6
	VPSRLW $8, X6, X6
	VPMOVZXWD X5, Y5
	VPMOVZXWD X6, Y6
	VCVTDQ2PS Y5, Y5
	VCVTDQ2PS Y6, Y6
	VSUBPS Y11, Y5, Y5
	VSUBPS Y11, Y6, Y6
	VMULPS Y10, Y5, Y5
	VMULPS Y10, Y6, Y6
	VADDPS Y1, Y5, Y5
	VADDPS Y4, Y6, Y6
	VCMPPS $1, Y9, Y5, Y5 // below the least
	VCMPPS $1, Y6, Y8, Y6 // the most is below
	VORPS Y6, Y5, Y5
	VMOVMSKPS Y5, AX
	MOVB AX, (R10)
	ADDQ $32, SI
	ADDQ $32, DI
	ADDQ $16, R8
	ADDQ $16, R9
	INCQ R10
	DECQ CX
	JNZ eight
	VZEROUPPER
	RET

// func droppedAVX2(of *group, steps, inverse *[64]float32, up float32, off, left *[8]float32)
TEXT ·droppedAVX2(SB), NOSPLIT, $0-48
	MOVQ of+0(FP), SI
	MOVQ steps+8(FP), R8
	MOVQ inverse+16(FP), R9
	VBROADCASTSS up+24(FP), Y15
	MOVQ off+32(FP), R10
	MOVQ left+40(FP), R11
	VPCMPEQD Y14, Y14, Y14
	VPSRLD $1, Y14, Y14 // all but the sign
	VXORPS Y0, Y0, Y0   // off
	VXORPS Y1, Y1, Y1   // left
	MOVQ $63, CX

frequency:
	ADDQ $32, SI
	ADDQ $4, R8
	ADDQ $4, R9
	VANDPS (SI), Y14, Y2
	VBROADCASTSS (R8), Y3
	VBROADCASTSS (R9), Y4
	VMULPS Y4, Y2, Y4
	VADDPS Y15, Y4, Y4
	VCVTTPS2DQ Y4, Y4
	VCVTDQ2PS Y4, Y4
	VMULPS Y3, Y4, Y4
	VMULPS Y4, Y4, Y5
	VADDPS Y5, Y1, Y1
	VSUBPS Y4, Y2, Y2
	VMULPS Y2, Y2, Y2
	VADDPS Y2, Y0, Y0
	DECQ CX
	JNZ frequency

	VMOVUPS Y0, (R10)
	VMOVUPS Y1, (R11)
	VZEROUPPER
	RET

// Y9 is the sum of eight rows, Y0 to Y7, each times one of eight numbers, in their order.
#define SUM(numbers) \
	VBROADCASTSS (numbers), Y8 \
	VMULPS Y0, Y8, Y9 \
	VBROADCASTSS 4(numbers), Y8 \
	VMULPS Y1, Y8, Y8 \
	VADDPS Y8, Y9, Y9 \
	VBROADCASTSS 8(numbers), Y8 \
	VMULPS Y2, Y8, Y8 \
	VADDPS Y8, Y9, Y9 \
	VBROADCASTSS 12(numbers), Y8 \
	VMULPS Y3, Y8, Y8 \
	VADDPS Y8, Y9, Y9 \
	VBROADCASTSS 16(numbers), Y8 \
	VMULPS Y4, Y8, Y8 \
	VADDPS Y8, Y9, Y9 \
	VBROADCASTSS 20(numbers), Y8 \
	VMULPS Y5, Y8, Y8 \
	VADDPS Y8, Y9, Y9 \
	VBROADCASTSS 24(numbers), Y8 \
	VMULPS Y6, Y8, Y8 \
	VADDPS Y8, Y9, Y9 \
	VBROADCASTSS 28(numbers), Y8 \
	VMULPS Y7, Y8, Y8 \
	VADDPS Y8, Y9, Y9

#define ROWS(at) \
	VMOVUPS (at), Y0 \
	VMOVUPS 32(at), Y1 \
	VMOVUPS 64(at), Y2 \
	VMOVUPS 96(at), Y3 \
	VMOVUPS 128(at), Y4 \
	VMOVUPS 160(at), Y5 \
	VMOVUPS 192(at), Y6 \
	VMOVUPS 224(at), Y7

// func transformedAVX2(block *[64]float32, basis, across *[8][8]float32, out *[64]float32)
TEXT ·transformedAVX2(SB), NOSPLIT, $256-32
	MOVQ block+0(FP), SI
	MOVQ basis+8(FP), R8
	MOVQ across+16(FP), R9
	MOVQ out+24(FP), DI
	LEAQ rows-256(SP), R10
	MOVQ R10, R11
	ROWS(R9)
	MOVQ $8, CX

across:
	SUM(SI)
	VMOVUPS Y9, (R11)
	ADDQ $32, SI
	ADDQ $32, R11
	DECQ CX
	JNZ across

	ROWS(R10)
	MOVQ $8, CX

down:
	SUM(R8)
	VMOVUPS Y9, (DI)
	ADDQ $32, R8
	ADDQ $32, DI
	DECQ CX
	JNZ down
	VZEROUPPER
	RET
