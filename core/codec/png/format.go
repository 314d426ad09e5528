package png

import (
	"bytes"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Format is PNG (Third Edition), animated too.
var Format = &codec.Format{
	Type: Type, Name: "PNG", Endings: []string{".png", ".apng"},
	Sniff: func(data []byte) bool { return bytes.HasPrefix(data, []byte("\x89PNG\r\n\x1a\n")) },
	Probe: Probe, Decode: func(data []byte, _ codec.Want) (codec.Picture, error) { return Decode(data) }, Frames: Frames,
	Write: &codec.Writer{
		Lossless: func(p *raster.RGBA, _ codec.Options) ([]byte, error) { return Encode(p) }, Few: Few,
		Indexed: func(_ *raster.RGBA, m *raster.Indexed, _ int) ([]byte, error) { return EncodeIndexed(m) },
	},
}
