package gif

import (
	"bytes"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Format is GIF (89a), animated too.
var Format = &codec.Format{
	Type: Type, Name: "GIF", Endings: []string{".gif"},
	Sniff: func(data []byte) bool {
		return bytes.HasPrefix(data, []byte("GIF87a")) || bytes.HasPrefix(data, []byte("GIF89a"))
	},
	Probe: Probe, Decode: func(data []byte, _ codec.Want) (codec.Picture, error) { return Decode(data) }, Frames: Frames,
	Write: &codec.Writer{
		MaxSide: 65500,
		Indexed: func(p *raster.RGBA, _ *raster.Indexed, colours int) ([]byte, error) { return Encode(p, colours) },
		Animate: func(_, _, plays, colours int, _ bool) (codec.Animation, error) {
			return NewAnimation(plays, colours), nil
		},
	},
}
