package subject

import (
	"math"
	"slices"
	"sync"

	"echolane/core/raster"
	"echolane/core/superpixel"
)

// plane is a map over the small copy.
type plane struct {
	w, h int
	v    []float32
}

func newPlane(w, h int) plane { return plane{w, h, make([]float32, w*h)} }

// most is where a part of the values has the largest sum; of about equals, the middle.
func most(values []float64, part float64) float64 {
	n := len(values)
	sums := make([]float64, n+1)
	for i, v := range values {
		sums[i+1] = sums[i] + v
	}
	size := min(n, max(1, int(part*float64(n)+0.5)))
	best, at, count := 0.0, 0.0, 0.0
	for i := 0; i+size <= n; i++ {
		best = max(best, sums[i+size]-sums[i])
	}
	for i := 0; i+size <= n; i++ {
		if sums[i+size]-sums[i] >= 0.97*best {
			at += float64(i)
			count++
		}
	}
	return min(1-part, at/count/float64(n))
}

// opponent gives lightness, red-green and blue-yellow, in Oklab, each about 0–1 or around 0.
func opponent(p *raster.RGBA) (out [3]plane) {
	for c, v := range superpixel.Oklab(p) {
		out[c] = plane{p.W, p.H, v}
	}
	return out
}

// combine makes one map of how much each place stands out.
func combine(lab [3]plane, w, h int) plane {
	rare := rarity(lab, w, h)
	around := surround(lab, w, h)
	edges := gradient(lab, w, h)
	skin := skinLike(lab, w, h)
	rare, around, edges = rare.blur(2), around.blur(2), edges.blur(3)
	for _, m := range []plane{rare, around, edges} {
		m.normalise()
	}
	out := newPlane(w, h)
	// People put what matters off the borders, and rarely along the bottom.
	across, down := bell(w, 0.5), bell(h, 0.47)
	for y := range h {
		for x := range w {
			i := y*w + x
			prior := 0.55 + 0.45*across[x]*down[y]
			out.v[i] = (0.45*rare.v[i] + 0.35*around.v[i] + 0.2*edges.v[i] + 0.35*skin.v[i]) * (0.25 + rare.v[i]) * (0.2 + edges.v[i]) * prior
		}
	}
	return out.blur(1)
}

// bell is how close each of n places is to the middle, given in parts of n.
func bell(n int, middle float64) []float32 {
	b := make([]float32, n)
	for i := range b {
		b[i] = float32(math.Exp(-5 * sq((float64(i)+0.5)/float64(n)-middle)))
	}
	return b
}

// rarity is how unlike the rest of the picture a place's colour is: the mean distance to the colours of all
// places, by a histogram of 12×12×12 colours.
func rarity(lab [3]plane, w, h int) plane {
	const (
		n      = 12
		alike  = 0.07 // distance at which colours count as half of one kind
		behind = 0.9  // border pixels to the square root of the area, beyond which a colour lies behind
	)
	type bin struct {
		c      [3]float32
		count  float32
		border float32 // how many of them lie along the picture's border
	}
	var bins [n * n * n]*bin
	index := make([]int, w*h)
	for i := range index {
		l, a, b := lab[0].v[i], lab[1].v[i], lab[2].v[i]
		q := func(v, low, high float32) int { return min(n-1, max(0, int((v-low)/(high-low)*n))) }
		k := (q(l, 0, 1)*n+q(a, -0.25, 0.25))*n + q(b, -0.25, 0.25)
		index[i] = k
		e := bins[k]
		if e == nil {
			e = &bin{}
			bins[k] = e
		}
		e.c[0], e.c[1], e.c[2], e.count = e.c[0]+l, e.c[1]+a, e.c[2]+b, e.count+1
		if x, y := i%w, i/w; x == 0 || y == 0 || x == w-1 || y == h-1 {
			e.border++
		}
	}
	var keys []int
	for k, e := range bins {
		if e == nil {
			continue
		}
		for c := range e.c {
			e.c[c] /= e.count
		}
		keys = append(keys, k)
	}
	var value [n * n * n]float32
	total := float32(w * h)
	list := make([]bin, len(keys))
	for i, k := range keys {
		list[i] = *bins[k]
	}
	for i, k := range keys {
		var sum, area, border float64
		for j := range list {
			other := &list[j]
			d := float64(distance(list[i].c, other.c))
			sum += d * float64(other.count/total)
			if d < 3*alike {
				like := math.Exp(-d * d / (2 * alike * alike))
				area += like * float64(other.count)
				border += like * float64(other.border)
			}
		}
		// A colour that runs along much of the border belongs to what lies behind, however rare it is.
		touch := border / math.Sqrt(area)
		value[k] = float32(sum * math.Exp(-touch*touch/(2*behind*behind)))
	}
	out := newPlane(w, h)
	for i, k := range index {
		out.v[i] = value[k]
	}
	return out
}

// distance weighs colour three times as much as light: what shines isn't for that what matters.
func distance(a, b [3]float32) float32 {
	dl, da, db := (a[0]-b[0])*0.6, (a[1]-b[1])*2, (a[2]-b[2])*2
	return float32(math.Sqrt(float64(dl*dl + da*da + db*db)))
}

// surround is the difference between a place and what lies around it, at three sizes.
func surround(lab [3]plane, w, h int) plane {
	out := newPlane(w, h)
	var near, far [3]plane
	for c := range lab {
		near[c], far[c] = newPlane(w, h), newPlane(w, h)
	}
	for _, r := range []int{5, 11, 22} {
		for c := range lab {
			lab[c].box(near[c], r/4+1)
			lab[c].box(far[c], 2*r)
		}
		for i := range out.v {
			out.v[i] += distance([3]float32{near[0].v[i], near[1].v[i], near[2].v[i]}, [3]float32{far[0].v[i], far[1].v[i], far[2].v[i]})
		}
	}
	return out
}

func gradient(lab [3]plane, w, h int) plane {
	out := newPlane(w, h)
	for y := 1; y < h-1; y++ {
		for x := 1; x < w-1; x++ {
			i := y*w + x
			var sum float32
			for c, k := range []float32{1, 2, 2} {
				gx, gy := lab[c].v[i+1]-lab[c].v[i-1], lab[c].v[i+w]-lab[c].v[i-w]
				sum += k * float32(math.Sqrt(float64(gx*gx+gy*gy)))
			}
			out.v[i] = sum
		}
	}
	return out
}

// skinLike is 1 in the middle of the hues and strengths of colour that skin has, whatever its light, and 0 away
// from them; the patch has to be smooth and of some size, so it's blurred.
func skinLike(lab [3]plane, w, h int) plane {
	out := newPlane(w, h)
	for i := range out.v {
		l, a, b := float64(lab[0].v[i]), float64(lab[1].v[i]), float64(lab[2].v[i])
		if l < 0.3 || l > 0.92 || b < 0 {
			continue
		}
		far := sq((math.Sqrt(a*a+b*b) - 0.075) / 0.035)
		if far > 10 {
			continue
		}
		if far += sq((math.Atan2(b, a)*180/math.Pi - 55) / 18); far < 10 {
			out.v[i] = float32(math.Exp(-far))
		}
	}
	return out.blur(3)
}

func sq(v float64) float64 { return v * v }

// blur is two box averages of radius r.
func (p plane) blur(r int) plane {
	out := newPlane(p.w, p.h)
	p.box(out, r)
	out.box(out, r)
	return out
}

// box puts the average over 2r+1 by 2r+1 places, whose edges are extended, into a map of the same size, which may be p.
func (p plane) box(to plane, r int) {
	if r < 1 {
		copy(to.v, p.v)
		return
	}
	q := rooms.Get().(*plane)
	defer rooms.Put(q)
	if q.w, q.h = p.w, p.h; cap(q.v) < p.w*p.h {
		q.v = make([]float32, p.w*p.h)
	}
	q.v = q.v[:p.w*p.h]
	k := 1 / float32(2*r+1)
	y := 0
	for ; y+4 <= p.h; y += 4 { // four rows beside one another: none waits for its own last sum
		p.acrossFour(*q, y, r, k)
	}
	for ; y < p.h; y++ {
		p.across(*q, y, r, k)
	}
	sums := make([]float32, p.w)
	row := func(y int) []float32 { return q.v[min(max(y, 0), p.h-1)*p.w:][:p.w] }
	for i := -r; i <= r; i++ {
		for x, v := range row(i) {
			sums[x] += v
		}
	}
	for y := range p.h {
		dst, in, gone := to.v[y*p.w:][:p.w], row(y + r + 1)[:p.w], row(y - r)[:p.w]
		for x := range dst {
			dst[x] = sums[x] * k
			sums[x] += in[x] - gone[x]
		}
	}
}

// rooms are for what lies between the two ways of a box.
var rooms = sync.Pool{New: func() any { return new(plane) }}

// across puts the averages over 2r+1 places of a row into another map's; k is the inverse of how many they are.
func (p plane) across(to plane, y, r int, k float32) {
	src, dst := p.v[y*p.w:][:p.w], to.v[y*p.w:][:p.w]
	var sum float32
	for i := -r; i <= r; i++ {
		sum += src[min(max(i, 0), p.w-1)]
	}
	for x := range dst {
		dst[x] = sum * k
		sum += src[min(x+r+1, p.w-1)] - src[max(x-r, 0)]
	}
}

// acrossFour is across for four rows, the first of which is y.
func (p plane) acrossFour(to plane, y, r int, k float32) {
	w := p.w
	a, b, c, d := p.v[y*w:][:w], p.v[(y+1)*w:][:w], p.v[(y+2)*w:][:w], p.v[(y+3)*w:][:w]
	ta, tb, tc, td := to.v[y*w:][:w], to.v[(y+1)*w:][:w], to.v[(y+2)*w:][:w], to.v[(y+3)*w:][:w]
	var sa, sb, sc, sd float32
	for i := -r; i <= r; i++ {
		x := min(max(i, 0), w-1)
		sa, sb, sc, sd = sa+a[x], sb+b[x], sc+c[x], sd+d[x]
	}
	for x := range w {
		ta[x], tb[x], tc[x], td[x] = sa*k, sb*k, sc*k, sd*k
		in, gone := min(x+r+1, w-1), max(x-r, 0)
		sa += a[in] - a[gone]
		sb += b[in] - b[gone]
		sc += c[in] - c[gone]
		sd += d[in] - d[gone]
	}
}

// nth is what stands at place k once s is sorted, which it then partly is (Hoare 1961).
func nth(s []float32, k int) float32 {
	low, high := 0, len(s)-1
	for low < high {
		pivot := s[low+(high-low)/2]
		i, j := low, high
		for i <= j {
			for s[i] < pivot {
				i++
			}
			for s[j] > pivot {
				j--
			}
			if i <= j {
				s[i], s[j] = s[j], s[i]
				i++
				j--
			}
		}
		switch {
		case k <= j:
			high = j
		case k >= i:
			low = i
		default:
			return s[k]
		}
	}
	return s[k]
}

// normalise stretches a map so that its median is 0 and its 99.5th percentile 1.
func (p plane) normalise() {
	s := slices.Clone(p.v)
	low, high := nth(s, len(s)/2), nth(s, len(s)*199/200)
	if high-low < 1e-6 {
		clear(p.v)
		return
	}
	for i, v := range p.v {
		p.v[i] = min(1.5, max(0, (v-low)/(high-low)))
	}
}
