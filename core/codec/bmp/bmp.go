// Package bmp turns BMP bytes into pixels: palettes of 1 to 8 bits, and 24 or 32 bits a pixel, uncompressed.
package bmp

import (
	"bytes"
	"encoding/binary"
	"errors"
	"image/color"
	"io"
	"strings"

	"golang.org/x/image/bmp"

	"echolane/core/codec"
	"echolane/core/codec/png"
)

// Type is the media type this package reads.
const Type = "image/bmp"

// Format is BMP, which is only read.
var Format = &codec.Format{
	Type: Type, Name: "BMP", Endings: []string{".bmp", ".dib"},
	Sniff: func(data []byte) bool {
		// What follows the two letters is the file's size and four zeros, and a header of a known length.
		return len(data) >= 18 && string(data[:2]) == "BM" && string(data[6:10]) == "\x00\x00\x00\x00" && binary.LittleEndian.Uint32(data[14:]) <= 124
	},
	Probe: Probe, Decode: func(data []byte, _ codec.Want) (codec.Picture, error) { return Decode(data) },
}

// Probe reads the header.
func Probe(data []byte) (codec.Info, error) {
	c, err := bmp.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return codec.Info{}, failure(err)
	}
	if c.Width < 1 || c.Height < 1 {
		return codec.Info{}, &codec.Error{Type: Type, Problem: "its header gives no size"}
	}
	info := codec.Info{Type: Type, W: c.Width, H: c.Height, Orientation: 1, Frames: 1, Depth: 8, Alpha: c.ColorModel == color.NRGBAModel}
	if _, ok := c.ColorModel.(color.Palette); ok {
		info.Coding = "palette"
	}
	// A small file can't hold many pixels, whatever its header says.
	const bitsAtLeast = 1
	if int64(c.Width)*int64(c.Height)*bitsAtLeast/8 > int64(len(data)) {
		return codec.Info{}, &codec.Error{Type: Type, Truncated: true, Problem: "the file ends before the picture does"}
	}
	return info, nil
}

// Decode gives the picture.
func Decode(data []byte) (codec.Picture, error) {
	if _, err := Probe(data); err != nil {
		return codec.Picture{}, err
	}
	m, err := bmp.Decode(bytes.NewReader(data))
	if err != nil {
		return codec.Picture{}, failure(err)
	}
	return codec.Picture{RGBA: png.FromImage(m)}, nil
}

func failure(err error) error {
	e := &codec.Error{Type: Type}
	switch {
	case errors.Is(err, bmp.ErrUnsupported):
		e.Problem = "it is of a kind that isn't read, such as a compressed one: save it with 24 or 32 bits a pixel"
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		e.Truncated, e.Problem = true, "the file ends before the picture does"
	default:
		e.Problem = "its data is broken: " + strings.TrimPrefix(err.Error(), "bmp: ")
	}
	return e
}
