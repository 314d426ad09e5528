#include "textflag.h"

// func limitAVX2(from, to *uint8, n int, scale, offset, low uint16)
TEXT ·limitAVX2(SB), NOSPLIT, $0-30
	MOVQ from+0(FP), SI
	MOVQ to+8(FP), DI
	MOVQ n+16(FP), CX
	VPBROADCASTW scale+24(FP), Y15
	VPBROADCASTW offset+26(FP), Y14
	VPBROADCASTW low+28(FP), Y13
	VPCMPEQW Y12, Y12, Y12
	VPSRLW $15, Y12, Y12 // 1

sixteen:
	VPMOVZXBW (SI), Y0
	VPMULLW Y15, Y0, Y0
	VPADDW Y14, Y0, Y0
	VPSRLW $8, Y0, Y1 // n/255 is (n + n>>8 + 1) >> 8 of n below 65,535
	VPADDW Y1, Y0, Y0
	VPADDW Y12, Y0, Y0
	VPSRLW $8, Y0, Y0
	VPADDW Y13, Y0, Y0
	VPACKUSWB Y0, Y0, Y0
	VPERMQ $0xd8, Y0, Y0
	VMOVDQU X0, (DI)
	ADDQ $16, SI
	ADDQ $16, DI
	DECQ CX
	JNZ sixteen
	VZEROUPPER
	RET
