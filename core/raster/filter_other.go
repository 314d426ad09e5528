//go:build !amd64

package raster

func applyMatrices(row []uint8, ms []Matrix) { applyMatricesPlain(row, ms) }
