package pictures

import (
	"image"
	"math"
	"runtime"
	"sync"

	"golang.org/x/image/vector"
)

// rgb is a colour, each part 0–1, gamma-encoded.
type rgb struct{ r, g, b float64 }

func hex(v uint32) rgb {
	return rgb{float64(v>>16&255) / 255, float64(v>>8&255) / 255, float64(v&255) / 255}
}

func mix(a, b rgb, t float64) rgb {
	t = min(max(t, 0), 1)
	return rgb{a.r + (b.r-a.r)*t, a.g + (b.g-a.g)*t, a.b + (b.b-a.b)*t}
}

func (c rgb) times(f float64) rgb { return rgb{c.r * f, c.g * f, c.b * f} }

func (c rgb) plus(v float64) rgb { return rgb{c.r + v, c.g + v, c.b + v} }

func smooth(from, to, v float64) float64 {
	t := min(max((v-from)/(to-from), 0), 1)
	return t * t * (3 - 2*t)
}

// point is a place on a canvas, in pixels.
type point struct{ x, y float64 }

// canvas is a picture being drawn. Its grain and noise come from seed alone.
type canvas struct {
	*image.RGBA
	w, h int
	seed uint32
}

func newCanvas(w, h int, seed uint32) *canvas {
	return &canvas{RGBA: image.NewRGBA(image.Rect(0, 0, w, h)), w: w, h: h, seed: seed}
}

// rows runs f for bands of rows side by side.
func (c *canvas) rows(f func(y int)) {
	var all sync.WaitGroup
	workers := runtime.NumCPU()
	for i := range workers {
		all.Go(func() {
			for y := i; y < c.h; y += workers {
				f(y)
			}
		})
	}
	all.Wait()
}

// shade sets every pixel.
func (c *canvas) shade(f func(x, y float64) rgb) {
	c.rows(func(y int) {
		for x := range c.w {
			c.set(x, y, f(float64(x), float64(y)))
		}
	})
}

func to8(v float64) uint8 {
	if v <= 0 {
		return 0
	}
	if v >= 1 {
		return 255
	}
	return uint8(v*255 + 0.5)
}

func (c *canvas) set(x, y int, p rgb) {
	i := y*c.Stride + 4*x
	c.Pix[i], c.Pix[i+1], c.Pix[i+2], c.Pix[i+3] = to8(p.r), to8(p.g), to8(p.b), 255
}

func (c *canvas) get(x, y int) rgb {
	i := y*c.Stride + 4*x
	return rgb{float64(c.Pix[i]) / 255, float64(c.Pix[i+1]) / 255, float64(c.Pix[i+2]) / 255}
}

// paint is the colour of a place on a shape.
type paint func(x, y float64) rgb

func flat(c rgb) paint { return func(float64, float64) rgb { return c } }

func bounds(shape []point) (x0, y0, x1, y1 float64) {
	x0, y0, x1, y1 = math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, p := range shape {
		x0, y0, x1, y1 = min(x0, p.x), min(y0, p.y), max(x1, p.x), max(y1, p.y)
	}
	return
}

// coverage is how much of each pixel a closed shape covers, within its bounds on a w×h grid.
func coverage(shape []point, w, h int) (*image.Alpha, image.Rectangle) {
	x0, y0, x1, y1 := bounds(shape)
	r := image.Rect(int(math.Floor(x0)), int(math.Floor(y0)), int(math.Ceil(x1)), int(math.Ceil(y1))).Intersect(image.Rect(0, 0, w, h))
	if r.Empty() {
		return nil, r
	}
	v := vector.NewRasterizer(r.Dx(), r.Dy())
	for i, p := range shape {
		x, y := float32(p.x-float64(r.Min.X)), float32(p.y-float64(r.Min.Y))
		if i == 0 {
			v.MoveTo(x, y)
		} else {
			v.LineTo(x, y)
		}
	}
	v.ClosePath()
	mask := image.NewAlpha(image.Rect(0, 0, r.Dx(), r.Dy()))
	v.Draw(mask, mask.Bounds(), image.Opaque, image.Point{})
	return mask, r
}

// fill paints a closed shape with soft edges.
func (c *canvas) fill(shape []point, opacity float64, with paint) {
	mask, r := coverage(shape, c.w, c.h)
	if mask == nil {
		return
	}
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			a := float64(mask.Pix[(y-r.Min.Y)*mask.Stride+x-r.Min.X]) / 255 * opacity
			if a == 0 {
				continue
			}
			c.blend(x, y, with(float64(x)+0.5, float64(y)+0.5), a)
		}
	}
}

// blend lays a colour over a pixel that may be transparent.
func (c *canvas) blend(x, y int, p rgb, a float64) {
	i := y*c.Stride + 4*x
	for j, v := range [4]float64{p.r, p.g, p.b, 1} {
		c.Pix[i+j] = to8(v*a + float64(c.Pix[i+j])/255*(1-a))
	}
}

// stroke is the closed outline of a line of that width through points, thinning to end at its end.
func stroke(line []point, width, end float64) []point {
	left, right := make([]point, 0, 2*len(line)), make([]point, 0, len(line))
	for i, p := range line {
		a, b := line[max(i-1, 0)], line[min(i+1, len(line)-1)]
		dx, dy := b.x-a.x, b.y-a.y
		n := math.Hypot(dx, dy)
		if n == 0 {
			continue
		}
		t := float64(i) / float64(len(line)-1)
		half := (width + (end-width)*t) / 2
		ox, oy := -dy/n*half, dx/n*half
		left = append(left, point{p.x + ox, p.y + oy})
		right = append(right, point{p.x - ox, p.y - oy})
	}
	for i := len(right) - 1; i >= 0; i-- {
		left = append(left, right[i])
	}
	return left
}

// shadow darkens the ground under shapes, offset and softened.
func (c *canvas) shadow(shapes [][]point, dx, dy, soft, strength float64) {
	const k = 8 // the shadow is worked out on a grid of that many pixels
	w, h := c.w/k+1, c.h/k+1
	field := make([]float64, w*h)
	for _, s := range shapes {
		moved := make([]point, len(s))
		for i, p := range s {
			moved[i] = point{(p.x + dx) / k, (p.y + dy) / k}
		}
		mask, r := coverage(moved, w, h)
		if mask == nil {
			continue
		}
		for y := r.Min.Y; y < r.Max.Y; y++ {
			for x := r.Min.X; x < r.Max.X; x++ {
				v := float64(mask.Pix[(y-r.Min.Y)*mask.Stride+x-r.Min.X]) / 255
				field[y*w+x] = max(field[y*w+x], v)
			}
		}
	}
	for range 3 {
		field = boxBlur(field, w, h, max(1, int(soft/k)))
	}
	g := grid{field, w, h}
	c.rows(func(y int) {
		for x := range c.w {
			if a := g.at(float64(x)/k, float64(y)/k) * strength; a > 0.002 {
				c.set(x, y, c.get(x, y).times(1-a))
			}
		}
	})
}

func boxBlur(f []float64, w, h, r int) []float64 {
	pass := func(from []float64, n, lines, step, stride int) []float64 {
		to := make([]float64, len(from))
		for l := range lines {
			var sum float64
			at := func(i int) float64 { return from[l*stride+min(max(i, 0), n-1)*step] }
			for i := -r; i <= r; i++ {
				sum += at(i)
			}
			for i := range n {
				to[l*stride+i*step] = sum / float64(2*r+1)
				sum += at(i+r+1) - at(i-r)
			}
		}
		return to
	}
	return pass(pass(f, w, h, 1, w), h, w, w, 1)
}

// grid is a field of values that is read between its points.
type grid struct {
	v    []float64
	w, h int
}

func (g grid) at(x, y float64) float64 {
	x, y = min(max(x, 0), float64(g.w-1)), min(max(y, 0), float64(g.h-1))
	x0, y0 := int(x), int(y)
	x1, y1 := min(x0+1, g.w-1), min(y0+1, g.h-1)
	fx, fy := x-float64(x0), y-float64(y0)
	top := g.v[y0*g.w+x0]*(1-fx) + g.v[y0*g.w+x1]*fx
	low := g.v[y1*g.w+x0]*(1-fx) + g.v[y1*g.w+x1]*fx
	return top*(1-fy) + low*fy
}

// hash spreads three numbers over 32 bits.
func hash(x, y int32, seed uint32) uint32 {
	h := uint32(x)*0x9e3779b1 ^ uint32(y)*0x85ebca77 ^ seed*0xc2b2ae3d
	h ^= h >> 15
	h *= 0x2c1b3c6d
	h ^= h >> 12
	h *= 0x297a2d39
	return h ^ h>>15
}

// noise is smooth noise from 0 to 1 that changes over a distance of 1.
func noise(x, y float64, seed uint32) float64 {
	fx, fy := math.Floor(x), math.Floor(y)
	ix, iy := int32(fx), int32(fy)
	tx, ty := x-fx, y-fy
	tx, ty = tx*tx*(3-2*tx), ty*ty*(3-2*ty)
	v := func(dx, dy int32) float64 { return float64(hash(ix+dx, iy+dy, seed)) / math.MaxUint32 }
	a := v(0, 0) + (v(1, 0)-v(0, 0))*tx
	b := v(0, 1) + (v(1, 1)-v(0, 1))*tx
	return a + (b-a)*ty
}

// fractal is octaves of noise, each twice as fine and half as strong, 0 to 1.
func fractal(x, y float64, octaves int, seed uint32) float64 {
	var sum, all float64
	strength := 1.0
	for i := range octaves {
		sum += strength * noise(x, y, seed+uint32(i)*101)
		all += strength
		x, y, strength = x*2.03, y*2.03, strength/2
	}
	return sum / all
}

// field is fractal noise over the canvas, worked out coarsely and read between.
func (c *canvas) field(scale, stretch float64, octaves int, seed uint32) grid {
	const k = 4
	g := grid{make([]float64, (c.w/k+2)*(c.h/k+2)), c.w/k + 2, c.h/k + 2}
	var all sync.WaitGroup
	for i := range 2 {
		all.Go(func() {
			for y := i; y < g.h; y += 2 {
				for x := range g.w {
					g.v[y*g.w+x] = fractal(float64(x)*k*scale, float64(y)*k*scale*stretch, octaves, c.seed+seed)
				}
			}
		})
	}
	all.Wait()
	return g
}

func (g grid) pixel(x, y float64) float64 { return g.at(x/4, y/4) }

// develop is what a lens and a sensor do last: darker corners and grain, more of it in the shadows.
func (c *canvas) develop(vignette, grain float64) {
	cx, cy := float64(c.w)/2, float64(c.h)/2
	far := cx*cx + cy*cy
	c.rows(func(y int) {
		dy := float64(y) - cy
		for x := range c.w {
			dx := float64(x) - cx
			d := (dx*dx + dy*dy) / far
			f := 1 - vignette*d*d
			h := hash(int32(x), int32(y), c.seed)
			// The sum of four bytes is close to a bell curve.
			n := (float64(h&255)+float64(h>>8&255)+float64(h>>16&255)+float64(h>>24))/1020 - 0.5
			p := c.get(x, y)
			light := (p.r + p.g + p.b) / 3
			c.set(x, y, p.times(f).plus(n*grain*(1.3-light)))
		}
	})
}
