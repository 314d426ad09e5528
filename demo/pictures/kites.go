package pictures

import "math"

// kite is where and how one flies: its own drawing is in a box of about −1…1, y downwards, turned by angle
// (radians, clockwise) and scaled by size pixels.
type kite struct {
	x, y, size, angle float64
	colours           []rgb
}

func (k kite) at(u, v float64) point {
	s, c := math.Sincos(k.angle)
	return point{k.x + k.size*(u*c-v*s), k.y + k.size*(u*s+v*c)}
}

func (k kite) shape(uv ...float64) []point {
	s := make([]point, len(uv)/2)
	for i := range s {
		s[i] = k.at(uv[2*i], uv[2*i+1])
	}
	return s
}

// silk is cloth under light: brighter to one side, with folds and a weave.
func (k kite) silk(c *canvas, colour rgb, light float64) paint {
	weave := 6.0
	return func(x, y float64) rgb {
		u, v := (x-k.x)/k.size, (y-k.y)/k.size
		folds := fractal(u*2.2+5, v*1.1+9, 3, c.seed+500) - 0.5
		threads := noise(x/weave*2, y/weave*2, c.seed+501) - 0.5
		p := colour.times(light + 0.16*(-u-v)*0.5 + 0.3*folds)
		return p.plus(0.05 * threads)
	}
}

type panel struct {
	outline []point
	colour  int     // index into the kite's colours
	light   float64 // how the panel faces the light
}

// draw lays panels, then their seams and spars.
func (k kite) draw(c *canvas, panels []panel, spars ...[]point) {
	for _, p := range panels {
		c.fill(p.outline, 1, k.silk(c, k.colours[p.colour%len(k.colours)], p.light))
	}
	for _, p := range panels {
		closed := append(append([]point(nil), p.outline...), p.outline[0])
		c.fill(stroke(closed, k.size*0.008, k.size*0.008), 0.5, flat(hex(0x2a2320)))
	}
	for _, s := range spars {
		c.fill(stroke(s, k.size*0.022, k.size*0.018), 0.85, flat(hex(0x5b4330)))
	}
}

func outlines(panels []panel) [][]point {
	all := make([][]point, len(panels))
	for i, p := range panels {
		all[i] = p.outline
	}
	return all
}

func (k kite) delta() []panel {
	return []panel{
		{k.shape(0, -0.62, -1, 0.42, -0.36, 0.30), 0, 0.98},
		{k.shape(0, -0.62, 1, 0.42, 0.36, 0.30), 0, 0.82},
		{k.shape(0, -0.62, -0.36, 0.30, 0, 0.46), 1, 1.02},
		{k.shape(0, -0.62, 0.36, 0.30, 0, 0.46), 1, 0.88},
		{k.shape(0, -0.10, -0.13, 0.18, 0, 0.62, 0.13, 0.18), 2, 0.92},
	}
}

func (k kite) diamond() []panel {
	return []panel{
		{k.shape(0, -0.95, -0.72, -0.28, 0, -0.28), 0, 1.04},
		{k.shape(0, -0.95, 0.72, -0.28, 0, -0.28), 1, 0.92},
		{k.shape(-0.72, -0.28, 0, 1, 0, -0.28), 1, 0.96},
		{k.shape(0.72, -0.28, 0, 1, 0, -0.28), 0, 0.80},
	}
}

func (k kite) rokkaku() []panel {
	return []panel{
		{k.shape(0, -1, -0.8, -0.5, 0.8, -0.5), 0, 1.04},
		{k.shape(-0.8, -0.5, 0.8, -0.5, 0.8, 0, -0.8, 0), 1, 0.98},
		{k.shape(-0.8, 0, 0.8, 0, 0.8, 0.5, -0.8, 0.5), 2, 0.93},
		{k.shape(-0.8, 0.5, 0.8, 0.5, 0, 1), 0, 0.86},
		{ellipseOn(k, 0, 0, 0.42), 3, 1},
	}
}

func ellipseOn(k kite, u, v, r float64) []point {
	s := make([]point, 60)
	for i := range s {
		a := 2 * math.Pi * float64(i) / 60
		s[i] = k.at(u+r*math.Cos(a), v+r*math.Sin(a))
	}
	return s
}

func (k kite) box() []panel {
	var all []panel
	for _, top := range []float64{-0.9, 0.3} {
		low := top + 0.6
		all = append(all,
			panel{k.shape(-0.25, top-0.12, 0.62, top-0.2, 0.62, low-0.2, -0.25, low-0.12), 1, 0.62},
			panel{k.shape(-0.62, top, -0.25, top-0.12, -0.25, low-0.12, -0.62, low), 2, 0.8},
			panel{k.shape(-0.62, top, 0.28, top+0.06, 0.28, low+0.06, -0.62, low), 0, 1.02},
			panel{k.shape(0.28, top+0.06, 0.62, top-0.2, 0.62, low-0.2, 0.28, low+0.06), 0, 0.74},
		)
	}
	return all
}

func (k kite) boxSpars() [][]point {
	return [][]point{k.shape(-0.62, -0.9, -0.62, 0.9), k.shape(0.28, -0.84, 0.28, 0.96), k.shape(0.62, -1.1, 0.62, 0.7)}
}

func (k kite) sled() []panel {
	return []panel{
		{k.shape(-0.45, -0.9, -0.95, -0.2, -0.45, 0.9), 1, 0.86},
		{k.shape(0.45, -0.9, 0.95, -0.2, 0.45, 0.9), 1, 0.76},
		{k.shape(-0.45, -0.9, -0.15, -0.9, -0.15, 0.9, -0.45, 0.9), 0, 1.02},
		{k.shape(-0.15, -0.9, 0.15, -0.9, 0.15, 0.9, -0.15, 0.9), 2, 0.98},
		{k.shape(0.15, -0.9, 0.45, -0.9, 0.45, 0.9, 0.15, 0.9), 0, 0.92},
	}
}

// tail is a ribbon that waves off from (u, v), length in kite sizes, with bows along it.
func (k kite) tail(c *canvas, u, v, length, wave float64, bows int, colour rgb) {
	const n = 120
	line := make([]point, n)
	for i := range line {
		t := float64(i) / (n - 1)
		line[i] = k.at(u+wave*math.Sin(t*9+u*3)*t, v+length*t)
	}
	c.fill(stroke(line, k.size*0.05, k.size*0.02), 1, k.silk(c, colour, 0.95))
	for b := range bows {
		i := (b + 1) * (n - 2) / (bows + 1)
		p, q := line[i], line[i+1]
		a := math.Atan2(q.y-p.y, q.x-p.x)
		bow := kite{p.x, p.y, k.size * 0.11, a, nil}
		tint := k.colours[b%len(k.colours)]
		c.fill(bow.shape(0, 0, -0.5, -1, 0.5, -1), 1, flat(tint))
		c.fill(bow.shape(0, 0, -0.5, 1, 0.5, 1), 1, flat(tint.times(0.85)))
	}
}

// line is the twine from the kite to a hand, sagging a little.
func (k kite) line(c *canvas, u, v float64, to point, width float64) {
	from := k.at(u, v)
	const n = 60
	s := make([]point, n)
	for i := range s {
		t := float64(i) / (n - 1)
		s[i] = point{from.x + (to.x-from.x)*t, from.y + (to.y-from.y)*t + 0.12*math.Abs(to.x-from.x)*math.Sin(math.Pi*t)}
	}
	c.fill(stroke(s, width, width), 0.8, flat(hex(0xe8e2d2)))
}

var (
	redSilk   = []rgb{hex(0xc8202f), hex(0xe9e2d0), hex(0x22262f), hex(0xf2b632)}
	blueSilk  = []rgb{hex(0x1f5fa8), hex(0xf1efe6), hex(0xf0a92b), hex(0xc8202f)}
	tealSilk  = []rgb{hex(0x0f7d78), hex(0xf4e9cf), hex(0xe2583e), hex(0x1b2a3a)}
	sunSilk   = []rgb{hex(0xf2a51e), hex(0xd8412f), hex(0xfdf3d9), hex(0x6a2c70)}
	greenSilk = []rgb{hex(0x3f8f4f), hex(0xe7efd4), hex(0x1d4e3a), hex(0xf2c14e)}
	plumSilk  = []rgb{hex(0x6a2c70), hex(0xe9d5e6), hex(0xf08a5d), hex(0xb83b5e)}
)
