package render

import (
	"math"

	"echolane/core/codec/webp"
	"echolane/core/declare"
)

// Efforts, from measured tables of bytes against time (`go run ./bench encoding`).
const (
	webpEffort = webp.Effort
)

// AVIF's efforts are libavif's speeds, 0 (thorough) to 10 (quick): for a first answer, for what is kept, and for what is
// kept where a site wants the fewest bytes; small pictures can have more of it. At equal likeness 8 takes a thirtieth
// fewer bytes than 9 in four times the time, 7 a seventh fewer than 8 in less than twice, 6 an eighth fewer than 7 in twice
// the time, and 5 a fourteenth fewer than 6 in three times the time.
const (
	AVIFFirst    = 9
	AVIFKept     = 7
	AVIFThorough = 6
)

// avifMore is how much lower the speed of what is kept is for pictures of up to so many pixels, which most are.
const (
	avifMore          = 1
	avifKeptSmall     = 640 * 640
	avifThoroughSmall = samplesAbove
)

// Those of small pictures that take little time, a byte for so many pixels or less at the speed of first answers, can have more
// of it still, down to a speed.
const (
	avifLight = 35
	avifLeast = 5
)

// AVIFSpeed is the speed for a picture of so many pixels.
func AVIFSpeed(speed, pixels int) int {
	if speed == AVIFKept && pixels <= avifKeptSmall || speed == AVIFThorough && pixels <= avifThoroughSmall {
		return speed - avifMore
	}
	return speed
}

func (f *finish) avifSpeed() int {
	if f.exactSpeed {
		return f.speed
	}
	speed := f.speed
	if speed == 0 {
		speed = AVIFKept
	}
	if speed = AVIFSpeed(speed, f.area()); f.light {
		speed = max(avifLeast, speed-avifMore)
	}
	return speed
}

// isLight says whether a picture takes little time, by one encode at the speed of first answers.
func (f *finish) isLight(quality float64) (bool, error) {
	speed, exact := f.speed, f.exactSpeed
	f.speed, f.exactSpeed = AVIFFirst, true
	e, err := f.encoder(declare.AVIF)
	f.speed, f.exactSpeed = speed, exact
	if err != nil {
		return false, err
	}
	data, err := e.write(math.Min(e.Most, thought(declare.AVIF, quality, f.texture())+avifQuickLoss))
	return len(data) < f.area()/avifLight, err
}
