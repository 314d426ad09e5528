package bmp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"testing"

	"golang.org/x/image/bmp"

	"echolane/core/codec"
)

func TestPicturesComeOut(t *testing.T) {
	full := image.NewNRGBA(image.Rect(0, 0, 33, 17))
	paletted := image.NewPaletted(full.Rect, color.Palette{color.NRGBA{10, 20, 30, 255}, color.NRGBA{200, 100, 50, 255}})
	for y := range 17 {
		for x := range 33 {
			full.SetNRGBA(x, y, color.NRGBA{uint8(7 * x), uint8(14 * y), 90, 255})
			paletted.SetColorIndex(x, y, uint8((x+y)%2))
		}
	}
	clear := image.NewNRGBA(full.Rect)
	copy(clear.Pix, full.Pix)
	clear.Pix[3] = 40
	for name, m := range map[string]image.Image{"24 bits": full, "palette": paletted, "32 bits": clear} {
		var b bytes.Buffer
		if err := bmp.Encode(&b, m); err != nil {
			t.Fatal(err)
		}
		if !Format.Sniff(b.Bytes()) {
			t.Errorf("%s isn't told", name)
		}
		info, err := Probe(b.Bytes())
		if err != nil || info.W != 33 || info.H != 17 || (info.Coding == "palette") != (name == "palette") {
			t.Errorf("%s: %+v, %v", name, info, err)
		}
		p, err := Decode(b.Bytes())
		if err != nil {
			t.Fatal(name, err)
		}
		for _, at := range [][2]int{{0, 0}, {5, 3}, {32, 16}} {
			c := color.NRGBAModel.Convert(m.At(at[0], at[1])).(color.NRGBA)
			c.A = 255 // what an old header's fourth byte says isn't alpha
			if got := p.RGBA.Row(at[1])[4*at[0]:][:4]; !bytes.Equal(got, []byte{c.R, c.G, c.B, c.A}) {
				t.Errorf("%s at %v is %v, want %v", name, at, got, c)
			}
		}
		if !p.RGBA.Opaque {
			t.Errorf("%s: opaque %t", name, p.RGBA.Opaque)
		}
	}
}

func TestBrokenFilesSayWhy(t *testing.T) {
	var b bytes.Buffer
	if err := bmp.Encode(&b, image.NewNRGBA(image.Rect(0, 0, 40, 30))); err != nil {
		t.Fatal(err)
	}
	data := b.Bytes()
	for i := range 32 {
		_, err := Decode(data[:len(data)*i/32])
		var e *codec.Error
		if !errors.As(err, &e) || e.Problem == "" || i > 1 && !e.Truncated {
			t.Errorf("cut at %d/32: %v", i, err)
		}
	}
	lie := bytes.Clone(data)
	binary.LittleEndian.PutUint32(lie[18:], 30000)
	binary.LittleEndian.PutUint32(lie[22:], 30000)
	if _, err := Probe(lie); err == nil {
		t.Error("five thousand bytes hold nine hundred million pixels")
	}
	packed := bytes.Clone(data)
	packed[30] = 1 // run lengths
	if _, err := Decode(packed); err == nil || !bytes.Contains([]byte(err.Error()), []byte("24 or 32")) {
		t.Errorf("a compressed one: %v", err)
	}
}
