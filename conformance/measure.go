package conformance

import (
	"image"
	"math"
	"sort"

	"echolane/core/linear"
)

// Figures are how two pictures of one size differ.
type Figures struct {
	PSNR float64 // of all channels, premultiplied; +Inf where they are equal
	P999 float64 // the difference that 99.9 % of the samples keep within
	Max  int
	Size bool // the sizes are equal
}

// Compare measures, leaving a margin out on every side.
func Compare(a, b *image.RGBA, margin int) Figures {
	f := Figures{Size: a.Rect == b.Rect}
	r := a.Rect.Intersect(b.Rect).Inset(margin)
	if r.Empty() {
		return f
	}
	var histogram [256]int
	var sum float64
	n := 0
	for y := r.Min.Y; y < r.Max.Y; y++ {
		p, q := a.Pix[a.PixOffset(r.Min.X, y):a.PixOffset(r.Max.X-1, y)+4], b.Pix[b.PixOffset(r.Min.X, y):b.PixOffset(r.Max.X-1, y)+4]
		for i := range p {
			d := int(p[i]) - int(q[i])
			if d < 0 {
				d = -d
			}
			histogram[d]++
			sum += float64(d * d)
			n++
		}
	}
	seen := 0
	for d, c := range histogram {
		if c > 0 {
			f.Max = d
		}
		if seen += c; f.P999 == 0 && float64(seen) >= 0.999*float64(n) {
			f.P999 = float64(d)
		}
	}
	f.PSNR = math.Inf(1)
	if sum > 0 {
		f.PSNR = 10 * math.Log10(255*255*float64(n)/sum)
	}
	return f
}

// AlphaMax is the largest difference of alpha.
func AlphaMax(a, b *image.RGBA) int {
	most := 0
	r := a.Rect.Intersect(b.Rect)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			d := int(a.Pix[a.PixOffset(x, y)+3]) - int(b.Pix[b.PixOffset(x, y)+3])
			most = max(most, max(d, -d))
		}
	}
	return most
}

// Place is how far b lies from a, by least squares on luma: a shift and a stretch over the whole side, in
// pixels, along each axis, with a change of brightness and contrast allowed for.
type Place struct{ TX, TY, EX, EY float64 }

// Shift and Stretch are the larger of each.
func (p Place) Shift() float64   { return math.Max(math.Abs(p.TX), math.Abs(p.TY)) }
func (p Place) Stretch() float64 { return math.Max(math.Abs(p.EX), math.Abs(p.EY)) }

// Locate fits a Place. Both pictures are softened first, so that how sharp each is matters little.
func Locate(a, b *image.RGBA, margin int) Place {
	w, h := a.Rect.Dx(), a.Rect.Dy()
	la, lb := soft(luma(a), w, h), soft(luma(b), w, h)
	// b - a ≈ gx·(tx + ex·u) + gy·(ty + ey·v) + c + d·a, u and v from -1/2 to 1/2.
	const n = 6
	var m [n][n + 1]float64
	for y := max(2, margin); y < h-max(2, margin); y++ {
		for x := max(2, margin); x < w-max(2, margin); x++ {
			i := y*w + x
			gx, gy := (la[i+1]-la[i-1])/2, (la[i+w]-la[i-w])/2
			u, v := (float64(x)+0.5)/float64(w)-0.5, (float64(y)+0.5)/float64(h)-0.5
			row := [n]float64{gx, gy, gx * u, gy * v, 1, la[i]}
			d := lb[i] - la[i]
			for r := range n {
				for c := range n {
					m[r][c] += row[r] * row[c]
				}
				m[r][n] += row[r] * d
			}
		}
	}
	rows := make([][]float64, n)
	for i := range rows {
		rows[i] = m[i][:]
	}
	linear.Solve(rows) // of a plain picture some are open, and 0
	return Place{-rows[0][n], -rows[1][n], -rows[2][n], -rows[3][n]}
}

// Locatable reports whether Locate can tell where a picture is: not where one edge outweighs all else, such as a horizon below
// a plain sky.
func Locatable(m *image.RGBA) bool {
	w, h := m.Rect.Dx(), m.Rect.Dy()
	l := soft(luma(m), w, h)
	var across, down float64
	for y := 1; y < h-1; y++ {
		for x := 1; x < w-1; x++ {
			i := y*w + x
			gx, gy := l[i+1]-l[i-1], l[i+w]-l[i-w]
			across, down = across+gx*gx, down+gy*gy
		}
	}
	return math.Min(across, down) > math.Max(across, down)/8
}

func luma(m *image.RGBA) []float64 {
	out := make([]float64, m.Rect.Dx()*m.Rect.Dy())
	for i := range out {
		out[i] = 0.299*float64(m.Pix[4*i]) + 0.587*float64(m.Pix[4*i+1]) + 0.114*float64(m.Pix[4*i+2])
	}
	return out
}

// soft is a 1-2-1 filter, twice, across and down.
func soft(p []float64, w, h int) []float64 {
	for range 2 {
		q := make([]float64, len(p))
		for y := range h {
			for x := range w {
				l, r := p[y*w+max(0, x-1)], p[y*w+min(w-1, x+1)]
				q[y*w+x] = (l + 2*p[y*w+x] + r) / 4
			}
		}
		p = make([]float64, len(q))
		for y := range h {
			for x := range w {
				p[y*w+x] = (q[max(0, y-1)*w+x] + 2*q[y*w+x] + q[min(h-1, y+1)*w+x]) / 4
			}
		}
	}
	return p
}

// Reduce4 makes a picture a quarter as large on each side with a Lanczos kernel of three lobes, in float64.
func Reduce4(m *image.RGBA) *image.RGBA {
	const k = 4
	w, h := m.Rect.Dx()/k, m.Rect.Dy()/k
	var weights [6 * k]float64
	var sum float64
	for i := range weights {
		x := (float64(i) + 0.5 - 3*k) / k
		weights[i] = lanczos3(x)
		sum += weights[i]
	}
	rows := make([]float64, w*m.Rect.Dy()*4)
	for y := range m.Rect.Dy() {
		for x := range w {
			for i, wt := range weights {
				sx := min(max(k*x+k/2-3*k+i, 0), m.Rect.Dx()-1)
				for c := range 4 {
					rows[(y*w+x)*4+c] += wt / sum * float64(m.Pix[m.PixOffset(sx, y)+c])
				}
			}
		}
	}
	out := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			var v [4]float64
			for i, wt := range weights {
				sy := min(max(k*y+k/2-3*k+i, 0), m.Rect.Dy()-1)
				for c := range 4 {
					v[c] += wt / sum * rows[(sy*w+x)*4+c]
				}
			}
			for c := range 4 {
				out.Pix[out.PixOffset(x, y)+c] = uint8(math.Min(255, math.Max(0, v[c])) + 0.5)
			}
		}
	}
	return out
}

func lanczos3(x float64) float64 {
	if x == 0 {
		return 1
	}
	if math.Abs(x) >= 3 {
		return 0
	}
	p := math.Pi * x
	return 3 * math.Sin(p) * math.Sin(p/3) / (p * p)
}

// WorstFirst sorts results so that the least convincing stands first.
func WorstFirst(rs []Result) {
	sort.SliceStable(rs, func(i, j int) bool { return rs[i].Headroom < rs[j].Headroom })
}

// Difference is where two pictures differ, times 8, as grey.
func Difference(a, b *image.RGBA) *image.Gray {
	r := a.Rect.Intersect(b.Rect)
	m := image.NewGray(r)
	for y := r.Min.Y; y < r.Max.Y; y++ {
		for x := r.Min.X; x < r.Max.X; x++ {
			most := 0
			for c := range 4 {
				d := int(a.Pix[a.PixOffset(x, y)+c]) - int(b.Pix[b.PixOffset(x, y)+c])
				most = max(most, max(d, -d))
			}
			m.Pix[m.PixOffset(x, y)] = uint8(min(255, 8*most))
		}
	}
	return m
}
