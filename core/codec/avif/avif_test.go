package avif

import (
	"bytes"
	"errors"
	"math"
	"testing"

	"echolane/core/codec"
	"echolane/core/metadata"
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
	data, err := EncodeRGBA(p, Settings{Quantizer: 44, Speed: 9, FullChroma: true, Facts: metadata.Facts{Exif: []byte("MM\x00*\x00\x00\x00\x08\x00\x00")}})
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

// What is a part of a step coarser is written otherwise, and comes about as near: by how much depends on the picture.
func TestQuartersOfAStepStayNear(t *testing.T) {
	p := slope(320, 240)
	grain := func(x, y int) float64 { return float64((uint32(x*7919+y*104729+13)*2654435761)>>16&255)/255 - 0.5 }
	for y := range 240 { // clouds: grain of all sizes, the larger the stronger
		for x := range 320 {
			v := 128.0
			for size := 2; size <= 64; size *= 2 {
				i, j, fx, fy := x/size, y/size, float64(x%size)/float64(size), float64(y%size)/float64(size)
				top := grain(i+size, j)*(1-fx) + grain(i+1+size, j)*fx
				bottom := grain(i+size, j+1)*(1-fx) + grain(i+1+size, j+1)*fx
				v += 12 * math.Sqrt(float64(size)) * (top*(1-fy) + bottom*fy)
			}
			p.Y.Row(y)[x] = uint8(min(255, max(0, v)))
		}
	}
	made := func(s Settings) (data []byte, off float64) {
		s.Speed = 7
		data, err := EncodePlanes(p, s)
		if err != nil {
			t.Fatal(err)
		}
		if q, ok := QuantizerOf(data); !ok || q != s.Quantizer {
			t.Errorf("%+v is read back as %d, %v", s, q, ok)
		}
		got, err := DecodePlanes(data)
		if err != nil {
			t.Fatal(err)
		}
		for y := range 240 {
			a, b := p.Y.Row(y), got.Y.Row(y)
			for x := range a {
				d := float64(a[x]) - float64(b[x])
				off += d * d
			}
		}
		return data, off
	}
	for _, q := range []int{26, 33, 37, 41, 45} {
		last, fine := made(Settings{Quantizer: q})
		_, next := made(Settings{Quantizer: q + 1})
		if next <= fine {
			t.Errorf("%d is off by %.0f, %d by %.0f", q, fine, q+1, next)
		}
		for k := 1; k <= 3; k++ {
			data, v := made(Settings{Quantizer: q, Coarser: k})
			if bytes.Equal(data, last) {
				t.Errorf("%d and %d quarters is as before", q, k)
			}
			if slack := 0.6 * (next - fine); v < fine-slack || v > next+slack {
				t.Errorf("%d and %d quarters is off by %.0f; a step is from %.0f to %.0f", q, k, v, fine, next)
			}
			last = data
		}
	}
}

// What repeats itself takes fewer bytes where blocks may be copied.
func TestCopiesTakeFewerBytes(t *testing.T) {
	p := raster.NewRGBA(320, 320)
	for y := range 320 {
		for x := range 320 { // a sheet of glyphs in few colours
			q := p.Row(y)[4*x:]
			q[0], q[1], q[2], q[3] = 250, 250, 245, 255
			if i, j := x%32, y%40; i > 4 && i < 26 && j > 6 && j < 32 && (i*i+j*j*3+i*j)%97 < 40 {
				q[0], q[1], q[2] = 30, 60, 120
			}
		}
	}
	p.Opaque = true
	s := Settings{Quantizer: 24, Speed: 6, FullChroma: true}
	plain, err := EncodeRGBA(p, s)
	if err != nil {
		t.Fatal(err)
	}
	s.Copies = true
	copied, err := EncodeRGBA(p, s)
	if err != nil || len(copied) > len(plain)*3/4 {
		t.Errorf("%d bytes with copies, %d without; %v", len(copied), len(plain), err)
	}
}

func TestSmallPicturesGetMoreEffort(t *testing.T) {
	for _, c := range []struct {
		effort       codec.Effort
		pixels, want int
	}{
		{codec.First, 1000, FirstSpeed}, {codec.First, 4e6, FirstSpeed},
		{codec.Usual, 640 * 427, KeptSpeed - 1}, {codec.Usual, 1600 * 1067, KeptSpeed},
		{codec.Thorough, 640 * 427, ThoroughSpeed - 1}, {codec.Thorough, 1200 * 800, ThoroughSpeed - 1}, {codec.Thorough, 1600 * 1067, ThoroughSpeed},
	} {
		if got := SpeedFor(c.effort, c.pixels); got != c.want {
			t.Errorf("effort %d at %d pixels has speed %d, want %d", c.effort, c.pixels, got, c.want)
		}
	}
}
