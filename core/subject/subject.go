// Package subject finds where in a picture its subject is, and where its detail is.
//
// The subject is what differs from the rest: from what runs along the picture's borders, by a colour that is rare in the picture, by
// a difference from what lies around it at several sizes, by edges, by skin-like tones, by being sharp where the rest isn't, and a
// little by where people put things. These are worked out for regions of about one colour; a small network, fitted on photographs
// whose subjects are known, says how likely each is to be of the subject; and the box is drawn around the part that differs most
// from a strip around it. All of it works on a small copy, so it costs the same for every picture. `make subject-report` says how
// well it does. After the ideas of Itti, Koch and Niebur (1998, centre and surround), Cheng et al. (2011, global contrast of
// colours), Zhu et al. (2014, what belongs to the border) and Jiang et al. (2013, regions judged by learnt weights).
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

// unsure is below which a window stays in the middle; sized is beyond what part of the picture a subject doesn't say where in it.
const (
	unsure = 0.6
	sized  = 0.9
)

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
	if f.Unsure() || f.map_.v != nil && (b.X1-b.X0)*(b.Y1-b.Y0) > sized {
		b = Whole
	}
	x, y := around(b.X0, b.X1, w), around(b.Y0, b.Y1, h)
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

// around is where a window of length w begins that has a–b about in its middle: a part of what it has to spare goes towards the
// picture's own, since whoever took it put the subject there rather than elsewhere.
func around(a, b, w float64) float64 {
	const spared = 0.1
	middle, spare := (a+b)/2, max(0, spared*(w-(b-a))/2)
	middle += min(max(0.5-middle, -spare), spare)
	return min(max(middle-w/2, 0), 1-w)
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

// standing is a map of how much each place stands out, 0–1, and how shallow the picture's focus is, 0–1.
func standing(p *raster.RGBA) (m plane, shallow float32) {
	r, cues, w, h, shallow := judged(p)
	v := make([]float32, len(cues))
	for k, c := range cues {
		if c != (Cues{}) {
			v[k] = (min(1, c[CueStanding]) + c.likely()) / 2
			v[k] *= v[k]
		}
	}
	m = newPlane(w, h)
	for i, k := range r.Of {
		m.v[i] = v[k]
	}
	return m.blur(1), shallow
}

// judged parts a picture into regions, and says what there is to judge each by; w and h are the sides of the copy they are of.
func judged(p *raster.RGBA) (r regions, cues []Cues, w, h int, shallow float32) {
	const parts = 150
	k := min(1, inner/float64(max(p.W, p.H)))
	w, h = max(8, int(math.Round(float64(p.W)*k))), max(8, int(math.Round(float64(p.H)*k)))
	small := raster.ResampleRGBA(p, raster.Axis{Step: float64(p.W) / float64(w), Len: w}, raster.Axis{Step: float64(p.H) / float64(h), Len: h})
	defer small.Free()
	lab := opponent(small)
	var places plane
	done := beside(func() { places = combine(lab, w, h) })
	focus, shallow, told := inFocus(p)
	r = regions{superpixel.New([3][]float32{lab[0].v, lab[1].v, lab[2].v}, w, h, parts)}
	done()
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
		mean[k] /= top
		weight[k] = prior * (1 + mean[k]) * clear[k]
	}
	v, behind, way := r.standing(weight)
	for k := range v {
		v[k] = v[k]*(1+mean[k]) + 0.3*told*clear[k]*clear[k]*(1-behind[k]) + 0.2*mean[k]
		v[k] *= float32(math.Pow(0.3+float64(clear[k]), 1+1.5*float64(shallow)))
	}
	all := make([]float32, len(r.Of))
	for i, k := range r.Of {
		all[i] = v[k]
	}
	cues = make([]Cues, n)
	if top = nth(all, len(all)*199/200); top < 1e-4 {
		return r, cues, w, h, shallow // one colour
	}
	for k := range cues {
		cues[k] = Cues{mean[k], r.Edge[k] / float32(math.Sqrt(float64(r.Area[k]))), way[k], v[k] / top, behind[k]}
		for c, v := range cues[k] {
			cues[k][c] = max(0, v) // running sums may end a little below
		}
	}
	return r, cues, w, h, shallow
}

// inFocus is how much each place counts for being sharp: all the same where the whole picture is. shallow is how much less the
// others count, 0–1; told is how much being sharp says by itself, 0–1: the less of a shallow picture is sharp, the more.
func inFocus(p *raster.RGBA) (out plane, shallow, told float32) {
	sharp, contrast := sharpness(p)
	out = newPlane(sharp.w, sharp.h)
	var clear, busy float32
	for i, c := range contrast.v {
		if c > 0.02 {
			busy++
			if sharp.v[i] > 0.55 {
				clear++
			}
		}
		out.v[i] = max(0, min(1, (sharp.v[i]-0.4)/0.4)) * min(1, contrast.v[i]/0.1)
	}
	if busy >= 0.05*float32(len(out.v)) {
		shallow = max(0, min(1, (0.88-clear/busy)/0.2))
	}
	out = out.blur(1)
	s := slices.Clone(out.v)
	top := max(1e-3, nth(s, len(s)*97/100))
	var mean float32
	for i, v := range out.v {
		v = 0.15 + min(1, v/top)
		mean += v / 1.15 / float32(len(out.v))
		out.v[i] = 1 - shallow + shallow*v
	}
	return out, shallow, shallow * (1 - mean/2)
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

// A part is what hangs together of a map above a level.
type part struct {
	x0, y0, x1, y1 int
	sum            float64
}

// boxAround is the box that differs most from a strip around it, of those around what hangs together at each of several levels and
// what belongs to it. It leaves a margin.
func boxAround(m plane) Box {
	const (
		belongs = 0.05 // how much of a part another stands out that belongs to it
		least   = 0.03 // how much of the whole a part stands out
		strip   = 0.2  // its width, of the root of the box's area
		size    = 0.6  // how much larger boxes are preferred: a power of their area
		through = 0.7  // how much less a thin one counts that runs from border to border
		margin  = 1
	)
	s := slices.Clone(m.v)
	top := nth(s, len(s)*199/200)
	if top <= 1e-4 {
		return Whole
	}
	sums := m.sums()
	within := func(p part) (sum, area float64) {
		return sums[p.y1*(m.w+1)+p.x1] - sums[p.y0*(m.w+1)+p.x1] - sums[p.y1*(m.w+1)+p.x0] + sums[p.y0*(m.w+1)+p.x0], float64((p.x1 - p.x0) * (p.y1 - p.y0))
	}
	all, _ := within(part{x1: m.w, y1: m.h})
	near := max(m.w, m.h) / 16
	best, most := part{x1: m.w, y1: m.h}, 0.0
	seen, stack := make([]uint8, len(m.v)), make([]int32, 0, len(m.v))
	for i, level := range []float32{0.15, 0.2, 0.25, 0.3, 0.4, 0.5, 0.6, 0.7, 0.8} {
		parts := m.above(level*top, seen, uint8(i+1), stack)
		for _, own := range parts {
			if own.sum < least*all {
				continue
			}
			b := own
			for _, p := range parts {
				apart := max(p.x0-b.x1, b.x0-p.x1, p.y0-b.y1, b.y0-p.y1)
				if p.sum >= belongs*own.sum && p.sum <= own.sum && apart > 0 && apart <= near {
					b.x0, b.y0, b.x1, b.y1 = min(b.x0, p.x0), min(b.y0, p.y0), max(b.x1, p.x1), max(b.y1, p.y1)
				}
			}
			in, area := within(b)
			d := max(2, int(strip*math.Sqrt(area)))
			round, wider := within(part{x0: max(0, b.x0-d), y0: max(0, b.y0-d), x1: min(m.w, b.x1+d), y1: min(m.h, b.y1+d)})
			score := (in/area - (round-in)/max(1, wider-area)) * math.Pow(area, size)
			// What runs through the picture from border to border is its ground or a line more often than its subject.
			if b.x0 <= 1 && b.x1 >= m.w-1 {
				score *= 1 - through*(1-float64(b.y1-b.y0)/float64(m.h))
			}
			if b.y0 <= 1 && b.y1 >= m.h-1 {
				score *= 1 - through*(1-float64(b.x1-b.x0)/float64(m.w))
			}
			if score > most {
				best, most = b, score
			}
		}
	}
	return Box{
		float64(max(0, best.x0-margin)) / float64(m.w), float64(max(0, best.y0-margin)) / float64(m.h),
		float64(min(m.w, best.x1+margin)) / float64(m.w), float64(min(m.h, best.y1+margin)) / float64(m.h),
	}
}

// above are the connected parts of a map that are at least at a level. seen is marked with mark, which isn't in it yet; stack has
// room for the map.
func (p plane) above(level float32, seen []uint8, mark uint8, stack []int32) (parts []part) {
	for start, v := range p.v {
		if v < level || seen[start] == mark {
			continue
		}
		one := part{x0: p.w, y0: p.h}
		stack = append(stack[:0], int32(start))
		seen[start] = mark
		for len(stack) > 0 {
			i := int(stack[len(stack)-1])
			stack = stack[:len(stack)-1]
			x, y := i%p.w, i/p.w
			one.x0, one.y0, one.x1, one.y1 = min(one.x0, x), min(one.y0, y), max(one.x1, x+1), max(one.y1, y+1)
			one.sum += float64(p.v[i])
			visit := func(j int) {
				if seen[j] != mark && p.v[j] >= level {
					seen[j] = mark
					stack = append(stack, int32(j))
				}
			}
			if x > 0 {
				visit(i - 1)
			}
			if x < p.w-1 {
				visit(i + 1)
			}
			if y > 0 {
				visit(i - p.w)
			}
			if y < p.h-1 {
				visit(i + p.w)
			}
		}
		parts = append(parts, one)
	}
	return parts
}

// sums are a map's integral image: w+1 by h+1, each the sum of what lies above and left of it.
func (p plane) sums() []float64 {
	s := make([]float64, (p.w+1)*(p.h+1))
	for y := range p.h {
		var row float64
		for x, v := range p.v[y*p.w:][:p.w] {
			row += float64(v)
			s[(y+1)*(p.w+1)+x+1] = s[y*(p.w+1)+x+1] + row
		}
	}
	return s
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
