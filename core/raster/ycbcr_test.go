package raster

import (
	"math"
	"testing"
)

func TestLimitedRangeIsRounded(t *testing.T) {
	for _, width := range []int{1, 15, 16, 50} {
		p := New420(width, 256, Full)
		for y := range 256 {
			for x := range width {
				p.Y.Row(y)[x] = uint8(y + x)
				p.Cb.Row(y / 2)[x/2], p.Cr.Row(y / 2)[x/2] = uint8(y+x), uint8(255-y)
			}
		}
		l := p.ToLimited()
		for i, planes := range [3][2]Plane{{p.Y, l.Y}, {p.Cb, l.Cb}, {p.Cr, l.Cr}} {
			for y := range planes[0].H {
				for x, v := range planes[0].Row(y)[:planes[0].W] {
					want := math.Round(128 + (float64(v)-128)*224/255)
					if i == 0 {
						want = math.Round(16 + float64(v)*219/255)
					}
					if got := planes[1].Row(y)[x]; float64(got) != want {
						t.Fatalf("plane %d: %d becomes %d, want %v", i, v, got, want)
					}
				}
			}
		}
	}
}
