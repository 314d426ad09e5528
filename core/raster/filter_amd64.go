package raster

// matricesAVX2 runs n times eight pixels through count matrices.
//
//go:noescape
func matricesAVX2(pix *uint8, n int, ms *Matrix, count int)

func applyMatrices(row []uint8, ms []Matrix) {
	n := len(row) / 32
	if !hasVectors || n == 0 {
		applyMatricesPlain(row, ms)
		return
	}
	matricesAVX2(&row[0], n, &ms[0], len(ms))
	applyMatricesPlain(row[32*n:], ms)
}
