package encode

import (
	"math"
	"slices"

	"echolane/core/codec/formats"
	"echolane/core/declare"
)

// heavier is how many times the bytes of the smallest format a format takes, at qualities 50, 72 and 90: medians over the corpus
// (`go run ./bench formats`).
var heavier = map[string]map[declare.Format][3]float64{
	"photograph": {declare.AVIF: {1, 1, 1}, declare.WebP: {1.56, 1.55, 1.60}, declare.JXL: {1.77, 1.62, 1.44}, declare.JPEG: {2.68, 2.28, 1.84}, declare.PNG: {36, 25, 12}},
	"graphic":    {declare.AVIF: {1, 1, 1}, declare.WebP: {2.3, 1.9, 1.95}, declare.JXL: {2.8, 2.6, 2.7}, declare.JPEG: {6.5, 5.8, 5.2}, declare.PNG: {10, 7, 3.9}},
}

// exactly is the same where every pixel is kept.
var exactly = map[string]map[declare.Format]float64{
	"photograph": {declare.JXL: 1, declare.WebP: 1.15, declare.PNG: 1.55, declare.AVIF: 1.8},
	"graphic":    {declare.WebP: 1, declare.JXL: 1.07, declare.PNG: 1.55, declare.AVIF: 2},
}

// within is how much heavier than the most promising format another is thought to be, at most, for it to be tried: on the corpus
// those beyond are the smallest for one picture in forty.
var within = map[string]float64{"photograph": 1.45, "graphic": 2.05}

// like is how near to the smallest a format is as good: then the site's order decides.
const like = 1.02

// Heavier is how many times the bytes of the smallest format this one is thought to take for a picture of a kind, photograph or
// graphic, at a quality. Of a format of which nothing is known it's very many.
func Heavier(f declare.Format, kind string, quality declare.Quality) float64 {
	if quality == declare.Lossless {
		if v, ok := exactly[kind][f]; ok {
			return v
		}
		return math.Inf(1)
	}
	if quality == 0 {
		quality = defaultQuality
	}
	v, ok := heavier[kind][f]
	if !ok {
		return math.Inf(1)
	}
	switch q := float64(quality); {
	case q <= 50:
		return v[0]
	case q <= 72:
		return v[0] + (v[1]-v[0])*(q-50)/22
	case q <= 90:
		return v[1] + (v[2]-v[1])*(q-72)/18
	}
	return v[2]
}

// Lightest are the offered formats, the one that is thought to have the fewest bytes first. Their own order breaks ties.
func Lightest(offered []declare.Format, kind string, quality declare.Quality) []declare.Format {
	order := slices.Clone(offered)
	slices.SortStableFunc(order, func(a, b declare.Format) int {
		x, y := Heavier(a, kind, quality), Heavier(b, kind, quality)
		switch {
		case x == y || x <= y*like && y <= x*like:
			return 0
		case x < y:
			return -1
		}
		return 1
	})
	return order
}

// Promising are the offered formats that may have the fewest bytes, the most promising first, at most so many. The first is always
// there.
func Promising(offered []declare.Format, kind string, quality declare.Quality, most int) []declare.Format {
	if len(offered) < 2 {
		return offered
	}
	order := Lightest(offered, kind, quality)
	least := Heavier(order[0], kind, quality)
	n := 1
	for n < len(order) && n < most && Heavier(order[n], kind, quality) <= least*within[kind] {
		n++
	}
	return order[:n]
}

// A Weighed is what a picture weighs in a format.
type Weighed struct {
	Format string `json:"format"` // its name
	Bytes  int    `json:"bytes"`
}

// Smallest writes the picture in each of the formats and gives the smallest file, or the one whose format stands first in order among
// those that are hardly larger. There is at least one format. Formats that can't be written as is wanted are passed over, unless none can.
func (p *Picture) Smallest(tried, order []declare.Format) (data []byte, format declare.Format, how Encoding, err error) {
	type made struct {
		data   []byte
		format declare.Format
		how    Encoding
	}
	var all []made
	var weighed []Weighed
	least := math.MaxInt
	for _, f := range tried {
		d, h, broke := p.Encode(f)
		if broke != nil {
			err = broke
			continue
		}
		all, weighed = append(all, made{d, f, h}), append(weighed, Weighed{f.String(), len(d)})
		least = min(least, len(d))
	}
	if len(all) == 0 {
		return nil, tried[0], how, err
	}
	var best *made
	for i := range all {
		m := &all[i]
		if float64(len(m.data)) > like*float64(least) {
			continue
		}
		if best == nil || slices.Index(order, m.format) < slices.Index(order, best.format) {
			best = m
		}
	}
	if how = best.how; len(weighed) > 1 {
		how.Weighed = weighed
	}
	return best.data, best.format, how, nil
}

// WantsPixels reports whether one of the formats is written from pixels.
func WantsPixels(all []declare.Format) bool {
	return slices.ContainsFunc(all, func(f declare.Format) bool { w := formats.Writer(f); return w != nil && (w.Pixels || w.Lossy == nil) })
}
