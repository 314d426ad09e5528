// Package gif turns GIF bytes into pixels and back, through the standard library; palettes are our own.
package gif

import (
	"bytes"
	"encoding/binary"
	"image"
	"image/draw"
	"image/gif"

	"echolane/core/codec"
	"echolane/core/codec/png"
)

// Type is the media type this package reads and writes.
const Type = "image/gif"

// trailer is the last byte of every whole file.
const trailer = 0x3b

// Probe reads the logical screen and counts the frames by walking the blocks (GIF89a, sections 17–27). A
// file that is cut off counts the frames it has.
func Probe(data []byte) (codec.Info, error) {
	fail := func(truncated bool, problem string) (codec.Info, error) {
		return codec.Info{}, &codec.Error{Type: Type, Truncated: truncated, Problem: problem}
	}
	if len(data) < 13 {
		return fail(true, "the file ends in its header")
	}
	info := codec.Info{
		Type: Type, Orientation: 1, Depth: 8, Coding: "palette",
		W: int(binary.LittleEndian.Uint16(data[6:])), H: int(binary.LittleEndian.Uint16(data[8:])), Plays: 1,
	}
	if info.W == 0 || info.H == 0 {
		return fail(false, "its header gives no size")
	}
	table := func(flags byte) int {
		if flags&0x80 == 0 {
			return 0
		}
		return 3 << (flags&7 + 1)
	}
	at := 13 + table(data[10])
	blocks := func() {
		for at < len(data) && data[at] != 0 {
			at += 1 + int(data[at])
		}
		at++
	}
walk:
	for at+1 < len(data) {
		switch data[at] {
		case 0x21: // extension
			if data[at+1] == 0xf9 && at+3 < len(data) && data[at+3]&1 == 1 {
				info.Alpha = true
			}
			// The application extension that every program knows: how often it repeats, 0 for ever.
			if data[at+1] == 0xff && at+18 < len(data) && string(data[at+3:at+14]) == "NETSCAPE2.0" && data[at+15] == 1 {
				if info.Plays = int(binary.LittleEndian.Uint16(data[at+16:])); info.Plays > 0 {
					info.Plays++
				}
			}
			at += 2
			blocks()
		case 0x2c: // image
			if at+10 > len(data) {
				break walk
			}
			info.Frames++
			at += 10 + table(data[at+9]) + 1
			blocks()
		default:
			break walk
		}
	}
	if info.Frames == 0 {
		return fail(at >= len(data), "it has no frame")
	}
	return info, nil
}

// Decode gives the first frame on its logical screen; what the frame doesn't cover is transparent.
func Decode(data []byte) (codec.Picture, error) {
	config, err := gif.DecodeConfig(bytes.NewReader(data))
	if err != nil {
		return codec.Picture{}, png.Failure(Type, err, data[len(data)-1] == trailer)
	}
	frame, err := gif.Decode(bytes.NewReader(data))
	if err != nil {
		return codec.Picture{}, png.Failure(Type, err, data[len(data)-1] == trailer)
	}
	screen := image.Rect(0, 0, config.Width, config.Height)
	if frame.Bounds() == screen {
		return codec.Picture{RGBA: png.FromImage(frame)}, nil
	}
	canvas := image.NewNRGBA(screen)
	draw.Draw(canvas, frame.Bounds(), frame, frame.Bounds().Min, draw.Src)
	return codec.Picture{RGBA: png.FromImage(canvas)}, nil
}
