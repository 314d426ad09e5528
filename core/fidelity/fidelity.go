// Package fidelity says how alike two pictures look, and finds the encoder's setting that makes a variant look as
// alike as was asked.
//
// The measure compares structure: means, contrasts and their agreement in small windows (Wang, Bovik, Sheikh and
// Simoncelli 2004), at three sizes (Wang, Simoncelli and Bovik 2003), on lightness as the eye has it (CIE 15, L*)
// and, more coarsely, on the two differences of colour. Against its constants any error in a window without texture
// is large: what an encoder adds there, rings beside an edge, can't hide; and a shift of such a window's mean counts by itself,
// for a sky in steps has the right structure nearly everywhere. Transparent pictures are
// compared on black and on white, and the worse counts.
//
// The windows' size and the weights were chosen so that other structural measures, with their own windows, agree on
// what is equally close: see `make quality-report`.
//
// Its unit is a distance: 0 for equal, 1 for nothing in common. Likeness puts distances on a scale of 0 to 100 on
// which libjpeg-turbo's qualities are the marks: 72 is as far as a photograph is from itself at quality 72, 4:2:0.
package fidelity

import (
	"math"

	"echolane/core/raster"
)

const (
	block = 3 // sums are kept of blocks of 3×3; windows are two by two of them

	// The stabilising constants of the structural similarity, of lightness 0–100 and of colour differences.
	c1, c2           = 1.0, 9.0
	chroma1, chroma2 = 6.5, 58.5
	weightOfColour   = 0.03 // of each of the two differences of colour

	// Of a shift of a plain window's mean: how much it adds at most, and the square of what adds half of that.
	steps, visibleStep = 0.1, 16
)

// scales weigh the three sizes.
var scales = [3]float64{0.95, 0.03, 0.02}

// plane is one component as the measure sees it.
type plane struct {
	w, h int
	v    []float32
}

// view is a picture as the measure sees it: lightness at three sizes, differences of colour at half the size.
type view struct {
	light [3]plane
	blue  plane
	red   plane
}

// lightness is L* of a grey of luma Y' (sRGB), by full-range value.
var lightness = func() (t [256]float32) {
	for i := range t {
		v := float64(i) / 255
		y := v / 12.92
		if v > 0.04045 {
			y = math.Pow((v+0.055)/1.055, 2.4)
		}
		f := y*903.3/116 + 16.0/116
		if y > 216.0/24389 {
			f = math.Cbrt(y)
		}
		t[i] = float32(116*f - 16)
	}
	return t
}()

// A Picture is what can be compared: one picture, looked at once.
type Picture struct {
	w, h    int
	grounds []view // one, or on black and on white
}

// OfPlanes looks at an opaque picture in planes.
func OfPlanes(p *raster.YCbCr) *Picture {
	var light [256]float32
	var chroma [256]float32
	for i := range light {
		luma, colour := float64(i), float64(i)-128
		if p.Range == raster.Limited {
			luma, colour = (luma-16)*255/219, colour*255/224
		}
		light[i] = lightness[int(math.Min(255, math.Max(0, luma))+0.5)]
		chroma[i] = float32(colour)
	}
	var v view
	v.light[0] = looked(p.Y, p.W, p.H, &light)
	cw, ch := (p.W+1)/2, (p.H+1)/2
	halved := func(c raster.Plane) plane {
		if p.ChromaX == 0.5 && p.ChromaY == 0.5 {
			return looked(c, cw, ch, &chroma)
		}
		out := plane{cw, ch, make([]float32, cw*ch)}
		for y := range ch {
			for x := range cw {
				sx, sy := min(c.W-1, int(2*float64(x)*p.ChromaX)), min(c.H-1, int(2*float64(y)*p.ChromaY))
				out.v[y*cw+x] = chroma[c.Pix[sy*c.Stride+sx]]
			}
		}
		return out
	}
	v.blue, v.red = halved(p.Cb), halved(p.Cr)
	return finished(p.W, p.H, v)
}

func looked(p raster.Plane, w, h int, table *[256]float32) plane {
	out := plane{w, h, make([]float32, w*h)}
	for y := range h {
		from, to := p.Pix[y*p.Stride:][:w], out.v[y*w:][:w]
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
	v := view{blue: plane{cw, ch, make([]float32, cw*ch)}, red: plane{cw, ch, make([]float32, cw*ch)}}
	light := plane{p.W, p.H, make([]float32, p.W*p.H)}
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
		for s := 1; s < len(scales); s++ {
			views[i].light[s] = views[i].light[s-1].halved()
		}
	}
	return &Picture{w, h, views}
}

func (p plane) halved() plane {
	w, h := max(1, p.w/2), max(1, p.h/2)
	if p.w < 2 || p.h < 2 {
		return p
	}
	out := plane{w, h, make([]float32, w*h)}
	for y := range h {
		a, b := p.v[2*y*p.w:][:2*w], p.v[(2*y+1)*p.w:][:2*w]
		to := out.v[y*w:][:w]
		for x := range to {
			to[x] = (a[2*x] + a[2*x+1] + b[2*x] + b[2*x+1]) / 4
		}
	}
	return out
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

func between(a, b *view) float64 {
	var d float64
	for s, weight := range scales {
		d += weight * distances(a.light[s], b.light[s], c1, c2).mean()
	}
	d += weightOfColour * distances(a.blue, b.blue, chroma1, chroma2).mean()
	d += weightOfColour * distances(a.red, b.red, chroma1, chroma2).mean()
	return d / (1 + 2*weightOfColour)
}

// A grid is what windows say, row by row.
type grid struct {
	w, h int
	far  []float32 // how far apart the pictures are there
}

func (g grid) mean() float64 {
	var sum float64
	for _, d := range g.far {
		sum += float64(d)
	}
	return sum / float64(len(g.far))
}

// sums are those of a block: of both, of their squares, and of their product.
type sums struct{ a, b, aa, bb, ab float32 }

// distances compares windows of 6×6, every three samples; a plane that is smaller is one window.
func distances(a, b plane, c1, c2 float32) grid {
	bw, bh := max(1, a.w/block), max(1, a.h/block)
	above, row := make([]sums, bw), make([]sums, bw)
	g := grid{w: max(1, bw-1), h: max(1, bh-1)}
	g.far = make([]float32, 0, g.w*g.h)
	add := func(s sums, n float32) {
		ma, mb := s.a/n, s.b/n
		va, vb, vab := max(0, s.aa/n-ma*ma), max(0, s.bb/n-mb*mb), s.ab/n-ma*mb
		similar := (2*ma*mb + c1) / (ma*ma + mb*mb + c1) * (2*vab + c2) / (va + vb + c2)
		// Where there is no texture, a shift of the mean is a step that nothing hides.
		shift := (ma - mb) * (ma - mb)
		g.far = append(g.far, 1-similar+steps*shift/(shift+visibleStep)/(1+va))
	}
	for by := range bh {
		clear(row)
		y1 := min(a.h, (by+1)*block)
		for y := by * block; y < y1; y++ {
			ra, rb := a.v[y*a.w:][:a.w], b.v[y*b.w:][:a.w]
			if a.w < block {
				row[0].add(ra, rb)
				continue
			}
			for bx := range row {
				s, u, v := &row[bx], ra[bx*block:bx*block+block:bx*block+block], rb[bx*block:bx*block+block:bx*block+block]
				u0, u1, u2, v0, v1, v2 := u[0], u[1], u[2], v[0], v[1], v[2]
				s.a += u0 + u1 + u2
				s.b += v0 + v1 + v2
				s.aa += u0*u0 + u1*u1 + u2*u2
				s.bb += v0*v0 + v1*v1 + v2*v2
				s.ab += u0*v0 + u1*v1 + u2*v2
			}
		}
		if by > 0 || bh == 1 {
			up, rows := above, float32(2*block)
			if bh == 1 {
				up, rows = make([]sums, bw), float32(y1)
			}
			if bw == 1 {
				add(up[0].plus(row[0]), rows*float32(min(a.w, block)))
			}
			for bx := 0; bx+1 < bw; bx++ {
				add(up[bx].plus(row[bx]).plus(up[bx+1]).plus(row[bx+1]), rows*2*block)
			}
		}
		above, row = row, above
	}
	return g
}

func (s *sums) add(a, b []float32) {
	for i, x := range a {
		y := b[i]
		s.a += x
		s.b += y
		s.aa += x * x
		s.bb += y * y
		s.ab += x * y
	}
}

func (s sums) plus(t sums) sums {
	return sums{s.a + t.a, s.b + t.b, s.aa + t.aa, s.bb + t.bb, s.ab + t.ab}
}

// Map says where two pictures of one size differ: w×h values, one for every Step samples, row by row, each the
// distance there.
func (p *Picture) Map(q *Picture) (w, h int, far []float32) {
	g := distances(p.grounds[0].light[0], q.grounds[0].light[0], c1, c2)
	return g.w, g.h, g.far
}

// Step is how many samples lie between the middles of Map's windows.
const Step = block

// Size is the picture's size in pixels.
func (p *Picture) Size() (w, h int) { return p.w, p.h }

// Activity says what kind of texture the picture has, from one window in twelve: the mean logarithm of their
// variances over the measure's constant, and the share of windows that have next to none.
func (p *Picture) Activity() (texture, plain float64) {
	const side = 6
	l := p.grounds[0].light[0]
	n := 0
	for y := 0; y+side <= l.h; y += 3 * side {
		for x := 0; x+side <= l.w; x += 2 * side {
			var s, ss float32
			for j := range side {
				for _, v := range l.v[(y+j)*l.w+x:][:side] {
					s += v
					ss += v * v
				}
			}
			const m = side * side
			variance := max(0, ss/m-s/m*s/m)
			texture += math.Log(float64(1 + variance/c2))
			if variance < c2/16 {
				plain++
			}
			n++
		}
	}
	return texture / float64(max(1, n)), plain / float64(max(1, n))
}
