package matte

import (
	"runtime"
	"sync"
)

// beside does things that don't depend on one another, on as many processors as there are for them.
func beside(all ...func()) {
	var others sync.WaitGroup
	for _, f := range all[1:] {
		others.Go(f)
	}
	all[0]()
	others.Wait()
}

// inBands does something with all rows, by bands of them beside one another.
func inBands(h int, do func(from, to int)) {
	n := min(runtime.GOMAXPROCS(0), h/64+1)
	bands := make([]func(), n)
	for i := range bands {
		bands[i] = func() { do(i*h/n, (i+1)*h/n) }
	}
	beside(bands...)
}

// halved is the colours of what counts, multiplied with how much does, and that: in maps of half the size.
func halved(colour, counts []float32, w, h int) (out [4][]float32) {
	hw, hh := (w+1)/2, (h+1)/2
	for k := range out {
		out[k] = make([]float32, hw*hh)
	}
	for i, c := range counts {
		if c == 0 {
			continue
		}
		j := i/w/2*hw + i%w/2
		for k := range 3 {
			out[k][j] += c * colour[3*i+k] / 4
		}
		out[3][j] += c / 4
	}
	return out
}

// nearby is the mean colour of what counts around each place: from as near as there is some.
func nearby(of [4][]float32, w, h, band int) []float32 {
	out, done := make([]float32, 3*w*h), make([]float32, w*h)
	for _, r := range []int{band, 2 * band, 5 * band, 14 * band, max(w, h)} {
		var sums [4][]float32
		one := func(k int) { sums[k] = boxed(of[k], w, h, r) }
		beside(func() { one(0); one(1) }, func() { one(2); one(3) })
		weight := sums[3]
		missing := false
		for i, n := range weight {
			if n <= 1e-6 {
				missing = missing || done[i] < 1
				continue
			}
			// The nearer ring counts as far as it holds enough.
			share := min(1, n*12) * (1 - done[i])
			for k := range 3 {
				out[3*i+k] += share * sums[k][i] / n
			}
			done[i] += share
			missing = missing || done[i] < 0.999
		}
		if !missing {
			break
		}
	}
	for i, d := range done {
		if d > 0 {
			for k := range 3 {
				out[3*i+k] /= d
			}
		}
	}
	return out
}

// midway holds what boxed has of the rows before the columns.
var midway = sync.Pool{New: func() any { return new([]float32) }}

// boxed is the mean over 2r+1 by 2r+1 places; beyond the border is nothing, which doesn't count.
func boxed(v []float32, w, h, r int) []float32 {
	room := midway.Get().(*[]float32)
	defer midway.Put(room)
	if cap(*room) < len(v) {
		*room = make([]float32, len(v))
	}
	mid, out := (*room)[:len(v)], make([]float32, len(v))
	for y := 0; y < h; y += 2 { // two rows at a time: each place of one waits for the place before
		z := min(y+1, h-1)
		row, to := v[y*w:][:w], mid[y*w:][:w]
		row2, to2 := v[z*w:][:w], mid[z*w:][:w]
		var sum, sum2 float64
		for x := 0; x < min(r, w); x++ {
			sum += float64(row[x])
			sum2 += float64(row2[x])
		}
		near := func(from, to1 int) {
			for x := from; x < to1; x++ {
				if x+r < w {
					sum += float64(row[x+r])
					sum2 += float64(row2[x+r])
				}
				if x-r-1 >= 0 {
					sum -= float64(row[x-r-1])
					sum2 -= float64(row2[x-r-1])
				}
				n := float64(min(w-1, x+r) - max(0, x-r) + 1)
				to[x], to2[x] = float32(sum/n), float32(sum2/n)
			}
		}
		inner := min(r+1, w)
		near(0, inner)
		if end := w - r; end > inner {
			n := float64(2*r + 1)
			k := end - inner
			come, gone, out := row[inner+r:][:k], row[inner-r-1:][:k], to[inner:][:k]
			come2, gone2, out2 := row2[inner+r:][:k], row2[inner-r-1:][:k], to2[inner:][:k]
			for i := range out {
				sum = sum + float64(come[i]) - float64(gone[i])
				sum2 = sum2 + float64(come2[i]) - float64(gone2[i])
				out[i], out2[i] = float32(sum/n), float32(sum2/n)
			}
			inner = end
		}
		near(inner, w)
	}
	sums, nothing := make([]float64, w), make([]float32, w)
	row := func(y int) []float32 {
		if y < 0 || y >= h {
			return nothing
		}
		return mid[y*w:][:w]
	}
	for y := 0; y < min(r, h); y++ {
		for x, v := range row(y) {
			sums[x] += float64(v)
		}
	}
	for y := range h {
		k := 1 / float64(min(h-1, y+r)-max(0, y-r)+1)
		come, gone, to := row(y + r)[:len(sums)], row(y - r - 1)[:len(sums)], out[y*w:][:len(sums)]
		for x, s := range sums {
			s = s + float64(come[x]) - float64(gone[x])
			sums[x] = s
			to[x] = max(0, float32(s*k))
		}
	}
	return out
}

// guided makes a map follow a picture's edges: around each place it is as good as can be a straight line of the picture's
// lightness, by how much each place is to be trusted.
func guided(v, trust, colour []float32, w, h, r int) []float32 {
	n := w * h
	light := make([]float32, n)
	for i := range light {
		light[i] = (0.3*colour[3*i] + 0.59*colour[3*i+1] + 0.11*colour[3*i+2]) / 255
	}
	of := func(f func(i int) float32) []float32 {
		t := make([]float32, n)
		for i := range t {
			t[i] = f(i)
		}
		return boxed(t, w, h, r)
	}
	var weight, mg, mv, gg, gv []float32
	beside(func() {
		weight = boxed(trust, w, h, r)
		mg = of(func(i int) float32 { return trust[i] * light[i] })
		mv = of(func(i int) float32 { return trust[i] * v[i] })
	}, func() {
		gg = of(func(i int) float32 { return trust[i] * light[i] * light[i] })
		gv = of(func(i int) float32 { return trust[i] * light[i] * v[i] })
	})
	a, b := make([]float32, n), make([]float32, n)
	const flat = 4e-4
	for i := range a {
		k := 1 / max(1e-6, weight[i])
		g, m := mg[i]*k, mv[i]*k
		a[i] = (gv[i]*k - g*m) / (max(0, gg[i]*k-g*g) + flat)
		b[i] = m - a[i]*g
	}
	beside(func() { a = boxed(a, w, h, r) }, func() { b = boxed(b, w, h, r) })
	out := make([]float32, n)
	for i := range out {
		line := a[i]*light[i] + b[i]
		// Where the place itself is trusted it says most.
		t := trust[i] * trust[i]
		out[i] = max(0, min(1, t*v[i]+(1-t)*line))
	}
	return out
}

// between is a parting between its pixels.
func between(inside []bool, w, h int, x, y float64) float32 {
	x, y = max(0, min(float64(w-1), x)), max(0, min(float64(h-1), y))
	x0, y0 := int(x), int(y)
	x1, y1 := min(x0+1, w-1), min(y0+1, h-1)
	fx, fy := x-float64(x0), y-float64(y0)
	at := func(x, y int) float64 {
		if inside[y*w+x] {
			return 1
		}
		return 0
	}
	return float32((at(x0, y0)*(1-fx)+at(x1, y0)*fx)*(1-fy) + (at(x0, y1)*(1-fx)+at(x1, y1)*fx)*fy)
}
