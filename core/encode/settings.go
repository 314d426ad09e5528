package encode

import (
	"math"

	"echolane/core/codec"
	"echolane/core/likeness"
)

// usualSetting is the setting that comes as near as libjpeg-turbo at a quality, on the median picture, and how much
// the logarithm of the distance changes with a setting one higher.
func usualSetting(fit *codec.Fit, quality float64) (setting, slope float64) {
	table := fit.Settings
	at := func(q float64) float64 {
		q = math.Min(98, math.Max(0, q))
		for i := 1; i < len(table); i++ {
			if a, b := table[i-1], table[i]; q <= b[0] {
				return a[1] + (b[1]-a[1])*(q-a[0])/(b[0]-a[0])
			}
		}
		return table[len(table)-1][1]
	}
	low, high := math.Max(1, quality-5), math.Min(98, quality+5)
	slope = math.Log(likeness.DistanceAt(high)/likeness.DistanceAt(low)) / math.Max(0.5, at(high)-at(low))
	return at(quality), math.Min(slope, -0.01)
}

// UsualSetting is the setting of a format's encoder that comes as near as libjpeg-turbo at a quality, on the median
// picture.
func UsualSetting(fit *codec.Fit, quality float64) float64 {
	setting, _ := usualSetting(fit, quality)
	return setting
}

// predictedSetting is the setting that a picture of this texture is thought to need to come as near as libjpeg-turbo at a
// quality.
func predictedSetting(fit *codec.Fit, quality float64, t *likeness.Texture) float64 {
	lines := fit.Lines
	quality = math.Min(lines[len(lines)-1].Quality(), math.Max(lines[0].Quality(), quality))
	step := t.Step(quality)
	at := func(l codec.Line) float64 { return l.Setting(step, t.Busy, t.Plain) }
	for i := 1; i < len(lines); i++ {
		if a, b := lines[i-1], lines[i]; quality <= b.Quality() {
			return at(a) + (quality-a.Quality())/(b.Quality()-a.Quality())*(at(b)-at(a))
		}
	}
	return at(lines[0])
}

// predictedSlope is how much the logarithm of a picture's distance is thought to change with a setting one higher: as
// between two qualities about the one that's asked for, but not far from what is usual.
func predictedSlope(fit *codec.Fit, quality float64, t *likeness.Texture) float64 {
	_, usual := usualSetting(fit, quality)
	low, high := math.Max(1, quality-5), math.Min(97, quality+5)
	slope := math.Log(t.Lost(high)/t.Lost(low)) / math.Max(0.5, predictedSetting(fit, high, t)-predictedSetting(fit, low, t))
	return math.Max(1.5*usual, math.Min(usual*0.9, slope))
}
