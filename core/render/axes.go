package render

import (
	"math"
	"sync"

	"echolane/core/codec"
	"echolane/core/geometry"
	"echolane/core/raster"
)

// axes are the plan's visible part as the stored, decoded picture sees it: across and down in its own samples,
// mirrored as its orientation, the mirroring and the turn say. Where transpose is set, they make a picture that
// still has to be transposed. The plan's turn is by right angles.
func axes(info codec.Info, p geometry.Plan, scale int) (x, y raster.Axis, transpose bool) {
	upright := func(low, high, natural float64, from, to int) raster.Axis {
		step := natural / (high - low)
		return raster.Axis{From: (float64(from) - low) * step, Step: step, Len: to - from}
	}
	tw, th := p.Turned()
	v := p.Visible()
	target, cut := p.Target(), p.Source()
	x = upright(target[0], target[2], tw, v.X0, v.X1)
	y = upright(target[1], target[3], th, v.Y0, v.Y1)
	mirror := func(a raster.Axis, n float64) raster.Axis {
		return raster.Axis{From: n - a.From, Step: -a.Step, Len: a.Len}
	}
	// Back through the turn: x and y become axes of the cut picture, w×h.
	w, h := cut[2]-cut[0], cut[3]-cut[1]
	switch turns, _ := p.Quarter(); turns {
	case 1:
		x, y, transpose = y, mirror(x, h), true
	case 2:
		x, y = mirror(x, w), mirror(y, h)
	case 3:
		x, y, transpose = mirror(y, w), x, true
	}
	if p.MirrorX {
		x = mirror(x, w)
	}
	if p.MirrorY {
		y = mirror(y, h)
	}
	x.From += cut[0]
	y.From += cut[1]
	o := info.Orientation
	if o >= 5 {
		x, y, transpose = y, x, !transpose
	}
	if o == 2 || o == 3 || o == 7 || o == 8 {
		x = mirror(x, float64(info.W))
	}
	if o == 3 || o == 4 || o == 6 || o == 7 {
		y = mirror(y, float64(info.H))
	}
	s := float64(scale) / 8
	x.From, x.Step = x.From*s, x.Step*s
	y.From, y.Step = y.From*s, y.Step*s
	return x, y, transpose
}

// storedCut is where the plan's cut lies in the stored picture.
func storedCut(info codec.Info, p geometry.Plan) geometry.Rect {
	c := p.Cut
	o := info.Orientation
	if o >= 5 {
		c = geometry.Rect{X0: c.Y0, Y0: c.X0, X1: c.Y1, Y1: c.X1}
	}
	if o == 2 || o == 3 || o == 7 || o == 8 {
		c.X0, c.X1 = info.W-c.X1, info.W-c.X0
	}
	if o == 3 || o == 4 || o == 6 || o == 7 {
		c.Y0, c.Y1 = info.H-c.Y1, info.H-c.Y0
	}
	return c
}

// within is the part of a plane of w×h samples that the cut covers, whose edges a kernel doesn't look across;
// kx and ky are samples to a stored pixel. The axes are moved along.
func within(c geometry.Rect, kx, ky float64, w, h int, x, y *raster.Axis) (x0, y0, x1, y1 int) {
	x0, y0 = min(int(float64(c.X0)*kx), w-1), min(int(float64(c.Y0)*ky), h-1)
	x1, y1 = min(w, max(x0+1, int(math.Ceil(float64(c.X1)*kx)))), min(h, max(y0+1, int(math.Ceil(float64(c.Y1)*ky))))
	x.From -= float64(x0)
	y.From -= float64(y0)
	return x0, y0, x1, y1
}

// resamplePixels makes the canvas with the picture on it: transparent where the picture doesn't reach.
func resamplePixels(src *raster.RGBA, info codec.Info, p geometry.Plan, scale int) *raster.RGBA {
	v := p.Visible()
	if v == (geometry.Rect{}) {
		return raster.NewRGBA(p.Canvas.W, p.Canvas.H)
	}
	var dst *raster.RGBA
	if _, right := p.Quarter(); right {
		x, y, transpose := axes(info, p, scale)
		s := float64(scale) / 8
		part := src.View(within(storedCut(info, p), s, s, src.W, src.H, &x, &y))
		dst = sample(part, x, y, p)
		if transpose {
			across := dst
			dst = across.Transpose()
			across.Free()
		}
	} else {
		dst = turnPixels(src, info, p, scale, v)
	}
	if dst.W == p.Canvas.W && dst.H == p.Canvas.H {
		return dst
	}
	canvas := raster.NewRGBA(p.Canvas.W, p.Canvas.H)
	canvas.Over(dst, v.X0, v.Y0)
	dst.Free()
	return canvas
}

func sample(src *raster.RGBA, x, y raster.Axis, p geometry.Plan) *raster.RGBA {
	if p.Nearest {
		return raster.NearestRGBA(src, x, y)
	}
	return raster.ResampleRGBA(src, x, y)
}

// turnPixels makes the visible part of a picture that is turned by any angle: first reduced to the size that it
// will have, upright, then turned at that size.
func turnPixels(src *raster.RGBA, info codec.Info, p geometry.Plan, scale int, v geometry.Rect) *raster.RGBA {
	w, h := float64(p.Cut.W()), float64(p.Cut.H())
	k := math.Min(1, math.Max(p.ScaleX(), p.ScaleY()))
	if p.Nearest { // of the source's own pixels
		k = 1
	}
	flat := p
	flat.Turn, flat.Frame = 0, geometry.Frame{}
	flat.Placed = geometry.Rect{X1: max(1, int(math.Round(w*k))), Y1: max(1, int(math.Round(h*k)))}
	flat.Canvas = geometry.Size{W: flat.Placed.X1, H: flat.Placed.Y1}
	flat = flat.Straight()
	x, y, transpose := axes(info, flat, scale)
	s := float64(scale) / 8
	part := src.View(within(storedCut(info, p), s, s, src.W, src.H, &x, &y))
	small := sample(part, x, y, p)
	defer small.Free()
	if transpose {
		small = small.Transpose()
		defer small.Free()
	}
	// From a canvas pixel to the turned picture, back through the turn around its middle, to small's pixels.
	tw, th := p.Turned()
	sin, cos := math.Sincos(p.Turn * math.Pi / 180)
	px, py := tw/float64(p.Placed.W()), th/float64(p.Placed.H()) // natural pixels to a canvas pixel
	mx, my := float64(small.W)/w, float64(small.H)/h
	ox, oy := float64(v.X0-p.Placed.X0)*px-tw/2, float64(v.Y0-p.Placed.Y0)*py-th/2
	t := raster.Turning{
		A: cos * px * mx, C: sin * py * mx, E: (cos*ox + sin*oy + w/2) * mx,
		B: -sin * px * my, D: cos * py * my, F: (-sin*ox + cos*oy + h/2) * my,
	}
	if p.Nearest {
		return raster.TransformNearest(small, v.W(), v.H(), t)
	}
	return raster.Transform(small, v.W(), v.H(), t)
}

// resamplePlanes makes 4:2:0 planes.
func resamplePlanes(src *raster.YCbCr, info codec.Info, p geometry.Plan, scale int) *raster.YCbCr {
	x, y, transpose := axes(info, p, scale)
	dst := &raster.YCbCr{W: x.Len, H: y.Len, ChromaX: 0.5, ChromaY: 0.5}
	cut, s := storedCut(info, p), float64(scale)/8
	resample := func(from raster.Plane, kx, ky float64, x, y raster.Axis) raster.Plane {
		part := from.View(within(cut, kx, ky, from.W, from.H, &x, &y))
		return raster.ResamplePlane(part, x, y, 1, 0)
	}
	halve := func(a raster.Axis, perPixel float64) raster.Axis {
		return raster.Axis{From: a.From * perPixel, Step: 2 * a.Step * perPixel, Len: (a.Len + 1) / 2}
	}
	cx, cy := halve(x, src.ChromaX), halve(y, src.ChromaY)
	var colour sync.WaitGroup
	colour.Go(func() {
		dst.Cb = resample(src.Cb, s*src.ChromaX, s*src.ChromaY, cx, cy)
		dst.Cr = resample(src.Cr, s*src.ChromaX, s*src.ChromaY, cx, cy)
	})
	dst.Y = resample(src.Y, s, s, x, y)
	colour.Wait()
	if transpose {
		across := dst
		dst = across.Transpose()
		across.Free()
	}
	return dst
}
