package jpeg

import (
	"bytes"
	"fmt"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Format is JPEG (ITU-T T.81).
var Format = &codec.Format{
	Type: Type, Name: "JPEG", Endings: []string{".jpg", ".jpeg", ".jpe", ".jfif"},
	Sniff: func(data []byte) bool { return bytes.HasPrefix(data, []byte("\xff\xd8\xff")) },
	Probe: Probe, Decode: Decode, Scales: true, Quality: Quality,
	Write: &codec.Writer{MaxSide: 65500, Lossy: lossy, Fit: fit, Direct: direct},
}

// trellisBelow is up to how many pixels there is trellis quantization, which takes nine bytes a pixel.
const trellisBelow = 8_000_000

func isLarge(p codec.Painted) bool {
	w, h := p.Size()
	return w*h > trellisBelow
}

// lossy opens a picture for our own encoder, or where it's large for libjpeg-turbo.
func lossy(p codec.Painted, _ codec.Options) (*codec.Encoder, error) {
	planes := p.Planes()
	e := &codec.Encoder{
		Least: 1, Most: 100, Step: 0.5,
		Name: func(s float64) string { return fmt.Sprintf("JPEG tables %.1f, trellis, 4:2:0", s) },
		Read: func(data []byte) (*raster.YCbCr, error) {
			p, err := Decode(data, codec.Want{Planes: true})
			return p.YCbCr, err
		},
	}
	if isLarge(p) {
		e.Write = func(s float64) ([]byte, error) { return EncodePlanes(planes, int(s)) }
	} else {
		e.Write = Transform(planes).Write
	}
	return e, nil
}

// direct writes with libjpeg-turbo, whose qualities are the scale itself: what has sharp colour, what is large, and first
// answers.
func direct(p codec.Painted, quality int, quick bool) (data []byte, setting string, final bool, err error) {
	switch {
	case p.SharpColour():
		flat := p.Flattened()
		defer flat.Free()
		data, err = EncodeRGBA(flat, quality)
		return data, fmt.Sprintf("libjpeg-turbo %d, 4:4:4", quality), true, err
	case quick || isLarge(p):
		data, err = EncodePlanes(p.Planes(), quality)
		return data, fmt.Sprintf("libjpeg-turbo %d, 4:2:0", quality), !quick, err
	}
	return nil, "", false, nil
}
