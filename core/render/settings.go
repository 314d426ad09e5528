package render

import (
	"math"

	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/likeness"
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
	slope = math.Log(likeness.DistanceAt(high)/likeness.DistanceAt(low)) / math.Max(0.5, at(high)-at(low))
	return at(quality), math.Min(slope, -0.01)
}

// A line says which setting a picture needs at a quality, from what is seen of its texture: a base, and what each of
// the step that loses as much as libjpeg-turbo, its busyness and the share of its plain blocks adds.
type line struct{ quality, base, step, busy, plain float64 }

// thought is the setting that a picture is thought to need to come as near as libjpeg-turbo at a quality.
func thought(format declare.Format, quality float64, t *likeness.Texture) float64 {
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
func steepness(format declare.Format, quality float64, t *likeness.Texture) float64 {
	_, usual := settingFor(format, quality)
	low, high := math.Max(1, quality-5), math.Min(97, quality+5)
	slope := math.Log(t.Lost(high)/t.Lost(low)) / math.Max(0.5, thought(format, high, t)-thought(format, low, t))
	return math.Max(1.5*usual, math.Min(usual*0.9, slope))
}

// Fitted to the corpus at these qualities; make them anew with `go run ./bench/qualitytable`.
var (
	webpLines = []line{
		{10, -0.6, 3.58, 17.40, -4.18},
		{20, 43.6, 7.20, -6.12, -40.78},
		{30, 91.4, -8.45, -6.10, -35.23},
		{40, 93.1, -8.42, -4.08, -28.01},
		{50, 103.0, -12.19, -3.29, -24.12},
		{60, 117.1, -19.15, -2.41, -22.25},
		{70, 112.2, -16.68, -1.58, -14.16},
		{80, 111.5, -17.21, -0.14, -7.23},
		{85, 107.8, -14.46, -0.17, -5.28},
		{90, 104.5, -11.73, 0.11, -3.25},
		{95, 101.5, -7.53, -0.21, -1.98},
	}
	avifLines = []line{
		{10, 14.3, -3.04, 4.87, -4.63},
		{20, 23.7, 0.57, -2.71, -21.69},
		{30, 39.4, -2.96, -4.16, -23.48},
		{40, 50.1, -7.15, -3.48, -21.95},
		{50, 55.3, -9.14, -3.20, -21.80},
		{60, 60.7, -11.72, -2.70, -21.99},
		{70, 57.3, -9.38, -3.05, -17.61},
		{80, 67.3, -15.18, -2.05, -17.79},
		{85, 70.3, -17.06, -1.80, -16.97},
		{90, 68.2, -15.94, -1.50, -8.94},
		{95, 61.8, -9.84, -0.63, -3.68},
	}
	jpegLines = []line{
		{10, 24.3, -1.76, -0.47, -4.80},
		{20, 50.4, -4.08, -4.90, -12.96},
		{30, 75.2, -9.00, -6.50, -14.24},
		{40, 97.2, -15.64, -6.20, -15.57},
		{50, 97.7, -13.66, -6.23, -11.66},
		{60, 104.0, -15.95, -4.58, -12.11},
		{70, 103.2, -14.62, -3.22, -9.70},
		{80, 99.9, -11.46, -2.16, -7.14},
		{85, 98.2, -9.40, -1.68, -6.15},
		{90, 96.9, -7.82, -0.69, -3.19},
		{95, 94.3, -4.34, 0.21, 0.25},
	}
)

// Quality of libjpeg-turbo, and setting: WebP's fineness as we write it, AV1's quantizer counted from the coarsest, the quality of
// JPEG's tables.
var webpSettings = [][2]float64{
	{0, 0}, {5, 10.0}, {10, 14.1}, {15, 32.8}, {20, 42.7}, {25, 48.6}, {30, 52.9}, {35, 56.4},
	{40, 58.8}, {45, 62.2}, {50, 65.7}, {55, 68.8}, {60, 71.6}, {65, 74.9}, {70, 78.3}, {75, 81.8},
	{80, 85.9}, {85, 89.8}, {90, 94.1}, {95, 98.6}, {98, 100.0},
}

var avifSettings = [][2]float64{
	{0, 0}, {5, 0.0}, {10, 4.0}, {15, 9.4}, {20, 15.1}, {25, 18.0}, {30, 20.3}, {35, 22.1},
	{40, 23.6}, {45, 25.1}, {50, 26.6}, {55, 28.1}, {60, 28.8}, {65, 30.1}, {70, 31.6}, {75, 34.5},
	{80, 37.9}, {85, 42.5}, {90, 50.1}, {95, 57.1}, {98, 60.0},
}

// Of our own JPEG encoder (core/codec/jpeg).
var jpegSettings = [][2]float64{
	{0, 1}, {5, 7.9}, {10, 16.4}, {15, 23.6}, {20, 30.5}, {25, 36.9}, {30, 43.7}, {35, 49.6},
	{40, 54.3}, {45, 58.9}, {50, 62.9}, {55, 65.3}, {60, 67.9}, {65, 70.9}, {70, 74.1}, {75, 77.1},
	{80, 81.1}, {85, 84.3}, {90, 88.8}, {95, 93.0}, {98, 96.4},
}

// The same for the tenth of pictures that need the coarsest settings, WebP's as libwebp writes it.
var webpEasy = [][2]float64{
	{0, 0}, {5, 10.0}, {10, 10.0}, {15, 10.0}, {20, 10.0}, {25, 13.1}, {30, 19.4}, {35, 30.1},
	{40, 33.2}, {45, 41.6}, {50, 44.0}, {55, 51.7}, {60, 55.5}, {65, 61.0}, {70, 63.8}, {75, 67.5},
	{80, 75.1}, {85, 80.8}, {90, 87.3}, {95, 94.4}, {98, 100.0},
}

var avifEasy = [][2]float64{
	{0, 0}, {5, 0.0}, {10, 0.0}, {15, 2.1}, {20, 3.5}, {25, 3.8}, {30, 4.7}, {35, 6.9},
	{40, 7.8}, {45, 8.5}, {50, 9.4}, {55, 11.9}, {60, 14.0}, {65, 20.0}, {70, 22.9}, {75, 26.3},
	{80, 30.5}, {85, 34.8}, {90, 40.1}, {95, 50.9}, {98, 58.9},
}

// alone is how much finer libwebp's own settings have to be.
const alone = 1.9

// WebPQuality is libwebp's own quality that is thought to come as near as libjpeg-turbo at q.
func WebPQuality(q declare.Quality) float64 {
	s, _ := settingFor(declare.WebP, float64(q))
	return webp.Quality(math.Min(100, s+alone))
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
