package svg

import (
	"math"
	"sync"

	"echolane/core/raster"
)

// toLinear and toSRGB are the ways between sRGB's steps and light.
var toLinear = sync.OnceValue(func() *[256]float32 {
	var t [256]float32
	for i := range t {
		v := float64(i) / 255
		if v <= 0.04045 {
			t[i] = float32(v / 12.92)
		} else {
			t[i] = float32(math.Pow((v+0.055)/1.055, 2.4))
		}
	}
	return &t
})

var toSRGB = sync.OnceValue(func() *[4097]float32 {
	var t [4097]float32
	for i := range t {
		v := float64(i) / 4096
		if v <= 0.0031308 {
			t[i] = float32(12.92 * v)
		} else {
			t[i] = float32(1.055*math.Pow(v, 1/2.4) - 0.055)
		}
	}
	return &t
})

func encoded(v float32) float32 {
	if v <= 0.0031308 {
		return max(0, 12.92*v)
	}
	at := min(1, v) * 4096
	i := min(4095, int(at))
	t := toSRGB()
	return t[i] + (t[i+1]-t[i])*(at-float32(i))
}

func lightOf(c [4]float32) [4]float32 {
	for i := range 3 {
		c[i] = toLinear()[uint8(c[i]*255+0.5)]
	}
	return c
}

// taken are a picture's pixels, in linear light where that is asked for.
func taken(p *raster.RGBA, linear bool) pixels {
	out := newPixels(p.W, p.H)
	for y := range p.H {
		row, to := p.Row(y), out.v[4*y*p.W:]
		for i := 0; i < len(row); i += 4 {
			a := row[i+3]
			if a == 0 {
				continue
			}
			alpha := float32(a) / 255
			for c := range 3 {
				v := float32(row[i+c]) / 255
				if linear {
					v = toLinear()[min(255, (int(row[i+c])*255+int(a)/2)/int(a))] * alpha
				}
				to[i+c] = v
			}
			to[i+3] = alpha
		}
	}
	return out
}

// put writes pixels into a picture: nothing outside of the region, which is in the picture's pixels.
func (v pixels) put(p *raster.RGBA, linear bool, region box) {
	for y := range p.H {
		row, from := p.Row(y), v.v[4*y*p.W:]
		for x := range p.W {
			q, c := row[4*x:4*x+4:4*x+4], from[4*x:4*x+4]
			a := max(0, min(1, c[3]))
			if cx, cy := float64(x)+0.5, float64(y)+0.5; a == 0 || cx < region.x0 || cx > region.x1 || cy < region.y0 || cy > region.y1 {
				clear(q)
				continue
			}
			for i := range 3 {
				s := max(0, min(a, c[i]))
				if linear {
					s = encoded(s/a) * a
				}
				q[i] = uint8(s*255 + 0.5)
			}
			q[3] = uint8(a*255 + 0.5)
		}
	}
}

// matrix applies a matrix of colours to what isn't premultiplied.
func (v pixels) matrix(m raster.Matrix) pixels {
	for i := 0; i < len(v.v); i += 4 {
		a := v.v[i+3]
		if a == 0 {
			continue
		}
		r, g, b := v.v[i]/a, v.v[i+1]/a, v.v[i+2]/a
		for c := range 3 {
			v.v[i+c] = max(0, min(1, float32(m[c][0])*r+float32(m[c][1])*g+float32(m[c][2])*b+float32(m[c][3])/255)) * a
		}
	}
	return v
}

// blur is three boxes one after the other (Filter Effects, section 9.13.1), and for little of it the Gaussian itself.
func (v pixels) blur(sx, sy float64) pixels {
	return v.along(sx, 4, 4*v.w, v.w, v.h).along(sy, 4*v.w, 4, v.h, v.w)
}

// along blurs lines of n pixels that lie step apart; lines are next apart.
func (v pixels) along(sigma float64, step, next, n, lines int) pixels {
	if sigma <= 0 {
		return v
	}
	out := pixels{v.w, v.h, make([]float32, len(v.v))}
	line, other := make([]float32, 4*n), make([]float32, 4*n)
	var kernel []float32
	if sigma < 2 {
		r := int(math.Ceil(3 * sigma))
		var sum float32
		for i := -r; i <= r; i++ {
			k := float32(math.Exp(-float64(i*i) / (2 * sigma * sigma)))
			kernel, sum = append(kernel, k), sum+k
		}
		for i := range kernel {
			kernel[i] /= sum
		}
	}
	d := int(sigma*3*math.Sqrt(2*math.Pi)/4 + 0.5)
	for l := range lines {
		for i := range n {
			copy(line[4*i:4*i+4], v.v[l*next+i*step:])
		}
		if kernel != nil {
			clear(other)
			r := len(kernel) / 2
			for i := range n {
				for k, w := range kernel {
					if j := i + k - r; j >= 0 && j < n {
						for c := range 4 {
							other[4*i+c] += w * line[4*j+c]
						}
					}
				}
			}
			line, other = other, line
		} else {
			for pass := range 3 {
				before, width := d/2, d
				if d%2 == 0 {
					if before = d / 2; pass == 1 {
						before--
					}
					if pass == 2 {
						width = d + 1
					}
				}
				boxed(other, line, n, before, width)
				line, other = other, line
			}
		}
		for i := range n {
			copy(out.v[l*next+i*step:][:4], line[4*i:4*i+4])
		}
	}
	return out
}

// boxed is the mean of width pixels from before in front of each; beyond the line there is nothing.
func boxed(to, from []float32, n, before, width int) {
	var r, g, b, a float64
	for i := max(0, -before); i < min(n, width-before); i++ {
		q := from[4*i : 4*i+4 : 4*i+4]
		r, g, b, a = r+float64(q[0]), g+float64(q[1]), b+float64(q[2]), a+float64(q[3])
	}
	k := 1 / float64(width)
	for i := range n {
		q := to[4*i : 4*i+4 : 4*i+4]
		q[0], q[1], q[2], q[3] = float32(max(0, r*k)), float32(max(0, g*k)), float32(max(0, b*k)), float32(max(0, a*k))
		if j := i - before; j >= 0 && j < n {
			q := from[4*j : 4*j+4 : 4*j+4]
			r, g, b, a = r-float64(q[0]), g-float64(q[1]), b-float64(q[2]), a-float64(q[3])
		}
		if j := i - before + width; j >= 0 && j < n {
			q := from[4*j : 4*j+4 : 4*j+4]
			r, g, b, a = r+float64(q[0]), g+float64(q[1]), b+float64(q[2]), a+float64(q[3])
		}
	}
}

// offset moves pixels, by parts of pixels too.
func (v pixels) offset(dx, dy float64) pixels {
	out := newPixels(v.w, v.h)
	dx, dy = math.Round(dx), math.Round(dy) // as browsers do
	for y := range v.h {
		sy := y - int(dy)
		if sy < 0 || sy >= v.h {
			continue
		}
		for x := range v.w {
			if sx := x - int(dx); sx >= 0 && sx < v.w {
				copy(out.v[4*(y*v.w+x):][:4], v.v[4*(sy*v.w+sx):])
			}
		}
	}
	return out
}

func (v pixels) shadow(dx, dy, sx, sy float64, c [4]float32) pixels {
	alpha := newPixels(v.w, v.h)
	c = premultiplied(c)
	for i := 0; i < len(v.v); i += 4 {
		for k := range 4 {
			alpha.v[i+k] = c[k] * v.v[i+3]
		}
	}
	return over(v, alpha.blur(sx, sy).offset(dx, dy))
}

// over is a on b.
func over(a, b pixels) pixels {
	out := newPixels(a.w, a.h)
	for i := 0; i < len(a.v); i += 4 {
		left := 1 - a.v[i+3]
		for c := range 4 {
			out.v[i+c] = a.v[i+c] + b.v[i+c]*left
		}
	}
	return out
}

func (v pixels) crop(b box) {
	for y := range v.h {
		for x := range v.w {
			if cx, cy := float64(x)+0.5, float64(y)+0.5; cx < b.x0 || cx > b.x1 || cy < b.y0 || cy > b.y1 {
				clear(v.v[4*(y*v.w+x):][:4])
			}
		}
	}
}

// as are pixels in linear light or not, a copy where that changes.
func (v pixels) as(linear, want bool) pixels {
	out := pixels{v.w, v.h, append([]float32(nil), v.v...)}
	if linear == want {
		return out
	}
	for i := 0; i < len(out.v); i += 4 {
		a := out.v[i+3]
		if a <= 0 {
			continue
		}
		for c := range 3 {
			s := max(0, min(1, out.v[i+c]/a))
			if want {
				s = toLinear()[uint8(s*255+0.5)]
			} else {
				s = encoded(s)
			}
			out.v[i+c] = s * a
		}
	}
	return out
}

func composite(a, b pixels, operator string, k [4]float32) pixels {
	out := newPixels(a.w, a.h)
	for i := 0; i < len(a.v); i += 4 {
		aa, ba := a.v[i+3], b.v[i+3]
		var fa, fb float32
		switch operator {
		case "in":
			fa = ba
		case "out":
			fa = 1 - ba
		case "atop":
			fa, fb = ba, 1-aa
		case "xor":
			fa, fb = 1-ba, 1-aa
		case "lighter":
			fa, fb = 1, 1
		case "arithmetic":
			for c := range 4 {
				out.v[i+c] = max(0, min(1, k[0]*a.v[i+c]*b.v[i+c]+k[1]*a.v[i+c]+k[2]*b.v[i+c]+k[3]))
			}
			for c := range 3 {
				out.v[i+c] = min(out.v[i+c], out.v[i+3])
			}
			continue
		default:
			fa, fb = 1, 1-aa
		}
		for c := range 4 {
			out.v[i+c] = min(1, fa*a.v[i+c]+fb*b.v[i+c])
		}
	}
	return out
}

// blended is a on b by one of the modes of Compositing Level 1.
func blended(a, b pixels, mode string) pixels {
	m, ok := blendModes[mode]
	if !ok || m == raster.BlendNormal {
		return over(a, b)
	}
	out := newPixels(a.w, a.h)
	for i := 0; i < len(a.v); i += 4 {
		var c [4]float32
		copy(c[:], b.v[i:i+4])
		raster.BlendColours(&c, [4]float32(a.v[i:i+4]), m)
		copy(out.v[i:], c[:])
	}
	return out
}

func coloured(v pixels, kind string, values []float64) pixels {
	var m [20]float64
	first := func(usual float64) float64 {
		if len(values) > 0 {
			return values[0]
		}
		return usual
	}
	from := func(r raster.Matrix) {
		for c := range 3 {
			for i := range 3 {
				m[5*c+i] = float64(r[c][i])
			}
			m[5*c+4] = float64(r[c][3]) / 255
		}
		m[18] = 1
	}
	switch kind {
	case "saturate":
		from(raster.Saturate(first(1)))
	case "hueRotate":
		from(raster.HueRotate(first(0)))
	case "luminanceToAlpha":
		m[15], m[16], m[17] = 0.2125, 0.7154, 0.0721
	default:
		if len(values) != 20 {
			return v
		}
		copy(m[:], values)
	}
	out := newPixels(v.w, v.h)
	for i := 0; i < len(v.v); i += 4 {
		a := v.v[i+3]
		var q [4]float64
		if q[3] = float64(a); a > 0 {
			for c := range 3 {
				q[c] = float64(v.v[i+c] / a)
			}
		}
		var r [4]float32
		for c := range r {
			r[c] = float32(within01(m[5*c]*q[0] + m[5*c+1]*q[1] + m[5*c+2]*q[2] + m[5*c+3]*q[3] + m[5*c+4]))
		}
		r = premultiplied(r)
		copy(out.v[i:], r[:])
	}
	return out
}

// transferred maps each component by a function of its own.
func transferred(v pixels, n *node) pixels {
	var tables [4][256]float32
	for c := range tables {
		for i := range tables[c] {
			tables[c][i] = float32(i) / 255
		}
	}
	for _, k := range n.kids {
		c, ok := map[string]int{"feFuncR": 0, "feFuncG": 1, "feFuncB": 2, "feFuncA": 3}[k.name]
		if !ok {
			continue
		}
		one := func(name string, usual float64) float64 {
			if v, ok := number(k.attrs[name]); ok {
				return v
			}
			return usual
		}
		values := numbers(k.attrs["tableValues"])
		for i := range tables[c] {
			x := float64(i) / 255
			y := x
			switch n := len(values); k.attrs["type"] {
			case "table":
				if n > 1 {
					at := x * float64(n-1)
					j := min(n-2, int(at))
					y = values[j] + (values[j+1]-values[j])*(at-float64(j))
				} else if n == 1 {
					y = values[0]
				}
			case "discrete":
				if n > 0 {
					y = values[min(n-1, int(x*float64(n)))]
				}
			case "linear":
				y = one("slope", 1)*x + one("intercept", 0)
			case "gamma":
				y = one("amplitude", 1)*math.Pow(x, one("exponent", 1)) + one("offset", 0)
			}
			tables[c][i] = float32(within01(y))
		}
	}
	out := newPixels(v.w, v.h)
	for i := 0; i < len(v.v); i += 4 {
		a := v.v[i+3]
		var r [4]float32
		for c := range 3 {
			if a > 0 {
				r[c] = tables[c][uint8(max(0, min(1, v.v[i+c]/a))*255+0.5)]
			} else {
				r[c] = tables[c][0]
			}
		}
		r[3] = tables[3][uint8(max(0, min(1, a))*255+0.5)]
		r = premultiplied(r)
		copy(out.v[i:], r[:])
	}
	return out
}

// morphed is the least or the most of all pixels around each.
func morphed(v pixels, rx, ry int, dilate bool) pixels {
	if rx <= 0 && ry <= 0 {
		return newPixels(v.w, v.h)
	}
	pass := func(v pixels, r, step, next, n, lines int) pixels {
		out := newPixels(v.w, v.h)
		for l := range lines {
			for i := range n {
				to := out.v[l*next+i*step:][:4]
				for j := i - r; j <= i+r; j++ {
					var from [4]float32
					if j >= 0 && j < n {
						copy(from[:], v.v[l*next+j*step:])
					}
					for c := range to {
						if j == i-r || dilate && from[c] > to[c] || !dilate && from[c] < to[c] {
							to[c] = from[c]
						}
					}
				}
			}
		}
		return out
	}
	return pass(pass(v, rx, 4, 4*v.w, v.w, v.h), ry, 4*v.w, 4, v.h, v.w)
}
