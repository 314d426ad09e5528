// Package tiff turns TIFF bytes (revision 6.0) into pixels: grey, palettes and RGB of 1 to 16 bits, in strips or tiles, plain or
// compressed by PackBits, LZW, Deflate or CCITT's codes. Of several pages it reads the first.
package tiff

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image"
	"image/color"
	"io"
	"strings"

	"golang.org/x/image/tiff"

	"echolane/core/codec"
	"echolane/core/codec/png"
	"echolane/core/raster"
)

// Type is the media type this package reads.
const Type = "image/tiff"

// Format is TIFF, which is only read.
var Format = &codec.Format{
	Type: Type, Name: "TIFF", Endings: []string{".tif", ".tiff"},
	Sniff: func(data []byte) bool {
		return bytes.HasPrefix(data, []byte("II*\x00")) || bytes.HasPrefix(data, []byte("MM\x00*"))
	},
	Probe: Probe, Decode: func(data []byte, _ codec.Want) (codec.Picture, error) { return Decode(data) },
}

// What a directory may hold: an honest one has a few dozen entries, and a strip or a tile for some rows.
const (
	mostEntries = 1000
	mostParts   = 1 << 18
	mostProfile = 16 << 20
	mostPixels  = 1 << 28 // a site's own limits are below it
)

// Tags of the directory's entries (section 8, and ICC.1, annex B.4).
const (
	tagWidth, tagHeight, tagBits, tagOrientation, tagStrips, tagSamples, tagTiles, tagExtra, tagProfile = 256, 257, 258, 274, 273, 277, 324, 338, 34675
)

// directory is what is read of the first one.
type directory struct {
	width, height, bits, orientation, samples int
	alpha                                     bool
	profile                                   []byte
}

// read looks through the first directory, within bounds.
func read(data []byte) (d directory, err error) {
	wrong := func(problem string) (directory, error) { return d, &codec.Error{Type: Type, Problem: problem} }
	short := func() (directory, error) {
		return d, &codec.Error{Type: Type, Truncated: true, Problem: "the file ends before the picture does"}
	}
	if len(data) < 8 {
		return d, &codec.Error{Type: Type, Truncated: true, Problem: "the file ends in its header"}
	}
	var order binary.ByteOrder = binary.LittleEndian
	if data[0] == 'M' {
		order = binary.BigEndian
	}
	at := int64(order.Uint32(data[4:]))
	if at < 8 {
		return wrong("its directory lies in its header")
	}
	if at+2 > int64(len(data)) {
		return short()
	}
	n := int64(order.Uint16(data[at:]))
	if n > mostEntries {
		return wrong("it has more entries in its directory than a picture needs")
	}
	if at+2+12*n > int64(len(data)) {
		return short()
	}
	d.bits, d.orientation, d.samples = 1, 1, 1
	for i := range n {
		e := data[at+2+12*i:][:12]
		tag, kind, count := order.Uint16(e), order.Uint16(e[2:]), order.Uint32(e[4:])
		number := func() int { // the first of its values
			switch kind {
			case 3:
				if count > 2 {
					from := int64(order.Uint32(e[8:]))
					if from+2 > int64(len(data)) {
						return 0
					}
					return int(order.Uint16(data[from:]))
				}
				return int(order.Uint16(e[8:]))
			case 4:
				return int(order.Uint32(e[8:]))
			}
			return 0
		}
		switch tag {
		case tagWidth:
			d.width = number()
		case tagHeight:
			d.height = number()
		case tagBits:
			d.bits = number()
		case tagSamples:
			d.samples = number()
		case tagOrientation:
			if o := number(); o >= 1 && o <= 8 {
				d.orientation = o
			}
		case tagExtra:
			d.alpha = d.alpha || number() > 0
		case tagStrips, tagTiles:
			if count > mostParts {
				return wrong("it has more strips or tiles than a picture needs")
			}
		case tagProfile:
			from := int64(order.Uint32(e[8:]))
			if count > 4 && count <= mostProfile && from+int64(count) <= int64(len(data)) {
				d.profile = data[from : from+int64(count)]
			}
		}
	}
	return d, nil
}

// Probe reads the header.
func Probe(data []byte) (codec.Info, error) {
	d, err := read(data)
	if err != nil {
		return codec.Info{}, err
	}
	c, err := tiff.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return codec.Info{}, failure(err)
	}
	if c.Width < 1 || c.Height < 1 || c.Width != d.width || c.Height != d.height {
		return codec.Info{}, &codec.Error{Type: Type, Problem: "its header gives no size"}
	}
	if int64(c.Width)*int64(c.Height) > mostPixels {
		return codec.Info{}, &codec.Error{Type: Type, Problem: "it has more pixels than are read"}
	}
	info := codec.Info{Type: Type, W: c.Width, H: c.Height, Orientation: d.orientation, Alpha: d.alpha && d.samples%2 == 0, Frames: 1, Depth: d.bits, Profile: bytes.Clone(d.profile)}
	switch c.ColorModel {
	case color.GrayModel, color.Gray16Model:
		info.Coding = "grey"
	}
	if _, ok := c.ColorModel.(color.Palette); ok {
		info.Coding = "palette"
	}
	return info, nil
}

// Decode gives the first page as stored. Samples of 16 bits come rounded to 8.
func Decode(data []byte) (codec.Picture, error) {
	if _, err := Probe(data); err != nil {
		return codec.Picture{}, err
	}
	m, err := tiff.Decode(bytes.NewReader(data))
	if err != nil {
		return codec.Picture{}, failure(err)
	}
	return codec.Picture{RGBA: straight(m)}, nil
}

// straight is a picture with straight alpha, of one whose colours may be multiplied by it (section 18: associated alpha).
func straight(m image.Image) *raster.RGBA {
	switch m := m.(type) {
	case *image.RGBA:
		if !m.Opaque() {
			p := png.FromImage(&image.NRGBA{Pix: m.Pix, Stride: m.Stride, Rect: m.Rect})
			p.Unpremultiply()
			return p
		}
	case *image.RGBA64:
		if !m.Opaque() {
			p := png.FromImage(&image.NRGBA64{Pix: m.Pix, Stride: m.Stride, Rect: m.Rect})
			p.Unpremultiply()
			return p
		}
	}
	return png.FromImage(m)
}

func failure(err error) error {
	e := &codec.Error{Type: Type}
	var unsupported tiff.UnsupportedError
	switch {
	case errors.As(err, &unsupported):
		e.Problem = "it is of a kind that isn't read (" + strings.TrimPrefix(string(unsupported), "tiff: ") + "): save it as 8- or 16-bit grey, palette or RGB, with LZW, Deflate or no compression"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		e.Truncated, e.Problem = true, "the file ends before the picture does"
	default:
		e.Problem = "its data is broken: " + strings.TrimPrefix(err.Error(), "tiff: ")
	}
	return e
}
