package pictures

import (
	"fmt"
	"math"
)

// A person is somebody who doesn't exist: what a head and shoulders are drawn from.
type person struct {
	skin, hair, coat rgb
	turn             float64 // to the side, in radians
	tilt             float64 // of the head, in radians
	smile            float64 // 0–1
	long             bool    // hair
	beard            float64 // 0–1
	light            float64 // where light comes from, in radians: 0 is the front, less is the left
	seed             uint32
}

// somebody makes up the n-th person.
func somebody(n uint32) person {
	r := func(i int32) float64 { return float64(hash(int32(n), i, 4711)&0xffff) / 65535 }
	skins := []rgb{hex(0xf0c8a8), hex(0xd9a27c), hex(0xe3b591), hex(0xa8714c), hex(0x7d4d33), hex(0xc48a62)}
	hairs := []rgb{hex(0x2a1f1a), hex(0x5b3a22), hex(0x8a6239), hex(0x1b1a1c), hex(0xb8935a), hex(0x77706a)}
	coats := []rgb{hex(0x345b7a), hex(0x9c3b33), hex(0x3f6b4a), hex(0xc9a23b), hex(0x4b4a57), hex(0xd6d2c8)}
	p := person{
		skin: skins[int(6*r(1))%6], hair: hairs[int(6*r(2))%6], coat: coats[int(6*r(3))%6],
		turn: 0.7*r(4) - 0.35, tilt: 0.3*r(5) - 0.15, smile: r(6), long: r(7) < 0.5, light: 1.6*r(8) - 0.8, seed: n,
	}
	if !p.long && r(9) < 0.4 {
		p.beard = 0.4 + 0.6*r(10)
	}
	return p
}

// bump is a soft spot of 1 at its middle.
func bump(x, y, rx, ry float64) float64 { return math.Exp(-(x*x/(rx*rx) + y*y/(ry*ry))) }

// drawPerson draws a head whose face is s from the brow to the chin around (x, y), with shoulders below it.
// It gives the face's outline.
func (c *canvas) drawPerson(x, y, s float64, p person) []point {
	at := func(u, v float64) point { // of the head: u to the right, v down, in halves of the face
		sin, cos := math.Sincos(p.tilt)
		return point{x + s/2*(u*cos-v*sin), y + s/2*(u*sin+v*cos)}
	}
	oval := func(u, v, ru, rv float64) []point {
		var list []point
		for i := range 40 {
			sin, cos := math.Sincos(2 * math.Pi * float64(i) / 40)
			list = append(list, at(u+ru*cos, v+rv*sin))
		}
		return list
	}
	strands := func(base rgb) paint {
		return func(px, py float64) rgb {
			return base.times(0.75 + 0.5*fractal(px/s*16, py/s*4, 3, p.seed) + 0.12*(x-px)/s*math.Sin(p.light))
		}
	}
	// Shoulders and neck stay upright.
	var shoulders []point
	for i := range 41 {
		t := float64(i)/20 - 1
		shoulders = append(shoulders, point{x + 1.4*s*t, y + s*(0.8+0.45*math.Pow(math.Abs(t), 2.4))})
	}
	shoulders = append(shoulders, point{x + 1.5*s, y + 6*s}, point{x - 1.5*s, y + 6*s})
	if p.long {
		c.fill(oval(0, 0.35, 1.12, 1.75), 1, strands(p.hair.times(0.7)))
	}
	c.fill(shoulders, 1, func(px, py float64) rgb {
		return p.coat.times(0.72 + 0.3*fractal(px/s*3, py/s*3, 3, p.seed+5) - 0.18*(px-x)/s*math.Sin(-p.light) - 0.2*bump((px-x)/s, (py-y-0.8*s)/s, 0.5, 0.2))
	})
	neck := []point{{x - 0.29*s, y + 0.2*s}, {x + 0.29*s, y + 0.2*s}, {x + 0.33*s, y + 0.86*s}, {x, y + 1.02*s}, {x - 0.33*s, y + 0.86*s}}
	c.fill(neck, 1, func(px, py float64) rgb {
		return p.skin.times(0.78 - 0.3*bump((px-x)/s, (py-y-0.55*s)/s, 0.4, 0.2) + 0.1*(x-px)/s)
	})
	c.fill(oval(-0.1*p.turn, -0.2, 0.98, 1.08), 1, strands(p.hair))
	for _, side := range []float64{-1, 1} {
		if p.turn*side < 0.25 {
			c.fill(oval(side*0.84-0.1*p.turn, 0.02, 0.13, 0.24), 1, flat(p.skin.times(0.8)))
		}
	}
	face := oval(0, 0, 0.84, 1.04)
	sin, cos := math.Sincos(-p.tilt)
	lightX, lightZ := math.Sincos(p.light)
	c.fill(face, 1, func(px, py float64) rgb {
		dx, dy := 2*(px-x)/s, 2*(py-y)/s
		u, v := (dx*cos-dy*sin)/0.84, (dx*sin+dy*cos)/1.04
		// The head is round: what is seen at u lies at this place of a face that looks ahead.
		f := math.Sin(math.Asin(max(-1, min(1, u)))-p.turn) * 0.84
		depth := math.Sqrt(max(0, 1-0.8*u*u-0.6*v*v))
		shine := 0.5 + 0.52*max(0, u*lightX+depth*lightZ) - 0.1*v
		col := p.skin
		g := math.Abs(f)
		cheek := bump(g-0.46, v-0.26, 0.22, 0.18)
		col = mix(col, rgb{col.r, col.g * 0.72, col.b * 0.7}, 0.4*cheek)
		shine -= 0.2*bump(g-0.34, v+0.16, 0.2, 0.11) - 0.05*cheek     // sockets
		shine += 0.1 * bump(f, v-0.02, 0.05, 0.26)                    // bridge
		shine -= 0.13 * bump(f-0.1*sign(p.light), v-0.08, 0.06, 0.18) // beside it
		shine -= 0.22 * bump(f, v-0.34, 0.15, 0.04)                   // below the nose
		shine -= 0.3 * bump(g-0.075, v-0.29, 0.035, 0.022)            // nostrils
		shine -= 0.16 * bump(f, v-0.72, 0.2, 0.05)                    // below the lip
		shine += 0.05 * bump(f, v+0.6, 0.4, 0.2)                      // forehead
		out := col.times(shine)
		// Brows.
		brow := bump(g-0.36, v+0.34+0.3*(g-0.36)*(g-0.36)+0.06*(g-0.36), 0.2, 0.045)
		out = mix(out, p.hair.times(0.6), min(1, 1.1*brow))
		// Eyes: white, iris, pupil, a glint, lids.
		e, w := g-0.35, v+0.14
		if lid := e*e/(0.175*0.175) + w*w/(0.075*0.075); lid < 1.5 {
			white := mix(hex(0xefe9e2).times(0.75+0.25*shine), hex(0x4a3322), smooth(0.5, 1, lid)*0.6)
			iris := e*e + w*w*0.9
			white = mix(white, hex(0x4d3621), smooth(0.0068, 0.0048, iris))
			white = mix(white, hex(0x100c0a), smooth(0.0022, 0.0014, iris))
			white = mix(white, hex(0xffffff), smooth(0.0005, 0.0002, (e+0.02)*(e+0.02)+(w+0.025)*(w+0.025)))
			out = mix(white, out, smooth(0.9, 1.15, lid))
		}
		out = out.times(1 - 0.6*bump(e, w+0.075-1.2*e*e, 0.17, 0.022))
		// Lips: a dark line, the upper lip darker than the lower.
		wide := 0.3 + 0.06*p.smile
		bend := v - 0.54 + (0.16+0.55*p.smile)*f*f - 0.02*p.smile
		if g < wide {
			thin := 1 - (g/wide)*(g/wide)
			lip := rgb{col.r * 0.78, col.g * 0.5, col.b * 0.5}.times(shine + 0.1)
			out = mix(out, lip.times(0.85), smooth(0.09*thin+0.02, 0.06*thin, -bend)*smooth(-0.02, 0.01, -bend))
			out = mix(out, lip, smooth(0.12*thin+0.02, 0.08*thin, bend)*smooth(-0.02, 0.01, bend))
			if p.smile > 0.6 {
				out = mix(out, hex(0xf1ece4), smooth(0.045*thin+0.01, 0.03*thin, math.Abs(bend-0.01))*min(1, 2*thin))
			}
			out = out.times(1 - 0.65*bump(0, bend+0.012*p.smile, 1, 0.016)*min(1, 3*thin))
		}
		if p.beard > 0 {
			where := smooth(0.3, 0.6, v+0.5*g*g) * (1 - 0.9*bump(f, v-0.53, 0.24, 0.08))
			out = mix(out, p.hair.times(0.5+0.5*fractal(px/s*40, py/s*40, 2, p.seed+3)), p.beard*where)
		}
		// The hair's edge on the forehead and the temples.
		edge := smooth(-0.62, -0.78, v+0.12*math.Cos(5*f)-0.25*max(0, g-0.55)) + smooth(0.74, 0.82, g)*smooth(0.2, -0.2, v)
		out = mix(out, p.hair.times(0.7+0.5*fractal(px/s*20, py/s*5, 3, p.seed)), min(1, edge))
		return out.times(0.96 + 0.08*fractal(px/s*12, py/s*12, 3, p.seed+1))
	})
	return face
}

func sign(v float64) float64 {
	if v < 0 {
		return -1
	}
	return 1
}

// LabelledFaces draws crowds whose faces are known: from size pixels high up to twice that, turned, tilted and lit every way
// that a face that looks at the camera may be. X0 to Y1 are of the first face; boxes are of all.
func LabelledFaces(n, size int) (l Labelled, boxes [][4]float64) {
	const cols, rows = 4, 3
	c := newCanvas(cols*size*5/2, rows*size*3, uint32(9000+n))
	switch n % 3 {
	case 0:
		c.drawFoliage()
	case 1:
		c.drawStudio(hex(0xcfd2d4), hex(0xb9bcbf), 0.72)
	default:
		c.drawSky(clearDay)
	}
	for i := range cols * rows {
		r := func(k int32) float64 { return float64(hash(int32(n*100+i), k, 31)&0xffff) / 65535 }
		s := float64(size) * (1 + 0.4*r(1))
		x, y := (float64(i%cols)+0.5)*float64(size)*2.5, (float64(i/cols)+0.3)*float64(size)*3
		c.drawPerson(x, y, s, somebody(uint32(n*50+i)))
		boxes = append(boxes, [4]float64{x - 0.42*s, y - 0.5*s, x + 0.42*s, y + 0.5*s})
	}
	c.develop(0.2, 0.03)
	b := boxes[0]
	return Labelled{Name: fmt.Sprintf("faces-%d-%d", n, size), W: c.w, H: c.h, X0: b[0], Y0: b[1], X1: b[2], Y1: b[3], Pix: c.Pix}, boxes
}

// festivalFriends are five visitors before the kites.
func festivalFriends() ([]byte, error) {
	c := newCanvas(2400, 1600, 17)
	c.drawSky(clearDay)
	c.drawHills([]hill{{0.62, 0.05, 2, hex(0x7d9a5f), hex(0x557a3f), 0.2, 6}, {0.7, 0.03, 2, hex(0x7fa04a), hex(0x4a6b2e), 0.5, 3}})
	k := kite{1900, 270, 150, 0.4, redSilk}
	k.tail(c, 0, 0.5, 1.8, 0.2, 4, redSilk[2])
	k.draw(c, k.delta())
	for i, at := range [][3]float64{{420, 760, 250}, {1980, 800, 240}, {860, 690, 270}, {1530, 720, 260}, {1190, 900, 300}} {
		c.drawPerson(at[0], at[1], at[2], somebody(uint32(i+3)))
	}
	c.develop(0.25, 0.03)
	return baseline(c, 90)
}
