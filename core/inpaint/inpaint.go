// Package inpaint fills a hole in a picture from the rest of it, so that what stood there isn't missed.
//
// For every patch of 8×8 that touches the hole the most alike patch outside of it is looked for, at first in a small copy, then
// in ones twice as large, and the hole's pixels are the mean of what the patches over them say (Wexler, Shechtman and Irani 2007,
// sections 3 and 4); the search guesses, and hands on to its neighbours what fits (Barnes et al. 2009, section 3). What has been
// found is where to copy from, so that it serves pictures of any size: the copy gives the detail. Its differences from pixel to
// pixel are kept and its values made to meet the hole's edge (Pérez, Gangnet and Blake 2003, section 2), so that no seam shows.
package inpaint

import (
	"math"

	"echolane/core/raster"
)

// Side is the longest side of the copy that New expects.
const Side = 768

// Most is the largest part of a picture that is filled.
const Most = 0.4

const patch = 8

// A Field says where a hole is filled from. It is of a copy of a picture, and serves the picture at any size.
type Field struct {
	w, h   int
	hole   []bool
	shift  []shift   // of each pixel of the copy's hole, to where it is filled from
	colour []float32 // the filled copy: four channels a pixel
}

// Bytes is how much the field takes; nil takes nothing.
func (f *Field) Bytes() int {
	if f == nil {
		return 0
	}
	return len(f.hole) + 8*len(f.shift) + 4*len(f.colour)
}

// A shift leads from a pixel to another one.
type shift struct{ x, y int32 }

// A corner is a patch's top left one.
type corner struct{ x, y int32 }

// level is the copy at one of its sizes.
type level struct {
	w, h    int
	hole    []bool
	pixels  *raster.RGBA
	holes   []int32  // the hole's pixels
	anchors []corner // of the patches that touch it
	source  []bool   // by corner: of those that don't
	near    []corner // by corner: the most alike patch's
	far     []uint32 // and how unlike it is
	votes   votes
	back    bool
	trust   []float32 // of each pixel: 1 outside of the hole, the less the deeper in it
	rng     uint64
}

// New finds out how to fill a hole: w×h values, row by row, true where p is to be filled; p is premultiplied, at most Side on a
// side. ok is false where there is nothing to fill it from: the hole leaves no patch whole, or is larger than Most.
func New(p *raster.RGBA, hole []bool) (f *Field, ok bool) {
	count := 0
	for _, in := range hole {
		if in {
			count++
		}
	}
	if float64(count) > Most*float64(len(hole)) {
		return nil, false
	}
	if count == 0 {
		return &Field{w: p.W, h: p.H, hole: hole, shift: make([]shift, len(hole)), colour: channels(p)}, true
	}
	levels := []*level{newLevel(p.Copy(), hole)}
	for {
		last := levels[len(levels)-1]
		if len(last.holes) == 0 || last.sources() == 0 {
			levels = levels[:len(levels)-1]
			break
		}
		if min(last.w, last.h) < 6*patch || len(levels) > 6 {
			break
		}
		levels = append(levels, last.halved())
	}
	if len(levels) == 0 {
		return nil, false
	}
	for i := len(levels) - 1; i >= 0; i-- {
		l := levels[i]
		if i == len(levels)-1 {
			l.spread()
			l.guess()
		} else {
			l.from(levels[i+1])
		}
		rounds := 2 + 2*i
		for range rounds {
			l.search()
			l.search()
			l.vote()
		}
	}
	l := levels[0]
	l.search()
	f = &Field{w: l.w, h: l.h, hole: hole, shift: l.shifts(), colour: channels(l.pixels)}
	f.settle()
	return f, true
}

func newLevel(p *raster.RGBA, hole []bool) *level {
	l := &level{w: p.W, h: p.H, hole: hole, pixels: p, rng: 0x9e3779b97f4a7c15}
	for i, in := range hole {
		if in {
			l.holes = append(l.holes, int32(i))
		}
	}
	l.corners()
	l.trusts()
	return l
}

// corners parts the patches into those that touch the hole and those that don't.
func (l *level) corners() {
	l.source = make([]bool, l.w*l.h)
	if l.w < patch || l.h < patch {
		return
	}
	across := make([]int, l.w*l.h) // holes in the run of patch pixels from here
	for y := range l.h {
		n := 0
		for x := l.w - 1; x >= 0; x-- {
			if l.hole[y*l.w+x] {
				n++
			}
			if x+patch < l.w && l.hole[y*l.w+x+patch] {
				n--
			}
			across[y*l.w+x] = n
		}
	}
	for y := 0; y+patch <= l.h; y++ {
		for x := 0; x+patch <= l.w; x++ {
			n := 0
			for i := range patch {
				n += across[(y+i)*l.w+x]
			}
			if n == 0 {
				l.source[y*l.w+x] = true
			} else {
				l.anchors = append(l.anchors, corner{int32(x), int32(y)})
			}
		}
	}
	l.near, l.far = make([]corner, len(l.source)), make([]uint32, len(l.source))
}

func (l *level) sources() (n int) {
	for _, ok := range l.source {
		if ok {
			n++
		}
	}
	return n
}

// trusts says how deep in the hole each pixel lies: 1.3 to the power of minus its distance (two passes, 3-4 chamfer).
func (l *level) trusts() {
	const far = 1 << 20
	d := make([]int, len(l.hole))
	at := func(x, y int) int {
		if x < 0 || y < 0 || x >= l.w || y >= l.h {
			return far
		}
		return d[y*l.w+x]
	}
	for i, in := range l.hole {
		if in {
			d[i] = far
		}
	}
	for y := range l.h {
		for x := range l.w {
			i := y*l.w + x
			d[i] = min(d[i], at(x-1, y)+3, at(x, y-1)+3, at(x-1, y-1)+4, at(x+1, y-1)+4)
		}
	}
	for y := l.h - 1; y >= 0; y-- {
		for x := l.w - 1; x >= 0; x-- {
			i := y*l.w + x
			d[i] = min(d[i], at(x+1, y)+3, at(x, y+1)+3, at(x+1, y+1)+4, at(x-1, y+1)+4)
		}
	}
	l.trust = make([]float32, len(d))
	for i, v := range d {
		l.trust[i] = float32(math.Pow(1.3, -min(60, float64(v)/3)))
	}
}

// halved is the level of half the size: its hole is where any of four pixels is in it, its pixels the mean of those that aren't.
func (l *level) halved() *level {
	w, h := l.w/2, l.h/2
	p, hole := raster.NewRGBA(w, h), make([]bool, w*h)
	for y := range h {
		to := p.Row(y)
		for x := range w {
			var sum [4]int
			n := 0
			for dy := range 2 {
				row := l.pixels.Row(2*y + dy)
				for dx := range 2 {
					if l.hole[(2*y+dy)*l.w+2*x+dx] {
						hole[y*w+x] = true
						continue
					}
					for c := range sum {
						sum[c] += int(row[4*(2*x+dx)+c])
					}
					n++
				}
			}
			for c := range sum {
				if n > 0 {
					to[4*x+c] = uint8((sum[c] + n/2) / n)
				}
			}
		}
	}
	return newLevel(p, hole)
}

// spread fills the hole from its edge inwards with the mean of what lies beside.
func (l *level) spread() {
	unknown := append([]bool(nil), l.hole...)
	left := append([]int32(nil), l.holes...)
	for len(left) > 0 {
		var now, next []int32
		for _, i := range left {
			x, y := int(i)%l.w, int(i)/l.w
			var sum [4]int
			n := 0
			for dy := -1; dy <= 1; dy++ {
				for dx := -1; dx <= 1; dx++ {
					if nx, ny := x+dx, y+dy; nx >= 0 && ny >= 0 && nx < l.w && ny < l.h && !unknown[ny*l.w+nx] {
						for c := range sum {
							sum[c] += int(l.pixels.Row(ny)[4*nx+c])
						}
						n++
					}
				}
			}
			if n == 0 {
				next = append(next, i)
				continue
			}
			for c := range sum {
				l.pixels.Row(y)[4*x+c] = uint8(sum[c] / n)
			}
			now = append(now, i)
		}
		if len(now) == 0 {
			return
		}
		for _, i := range now {
			unknown[i] = false
		}
		left = next
	}
}

// random is a number from 0 to below n (Lemire 2019: a product instead of a remainder).
func (l *level) random(n int32) int32 {
	l.rng ^= l.rng << 13
	l.rng ^= l.rng >> 7
	l.rng ^= l.rng << 17
	return int32(l.rng >> 33 * uint64(n) >> 31)
}

// anywhere is a source patch.
func (l *level) anywhere() corner {
	for range 200 {
		c := corner{l.random(int32(l.w - patch + 1)), l.random(int32(l.h - patch + 1))}
		if l.source[l.place(c)] {
			return c
		}
	}
	for i, ok := range l.source {
		if ok {
			return corner{int32(i % l.w), int32(i / l.w)}
		}
	}
	return corner{}
}

func (l *level) place(c corner) int { return int(c.y)*l.w + int(c.x) }

// guess gives every patch some other one.
func (l *level) guess() {
	for _, a := range l.anchors {
		l.near[l.place(a)] = l.anywhere()
	}
	l.measure()
}

// measure says how unlike patches and what they are filled from are.
func (l *level) measure() {
	for _, a := range l.anchors {
		l.far[l.place(a)] = l.apart(a, l.near[l.place(a)])
	}
}

// apart is the sum of the differences of two patches' samples.
func (l *level) apart(a, b corner) uint32 {
	s := l.pixels.Stride
	return differences(l.pixels.Pix, int(a.y)*s+4*int(a.x), int(b.y)*s+4*int(b.x), s)
}

func (l *level) at(i int32) int { return int(i)/l.w*l.pixels.Stride + 4*(int(i)%l.w) }

// from takes the shifts of the level of half the size, and fills the hole by them.
func (l *level) from(small *level) {
	for _, a := range l.anchors {
		s := corner{min(a.x/2, int32(small.w-patch)), min(a.y/2, int32(small.h-patch))}
		to := &l.near[l.place(a)]
		if !small.source[small.place(s)] {
			n := small.near[small.place(s)]
			*to = corner{a.x + 2*(n.x-s.x), a.y + 2*(n.y-s.y)}
			if to.x >= 0 && to.y >= 0 && int(to.x)+patch <= l.w && int(to.y)+patch <= l.h && l.source[l.place(*to)] {
				continue
			}
		}
		*to = l.anywhere()
	}
	l.vote()
	l.measure()
}

// search improves what patches are filled from: by their neighbours', and by guesses that go ever less far. Every second time it
// goes from the end to the beginning.
func (l *level) search() {
	l.back = !l.back
	step := int32(1)
	if l.back {
		step = -1
	}
	right, bottom := int32(l.w-patch), int32(l.h-patch)
	n := len(l.anchors)
	for k := range n {
		a := l.anchors[k]
		if l.back {
			a = l.anchors[n-1-k]
		}
		best := l.near[l.place(a)]
		far := l.apart(a, best)
		for _, beside := range [2]corner{{step, 0}, {0, step}} {
			b := corner{a.x - beside.x, a.y - beside.y}
			if b.x < 0 || b.y < 0 || b.x > right || b.y > bottom || l.source[l.place(b)] {
				continue
			}
			c := l.near[l.place(b)]
			c = corner{c.x + beside.x, c.y + beside.y}
			if c.x < 0 || c.y < 0 || c.x > right || c.y > bottom || c == best || !l.source[l.place(c)] {
				continue
			}
			if d := l.apart(a, c); d < far {
				best, far = c, d
			}
		}
		for reach := max(right, bottom); reach >= 1 && far > 0; reach /= 3 {
			x0, x1 := max(0, best.x-reach), min(right, best.x+reach)
			y0, y1 := max(0, best.y-reach), min(bottom, best.y+reach)
			if c := (corner{x0 + l.random(x1-x0+1), y0 + l.random(y1-y0+1)}); l.source[l.place(c)] {
				if d := l.apart(a, c); d < far {
					best, far = c, d
				}
			}
		}
		l.near[l.place(a)], l.far[l.place(a)] = best, far
	}
}

func abs(v int) int { return max(v, -v) }

// vote fills the hole by what the patches over each of its pixels say: the more alike they are, and the nearer to what is
// known, the more they count.
func (l *level) vote() {
	sigma := 1.0
	for _, a := range l.anchors {
		sigma += float64(l.far[l.place(a)])
	}
	sigma = 0.6*sigma/float64(len(l.anchors)) + 64
	if l.votes.sums == nil {
		l.votes = votes{make([]float32, 4*l.w*l.h), make([]float32, l.w*l.h), l.w}
	} else {
		clear(l.votes.sums)
		clear(l.votes.weights)
	}
	for _, a := range l.anchors {
		i := l.place(a)
		weight := float32(math.Exp(-float64(l.far[i])/sigma)) * (l.trust[i+(patch/2)*l.w+patch/2] + 1e-6)
		l.votes.add(i, l.pixels.Pix, int(l.near[i].y)*l.pixels.Stride+4*int(l.near[i].x), l.pixels.Stride, weight)
	}
	for _, i := range l.holes {
		s, weight := l.votes.sums[4*i:][:4], l.votes.weights[i]
		if weight == 0 {
			continue
		}
		to := l.pixels.Pix[l.at(i):][:4]
		for c := range to {
			to[c] = uint8(s[c]/weight + 0.5)
		}
	}
}

// shifts says for each pixel where it is copied from: as the best patch says of those over it, the ones in whose middle it
// lies first.
func (l *level) shifts() []shift {
	out := make([]shift, len(l.hole))
	for _, i := range l.holes {
		x, y := int(i)%l.w, int(i)/l.w
		cost := uint64(math.MaxUint64)
		for dy := range patch {
			for dx := range patch {
				ax, ay := x-dx, y-dy
				if ax < 0 || ay < 0 || ax+patch > l.w || ay+patch > l.h {
					continue
				}
				a := ay*l.w + ax
				off := abs(2*dx-patch+1) + abs(2*dy-patch+1)
				if c := uint64(l.far[a]) * uint64(20+off); c < cost {
					cost, out[i] = c, shift{l.near[a].x - int32(ax), l.near[a].y - int32(ay)}
				}
			}
		}
	}
	return out
}

func channels(p *raster.RGBA) []float32 {
	out := make([]float32, 4*p.W*p.H)
	for y := range p.H {
		for i, v := range p.Row(y) {
			out[4*y*p.W+i] = float32(v)
		}
	}
	return out
}
