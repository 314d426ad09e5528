//go:build !amd64

package convolve

var hasVectors, hasWide, hasWhole = false, false, false

func productsFMA(in *float32, place, rows, apart, n int, k, bias, out *float32, outPlace int, leak float32) {
}

func products512(in *float32, place, rows, apart, n int, k, bias, out *float32, outPlace int, leak float32) {
}

func productsBytes(in *byte, offsets *int, n int, k *int8, scale float32, bias, out *float32, outPlace int, leak float32) {
}

func apartFMA(in *float32, row, place int, k *float32, out *float32, n int) {}

func apart512(in *float32, row, place int, k *float32, out *float32, n int) {}

func apartWords(in *float32, row, place int, k *float32, out *int16, n int) {}

func productsWords(in *int16, place, n int, k *int16, scale float32, bias, out *float32, outPlace int, leak float32) {
}

func largestAVX2(a, b *float32, eights, skip int, out *float32, n int) {}

func largest512(a, b *float32, sixteens, skip int, out *float32, n int) {}
