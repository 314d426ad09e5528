//go:build !amd64

package inpaint

var hasVectors = false

func differencesAVX2(a, b *uint8, stride int) uint32 { return 0 }

func addPatchAVX2(sums, weights *float32, pix *uint8, stride, across int, weight float32) {}
