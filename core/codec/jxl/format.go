package jxl

import (
	"bytes"
	"fmt"
	"math"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// container is how files of boxes begin (ISO/IEC 18181-2, section 9.1).
var container = []byte("\x00\x00\x00\x0cJXL \r\n\x87\n")

// Format is JPEG XL, animated too. Its settings are finenesses, 0–100: see Distance.
var Format = &codec.Format{
	Type: Type, Name: "JPEG XL", Endings: []string{".jxl"},
	Sniff: func(data []byte) bool {
		return bytes.HasPrefix(data, container) || bytes.HasPrefix(data, []byte("\xff\x0a"))
	},
	Probe: Probe, Decode: func(data []byte, _ codec.Want) (codec.Picture, error) { return Decode(data) }, Frames: Frames,
	Write: &codec.Writer{
		Embeds: true, FullChroma: true, Pixels: true, OftenLossless: true, Lossy: lossy, Fit: fit,
		Lossless: func(p *raster.RGBA, o codec.Options) ([]byte, error) {
			return EncodeLossless(p, Settings{Effort: losslessEffort(o), Facts: factsOf(o)})
		},
		Animate: func(w, h, plays, _ int, opaque bool) (codec.Animation, error) {
			return NewAnimation(w, h, plays, opaque), nil
		},
		Apart: true, FromJPEG: FromJPEG,
	},
}

func factsOf(o codec.Options) metadata.Facts { return metadata.Facts{Exif: o.Exif, XMP: o.XMP} }

// Distance is libjxl's of a fineness, 0 (coarsest) to 100: 15 to 0.1, by even factors.
func Distance(fineness float64) float64 {
	return MaxDistance * math.Pow(leastDistance/MaxDistance, fineness/100)
}

const leastDistance = 0.1

// Efforts, libjxl's, from a measured table of bytes against time (`go run ./bench encoding`): at equal likeness 5 takes a quarter fewer
// bytes than 4 in five times the time, 7 a hundredth fewer than 5 in half as much time again, and 8 no fewer than 7 in five times the time.
const (
	firstEffort    = 4
	keptEffort     = 5
	thoroughEffort = 7
	frameEffort    = 5
)

// large is from how many pixels on an encode at the effort of what is kept takes a second and more, of which a search makes several.
const large = 4_000_000

func effortOf(o codec.Options) int {
	switch {
	case o.Frame:
		return frameEffort
	case o.Effort == codec.First || o.Area > large:
		return firstEffort
	case o.Effort == codec.Thorough:
		return thoroughEffort
	}
	return keptEffort
}

// losslessEffort is lower for large pictures, which take seconds.
func losslessEffort(o codec.Options) int {
	switch {
	case o.Effort == codec.First || o.Quick || o.Frame:
		return 3
	case o.Area > 2_000_000:
		return 4
	}
	return 7
}

func lossy(p codec.Painted, o codec.Options) (*codec.Encoder, error) {
	straight, effort := p.Straight(), effortOf(o)
	e := &codec.Encoder{
		Least: 0, Most: 100, Step: 0.25, Glances: 2, Near: 0.5,
		Name: func(s float64) string { return fmt.Sprintf("libjxl distance %.2f, effort %d", Distance(s), effort) },
	}
	e.Write = func(s float64) ([]byte, error) {
		return Encode(straight, Settings{Distance: Distance(s), Effort: effort, Facts: factsOf(o)})
	}
	if p.Opaque() { // compared as other formats are
		e.Read = func(data []byte) (*raster.YCbCr, error) {
			shown, err := Decode(data)
			if err != nil {
				return nil, err
			}
			defer shown.Free()
			return shown.RGBA.To420(), nil
		}
	}
	return e, nil
}
