#include "textflag.h"

// The loop filter (RFC 6386, section 15), on sixteen samples along an edge: eight from a, and eight from b. Both point at the
// first sample of the eight across the edge. The limits are, in words, those of the edge, of differences beside it and of edges
// in the picture, then what the filter reckons with: 4, 3, 63, 27, 18, 9, 127, −128.

DATA pairs<>+0(SB)/8, $0x0b030a0209010800
DATA pairs<>+8(SB)/8, $0x0f070e060d050c04
GLOBL pairs<>(SB), RODATA|NOPTR, $16

#define LOADPAIR(a, b, y, x) \
	VMOVQ a, x \
	VMOVQ b, X8 \
	VINSERTI128 $1, X8, y, y

// The eight samples across the edge, of sixteen rows, as words in Y0 to Y7.
#define LOADACROSS \
	LOADPAIR((R8), (R9), Y0, X0) \
	LOADPAIR((R8)(R10*1), (R9)(R10*1), Y1, X1) \
	LOADPAIR((R8)(R10*2), (R9)(R10*2), Y2, X2) \
	LOADPAIR((R8)(R11*1), (R9)(R11*1), Y3, X3) \
	LOADPAIR((R12), (R13), Y4, X4) \
	LOADPAIR((R12)(R10*1), (R13)(R10*1), Y5, X5) \
	LOADPAIR((R12)(R10*2), (R13)(R10*2), Y6, X6) \
	LOADPAIR((R12)(R11*1), (R13)(R11*1), Y7, X7) \
	VPUNPCKLBW Y1, Y0, Y0 \
	VPUNPCKLBW Y3, Y2, Y2 \
	VPUNPCKLBW Y5, Y4, Y4 \
	VPUNPCKLBW Y7, Y6, Y6 \
	VPUNPCKLWD Y2, Y0, Y1 \
	VPUNPCKHWD Y2, Y0, Y3 \
	VPUNPCKLWD Y6, Y4, Y5 \
	VPUNPCKHWD Y6, Y4, Y7 \
	VPUNPCKLDQ Y5, Y1, Y8 \
	VPUNPCKHDQ Y5, Y1, Y9 \
	VPUNPCKLDQ Y7, Y3, Y10 \
	VPUNPCKHDQ Y7, Y3, Y11 \
	VPXOR Y12, Y12, Y12 \
	VPUNPCKLBW Y12, Y8, Y0 \
	VPUNPCKHBW Y12, Y8, Y1 \
	VPUNPCKLBW Y12, Y9, Y2 \
	VPUNPCKHBW Y12, Y9, Y3 \
	VPUNPCKLBW Y12, Y10, Y4 \
	VPUNPCKHBW Y12, Y10, Y5 \
	VPUNPCKLBW Y12, Y11, Y6 \
	VPUNPCKHBW Y12, Y11, Y7

// And back.
#define STOREACROSS \
	VPACKUSWB Y1, Y0, Y0 \
	VPACKUSWB Y3, Y2, Y2 \
	VPACKUSWB Y5, Y4, Y4 \
	VPACKUSWB Y7, Y6, Y6 \
	VBROADCASTI128 pairs<>(SB), Y13 \
	VPSHUFB Y13, Y0, Y0 \
	VPSHUFB Y13, Y2, Y2 \
	VPSHUFB Y13, Y4, Y4 \
	VPSHUFB Y13, Y6, Y6 \
	VPUNPCKLWD Y2, Y0, Y1 \
	VPUNPCKHWD Y2, Y0, Y3 \
	VPUNPCKLWD Y6, Y4, Y5 \
	VPUNPCKHWD Y6, Y4, Y7 \
	VPUNPCKLDQ Y5, Y1, Y8 \
	VPUNPCKHDQ Y5, Y1, Y9 \
	VPUNPCKLDQ Y7, Y3, Y10 \
	VPUNPCKHDQ Y7, Y3, Y11 \
	EIGHTROWS(R8, R12) \
	VEXTRACTI128 $1, Y8, X8 \
	VEXTRACTI128 $1, Y9, X9 \
	VEXTRACTI128 $1, Y10, X10 \
	VEXTRACTI128 $1, Y11, X11 \
	EIGHTROWS(R9, R13)

#define EIGHTROWS(a, four) \
	VMOVQ X8, (a) \
	VPEXTRQ $1, X8, (a)(R10*1) \
	VMOVQ X9, (a)(R10*2) \
	VPEXTRQ $1, X9, (a)(R11*1) \
	VMOVQ X10, (four) \
	VPEXTRQ $1, X10, (four)(R10*1) \
	VMOVQ X11, (four)(R10*2) \
	VPEXTRQ $1, X11, (four)(R11*1)

#define LOADROW(a, b, y, x) \
	VMOVQ a, x \
	VMOVQ b, X8 \
	VPUNPCKLQDQ X8, x, x \
	VPMOVZXBW x, y

// The samples of eight rows, of which the edge lies between the fourth and the fifth.
#define LOADALONG \
	LOADROW((R8), (R9), Y0, X0) \
	LOADROW((R8)(R10*1), (R9)(R10*1), Y1, X1) \
	LOADROW((R8)(R10*2), (R9)(R10*2), Y2, X2) \
	LOADROW((R8)(R11*1), (R9)(R11*1), Y3, X3) \
	LOADROW((R12), (R13), Y4, X4) \
	LOADROW((R12)(R10*1), (R13)(R10*1), Y5, X5) \
	LOADROW((R12)(R10*2), (R13)(R10*2), Y6, X6) \
	LOADROW((R12)(R11*1), (R13)(R11*1), Y7, X7)

#define STOREROWS(one, two, x, a, b, c, d) \
	VPACKUSWB two, one, one \
	VMOVQ x, a \
	VPEXTRQ $1, x, b \
	VEXTRACTI128 $1, one, x \
	VMOVQ x, c \
	VPEXTRQ $1, x, d

#define STORESIX \
	STOREROWS(Y1, Y2, X1, (R8)(R10*1), (R8)(R10*2), (R9)(R10*1), (R9)(R10*2)) \
	STOREROWS(Y3, Y4, X3, (R8)(R11*1), (R12), (R9)(R11*1), (R13)) \
	STOREROWS(Y5, Y6, X5, (R12)(R10*1), (R12)(R10*2), (R13)(R10*1), (R13)(R10*2))

#define STOREFOUR \
	STOREROWS(Y2, Y3, X2, (R8)(R10*2), (R8)(R11*1), (R9)(R10*2), (R9)(R11*1)) \
	STOREROWS(Y4, Y5, X4, (R12), (R12)(R10*1), (R13), (R13)(R10*1))

#define ARGUMENTS \
	MOVQ a+0(FP), R8 \
	MOVQ b+8(FP), R9 \
	MOVQ stride+16(FP), R10 \
	MOVQ limits+24(FP), AX \
	LEAQ (R10)(R10*2), R11 \
	LEAQ (R8)(R10*4), R12 \
	LEAQ (R9)(R10*4), R13

#define ABS(a, b, to) \
	VPSUBW b, a, to \
	VPABSW to, to

#define SIGNED(v) \
	VPMINSW Y15, v, v \
	VPMAXSW Y14, v, v

// What isn't filtered is marked in Y8, where there is an edge in the picture in Y9; Y10 is the outer difference, clamped, Y11
// three times the inner one. It jumps to done where nothing is filtered.
#define MARK(done) \
	VPBROADCASTW 18(AX), Y15 \
	VPBROADCASTW 20(AX), Y14 \
	ABS(Y3, Y4, Y8) \
	VPADDW Y8, Y8, Y8 \
	VPSUBW Y5, Y2, Y10 \
	VPABSW Y10, Y11 \
	VPSRLW $1, Y11, Y11 \
	VPADDW Y11, Y8, Y8 \
	VPBROADCASTW (AX), Y11 \
	VPCMPGTW Y11, Y8, Y8 \
	ABS(Y2, Y3, Y9) \
	ABS(Y5, Y4, Y11) \
	VPMAXSW Y11, Y9, Y9 \
	ABS(Y0, Y1, Y11) \
	ABS(Y1, Y2, Y12) \
	VPMAXSW Y12, Y11, Y11 \
	ABS(Y6, Y5, Y12) \
	VPMAXSW Y12, Y11, Y11 \
	ABS(Y7, Y6, Y12) \
	VPMAXSW Y12, Y11, Y11 \
	VPMAXSW Y9, Y11, Y11 \
	VPBROADCASTW 2(AX), Y12 \
	VPCMPGTW Y12, Y11, Y11 \
	VPOR Y11, Y8, Y8 \
	VPMOVMSKB Y8, DX \
	CMPL DX, $-1 \
	JEQ done \
	VPBROADCASTW 4(AX), Y12 \
	VPCMPGTW Y12, Y9, Y9 \
	SIGNED(Y10) \
	VPSUBW Y3, Y4, Y11 \
	VPADDW Y11, Y11, Y12 \
	VPADDW Y12, Y11, Y11

// The eighths of Y11 that the samples beside the edge change by: Y13 what is before it, Y12 what is after it.
#define EIGHTHS \
	VPBROADCASTW 6(AX), Y12 \
	VPADDW Y12, Y11, Y12 \
	SIGNED(Y12) \
	VPSRAW $3, Y12, Y12 \
	VPBROADCASTW 8(AX), Y13 \
	VPADDW Y13, Y11, Y13 \
	SIGNED(Y13) \
	VPSRAW $3, Y13, Y13

// Y10 is so many 128ths of Y11, rounded.
#define PART(many) \
	VPBROADCASTW many(AX), Y10 \
	VPMULLW Y11, Y10, Y10 \
	VPADDW Y15, Y10, Y10 \
	VPSRAW $7, Y10, Y10

#define OUTER \
	VPADDW Y10, Y11, Y11 \
	SIGNED(Y11) \
	EIGHTHS \
	VPBROADCASTW 10(AX), Y15 \
	PART(12) \
	VPBLENDVB Y9, Y13, Y10, Y13 \
	VPBLENDVB Y9, Y12, Y10, Y12 \
	VPANDN Y13, Y8, Y13 \
	VPANDN Y12, Y8, Y12 \
	VPADDW Y13, Y3, Y3 \
	VPSUBW Y12, Y4, Y4 \
	VPOR Y9, Y8, Y8 \
	PART(14) \
	VPANDN Y10, Y8, Y10 \
	VPADDW Y10, Y2, Y2 \
	VPSUBW Y10, Y5, Y5 \
	PART(16) \
	VPANDN Y10, Y8, Y10 \
	VPADDW Y10, Y1, Y1 \
	VPSUBW Y10, Y6, Y6

#define INNER \
	VPAND Y9, Y10, Y10 \
	VPADDW Y10, Y11, Y11 \
	SIGNED(Y11) \
	EIGHTHS \
	VPANDN Y13, Y8, Y13 \
	VPANDN Y12, Y8, Y12 \
	VPADDW Y13, Y3, Y3 \
	VPSUBW Y12, Y4, Y4 \
	VPCMPEQW Y10, Y10, Y10 \
	VPSUBW Y10, Y12, Y12 \
	VPSRAW $1, Y12, Y12 \
	VPANDN Y12, Y9, Y12 \
	VPADDW Y12, Y2, Y2 \
	VPSUBW Y12, Y5, Y5

// func outerAcrossAVX2(a, b *uint8, stride int, limits *[11]int16)
TEXT ·outerAcrossAVX2(SB), NOSPLIT, $0-32
	ARGUMENTS
	LOADACROSS
	MARK(done)
	OUTER
	STOREACROSS

done:
	VZEROUPPER
	RET

// func innerAcrossAVX2(a, b *uint8, stride int, limits *[11]int16)
TEXT ·innerAcrossAVX2(SB), NOSPLIT, $0-32
	ARGUMENTS
	LOADACROSS
	MARK(done)
	INNER
	STOREACROSS

done:
	VZEROUPPER
	RET

// func outerAlongAVX2(a, b *uint8, stride int, limits *[11]int16)
TEXT ·outerAlongAVX2(SB), NOSPLIT, $0-32
	ARGUMENTS
	LOADALONG
	MARK(done)
	OUTER
	STORESIX

done:
	VZEROUPPER
	RET

// func innerAlongAVX2(a, b *uint8, stride int, limits *[11]int16)
TEXT ·innerAlongAVX2(SB), NOSPLIT, $0-32
	ARGUMENTS
	LOADALONG
	MARK(done)
	INNER
	STOREFOUR

done:
	VZEROUPPER
	RET
