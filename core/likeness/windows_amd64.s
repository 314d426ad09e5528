#include "textflag.h"

// func columnsAVX2(a, b *float32, stride int, rows int, out *float32, apart int, n int)
TEXT ·columnsAVX2(SB), NOSPLIT, $0-56
	MOVQ a+0(FP), R8
	MOVQ b+8(FP), R9
	MOVQ stride+16(FP), R10
	MOVQ out+32(FP), R11
	MOVQ apart+40(FP), R12
	MOVQ n+48(FP), R13
	LEAQ (R12)(R12*2), BX

eight:
	MOVQ R8, SI
	MOVQ R9, DI
	MOVQ rows+24(FP), CX
	VXORPS Y0, Y0, Y0
	VXORPS Y1, Y1, Y1
	VXORPS Y2, Y2, Y2
	VXORPS Y3, Y3, Y3
	VXORPS Y4, Y4, Y4

row:
	VMOVUPS (SI), Y5
	VMOVUPS (DI), Y6
	VADDPS Y5, Y0, Y0
	VADDPS Y6, Y1, Y1
	VMULPS Y5, Y5, Y7
	VADDPS Y7, Y2, Y2
	VMULPS Y6, Y6, Y8
	VADDPS Y8, Y3, Y3
	VMULPS Y5, Y6, Y9
	VADDPS Y9, Y4, Y4
	ADDQ R10, SI
	ADDQ R10, DI
	DECQ CX
	JNZ row

	VMOVUPS Y0, (R11)
	VMOVUPS Y1, (R11)(R12*1)
	VMOVUPS Y2, (R11)(R12*2)
	VMOVUPS Y3, (R11)(BX*1)
	VMOVUPS Y4, (R11)(R12*4)
	ADDQ $32, R8
	ADDQ $32, R9
	ADDQ $32, R11
	DECQ R13
	JNZ eight
	VZEROUPPER
	RET

// The mean of four blocks: of up and row, here and one further.
#define MEAN(out) \
	VMOVUPS (SI), out \
	VADDPS (DI), out, out \
	VADDPS 4(SI), out, out \
	VADDPS 4(DI), out, out \
	VMULPS Y15, out, out \
	ADDQ R10, SI \
	ADDQ R10, DI

// func windowsAVX2(up, row *float32, apart int, lost, err, masked *float32, constants *[5]float32, n int)
TEXT ·windowsAVX2(SB), NOSPLIT, $0-64
	MOVQ up+0(FP), R8
	MOVQ row+8(FP), R9
	MOVQ apart+16(FP), R10
	MOVQ lost+24(FP), R11
	MOVQ err+32(FP), R12
	MOVQ masked+40(FP), BX
	MOVQ constants+48(FP), AX
	MOVQ n+56(FP), R13
	VBROADCASTSS (AX), Y15   // one over a window's samples
	VBROADCASTSS 4(AX), Y14  // c1
	VBROADCASTSS 8(AX), Y13  // c2
	VBROADCASTSS 12(AX), Y12 // hides
	VBROADCASTSS 16(AX), Y11 // 1
	VXORPS Y10, Y10, Y10

eight:
	MOVQ R8, SI
	MOVQ R9, DI
	MEAN(Y0) // a
	MEAN(Y1) // b
	MEAN(Y2) // aa
	MEAN(Y3) // bb
	MEAN(Y4) // ab
	VMULPS Y0, Y0, Y5
	VSUBPS Y5, Y2, Y2
	VMAXPS Y10, Y2, Y2 // the variance of a
	VMULPS Y1, Y1, Y6
	VSUBPS Y6, Y3, Y3
	VMAXPS Y10, Y3, Y3 // of b
	VMULPS Y0, Y1, Y7
	VSUBPS Y7, Y4, Y4  // the covariance
	VADDPS Y7, Y7, Y7
	VADDPS Y14, Y7, Y7
	VADDPS Y4, Y4, Y4  // twice
	VADDPS Y3, Y2, Y9
	VSUBPS Y4, Y9, Y9
	VMAXPS Y10, Y9, Y9 // the variance of the error
	VADDPS Y13, Y4, Y4
	VMULPS Y4, Y7, Y7
	VADDPS Y6, Y5, Y5
	VADDPS Y14, Y5, Y5
	VADDPS Y3, Y2, Y8
	VADDPS Y13, Y8, Y8
	VMULPS Y8, Y5, Y5
	VDIVPS Y5, Y7, Y7
	VSUBPS Y7, Y11, Y7
	VMOVUPS Y7, (R11)
	VSUBPS Y1, Y0, Y0
	VMULPS Y0, Y0, Y0  // the shift's square
	VADDPS Y0, Y9, Y9
	VMOVUPS Y9, (R12)
	VADDPS Y12, Y2, Y2
	VDIVPS Y2, Y9, Y9
	VMOVUPS Y9, (BX)
	ADDQ $32, R8
	ADDQ $32, R9
	ADDQ $32, R11
	ADDQ $32, R12
	ADDQ $32, BX
	DECQ R13
	JNZ eight
	VZEROUPPER
	RET
