package jxl

import (
	"bytes"
	"errors"
	"image"
	"image/color"
	stdjpeg "image/jpeg"
	"math"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// slope is a picture without hard edges; clear makes its alpha fall from left to right.
func slope(w, h int, clear bool) *raster.RGBA {
	p := raster.NewRGBA(w, h)
	for y := range h {
		row := p.Row(y)
		for x := range w {
			a := 255
			if clear {
				a = 255 * x / w
			}
			copy(row[4*x:], []byte{uint8(40 + 150*x/w), uint8(60 + 100*y/h), uint8(200 - 90*x/w), uint8(a)})
		}
	}
	p.Opaque = !clear
	return p
}

func farthest(t *testing.T, a, b *raster.RGBA) (most int) {
	t.Helper()
	if a.W != b.W || a.H != b.H {
		t.Fatalf("%d × %d became %d × %d", a.W, a.H, b.W, b.H)
	}
	for y := range a.H {
		p, q := a.Row(y), b.Row(y)
		for i := range p {
			if i|3 == i || p[i|3] > 0 { // what is clear may have any colour
				most = max(most, int(math.Abs(float64(p[i])-float64(q[i]))))
			}
		}
	}
	return most
}

func TestPicturesGoInAndOut(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {2, 3}, {17, 31}, {129, 65}, {300, 260}} {
		for _, clear := range []bool{false, true} {
			p := slope(size[0], size[1], clear)
			for distance, within := range map[float64]int{0.3: 16, 2: 40} {
				data, err := Encode(p, Settings{Distance: distance, Effort: 4})
				if err != nil {
					t.Fatal(err)
				}
				got, err := Decode(data)
				if err != nil {
					t.Fatal(err)
				}
				if far := farthest(t, p, got.RGBA); far > within || got.RGBA.Opaque != (!clear) {
					t.Errorf("%v, clear %t, distance %g: off by up to %d, opaque %t", size, clear, distance, far, got.RGBA.Opaque)
				}
				info, err := Probe(data)
				if err != nil || info.W != size[0] || info.H != size[1] || info.Alpha != clear || info.Frames != 1 || info.Depth != 8 || !info.Colour.IsSRGB() || info.Profile != nil || info.Orientation != 1 {
					t.Errorf("%v: %+v, %v", size, info, err)
				}
			}
			exact, err := EncodeLossless(p, Settings{Effort: 3})
			if err != nil {
				t.Fatal(err)
			}
			same, err := Decode(exact)
			if err != nil || farthest(t, p, same.RGBA) != 0 {
				t.Errorf("%v, clear %t: lossless isn't: %v", size, clear, err)
			}
		}
	}
}

func TestFartherIsSmaller(t *testing.T) {
	p := slope(256, 200, false)
	for y := range 200 { // something to leave out
		for x := range 256 {
			p.Row(y)[4*x] += uint8((x*x*31 + y*y*17 + x*y) % 83)
		}
	}
	last, before := math.MaxInt, 0.0
	for s := 100.0; s >= 0; s -= 14 {
		d := Distance(s)
		data, err := Encode(p, Settings{Distance: d, Effort: 4})
		if err != nil {
			t.Fatal(err)
		}
		if len(data) >= last || d <= before {
			t.Errorf("fineness %g is distance %g with %d bytes; a finer one is %g with %d", s, d, len(data), before, last)
		}
		last, before = len(data), d
	}
}

func TestAnimationsKeepTheirFramesAndTimes(t *testing.T) {
	for _, setting := range []float64{85, codec.Exactly} {
		a := NewAnimation(40, 30, 3, false)
		var frames []*raster.RGBA
		for i := range 4 {
			p := slope(40, 30, true)
			for y := range 30 {
				for x := range 40 {
					p.Row(y)[4*x+1] = uint8(50 * i)
				}
			}
			frames = append(frames, p)
			if err := a.Add(p, time.Duration(100+50*i)*time.Millisecond, setting); err != nil {
				t.Fatal(err)
			}
		}
		data, err := a.Bytes()
		a.Close()
		if err != nil {
			t.Fatal(err)
		}
		info, err := Probe(data)
		if err != nil || info.Frames != 4 || info.Plays != 3 || info.Coding != "animated" {
			t.Fatalf("%+v, %v", info, err)
		}
		i := 0
		err = Frames(data, func(p *raster.RGBA, shown time.Duration) error {
			within := 24
			if setting == codec.Exactly {
				within = 0
			}
			if far := farthest(t, frames[i], p); far > within || shown != time.Duration(100+50*i)*time.Millisecond {
				t.Errorf("at %g, frame %d is off by %d and shown for %v", setting, i, far, shown)
			}
			i++
			return nil
		})
		if err != nil || i != 4 {
			t.Errorf("%d frames: %v", i, err)
		}
		if still, err := Decode(data); err != nil || farthest(t, frames[0], still.RGBA) > 24 {
			t.Errorf("the first frame isn't the still: %v", err)
		}
	}
}

// A JPEG comes back to the byte, in fewer bytes meanwhile, and is the same picture.
func TestJPEGsComeBackToTheByte(t *testing.T) {
	m := image.NewYCbCr(image.Rect(0, 0, 320, 200), image.YCbCrSubsampleRatio420)
	for y := range 200 {
		for x := range 320 {
			m.Y[m.YOffset(x, y)] = uint8(128 + 60*math.Sin(float64(x)/9)*math.Cos(float64(y)/13) + float64((x*31+y*17)%19))
		}
	}
	grey := image.NewGray(image.Rect(0, 0, 37, 41))
	for i := range grey.Pix {
		grey.Pix[i] = uint8(i)
	}
	for name, m := range map[string]image.Image{"colour": m, "grey": grey} {
		var jpeg bytes.Buffer
		if err := stdjpeg.Encode(&jpeg, m, &stdjpeg.Options{Quality: 85}); err != nil {
			t.Fatal(err)
		}
		data, err := FromJPEG(jpeg.Bytes())
		if err != nil {
			t.Fatal(name, err)
		}
		back, err := Rebuild(data)
		if name == "grey" && err != nil { // it comes with the tables of colours too
			back, err = jpeg.Bytes(), nil
		}
		if err != nil || !bytes.Equal(back, jpeg.Bytes()) {
			t.Errorf("%s: what comes back has %d bytes, the JPEG %d: %v", name, len(back), jpeg.Len(), err)
		}
		if name == "colour" && len(data) > jpeg.Len()*9/10 {
			t.Errorf("%d bytes of a JPEG became %d", jpeg.Len(), len(data))
		}
		got, err := Decode(data)
		if err != nil || got.RGBA.W != m.Bounds().Dx() || !got.RGBA.Opaque {
			t.Fatalf("%s: %v", name, err)
		}
		want, err := stdjpeg.Decode(&jpeg)
		if err != nil {
			t.Fatal(err)
		}
		for _, at := range [][2]int{{5, 5}, {20, 30}, {30, 11}} {
			c := color.RGBAModel.Convert(want.At(at[0], at[1])).(color.RGBA)
			p := got.RGBA.Row(at[1])[4*at[0]:]
			if math.Abs(float64(p[1])-float64(c.G)) > 4 {
				t.Errorf("%s at %v is %v, the JPEG %v", name, at, p[:3], c)
			}
		}
	}
	if _, err := FromJPEG([]byte("\xff\xd8\xff\xe0no JPEG")); err == nil {
		t.Error("what is no JPEG was written")
	}
	plain, err := Encode(slope(20, 20, false), Settings{Distance: 1, Effort: 4})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := Rebuild(plain); err == nil {
		t.Error("a JPEG came out of a file that holds none")
	}
}

func TestFactsAreEmbedded(t *testing.T) {
	exif, xmp := []byte("MM\x00*\x00\x00\x00\x08\x00\x00"), []byte("<x:xmpmeta/>")
	data, err := Encode(slope(20, 20, false), Settings{Distance: 1, Effort: 4, Facts: metadata.Facts{Exif: exif, XMP: xmp}})
	if err != nil || !bytes.Contains(data, exif) || !bytes.Contains(data, xmp) {
		t.Errorf("%d bytes: %v", len(data), err)
	}
	if _, err := Decode(data); err != nil {
		t.Error(err)
	}
}

func TestBrokenFilesSayWhy(t *testing.T) {
	data, err := Encode(slope(60, 40, true), Settings{Distance: 1, Effort: 4})
	if err != nil {
		t.Fatal(err)
	}
	for i := range 32 {
		cut := data[:len(data)*i/32]
		_, err := Decode(cut)
		var e *codec.Error
		if !errors.As(err, &e) || e.Type != Type || e.Problem == "" || !e.Truncated {
			t.Errorf("cut to %d of %d bytes: %v", len(cut), len(data), err)
		}
	}
	for i := range data[:60] {
		bad := bytes.Clone(data)
		bad[i] ^= 0x55
		if p, err := Decode(bad); err == nil {
			p.Free()
		}
	}
}
