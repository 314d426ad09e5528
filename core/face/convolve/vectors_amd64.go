package convolve

import "golang.org/x/sys/cpu"

// hasVectors is settled once, at start, by what the processor says.
var hasVectors = cpu.X86.HasAVX2 && cpu.X86.HasFMA

// hasWide is the same of vectors of 16 numbers, hasWhole of products of whole numbers, two or four at once in each of these.
var (
	hasWide  = cpu.X86.HasAVX512F
	hasWhole = cpu.X86.HasAVX512VNNI
)

// productsFMA works out 16 outputs for each of six places that lie place bytes apart: the bias, and the products of rows
// runs of n inputs, apart bytes from each other, with k, which holds 16 weights for each input. Negative outputs are
// multiplied with leak. The outputs of two places lie outPlace bytes apart.
//
//go:noescape
func productsFMA(in *float32, place, rows, apart, n int, k, bias, out *float32, outPlace int, leak float32)

// products512 is productsFMA for twelve places: to the same bits.
//
//go:noescape
func products512(in *float32, place, rows, apart, n int, k, bias, out *float32, outPlace int, leak float32)

// productsBytes works out 16 outputs for each of twelve places that lie 3 bytes apart: scale times the products of n times four
// bytes, which lie where offsets say, with k, which holds 16 times four weights for each four bytes, and the bias. Negative outputs
// are multiplied with leak. The outputs of two places lie outPlace bytes apart.
//
//go:noescape
func productsBytes(in *byte, offsets *int, n int, k *int8, scale float32, bias, out *float32, outPlace int, leak float32)

// apartFMA convolves eight channels of n places by 3×3 weights, channel by channel; in is above and left of the first.
//
//go:noescape
func apartFMA(in *float32, row, place int, k *float32, out *float32, n int)

// apart512 is apartFMA for sixteen channels: to the same bits.
//
//go:noescape
func apart512(in *float32, row, place int, k *float32, out *float32, n int)

// apartWords is apart512 whose results are rounded to 16 bits, the largest that there are where they are larger.
//
//go:noescape
func apartWords(in *float32, row, place int, k *float32, out *int16, n int)

// productsWords works out 16 outputs for each of twelve places that lie place bytes apart: scale times the products of n pairs of
// inputs with k, which holds 16 pairs of weights for each, and the bias. Negative outputs are multiplied with leak. The outputs of
// two places lie outPlace bytes apart.
//
//go:noescape
func productsWords(in *int16, place, n int, k *int16, scale float32, bias, out *float32, outPlace int, leak float32)

// largestAVX2 gives for n places the largest of two by two, in channels of eights times eight. The next place's lie skip bytes
// after the end of the first of these.
//
//go:noescape
func largestAVX2(a, b *float32, eights, skip int, out *float32, n int)

// largest512 is largestAVX2 for channels of sixteens times sixteen.
//
//go:noescape
func largest512(a, b *float32, sixteens, skip int, out *float32, n int)
