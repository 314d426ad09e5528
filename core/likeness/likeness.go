// Package likeness says how alike two pictures look, and finds the encoder's setting that makes a variant look as
// alike as was asked.
//
// It is a sum of five terms, each the mean over small windows, on lightness as the eye has it (CIE 15, L*) and on two
// differences of colour:
//
//   - the error at full size over the original's own contrast there, which hides it (Teo and Heeger 1994): where there is no texture
//     nothing hides, neither rings beside an edge nor a sky in steps;
//   - what structure is lost at half the size and at an eighth of it: means, contrasts and their agreement (Wang, Bovik,
//     Sheikh and Simoncelli 2004; at several sizes, Wang, Simoncelli and Bovik 2003);
//   - the error at half the size and that of colour, each by its 2-norm over the windows, so that one bad place counts more than
//     the same spread thin.
//
// Transparent pictures are compared on black and on white, and the worse counts.
//
// The terms were chosen out of 152 (eight planes, nineteen terms), and their weights fitted, so that the median of four other measures agrees on
// what is as good as libjpeg-turbo at a quality: see docs/likeness.md and `make quality-report`.
//
// Its unit is a distance: 0 for equal, towards 1 for nothing in common. Likeness puts distances on a scale of 0 to 100 on
// which libjpeg-turbo's qualities are the marks: 72 is as far as a photograph is from itself at quality 72, 4:2:0.
package likeness

import (
	"math"
	"math/bits"
	"slices"
	"sync"

	"echolane/core/raster"
)

const (
	block = 3 // sums are kept of blocks of 3×3; windows are two by two of them

	// The stabilising constants of the structural similarity, of lightness 0–100.
	c1, c2 = 1.0, 9.0

	// The variance that is added to a window's own, which hides errors.
	hides = 9.0
)

// The terms' weights, fitted to the halves of the corpus that may be fitted on.
const (
	weightOfError     = 0.26   // masked, at full size
	weightOfHalf      = 1.4    // structure at half the size
	weightOfEighth    = 1.75   // and at an eighth
	weightOfHalfError = 3.1e-3 // the error at half the size
	weightOfColour    = 4.3e-4 // and of colour
)

// plane is one component as the measure sees it.
type plane struct {
	w, h int
	v    []float32
}

// view is a picture as the measure sees it: lightness at four sizes, each half of the one before, differences of colour at half
// the size.
type view struct {
	light [4]plane
	blue  plane
	red   plane
}

// lightness and limitedLightness are L* of a grey by its luma Y' (sRGB), in full and in limited range.
var lightness, limitedLightness = func() (full, limited [256]float32) {
	of := func(luma float64) float32 {
		v := math.Min(1, math.Max(0, luma))
		y := v / 12.92
		if v > 0.04045 {
			y = math.Pow((v+0.055)/1.055, 2.4)
		}
		f := y*903.3/116 + 16.0/116
		if y > 216.0/24389 {
			f = math.Cbrt(y)
		}
		return float32(116*f - 16)
	}
	for i := range full {
		full[i], limited[i] = of(float64(i)/255), of((float64(i)-16)/219)
	}
	return full, limited
}()

// lightnessIn is L* by what a plane of luma holds.
func lightnessIn(r raster.Range) *[256]float32 {
	if r == raster.Limited {
		return &limitedLightness
	}
	return &lightness
}

// A Picture is what can be compared: one picture, looked at once.
type Picture struct {
	w, h    int
	grounds []view // one, or on black and on white
}

// OfPlanes looks at an opaque picture in planes, which is an original: each sample of colour is the mean of its pixels'.
func OfPlanes(p *raster.YCbCr) *Picture { return ofPlanes(p, false) }

// OfShown looks at an opaque picture in planes that were read from a file: what shows it puts colour between its samples.
func OfShown(p *raster.YCbCr) *Picture { return ofPlanes(p, true) }

func ofPlanes(p *raster.YCbCr, shown bool) *Picture {
	light := lightnessIn(p.Range)
	var chroma [256]float32
	for i := range chroma {
		colour := float64(i) - 128
		if p.Range == raster.Limited {
			colour = colour * 255 / 224
		}
		chroma[i] = float32(colour)
	}
	var v view
	cw, ch := (p.W+1)/2, (p.H+1)/2
	halved := func(c raster.Plane) plane {
		if p.ChromaX == 0.5 && p.ChromaY == 0.5 {
			return looked(c, cw, ch, &chroma)
		}
		out := plane{cw, ch, borrowed(cw * ch)}
		for y := range ch {
			for x := range cw {
				sx, sy := min(c.W-1, int(2*float64(x)*p.ChromaX)), min(c.H-1, int(2*float64(y)*p.ChromaY))
				out.v[y*cw+x] = chroma[c.Pix[sy*c.Stride+sx]]
			}
		}
		return out
	}
	large := p.W*p.H >= raster.LargeArea
	both(large, func() { v.blue, v.red = halved(p.Cb), halved(p.Cr) }, func() { v.light[0] = looked(p.Y, p.W, p.H, light) })
	both(large, func() { v.clip(light, p, 0, ch/2) }, func() { v.clip(light, p, ch/2, ch) })
	if shown && p.ChromaX == 0.5 && p.ChromaY == 0.5 {
		both(large, v.blue.spread, v.red.spread)
	}
	return finished(p.W, p.H, v)
}

// both does two things: at the same time where that is worth it.
func both(worth bool, a, b func()) {
	if !worth {
		a()
		b()
		return
	}
	var beside sync.WaitGroup
	beside.Go(a)
	b()
	beside.Wait()
}

// spread makes each sample of colour the mean of the four pixels that show it, where colour is enlarged by a triangle:
// 1:6:1 of the samples beside it, across and down.
func (p plane) spread() {
	above, row := borrowed(p.w), borrowed(p.w)
	defer returned(above)
	defer returned(row)
	copy(above, p.v[:p.w])
	for y := range p.h {
		at, below := p.v[y*p.w:][:p.w], p.v[min(y+1, p.h-1)*p.w:][:p.w]
		smoothed(above, at, below, row)
		copy(above, at)
		last := p.w - 1
		at[0], at[last] = (7*row[0]+row[min(1, last)])/8, (row[max(0, last-1)]+7*row[last])/8
		if last > 1 {
			smoothed(row[:last-1], row[1:last], row[2:], at[1:last])
		}
	}
}

func smoothedPlain(a, b, c, to []float32) {
	for x := range to {
		to[x] = (a[x] + 6*b[x] + c[x]) / 8
	}
}

// apart is how far red, green and blue are from luma (ITU-R BT.601, section 2.5).
func apart(blue, red float32) (r, g, b float32) {
	return 1.402 * red, -0.344136*blue - 0.714136*red, 1.772 * blue
}

// clip makes lightness what is shown of luma where the colour there is beyond what red, green and blue can be, from one
// row of colour up to another.
func (v *view) clip(light *[256]float32, p *raster.YCbCr, from, to int) {
	low, scale := float32(0), float32(1)
	if p.Range == raster.Limited {
		low, scale = 16, 255.0/219
	}
	const usual = 12 // how far colour may be from where it's looked up
	marks := make([]uint8, v.blue.w/8)
	for y := from; y < to; y++ {
		blue, red := v.blue.v[y*v.blue.w:][:v.blue.w], v.red.v[y*v.blue.w:][:v.blue.w]
		first, second := p.Y.Row(2 * y)[:p.W], p.Y.Row(min(2*y+1, p.H-1))[:p.W]
		check := func(x int) {
			r, g, b := apart(blue[x], red[x])
			least, most := low+(usual-min(r, g, b))/scale, low+(255-usual-max(r, g, b))/scale
			at, next := 2*x, min(2*x+1, p.W-1)
			least -= float32(min(first[at], first[next], second[at], second[next]))
			most -= float32(max(first[at], first[next], second[at], second[next]))
			if least > 0 || most < 0 {
				v.clipFour(light, p, x, y, low, scale)
			}
		}
		done := markClips(blue, red, first, second, low, scale, usual, marks)
		for i, m := range marks[:done/8] {
			for ; m != 0; m &= m - 1 {
				check(8*i + bits.TrailingZeros8(m))
			}
		}
		for x := done; x < len(blue); x++ {
			check(x)
		}
	}
}

// clipFour does so for the samples of luma that one of colour belongs to; colour is between it and those beside it.
func (v *view) clipFour(light *[256]float32, p *raster.YCbCr, x, y int, low, scale float32) {
	w, h := v.blue.w, v.blue.h
	for row := 2 * y; row < min(2*y+2, p.H); row++ {
		beside := min(h-1, max(0, y-1+2*(row&1))) * w
		for at := 2 * x; at < min(2*x+2, p.W); at++ {
			next := min(w-1, max(0, x-1+2*(at&1)))
			between := func(c []float32) float32 {
				return (9*c[y*w+x] + 3*c[y*w+next] + 3*c[beside+x] + c[beside+next]) / 16
			}
			luma := (float32(p.Y.Pix[row*p.Y.Stride+at]) - low) * scale
			r, g, b := apart(between(v.blue.v), between(v.red.v))
			if luma+min(r, g, b) >= 0 && luma+max(r, g, b) <= 255 {
				continue
			}
			in := func(v float32) float32 { return max(0, min(255, luma+v)) }
			v.light[0].v[row*p.W+at] = light[uint8(low+(0.299*in(r)+0.587*in(g)+0.114*in(b))/scale+0.5)]
		}
	}
}

func looked(p raster.Plane, w, h int, table *[256]float32) plane {
	out := plane{w, h, borrowed(w * h)}
	for y := range h {
		from, to := p.Pix[y*p.Stride:][:w], out.v[y*w:][:w]
		for len(from) >= 8 { // without a check of bounds for each
			f, t := (*[8]uint8)(from), (*[8]float32)(to)
			t[0], t[1], t[2], t[3] = table[f[0]], table[f[1]], table[f[2]], table[f[3]]
			t[4], t[5], t[6], t[7] = table[f[4]], table[f[5]], table[f[6]], table[f[7]]
			from, to = from[8:], to[8:]
		}
		for x, s := range from {
			to[x] = table[s]
		}
	}
	return out
}

// OfPixels looks at a picture that is premultiplied, or opaque.
func OfPixels(p *raster.RGBA) *Picture {
	if p.Opaque {
		return finished(p.W, p.H, onGround(p, 0))
	}
	return finished(p.W, p.H, onGround(p, 0), onGround(p, 255))
}

// onGround is premultiplied p on a grey.
func onGround(p *raster.RGBA, ground int) view {
	cw, ch := (p.W+1)/2, (p.H+1)/2
	v := view{blue: plane{cw, ch, borrowed(cw * ch)}, red: plane{cw, ch, borrowed(cw * ch)}}
	clear(v.blue.v)
	clear(v.red.v)
	light := plane{p.W, p.H, borrowed(p.W * p.H)}
	share := make([]float32, cw)
	for y := range p.H {
		row, to := p.Row(y), light.v[y*p.W:][:p.W]
		blue, red := v.blue.v[y/2*cw:][:cw], v.red.v[y/2*cw:][:cw]
		for x := range to {
			q := row[4*x : 4*x+4 : 4*x+4]
			under := ground * (255 - int(q[3])) / 255
			r, g, b := int(q[0])+under, int(q[1])+under, int(q[2])+under
			luma := (19595*r + 38470*g + 7471*b + 32768) >> 16
			to[x] = lightness[min(255, luma)]
			blue[x/2] += float32(b-luma) * 0.564
			red[x/2] += float32(r-luma) * 0.713
			share[x/2]++
		}
		if y%2 == 1 || y == p.H-1 {
			for x, n := range share {
				blue[x] /= n
				red[x] /= n
			}
			clear(share)
		}
	}
	v.light[0] = light
	return v
}

func finished(w, h int, views ...view) *Picture {
	for i := range views {
		for s := 1; s < len(views[i].light); s++ {
			views[i].light[s] = views[i].light[s-1].halved()
		}
	}
	return &Picture{w, h, views}
}

func (p plane) halved() plane {
	w, h := max(1, p.w/2), max(1, p.h/2)
	if p.w < 2 || p.h < 2 {
		return plane{p.w, p.h, append(borrowed(len(p.v))[:0], p.v...)}
	}
	out := plane{w, h, borrowed(w * h)}
	for y := range h {
		a, b := p.v[2*y*p.w:][:2*w], p.v[(2*y+1)*p.w:][:2*w]
		halvedRow(a, b, out.v[y*w:][:w])
	}
	return out
}

func halvedRowPlain(a, b, to []float32) {
	for x := range to {
		to[x] = (a[2*x] + a[2*x+1] + b[2*x] + b[2*x+1]) / 4
	}
}

// Distance is how far q looks from p, which is the original and of the same size: 0 for equal, towards 1 for
// nothing in common.
func (p *Picture) Distance(q *Picture) float64 {
	worst := 0.0
	for i := range p.grounds {
		j := min(i, len(q.grounds)-1)
		worst = math.Max(worst, between(&p.grounds[i], &q.grounds[j]))
	}
	if len(q.grounds) > len(p.grounds) { // q shows what is under it, p doesn't
		worst = math.Max(worst, between(&p.grounds[0], &q.grounds[1]))
	}
	return worst
}

// same reports whether two pictures look the same to the measure, to the last bit.
func (v *view) same(w *view) bool {
	for i := range v.light {
		if !slices.Equal(v.light[i].v, w.light[i].v) {
			return false
		}
	}
	return slices.Equal(v.blue.v, w.blue.v) && slices.Equal(v.red.v, w.red.v)
}

func between(a, b *view) float64 {
	if a.same(b) { // which the sums below miss by what they round
		return 0
	}
	var blue, red, half, eighth, whole seen
	both(len(a.light[0].v) >= raster.LargeArea, func() {
		blue, red = look(a.blue, b.blue, wanted{err: true}), look(a.red, b.red, wanted{err: true})
		half, eighth = look(a.light[1], b.light[1], wanted{structure: true, err: true}), look(a.light[3], b.light[3], wanted{structure: true})
	}, func() { whole = look(a.light[0], b.light[0], wanted{masked: true}) })
	d := weightOfError*whole.masked + weightOfHalf*half.structure + weightOfEighth*eighth.structure + weightOfHalfError*half.err + weightOfColour*(blue.err+red.err)/2
	return d / (1 + d)
}

// Map says where two pictures of one size differ: w×h values, one for every Step samples, row by row, each the
// distance there.
func (p *Picture) Map(q *Picture) (w, h int, far []float32) {
	g := distances(p.grounds[0].light[0], q.grounds[0].light[0])
	for i, v := range g.masked {
		v *= weightOfError
		g.masked[i] = v / (1 + v)
	}
	return g.w, g.h, g.masked
}

// Step is how many samples lie between the middles of Map's windows.
const Step = block

// Size is the picture's size in pixels.
func (p *Picture) Size() (w, h int) { return p.w, p.h }
