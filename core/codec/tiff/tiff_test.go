package tiff

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"testing"

	"golang.org/x/image/tiff"

	"echolane/core/codec"
)

func slope(w, h int, clear bool) *image.NRGBA {
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			a := 255
			if clear {
				a = 255 * x / w
			}
			m.SetNRGBA(x, y, color.NRGBA{uint8(40 + 150*x/w), uint8(60 + 100*y/h), uint8(200 - 90*x/w), uint8(a)})
		}
	}
	return m
}

func written(t testing.TB, m image.Image, o *tiff.Options) []byte {
	t.Helper()
	var b bytes.Buffer
	if err := tiff.Encode(&b, m, o); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestEveryKindOfTIFF(t *testing.T) {
	m := slope(57, 41, false)
	grey, grey16, paletted, deep := image.NewGray(m.Rect), image.NewGray16(m.Rect), image.NewPaletted(m.Rect, color.Palette{color.Black, color.White, color.NRGBA{200, 30, 40, 255}}), image.NewNRGBA64(m.Rect)
	multiplied := image.NewRGBA(m.Rect)
	for y := range 41 {
		for x := range 57 {
			c := m.NRGBAAt(x, y)
			grey.Set(x, y, c)
			grey16.Set(x, y, c)
			paletted.Set(x, y, c)
			deep.Set(x, y, c)
			multiplied.Set(x, y, slope(57, 41, true).NRGBAAt(x, y))
		}
	}
	for name, c := range map[string]struct {
		m      image.Image
		o      *tiff.Options
		depth  int
		alpha  bool
		coding string
	}{
		"RGB":           {m, nil, 8, false, ""},
		"deflate":       {m, &tiff.Options{Compression: tiff.Deflate, Predictor: true}, 8, false, ""},
		"straight":      {slope(57, 41, true), nil, 8, true, ""},
		"multiplied":    {multiplied, nil, 8, true, ""},
		"grey":          {grey, nil, 8, false, "grey"},
		"grey, 16 bits": {grey16, nil, 16, false, "grey"},
		"palette":       {paletted, nil, 8, false, "palette"},
		"16 bits":       {deep, nil, 16, false, ""},
	} {
		data := written(t, c.m, c.o)
		info, err := Probe(data)
		if err != nil || info.W != 57 || info.H != 41 || info.Depth != c.depth || info.Coding != c.coding || info.Orientation != 1 || info.Frames != 1 {
			t.Errorf("%s: %+v, %v", name, info, err)
		}
		p, err := Decode(data)
		if err != nil {
			t.Fatal(name, err)
		}
		if p.RGBA.Opaque == c.alpha {
			t.Errorf("%s: opaque %t", name, p.RGBA.Opaque)
		}
		for _, at := range [][2]int{{3, 5}, {30, 20}, {56, 40}} {
			want := color.NRGBAModel.Convert(c.m.At(at[0], at[1])).(color.NRGBA)
			got := p.RGBA.Row(at[1])[4*at[0]:][:4]
			for i, v := range []uint8{want.R, want.G, want.B, want.A} {
				slack := 1
				if c.alpha && want.A < 255 { // few levels are left of thin colours
					slack = 4 + 255/(1+int(want.A))
				}
				if d := int(got[i]) - int(v); d > slack || -d > slack {
					t.Errorf("%s at %v: %v, want %v", name, at, got, want)
					break
				}
			}
		}
	}
}

// entry is where the value of a directory's entry lies.
func entry(data []byte, tag uint16) int {
	at := int(binary.LittleEndian.Uint32(data[4:]))
	for i := range int(binary.LittleEndian.Uint16(data[at:])) {
		if e := at + 2 + 12*i; binary.LittleEndian.Uint16(data[e:]) == tag {
			return e
		}
	}
	return -1
}

func TestTheOrientationIsRead(t *testing.T) {
	data := written(t, slope(20, 10, false), nil)
	// The directory anew behind the file, with one entry more in its place.
	old, e := int(binary.LittleEndian.Uint32(data[4:])), entry(data, tagSamples)
	n := binary.LittleEndian.Uint16(data[old:])
	binary.LittleEndian.PutUint32(data[4:], uint32(len(data)))
	all := data[:len(data):len(data)]
	all = binary.LittleEndian.AppendUint16(all, n+1)
	all = append(all, data[old+2:e]...)
	all = append(all, tagOrientation&255, tagOrientation>>8, 3, 0, 1, 0, 0, 0, 6, 0, 0, 0)
	all = append(all, data[e:old+2+12*int(n)]...)
	data = append(all, 0, 0, 0, 0)
	info, err := Probe(data)
	if w, h := info.Upright(); err != nil || info.Orientation != 6 || w != 10 || h != 20 {
		t.Errorf("%+v, %v", info, err)
	}
}

func TestBrokenFilesSayWhy(t *testing.T) {
	data := written(t, slope(60, 40, false), &tiff.Options{Compression: tiff.Deflate})
	for i := range 32 {
		_, err := Decode(data[:len(data)*i/32])
		var e *codec.Error
		if !errors.As(err, &e) || e.Type != Type || e.Problem == "" {
			t.Errorf("cut at %d/32: %v", i, err)
		}
	}
	for i := range data {
		bad := bytes.Clone(data)
		bad[i] ^= 0x5a
		if info, err := Probe(bad); err != nil || info.W*info.H > 1<<16 {
			continue
		}
		if p, err := Decode(bad); err == nil {
			p.Free()
		}
	}
	many := bytes.Clone(data)
	binary.LittleEndian.PutUint16(many[binary.LittleEndian.Uint32(many[4:]):], 60000)
	if _, err := Probe(many); err == nil {
		t.Error("a directory of sixty thousand entries was read")
	}
	strips := bytes.Clone(data)
	binary.LittleEndian.PutUint32(strips[entry(strips, tagStrips)+4:], 1<<30)
	if _, err := Probe(strips); err == nil {
		t.Error("a thousand million strips were read")
	}
}
