package raster

import (
	"math"
	"math/rand/v2"
	"testing"
)

func TestReducingKeepsFewColoursAsTheyAre(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 4))
	colours := make([][4]uint8, 200)
	for i := range colours {
		colours[i] = [4]uint8{uint8(r.UintN(64) * 4), uint8(r.UintN(64) * 4), uint8(r.UintN(64) * 4), 255}
	}
	colours[0] = [4]uint8{} // nothing at all
	p := NewRGBA(90, 70)
	for y := range p.H {
		for x := range p.W {
			copy(p.Row(y)[4*x:], colours[r.IntN(len(colours))][:])
		}
	}
	for _, dither := range []bool{false, true} {
		m := Reduce(p, 256, dither)
		got := m.Pixels()
		for y := range p.H {
			for i, v := range p.Row(y) {
				if got.Row(y)[i] != v {
					t.Fatalf("dither %v: pixel %d of row %d is %v, was %v", dither, i/4, y, got.Row(y)[i/4*4:i/4*4+4], p.Row(y)[i/4*4:i/4*4+4])
				}
			}
		}
	}
}

func TestReducingStaysWithinItsColours(t *testing.T) {
	p := scene(rand.New(rand.NewPCG(2, 9)), 120, 90, false)
	p.Unpremultiply()
	for _, n := range []int{2, 3, 16, 255, 256} {
		m := Reduce(p, n, true)
		if len(m.Palette) > n || len(m.Palette) < 2 || len(m.Pix) != 120*90 {
			t.Errorf("asked for %d colours, got %d for %d pixels", n, len(m.Palette), len(m.Pix))
		}
		for _, i := range m.Pix {
			if int(i) >= len(m.Palette) {
				t.Fatalf("a pixel is colour %d of %d", i, len(m.Palette))
			}
		}
	}
}

// Dithering gives up single pixels for the mean of many.
func TestDitheringKeepsTheMean(t *testing.T) {
	p := NewRGBA(256, 64)
	p.Opaque = true
	for y := range p.H {
		for x := range p.W {
			v := uint8(x)
			copy(p.Row(y)[4*x:], []uint8{v, v, v, 255})
		}
	}
	off := func(dither bool) (worst float64) {
		got := Reduce(p, 8, dither).Pixels()
		for x := 16; x+16 <= 240; x += 16 {
			var a, b float64
			for y := range p.H {
				for i := x; i < x+16; i++ {
					a, b = a+float64(p.Row(y)[4*i]), b+float64(got.Row(y)[4*i])
				}
			}
			worst = max(worst, max(a-b, b-a)/(16*64))
		}
		return worst
	}
	if plain, spread := off(false), off(true); spread > plain/2 {
		t.Errorf("the mean of 16 columns is off by %.1f with dithering, by %.1f without", spread, plain)
	}
}

func TestPlanesOfPixels(t *testing.T) {
	p := NewRGBA(3, 3)
	p.Fill(200, 40, 90, 255)
	y := p.To420()
	if y.Y.Row(2)[2] != 94 || y.Cb.Row(1)[1] != 126 || y.Cr.Row(1)[1] != 204 {
		t.Errorf("200 40 90 is %d %d %d", y.Y.Row(2)[2], y.Cb.Row(1)[1], y.Cr.Row(1)[1])
	}
	l := y.ToLimited()
	if l.Y.Row(0)[0] != 97 || l.Range != Limited {
		t.Errorf("luma 94 is %d in limited range", l.Y.Row(0)[0])
	}
}

// Whichever is guessed, the first of the nearest centres is found.
func TestClosestWhateverIsGuessed(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 8))
	for range 300 {
		centres := make([][4]float64, 1+r.IntN(40))
		for i := range centres { // few values, so that many are as near
			centres[i] = [4]float64{float64(r.IntN(4)), float64(r.IntN(4)), float64(r.IntN(4)), float64(r.IntN(2))}
		}
		v := [4]float64{float64(r.IntN(4)), 1.5, float64(r.IntN(4)), 0.5}
		best, want := math.Inf(1), 0
		for i, c := range centres {
			var d float64
			for j := range v {
				d += (v[j] - c[j]) * (v[j] - c[j]) * channelWeight[j]
			}
			if d < best {
				best, want = d, i
			}
		}
		for guess := range centres {
			if got := closest(centres, v, guess); got != want {
				t.Fatalf("%v of %v is nearest to the centre %d, with %d guessed it's %d", v, centres, want, guess, got)
			}
		}
	}
}
