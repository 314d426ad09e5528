// Package subject finds where in a picture its subject is, and where its detail is.
//
// The subject is what differs from the rest: from what runs along the picture's borders, by a colour that is rare in the picture, by
// a difference from what lies around it at several sizes, by edges, by skin-like tones, by being sharp where the rest isn't, and a
// little by where people put things. These are worked out for regions of about one colour, and the box is drawn around the
// strongest coherent part. It needs no training and no state, and works on a small copy, so it costs the same for every
// picture. After the ideas of Itti, Koch and Niebur (1998, centre and surround), Cheng et al. (2011, global contrast of colours)
// and Zhu et al. (2014, what belongs to the border).
package subject

import (
	"math"
	"slices"

	"echolane/core/raster"
	"echolane/core/superpixel"
)

// Side is the longest side of the copy that Subject expects, DetailSide that Detail does.
const (
	Side       = 256
	DetailSide = 96
)

// inner is the longest side of what Subject tells colours apart on.
const inner = 112

// A Box is a part of a picture, in parts of its sides: 0–1 from left and top.
type Box struct {
	X0 float64 `json:"x0"`
	Y0 float64 `json:"y0"`
	X1 float64 `json:"x1"`
	Y1 float64 `json:"y1"`
}

// Whole is all of a picture.
var Whole = Box{0, 0, 1, 1}

// plane is a map over the small copy.
type plane struct {
	w, h int
	v    []float32
}

func newPlane(w, h int) plane { return plane{w, h, make([]float32, w*h)} }

// Found is where a picture's subject is.
type Found struct {
	Box
	Sure float64 `json:"sure"` // 0–1: how much of what stands out is within the box, more than of any
	By   Way     `json:"by"`
	map_ plane
	top  float32 // what of the map stands out most
}

// Way says what a subject was found by.
type Way string

// The ways.
const (
	ByTransparency Way = "transparency" // what isn't transparent
	ByContrast     Way = "contrast"     // what differs from what lies around it
	ByFocus        Way = "focus"        // the same, and what is sharp in a picture that isn't everywhere
	ByFaces        Way = "faces"
	ByRegion       Way = "region"  // what somebody has marked in the file
	ByPerson       Way = "person"  // what somebody has pointed at
	ByNothing      Way = "nothing" // the whole picture
)

// unsure is below which a window stays in the middle.
const unsure = 0.7

// Subject finds what the picture is of. p is premultiplied, at most Side on a side; a picture in which nothing stands out has its
// subject in the whole.
func Subject(p *raster.RGBA) Found {
	nothing := Found{Box: Whole, By: ByNothing}
	if p.W < 8 || p.H < 8 {
		return nothing
	}
	if b, ok := solid(p); ok {
		return Found{Box: b, Sure: 1, By: ByTransparency}
	}
	m, shallow := standing(p)
	f := Found{Box: boxAround(m), By: ByContrast, map_: m}
	if f.Box == Whole {
		return nothing
	}
	for _, v := range []*float64{&f.X0, &f.Y0, &f.X1, &f.Y1} {
		*v = math.Round(1e4**v) / 1e4
	}
	s := slices.Clone(m.v)
	f.top = max(1e-6, nth(s, len(s)*98/100))
	if shallow > 0.3 {
		f.By = ByFocus
	}
	var in, all, n float64
	for i, v := range m.v {
		x, y := (float64(i%m.w)+0.5)/float64(m.w), (float64(i/m.w)+0.5)/float64(m.h)
		all += float64(v * v)
		if x > f.X0 && x < f.X1 && y > f.Y0 && y < f.Y1 {
			in += float64(v * v)
			n++
		}
	}
	if n /= float64(len(m.v)); all > 0 && n < 1 {
		f.Sure = math.Round(100*max(0, (in/all-n)/(1-n))) / 100
	}
	return f
}

// Unsure reports whether it's better to take the picture's middle.
func (f *Found) Unsure() bool { return f.Sure < unsure }

// Window is the part of the picture, w×h in parts of its sides, that shows most of the subject.
func (f *Found) Window(w, h float64) Box {
	b := f.Box
	if f.Unsure() {
		b = Whole
	}
	x, y := min(max((b.X0+b.X1)/2-w/2, 0), 1-w), min(max((b.Y0+b.Y1)/2-h/2, 0), 1-h)
	if m := f.map_; m.v != nil && b != Whole {
		x0, y0, x1, y1 := int(b.X0*float64(m.w)), int(b.Y0*float64(m.h)), int(b.X1*float64(m.w)), int(b.Y1*float64(m.h))
		across, down := make([]float64, m.w), make([]float64, m.h)
		for j := y0; j < y1; j++ {
			for i := x0; i < x1; i++ {
				v := float64(m.v[j*m.w+i])
				across[i] += v * v
				down[j] += v * v
			}
		}
		if b.X1-b.X0 > w {
			x = most(across, w)
		}
		if b.Y1-b.Y0 > h {
			y = most(down, h)
		}
	}
	return Box{x, y, x + w, y + h}
}

// Standing is how much a place stands out, 0–1, by parts of the picture's sides.
func (f *Found) Standing(x, y float64) float64 {
	m := f.map_
	if m.v == nil {
		if x >= f.X0 && x <= f.X1 && y >= f.Y0 && y <= f.Y1 {
			return f.Sure
		}
		return 0
	}
	i := min(m.h-1, max(0, int(y*float64(m.h))))*m.w + min(m.w-1, max(0, int(x*float64(m.w))))
	return min(1, float64(m.v[i]/f.top))
}

// PointedAt is what was found, of which somebody says that it is in this box: what stands out most there is the subject. Where nothing
// does, it is the box itself.
func (f Found) PointedAt(b Box) Found {
	f.Box, f.Sure, f.By = b, 1, ByPerson
	m := f.map_
	if m.v == nil {
		return f
	}
	top := float32(0)
	for y := int(b.Y0 * float64(m.h)); y < min(m.h, int(math.Ceil(b.Y1*float64(m.h)))); y++ {
		for x := int(b.X0 * float64(m.w)); x < min(m.w, int(math.Ceil(b.X1*float64(m.w)))); x++ {
			top = max(top, m.v[y*m.w+x])
		}
	}
	if top < 0.1*f.top {
		f.map_ = plane{}
	}
	f.top = top
	return f
}

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

// standing is a map of how much each place stands out, and how shallow the picture's focus is, 0–1.
func standing(p *raster.RGBA) (m plane, shallow float32) {
	const parts = 150
	k := min(1, inner/float64(max(p.W, p.H)))
	w, h := max(8, int(math.Round(float64(p.W)*k))), max(8, int(math.Round(float64(p.H)*k)))
	small := raster.ResampleRGBA(p, raster.Axis{Step: float64(p.W) / float64(w), Len: w}, raster.Axis{Step: float64(p.H) / float64(h), Len: h})
	defer small.Free()
	lab := opponent(small)
	places := combine(lab, w, h)
	focus, shallow := inFocus(p)
	r := regions{superpixel.New([3][]float32{lab[0].v, lab[1].v, lab[2].v}, w, h, parts)}
	n := len(r.Colour)
	mean, clear, weight := make([]float32, n), make([]float32, n), make([]float32, n)
	top := float32(1e-6)
	for i, k := range r.Of {
		mean[k] += places.v[i] / r.Area[k]
		clear[k] += focus.v[i/w*focus.h/h*focus.w+i%w*focus.w/w] / r.Area[k]
	}
	for _, v := range mean {
		top = max(top, v)
	}
	// People put what matters off the borders.
	long := float64(max(w, h))
	for k := range weight {
		dx, dy := float64(r.X[k])*long/float64(w)-0.5, float64(r.Y[k])*long/float64(h)-0.48
		prior := float32(0.6 + 0.4*math.Exp(-5*(dx*dx+dy*dy)))
		mean[k] = 1 + mean[k]/top
		weight[k] = prior * mean[k] * clear[k]
	}
	v := r.standing(weight)
	m = newPlane(w, h)
	for i, k := range r.Of {
		m.v[i] = v[k] * mean[k] * (0.3 + clear[k])
	}
	return m.blur(1), shallow
}

// inFocus is how much each place counts for being sharp: all the same where the whole picture is. shallow is how much less the
// others count, 0–1.
func inFocus(p *raster.RGBA) (out plane, shallow float32) {
	sharp, contrast := sharpness(p)
	out = newPlane(sharp.w, sharp.h)
	var clear, told float32
	for i, c := range contrast.v {
		if c > 0.02 {
			told++
			if sharp.v[i] > 0.55 {
				clear++
			}
		}
		out.v[i] = max(0, min(1, (sharp.v[i]-0.4)/0.4)) * min(1, contrast.v[i]/0.1)
	}
	if told >= 0.05*float32(len(out.v)) {
		shallow = max(0, min(1, (0.88-clear/told)/0.2))
	}
	out = out.blur(1)
	s := slices.Clone(out.v)
	top := max(1e-3, nth(s, len(s)*97/100))
	for i, v := range out.v {
		out.v[i] = 1 - shallow + shallow*(0.15+min(1, v/top))
	}
	return out, shallow
}

// solid is the box around what isn't transparent, where a good part of the picture is.
func solid(p *raster.RGBA) (Box, bool) {
	x0, y0, x1, y1, clear := p.W, p.H, 0, 0, 0
	for y := range p.H {
		for x := range p.W {
			if p.Pix[y*p.Stride+4*x+3] < 32 {
				clear++
				continue
			}
			x0, y0, x1, y1 = min(x0, x), min(y0, y), max(x1, x+1), max(y1, y+1)
		}
	}
	if clear < p.W*p.H/10 || x1 <= x0 {
		return Whole, false
	}
	return Box{float64(x0) / float64(p.W), float64(y0) / float64(p.H), float64(x1) / float64(p.W), float64(y1) / float64(p.H)}, true
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
	for _, r := range []int{5, 11, 22} {
		var near, far [3]plane
		for c := range lab {
			near[c], far[c] = lab[c].box(r/4+1), lab[c].box(2*r)
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
	for range 2 {
		p = p.box(r)
	}
	return p
}

// box is the average over 2r+1 by 2r+1 places, whose edges are extended.
func (p plane) box(r int) plane {
	if r < 1 {
		return p
	}
	q, out := newPlane(p.w, p.h), newPlane(p.w, p.h)
	k := 1 / float32(2*r+1)
	for y := range p.h {
		src, dst := p.v[y*p.w:][:p.w], q.v[y*p.w:][:p.w]
		var sum float32
		for i := -r; i <= r; i++ {
			sum += src[min(max(i, 0), p.w-1)]
		}
		for x := range dst {
			dst[x] = sum * k
			sum += src[min(x+r+1, p.w-1)] - src[max(x-r, 0)]
		}
	}
	sums := make([]float32, p.w)
	row := func(y int) []float32 { return q.v[min(max(y, 0), p.h-1)*p.w:][:p.w] }
	for i := -r; i <= r; i++ {
		for x, v := range row(i) {
			sums[x] += v
		}
	}
	for y := range p.h {
		dst, in, gone := out.v[y*p.w:][:p.w], row(y + r + 1)[:p.w], row(y - r)[:p.w]
		for x := range dst {
			dst[x] = sums[x] * k
			sums[x] += in[x] - gone[x]
		}
	}
	return out
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

// boxAround finds the coherent part that stands out most, takes in what belongs to it, and leaves a margin.
func boxAround(m plane) Box {
	s := slices.Clone(m.v)
	top := nth(s, len(s)*199/200)
	if top <= 1e-4 {
		return Whole
	}
	level := max(0.3*top, nth(s, len(s)*85/100))
	label := make([]int, len(m.v))
	type part struct {
		x0, y0, x1, y1, area, edge int
		sum                        float64
	}
	var parts []part
	var stack []int
	for start, v := range m.v {
		if v < level || label[start] != 0 {
			continue
		}
		id := len(parts) + 1
		p := part{x0: m.w, y0: m.h}
		stack = append(stack[:0], start)
		label[start] = id
		for len(stack) > 0 {
			i := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			x, y := i%m.w, i/m.w
			p.x0, p.y0, p.x1, p.y1 = min(p.x0, x), min(p.y0, y), max(p.x1, x+1), max(p.y1, y+1)
			p.sum += float64(m.v[i])
			p.area++
			if x == 0 || y == 0 || x == m.w-1 || y == m.h-1 {
				p.edge++
			}
			for _, d := range [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
				nx, ny := x+d[0], y+d[1]
				if nx < 0 || ny < 0 || nx >= m.w || ny >= m.h {
					continue
				}
				if j := ny*m.w + nx; label[j] == 0 && m.v[j] >= level {
					label[j] = id
					stack = append(stack, j)
				}
			}
		}
		parts = append(parts, p)
	}
	if len(parts) == 0 {
		return Whole
	}
	best := 0
	for i := range parts {
		p := &parts[i]
		touch := float64(p.edge) / math.Sqrt(float64(p.area))
		p.sum *= math.Exp(-touch * touch / 2)
		if p.sum > parts[best].sum {
			best = i
		}
	}
	b := parts[best]
	near := max(m.w, m.h) / 16
	for _, p := range parts {
		if p.sum < 0.12*parts[best].sum {
			continue
		}
		gapX, gapY := max(p.x0-b.x1, b.x0-p.x1), max(p.y0-b.y1, b.y0-p.y1)
		if gapX <= near && gapY <= near {
			b.x0, b.y0, b.x1, b.y1 = min(b.x0, p.x0), min(b.y0, p.y0), max(b.x1, p.x1), max(b.y1, p.y1)
		}
	}
	const margin = 1
	return Box{
		float64(max(0, b.x0-margin)) / float64(m.w), float64(max(0, b.y0-margin)) / float64(m.h),
		float64(min(m.w, b.x1+margin)) / float64(m.w), float64(min(m.h, b.y1+margin)) / float64(m.h),
	}
}

// Detail finds the window of w×h, in parts of the picture's sides, whose luminance has the most entropy: the
// busiest part. It gives the window.
func Detail(p *raster.RGBA, w, h float64) Box {
	const block, levels = 8, 16
	bw, bh := max(1, p.W/block), max(1, p.H/block)
	sums := make([]float64, (bw+1)*(bh+1)) // integral image of the blocks' entropies
	for by := range bh {
		for bx := range bw {
			var count [levels]float64
			n := 0.0
			for y := by * block; y < min(p.H, (by+1)*block); y++ {
				for x := bx * block; x < min(p.W, (bx+1)*block); x++ {
					q := p.Pix[y*p.Stride+4*x:]
					count[(54*int(q[0])+183*int(q[1])+19*int(q[2]))>>8*levels/256]++
					n++
				}
			}
			e := 0.0
			for _, c := range count {
				if c > 0 {
					e -= c / n * math.Log2(c/n)
				}
			}
			sums[(by+1)*(bw+1)+bx+1] = e + sums[by*(bw+1)+bx+1] + sums[(by+1)*(bw+1)+bx] - sums[by*(bw+1)+bx]
		}
	}
	ww, wh := min(bw, max(1, int(w*float64(bw)+0.5))), min(bh, max(1, int(h*float64(bh)+0.5)))
	best, at := -1.0, [2]int{}
	for y := 0; y+wh <= bh; y++ {
		for x := 0; x+ww <= bw; x++ {
			s := sums[(y+wh)*(bw+1)+x+ww] - sums[y*(bw+1)+x+ww] - sums[(y+wh)*(bw+1)+x] + sums[y*(bw+1)+x]
			// Of equals the one nearest the middle.
			off := math.Abs(float64(2*x+ww-bw))/float64(bw) + math.Abs(float64(2*y+wh-bh))/float64(bh)
			if s -= 1e-6 * off; s > best {
				best, at = s, [2]int{x, y}
			}
		}
	}
	return Box{float64(at[0]) / float64(bw), float64(at[1]) / float64(bh), float64(at[0]+ww) / float64(bw), float64(at[1]+wh) / float64(bh)}
}
