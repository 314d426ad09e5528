package pictures

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"hash/crc32"
	"image"
	"image/color"
	"image/gif"
	"image/jpeg"
	"image/png"
	"math"

	corejpeg "echolane/core/codec/jpeg"
	"echolane/core/raster"
)

// baseline writes what a camera writes: a baseline JPEG, 4:2:0, with segments put in behind its start.
func baseline(m image.Image, quality int, segments ...[]byte) ([]byte, error) {
	var b bytes.Buffer
	if err := jpeg.Encode(&b, m, &jpeg.Options{Quality: quality}); err != nil {
		return nil, err
	}
	file := b.Bytes()
	out := append([]byte(nil), file[:2]...)
	for _, s := range segments {
		out = append(out, s...)
	}
	return append(out, file[2:]...), nil
}

func progressive(c *canvas, quality int) ([]byte, error) {
	return corejpeg.EncodePlanes((&raster.RGBA{Pix: c.Pix, Stride: c.Stride, W: c.w, H: c.h, Opaque: true}).To420(), quality)
}

func segment(marker byte, parts ...[]byte) []byte {
	body := bytes.Join(parts, nil)
	return append(binary.BigEndian.AppendUint16([]byte{0xff, marker}, uint16(len(body)+2)), body...)
}

// exifTurned is an APP1 segment that gives an orientation and nothing else.
func exifTurned(orientation uint16) []byte {
	t := []byte("MM\x00*\x00\x00\x00\x08\x00\x01")
	t = append(t, 0x01, 0x12, 0x00, 0x03, 0, 0, 0, 1)
	t = binary.BigEndian.AppendUint16(t, orientation)
	return segment(0xe1, []byte("Exif\x00\x00"), append(t, 0, 0, 0, 0, 0, 0))
}

// displayP3 is an APP2 segment with a matrix profile: P3's primaries adapted to D50, sRGB's curve
// (ICC.1:2022, sections 8.3 and 10.18).
func displayP3() []byte {
	s15 := func(b []byte, v float64) []byte {
		return binary.BigEndian.AppendUint32(b, uint32(int32(math.Round(v*65536))))
	}
	xyz := func(x, y, z float64) []byte {
		return s15(s15(s15([]byte("XYZ \x00\x00\x00\x00"), x), y), z)
	}
	text := func(s string) []byte {
		b := append([]byte("mluc\x00\x00\x00\x00"), 0, 0, 0, 1, 0, 0, 0, 12, 'e', 'n', 'U', 'S')
		b = binary.BigEndian.AppendUint32(b, uint32(2*len(s)))
		b = binary.BigEndian.AppendUint32(b, 28)
		for _, r := range s {
			b = append(b, 0, byte(r))
		}
		return b
	}
	curve := append([]byte("para\x00\x00\x00\x00"), 0, 3, 0, 0)
	for _, v := range []float64{2.4, 1 / 1.055, 0.055 / 1.055, 1 / 12.92, 0.04045} {
		curve = s15(curve, v)
	}
	tags := []struct {
		name string
		data []byte
	}{
		{"desc", text("Wide silk (P3 primaries)")}, {"cprt", text("Kestrel and Twine, made up")}, {"wtpt", xyz(0.9642, 1, 0.8249)},
		{"rXYZ", xyz(0.51512, 0.24120, -0.00105)}, {"gXYZ", xyz(0.29198, 0.69225, 0.04189)}, {"bXYZ", xyz(0.15710, 0.06657, 0.78407)},
		{"rTRC", curve}, {"gTRC", curve}, {"bTRC", curve},
	}
	head := make([]byte, 128)
	copy(head[8:], "\x04\x00\x00\x00mntrRGB XYZ ")
	copy(head[24:], "\x07\xea\x00\x01\x00\x01")
	copy(head[36:], "acsp")
	copy(head[68:], xyz(0.9642, 1, 0.8249)[8:])
	table := binary.BigEndian.AppendUint32(nil, uint32(len(tags)))
	var data []byte
	at := 128 + 4 + 12*len(tags)
	for _, t := range tags {
		table = append(table, t.name...)
		table = binary.BigEndian.AppendUint32(table, uint32(at+len(data)))
		table = binary.BigEndian.AppendUint32(table, uint32(len(t.data)))
		data = append(data, t.data...)
		for len(data)%4 != 0 {
			data = append(data, 0)
		}
	}
	profile := bytes.Join([][]byte{head, table, data}, nil)
	binary.BigEndian.PutUint32(profile, uint32(len(profile)))
	return segment(0xe2, []byte("ICC_PROFILE\x00\x01\x01"), profile)
}

func plainPNG(m image.Image) ([]byte, error) {
	var b bytes.Buffer
	err := png.Encode(&b, m)
	return b.Bytes(), err
}

// interlacedPNG writes truecolour with Adam7 (PNG Third Edition, section 8.2), rows unfiltered.
func interlacedPNG(c *canvas) ([]byte, error) {
	var raw bytes.Buffer
	z := zlib.NewWriter(&raw)
	for _, p := range [][4]int{{0, 0, 8, 8}, {4, 0, 8, 8}, {0, 4, 4, 8}, {2, 0, 4, 4}, {0, 2, 2, 4}, {1, 0, 2, 2}, {0, 1, 1, 2}} {
		for y := p[1]; y < c.h; y += p[3] {
			row := []byte{0}
			for x := p[0]; x < c.w; x += p[2] {
				row = append(row, c.Pix[y*c.Stride+4*x:][:3]...)
			}
			if len(row) > 1 {
				z.Write(row)
			}
		}
	}
	if err := z.Close(); err != nil {
		return nil, err
	}
	out := []byte("\x89PNG\r\n\x1a\n")
	chunk := func(kind string, body []byte) {
		out = binary.BigEndian.AppendUint32(out, uint32(len(body)))
		start := len(out)
		out = append(append(out, kind...), body...)
		out = binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out[start:]))
	}
	head := binary.BigEndian.AppendUint32(binary.BigEndian.AppendUint32(nil, uint32(c.w)), uint32(c.h))
	chunk("IHDR", append(head, 8, 2, 0, 0, 1))
	chunk("IDAT", raw.Bytes())
	chunk("IEND", nil)
	return out, nil
}

// deep is the sky of a scene in 16 bits, where a gradient needs them.
func deep(w, h int, f func(x, y float64) rgb) *image.RGBA64 {
	m := image.NewRGBA64(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			p := f(float64(x)/float64(w), float64(y)/float64(h))
			v := func(c float64) uint16 { return uint16(min(max(c, 0), 1)*65535 + 0.5) }
			m.SetRGBA64(x, y, color.RGBA64{v(p.r), v(p.g), v(p.b), 65535})
		}
	}
	return m
}

// animate writes frames with a palette of a sky ramp and the kite's own colours.
func animate(frames []*canvas, ramp [2]rgb, colours []rgb, delay int) ([]byte, error) {
	var palette color.Palette
	add := func(c rgb) { palette = append(palette, color.RGBA{to8(c.r), to8(c.g), to8(c.b), 255}) }
	for i := range 40 {
		add(mix(ramp[0], ramp[1], float64(i)/39))
	}
	for _, c := range colours {
		for _, light := range []float64{0.6, 0.75, 0.9, 1.05} {
			add(c.times(light))
		}
	}
	g := &gif.GIF{}
	for _, f := range frames {
		m := image.NewPaletted(f.Bounds(), palette)
		for y := range f.h {
			for x := range f.w {
				m.Set(x, y, f.At(x, y))
			}
		}
		g.Image = append(g.Image, m)
		g.Delay = append(g.Delay, delay)
	}
	var b bytes.Buffer
	err := gif.EncodeAll(&b, g)
	return b.Bytes(), err
}

// cmyk separates a picture with full black replacement and writes it as presses' files are: four inks,
// inverted, with the marker that says so.
func cmyk(c *canvas, quality int) ([]byte, error) {
	inks := make([]byte, 4*c.w*c.h)
	for y := range c.h {
		for x := range c.w {
			p := c.get(x, y)
			k := max(p.r, p.g, p.b, 1.0/255)
			i := 4 * (y*c.w + x)
			inks[i], inks[i+1], inks[i+2], inks[i+3] = to8(p.r/k), to8(p.g/k), to8(p.b/k), to8(k)
		}
	}
	return writeCMYK(inks, c.w, c.h, quality)
}
