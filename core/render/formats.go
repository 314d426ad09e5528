package render

import (
	"echolane/core/codec"
	"echolane/core/codec/avif"
	"echolane/core/codec/gif"
	"echolane/core/codec/heic"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/policy"
)

// A reader is what is needed of a format to read it. JPEG and WebP have more to offer: see decode.
type reader struct {
	probe  func([]byte) (codec.Info, error)
	decode func([]byte) (codec.Picture, error)
}

// readers are the formats that are read, by media type.
var readers = map[string]reader{
	jpeg.Type: {jpeg.Probe, func(data []byte) (codec.Picture, error) { return jpeg.Decode(data, jpeg.Options{Scale: 8}) }},
	png.Type:  {png.Probe, png.Decode},
	webp.Type: {webp.Probe, webp.Decode},
	gif.Type:  {gif.Probe, gif.Decode},
	avif.Type: {avif.Probe, avif.Decode},
	heic.Type: {heic.Probe, heic.Decode},
}

// Probe reads a source's header, whatever its format.
func Probe(source []byte) (codec.Info, error) {
	if len(source) == 0 {
		return codec.Info{}, refuseSource(&codec.Error{Truncated: true, Problem: "the file is empty"})
	}
	kind := codec.Sniff(source)
	r, ok := readers[kind]
	if !ok {
		return codec.Info{}, policy.NotRead(kind)
	}
	info, err := r.probe(source)
	if err != nil {
		return codec.Info{}, refuseSource(err)
	}
	return info, nil
}

// decode gives the source's pixels, at scale eighths of its size and no further down than bottom, where that can be had.
func decode(source []byte, info codec.Info, scale, bottom int, planes bool) (codec.Picture, error) {
	if info.Type == jpeg.Type {
		return jpeg.Decode(source, jpeg.Options{Scale: scale, Planes: planes, Rows: (bottom*scale + 7) / 8})
	}
	read := readers[info.Type].decode
	if info.Type == webp.Type {
		read = func(data []byte) (codec.Picture, error) { return webp.DecodeRows(data, bottom) }
	}
	p, err := read(source)
	if err == nil && len(info.Profile) == 0 && !info.Colour.IsSRGB() && !info.Colour.HighRange() {
		info.Colour.Convert(p.RGBA)
	}
	return p, err
}

// drawing is the media type of drawings: known, and not read.
const drawing = "image/svg+xml"

// Header reads what may be told of a source's header. A drawing is known by its type alone.
func Header(source []byte) (codec.Header, error) {
	if codec.Sniff(source) == drawing {
		return codec.Header{Type: drawing, Orientation: 1, Frames: 1}, nil
	}
	info, err := Probe(source)
	if err != nil {
		return codec.Header{}, err
	}
	return info.Header(), nil
}
