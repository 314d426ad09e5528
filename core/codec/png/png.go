// Package png turns PNG bytes into pixels and back, through the standard library.
package png

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"image/png"
	"io"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// Type is the media type this package reads and writes.
const Type = "image/png"

const (
	signature  = 8
	maxProfile = 4 << 20
)

// Probe reads the chunks before the image data (PNG Third Edition, section 5).
func Probe(data []byte) (codec.Info, error) {
	fail := func(truncated bool, problem string) (codec.Info, error) {
		return codec.Info{}, &codec.Error{Type: Type, Truncated: truncated, Problem: problem}
	}
	info := codec.Info{Type: Type, Orientation: 1, Frames: 1}
	profiled := false
	for at := signature; ; {
		if at+8 > len(data) {
			return fail(true, "the file ends in its header")
		}
		n := int64(binary.BigEndian.Uint32(data[at:]))
		kind := string(data[at+4 : at+8])
		if kind == "IDAT" || kind == "IEND" {
			break
		}
		if int64(at)+12+n > int64(len(data)) {
			return fail(true, "the file ends in its header")
		}
		body := data[at+8 : at+8+int(n)]
		at += 12 + int(n)
		switch kind {
		case "IHDR":
			if len(body) != 13 {
				return fail(false, "its IHDR has the wrong length")
			}
			w, h := binary.BigEndian.Uint32(body), binary.BigEndian.Uint32(body[4:])
			if w == 0 || h == 0 || w > 1<<31-1 || h > 1<<31-1 {
				return fail(false, "its header gives an impossible size")
			}
			info.W, info.H, info.Depth = int(w), int(h), int(body[8])
			switch body[9] {
			case 0:
				info.Coding = "grey"
			case 3:
				info.Coding = "palette"
			case 4:
				info.Coding, info.Alpha = "grey", true
			case 6:
				info.Alpha = true
			}
			if body[12] == 1 {
				info.Coding = join(info.Coding, "interlaced")
			}
		case "tRNS":
			info.Alpha = true
		case "acTL":
			if len(body) != 8 {
				return fail(false, "its animation control has the wrong length")
			}
			info.Frames, info.Plays = max(1, int(binary.BigEndian.Uint32(body))), int(binary.BigEndian.Uint32(body[4:]))
			info.Coding = join(info.Coding, "animated")
		case "iCCP":
			if !profiled { // there is at most one (section 11.3.2.3)
				info.Profile, profiled = profile(body), true
			}
		case "eXIf":
			info.Orientation = metadata.Orientation(body)
		}
	}
	if info.W == 0 {
		return fail(false, "it has no IHDR")
	}
	return info, nil
}

// profile unpacks an iCCP chunk, nil where it's broken or unreasonably large.
func profile(body []byte) []byte {
	_, rest, ok := bytes.Cut(body, []byte{0})
	if !ok || len(rest) < 1 || rest[0] != 0 {
		return nil
	}
	z, err := zlib.NewReader(bytes.NewReader(rest[1:]))
	if err != nil {
		return nil
	}
	p, err := io.ReadAll(io.LimitReader(z, maxProfile+1))
	if err != nil || len(p) > maxProfile {
		return nil
	}
	return p
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + " " + b
}

// Decode gives the picture; 16-bit samples are rounded to 8. Of an animation it gives the default image.
func Decode(data []byte) (codec.Picture, error) {
	m, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return codec.Picture{}, Failure(Type, err, bytes.HasSuffix(data, end))
	}
	return codec.Picture{RGBA: FromImage(m)}, nil
}

// end is the last chunk without its length, which every whole file ends with.
var end = []byte("IEND\xae\x42\x60\x82")

// Failure puts an error of the standard library's decoders into this house's form. whole says that the file
// ends as its format does.
func Failure(kind string, err error, whole bool) error {
	if !whole || errors.Is(err, io.ErrUnexpectedEOF) {
		return &codec.Error{Type: kind, Truncated: true, Problem: "the file ends before the picture does"}
	}
	return &codec.Error{Type: kind, Problem: err.Error()}
}

// FromImage copies an image of the standard library into straight-alpha pixels.
func FromImage(m image.Image) *raster.RGBA {
	b := m.Bounds()
	p := raster.NewRGBA(b.Dx(), b.Dy())
	p.Opaque = true
	switch m := m.(type) {
	case *image.RGBA: // what the decoder gives for truecolour without alpha
		for y := range p.H {
			copy(p.Row(y), m.Pix[y*m.Stride:])
		}
	case *image.NRGBA:
		for y := range p.H {
			copy(p.Row(y), m.Pix[y*m.Stride:])
		}
		p.FindOpaque()
	case *image.Gray:
		for y := range p.H {
			row := p.Row(y)
			for x, v := range m.Pix[y*m.Stride : y*m.Stride+p.W] {
				row[4*x], row[4*x+1], row[4*x+2], row[4*x+3] = v, v, v, 255
			}
		}
	case *image.Paletted:
		var table [256][4]uint8
		for i, c := range m.Palette {
			n := color.NRGBAModel.Convert(c).(color.NRGBA)
			table[i] = [4]uint8{n.R, n.G, n.B, n.A}
		}
		for y := range p.H {
			row := p.Row(y)
			for x, v := range m.Pix[y*m.Stride : y*m.Stride+p.W] {
				copy(row[4*x:4*x+4], table[v][:])
			}
		}
		p.FindOpaque()
	case *image.RGBA64, *image.NRGBA64, *image.Gray16:
		from16(p, m)
		p.FindOpaque()
	default:
		for y := range p.H {
			row := p.Row(y)
			for x := range p.W {
				c := color.NRGBAModel.Convert(m.At(b.Min.X+x, b.Min.Y+y)).(color.NRGBA)
				row[4*x], row[4*x+1], row[4*x+2], row[4*x+3] = c.R, c.G, c.B, c.A
			}
		}
		p.FindOpaque()
	}
	return p
}

// from16 rounds 16-bit samples to 8: v×255÷65535, to nearest.
func from16(p *raster.RGBA, m image.Image) {
	to8 := func(hi, lo uint8) uint8 { return uint8(((uint32(hi)<<8|uint32(lo))*255 + 32767) / 65535) }
	pix, stride, samples := []uint8(nil), 0, 4
	switch m := m.(type) {
	case *image.RGBA64:
		pix, stride = m.Pix, m.Stride
	case *image.NRGBA64:
		pix, stride = m.Pix, m.Stride
	case *image.Gray16:
		pix, stride, samples = m.Pix, m.Stride, 1
	}
	for y := range p.H {
		row, from := p.Row(y), pix[y*stride:]
		for x := range p.W {
			if samples == 1 {
				v := to8(from[2*x], from[2*x+1])
				row[4*x], row[4*x+1], row[4*x+2], row[4*x+3] = v, v, v, 255
				continue
			}
			for c := range 4 {
				row[4*x+c] = to8(from[8*x+2*c], from[8*x+2*c+1])
			}
		}
	}
}

// Few reports whether a straight picture has at most 256 colours, which Encode keeps in a palette.
func Few(p *raster.RGBA) bool { return paletted(p) != nil }

func exact(p *raster.RGBA) image.Image {
	rect := image.Rect(0, 0, p.W, p.H)
	if m := paletted(p); m != nil {
		return m
	}
	if p.Opaque && grey(p) {
		m := image.NewGray(rect)
		for y := range p.H {
			row := p.Row(y)
			for x := range p.W {
				m.Pix[y*m.Stride+x] = row[4*x]
			}
		}
		return m
	}
	return &image.NRGBA{Pix: p.Pix, Stride: p.Stride, Rect: rect}
}

func grey(p *raster.RGBA) bool {
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			if row[i] != row[i+1] || row[i] != row[i+2] {
				return false
			}
		}
	}
	return true
}

func paletted(p *raster.RGBA) *image.Paletted {
	at := make(map[[4]uint8]uint8, 256)
	m := image.NewPaletted(image.Rect(0, 0, p.W, p.H), nil)
	last, index := [4]uint8{}, uint8(0)
	for y := range p.H {
		row := p.Row(y)
		for x := range p.W {
			c := [4]uint8(row[4*x : 4*x+4])
			if c != last || len(at) == 0 {
				i, ok := at[c]
				if !ok {
					if len(at) == 256 {
						return nil
					}
					i = uint8(len(at))
					at[c] = i
					m.Palette = append(m.Palette, color.NRGBA{c[0], c[1], c[2], c[3]})
				}
				last, index = c, i
			}
			m.Pix[y*m.Stride+x] = index
		}
	}
	return m
}
