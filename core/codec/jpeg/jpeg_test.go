package jpeg

import (
	"bytes"
	"testing"

	"echolane/core/raster"
)

func grain(w, h int) *raster.YCbCr {
	p := raster.New420(w, h, raster.Full)
	for y := range h {
		for x := range w {
			p.Y.Row(y)[x] = uint8(60 + (x*7+y*13)%90 + x/2)
		}
	}
	for y := range p.Cb.H {
		for x := range p.Cb.W {
			p.Cb.Row(y)[x], p.Cr.Row(y)[x] = uint8(100+x), uint8(150-y)
		}
	}
	return p
}

func TestQualityIsReadFromTheTables(t *testing.T) {
	p := grain(32, 32)
	for q := 1; q <= 100; q++ {
		for name, encode := range map[string]func(*raster.YCbCr, int) ([]byte, error){"progressive": EncodePlanes, "plain": EncodePlainly} {
			data, err := encode(p, q)
			if err != nil {
				t.Fatal(err)
			}
			got := Quality(data)
			slack := 1
			if q < 4 { // where nearly all steps are as large as a byte holds
				slack = 3
			}
			if got < q-slack || got > q+slack {
				t.Errorf("%s at %d: the tables say %d", name, q, got)
			}
		}
	}
	data, _ := EncodePlanes(p, 70)
	for i := range 200 {
		Quality(data[:min(i, len(data))]) // and never beyond the end
	}
	for _, broken := range []string{"", "\xff\xd8", "\xff\xd8\xff\xdb\x00", "\xff\xd8\xff\xdb\x00\x05\x00\x01\x02", "\xff\xd8\xff\xda\x00\x02", "no JPEG at all"} {
		if q := Quality([]byte(broken)); q != 0 {
			t.Errorf("%q has quality %d", broken, q)
		}
	}
}

func TestPlainAndProgressiveHaveTheSamePixels(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {15, 17}, {16, 16}, {33, 20}, {100, 7}} {
		p := grain(size[0], size[1])
		a, err := EncodePlanes(p, 60)
		if err != nil {
			t.Fatal(err)
		}
		b, err := EncodePlainly(p, 60)
		if err != nil {
			t.Fatal(err)
		}
		var planes [2]*raster.YCbCr
		for i, data := range [][]byte{a, b} {
			d, err := Decode(data, Options{Scale: 8, Planes: true})
			if err != nil {
				t.Fatal(err)
			}
			planes[i] = d.YCbCr
		}
		for y := range size[1] {
			if !bytes.Equal(planes[0].Y.Row(y)[:size[0]], planes[1].Y.Row(y)[:size[0]]) {
				t.Fatalf("%v: row %d differs", size, y)
			}
		}
	}
}

func TestColourAtFullSize(t *testing.T) {
	p := raster.NewRGBA(40, 40)
	p.Opaque = true
	for y := range 40 {
		for x := range 40 {
			copy(p.Row(y)[4*x:], [][]byte{{220, 30, 30, 255}, {30, 30, 220, 255}}[x%2])
		}
	}
	data, err := EncodeRGBA(p, 95)
	if err != nil {
		t.Fatal(err)
	}
	d, err := Decode(data, Options{Scale: 8})
	if err != nil {
		t.Fatal(err)
	}
	if q := d.RGBA.Row(20)[4*20:]; q[0] < 200 || q[2] > 60 || q[4] > 60 || q[6] < 200 {
		t.Errorf("red and blue columns became %v", q[:8])
	}
	if planes, err := Decode(data, Options{Scale: 8, Planes: true}); err != nil || planes.YCbCr != nil && planes.YCbCr.ChromaX != 1 {
		t.Errorf("%+v, %v", planes.YCbCr, err)
	}
}
