package render

import (
	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/policy"
)

// Probe reads a source's header, whatever its format.
func Probe(source []byte) (codec.Info, error) {
	if len(source) == 0 {
		return codec.Info{}, refuseSource(&codec.Error{Truncated: true, Problem: "the file is empty"})
	}
	kind := formats.Sniff(source)
	format := formats.Of(kind)
	if format == nil {
		return codec.Info{}, policy.NotRead(kind)
	}
	info, err := format.Probe(source)
	if err != nil {
		return codec.Info{}, refuseSource(err)
	}
	return info, nil
}

// decode gives the source's pixels, at scale eighths of its size and no further down than bottom, where that can be had.
func decode(source []byte, info codec.Info, scale, bottom int, planes bool) (codec.Picture, error) {
	p, err := formats.Of(info.Type).Decode(source, codec.Want{Scale: scale, Planes: planes, Rows: (bottom*scale + 7) / 8})
	if err == nil && len(info.Profile) == 0 && !info.Colour.IsSRGB() && !info.Colour.HighRange() {
		info.Colour.Convert(p.RGBA)
	}
	return p, err
}

// Header reads what may be told of a source's header. A drawing is known by its type alone.
func Header(source []byte) (codec.Header, error) {
	if formats.Sniff(source) == formats.Drawing {
		return codec.Header{Type: formats.Drawing, Orientation: 1, Frames: 1}, nil
	}
	info, err := Probe(source)
	if err != nil {
		return codec.Header{}, err
	}
	return info.Header(), nil
}
