package subject

import (
	"math"
	"runtime"
	"slices"
	"sync"

	"echolane/core/raster"
	"echolane/core/superpixel"
)

// regions are a picture's superpixels.
type regions struct{ *superpixel.Regions }

// standing says of each region how much it stands out, 0–1: what differs from regions that belong to the ground, where ground is
// what runs along the picture's border for its area (Zhu et al. 2014, sections 3 and 4); how much each belongs to it, 0–1, and how long
// its way to the border is. weight is how much each counts.
func (r regions) standing(weight []float32) (out, behind, way []float32) {
	n := len(r.Colour)
	nothing := r.usual()
	var differ []float64 // how much two differ, the less the farther they are from one another
	done := beside(func() { differ = r.differences() })
	behind, way = r.behind(nothing)
	done()
	out = make([]float32, n)
	most := 0.002 * float32(len(r.Of)) // less is nothing
	for i := range n {
		var sum float64
		for j, d := range differ[i*n:][:n] {
			sum += d * float64(behind[j]) * float64(r.Area[j])
		}
		out[i] = float32(sum) * (1 - behind[i]) * weight[i]
		most = max(most, out[i])
	}
	for i := range out {
		out[i] /= most
	}
	return r.settled(out, behind, nothing), behind, way
}

// behind is how much each region belongs to the ground, 0–1, and how long its way is to the nearest that lies along the border.
func (r regions) behind(nothing float32) (behind, way []float32) {
	n := len(r.Colour)
	const like = 0.08 // how far a way is that still leads to the same thing
	far, stride := r.Ways(nothing)
	area, edge := make([]float64, n), make([]float64, n)
	way = make([]float32, n)
	for i := range way {
		way[i] = math.MaxFloat32
	}
	for j := range n {
		for i, d := range far[j*stride:][:n] {
			if r.Edge[j] > 0 {
				way[i] = min(way[i], d)
			}
			if d < 4*like {
				w := 1.0
				if d > 0 {
					w = math.Exp(-float64(d*d) / (2 * like * like))
				}
				area[i] += w * float64(r.Area[j])
				edge[i] += w * float64(r.Edge[j])
			}
		}
	}
	behind = make([]float32, n)
	for i := range n {
		touch := edge[i] / math.Sqrt(area[i])
		behind[i] = float32(1 - math.Exp(-touch*touch/2))
	}
	return behind, way
}

// differences are how much each two regions differ, the less the farther they are from one another.
func (r regions) differences() []float64 {
	n := len(r.Colour)
	differ := make([]float64, n*n)
	for i := range n {
		for j := range i {
			dx, dy := float64(r.X[i]-r.X[j]), float64(r.Y[i]-r.Y[j])
			d := float64(superpixel.Apart(r.Colour[i], r.Colour[j])) * math.Exp(-(dx*dx+dy*dy)/(2*0.4*0.4))
			differ[i*n+j], differ[j*n+i] = d, d
		}
	}
	return differ
}

// beside does something while its caller goes on, where there is a processor for it. done waits for it.
func beside(do func()) (done func()) {
	if runtime.GOMAXPROCS(0) < 2 {
		do()
		return func() {}
	}
	var all sync.WaitGroup
	all.Go(do)
	return all.Wait
}

// usual is how different neighbours of one thing are: the mean of each region's most alike neighbour.
func (r regions) usual() float32 {
	var sum, n float32
	for _, links := range r.Beside {
		least := float32(math.MaxFloat32)
		for _, l := range links {
			least = min(least, l.Apart)
		}
		if len(links) > 0 {
			sum, n = sum+least, n+1
		}
	}
	if n == 0 {
		return 0
	}
	return sum / n
}

// settled makes neighbours of alike colour stand out alike, what is ground not at all, and what stands out most wholly: the least of
// a sum of squares (the same, section 5), by relaxation.
func (r regions) settled(out, behind []float32, nothing float32) []float32 {
	v := slices.Clone(out)
	const like = 0.05
	pulls := make([][]float32, len(v))
	weights := make([]float32, len(v))
	for i, links := range r.Beside {
		weights[i] = behind[i] + out[i] + 1e-6
		for _, l := range links {
			d := max(0, l.Apart-nothing)
			w := float32(math.Exp(-float64(d*d)/(2*like*like))) + 0.02
			pulls[i] = append(pulls[i], w)
			weights[i] += w
		}
	}
	for range 60 {
		for i, links := range r.Beside {
			sum := out[i]
			for k, l := range links {
				sum += pulls[i][k] * v[l.To]
			}
			v[i] = sum / weights[i]
		}
	}
	return v
}

// sharpness is how sharp each place of a picture is, 0–1, and how much contrast there is to judge by: the steepest rise from
// pixel to pixel against that in a copy of half the size.
func sharpness(p *raster.RGBA) (sharp, contrast plane) {
	const cell = 8
	light := func(p *raster.RGBA) plane {
		out := newPlane(p.W, p.H)
		for y := range p.H {
			row, to := p.Row(y)[:4*p.W], out.v[y*p.W:][:p.W]
			for x := range to {
				q := row[4*x:][:3]
				to[x] = (54*float32(q[0]) + 183*float32(q[1]) + 19*float32(q[2])) / 65280
			}
		}
		return out
	}
	fine := light(p)
	coarse := newPlane(max(1, p.W/2), max(1, p.H/2))
	for y := range coarse.h {
		for x := range coarse.w {
			x1, y1 := min(2*x+1, p.W-1), min(2*y+1, p.H-1)
			coarse.v[y*coarse.w+x] = (fine.v[2*y*p.W+2*x] + fine.v[2*y*p.W+x1] + fine.v[y1*p.W+2*x] + fine.v[y1*p.W+x1]) / 4
		}
	}
	steepest := func(m plane, x0, y0, x1, y1 int) float32 {
		var most float32
		x1 = min(x1, m.w-1)
		if x1 <= x0 {
			return 0
		}
		for y := y0; y < min(y1, m.h-1); y++ {
			row, below := m.v[y*m.w+x0:][:x1-x0+1], m.v[(y+1)*m.w+x0:][:x1-x0]
			for x, v := range below {
				here := row[x]
				for _, rise := range [2]float32{row[x+1] - here, v - here} {
					if rise < 0 {
						rise = -rise
					}
					if rise > most {
						most = rise
					}
				}
			}
		}
		return most
	}
	w, h := (p.W+cell-1)/cell, (p.H+cell-1)/cell
	sharp, contrast = newPlane(w, h), newPlane(w, h)
	for y := range h {
		for x := range w {
			a, b := steepest(fine, x*cell, y*cell, x*cell+cell, y*cell+cell), steepest(coarse, x*cell/2, y*cell/2, x*cell/2+cell/2, y*cell/2+cell/2)
			contrast.v[y*w+x] = b
			if b > 0.02 {
				sharp.v[y*w+x] = max(0, min(1, 2*a/b-1))
			}
		}
	}
	return sharp, contrast
}
