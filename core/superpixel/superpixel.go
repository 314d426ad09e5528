// Package superpixel parts a picture into regions of about one colour, which are what finders and cutters work on.
package superpixel

import (
	"math"
	"math/bits"

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
	var centres []centre
	for j := range rows {
		for i := range cols {
			x, y := (2*i+1)*w/(2*cols), (2*j+1)*h/(2*rows)
			at := y*w + x
			centres = append(centres, centre{lab[0][at], lab[1][at], lab[2][at], float32(x), float32(y)})
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
		for n := range centres {
			c := &centres[n]
			cx, cy := int(c[3]), int(c[4])
			x0, x1 := max(0, cx-reach), min(w, cx+reach+1)
			for y := max(0, cy-reach); y < min(h, cy+reach+1); y++ {
				from, to := y*w+x0, y*w+x1
				nearer(lab[0][from:to], lab[1][from:to], lab[2][from:to], far[from:to], of[from:to], c, float32(x0), float32(y)-c[4], k, int32(n))
			}
		}
		sums := make([]centre, len(centres))
		counts := make([]float32, len(centres))
		for y := range h {
			for x := range w {
				i := y*w + x
				n := of[i]
				s := &sums[n]
				s[0], s[1], s[2], s[3], s[4] = s[0]+lab[0][i], s[1]+lab[1][i], s[2]+lab[2][i], s[3]+float32(x), s[4]+float32(y)
				counts[n]++
			}
		}
		for n := range centres {
			if counts[n] > 0 {
				for c, v := range sums[n] {
					centres[n][c] = v / counts[n]
				}
			}
		}
	}
	return connected(lab, w, h, of, int(step*step)/4)
}

// A centre is a region's mean lightness, two of colour, and its middle.
type centre [5]float32

// nearerPlain gives the pixels of a row from x on, which lie dy beside a centre, the centre's name where they are nearer to it than
// far says, which then says how near. k is how much a distance counts.
func nearerPlain(l, a, b, far []float32, of []int32, c *centre, x, dy, k float32, name int32) {
	for i := range far {
		dx := x + float32(i) - c[3]
		dl, da, db := l[i]-c[0], a[i]-c[1], b[i]-c[2]
		if d := dl*dl + 2*(da*da+db*db) + k*(dx*dx+dy*dy); d < far[i] {
			far[i], of[i] = d, name
		}
	}
}

// Ways are the lengths of the shortest ways between any two of the regions: what differs between neighbours, less what is nothing. Those
// that lead to region i are the i-th run of stride numbers, by where they come from; what lies beyond the regions is of no meaning.
func (r *Regions) Ways(nothing float32) (all []float32, stride int) {
	n := len(r.Beside)
	stride = (n + 7) &^ 7 // vectors are of eight
	all = make([]float32, n*stride)
	for i := range all {
		all[i] = math.MaxFloat32
	}
	fresh := make([]bool, n)
	for i := range n {
		all[i*stride+i], fresh[i] = 0, true
	}
	// All ways are made shorter together, by each link in turn, until none can be.
	for again := true; again; {
		again = false
		for i, links := range r.Beside {
			if !fresh[i] {
				continue
			}
			fresh[i] = false
			for _, l := range links {
				if shortened(all[int(l.To)*stride:][:stride], all[i*stride:][:stride], max(0, l.Apart-nothing)) {
					fresh[l.To], again = true, true
				}
			}
		}
	}
	return all, stride
}

// shortenedPlain makes ways no longer than from's, which are apart from them, and says whether one has become shorter.
func shortenedPlain(to, from []float32, apart float32) (changed bool) {
	for i, v := range from {
		if d := v + apart; d < to[i] {
			to[i], changed = d, true
		}
	}
	return changed
}

// connected makes every region one piece: pieces smaller than least go to the region before them.
func connected(lab [3][]float32, w, h int, of []int32, least int) *Regions {
	r := &Regions{W: w, H: h, Of: make([]int32, len(of))}
	// Both with a border around them, so that no pixel is asked whether it has neighbours.
	const outside, unseen = -2, -1
	wide := w + 2
	from, to := make([]int32, wide*(h+2)), make([]int32, wide*(h+2))
	for i := range to {
		from[i], to[i] = outside, outside
	}
	for y := range h {
		row := (y+1)*wide + 1
		copy(from[row:], of[y*w:][:w])
		for x := range w {
			to[row+x] = unseen
		}
	}
	var stack, piece []int32
	n := int32(0)
	for y := range h {
		for x := range w {
			start := (y+1)*wide + 1 + x
			if to[start] >= 0 {
				continue
			}
			before, of := int32(-1), from[start]
			stack, piece = append(stack[:0], int32(start)), piece[:0]
			to[start] = n
			for len(stack) > 0 {
				i := int(stack[len(stack)-1])
				stack = stack[:len(stack)-1]
				piece = append(piece, int32(i))
				for _, j := range [4]int{i - 1, i + 1, i - wide, i + wide} {
					switch k := to[j]; {
					case k >= 0:
						if k != n {
							before = k
						}
					case k == unseen && from[j] == of:
						to[j] = n
						stack = append(stack, int32(j))
					}
				}
			}
			if len(piece) < least && before >= 0 {
				for _, i := range piece {
					to[i] = before
				}
				continue
			}
			n++
		}
	}
	for y := range h {
		copy(r.Of[y*w:][:w], to[(y+1)*wide+1:])
	}
	r.describe(lab, int(n))
	return r
}

func (r *Regions) describe(lab [3][]float32, n int) {
	r.Colour, r.X, r.Y, r.Area, r.Edge, r.Beside = make([][3]float32, n), make([]float32, n), make([]float32, n), make([]float32, n), make([]float32, n), make([][]Link, n)
	long := float32(max(r.W, r.H))
	touch := make([]uint64, (n*n+63)/64) // a bit for each two, the lower one first
	meet := func(a, b int32) {
		if a != b {
			at := int(min(a, b))*n + int(max(a, b))
			touch[at/64] |= 1 << (at % 64)
		}
	}
	for y := range r.H {
		for x := range r.W {
			i := y*r.W + x
			k := r.Of[i]
			for c := range lab {
				r.Colour[k][c] += lab[c][i]
			}
			r.X[k], r.Y[k], r.Area[k] = r.X[k]+float32(x)/long, r.Y[k]+float32(y)/long, r.Area[k]+1
			if x == 0 || y == 0 || x == r.W-1 || y == r.H-1 {
				r.Edge[k]++
			}
			if x+1 < r.W {
				meet(k, r.Of[i+1])
			}
			if y+1 < r.H {
				meet(k, r.Of[i+r.W])
			}
		}
	}
	for k := range n {
		for c := range 3 {
			r.Colour[k][c] /= r.Area[k]
		}
		r.X[k], r.Y[k] = r.X[k]/r.Area[k], r.Y[k]/r.Area[k]
	}
	for i, word := range touch {
		for ; word != 0; word &= word - 1 {
			at := 64*i + bits.TrailingZeros64(word)
			a, b := at/n, at%n
			d := Apart(r.Colour[a], r.Colour[b])
			r.Beside[a] = append(r.Beside[a], Link{int32(b), d})
			r.Beside[b] = append(r.Beside[b], Link{int32(a), d})
		}
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
