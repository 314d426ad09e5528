package avif

import (
	"bytes"
	"errors"
	"math"
	"testing"

	"echolane/core/codec"
	"echolane/core/raster"
)

func slope(w, h int) *raster.YCbCr {
	p := raster.New420(w, h, raster.Full)
	for y := range h {
		for x := range w {
			p.Y.Row(y)[x] = uint8(40 + 150*x/w + 20*y/h)
		}
	}
	for y := range p.Cb.H {
		for x := range p.Cb.W {
			p.Cb.Row(y)[x], p.Cr.Row(y)[x] = 110, 140
		}
	}
	return p
}

func TestPlanesGoInAndOut(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {2, 3}, {17, 31}, {64, 64}, {129, 65}} {
		p := slope(size[0], size[1])
		data, err := EncodePlanes(p, Settings{Quantizer: 8, Speed: 10})
		if err != nil {
			t.Fatal(err)
		}
		got, err := DecodePlanes(data)
		if err != nil {
			t.Fatalf("%v: %v", size, err)
		}
		for y := range size[1] {
			for x := range size[0] {
				if d := math.Abs(float64(got.Y.Row(y)[x]) - float64(p.Y.Row(y)[x])); d > 12 {
					t.Fatalf("%v: luma at %d, %d is off by %.0f", size, x, y, d)
				}
			}
		}
		info, err := Probe(data)
		if err != nil || info.W != size[0] || info.H != size[1] || info.Alpha || info.Frames != 1 || info.Depth != 8 || !info.Colour.IsSRGB() || info.Orientation != 1 {
			t.Errorf("%v: %+v, %v", size, info, err)
		}
	}
}

func TestCoarserIsSmallerAndQuickerIsLarger(t *testing.T) {
	p := slope(256, 200)
	for y := range 200 { // something to leave out
		for x := range 256 {
			p.Y.Row(y)[x] += uint8((x*31 + y*17) % 23)
		}
	}
	last := math.MaxInt
	for _, q := range []int{4, 16, 32, 48, 62} {
		data, err := EncodePlanes(p, Settings{Quantizer: q, Speed: 9})
		if err != nil {
			t.Fatal(err)
		}
		if len(data) >= last {
			t.Errorf("quantizer %d takes %d bytes, a finer one %d", q, len(data), last)
		}
		last = len(data)
	}
}

func TestTheQuantizerIsReadBack(t *testing.T) {
	for _, size := range [][2]int{{16, 16}, {64, 64}, {200, 130}, {1400, 900}, {4200, 64}} {
		for _, q := range []int{1, 7, 20, 33, 48, 60} {
			for _, speed := range []int{10, 8} {
				data, err := EncodePlanes(slope(size[0], size[1]), Settings{Quantizer: q, Speed: speed})
				if err != nil {
					t.Fatal(err)
				}
				if got, ok := QuantizerOf(data); !ok || got != q {
					t.Errorf("%v, speed %d: written at %d, read as %d, %v", size, speed, q, got, ok)
				}
				for i := range 32 {
					QuantizerOf(data[:len(data)*i/32])
				}
			}
		}
	}
	p := raster.NewRGBA(60, 40) // with alpha, whose own quantizer isn't the picture's
	for i := range p.Pix {
		p.Pix[i] = uint8(i)
	}
	data, err := EncodeRGBA(p, Settings{Quantizer: 44, Speed: 9, FullChroma: true, Facts: codec.Facts{Exif: []byte("MM\x00*\x00\x00\x00\x08\x00\x00")}})
	if err != nil {
		t.Fatal(err)
	}
	if got, ok := QuantizerOf(data); !ok || got != 44 {
		t.Errorf("with alpha: %d, %v", got, ok)
	}
	if _, ok := QuantizerOf([]byte("RIFF....WEBPVP8 ")); ok {
		t.Error("a WebP has an AV1 quantizer")
	}
}

func TestAlphaIsKept(t *testing.T) {
	p := raster.NewRGBA(60, 40)
	for y := range 40 {
		for x := range 60 {
			copy(p.Row(y)[4*x:], []byte{200, 60, 30, uint8(4 * x)})
		}
	}
	data, err := EncodeRGBA(p, Settings{Quantizer: 20, Speed: 9})
	if err != nil {
		t.Fatal(err)
	}
	got, err := Decode(data)
	if err != nil || got.RGBA.Opaque {
		t.Fatal(err)
	}
	for x := range 60 {
		if a := int(got.RGBA.Row(20)[4*x+3]); a < 4*x-8 || a > 4*x+8 {
			t.Errorf("alpha at %d is %d, want %d", x, a, 4*x)
		}
	}
	exact, err := EncodeLossless(p, Settings{Speed: 9})
	if err != nil {
		t.Fatal(err)
	}
	same, err := Decode(exact)
	if err != nil {
		t.Fatal(err)
	}
	for y := range 40 {
		if !bytes.Equal(same.RGBA.Row(y), p.Row(y)) {
			t.Fatalf("lossless, row %d differs", y)
		}
	}
}

func TestTurnsAndMirrorsAreOrientations(t *testing.T) {
	// What a picture's left upper corner is called: turned anticlockwise, then mirrored.
	corners := map[int]string{1: "ABDC", 2: "BACD", 3: "CDBA", 4: "DCAB", 5: "ADBC", 6: "DACB", 7: "CBDA", 8: "BCAD"}
	turn := func(s string) string { return s[1:2] + s[3:4] + s[0:1] + s[2:3] } // of rows AB and DC: BC and AD
	for turns := range 4 {
		for mirror := range 3 {
			s := "ABDC"
			for range turns {
				s = turn(s)
			}
			switch mirror {
			case 1:
				s = s[2:] + s[:2]
			case 2:
				s = s[1:2] + s[0:1] + s[3:4] + s[2:3]
			}
			if o := orientations[turns][mirror]; corners[o] != s {
				t.Errorf("%d turns, mirror %d: orientation %d shows %s, want %s", turns, mirror, o, corners[o], s)
			}
		}
	}
}

func TestBrokenFilesSayWhy(t *testing.T) {
	data, err := EncodePlanes(slope(40, 30), Settings{Quantizer: 30, Speed: 10})
	if err != nil {
		t.Fatal(err)
	}
	for name, bad := range map[string][]byte{"nothing": nil, "its name": data[:12], "half": data[:len(data)/2], "most": data[:len(data)-10]} {
		_, err := Decode(bad)
		var e *codec.Error
		if !errors.As(err, &e) || e.Type != Type || e.Problem == "" {
			t.Errorf("%s: %v", name, err)
		}
	}
}
