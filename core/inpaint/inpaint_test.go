package inpaint

import (
	"math"
	"slices"
	"testing"

	"echolane/core/raster"
)

// scenes are pictures whose every pixel is known, also where a hole will be.
var scenes = map[string]func(x, y, w, h float64) [3]float64{
	"sky":     func(x, y, w, h float64) [3]float64 { return [3]float64{90 + 90*y/h, 140 + 70*y/h, 220 + 20*y/h} },
	"bricks":  bricks,
	"edge":    func(x, y, w, h float64) [3]float64 { return mixed(y+0.25*x > 0.55*h, 230, 60) },
	"stripes": func(x, y, w, h float64) [3]float64 { return mixed(math.Mod(x+0.5*y, 24) < 12, 210, 90) },
	"grass": func(x, y, w, h float64) [3]float64 {
		n := noise(x, y)
		return [3]float64{50 + 60*n, 100 + 90*n, 40 + 40*n}
	},
}

func mixed(a bool, v, w float64) [3]float64 {
	if a {
		return [3]float64{v, v * 0.9, v * 0.7}
	}
	return [3]float64{w, w, w * 1.2}
}

func bricks(x, y, w, h float64) [3]float64 {
	row := math.Floor(y / 20)
	if math.Mod(y, 20) < 3 || math.Mod(x+20*math.Mod(row, 2), 40) < 3 {
		return [3]float64{200, 195, 190}
	}
	return [3]float64{160, 70, 50}
}

func noise(x, y float64) float64 {
	h := uint32(int(x)*374761393 + int(y)*668265263)
	h = (h ^ h>>13) * 1274126177
	return float64(h>>8&0xffff) / 65535
}

func draw(name string, w, h int) *raster.RGBA {
	p := raster.NewRGBA(w, h)
	for y := range h {
		for x := range w {
			c := scenes[name](float64(x), float64(y), float64(w), float64(h))
			copy(p.Row(y)[4*x:], []uint8{uint8(c[0]), uint8(c[1]), uint8(min(255, c[2])), 255})
		}
	}
	p.Opaque = true
	return p
}

func holeOf(w, h, x0, y0, x1, y1 int) []bool {
	hole := make([]bool, w*h)
	for y := max(0, y0); y < min(h, y1); y++ {
		for x := max(0, x0); x < min(w, x1); x++ {
			hole[y*w+x] = true
		}
	}
	return hole
}

// inHole is the PSNR of what was filled.
func inHole(a, b *raster.RGBA, hole []bool) float64 {
	var sum, n float64
	for i, in := range hole {
		if !in {
			continue
		}
		x, y := i%a.W, i/a.W
		for c := range 3 {
			d := float64(a.Row(y)[4*x+c]) - float64(b.Row(y)[4*x+c])
			sum += d * d
			n++
		}
	}
	return 10 * math.Log10(255*255/(sum/n+1e-9))
}

// filled is a picture with a hole that holds something else, filled.
func filled(t testing.TB, p *raster.RGBA, hole []bool) *raster.RGBA {
	t.Helper()
	q := p.Copy()
	for i, in := range hole {
		if in {
			copy(q.Row(i / p.W)[4*(i%p.W):], []uint8{255, 0, 255, 255})
		}
	}
	f, ok := New(q, hole)
	if !ok {
		t.Fatal("nothing to fill it from")
	}
	f.Fill(q, 0, 0, float64(q.W), float64(q.H), Hole{0, 0, p.W, p.H, hole})
	return q
}

func TestHolesAreFilledAsTheRestGoesOn(t *testing.T) {
	const w, h = 320, 240
	for _, c := range []struct {
		name           string
		x0, y0, x1, y1 int
		least          float64 // dB
	}{
		{"sky", 120, 60, 200, 140, 38}, {"sky", -1, -1, 60, 60, 30}, {"bricks", 120, 80, 180, 140, 22}, {"edge", 130, 90, 190, 150, 24},
		{"stripes", 120, 80, 180, 140, 22}, {"grass", 120, 80, 180, 140, 9}, {"bricks", 260, 180, 400, 400, 16}, {"edge", 250, 20, 400, 140, 16},
	} {
		p, hole := draw(c.name, w, h), holeOf(w, h, c.x0, c.y0, c.x1, c.y1)
		q := filled(t, p, hole)
		got := inHole(p, q, hole)
		t.Logf("%s: %.1f dB", c.name, got)
		if got < c.least {
			t.Errorf("%s %d,%d: %.1f dB, at least %.0f wanted", c.name, c.x0, c.y0, got, c.least)
		}
		for i, in := range hole { // nothing else changes, and nothing of what was there is left
			a, b := p.Row(i / w)[4*(i%w):][:4], q.Row(i / w)[4*(i%w):][:4]
			if !in && [4]uint8(a) != [4]uint8(b) {
				t.Fatalf("%s: %d is changed beside the hole", c.name, i)
			}
			if in && b[0] > 250 && b[1] < 5 && b[2] > 250 {
				t.Fatalf("%s: what was there shows at %d", c.name, i)
			}
		}
	}
}

func TestAFieldServesEverySize(t *testing.T) {
	big := draw("bricks", 640, 480)
	small := raster.ResampleRGBA(big, raster.Axis{Step: 2, Len: 320}, raster.Axis{Step: 2, Len: 240})
	hole := holeOf(320, 240, 120, 80, 180, 140)
	f, ok := New(small, hole)
	if !ok {
		t.Fatal("nothing to fill it from")
	}
	whole := holeOf(640, 480, 240, 160, 360, 280)
	q := big.Copy()
	f.Fill(q, 0, 0, 640, 480, Hole{0, 0, 640, 480, whole})
	if got := inHole(big, q, whole); got < 18 {
		t.Errorf("at twice the size: %.1f dB", got)
	}
}

func TestWhatCantBeFilled(t *testing.T) {
	p := draw("sky", 64, 64)
	if _, ok := New(p, holeOf(64, 64, 0, 0, 64, 40)); ok {
		t.Error("more than half of a picture is filled")
	}
	if _, ok := New(draw("sky", 6, 6), holeOf(6, 6, 1, 1, 3, 3)); ok {
		t.Error("a picture smaller than a patch is filled")
	}
	grid := make([]bool, 64*64) // no patch is whole
	for i := range grid {
		grid[i] = i%64%7 == 0 && i/64%7 == 0
	}
	if _, ok := New(p, grid); ok {
		t.Error("a picture without a whole patch is filled")
	}
	if f, ok := New(p, make([]bool, 64*64)); !ok {
		t.Error("no hole is refused")
	} else {
		f.Fill(p, 0, 0, 64, 64, Hole{})
	}
}

func TestVectorsSumTheSame(t *testing.T) {
	p := draw("grass", 64, 64)
	for i := range 500 {
		a, b := i%50*p.Stride+4*(i%40), (i*7)%50*p.Stride+4*((i*3)%50)
		if x, y := differences(p.Pix, a, b, p.Stride), differencesPlain(p.Pix, a, b, p.Stride); x != y {
			t.Fatalf("%d and %d: %d with vectors, %d without", a, b, x, y)
		}
	}
}

func TestVectorsAddTheSame(t *testing.T) {
	const w, h = 40, 30
	p := draw("grass", 64, 64)
	with, without := votes{make([]float32, 4*w*h), make([]float32, w*h), w}, votes{make([]float32, 4*w*h), make([]float32, w*h), w}
	for i := range 500 {
		at, from, weight := i*7%(h-7)*w+i*3%(w-7), i%50*p.Stride+4*(i%40), float32(math.Sin(float64(i))+1)
		with.add(at, p.Pix, from, p.Stride, weight)
		without.addPlain(at, p.Pix, from, p.Stride, weight)
	}
	if !slices.Equal(with.sums, without.sums) || !slices.Equal(with.weights, without.weights) {
		t.Error("vectors add to something else")
	}
}

func BenchmarkNew(b *testing.B) {
	p := draw("grass", 768, 512)
	hole := holeOf(768, 512, 200, 100, 400, 297) // a tenth
	for b.Loop() {
		if _, ok := New(p, hole); !ok {
			b.Fatal("nothing to fill it from")
		}
	}
}

func BenchmarkFill(b *testing.B) {
	p := draw("grass", 1728, 1152)
	small := raster.ResampleRGBA(p, raster.Axis{Step: 2.25, Len: 768}, raster.Axis{Step: 2.25, Len: 512})
	f, _ := New(small, holeOf(768, 512, 200, 100, 400, 297))
	hole := Hole{450, 225, 450, 443, holeOf(450, 443, 0, 0, 450, 443)}
	for b.Loop() {
		f.Fill(p, 0, 0, 1728, 1152, hole)
	}
}
