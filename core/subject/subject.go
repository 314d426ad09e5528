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

// standing is a map of how much each place stands out, and how shallow the picture's focus is, 0–1.
func standing(p *raster.RGBA) (m plane, shallow float32) {
	const parts = 150
	k := min(1, inner/float64(max(p.W, p.H)))
	w, h := max(8, int(math.Round(float64(p.W)*k))), max(8, int(math.Round(float64(p.H)*k)))
	small := raster.ResampleRGBA(p, raster.Axis{Step: float64(p.W) / float64(w), Len: w}, raster.Axis{Step: float64(p.H) / float64(h), Len: h})
	defer small.Free()
	lab := opponent(small)
	var places plane
	done := beside(func() { places = combine(lab, w, h) })
	focus, shallow := inFocus(p)
	r := regions{superpixel.New([3][]float32{lab[0].v, lab[1].v, lab[2].v}, w, h, parts)}
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
