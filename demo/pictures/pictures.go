// Package pictures draws the pictures of Kestrel & Twine, a workshop that makes kites. All of them are made
// up, the same bytes every time, and meant to look like photographs to an encoder and to an eye.
package pictures

import (
	"fmt"
	"image"
	"image/color"
	"math"
	"os"
	"path/filepath"
	"sync"

	"golang.org/x/image/font"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
	"golang.org/x/image/font/opentype"
	"golang.org/x/image/math/fixed"
	"golang.org/x/sync/errgroup"
)

// A Picture is one file of the catalogue.
type Picture struct {
	File string // its name
	Alt  string // what it shows
	draw func() ([]byte, error)
}

// Version changes whenever a picture does; a folder drawn by another version is drawn anew.
const Version = "2"

// Catalogue lists all pictures.
func Catalogue() []Picture {
	return []Picture{
		{"delta-red.jpg", "A red delta kite high in a summer sky", deltaRed},
		{"festival-dawn.jpg", "Kites over the festival meadow at dawn", festivalDawn},
		{"box-kite-cliff.jpg", "A box kite above the cliff path", boxKiteCliff},
		{"coast-panorama.jpg", "The whole bay with five kites on the wind", coastPanorama},
		{"dragon-tail.jpg", "A diamond kite with a tail of four metres", dragonTail},
		{"rokkaku-studio.jpg", "A six-sided fighting kite on grey paper", rokkakuStudio},
		{"sled-blue.jpg", "A blue sled kite on white", sledBlue},
		{"festival-crowd.jpg", "The crowd below the kites on Saturday", festivalCrowd},
		{"festival-friends.jpg", "Five visitors before a red kite", festivalFriends},
		{"spool-turned.jpg", "A spool of twine on the bench, taken with the camera turned", spoolTurned},
		{"silk-wide-colour.jpg", "Dyed silk in colours beyond most screens", silkWide},
		{"poster-press.jpg", "The festival poster as it went to press", posterPress},
		{"archive-1962.jpg", "The founders' first kite, 1962", archive1962},
		{"mark.png", "The mark of Kestrel & Twine", mark},
		{"wind-chart.png", "Which kite for which wind", windChart},
		{"dusk-deep.png", "The last kite at dusk", duskDeep},
		{"pattern-sheet.png", "A cutting pattern for the small delta", patternSheet},
		{"launch.gif", "A kite going up", launch},
	}
}

// Write draws the catalogue into dir unless this version of it is there already. after is told of every
// picture that was drawn.
func Write(dir string, after func(done, all int, file string)) error {
	stamp := filepath.Join(dir, ".drawn")
	if had, err := os.ReadFile(stamp); err == nil && string(had) == Version {
		return nil
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return fmt.Errorf("draw the demo's pictures: %w", err)
	}
	list := Catalogue()
	var mu sync.Mutex
	done := 0
	var group errgroup.Group
	group.SetLimit(2) // while one is encoded, which takes one core, the next is drawn
	for _, p := range list {
		group.Go(func() error {
			data, err := p.draw()
			if err != nil {
				return fmt.Errorf("draw %s: %w", p.File, err)
			}
			if err := os.WriteFile(filepath.Join(dir, p.File), data, 0o644); err != nil {
				return fmt.Errorf("draw the demo's pictures: %w", err)
			}
			mu.Lock()
			defer mu.Unlock()
			done++
			after(done, len(list), p.File)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return err
	}
	return os.WriteFile(stamp, []byte(Version), 0o644)
}

// Draw gives one picture of the catalogue.
func Draw(file string) ([]byte, error) {
	for _, p := range Catalogue() {
		if p.File == file {
			return p.draw()
		}
	}
	return nil, fmt.Errorf("the catalogue has no %s", file)
}

func deltaRed() ([]byte, error) {
	c := newCanvas(6000, 4000, 1)
	c.drawSky(clearDay)
	c.drawHills(meadow)
	k := kite{4350, 1250, 720, 0.32, redSilk}
	k.tail(c, -0.1, 0.45, 1.9, 0.16, 4, redSilk[3])
	k.tail(c, 0.1, 0.45, 1.6, 0.2, 3, redSilk[1])
	k.line(c, 0, 0.1, point{900, 3700}, 5)
	k.draw(c, k.delta(), k.shape(0, -0.62, 0, 0.5), k.shape(-0.6, 0.02, 0.6, 0.02))
	c.develop(0.35, 0.13)
	return baseline(c, 92)
}

func festivalDawn() ([]byte, error) {
	c := newCanvas(5600, 3733, 2)
	c.drawSky(dawn)
	c.drawHills(meadow)
	c.drawCrowd(0.84, 260, 0.03)
	silks := [][]rgb{tealSilk, sunSilk, plumSilk, blueSilk, greenSilk, redSilk}
	for i := range 15 {
		r := func(n int32) float64 { return float64(hash(int32(i), n, 5)&0xffff) / 65535 }
		k := kite{(0.05 + 0.9*r(1)) * 5600, (0.06 + 0.5*r(2)) * 3733, 90 + 260*r(3)*r(3), r(4)*0.9 - 0.45, silks[i%len(silks)]}
		k.line(c, 0, 0, point{k.x - 500 + 900*r(5), 3300}, 2)
		k.tail(c, 0, 0.5, 1.8, 0.2, 3, k.colours[1])
		panels := [][]panel{k.delta(), k.diamond(), k.rokkaku(), k.sled()}[i%4]
		k.draw(c, panels)
	}
	c.develop(0.4, 0.13)
	return baseline(c, 92)
}

func boxKiteCliff() ([]byte, error) {
	c := newCanvas(4000, 5600, 3)
	c.drawSky(seaDay)
	c.drawSea(0.62, hex(0x1c5570), hex(0x7fb0c0))
	c.drawHills([]hill{{0.82, 0.12, 1.3, hex(0x8a9a55), hex(0x4a5f30), 0.5, 3}})
	k := kite{1250, 1900, 620, -0.35, sunSilk}
	k.line(c, 0, 0.6, point{3300, 5200}, 4)
	k.draw(c, k.box(), k.boxSpars()...)
	c.develop(0.3, 0.13)
	return baseline(c, 92)
}

func coastPanorama() ([]byte, error) {
	c := newCanvas(6400, 1600, 4)
	c.drawSky(seaDay)
	c.drawSea(0.58, hex(0x23627e), hex(0x8fbccb))
	c.drawHills([]hill{{0.93, 0.09, 3, hex(0xd9c99a), hex(0xa58f5e), 0.3, 3}})
	for i, x := range []float64{700, 1500, 2500, 4400, 5750} {
		k := kite{x, 330 + 130*float64(i%3), 95 + 35*float64(i%2), 0.3 - 0.14*float64(i), [][]rgb{redSilk, tealSilk, sunSilk, plumSilk, blueSilk}[i]}
		k.line(c, 0, 0, point{x - 320, 1430}, 2)
		k.tail(c, 0, 0.6, 1.5, 0.2, 3, k.colours[1])
		k.draw(c, [][]panel{k.delta(), k.diamond(), k.rokkaku(), k.sled(), k.diamond()}[i])
	}
	c.develop(0.2, 0.06)
	return baseline(c, 88)
}

func dragonTail() ([]byte, error) {
	c := newCanvas(1800, 3200, 5)
	c.drawSky(overcast)
	c.drawHills([]hill{{0.92, 0.04, 2, hex(0x56683f), hex(0x2f4026), 0.4, 3}})
	k := kite{640, 620, 330, -0.2, plumSilk}
	k.tail(c, 0, 1, 5.6, 0.85, 11, plumSilk[2])
	k.line(c, 0, -0.2, point{1500, 3050}, 3)
	k.draw(c, k.diamond(), k.shape(0, -0.95, 0, 1), k.shape(-0.72, -0.28, 0.72, -0.28))
	c.develop(0.3, 0.06)
	return progressive(c, 90)
}

func rokkakuStudio() ([]byte, error) {
	c := newCanvas(2400, 2400, 6)
	c.drawStudio(hex(0xcfd2d4), hex(0xb9bcbf), 0.72)
	k := kite{1480, 1060, 640, 0.12, []rgb{hex(0x14213d), hex(0xfca311), hex(0xf4f1e8), hex(0xc8202f)}}
	panels := k.rokkaku()
	c.shadow(outlines(panels), 90, 150, 120, 0.42)
	k.draw(c, panels, k.shape(0, -1, 0, 1), k.shape(-0.8, -0.5, 0.8, -0.5), k.shape(-0.8, 0.5, 0.8, 0.5))
	c.develop(0.22, 0.035)
	return baseline(c, 92)
}

func sledBlue() ([]byte, error) {
	c := newCanvas(2560, 1600, 7)
	c.drawStudio(hex(0xf4f4f1), hex(0xe7e6e1), 0.7)
	k := kite{1700, 760, 480, -0.16, blueSilk}
	panels := k.sled()
	c.shadow(outlines(panels), 70, 120, 100, 0.35)
	k.tail(c, -0.3, 0.9, 0.55, 0.1, 2, blueSilk[2])
	k.tail(c, 0.3, 0.9, 0.55, 0.1, 2, blueSilk[2])
	k.draw(c, panels, k.shape(-0.45, -0.9, -0.45, 0.9), k.shape(0.45, -0.9, 0.45, 0.9))
	c.develop(0.12, 0.03)
	return baseline(c, 90)
}

func festivalCrowd() ([]byte, error) {
	c := newCanvas(3000, 2000, 8)
	c.drawSky(clearDay)
	c.drawHills([]hill{{0.5, 0.05, 2, hex(0x7d9a5f), hex(0x557a3f), 0.2, 6}, {0.58, 0.03, 2, hex(0x7fa04a), hex(0x4a6b2e), 0.5, 3}})
	k := kite{2200, 430, 230, 0.4, tealSilk}
	k.line(c, 0, 0, point{1300, 1500}, 2)
	k.tail(c, 0, 0.5, 1.8, 0.2, 4, tealSilk[2])
	k.draw(c, k.delta())
	c.drawCrowd(0.72, 420, 0.11)
	c.develop(0.3, 0.07)
	return progressive(c, 88)
}

// spoolTurned is stored lying on its side: shown upright it stands.
func spoolTurned() ([]byte, error) {
	c := newCanvas(1600, 2400, 9)
	c.drawWood(hex(0xc79a63), hex(0x7b4f2a))
	cx, cy, r := 980.0, 950.0, 330.0
	body := []point{{cx - r, cy - 420}, {cx + r, cy - 420}, {cx + r, cy + 420}, {cx - r, cy + 420}}
	rims := [][]point{ellipse(cx, cy-430, r*1.35, 110), ellipse(cx, cy+430, r*1.35, 120)}
	c.shadow(append([][]point{body}, rims...), 150, 110, 110, 0.55)
	wood := func(x, y float64) rgb {
		return mix(hex(0xd8b27c), hex(0x8a5a30), smooth(-1, 1, (x-cx)/(1.35*r))+0.25*noise(x/60, y/8, 91))
	}
	c.fill(rims[1], 1, wood)
	c.fill(body, 1, func(x, y float64) rgb {
		u := (x - cx) / r
		twine := 0.5 + 0.5*math.Sin((y+24*u*u)/9*math.Pi)
		fibre := noise(x/5, y/3, 92) - 0.5
		return mix(hex(0xb5372f), hex(0xe8735f), twine).times(1.08 - 0.55*math.Abs(u+0.25)).plus(0.1 * fibre)
	})
	c.fill(rims[0], 1, func(x, y float64) rgb { return wood(x, y).times(1.12) })
	c.fill(ellipse(cx, cy-430, 70, 26), 1, flat(hex(0x3a2415)))
	end := kite{cx + 300, cy + 250, 420, 0.5, nil}
	loose := make([]point, 80)
	for i := range loose {
		t := float64(i) / 79
		loose[i] = end.at(t*0.9-0.2*math.Sin(t*7), 0.2+t*1.7+0.25*math.Cos(t*9))
	}
	c.fill(stroke(loose, 15, 12), 1, flat(hex(0xc4473c)))
	c.develop(0.4, 0.06)
	lying := image.NewRGBA(image.Rect(0, 0, c.h, c.w)) // turned against the clock, so that 6 turns it back
	for y := range c.h {
		for x := range c.w {
			lying.SetRGBA(y, c.w-1-x, c.RGBAAt(x, y))
		}
	}
	return baseline(lying, 90, exifTurned(6))
}

func silkWide() ([]byte, error) {
	c := newCanvas(2000, 1500, 10)
	bands := []rgb{hex(0xff1f00), hex(0xff9a00), hex(0xf4ff00), hex(0x00ff2a), hex(0x00ffd0), hex(0x0040ff), hex(0xd000ff)}
	folds := c.field(0.0022, 0.35, 4, 40)
	c.shade(func(x, y float64) rgb {
		f := folds.pixel(x, y)
		u := x/2000*float64(len(bands)) + (f-0.5)*2.2 + 0.12*math.Sin(y/180)
		i := min(max(int(math.Floor(u)), 0), len(bands)-1)
		p := bands[i].times(0.62 + 0.75*math.Pow(f, 1.4))
		edge := u - math.Floor(u)
		weave := noise(x/3, y/3, 41) - 0.5
		return p.times(0.7 + 0.3*smooth(0, 0.06, min(edge, 1-edge))).plus(0.05 * weave)
	})
	c.develop(0.25, 0.03)
	return baseline(c, 92, displayP3())
}

func posterPress() ([]byte, error) {
	c := newCanvas(1400, 2000, 11)
	c.shade(func(x, y float64) rgb { return mix(hex(0xf3e7cf), hex(0xe9c48c), y/2000) })
	for i := range 24 {
		a := float64(i) * math.Pi / 12
		sun := kite{700, 1500, 1800, a, nil}
		c.fill(sun.shape(0, 0, 0.13, -1, -0.13, -1), 0.5, flat(hex(0xe2803e)))
	}
	c.fill(ellipse(700, 1500, 330, 330), 1, flat(hex(0xd8412f)))
	k := kite{620, 760, 430, -0.3, tealSilk}
	k.tail(c, 0, 0.5, 1.5, 0.2, 3, tealSilk[2])
	k.draw(c, k.delta())
	if err := c.text("KESTREL & TWINE", gobold.TTF, 118, 700, 210, hex(0x1b2a3a)); err != nil {
		return nil, err
	}
	if err := c.text("kite festival on the long meadow", goregular.TTF, 62, 700, 1930, hex(0x1b2a3a)); err != nil {
		return nil, err
	}
	c.develop(0.05, 0.02)
	return cmyk(c, 92)
}

func archive1962() ([]byte, error) {
	c := newCanvas(1700, 1300, 12)
	c.drawSky(overcast)
	c.drawHills(meadow)
	c.drawCrowd(0.86, 5, 0.16)
	k := kite{520, 420, 190, -0.3, redSilk}
	k.line(c, 0, -0.2, point{900, 1100}, 3)
	k.tail(c, 0, 1, 2, 0.25, 5, redSilk[1])
	k.draw(c, k.diamond())
	c.develop(0.6, 0.16)
	m := image.NewGray(c.Bounds())
	for y := range c.h {
		for x := range c.w {
			m.Set(x, y, c.At(x, y))
		}
	}
	return baseline(m, 85)
}

func mark() ([]byte, error) {
	c := newCanvas(800, 800, 13)
	teal := hex(0x0f6f6a)
	k := kite{400, 320, 250, 0.5, nil}
	c.fill(k.shape(0, -1, -0.75, -0.25, 0, -0.12), 1, flat(teal))
	c.fill(k.shape(0, -1, 0.75, -0.25, 0, -0.12), 1, flat(teal.times(0.75)))
	c.fill(k.shape(-0.75, -0.25, 0, 1, 0, -0.12), 0.9, flat(hex(0xf2b632)))
	c.fill(k.shape(0.75, -0.25, 0, 1, 0, -0.12), 0.9, flat(hex(0xd8902a)))
	loop := make([]point, 100)
	for i := range loop {
		t := float64(i) / 99
		loop[i] = point{280 + 330*t - 120*math.Sin(t*8), 530 + 70*t + 60*math.Sin(t*11)}
	}
	c.fill(stroke(loop, 11, 7), 1, flat(teal))
	if err := c.text("Kestrel & Twine", gobold.TTF, 88, 400, 740, teal); err != nil {
		return nil, err
	}
	return plainPNG(c.RGBA)
}

func windChart() ([]byte, error) {
	c := newCanvas(1200, 800, 14)
	c.shade(func(float64, float64) rgb { return hex(0xfbfaf6) })
	ink := hex(0x1b2a3a)
	rows := []struct {
		name     string
		from, to float64
		colour   rgb
	}{
		{"Delta, light silk", 1, 4, hex(0xc8202f)}, {"Diamond", 2, 5, hex(0xf2b632)}, {"Sled", 2, 6, hex(0x1f5fa8)},
		{"Six-sided", 3, 6, hex(0x0f7d78)}, {"Box", 4, 8, hex(0x6a2c70)},
	}
	if err := c.text("Which kite for which wind", gobold.TTF, 46, 600, 90, ink); err != nil {
		return nil, err
	}
	for b := 0; b <= 8; b++ {
		x := 340 + float64(b)*95
		c.fill([]point{{x, 140}, {x + 2, 140}, {x + 2, 690}, {x, 690}}, 1, flat(hex(0xd8d5cc)))
		if err := c.text(fmt.Sprint(b), goregular.TTF, 28, x, 735, ink); err != nil {
			return nil, err
		}
	}
	for i, r := range rows {
		y := 180 + float64(i)*102
		x0, x1 := 340+r.from*95, 340+r.to*95
		c.fill([]point{{x0, y}, {x1, y}, {x1, y + 62}, {x0, y + 62}}, 1, flat(r.colour))
		if err := c.text(r.name, goregular.TTF, 30, 170, y+42, ink); err != nil {
			return nil, err
		}
	}
	if err := c.text("wind force", goregular.TTF, 26, 720, 780, ink); err != nil {
		return nil, err
	}
	// A small palette: every colour rounded to steps of 32.
	at := map[color.RGBA]uint8{}
	m := image.NewPaletted(c.Bounds(), nil)
	for y := range c.h {
		for x := range c.w {
			v := c.RGBAAt(x, y)
			r := func(u uint8) uint8 { return uint8(min(255, (int(u)+16)/32*32)) }
			v = color.RGBA{r(v.R), r(v.G), r(v.B), 255}
			i, ok := at[v]
			if !ok {
				i = uint8(len(at))
				at[v] = i
				m.Palette = append(m.Palette, v)
			}
			m.Pix[y*m.Stride+x] = i
		}
	}
	return plainPNG(m)
}

func duskDeep() ([]byte, error) {
	k := kite{0.28, 0.36, 0.09, 0.3, nil}
	inside := func(x, y float64) bool {
		s, c := math.Sincos(-k.angle)
		dx, dy := (x-k.x)*1.6/k.size, (y-k.y)/k.size
		u, v := dx*c-dy*s, dx*s+dy*c
		return math.Abs(u)/0.75+math.Abs(v) < 1
	}
	return plainPNG(deep(1600, 1000, func(x, y float64) rgb {
		p := mix(hex(0x10183a), hex(0xe08a52), math.Pow(y/0.85, 2.2))
		d := math.Hypot((x-0.7)*1.6, y-0.82)
		p = mix(p, hex(0xffc98a), 0.8*math.Exp(-9*d*d))
		ridge := 0.84 - 0.1*(fractal(x*4, 0.3, 5, 1401)-0.5)
		if y > ridge {
			return mix(hex(0x1a1426), hex(0x0a0812), (y-ridge)*5).plus(0.02 * (fractal(x*60, y*60, 3, 1402) - 0.5))
		}
		if inside(x, y) {
			return mix(hex(0x2a1420), hex(0x7a2a30), (x-k.x)*6+0.5)
		}
		return p
	}))
}

func patternSheet() ([]byte, error) {
	c := newCanvas(1100, 850, 16)
	c.shade(func(x, y float64) rgb {
		if int(x)%50 == 0 || int(y)%50 == 0 {
			return hex(0xc9d8e4)
		}
		return hex(0xf4f0e4)
	})
	k := kite{520, 470, 400, 0, nil}
	ink := hex(0x1f3f66)
	for _, p := range k.delta() {
		c.fill(p.outline, 0.16, flat(hex(0x3f6fa8)))
		closed := append(append([]point(nil), p.outline...), p.outline[0])
		c.fill(stroke(closed, 4, 4), 1, flat(ink))
	}
	for i, s := range []string{"cut 2", "cut 2", "keel"} {
		if err := c.text(s, goregular.TTF, 26, []float64{330, 710, 520}[i], []float64{520, 520, 560}[i], ink); err != nil {
			return nil, err
		}
	}
	if err := c.text("Small delta · 1 : 5", gobold.TTF, 40, 550, 90, ink); err != nil {
		return nil, err
	}
	return interlacedPNG(c)
}

func launch() ([]byte, error) {
	frames := make([]*canvas, 18)
	ramp := [2]rgb{hex(0x3f7fc0), hex(0xd6e8f2)}
	for i := range frames {
		c := newCanvas(480, 360, 17)
		c.shade(func(_, y float64) rgb { return mix(ramp[0], ramp[1], y/360) })
		t := float64(i) / 17
		c.fill([]point{{0, 310}, {160, 296}, {330, 306}, {480, 292}, {480, 360}, {0, 360}}, 1, flat(greenSilk[0]))
		k := kite{120 + 230*t, 290 - 210*math.Sqrt(t), 46, 0.5 * math.Sin(t*7), redSilk}
		k.line(c, 0, 0, point{110, 320}, 1.2)
		k.tail(c, 0, 0.5, 1.5, 0.25, 2, redSilk[3])
		k.draw(c, k.delta())
		frames[i] = c
	}
	return animate(frames, ramp, append(greenSilk[:1:1], redSilk...), 8)
}

// text writes s centred on x, its baseline at y.
func (c *canvas) text(s string, ttf []byte, size, x, y float64, colour rgb) error {
	f, err := opentype.Parse(ttf)
	if err != nil {
		return fmt.Errorf("read the font: %w", err)
	}
	face, err := opentype.NewFace(f, &opentype.FaceOptions{Size: size, DPI: 72})
	if err != nil {
		return fmt.Errorf("read the font: %w", err)
	}
	defer face.Close()
	d := font.Drawer{Dst: c.RGBA, Src: image.NewUniform(color.RGBA{to8(colour.r), to8(colour.g), to8(colour.b), 255}), Face: face}
	d.Dot = fixed.Point26_6{X: fixed.I(int(x)) - d.MeasureString(s)/2, Y: fixed.I(int(y))}
	d.DrawString(s)
	return nil
}
