package inpaint

import (
	"math"

	"echolane/core/raster"
)

// settle makes the copied pixels meet the hole's edge: their differences stay as near as they can to those where they come from.
// Successive over-relaxation from what was voted, red and black.
func (f *Field) settle() {
	type pixel struct {
		at   int32
		n    float32
		near [4]int32 // itself where there is none
		want [4]float32
	}
	var list [2][]pixel
	original := append([]float32(nil), f.colour...)
	// beside is the pixel beside one, if there is one.
	dirs := [4][2]int{{1, 0}, {-1, 0}, {0, 1}, {0, -1}}
	beside := func(i int, d [2]int) (int, bool) {
		x, y := i%f.w+d[0], i/f.w+d[1]
		return y*f.w + x, x >= 0 && y >= 0 && x < f.w && y < f.h
	}
	from := func(i int) int { return i + int(f.shift[i].y)*f.w + int(f.shift[i].x) }
	for i, in := range f.hole {
		if !in {
			continue
		}
		p := pixel{at: int32(i)}
		here := from(i)
		for k, d := range dirs {
			j, ok := beside(i, d)
			if !ok {
				p.near[k] = p.at
				continue
			}
			p.near[k] = int32(j)
			p.n++
			// How it differs from the neighbour, where it comes from and where the neighbour does: the mean.
			var sum [4]float32
			n := float32(0)
			if a, ok := beside(here, d); ok && !f.hole[a] {
				for c := range sum {
					sum[c] += original[4*here+c] - original[4*a+c]
				}
				n++
			}
			if f.hole[j] {
				there := from(j)
				if b, ok := beside(there, [2]int{-d[0], -d[1]}); ok && !f.hole[b] {
					for c := range sum {
						sum[c] += original[4*b+c] - original[4*there+c]
					}
					n++
				}
			}
			if n > 0 {
				for c := range sum {
					p.want[c] += sum[c] / n
				}
			}
		}
		list[(i%f.w+i/f.w)&1] = append(list[(i%f.w+i/f.w)&1], p)
	}
	const rounds, over = 40, 1.8
	for round := range 2 * rounds {
		for k := range list[round&1] {
			p := &list[round&1][k]
			v := f.colour[4*p.at:][:4]
			a, b, c, d := f.colour[4*p.near[0]:][:4], f.colour[4*p.near[1]:][:4], f.colour[4*p.near[2]:][:4], f.colour[4*p.near[3]:][:4]
			own := 4 - p.n // of the four, those that are itself
			for i, now := range v {
				v[i] = now + over*((a[i]+b[i]+c[i]+d[i]-own*now+p.want[i])/p.n-now)
			}
		}
	}
	for _, half := range list {
		for _, p := range half {
			v := f.colour[4*p.at:][:4]
			v[3] = max(0, min(255, v[3]))
			for c := range 3 {
				v[c] = max(0, min(v[3], v[c]))
			}
		}
	}
}

// A Hole is where a picture is to be filled: W×H pixels from X and Y, of which In says which.
type Hole struct {
	X, Y, W, H int
	In         []bool
}

func (h *Hole) has(x, y int) bool {
	x, y = x-h.X, y-h.Y
	return x >= 0 && y >= 0 && x < h.W && y < h.H && h.In[y*h.W+x]
}

// Fill fills a hole in a picture of which the field's copy was made, at any size, or in the part of it that begins at left and
// top of the w×h pixels that it has in all.
func (f *Field) Fill(p *raster.RGBA, left, top, w, h float64, hole Hole) {
	kx, ky := w/float64(f.w), h/float64(f.h)
	for y := max(0, hole.Y); y < min(p.H, hole.Y+hole.H); y++ {
		row := p.Row(y)
		for x := max(0, hole.X); x < min(p.W, hole.X+hole.W); x++ {
			if !hole.has(x, y) {
				continue
			}
			cx, cy := (left+float64(x)+0.5)/kx-0.5, (top+float64(y)+0.5)/ky-0.5
			var sum [4]float32
			var weight float32
			// Of the four places of the copy around it, each says where it comes from.
			x0, y0 := int(math.Floor(cx)), int(math.Floor(cy))
			base := f.sample(cx, cy)
			alike := f.alike(x0, y0)
			for d := range 4 {
				ix, iy := x0+d&1, y0+d>>1
				w := float32((1 - math.Abs(cx-float64(ix))) * (1 - math.Abs(cy-float64(iy))))
				if alike { // one says what all do
					if d > 0 {
						break
					}
					w = 1
				}
				if ix < 0 || iy < 0 || ix >= f.w || iy >= f.h || w <= 0 || !f.hole[iy*f.w+ix] {
					continue
				}
				s := f.shift[iy*f.w+ix]
				sx, sy := x+int(math.Round(float64(s.x)*kx)), y+int(math.Round(float64(s.y)*ky))
				if sx < 0 || sy < 0 || sx >= p.W || sy >= p.H || hole.has(sx, sy) {
					continue
				}
				q := p.Row(sy)[4*sx:][:4]
				there := f.sample((left+float64(sx)+0.5)/kx-0.5, (top+float64(sy)+0.5)/ky-0.5)
				for c := range sum {
					sum[c] += w * (float32(q[c]) - there[c])
				}
				weight += w
			}
			q := row[4*x:][:4]
			for c := 3; c >= 0; c-- {
				v := base[c]
				if weight > 0 {
					v += sum[c] / weight
				}
				most := float32(255)
				if c < 3 {
					most = float32(q[3])
				}
				q[c] = uint8(max(0, min(most, v+0.5)))
			}
		}
	}
}

// alike reports whether the four pixels of the copy from here on are in its hole and come from places beside each other.
func (f *Field) alike(x, y int) bool {
	if x < 0 || y < 0 || x+1 >= f.w || y+1 >= f.h {
		return false
	}
	i := y*f.w + x
	s := f.shift[i]
	return f.hole[i] && f.hole[i+1] && f.hole[i+f.w] && f.hole[i+f.w+1] && s == f.shift[i+1] && s == f.shift[i+f.w] && s == f.shift[i+f.w+1]
}

// sample is the filled copy between its pixels.
func (f *Field) sample(x, y float64) (out [4]float32) {
	x, y = max(0, min(float64(f.w-1), x)), max(0, min(float64(f.h-1), y))
	x0, y0 := int(x), int(y)
	x1, y1 := min(x0+1, f.w-1), min(y0+1, f.h-1)
	fx, fy := float32(x-float64(x0)), float32(y-float64(y0))
	a, b, c, d := f.colour[4*(y0*f.w+x0):], f.colour[4*(y0*f.w+x1):], f.colour[4*(y1*f.w+x0):], f.colour[4*(y1*f.w+x1):]
	for i := range out {
		out[i] = (a[i]*(1-fx)+b[i]*fx)*(1-fy) + (c[i]*(1-fx)+d[i]*fx)*fy
	}
	return out
}
