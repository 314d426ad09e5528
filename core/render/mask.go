package render

import (
	"echolane/core/declare"
	"echolane/core/raster"
)

// maskOf is how much shows of each pixel of a canvas by a gradient. Colours mix premultiplied: what counts of them is how opaque they
// are, or their luminance by that (CSS Masking Level 1, section 7.10).
func maskOf(g declare.Gradient, mode declare.MaskMode, w, h int, k float64) raster.Plane {
	s := shadesOf(g, float64(w), float64(h), k)
	var table [len(s.colours)]uint8
	for i, c := range s.colours {
		v := c[3]
		if mode == declare.LuminanceMask {
			v = 0.2125*c[0] + 0.7154*c[1] + 0.0721*c[2]
		}
		table[i] = uint8(255*v + 0.5)
	}
	out := raster.PooledPlane(w, h, raster.Stride(w))
	for y := range h {
		row := out.Row(y)
		for x := range row {
			row[x] = table[s.index(float64(x)+0.5, float64(y)+0.5)]
		}
	}
	return out
}

// maskBy is how much shows of each pixel by a picture, premultiplied.
func maskBy(p *raster.RGBA, mode declare.MaskMode) raster.Plane {
	out := raster.PooledPlane(p.W, p.H, raster.Stride(p.W))
	for y := range p.H {
		from, to := p.Row(y), out.Row(y)
		for x := range to {
			q := from[4*x:][:4]
			if to[x] = q[3]; mode == declare.LuminanceMask {
				to[x] = uint8((2125*uint32(q[0]) + 7154*uint32(q[1]) + 721*uint32(q[2]) + 5000) / 10000)
			}
		}
	}
	return out
}
