package avif

import (
	"fmt"
	"math"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/raster"
)

// Format is AVIF. Its settings are AV1's quantizers counted from the coarsest, 0–62, in quarters.
var Format = &codec.Format{
	Type: Type, Name: "AVIF", Endings: []string{".avif"},
	Sniff: func(data []byte) bool {
		return len(data) >= 12 && (string(data[4:12]) == "ftypavif" || string(data[4:12]) == "ftypavis")
	},
	Probe: Probe, Decode: func(data []byte, _ codec.Want) (codec.Picture, error) { return Decode(data) }, Frames: Frames,
	Quality: func(data []byte) int {
		quantizer, ok := QuantizerOf(data)
		if !ok {
			return 0
		}
		return fit.QualityOf(float64(MaxQuantizer - quantizer))
	},
	Write: &codec.Writer{
		Animate: func(w, h, plays, _ int, opaque bool) (codec.Animation, error) { return &film{opaque: opaque}, nil },
		Forever: true, MaxSide: MaxSide, Embeds: true, FullChroma: true, Lossy: lossy, Fit: fit, Light: isLight,
		Lossless: func(p *raster.RGBA, o codec.Options) ([]byte, error) {
			return EncodeLossless(p, Settings{Speed: speedOf(o), Facts: factsOf(o)})
		},
	},
}

func factsOf(o codec.Options) metadata.Facts { return metadata.Facts{Exif: o.Exif, XMP: o.XMP} }

// Speeds, from measured tables of bytes against time (`go run ./bench encoding`): libavif's, 0 (thorough) to 10 (quick), for a
// first answer, for what is kept, and for what is kept where a site wants the fewest bytes; small pictures can have more of
// it. At equal likeness 8 takes a thirtieth fewer bytes than 9 in four times the time, 7 a seventh fewer than 8 in less than
// twice, 6 an eighth fewer than 7 in twice the time, and 5 a fourteenth fewer than 6 in three times the time.
const (
	FirstSpeed    = 9
	KeptSpeed     = 7
	ThoroughSpeed = 6
)

// FrameSpeed is the speed of an animation's frames, of which what changes is written.
const FrameSpeed = 8

// settingsAt are those of a setting of the format's.
func settingsAt(s float64, speed int) Settings {
	up := math.Ceil(s)
	return Settings{Quantizer: MaxQuantizer - int(up), Coarser: int(math.Round(4 * (up - s))), Speed: speed}
}

// more is how much lower the speed of what is kept is for pictures of up to so many pixels, which most are.
const (
	more          = 1
	keptSmall     = 640 * 640
	thoroughSmall = 1_000_000
)

// Those of small pictures that take little time, a byte for so many pixels or less at the speed of first answers, can have more
// of it still, down to a speed.
const (
	lightBytes = 35
	leastSpeed = 5
)

// quickLoss is how much finer a first answer has to be to come as near as what is kept, in steps of the quantizer at FirstSpeed.
const quickLoss = 4.5

// SpeedFor is the speed for a picture of so many pixels.
func SpeedFor(effort codec.Effort, pixels int) int {
	switch {
	case effort == codec.First:
		return FirstSpeed
	case effort == codec.Thorough && pixels <= thoroughSmall:
		return ThoroughSpeed - more
	case effort == codec.Thorough:
		return ThoroughSpeed
	case pixels <= keptSmall:
		return KeptSpeed - more
	}
	return KeptSpeed
}

func speedOf(o codec.Options) int {
	if o.Frame && o.Effort != codec.First {
		return FrameSpeed
	}
	speed := SpeedFor(o.Effort, o.Area)
	if o.Light {
		speed = max(leastSpeed, speed-more)
	}
	return speed
}

// isLight says whether a small picture takes little time, by one encode at the speed of first answers.
func isLight(p codec.Painted, o codec.Options, setting float64) (bool, error) {
	if o.Area > keptSmall || o.Frame {
		return false, nil
	}
	o.Effort, o.Light = codec.First, false
	e, err := lossy(p, o)
	if err != nil {
		return false, err
	}
	data, err := e.Write(math.Min(e.Most, setting+quickLoss))
	return len(data) < o.Area/lightBytes, err
}

// lossy opens a picture: in planes, or in pixels where it has transparency or sharp colour.
func lossy(p codec.Painted, o codec.Options) (*codec.Encoder, error) {
	sharp, speed := p.SharpColour(), speedOf(o)
	e := &codec.Encoder{
		Least: 0, Most: MaxQuantizer - 1, Step: 0.25, Glances: 3,
		Name: func(s float64) string { return fmt.Sprintf("AV1 quantizer %g, speed %d", MaxQuantizer-s, speed) },
	}
	if o.Quick { // between whole quantizers the quick speed is uneven
		e.Step, e.Finer = 1, quickLoss
	}
	settings := func(s float64) Settings {
		at := settingsAt(s, speed)
		at.FullChroma, at.Copies, at.Facts = sharp, sharp && o.Area <= keptSmall, factsOf(o)
		return at
	}
	if sharp || !p.Opaque() {
		straight := p.Straight()
		e.Write = func(s float64) ([]byte, error) { return EncodeRGBA(straight, settings(s)) }
		return e, nil
	}
	planes := p.Planes()
	e.Write = func(s float64) ([]byte, error) { return EncodePlanes(planes, settings(s)) }
	e.Read = DecodePlanes
	return e, nil
}
