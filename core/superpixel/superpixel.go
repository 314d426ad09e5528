// Package superpixel parts a picture into regions of about one colour, which are what finders and cutters work on.
package superpixel

import (
	"math"
	"slices"

	"echolane/core/raster"
)

// Regions are parts of a picture of about one colour, and what is known of each.
type Regions struct {
	W, H   int
	Of     []int32 // each pixel's region
	Colour [][3]float32
	X, Y   []float32 // its middle, in parts of the longer side
	Area   []float32 // pixels
	Edge   []float32 // pixels along the picture's border
	Beside [][]Link  // the regions that touch it
}

// A Link is a neighbour and how different it is.
type Link struct {
	To    int32
	Apart float32
}

// New parts a picture of w×h pixels into about n regions, lab being its lightness and two of colour, row by row: k-means in colour and place, each centre within reach of its own (Achanta
// et al. 2012, section 3), after which what isn't connected goes to a neighbour.
func New(lab [3][]float32, w, h, n int) *Regions {
	step := math.Sqrt(float64(w*h) / float64(n))
	cols, rows := max(1, int(float64(w)/step+0.5)), max(1, int(float64(h)/step+0.5))
	type centre struct{ c [5]float32 } // l, a, b, x, y
	var centres []centre
	for j := range rows {
		for i := range cols {
			x, y := (2*i+1)*w/(2*cols), (2*j+1)*h/(2*rows)
			at := y*w + x
			centres = append(centres, centre{[5]float32{lab[0][at], lab[1][at], lab[2][at], float32(x), float32(y)}})
		}
	}
	of, far := make([]int32, w*h), make([]float32, w*h)
	const compact = 0.06 // the difference of colour that counts as much as a step
	k := float32(compact * compact / (step * step))
	reach := int(1.5*step) + 1
	for range 4 {
		for i := range far {
			far[i] = math.MaxFloat32
		}
		for n, c := range centres {
			cx, cy := int(c.c[3]), int(c.c[4])
			for y := max(0, cy-reach); y < min(h, cy+reach+1); y++ {
				dy := float32(y) - c.c[4]
				row := y * w
				for x := max(0, cx-reach); x < min(w, cx+reach+1); x++ {
					i := row + x
					dx := float32(x) - c.c[3]
					dl, da, db := lab[0][i]-c.c[0], lab[1][i]-c.c[1], lab[2][i]-c.c[2]
					if d := dl*dl + 2*(da*da+db*db) + k*(dx*dx+dy*dy); d < far[i] {
						far[i], of[i] = d, int32(n)
					}
				}
			}
		}
		sums := make([]centre, len(centres))
		counts := make([]float32, len(centres))
		for i, n := range of {
			s := &sums[n].c
			s[0], s[1], s[2], s[3], s[4] = s[0]+lab[0][i], s[1]+lab[1][i], s[2]+lab[2][i], s[3]+float32(i%w), s[4]+float32(i/w)
			counts[n]++
		}
		for n := range centres {
			if counts[n] > 0 {
				for c, v := range sums[n].c {
					centres[n].c[c] = v / counts[n]
				}
			}
		}
	}
	return connected(lab, w, h, of, int(step*step)/4)
}

// connected makes every region one piece: pieces smaller than least go to the region before them.
func connected(lab [3][]float32, w, h int, of []int32, least int) *Regions {
	r := &Regions{W: w, H: h, Of: make([]int32, len(of))}
	for i := range r.Of {
		r.Of[i] = -1
	}
	var stack, piece []int32
	n := int32(0)
	for start := range of {
		if r.Of[start] >= 0 {
			continue
		}
		before := int32(-1)
		stack, piece = append(stack[:0], int32(start)), piece[:0]
		r.Of[start] = n
		for len(stack) > 0 {
			i := stack[len(stack)-1]
			stack = stack[:len(stack)-1]
			piece = append(piece, i)
			for _, j := range r.around(int(i)) {
				if j < 0 {
					continue
				}
				if r.Of[j] >= 0 {
					if r.Of[j] != n {
						before = r.Of[j]
					}
					continue
				}
				if of[j] == of[i] {
					r.Of[j] = n
					stack = append(stack, j)
				}
			}
		}
		if len(piece) < least && before >= 0 {
			for _, i := range piece {
				r.Of[i] = before
			}
			continue
		}
		n++
	}
	r.describe(lab, int(n))
	return r
}

// around are the four pixels beside one; −1 where there is none.
func (r *Regions) around(i int) [4]int32 {
	out := [4]int32{-1, -1, -1, -1}
	x, y := i%r.W, i/r.W
	if x > 0 {
		out[0] = int32(i - 1)
	}
	if x < r.W-1 {
		out[1] = int32(i + 1)
	}
	if y > 0 {
		out[2] = int32(i - r.W)
	}
	if y < r.H-1 {
		out[3] = int32(i + r.W)
	}
	return out
}

func (r *Regions) describe(lab [3][]float32, n int) {
	r.Colour, r.X, r.Y, r.Area, r.Edge, r.Beside = make([][3]float32, n), make([]float32, n), make([]float32, n), make([]float32, n), make([]float32, n), make([][]Link, n)
	long := float32(max(r.W, r.H))
	touch := map[[2]int32]bool{}
	for i, k := range r.Of {
		x, y := i%r.W, i/r.W
		for c := range lab {
			r.Colour[k][c] += lab[c][i]
		}
		r.X[k], r.Y[k], r.Area[k] = r.X[k]+float32(x)/long, r.Y[k]+float32(y)/long, r.Area[k]+1
		if x == 0 || y == 0 || x == r.W-1 || y == r.H-1 {
			r.Edge[k]++
		}
		if x+1 < r.W && r.Of[i+1] != k {
			touch[[2]int32{min(k, r.Of[i+1]), max(k, r.Of[i+1])}] = true
		}
		if y+1 < r.H && r.Of[i+r.W] != k {
			touch[[2]int32{min(k, r.Of[i+r.W]), max(k, r.Of[i+r.W])}] = true
		}
	}
	for k := range n {
		for c := range 3 {
			r.Colour[k][c] /= r.Area[k]
		}
		r.X[k], r.Y[k] = r.X[k]/r.Area[k], r.Y[k]/r.Area[k]
	}
	pairs := make([][2]int32, 0, len(touch))
	for p := range touch {
		pairs = append(pairs, p)
	}
	slices.SortFunc(pairs, func(a, b [2]int32) int {
		if a[0] != b[0] {
			return int(a[0] - b[0])
		}
		return int(a[1] - b[1])
	})
	for _, p := range pairs {
		d := Apart(r.Colour[p[0]], r.Colour[p[1]])
		r.Beside[p[0]] = append(r.Beside[p[0]], Link{p[1], d})
		r.Beside[p[1]] = append(r.Beside[p[1]], Link{p[0], d})
	}
}

// Apart is how different two colours are, in Oklab with colour counting more than light.
func Apart(a, b [3]float32) float32 {
	dl, da, db := a[0]-b[0], 1.6*(a[1]-b[1]), 1.6*(a[2]-b[2])
	return float32(math.Sqrt(float64(dl*dl + da*da + db*db)))
}

// Oklab gives the lightness and the two of colour of an opaque picture, row by row: about 0–1, and around 0.
func Oklab(p *raster.RGBA) (out [3][]float32) {
	for c := range out {
		out[c] = make([]float32, p.W*p.H)
	}
	var linear [256]float64
	for i := range linear {
		v := float64(i) / 255
		if linear[i] = v / 12.92; v > 0.04045 {
			linear[i] = math.Pow((v+0.055)/1.055, 2.4)
		}
	}
	for y := range p.H {
		row := p.Row(y)
		for x := range p.W {
			r, g, b := linear[row[4*x]], linear[row[4*x+1]], linear[row[4*x+2]]
			l := math.Cbrt(0.4122214708*r + 0.5363325363*g + 0.0514459929*b)
			m := math.Cbrt(0.2119034982*r + 0.6806995451*g + 0.1073969566*b)
			s := math.Cbrt(0.0883024619*r + 0.2817188376*g + 0.6299787005*b)
			i := y*p.W + x
			out[0][i] = float32(0.2104542553*l + 0.7936177850*m - 0.0040720468*s)
			out[1][i] = float32(1.9779984951*l - 2.4285922050*m + 0.4505937099*s)
			out[2][i] = float32(0.0259040371*l + 0.7827717662*m - 0.8086757660*s)
		}
	}
	return out
}

// Borders are how many pixels each region has in common with each of those in Beside.
func (r *Regions) Borders() [][]float32 {
	out := make([][]float32, len(r.Beside))
	for k, list := range r.Beside {
		out[k] = make([]float32, len(list))
	}
	count := func(a, b int32) {
		for i, l := range r.Beside[a] {
			if l.To == b {
				out[a][i]++
			}
		}
	}
	for i, k := range r.Of {
		if x := i % r.W; x+1 < r.W && r.Of[i+1] != k {
			count(k, r.Of[i+1])
			count(r.Of[i+1], k)
		}
		if i+r.W < len(r.Of) && r.Of[i+r.W] != k {
			count(k, r.Of[i+r.W])
			count(r.Of[i+r.W], k)
		}
	}
	return out
}
