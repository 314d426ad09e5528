package png

import (
	"bytes"
	"image"
	"image/color"
	stdpng "image/png"
	"math/rand/v2"
	"testing"

	"echolane/core/raster"
)

// pictures are one of every form, in odd sizes.
func pictures(w, h int) map[string]*raster.RGBA {
	r := rand.New(rand.NewPCG(uint64(w), uint64(h)))
	draw := func(opaque bool, pixel func(x, y int) [4]uint8) *raster.RGBA {
		p := raster.NewRGBA(w, h)
		p.Opaque = opaque
		for y := range h {
			for x := range w {
				c := pixel(x, y)
				copy(p.Row(y)[4*x:], c[:])
			}
		}
		return p
	}
	colours := func(n int) func(x, y int) [4]uint8 {
		return func(x, y int) [4]uint8 { v := uint8((x/3 + y/5) % n); return [4]uint8{v * 9, v * 5, 255 - v, 255} }
	}
	return map[string]*raster.RGBA{
		"2 colours": draw(true, colours(2)), "4 colours": draw(true, colours(4)), "13 colours": draw(true, colours(13)), "200 colours": draw(true, colours(200)),
		"colours and holes": draw(false, func(x, y int) [4]uint8 { return [4]uint8{uint8(x % 5), 0, 9, uint8(y % 3 * 100)} }),
		"grey":              draw(true, func(x, y int) [4]uint8 { v := uint8(x*7 + y*y); return [4]uint8{v, v, v, 255} }),
		"slope":             draw(true, func(x, y int) [4]uint8 { return [4]uint8{uint8(x), uint8(y), uint8(x + y), 255} }),
		"noise":             draw(true, func(_, _ int) [4]uint8 { return [4]uint8{uint8(r.Uint32()), uint8(r.Uint32()), uint8(r.Uint32()), 255} }),
		"transparent slope": draw(false, func(x, y int) [4]uint8 { return [4]uint8{uint8(x), uint8(y), 7, uint8(x + 3*y)} }),
	}
}

func TestEveryFormIsExactWithEveryFilter(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {7, 3}, {33, 40}, {301, 203}} {
		for name, p := range pictures(size[0], size[1]) {
			check := func(how string, data []byte) {
				t.Helper()
				m, err := stdpng.Decode(bytes.NewReader(data))
				if err != nil {
					t.Fatalf("%s of %v, %s: %v", name, size, how, err)
				}
				for y := range size[1] {
					for x := range size[0] {
						want := p.Row(y)[4*x : 4*x+4]
						if got := color.NRGBAModel.Convert(m.At(x, y)).(color.NRGBA); got != (color.NRGBA{want[0], want[1], want[2], want[3]}) && want[3] != 0 {
							t.Fatalf("%s of %v, %s: %v at %d, %d, want %v", name, size, how, got, x, y, want)
						}
					}
				}
			}
			data, err := Encode(p)
			if err != nil {
				t.Fatal(err)
			}
			check("as chosen", data)
			again, _ := Encode(p)
			if !bytes.Equal(again, data) {
				t.Errorf("%s of %v is written in two ways", name, size)
			}
			f := formOf(exact(p))
			for way := range filterWays {
				z, err := compressed(f.filtered(way, 0, f.h, nil), 1)
				if err != nil {
					t.Fatal(err)
				}
				head := bytes.Index(data, []byte("IDAT")) - 4
				check([]string{"none", "sub", "up", "average", "paeth", "row by row"}[way], chunk(chunk(bytes.Clone(data[:head]), "IDAT", z), "IEND", nil))
			}
		}
	}
}

func TestTrialsTakeNoMoreThanTheUsualWay(t *testing.T) {
	for name, p := range pictures(301, 203) {
		data, err := Encode(p)
		if err != nil {
			t.Fatal(err)
		}
		var usual bytes.Buffer
		if err := stdpng.Encode(&usual, exact(p)); err != nil {
			t.Fatal(err)
		}
		if len(data) > usual.Len()+usual.Len()/50+16 {
			t.Errorf("%s takes %d bytes, the standard library %d", name, len(data), usual.Len())
		}
	}
}

func TestAPaletteIsPackedAsTightAsItGoes(t *testing.T) {
	for n, depth := range map[int]byte{1: 1, 2: 1, 3: 2, 4: 2, 5: 4, 16: 4, 17: 8, 256: 8} {
		m := image.NewPaletted(image.Rect(0, 0, 20, 20), nil)
		for i := range n {
			m.Palette = append(m.Palette, color.NRGBA{uint8(i), 1, 2, 255})
			m.Pix[i] = uint8(i)
		}
		if f := formOf(m); f.depth != depth || len(f.palette) != 3*n || f.dim != nil {
			t.Errorf("%d colours: %d bits, a palette of %d bytes, transparency %v", n, f.depth, len(f.palette), f.dim)
		}
	}
}
