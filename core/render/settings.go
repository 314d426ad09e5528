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
		{10, -1.7, 3.95, 17.15, -4.39},
		{20, 68.7, -2.38, -6.07, -43.31},
		{30, 95.4, -10.24, -6.00, -35.57},
		{40, 96.8, -9.96, -4.85, -27.25},
		{50, 105.8, -13.50, -3.62, -24.11},
		{60, 117.9, -19.67, -2.38, -22.07},
		{70, 118.1, -20.21, -1.15, -16.69},
		{80, 111.6, -17.30, -0.05, -6.84},
		{85, 108.5, -15.03, -0.03, -5.29},
		{90, 104.8, -11.90, 0.14, -2.95},
		{95, 101.7, -7.52, -0.15, -1.38},
	}
	avifLines = []line{
		{10, 13.3, -2.60, 4.68, -5.11},
		{20, 27.8, -1.16, -2.19, -20.81},
		{30, 42.4, -4.53, -3.51, -22.22},
		{40, 52.3, -8.56, -2.78, -20.25},
		{50, 56.7, -10.18, -2.64, -20.21},
		{60, 61.0, -12.20, -2.26, -20.29},
		{70, 57.0, -9.10, -3.06, -17.15},
		{80, 68.8, -16.36, -1.55, -17.18},
		{85, 71.7, -18.03, -1.63, -16.86},
		{90, 68.6, -16.04, -1.55, -8.89},
		{95, 62.4, -10.03, -0.84, -4.24},
	}
	jpegLines = []line{
		{10, 23.1, -1.36, -0.49, -4.81},
		{20, 49.8, -3.80, -5.01, -13.17},
		{30, 75.0, -8.88, -6.56, -14.40},
		{40, 98.6, -16.33, -6.03, -15.82},
		{50, 97.9, -13.79, -6.24, -11.78},
		{60, 102.3, -15.04, -4.75, -11.45},
		{70, 102.9, -14.51, -3.21, -9.50},
		{80, 99.5, -11.22, -2.18, -6.83},
		{85, 98.3, -9.47, -1.69, -6.28},
		{90, 97.0, -7.95, -0.68, -3.36},
		{95, 94.4, -4.44, 0.22, 0.18},
	}
)

// Quality of libjpeg-turbo, and setting: WebP's fineness as we write it, AV1's quantizer counted from the coarsest, the quality of
// JPEG's tables.
var webpSettings = [][2]float64{
	{0, 0}, {5, 10.0}, {10, 14.6}, {15, 32.3}, {20, 42.3}, {25, 48.5}, {30, 52.9}, {35, 56.1},
	{40, 58.3}, {45, 62.1}, {50, 65.6}, {55, 68.8}, {60, 71.6}, {65, 74.8}, {70, 78.1}, {75, 81.7},
	{80, 85.9}, {85, 89.8}, {90, 94.6}, {95, 100.0}, {98, 100.0},
}

var avifSettings = [][2]float64{
	{0, 0}, {5, 0.0}, {10, 4.1}, {15, 10.0}, {20, 15.1}, {25, 18.3}, {30, 20.8}, {35, 22.6},
	{40, 24.1}, {45, 25.7}, {50, 27.2}, {55, 28.0}, {60, 29.0}, {65, 30.1}, {70, 32.7}, {75, 35.0},
	{80, 38.1}, {85, 43.2}, {90, 50.3}, {95, 57.4}, {98, 60.0},
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
	{0, 0}, {5, 0.0}, {10, 0.0}, {15, 2.3}, {20, 3.6}, {25, 4.0}, {30, 5.0}, {35, 6.8},
	{40, 7.8}, {45, 8.7}, {50, 10.2}, {55, 13.3}, {60, 15.0}, {65, 21.0}, {70, 24.5}, {75, 26.7},
	{80, 30.3}, {85, 34.9}, {90, 40.3}, {95, 50.9}, {98, 58.9},
}

// alone is how much finer libwebp's own settings have to be.
const alone = 1.6

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
