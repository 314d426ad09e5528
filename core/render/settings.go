package render

import (
	"math"

	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/fidelity"
)

// settingFor is the setting that comes as near as libjpeg-turbo at a quality, on the median picture, and how much
// the logarithm of the distance changes with a setting one higher. Make the tables anew with
// `go run ./bench/qualitytable`.
func settingFor(format declare.Format, quality float64) (setting, slope float64) {
	table := webpSettings
	switch format {
	case declare.AVIF:
		table = avifSettings
	case declare.JPEG:
		table = jpegSettings
	}
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
	slope = math.Log(fidelity.DistanceAt(high)/fidelity.DistanceAt(low)) / math.Max(0.5, at(high)-at(low))
	return at(quality), math.Min(slope, -0.01)
}

// A line says which setting a picture needs at a quality, from what is seen of its texture: a base, and what each of
// the step that loses as much as libjpeg-turbo, its busyness and the share of its plain blocks adds.
type line struct{ quality, base, step, busy, plain float64 }

// thought is the setting that a picture is thought to need to come as near as libjpeg-turbo at a quality.
func thought(format declare.Format, quality float64, t *fidelity.Texture) float64 {
	lines := webpLines
	switch format {
	case declare.AVIF:
		lines = avifLines
	case declare.JPEG:
		lines = jpegLines
	}
	quality = math.Min(lines[len(lines)-1].quality, math.Max(lines[0].quality, quality))
	step := t.Step(quality)
	at := func(l line) float64 { return l.base + l.step*step + l.busy*t.Busy + l.plain*t.Plain }
	for i := 1; i < len(lines); i++ {
		if a, b := lines[i-1], lines[i]; quality <= b.quality {
			return at(a) + (quality-a.quality)/(b.quality-a.quality)*(at(b)-at(a))
		}
	}
	return at(lines[0])
}

// steepness is how much the logarithm of a picture's distance is thought to change with a setting one higher: as
// between two qualities about the one that's asked for, but not far from what is usual.
func steepness(format declare.Format, quality float64, t *fidelity.Texture) float64 {
	_, usual := settingFor(format, quality)
	low, high := math.Max(1, quality-5), math.Min(97, quality+5)
	slope := math.Log(t.Lost(high)/t.Lost(low)) / math.Max(0.5, thought(format, high, t)-thought(format, low, t))
	return math.Max(1.5*usual, math.Min(usual*0.9, slope))
}

// Fitted to the corpus at these qualities; make them anew with `go run ./bench/qualitytable`.
var (
	webpLines = []line{
		{10, -7.0, 4.55, 16.67, -0.58},
		{20, 88.8, -8.96, -7.55, -53.62},
		{30, 77.4, -2.38, -4.37, -37.89},
		{40, 109.7, -16.47, -1.93, -29.87},
		{50, 128.4, -24.69, -2.34, -29.21},
		{60, 136.2, -28.66, -2.19, -27.66},
		{70, 127.6, -24.41, -2.29, -19.25},
		{80, 115.9, -18.83, -1.39, -9.16},
		{85, 111.3, -15.76, -1.39, -7.34},
		{90, 106.0, -12.35, -0.84, -3.95},
		{95, 102.1, -7.95, -0.80, -2.10},
	}
	avifLines = []line{
		{10, 5.4, -0.05, 5.89, -5.79},
		{20, 37.3, -4.38, -2.18, -19.98},
		{30, 42.6, -4.55, -3.35, -16.95},
		{40, 46.9, -5.47, -3.59, -16.06},
		{50, 50.2, -6.17, -3.78, -15.57},
		{60, 56.4, -9.23, -2.94, -14.82},
		{70, 64.9, -14.10, -1.71, -13.99},
		{80, 72.8, -19.72, -0.37, -12.45},
		{85, 72.6, -18.83, -1.19, -12.11},
		{90, 68.8, -15.52, -1.77, -7.79},
		{95, 62.9, -9.93, -1.02, -4.11},
	}
	jpegLines = []line{
		{10, 23.1, -1.38, -0.48, -4.77},
		{20, 49.6, -3.73, -5.02, -13.17},
		{30, 74.8, -8.81, -6.58, -14.40},
		{40, 98.6, -16.33, -6.03, -15.82},
		{50, 97.9, -13.79, -6.24, -11.78},
		{60, 102.3, -15.04, -4.75, -11.45},
		{70, 103.0, -14.53, -3.19, -9.50},
		{80, 99.5, -11.26, -2.06, -6.72},
		{85, 98.2, -9.47, -1.56, -6.13},
		{90, 96.9, -7.94, -0.57, -3.23},
		{95, 94.3, -4.42, 0.29, 0.26},
	}
)

// Quality of libjpeg-turbo, and setting: WebP's fineness as it is weighed, AV1's quantizer counted from the coarsest, the quality of
// JPEG's tables.
var webpSettings = [][2]float64{
	{0, 0}, {5, 10.0}, {10, 14.7}, {15, 34.1}, {20, 46.5}, {25, 52.6}, {30, 56.7}, {35, 61.0}, {40, 64.1},
	{45, 67.4}, {50, 70.3}, {55, 72.3}, {60, 74.7}, {65, 77.1}, {70, 80.3}, {75, 83.5}, {80, 86.8},
	{85, 90.3}, {90, 94.8}, {95, 99.5}, {98, 100.0},
}

var avifSettings = [][2]float64{
	{0, 0}, {5, 0.0}, {10, 5.5}, {15, 12.6}, {20, 17.1}, {25, 20.8}, {30, 23.3}, {35, 25.1},
	{40, 26.4}, {45, 27.7}, {50, 29.2}, {55, 30.3}, {60, 32.0}, {65, 33.9}, {70, 35.4}, {75, 37.9},
	{80, 41.7}, {85, 46.2}, {90, 52.1}, {95, 58.0}, {98, 60.0},
}

// Of our own JPEG encoder (core/codec/jpeg).
var jpegSettings = [][2]float64{
	{0, 1}, {5, 7.8}, {10, 16.3}, {15, 23.6}, {20, 30.5}, {25, 36.9}, {30, 43.6}, {35, 49.5},
	{40, 53.7}, {45, 58.8}, {50, 62.8}, {55, 65.3}, {60, 67.8}, {65, 70.8}, {70, 74.1}, {75, 77.1},
	{80, 81.1}, {85, 84.3}, {90, 88.8}, {95, 93.0}, {98, 96.4},
}

// The same for the tenth of pictures that need the coarsest settings, WebP's as libwebp writes it.
var webpEasy = [][2]float64{
	{0, 0}, {5, 10.0}, {10, 10.0}, {15, 10.0}, {20, 10.0}, {25, 10.8}, {30, 18.5}, {35, 28.9},
	{40, 33.1}, {45, 41.6}, {50, 43.6}, {55, 47.8}, {60, 55.3}, {65, 61.0}, {70, 63.8}, {75, 67.5},
	{80, 74.5}, {85, 80.6}, {90, 87.2}, {95, 94.4}, {98, 100.0},
}

var avifEasy = [][2]float64{
	{0, 0}, {5, 0.0}, {10, 0.0}, {15, 2.1}, {20, 3.8}, {25, 3.9}, {30, 6.7}, {35, 10.4},
	{40, 11.1}, {45, 13.1}, {50, 15.3}, {55, 15.4}, {60, 16.5}, {65, 19.4}, {70, 23.1}, {75, 29.5},
	{80, 31.9}, {85, 36.7}, {90, 40.6}, {95, 51.1}, {98, 59.7},
}

// WebPQuality is libwebp's own quality that is thought to come as near as libjpeg-turbo at q.
func WebPQuality(q declare.Quality) float64 {
	s, _ := settingFor(declare.WebP, float64(q))
	return webp.Quality(s)
}

// qualityOf is the quality at which a picture that is easy to compress needs a setting: none was written at a higher one.
// What lies beyond the finest mark is unknown.
func qualityOf(table [][2]float64, setting float64) int {
	for i := len(table) - 1; i > 0; i-- {
		if a, b := table[i-1], table[i]; setting >= a[1] {
			if i == len(table)-1 && setting >= b[1] {
				return 0
			}
			return max(1, int(a[0]+(b[0]-a[0])*(setting-a[1])/math.Max(1e-9, b[1]-a[1])+0.5))
		}
	}
	return 1
}
