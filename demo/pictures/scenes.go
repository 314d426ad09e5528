package pictures

import "math"

// sky is a gradient with a glow and clouds.
type sky struct {
	high, low  rgb
	glow       rgb
	gx, gy     float64 // where the glow is, as shares of the canvas
	glowReach  float64 // share of the height
	clouds     float64 // 0 none – 1 overcast
	cloudLight rgb
	cloudDark  rgb
	horizon    float64 // share of the height where low is reached
}

var (
	clearDay = sky{hex(0x2f6fb5), hex(0xbfdcee), hex(0xfff3d6), 0.8, 0.1, 0.9, 0.42, hex(0xfdfdfb), hex(0xaebccb), 0.8}
	dawn     = sky{hex(0x4a5d92), hex(0xf6c9a0), hex(0xffe2a8), 0.25, 0.72, 0.7, 0.5, hex(0xffe9d4), hex(0x9a86a5), 0.75}
	dusk     = sky{hex(0x1d2a55), hex(0xd98a5c), hex(0xff9d5c), 0.6, 0.85, 0.8, 0.35, hex(0xf0a988), hex(0x453a5e), 0.9}
	seaDay   = sky{hex(0x4d8fc4), hex(0xdcebf0), hex(0xffffff), 0.3, 0.2, 0.6, 0.38, hex(0xffffff), hex(0xb9c7d2), 0.55}
	overcast = sky{hex(0x8794a3), hex(0xd5dade), hex(0xffffff), 0.5, 0.3, 1.2, 0.85, hex(0xe9ecef), hex(0x8b96a2), 0.8}
)

func (c *canvas) drawSky(s sky) {
	unit := 1 / float64(min(c.w, c.h))
	shape := c.field(3.2*unit, 1.7, 6, 11)
	shade := c.field(5*unit, 1.5, 4, 23)
	w, h := float64(c.w), float64(c.h)
	reach2 := s.glowReach * s.glowReach * h * h
	c.rows(func(row int) {
		y := float64(row)
		base := mix(s.high, s.low, math.Pow(y/(h*s.horizon), 1.25))
		for column := range c.w {
			x := float64(column)
			p := base
			dx, dy := x-s.gx*w, y-s.gy*h
			if d2 := (dx*dx + dy*dy) / reach2; d2 < 2.2 {
				p = mix(p, s.glow, 0.75*math.Exp(-3*d2))
			}
			thick := shape.pixel(x, y)
			if cover := smooth(1-s.clouds-0.12, 1-s.clouds+0.28, thick); cover > 0 {
				lit := smooth(0.25, 0.75, shade.pixel(x, y+0.04*h)-0.25*(shape.pixel(x, y+0.03*h)-thick))
				p = mix(p, mix(s.cloudDark, s.cloudLight, lit), 0.9*cover)
			}
			c.set(column, row, p)
		}
	})
}

// hill is a ridge with a textured slope below it.
type hill struct {
	top     float64 // share of the height where the ridge runs
	rise    float64 // how much it moves, share of the height
	scale   float64 // ridges to a canvas width
	colour  rgb
	shade   rgb
	texture float64 // strength of the slope's texture
	grass   float64 // size of the finest texture in pixels of a 1000-pixel canvas
}

func (c *canvas) drawHills(hills []hill) {
	w, h := float64(c.w), float64(c.h)
	for i, l := range hills {
		seed := c.seed + 300 + uint32(i)*17
		ridge := make([]float64, c.w)
		for x := range ridge {
			ridge[x] = h * (l.top - l.rise*(fractal(float64(x)/w*l.scale, 0.5, 5, seed)-0.5)*2)
		}
		ground := c.field(9/w*l.scale, 3, 5, 400+uint32(i))
		fine := 1000 / w / l.grass
		c.rows(func(y int) {
			fy := float64(y)
			for x := range c.w {
				a := fy + 0.5 - ridge[x]
				if a <= 0 {
					continue
				}
				depth := (fy - ridge[x]) / (h - ridge[x] + 1)
				n := ground.pixel(float64(x), fy) - 0.5
				blades := noise(float64(x)*fine, fy*fine*0.4, seed+5) - 0.5
				p := mix(l.colour, l.shade, depth*0.8+n*1.2).plus((n*0.35 + blades*0.3) * l.texture)
				if a < 1 {
					p = mix(c.get(x, y), p, a)
				}
				c.set(x, y, p)
			}
		})
	}
}

var meadow = []hill{
	{0.70, 0.05, 2.2, hex(0x8fa9b8), hex(0x7d9aa8), 0.05, 8},
	{0.77, 0.06, 3.1, hex(0x6f8f74), hex(0x5c7f66), 0.12, 6},
	{0.86, 0.05, 2.4, hex(0x6d8c3f), hex(0x3f5f2a), 0.45, 3},
}

// drawSea lays water below the horizon, with waves that shrink with distance.
func (c *canvas) drawSea(horizon float64, near, far rgb) {
	w, h := float64(c.w), float64(c.h)
	c.rows(func(y int) {
		t := (float64(y)/h - horizon) / (1 - horizon)
		if t < 0 {
			return
		}
		for x := range c.w {
			depth := 0.015 + t
			n := fractal((float64(x)/w-0.5)*14/depth, 9*math.Log(depth+0.01)*6, 4, c.seed+900)
			p := mix(far, near, math.Sqrt(t)).plus((n - 0.5) * 0.3 * (0.3 + t))
			if n > 0.72 {
				p = mix(p, hex(0xf4f7f8), (n-0.72)*4*(0.2+t))
			}
			c.set(x, y, p)
		}
	})
}

// drawStudio is a paper roll: a wall that turns softly into a floor, lit from one side.
func (c *canvas) drawStudio(wall, floor rgb, bend float64) {
	w, h := float64(c.w), float64(c.h)
	c.shade(func(x, y float64) rgb {
		p := mix(wall, floor, smooth(bend-0.12, bend+0.12, y/h))
		d := math.Hypot((x-0.32*w)/w, (y-0.3*h)/h)
		return p.times(1.06 - 0.28*d)
	})
}

// drawWood is a bench top of planks with grain.
func (c *canvas) drawWood(light, dark rgb) {
	w, h := float64(c.w), float64(c.h)
	planks := 5.0
	c.shade(func(x, y float64) rgb {
		row := math.Floor(y / h * planks)
		seed := c.seed + uint32(row)*71
		u, v := x/w, y/h*planks-row
		bend := fractal(u*3, v*2, 3, seed) * 1.6
		rings := 0.5 + 0.5*math.Sin((v*5+bend*3+0.3*fractal(u*40, v*8, 2, seed+9))*2*math.Pi)
		fibre := noise(u*90, v*260, seed+3)
		p := mix(light, dark, 0.55*math.Pow(rings, 2)+0.3*fibre)
		p = p.times(0.92 + 0.12*float64(hash(int32(row), 4, c.seed)&255)/255)
		if v < 0.012 {
			p = p.times(0.45)
		}
		return p
	})
}

// drawCrowd puts small standing people along a line, as specks of colour with heads.
func (c *canvas) drawCrowd(line float64, count int, size float64) {
	coats := []rgb{hex(0x8c2f39), hex(0x2c4a6b), hex(0xd9a441), hex(0x3d5a45), hex(0xe6e1d6), hex(0x4b3b52), hex(0x5b6770)}
	skins := []rgb{hex(0xf1c9a5), hex(0xc68f63), hex(0x8d5a3b), hex(0x5b3a29)}
	for i := range count {
		r := func(k int32) float64 { return float64(hash(int32(i), k, c.seed+77)&0xffff) / 65535 }
		depth := (float64(i) + r(1)) / float64(count) // the far ones first
		s := size * (0.5 + depth) * float64(c.h)
		x, y := r(2)*float64(c.w), (line+0.13*depth)*float64(c.h)
		coat := coats[int(r(3)*float64(len(coats)))%len(coats)]
		c.fill(ellipse(x+0.5*s, y+0.02*s, 0.55*s, 0.07*s), 0.35, flat(hex(0x20301a)))
		c.fill([]point{{x - 0.13*s, y}, {x - 0.2*s, y - 0.55*s}, {x - 0.1*s, y - 0.78*s}, {x + 0.1*s, y - 0.78*s}, {x + 0.2*s, y - 0.55*s}, {x + 0.13*s, y}}, 1,
			func(px, py float64) rgb { return coat.times(0.75 + 0.5*(px-x+0.2*s)/(0.4*s)) })
		c.fill(ellipse(x, y-0.9*s, 0.1*s, 0.13*s), 1, flat(skins[int(r(4)*4)%4]))
	}
}

func ellipse(cx, cy, rx, ry float64) []point {
	const n = 48
	s := make([]point, n)
	for i := range s {
		a := 2 * math.Pi * float64(i) / n
		s[i] = point{cx + rx*math.Cos(a), cy + ry*math.Sin(a)}
	}
	return s
}
