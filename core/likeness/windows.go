package likeness

import (
	"math"
	"math/bits"
	"sync"
)

// A grid is what windows say, row by row.
type grid struct {
	w, h   int
	lost   []float32 // how much of the structure is lost there
	err    []float32 // the mean square of the error
	masked []float32 // the same over the original's own variance
}

func mean(v []float32) float64 {
	var sum float64
	for _, d := range v {
		sum += float64(d)
	}
	return sum / float64(len(v))
}

func (g *grid) free() {
	returned(g.lost)
	returned(g.err)
	returned(g.masked)
}

// Planes, sums and grids come from here and go back, by powers of two: a search looks at the same sizes again and again.
var shelves [40]sync.Pool

func borrowed(n int) []float32 {
	size := bits.Len(uint(max(1, n) - 1))
	if v, _ := shelves[size].Get().(*[]float32); v != nil {
		return (*v)[:n]
	}
	return make([]float32, n, 1<<size)
}

func returned(v []float32) {
	if n := cap(v); n > 0 && n&(n-1) == 0 {
		shelves[bits.Len(uint(n)-1)].Put(&v)
	}
}

// runs are five runs of sums, one behind the other: of a's samples, b's, the squares of both, and their products.
type runs struct {
	v     []float32
	apart int
}

func newRuns(n int) *runs {
	const slack = 8 // vectors read beyond a run's end
	return &runs{borrowed(5*(n+slack) + slack), n + slack}
}

func (r *runs) of(i int) []float32 { return r.v[i*r.apart:][:r.apart] }

// The sums are taken in the same order with and without vectors, so that both give the same bits.

func columnsPlain(a, b []float32, stride, rows int, out *runs, from, to int) {
	sa, sb, saa, sbb, sab := out.of(0), out.of(1), out.of(2), out.of(3), out.of(4)
	for x := from; x < to; x++ {
		var u, v, uu, vv, uv float32
		for y := range rows {
			p, q := a[y*stride+x], b[y*stride+x]
			u += p
			v += q
			uu += float32(p * p)
			vv += float32(q * q)
			uv += float32(p * q)
		}
		sa[x], sb[x], saa[x], sbb[x], sab[x] = u, v, uu, vv, uv
	}
}

// thirdsPlain sums each three samples.
func thirdsPlain(from, to []float32) {
	for i := range to {
		to[i] = from[block*i] + from[block*i+1] + from[block*i+2]
	}
}

func windowsPlain(up, row *runs, g *grid, at int, c *[5]float32, from, to int) {
	for i := from; i < to; i++ {
		var s [5]float32
		for k := range s {
			u, r := up.v[k*up.apart+i:], row.v[k*row.apart+i:]
			s[k] = (u[0] + r[0] + u[1] + r[1]) * c[0]
		}
		g.lost[at+i], g.err[at+i], g.masked[at+i] = window(s, c)
	}
}

// window says of one window's means how much structure is lost, and how large the error is, as it is and masked.
func window(s [5]float32, c *[5]float32) (lost, err, masked float32) {
	a, b := s[0], s[1]
	aa, bb, ab := float32(a*a), float32(b*b), float32(a*b)
	va, vb, vab := max(0, s[2]-aa), max(0, s[3]-bb), s[4]-ab
	near := float32(float32(ab+ab+c[1])*float32(vab+vab+c[2])) / float32(float32(aa+bb+c[1])*float32(va+vb+c[2]))
	err = max(0, float32(va+vb)-float32(vab+vab)) + float32((a-b)*(a-b))
	return 1 - near, err, err / float32(va+c[3])
}

// distances compares windows of 6×6, every three samples.
func distances(a, b plane) grid {
	constants := [5]float32{1.0 / (4 * block * block), c1, c2, hides, 1}
	bw, bh := a.w/block, a.h/block
	if bw < 2 || bh < 2 {
		return few(a, b, constants)
	}
	g := newGrid(bw-1, bh-1)
	all, up, row := newRuns(bw*block), newRuns(bw), newRuns(bw)
	for by := range bh {
		at := by * block * a.w
		columns(a.v[at:], b.v[at:], a.w, block, all, bw*block)
		for k := range 5 {
			thirds(all.of(k), row.of(k)[:bw])
		}
		if by > 0 {
			windows(up, row, &g, (by-1)*g.w, &constants, g.w)
		}
		up, row = row, up
	}
	returned(all.v)
	returned(up.v)
	returned(row.v)
	return g
}

// few is distances for what is too small for two blocks: one window, as large as the picture lets it be, that way.
func few(a, b plane, constants [5]float32) grid {
	w, h := max(1, a.w/block-1), max(1, a.h/block-1)
	g := newGrid(w, h)
	for y := range h {
		for x := range w {
			var s [5]float32
			n := float32(0)
			for j := y * block; j < min(a.h, (y+2)*block); j++ {
				for i := x * block; i < min(a.w, (x+2)*block); i++ {
					p, q := a.v[j*a.w+i], b.v[j*b.w+i]
					for k, v := range [5]float32{p, q, p * p, q * q, p * q} {
						s[k] += v
					}
					n++
				}
			}
			for k := range s {
				s[k] /= n
			}
			g.lost[y*w+x], g.err[y*w+x], g.masked[y*w+x] = window(s, &constants)
		}
	}
	return g
}

// Free gives back what the picture was looked at in; it isn't looked at again.
func (p *Picture) Free() {
	if p == nil {
		return
	}
	for i := range p.grounds {
		g := &p.grounds[i]
		for s := range g.light {
			returned(g.light[s].v)
		}
		returned(g.blue.v)
		returned(g.red.v)
		*g = view{}
	}
}

func newGrid(w, h int) grid {
	return grid{w: w, h: h, lost: borrowed(w * h), err: borrowed(w * h), masked: borrowed(w * h)}
}

// seen is what two planes' windows say together, where it was wanted.
type seen struct {
	structure, masked float64 // means
	err               float64 // the 2-norm of the windows' errors
}

// wanted is what look is to say: each sum takes its time.
type wanted struct{ structure, masked, err bool }

func look(a, b plane, want wanted) (s seen) {
	g := distances(a, b)
	defer g.free()
	if want.structure {
		s.structure = math.Max(0, mean(g.lost))
	}
	if want.masked {
		s.masked = mean(g.masked)
	}
	if want.err {
		for _, e := range g.err {
			s.err += float64(e) * float64(e)
		}
		s.err = math.Sqrt(s.err / float64(len(g.err)))
	}
	return s
}
