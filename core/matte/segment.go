package matte

import (
	"cmp"
	"math"
	"slices"

	"echolane/core/face"
	"echolane/core/raster"
	"echolane/core/subject"
	"echolane/core/superpixel"
)

// segmentSide is the longest side of what is parted into superpixels, and superpixels how many there are.
const segmentSide, superpixels = 320, 1400

// uniform is the variance up to which a region is of one colour.
const uniform = several / 5

// evenSure is from which cost on a region isn't taken for an even ground's.
const evenSure = 3

// several is the variance above which a region has more than one colour.
const several = 0.003

// parted is a copy parted into superpixels.
type parted struct {
	w, h int
	lab  [3][]float32
	r    *superpixel.Regions
}

func partedOf(p *raster.RGBA) *parted {
	lab := superpixel.Oklab(p)
	return &parted{p.W, p.H, lab, superpixel.New(lab, p.W, p.H, superpixels)}
}

// segment says which pixels are the subject's, and which may be a mixture.
func (p *parted) segment(found *subject.Found, faces []face.Face) (inside, mixed []bool) {
	w, h, lab, r := p.w, p.h, p.lab, p.r
	n := len(r.Colour)
	// How much each stands out, and whether it lies in the subject's box with some room around it.
	stands, within, body, around := make([]float32, n), make([]float32, n), make([]float32, n), make([]float32, n)
	const room = 0.06
	for i, k := range r.Of {
		x, y := (float64(i%w)+0.5)/float64(w), (float64(i/w)+0.5)/float64(h)
		stands[k] += float32(found.Standing(x, y)) / r.Area[k]
		in := x > found.X0-room && x < found.X1+room && y > found.Y0-room && y < found.Y1+room
		is, beside := 0.0, false
		for _, f := range faces {
			v, near := bodyAt(f, x, y)
			beside, is = beside || near, max(is, v)
		}
		if in = in || beside; beside {
			around[k] += 1 / r.Area[k]
		}
		if in {
			within[k] += 1 / r.Area[k]
		}
		body[k] += float32(is) / r.Area[k]
	}
	ours, rest := make([]float32, n), make([]float32, n)
	// What lies in the box and isn't the subject yet says nothing of the ground.
	ground := func(k int) bool { return within[k] < 0.5 || r.Edge[k] > 0 && around[k] < 0.5 }
	for k := range rest {
		if ground(k) {
			rest[k] = r.Area[k]
		}
	}
	// Regions of several colours are fringes and what shows between them, or texture.
	spread := make([]float32, n)
	for i, k := range r.Of {
		for c, weight := range [3]float32{1, 4, 4} {
			d := lab[c][i] - r.Colour[k][c]
			spread[k] += weight * d * d / r.Area[k]
		}
	}
	even, ok := evenGroundOf(r, rest)
	if !ok {
		even = nil
	}
	// apart is how surely a region of one colour in the box isn't the ground's, where that is even. Of people it is known where to look.
	apart := func(k int) float64 {
		if even == nil || spread[k] > uniform || within[k] < 0.5 || around[k] > 0.5 {
			return math.Inf(-1)
		}
		return even.cost(r, k) - evenSure
	}
	fore := first(r, rest, apart, func(k int) bool { return within[k] > 0.5 && (stands[k] > 0.4 || body[k] > 0.9) })
	var mean float64 // of the squared differences of neighbours
	links := 0.0
	for _, list := range r.Beside {
		for _, l := range list {
			mean += float64(l.Apart * l.Apart)
			links++
		}
	}
	mean = mean/max(1, links) + 1e-6
	borders := r.Borders()
	for round := range 5 {
		clear(ours)
		clear(rest)
		for k := range fore {
			switch {
			case fore[k]:
				ours[k] = r.Area[k]
			case ground(k):
				rest[k] = r.Area[k]
			}
		}
		in, ok1 := mixtureOf(r.Colour, ours)
		out, ok2 := mixtureOf(r.Colour, rest)
		if !ok1 || !ok2 {
			break
		}
		g := newGraph(n)
		trust := 1 - 0.15*float64(round) // in what stands out, ever less than in colours
		hull := hullOf(r, fore)
		for k := range n {
			d := out.cost(r.Colour[k]) - in.cost(r.Colour[k])
			d = max(d, apart(k))
			d = max(-5, min(5, d))
			s := min(0.9, max(0.2, float64(stands[k])))
			d += trust * math.Log(s/(1-s))
			if hull.has(r.X[k], r.Y[k]) { // what lies between parts of it and is no colour of the ground
				d += 1.2
			}
			d += 2.4 * float64(body[k])
			if within[k] < 0.5 {
				d -= 6
			}
			if r.Edge[k] > 0 && around[k] < 0.5 {
				d--
			}
			d *= float64(r.Area[k]) / 60
			if d > 0 {
				g.link(n, k, float32(d), 0)
			} else {
				g.link(k, n+1, float32(-d), 0)
			}
		}
		for k, list := range r.Beside {
			for i, l := range list {
				if int(l.To) > k {
					v := float32(0.35 * float64(borders[k][i]) * (math.Exp(-float64(l.Apart*l.Apart)/(1.2*mean)) + 0.03))
					g.link(k, int(l.To), v, v)
				}
			}
		}
		now := g.cut()
		same := true
		for k := range now {
			same = same && now[k] == fore[k]
		}
		fore = now
		if same {
			break
		}
	}
	inside = make([]bool, w*h)
	edge := fringes(r, fore, spread)
	mixed = make([]bool, w*h)
	for i, k := range r.Of {
		inside[i], mixed[i] = fore[k], edge[k]
	}
	tidy(inside, w, h)
	return inside, mixed
}

// fringes are the regions of several colours along the subject's edge: those beside a region of the other side, and those that
// lead on from them.
func fringes(r *superpixel.Regions, fore []bool, spread []float32) []bool {
	out := make([]bool, len(fore))
	var queue []int
	for k, list := range r.Beside {
		for _, l := range list {
			if spread[k] > several && fore[l.To] != fore[k] {
				out[k] = true
				queue = append(queue, k)
				break
			}
		}
	}
	for len(queue) > 0 {
		k := queue[0]
		queue = queue[1:]
		for _, l := range r.Beside[k] {
			if !out[l.To] && spread[l.To] > several {
				out[l.To] = true
				queue = append(queue, int(l.To))
			}
		}
	}
	return out
}

// first is what the subject is taken for at first: what may be it and isn't of a colour of the ground; where that is next to
// nothing, all that may be it.
func first(r *superpixel.Regions, rest []float32, apart func(k int) float64, may func(k int) bool) []bool {
	fore, all := make([]bool, len(rest)), make([]bool, len(rest))
	ground, ok := mixtureOf(r.Colour, rest)
	var mean, area, kept, left float64
	for k, w := range rest {
		if w > 0 && ok {
			mean += float64(w) * ground.cost(r.Colour[k])
			area += float64(w)
		}
	}
	for k := range fore {
		if all[k] = may(k); !all[k] {
			continue
		}
		left += float64(r.Area[k])
		if !ok || ground.cost(r.Colour[k]) > mean/area+2.5 || apart(k) > evenSure {
			fore[k] = true
			kept += float64(r.Area[k])
		}
	}
	if kept < left/5 {
		return all
	}
	return fore
}

// bodyAt is how likely a place belongs to whom a face is of, 0–1, and whether it may at all: the head is around the face, and
// below it are shoulders, twice to three times as wide.
func bodyAt(f face.Face, x, y float64) (is float64, near bool) {
	w, h := f.X1-f.X0, f.Y1-f.Y0
	mx, my := (f.X0+f.X1)/2, (f.Y0+f.Y1)/2
	dx, dy := (x-mx)/w, (y-my)/h
	near = dy > -1.1 && math.Abs(dx) < 0.8+1.4*min(1, max(0, dy+0.1))
	switch {
	case dx*dx/0.3+dy*dy/0.3 < 1:
		return 1, true
	case dy > 0.4 && math.Abs(dx) < 0.3+0.7*min(1, (dy-0.4)/0.6):
		return 0.85, true
	case dx*dx/0.7+(dy+0.1)*(dy+0.1)/0.8 < 1:
		return 0.35, true
	}
	return 0, near
}

// A hull is the smallest outline without dents around points.
type hull [][2]float32

// hullOf is around the middles of regions (Andrew 1979).
func hullOf(r *superpixel.Regions, which []bool) hull {
	var points [][2]float32
	for k, in := range which {
		if in {
			points = append(points, [2]float32{r.X[k], r.Y[k]})
		}
	}
	slices.SortFunc(points, func(a, b [2]float32) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	half := func(points [][2]float32) (out hull) {
		for _, p := range points {
			for len(out) >= 2 && turn(out[len(out)-2], out[len(out)-1], p) <= 0 {
				out = out[:len(out)-1]
			}
			out = append(out, p)
		}
		return out
	}
	if len(points) < 3 {
		return nil
	}
	low := half(points)
	slices.Reverse(points)
	high := half(points)
	return append(low[:len(low)-1], high[:len(high)-1]...)
}

func turn(a, b, c [2]float32) float32 { return (b[0]-a[0])*(c[1]-a[1]) - (b[1]-a[1])*(c[0]-a[0]) }

func (h hull) has(x, y float32) bool {
	for i, p := range h {
		if turn(p, h[(i+1)%len(h)], [2]float32{x, y}) < 0 {
			return false
		}
	}
	return len(h) >= 3
}

// tidy drops what isn't connected to the largest piece and is small beside it, and fills pinholes.
func tidy(inside []bool, w, h int) {
	for _, of := range []bool{true, false} {
		label := make([]int32, len(inside))
		var sizes []int
		var stack []int
		for start, v := range inside {
			if v != of || label[start] != 0 {
				continue
			}
			sizes = append(sizes, 0)
			id := int32(len(sizes))
			stack = append(stack[:0], start)
			label[start] = id
			for len(stack) > 0 {
				i := stack[len(stack)-1]
				stack = stack[:len(stack)-1]
				sizes[id-1]++
				x, y := i%w, i/w
				for _, d := range [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
					nx, ny := x+d[0], y+d[1]
					if nx < 0 || ny < 0 || nx >= w || ny >= h {
						continue
					}
					if j := ny*w + nx; inside[j] == of && label[j] == 0 {
						label[j] = id
						stack = append(stack, j)
					}
				}
			}
		}
		most := 0
		for _, n := range sizes {
			most = max(most, n)
		}
		keep := most / 12
		if !of {
			keep = len(inside) / 2500
		}
		for i, id := range label {
			if id != 0 && sizes[id-1] < keep {
				inside[i] = !of
			}
		}
	}
}
