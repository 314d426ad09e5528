// Package face finds faces in a picture: boxes and nothing else. It doesn't know whose they are.
//
// A small network of separable convolutions (weights under the MIT licence, see NOTICE) looks at a copy of the picture in two
// sizes and proposes places. Each place that isn't sure is then looked at by itself, at the sizes that the network is best at:
// what is a face stays one at every size, and what only looks like one seldom does. Overlapping places are one face.
package face

import (
	"cmp"
	"math"
	"slices"
	"sync"

	"echolane/core/raster"
)

// Side is the longest side of the copy that Find expects. Faces of at least 24 of its pixels are found.
const Side = 640

// A Face is a box around a face, from the brow to the chin, in parts of a picture's sides, and how sure it is: 0.45–1.
type Face struct {
	X0   float64 `json:"x0"`
	Y0   float64 `json:"y0"`
	X1   float64 `json:"x1"`
	Y1   float64 `json:"y1"`
	Sure float64 `json:"sure"`
}

const (
	proposed = 0.2 // the least score of what is looked at again
	settled  = 0.9 // and of what isn't
	accepted = 0.45
	agreed   = 0.6  // the mean of two sizes' scores that needs no third
	alike    = 0.35 // share of the union at which two boxes are of one face
	most     = 200  // faces in a picture
)

// passes are the sizes of the picture that are looked at, in parts of the copy's.
var passes = [2]float64{1.5, 0.6}

// closer are the heights in pixels that a face has when it's looked at again.
var closer = [2]float64{58, 88}

// part is how much is looked at again, in parts of the face's height.
const part = 2.2

// Find gives the faces in p, the largest first. p is premultiplied, at most Side on a side.
func Find(p *raster.RGBA) []Face { return find(p, accepted) }

// wary is the least score of what FindAnyhow takes for a face.
const wary = 0.3

// FindAnyhow gives what may be a face, whichever way up it is: for those who would rather hide too much. It takes four times as
// long.
func FindAnyhow(p *raster.RGBA) []Face {
	out := find(p, wary)
	turned := p
	for turn := 1; turn < 4; turn++ {
		turned = quarter(turned)
		for _, f := range find(turned, wary) {
			for range 4 - turn { // back
				f.X0, f.Y0, f.X1, f.Y1 = 1-f.Y1, f.X0, 1-f.Y0, f.X1
			}
			out = append(out, f)
		}
	}
	return out
}

// quarter turns a picture clockwise.
func quarter(p *raster.RGBA) *raster.RGBA {
	q := p.Transpose()
	for y := range q.H {
		row := q.Row(y)
		for a, b := 0, 4*(q.W-1); a < b; a, b = a+4, b-4 {
			for c := range 4 {
				row[a+c], row[b+c] = row[b+c], row[a+c]
			}
		}
	}
	return q
}

// Kept is the box around the faces that a window of w×h, in parts of the picture's sides, can hold: all of them, or the
// largest and as many of the next ones as there is room for beside it. There must be one.
func Kept(faces []Face, w, h float64) (x0, y0, x1, y1 float64) {
	x0, y0, x1, y1 = faces[0].X0, faces[0].Y0, faces[0].X1, faces[0].Y1
	for _, f := range faces[1:] {
		left, top, right, bottom := min(x0, f.X0), min(y0, f.Y0), max(x1, f.X1), max(y1, f.Y1)
		if right-left <= w && bottom-top <= h {
			x0, y0, x1, y1 = left, top, right, bottom
		}
	}
	return x0, y0, x1, y1
}

func find(p *raster.RGBA, accepted float64) []Face {
	if p.W < 20 || p.H < 20 {
		return nil
	}
	var by [len(passes)][]found
	for i, k := range passes {
		for _, f := range look(p, 0, 0, float64(p.W), float64(p.H), k, proposed) {
			by[i] = append(by[i], found{f.x0 / k, f.y0 / k, f.x1 / k, f.y1 / k, f.score})
		}
		by[i] = single(by[i])
	}
	for i, f := range by[0] { // what both sizes say is settled
		for _, g := range by[1] {
			if f.score+g.score > 2*agreed && min(f.score, g.score) > agreed/2 && overlap(f, g) > alike {
				by[0][i].score = settled
			}
		}
	}
	list := single(slices.Concat(by[0], by[1]))
	if len(list) > most {
		list = list[:most]
	}
	for i := range list {
		if list[i].score < settled {
			list[i] = again(p, list[i])
		}
	}
	list = slices.DeleteFunc(single(list), func(f found) bool { return f.score < accepted })
	slices.SortStableFunc(list, func(a, b found) int { return cmp.Compare(area(b), area(a)) })
	var out []Face
	for _, f := range list {
		w, h := float64(p.W), float64(p.H)
		in := func(v float64) float64 { return math.Round(1e4*max(0, min(1, v))) / 1e4 }
		out = append(out, Face{in(f.x0 / w), in(f.y0 / h), in(f.x1 / w), in(f.y1 / h), math.Round(100*f.score) / 100})
	}
	return out
}

func area(f found) float64 { return max(0, f.x1-f.x0) * max(0, f.y1-f.y0) }

// single keeps the surest of boxes that are of one face, the surest first.
func single(list []found) []found {
	slices.SortStableFunc(list, func(a, b found) int { return cmp.Compare(b.score, a.score) })
	var out []found
	for _, f := range list {
		if !slices.ContainsFunc(out, func(g found) bool { return overlap(f, g) > alike }) {
			out = append(out, f)
		}
	}
	return out
}

// overlap is how much of two boxes is common to both: of their union, or most of the smaller one.
func overlap(f, g found) float64 {
	both := found{x0: max(f.x0, g.x0), y0: max(f.y0, g.y0), x1: min(f.x1, g.x1), y1: min(f.y1, g.y1)}
	if both.x1 <= both.x0 || both.y1 <= both.y0 {
		return 0
	}
	a := area(both)
	return max(a/(area(f)+area(g)-a), a/min(area(f), area(g))-0.4)
}

// again looks at a place by itself, in several sizes. Its score is the mean of what they say.
func again(p *raster.RGBA, f found) found {
	h := (f.y1 - f.y0 + f.x1 - f.x0) / 2
	mx, my := (f.x0+f.x1)/2, (f.y0+f.y1)/2
	sum, box, weight := f.score, found{}, 0.0
	for _, to := range closer {
		k := to / h
		x, y, side := mx-part*h/2, my-part*h/2, part*h
		best := found{}
		for _, g := range look(p, x, y, side, side, k, 0.05) {
			g = found{x + g.x0/k, y + g.y0/k, x + g.x1/k, y + g.y1/k, g.score}
			if g.score > best.score && overlap(f, g) > alike {
				best = g
			}
		}
		sum += best.score
		weight += best.score
		box.x0, box.y0, box.x1, box.y1 = box.x0+best.score*best.x0, box.y0+best.score*best.y0, box.x1+best.score*best.x1, box.y1+best.score*best.y1
	}
	score := sum / float64(1+len(closer))
	if weight < 0.1 {
		return found{f.x0, f.y0, f.x1, f.y1, score}
	}
	return found{box.x0 / weight, box.y0 / weight, box.x1 / weight, box.y1 / weight, score}
}

// levels are the values of red, green and blue as the network takes them.
var levels = func() (t [3][256]float32) {
	for c, m := range means {
		for v := range t[c] {
			t[c][v] = (float32(v) - m) / 255
		}
	}
	return t
}()

// grey is what the network takes for zero.
var grey = func() (g [3]byte) {
	for c, m := range means {
		g[c] = byte(math.Round(float64(m)))
	}
	return g
}()

// look gives what the network says, with at least a score, of a part of p, k times as large.
func look(p *raster.RGBA, x, y, w, h, k, least float64) []found {
	in := copies.Get().(*pixels)
	defer copies.Put(in)
	in.take(p, x, y, w, h, k)
	return read(net().run(*in), least)
}

// pixels are red, green and blue as the network takes them, w×h of them, and three bytes more.
type pixels struct {
	w, h int
	v    []byte
}

var copies = sync.Pool{New: func() any { return new(pixels) }}

// take takes a part of p, k times as large. Outside of the picture is mean grey.
func (t *pixels) take(p *raster.RGBA, x, y, w, h, k float64) {
	t.w, t.h = max(64, int(math.Ceil(w*k))), max(64, int(math.Ceil(h*k)))
	n := 3*t.w*t.h + 3
	if cap(t.v) < n {
		t.v = make([]byte, n)
	}
	t.v = t.v[:n]
	// What of the picture is in the part, in whole pixels of the input.
	x0, y0 := max(0, int(math.Ceil(-x*k))), max(0, int(math.Ceil(-y*k)))
	x1, y1 := min(t.w, int((float64(p.W)-x)*k+0.5)), min(t.h, int((float64(p.H)-y)*k+0.5))
	if x1-x0 < t.w || y1-y0 < t.h {
		for i := 0; i+3 <= n; i += 3 {
			t.v[i], t.v[i+1], t.v[i+2] = grey[0], grey[1], grey[2]
		}
	}
	if x1-x0 < 1 || y1-y0 < 1 {
		return
	}
	part := raster.ResampleRGBA(p, raster.Axis{From: x + float64(x0)/k, Step: 1 / k, Len: x1 - x0}, raster.Axis{From: y + float64(y0)/k, Step: 1 / k, Len: y1 - y0})
	defer part.Free()
	for row := range part.H {
		from, to := part.Row(row)[:4*part.W], t.v[3*((y0+row)*t.w+x0):]
		for len(from) >= 4 && len(to) >= 3 {
			to[0], to[1], to[2] = from[0], from[1], from[2]
			from, to = from[4:], to[3:]
		}
	}
}
