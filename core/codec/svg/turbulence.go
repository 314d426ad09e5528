package svg

import "math"

// noise is the lattice of feTurbulence (Filter Effects Level 1, section 9.21).
type noise struct {
	order [2*latticeSize + 2]int
	slope [4][2*latticeSize + 2][2]float64
}

const latticeSize = 256

func newNoise(seed float64) *noise {
	const modulus, factor, quotient, rest = 2147483647, 16807, 127773, 2836
	s := int64(math.Trunc(seed))
	if s <= 0 {
		s = -(s % (modulus - 1)) + 1
	}
	if s > modulus-1 {
		s = modulus - 1
	}
	next := func() int64 {
		if s = factor*(s%quotient) - rest*(s/quotient); s <= 0 {
			s += modulus
		}
		return s
	}
	t := &noise{}
	for k := range t.slope {
		for i := range latticeSize {
			t.order[i] = i
			v := &t.slope[k][i]
			for j := range v {
				v[j] = float64(next()%(2*latticeSize)-latticeSize) / latticeSize
			}
			l := math.Hypot(v[0], v[1])
			v[0], v[1] = v[0]/l, v[1]/l
		}
	}
	for i := latticeSize - 1; i > 0; i-- {
		j := next() % latticeSize
		t.order[i], t.order[j] = t.order[j], t.order[i]
	}
	for i := range latticeSize + 2 {
		t.order[latticeSize+i] = t.order[i]
		for k := range t.slope {
			t.slope[k][latticeSize+i] = t.slope[k][i]
		}
	}
	return t
}

// at is the noise of component k at a place of the lattice.
func (t *noise) at(k int, x, y float64) float64 {
	axis := func(v float64) (a, b int, r float64) {
		const far = 4096 // so that places before 0 are whole too
		v += far
		a = int(v)
		return a & (latticeSize - 1), (a + 1) & (latticeSize - 1), v - float64(a)
	}
	x0, x1, rx := axis(x)
	y0, y1, ry := axis(y)
	i, j := t.order[x0], t.order[x1]
	b00, b10, b01, b11 := t.order[i+y0], t.order[j+y0], t.order[i+y1], t.order[j+y1]
	ease := func(v float64) float64 { return v * v * (3 - 2*v) }
	mix := func(f, a, b float64) float64 { return a + f*(b-a) }
	slope := func(b int, x, y float64) float64 { q := &t.slope[k][b]; return x*q[0] + y*q[1] }
	sx, sy := ease(rx), ease(ry)
	return mix(sy, mix(sx, slope(b00, rx, ry), slope(b10, rx-1, ry)), mix(sx, slope(b01, rx, ry-1), slope(b11, rx-1, ry-1)))
}

// turbulence is Perlin's, of the user space's places.
func turbulence(l layer, m matrix, fx, fy float64, octaves int, seed float64, fractal bool) pixels {
	out := newPixels(l.W, l.H)
	back, ok := m.Inverse()
	if !ok || fx < 0 || fy < 0 {
		return out
	}
	t := newNoise(seed)
	for y := range l.H {
		for x := range l.W {
			ux, uy := back.At(float64(l.x+x)+0.5, float64(l.y+y)+0.5)
			var c [4]float32
			for k := range c {
				sum, vx, vy, ratio := 0.0, ux*fx, uy*fy, 1.0
				for range octaves {
					v := t.at(k, vx, vy)
					if !fractal {
						v = math.Abs(v)
					}
					sum += v / ratio
					vx, vy, ratio = 2*vx, 2*vy, 2*ratio
				}
				if fractal {
					sum = (sum + 1) / 2
				}
				c[k] = float32(within01(sum))
			}
			c = premultiplied(c)
			copy(out.v[4*(y*l.W+x):], c[:])
		}
	}
	return out
}
