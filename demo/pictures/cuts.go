package pictures

import (
	"fmt"
	"math"
)

// A Cut is a picture of which is known how much of each pixel is its subject.
type Cut struct {
	Name  string // its subject, ground and number
	Busy  bool   // the ground
	W, H  int
	Pix   []uint8 // RGBA, opaque
	Alpha []uint8 // the subject's share
}

// LabelledCuts draws subjects with hard and soft edges, holes, fringes and thin tails before plain, uneven and busy grounds, some
// with a shadow.
func LabelledCuts() []Cut {
	var list []Cut
	silks := [][]rgb{redSilk, blueSilk, sunSilk, tealSilk}
	const w, h = 480, 360
	for i := range 30 {
		r := func(n int32) float64 { return float64(hash(int32(i), n, 505)&0xffff) / 65535 }
		ground := newCanvas(w, h, uint32(300+i))
		kind := i % 3
		subject := (i / 3) % 5
		grounds := [][2]rgb{{hex(0xf2f2ee), hex(0xe4e3de)}, {hex(0xc9d2d6), hex(0xa9b4ba)}, {hex(0x31404a), hex(0x222c33)}, {hex(0xe8d9c2), hex(0xcdb593)}}
		g := grounds[(i/3)%len(grounds)]
		switch kind {
		case 0:
			ground.shade(func(x, y float64) rgb { return mix(g[0], g[1], y/h) })
		case 1:
			ground.drawStudio(g[0], g[1], 0.7)
		default:
			if i%2 == 0 {
				ground.drawFoliage()
			} else {
				ground.drawSky(clearDay)
				ground.drawHills(meadow)
			}
		}
		top := newCanvas(w, h, uint32(700+i))
		clear(top.Pix)
		x, y, s := (0.35+0.3*r(1))*w, (0.38+0.16*r(2))*h, float64(h)*(0.2+0.08*r(3))
		silk := silks[(i/3+kind)%len(silks)]
		var name string
		var shapes [][]point
		switch subject {
		case 0:
			k := kite{x, y, s, r(4)*0.8 - 0.4, silk}
			panels := k.rokkaku()
			k.draw(top, panels)
			name, shapes = "kite", outlines(panels)
		case 1:
			c := somebody(uint32(40 + i))
			c.coat = silk[0]
			shapes = [][]point{top.drawPerson(x, y*0.8, s, c)}
			name = "person"
		case 2:
			outer, inner := ellipse(x, y, s, s*0.9), ellipse(x, y, s*0.5, s*0.42)
			outer = append(outer, outer[0], inner[0]) // a ring is one outline, which goes in, round the other way and back out
			for j := len(inner) - 1; j >= 0; j-- {
				outer = append(outer, inner[j])
			}
			top.fill(outer, 1, func(px, py float64) rgb { return silk[0].times(0.85 + 0.25*math.Sin((px+py)/s*3)) })
			name, shapes = "ring", [][]point{outer}
		case 3:
			body := ellipse(x, y, s*0.45, s*0.6)
			top.fill(body, 1, func(px, py float64) rgb { return silk[0].times(1.05 - 0.4*math.Abs(px-x)/s) })
			for j := range 60 {
				a := 2 * math.Pi * (float64(j) + r(int32(50+j))) / 60
				l := 0.25 + 0.3*r(int32(150+j))
				sin, cos := math.Sincos(a)
				hair := stroke([]point{{x + cos*s*0.42, y + sin*s*0.57}, {x + cos*s*(0.45+l*0.6), y + sin*s*(0.6+l*0.6)}, {x + cos*s*(0.45+l) + 3, y + sin*s*(0.6+l)}}, 2.6, 0.6)
				top.fill(hair, 0.9, flat(silk[0].times(0.9)))
			}
			name, shapes = "fringe", [][]point{body}
		default:
			k := kite{x, y * 0.85, s * 0.8, r(4)*0.6 - 0.3, silk}
			k.tail(top, 0, 0.5, 1.2, 0.2, 3, silk[1])
			panels := k.diamond()
			k.draw(top, panels)
			name, shapes = "tail", outlines(panels)
		}
		if kind == 1 && subject != 1 {
			ground.shadow(shapes, s*0.1, s*0.18, s*0.2, 0.3)
		}
		c := Cut{Name: fmt.Sprintf("%s before %s %d", name, [3]string{"plain", "uneven", "busy"}[kind], i), Busy: kind == 2, W: w, H: h, Pix: ground.Pix, Alpha: make([]uint8, w*h)}
		for p := range c.Alpha {
			a := int(top.Pix[4*p+3])
			c.Alpha[p] = uint8(a)
			for k := range 3 { // top is premultiplied
				c.Pix[4*p+k] = uint8(min(255, int(top.Pix[4*p+k])+(int(c.Pix[4*p+k])*(255-a)+127)/255))
			}
			c.Pix[4*p+3] = 255
		}
		ground.develop(0.12, 0.015)
		list = append(list, c)
	}
	return list
}
