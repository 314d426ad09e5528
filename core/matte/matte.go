// Package matte cuts the subject out of a picture: how much of each pixel is it, and in which colour.
//
// Where the subject is found is what it begins with. Colour models of it and of the rest, and a cut through a graph of superpixels,
// say which of them belong to it (Rother, Kolmogorov and Blake 2004, section 3); of a ground that changes evenly, its colour at each
// place. Along its edge each pixel is a mixture of a colour
// on this side and one on that, which are the means of what is sure nearby, and where it lies between them is its alpha, made
// coherent with the picture's own edges (He, Sun and Tang 2010, section 3). A small copy is enough: with its colours, pixels of
// any size say themselves how much of them is subject.
package matte

import (
	"math"

	"echolane/core/declare"
	"echolane/core/face"
	"echolane/core/raster"
	"echolane/core/subject"
)

// Side is the longest side of the copy that New expects.
const Side = 640

// A Matte says of a copy of a picture what of it is the subject.
type Matte struct {
	w, h  int
	alpha []float32 // 0–1
	// At half the size, three channels a pixel: the subject's colour, there and around, and the ground's.
	hw, hh     int
	fore, back []float32
}

// Bytes is how much the matte takes; nil takes nothing.
func (m *Matte) Bytes() int {
	if m == nil {
		return 0
	}
	return 4 * (len(m.alpha) + len(m.fore) + len(m.back))
}

// sure is how sure a subject is to be that is cut out: more than one that a crop is to show, since what is cut away is gone.
const sure = 0.7

// New cuts the subject out of p, opaque and upright, at most Side on a side, in which faces gives those there are,
// while the rest is looked at, nil none; said is where somebody says that the subject is. ok is false where there's no clear one.
func New(p *raster.RGBA, faces func() []face.Face, said declare.Focus) (m *Matte, ok bool) {
	var seen []face.Face
	var found subject.Found
	var regions *parted
	beside(func() {
		if faces != nil {
			seen = faces()
		}
	}, func() {
		found = subject.Subject(reduced(p, subject.Side))
	}, func() { regions = partedOf(reduced(p, segmentSide)) })
	if said.Declared {
		found = found.PointedAt(around(found.Box, said))
	}
	if !said.Declared && (found.Sure < sure || found.By == subject.ByNothing) {
		if len(seen) == 0 {
			return nil, false
		}
		found = withFaces(seen)
	}
	inside, mixed := regions.segment(&found, seen)
	w, h := regions.w, regions.h
	share := 0.0
	for _, v := range inside {
		if v {
			share++
		}
	}
	if share /= float64(len(inside)); share < 0.002 || share > 0.95 {
		return nil, false
	}
	m = &Matte{w: p.W, h: p.H}
	m.refine(p, inside, mixed, w, h)
	return m, true
}

// around is the box that somebody has pointed at; for a point the box of what was found, where the point lies in it, or else what lies
// around.
func around(found subject.Box, said declare.Focus) (b subject.Box) {
	b.X0, b.Y0, b.X1, b.Y1 = said.Box()
	if said.W > 0 && said.H > 0 {
		return b
	}
	if found != subject.Whole && b.X0 >= found.X0 && b.X1 <= found.X1 && b.Y0 >= found.Y0 && b.Y1 <= found.Y1 {
		return found
	}
	const reach = 0.2
	return subject.Box{X0: max(0, b.X0-reach), Y0: max(0, b.Y0-reach), X1: min(1, b.X1+reach), Y1: min(1, b.Y1+reach)}
}

// withFaces is where people are, by their faces.
func withFaces(faces []face.Face) subject.Found {
	x0, y0, x1, y1 := face.Kept(faces, 1, 1)
	return subject.Found{Box: subject.Box{X0: x0, Y0: y0, X1: x1, Y1: y1}, Sure: 0.5, By: subject.ByFaces}
}

// reduced is p, at most side pixels on its longer side.
func reduced(p *raster.RGBA, side float64) *raster.RGBA {
	k := math.Min(1, side/float64(max(p.W, p.H)))
	w, h := max(1, int(math.Round(float64(p.W)*k))), max(1, int(math.Round(float64(p.H)*k)))
	out := raster.ResampleRGBA(p, raster.Axis{Step: float64(p.W) / float64(w), Len: w}, raster.Axis{Step: float64(p.H) / float64(h), Len: h})
	out.Opaque = true
	return out
}

// refine makes alpha and colours of the copy p from a parting of w×h pixels.
func (m *Matte) refine(p *raster.RGBA, inside, several []bool, w, h int) {
	n := m.w * m.h
	rough := make([]float32, n) // the parting at the copy's size, softly
	inBands(m.h, func(from, to int) {
		for y := from; y < to; y++ {
			for x := range m.w {
				rough[y*m.w+x] = between(inside, w, h, (float64(x)+0.5)*float64(w)/float64(m.w)-0.5, (float64(y)+0.5)*float64(h)/float64(m.h)-0.5)
			}
		}
	})
	long := float64(max(m.w, m.h))
	band := max(2, int(long/110+0.5)) // how far from the edge pixels may be mixed
	var near, far, farther []float32
	beside(func() { near = boxed(rough, m.w, m.h, band) }, func() { far = boxed(rough, m.w, m.h, 6*band) }, func() { farther = boxed(rough, m.w, m.h, 4*band) })
	sureIn, sureOut := make([]float32, n), make([]float32, n)
	for i, v := range near {
		at := (i/m.w*h/m.h)*w + i%m.w*w/m.w
		switch {
		case several[at] && far[i] > 0.005 && far[i] < 0.995: // neither
		case v > 0.995:
			sureIn[i] = 1
		case v < 0.005:
			sureOut[i] = 1
		}
	}
	colour := make([]float32, 3*n)
	for y := range m.h {
		row := p.Row(y)
		for x := range m.w {
			copy3(colour[3*(y*m.w+x):], float32(row[4*x]), float32(row[4*x+1]), float32(row[4*x+2]))
		}
	}
	m.hw, m.hh = (m.w+1)/2, (m.h+1)/2
	of := func(sure []float32) []float32 {
		return nearby(halved(colour, sure, m.w, m.h), m.hw, m.hh, max(1, band/2))
	}
	beside(func() { m.fore = of(sureIn) }, func() { m.back = of(sureOut) })
	half := func(v []float32, i int) []float32 { return v[3*(i/m.w/2*m.hw+i%m.w/2):] }
	m.alpha = make([]float32, n)
	trust := make([]float32, n)
	inBands(m.h, func(from, to int) {
		for i := from * m.w; i < to*m.w; i++ {
			switch {
			case sureIn[i] == 1:
				m.alpha[i], trust[i] = 1, 1
			case sureOut[i] == 1:
				m.alpha[i], trust[i] = 0, 1
			default:
				a, c := mixed(colour[3*i:], half(m.fore, i), half(m.back, i))
				m.alpha[i] = a*c + rough[i]*(1-c)
				trust[i] = 0.15 + 0.85*c
			}
		}
	})
	// A little farther off, what is plainly of the other side's colour is: fringes, and what shows between them.
	for i, v := range farther {
		if sureIn[i] == 0 && sureOut[i] == 0 || v > 0.995 || v < 0.005 {
			continue
		}
		if a, c := mixed(colour[3*i:], half(m.fore, i), half(m.back, i)); c > 0.8 && (sureIn[i] == 1 && a < 0.5 || sureOut[i] == 1 && a > 0.5) {
			m.alpha[i], trust[i] = a, c
			sureIn[i], sureOut[i] = 0, 0
		}
	}
	m.enclose(rough)
	smooth := guided(m.alpha, trust, colour, m.w, m.h, max(1, band/2))
	for i, v := range smooth {
		if sureIn[i] == 0 && sureOut[i] == 0 {
			m.alpha[i] = stretch(v)
		}
	}
}

// enclose makes whole what isn't the subject by its colour alone and has no way out: lines and spots on it.
func (m *Matte) enclose(rough []float32) {
	out := make([]bool, len(m.alpha))
	var queue []int
	for i, v := range m.alpha {
		if v < 0.5 && rough[i] < 0.5 {
			out[i] = true
			queue = append(queue, i)
		}
	}
	for len(queue) > 0 {
		i := queue[len(queue)-1]
		queue = queue[:len(queue)-1]
		x, y := i%m.w, i/m.w
		for _, d := range [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}} {
			nx, ny := x+d[0], y+d[1]
			if nx < 0 || ny < 0 || nx >= m.w || ny >= m.h {
				continue
			}
			if j := ny*m.w + nx; !out[j] && m.alpha[j] < 0.5 {
				out[j] = true
				queue = append(queue, j)
			}
		}
	}
	for i, v := range m.alpha {
		if v < 0.5 && !out[i] {
			m.alpha[i] = 1
		}
	}
}

// stretch takes what is nearly nothing or nearly all for that.
func stretch(v float32) float32 { return max(0, min(1, (v-0.04)/0.92)) }

func copy3(to []float32, a, b, c float32) { to[0], to[1], to[2] = a, b, c }

// mixed is where a colour lies between that of the ground and that of the subject, 0–1, and how much that is to be trusted:
// little where the two are alike, or the colour lies far from between them.
func mixed(c, fore, back []float32) (alpha, trust float32) {
	var along, whole, off float32
	for k := range 3 {
		d := fore[k] - back[k]
		along += (c[k] - back[k]) * d
		whole += d * d
	}
	if whole < 1 {
		return 0.5, 0
	}
	a := along / whole
	alpha = max(0, min(1, a))
	for k := range 3 {
		e := c[k] - back[k] - alpha*(fore[k]-back[k])
		off += e * e
	}
	return alpha, whole / (whole + 1200) * (whole / (whole + 1.5*off))
}

// Cut takes away what isn't the subject of a picture of which the matte's copy was made, at any size, or of the part of it that
// begins at left and top of the w×h pixels that it has in all. p is premultiplied.
func (m *Matte) Cut(p *raster.RGBA, left, top, w, h float64) {
	kx, ky := float64(m.w)/w, float64(m.h)/h
	larger := kx < 0.7 // the picture shows more than the copy
	columns := make([]column, p.W)
	for x := range columns {
		cx := (left+float64(x)+0.5)*kx - 0.5
		i, frac := place(m.w, 1, cx, 0)
		columns[x] = column{int32(i), frac[0], cx}
	}
	inBands(p.H, func(from, to int) { m.cut(p, columns, top, ky, larger, from, to) })
	p.Opaque = false
}

// A column says where in the copy a picture's column lies.
type column struct {
	i    int32   // the copy's column at its left
	frac float32 // and how far from it
	cx   float64 // the copy's column, with what lies between
}

// cut does so with some rows.
func (m *Matte) cut(p *raster.RGBA, columns []column, top, ky float64, larger bool, from, to int) {
	for y := from; y < to; y++ {
		row := p.Row(y)
		cy := (top+float64(y)+0.5)*ky - 0.5
		above, down := place(1, m.h, 0, cy)
		above *= m.w
		at, flat, all, none := -1, false, false, false // of the pixel before: wholly the subject's, wholly the ground's
		for x, col := range columns {
			i := above + int(col.i)
			if i != at {
				at, flat = i, m.flat(i)
				all, none = flat && m.alpha[i] >= 0.999, flat && m.alpha[i] <= 0.001
			}
			if all {
				continue
			}
			q := row[4*x:][:4]
			if none {
				q[0], q[1], q[2], q[3] = 0, 0, 0, 0
				continue
			}
			cx, frac := col.cx, [2]float32{col.frac, down[1]}
			a := m.alpha[i]
			if !flat {
				a = lerp(m.alpha, 1, m.w, m.h, i, frac, 0)
			}
			switch {
			case a >= 0.999 && !larger:
				continue
			case a <= 0.001 && !larger:
				q[0], q[1], q[2], q[3] = 0, 0, 0, 0
				continue
			}
			var c, fore, back [3]float32
			j, halfway := place(m.hw, m.hh, (cx+0.5)/2-0.5, (cy+0.5)/2-0.5)
			for k := range 3 {
				c[k], fore[k], back[k] = float32(q[k]), lerp(m.fore, 3, m.hw, m.hh, j, halfway, k), lerp(m.back, 3, m.hw, m.hh, j, halfway, k)
			}
			if larger {
				if own, trust := mixed(c[:], fore[:], back[:]); trust > 0 {
					t := trust * trust
					// Its own colour says where within what the copy leaves open.
					a = (1-t)*a + t*max(a-0.5, min(a+0.5, stretch(own)))
				}
			}
			alpha := a * float32(q[3])
			for k := range 3 {
				// What is left of the colour once the ground's share is taken away; where little is left, the subject's nearby.
				own := (c[k] - (1-a)*back[k])
				q[k] = uint8(max(0, min(alpha, own*a+(1-a)*a*fore[k])) + 0.5)
			}
			q[3] = uint8(alpha + 0.5)
		}
	}
}

// flat reports whether the copy has no edge around a pixel.
func (m *Matte) flat(i int) bool {
	v := m.alpha[i]
	for _, j := range [4]int{i + 1, i + m.w, i + m.w + 1, i} {
		if j < len(m.alpha) && m.alpha[j] != v {
			return false
		}
	}
	return true
}

// place is the pixel of a map of w×h at the upper left of a place, and how far the place is from it.
func place(w, h int, x, y float64) (i int, frac [2]float32) {
	x, y = max(0, min(float64(w-1), x)), max(0, min(float64(h-1), y))
	x0, y0 := min(int(x), max(0, w-2)), min(int(y), max(0, h-2))
	return y0*w + x0, [2]float32{float32(x - float64(x0)), float32(y - float64(y0))}
}

// lerp is a map's value between its pixels: channel k of n.
func lerp(v []float32, n, w, h, i int, frac [2]float32, k int) float32 {
	right, below := 0, 0
	if w > 1 {
		right = 1
	}
	if h > 1 {
		below = w
	}
	a, b, c, d := v[n*i+k], v[n*(i+right)+k], v[n*(i+below)+k], v[n*(i+below+right)+k]
	return (a*(1-frac[0])+b*frac[0])*(1-frac[1]) + (c*(1-frac[0])+d*frac[0])*frac[1]
}

// Moved is the matte of the same picture whose pixels lie elsewhere: w×h of them, of each of which from says where it lies in the
// matte's, in parts of the sides.
func (m *Matte) Moved(w, h int, from func(x, y float64) (float64, float64)) *Matte {
	out := &Matte{w: w, h: h, hw: (w + 1) / 2, hh: (h + 1) / 2, alpha: make([]float32, w*h)}
	move := func(to, of []float32, n, w, h, ow, oh int) {
		for i := range w * h {
			x, y := from((float64(i%w)+0.5)/float64(w), (float64(i/w)+0.5)/float64(h))
			j := min(oh-1, int(y*float64(oh)))*ow + min(ow-1, int(x*float64(ow)))
			copy(to[n*i:n*i+n], of[n*j:n*j+n])
		}
	}
	out.fore, out.back = make([]float32, 3*out.hw*out.hh), make([]float32, 3*out.hw*out.hh)
	move(out.alpha, m.alpha, 1, w, h, m.w, m.h)
	move(out.fore, m.fore, 3, out.hw, out.hh, m.hw, m.hh)
	move(out.back, m.back, 3, out.hw, out.hh, m.hw, m.hh)
	return out
}
