package pictures

import (
	"fmt"
	"math"
)

// Labelled is a picture whose subject is known, since we drew it.
type Labelled struct {
	Name           string
	W, H           int
	X0, Y0, X1, Y1 float64 // the subject's box, in pixels
	Pix            []uint8 // RGBA, opaque
}

// LabelledSet draws the pictures for judging where subjects are found: kites in wide skies, products on plain
// grounds, faces among foliage, of three shapes each, the subject anywhere.
func LabelledSet() []Labelled {
	var list []Labelled
	sizes := [][2]int{{480, 320}, {320, 480}, {640, 256}, {400, 400}}
	skies := []sky{clearDay, dawn, dusk, seaDay, overcast}
	silks := [][]rgb{redSilk, blueSilk, tealSilk, sunSilk, greenSilk, plumSilk}
	for i := range 72 {
		r := func(n int32) float64 { return float64(hash(int32(i), n, 77)&0xffff) / 65535 }
		size := sizes[i/3%len(sizes)]
		c := newCanvas(size[0], size[1], uint32(1000+i))
		w, h := float64(size[0]), float64(size[1])
		least := math.Min(w, h)
		var shapes [][]point
		var name string
		switch i % 3 {
		case 0:
			c.drawSky(skies[i/3%len(skies)])
			c.drawHills(meadow)
			k := kite{(0.12 + 0.76*r(1)) * w, (0.14 + 0.4*r(2)) * h, least * (0.09 + 0.07*r(3)), r(4)*0.9 - 0.45, silks[i/3%len(silks)]}
			k.tail(c, 0, 0.5, 1.5, 0.2, 3, k.colours[1])
			panels := [][]panel{k.delta(), k.diamond(), k.rokkaku(), k.sled()}[i/3%4]
			k.draw(c, panels)
			shapes, name = outlines(panels), "kite"
		case 1:
			grounds := [][2]rgb{{hex(0xf4f4f1), hex(0xe7e6e1)}, {hex(0xcfd2d4), hex(0xb9bcbf)}, {hex(0x3b4148), hex(0x2b3036)}, {hex(0xe9d8c0), hex(0xd8c3a5)}}
			g := grounds[i/3%len(grounds)]
			c.drawStudio(g[0], g[1], 0.72)
			k := kite{(0.22 + 0.56*r(1)) * w, (0.28 + 0.4*r(2)) * h, least * (0.13 + 0.08*r(3)), r(4)*0.8 - 0.4, silks[(i/3+2)%len(silks)]}
			panels := [][]panel{k.rokkaku(), k.sled(), k.diamond(), k.delta()}[i/3%4]
			c.shadow(outlines(panels), k.size*0.1, k.size*0.16, k.size*0.15, 0.35)
			k.draw(c, panels)
			shapes, name = outlines(panels), "product"
		default:
			c.drawFoliage()
			x, y, s := (0.2+0.6*r(1))*w, (0.25+0.45*r(2))*h, least*(0.11+0.07*r(3))
			skin := []rgb{hex(0xe8b998), hex(0xc68a63), hex(0x9a6240), hex(0xf0cbb0)}[i/3%4]
			shapes, name = c.drawFace(x, y, s, skin, []rgb{hex(0x3a2a20), hex(0x7a4a28), hex(0x1c1a1a), hex(0xb98a4a)}[i/3/2%4]), "face"
		}
		c.develop(0.25, 0.02)
		l := Labelled{Name: fmt.Sprintf("%s-%02d", name, i), W: c.w, H: c.h, X0: w, Y0: h, Pix: c.Pix}
		for _, s := range shapes {
			x0, y0, x1, y1 := bounds(s)
			l.X0, l.Y0, l.X1, l.Y1 = math.Min(l.X0, x0), math.Min(l.Y0, y0), math.Max(l.X1, x1), math.Max(l.Y1, y1)
		}
		l.X0, l.Y0, l.X1, l.Y1 = math.Max(0, l.X0), math.Max(0, l.Y0), math.Min(w, l.X1), math.Min(h, l.Y1)
		list = append(list, l)
	}
	return list
}

// drawFoliage fills the canvas with leaves in many greens.
func (c *canvas) drawFoliage() {
	dark, light := hex(0x1e3a1c), hex(0x7fa04c)
	c.shade(func(x, y float64) rgb {
		return mix(dark, light, 0.7*fractal(x/40, y/40, 4, c.seed)+0.1)
	})
	for i := range c.w * c.h / 260 {
		r := func(n int32) float64 { return float64(hash(int32(i), n, c.seed+9)&0xffff) / 65535 }
		s := 4 + 9*r(3)
		leaf := ellipse(r(1)*float64(c.w), r(2)*float64(c.h), s, s*(0.35+0.3*r(4)))
		c.fill(leaf, 0.75, flat(mix(dark, light, r(5)).times(0.8+0.4*r(6))))
	}
}

// drawFace is an oval with hair, eyes and a mouth, as far as a finder can tell.
func (c *canvas) drawFace(x, y, s float64, skin, hair rgb) [][]point {
	crown, oval := ellipse(x, y-0.28*s, 0.86*s, 0.95*s), ellipse(x, y, 0.72*s, s)
	c.fill(crown, 1, flat(hair))
	c.fill(oval, 1, func(px, py float64) rgb {
		return skin.times(1.04 - 0.22*math.Abs(px-x+0.3*s)/s - 0.08*(py-y)/s)
	})
	for _, side := range []float64{-1, 1} {
		c.fill(ellipse(x+side*0.27*s, y-0.12*s, 0.12*s, 0.06*s), 1, flat(hex(0xf5f2ec)))
		c.fill(ellipse(x+side*0.27*s, y-0.12*s, 0.055*s, 0.06*s), 1, flat(hex(0x2b2320)))
	}
	c.fill(ellipse(x, y+0.45*s, 0.24*s, 0.07*s), 0.9, flat(hex(0xa84d48)))
	return [][]point{crown, oval}
}
