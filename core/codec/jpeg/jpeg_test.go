package jpeg

import (
	"bytes"
	"math"
	"math/rand/v2"
	"testing"

	"echolane/core/codec"
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
			d, err := Decode(data, codec.Want{Scale: 8, Planes: true})
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
	d, err := Decode(data, codec.Want{Scale: 8})
	if err != nil {
		t.Fatal(err)
	}
	if q := d.RGBA.Row(20)[4*20:]; q[0] < 200 || q[2] > 60 || q[4] > 60 || q[6] < 200 {
		t.Errorf("red and blue columns became %v", q[:8])
	}
	if planes, err := Decode(data, codec.Want{Scale: 8, Planes: true}); err != nil || planes.YCbCr != nil && planes.YCbCr.ChromaX != 1 {
		t.Errorf("%+v, %v", planes.YCbCr, err)
	}
}

func TestWeighedCoefficientsTakeFewerBytesAndStayClose(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {7, 9}, {16, 16}, {33, 20}, {160, 120}} {
		p := grain(size[0], size[1])
		c := Transform(p)
		before := 0
		for _, q := range []float64{5, 30, 62.5, 90, 100} {
			data, err := c.Write(q)
			if err != nil {
				t.Fatal(err)
			}
			again, _ := c.Write(q)
			if !bytes.Equal(data, again) {
				t.Errorf("%v at %v: a second writing differs", size, q)
			}
			if len(data) < before {
				t.Errorf("%v at %v has %d bytes, fewer than at the quality below", size, q, len(data))
			}
			before = len(data)
			d, err := Decode(data, codec.Want{Scale: 8, Planes: true})
			if err != nil {
				t.Fatal(err)
			}
			if d.YCbCr.W != size[0] || d.YCbCr.H != size[1] || d.YCbCr.ChromaX != 0.5 {
				t.Fatalf("%v came back as %d×%d", size, d.YCbCr.W, d.YCbCr.H)
			}
			if q == 100 {
				for y := range size[1] {
					for x, v := range d.YCbCr.Y.Row(y)[:size[0]] {
						if e := int(v) - int(p.Y.Row(y)[x]); e < -3 || e > 3 {
							t.Fatalf("%v at 100: the sample at %d, %d is off by %d", size, x, y, e)
						}
					}
				}
			}
		}
	}
	// At equal error libjpeg's rounding takes more bytes.
	p := grain(320, 240)
	mse := func(data []byte) float64 {
		d, err := Decode(data, codec.Want{Scale: 8, Planes: true})
		if err != nil {
			t.Fatal(err)
		}
		sum := 0.0
		for y := range p.H {
			for x, v := range d.YCbCr.Y.Row(y)[:p.W] {
				e := float64(v) - float64(p.Y.Row(y)[x])
				sum += e * e
			}
		}
		return sum
	}
	plain, err := EncodePlanes(p, 75)
	if err != nil {
		t.Fatal(err)
	}
	c, want := Transform(p), mse(plain)
	for q := 50.0; ; q++ {
		data, err := c.Write(q)
		if err != nil {
			t.Fatal(err)
		}
		if mse(data) <= want {
			if len(data) >= len(plain) {
				t.Errorf("%d bytes, libjpeg takes %d", len(data), len(plain))
			}
			break
		}
	}
}

func TestTheTransformIsTheStandards(t *testing.T) {
	var block, want [64]float32
	for i := range block {
		block[i] = float32((i*37+i*i*11)%255) - 128
	}
	for v := range 8 {
		for u := range 8 {
			sum := 0.0
			for y := range 8 {
				for x := range 8 {
					sum += float64(block[8*y+x]) * math.Cos(float64(2*x+1)*float64(u)*math.Pi/16) * math.Cos(float64(2*y+1)*float64(v)*math.Pi/16)
				}
			}
			for _, k := range []int{u, v} {
				if k == 0 {
					sum /= math.Sqrt2
				}
			}
			want[8*v+u] = float32(sum / 4)
		}
	}
	forwardDCT(&block)
	for i := range block {
		if d := block[i] - want[i]; d < -0.01 || d > 0.01 {
			t.Errorf("coefficient %d is %v, want %v", i, block[i], want[i])
		}
	}
}

// What lies below the rows that are wanted isn't decoded: it may even be missing.
func TestRowsBelowArentDecoded(t *testing.T) {
	p := raster.New420(90, 200, raster.Full)
	for i := range p.Y.Pix {
		p.Y.Pix[i] = uint8(i * 7)
	}
	for i := range p.Cb.Pix {
		p.Cb.Pix[i], p.Cr.Pix[i] = uint8(i*3), uint8(i*5)
	}
	plain, err := EncodePlainly(p, 80)
	if err != nil {
		t.Fatal(err)
	}
	progressive, err := EncodePlanes(p, 80)
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"baseline": plain, "progressive": progressive} {
		for _, scale := range []int{8, 4, 1} {
			for _, planes := range []bool{false, true} {
				whole, err := Decode(data, codec.Want{Scale: scale, Planes: planes})
				if err != nil {
					t.Fatal(err)
				}
				high := (200*scale + 7) / 8
				for _, rows := range []int{1, 2, 15, 16, 17, 31, high - 1, high, high + 5} {
					part, err := Decode(data, codec.Want{Scale: scale, Planes: planes, Rows: rows})
					if err != nil {
						t.Fatal(err)
					}
					rows = min(rows, high)
					if planes {
						a, b := part.YCbCr, whole.YCbCr
						if a.H != rows || a.Y.H != rows || a.Cb.H != min(b.Cb.H, int(math.Ceil(float64(rows)*a.ChromaY))) || a.W != b.W {
							t.Fatalf("%s, scale %d, %d rows: %d high, colour %d", name, scale, rows, a.Y.H, a.Cb.H)
						}
						for y := range a.Y.H {
							if !bytes.Equal(a.Y.Row(y), b.Y.Row(y)) {
								t.Fatalf("%s, scale %d, %d rows: row %d of luma differs", name, scale, rows, y)
							}
						}
						for y := range a.Cb.H {
							if !bytes.Equal(a.Cb.Row(y), b.Cb.Row(y)) || !bytes.Equal(a.Cr.Row(y), b.Cr.Row(y)) {
								t.Fatalf("%s, scale %d, %d rows: row %d of colour differs", name, scale, rows, y)
							}
						}
						continue
					}
					for y := range part.RGBA.H {
						if part.RGBA.H != rows || !bytes.Equal(part.RGBA.Row(y), whole.RGBA.Row(y)) {
							t.Fatalf("%s, scale %d, %d rows of %d: row %d differs", name, scale, part.RGBA.H, rows, y)
						}
					}
				}
			}
		}
	}
	if _, err := Decode(plain[:len(plain)*3/4], codec.Want{Planes: true, Rows: 64}); err != nil {
		t.Errorf("the upper third of three quarters of a file: %v", err)
	}
	if _, err := Decode(plain[:len(plain)*3/4], codec.Want{Planes: true}); err == nil {
		t.Error("three quarters of a file are taken for the whole")
	}
}

// What is shown without a file is what libjpeg-turbo's file shows.
func TestShownIsWhatAFileShows(t *testing.T) {
	r := rand.New(rand.NewPCG(81, 1))
	for n := range 120 {
		w, h := 1+r.IntN(70), 1+r.IntN(50)
		p := grain(w, h)
		for _, plane := range []*raster.Plane{&p.Y, &p.Cb, &p.Cr} {
			for i := range plane.Pix {
				switch n % 4 {
				case 1: // as rough as can be
					plane.Pix[i] = 255 * uint8(r.IntN(2))
				case 2:
					plane.Pix[i] = uint8(r.IntN(256))
				case 3:
					plane.Pix[i] = uint8(128 + 100*math.Sin(float64(i)/float64(3+n)))
				}
			}
		}
		quality := 1 + r.IntN(100)
		data, err := EncodePlainly(p, quality)
		if err != nil {
			t.Fatal(err)
		}
		file, err := Decode(data, codec.Want{Scale: 8, Planes: true})
		if err != nil {
			t.Fatal(err)
		}
		shown := Shown(p, quality)
		for i, planes := range [3][2]raster.Plane{{shown.Y, file.YCbCr.Y}, {shown.Cb, file.YCbCr.Cb}, {shown.Cr, file.YCbCr.Cr}} {
			for y := range planes[0].H {
				if a, b := planes[0].Row(y), planes[1].Row(y)[:planes[0].W]; !bytes.Equal(a[:planes[0].W], b) {
					t.Fatalf("%d×%d at quality %d, kind %d, plane %d, row %d: %v, in the file %v", w, h, quality, n%4, i, y, a, b)
				}
			}
		}
	}
}
