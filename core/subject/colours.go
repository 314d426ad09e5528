package subject

import (
	"cmp"
	"fmt"
	"math"
	"slices"

	"echolane/core/raster"
	"echolane/core/superpixel"
)

// A Share is a colour and how much of a picture has it or one that is nearly it.
type Share struct {
	Colour string  `json:"colour"` // #rrggbb
	Share  float64 `json:"share"`  // 0–1
}

// mostColours is how many main colours there are at the most.
const mostColours = 5

// Colours are the main colours of p, premultiplied, the largest share first: k-means in Oklab from colours that lie far apart, of
// which those that nobody would tell apart are one. What is transparent doesn't count.
func Colours(p *raster.RGBA) []Share {
	lab := superpixel.Oklab(p)
	type cell struct {
		sum   [3]float64
		rgb   [3]float64
		count float64
	}
	cells := map[[3]int]*cell{} // of colours that are nearly the same
	var total float64
	for i := range lab[0] {
		q := p.Row(i / p.W)[4*(i%p.W):][:4]
		if q[3] < 128 {
			continue
		}
		key := [3]int{int(lab[0][i] * 24), int(math.Floor(float64(lab[1][i]) * 48)), int(math.Floor(float64(lab[2][i]) * 48))}
		c := cells[key]
		if c == nil {
			c = &cell{}
			cells[key] = c
		}
		for k := range 3 {
			c.sum[k] += float64(lab[k][i])
			c.rgb[k] += float64(q[k]) * 255 / float64(q[3])
		}
		c.count++
		total++
	}
	if total == 0 {
		return nil
	}
	keys := make([][3]int, 0, len(cells))
	for k := range cells {
		keys = append(keys, k)
	}
	slices.SortFunc(keys, func(a, b [3]int) int { return cmp.Or(a[0]-b[0], a[1]-b[1], a[2]-b[2]) })
	mean := func(c *cell) (m [3]float64) {
		for k := range m {
			m[k] = c.sum[k] / c.count
		}
		return m
	}
	apart := func(a, b [3]float64) float64 {
		return sq(a[0]-b[0]) + 4*sq(a[1]-b[1]) + 4*sq(a[2]-b[2])
	}
	// The first is the most frequent colour, each further one what counts most by its distance from those there are.
	var centres [][3]float64
	near := make([]float64, len(keys))
	for i := range near {
		near[i] = 1
	}
	for len(centres) < mostColours {
		best, at := 0.0, -1
		for i, k := range keys {
			if v := near[i] * math.Sqrt(cells[k].count); v > best {
				best, at = v, i
			}
		}
		if at < 0 || near[at] < 0.004 {
			break
		}
		centres = append(centres, mean(cells[keys[at]]))
		for i, k := range keys {
			near[i] = min(near[i], apart(mean(cells[k]), centres[len(centres)-1]))
		}
	}
	groups := make([]cell, len(centres))
	for range 8 {
		clear(groups)
		for _, k := range keys {
			c := cells[k]
			best, at := math.Inf(1), 0
			for n, m := range centres {
				if d := apart(mean(c), m); d < best {
					best, at = d, n
				}
			}
			g := &groups[at]
			for k := range 3 {
				g.sum[k] += c.sum[k]
				g.rgb[k] += c.rgb[k]
			}
			g.count += c.count
		}
		for n := range centres {
			if groups[n].count > 0 {
				centres[n] = mean(&groups[n])
			}
		}
	}
	var out []Share
	for _, g := range groups {
		if g.count < total/500 {
			continue
		}
		var c [3]int
		for k := range c {
			c[k] = min(255, int(g.rgb[k]/g.count+0.5))
		}
		out = append(out, Share{fmt.Sprintf("#%02x%02x%02x", c[0], c[1], c[2]), math.Round(1e3*g.count/total) / 1e3})
	}
	slices.SortStableFunc(out, func(a, b Share) int { return cmp.Compare(b.Share, a.Share) })
	return out
}

// Sharpness is how sharp the sharpest of p is, at most Side on a side: 0 where no edge is, about 0.3 where all is out of focus, 1 where
// edges are as steep as pixels allow.
func Sharpness(p *raster.RGBA) float64 {
	sharp, contrast := sharpness(p)
	var list []float32
	for i, c := range contrast.v {
		if c > 0.04 {
			list = append(list, sharp.v[i])
		}
	}
	if len(list) == 0 {
		return 0
	}
	return math.Round(100*float64(nth(list, len(list)*9/10))) / 100
}

// Lettered reports whether p, about 640 on its longer side, has areas that look like text: rows of places where light and dark
// alternate often, in two tones, with plain rows above or below.
func Lettered(p *raster.RGBA) bool {
	const cell = 12
	w, h := p.W/cell, p.H/cell
	if w < 4 || h < 2 {
		return false
	}
	like := make([]bool, w*h)
	for cy := range h {
		for cx := range w {
			like[cy*w+cx] = letters(p, cx*cell, cy*cell, cell)
		}
	}
	runs := 0
	for cy := range h {
		run := 0
		for cx := range w {
			if !like[cy*w+cx] {
				run = 0
				continue
			}
			if run++; run == 4 {
				runs++
			}
		}
	}
	return runs >= 2
}

// letters reports whether a square has strokes: most of its pixels are of one of two tones far apart, and its rows change between
// them several times.
func letters(p *raster.RGBA, x0, y0, side int) bool {
	var light [16 * 16]float32
	low, high := float32(1), float32(0)
	for y := range side {
		row := p.Row(y0 + y)[4*x0:]
		for x := range side {
			v := (54*float32(row[4*x]) + 183*float32(row[4*x+1]) + 19*float32(row[4*x+2])) / 65280
			light[y*side+x] = v
			low, high = min(low, v), max(high, v)
		}
	}
	if high-low < 0.35 {
		return false
	}
	middle, tones, changes, dark := (low+high)/2, 0, 0, 0
	for y := range side {
		before := false
		for x := range side {
			v := light[y*side+x]
			if v < low+0.25*(high-low) || v > high-0.25*(high-low) {
				tones++
			}
			now := v < middle
			if now {
				dark++
			}
			if x > 0 && now != before {
				changes++
			}
			before = now
		}
	}
	all := side * side
	share := float64(dark) / float64(all)
	return tones > all*55/100 && changes > side*3/2 && (share > 0.08 && share < 0.45 || share > 0.55 && share < 0.92)
}
