package raster

import (
	"math"
	"slices"
)

// A Path is closed outlines, in pixels. Where they overlap or cross, a rule says what lies inside.
type Path struct {
	outlines [][][2]float64
	EvenOdd  bool // inside is what an odd number of edges lies before; otherwise what the outlines go round
}

// Line adds an outline of straight lines through points, at least three.
func (p *Path) Line(points ...[2]float64) {
	p.outlines = append(p.outlines, points)
}

// Corners are the radii of a rectangle's corners, from the top left one clockwise.
type Corners struct{ Across, Down [4]float64 }

// Fit shrinks radii that overlap in a rectangle of w×h, all by the same factor (CSS Backgrounds Level 3, section 4.5).
func (c Corners) Fit(w, h float64) Corners {
	f := 1.0
	for _, side := range [][2]float64{{w, c.Across[0] + c.Across[1]}, {w, c.Across[2] + c.Across[3]}, {h, c.Down[0] + c.Down[3]}, {h, c.Down[1] + c.Down[2]}} {
		if side[1] > side[0] {
			f = math.Min(f, math.Max(0, side[0])/side[1])
		}
	}
	for i := range c.Across {
		c.Across[i] *= f
		c.Down[i] *= f
	}
	return c
}

// Within are the radii of a rectangle whose edges lie further in: top, right, bottom, left.
func (c Corners) Within(edge [4]float64) Corners {
	for i := range c.Across {
		across, down := edge[3], edge[0]
		if i == 1 || i == 2 {
			across = edge[1]
		}
		if i >= 2 {
			down = edge[2]
		}
		c.Across[i], c.Down[i] = math.Max(0, c.Across[i]-across), math.Max(0, c.Down[i]-down)
	}
	return c
}

// Rect adds a rectangle with rounded corners, whose radii fit.
func (p *Path) Rect(x0, y0, x1, y1 float64, c Corners) {
	if x1 <= x0 || y1 <= y0 {
		return
	}
	var points [][2]float64
	for i, corner := range [4]struct{ x, y, dx, dy float64 }{{x0, y0, 1, 1}, {x1, y0, -1, 1}, {x1, y1, -1, -1}, {x0, y1, 1, -1}} {
		rx, ry := c.Across[i], c.Down[i]
		if rx <= 0 || ry <= 0 {
			points = append(points, [2]float64{corner.x, corner.y})
			continue
		}
		points = append(points, arc(corner.x+corner.dx*rx, corner.y+corner.dy*ry, rx, ry, math.Pi+float64(i)*math.Pi/2, math.Pi/2)...)
	}
	p.Line(points...)
}

// Ellipse adds an ellipse around a point, with these radii.
func (p *Path) Ellipse(x, y, rx, ry float64) {
	if rx > 0 && ry > 0 {
		p.Line(arc(x, y, rx, ry, 0, 2*math.Pi)...)
	}
}

// arc is a part of an ellipse by straight lines that leave it by no more than a 32nd of a pixel.
func arc(x, y, rx, ry, from, turn float64) [][2]float64 {
	r := math.Max(rx, ry)
	step := 2 * math.Acos(math.Max(0.9, 1-1/(32*math.Max(1, r))))
	n := max(2, int(math.Ceil(turn/step)))
	points := make([][2]float64, n+1)
	for i := range points {
		sin, cos := math.Sincos(from + turn*float64(i)/float64(n))
		points[i] = [2]float64{x + rx*cos, y + ry*sin}
	}
	return points
}

// rows is how many lines of a pixel are looked along. Across, coverage is exact.
const pathRows = 16

type pathEdge struct {
	y0, y1 float64 // from above to below
	x, dx  float64 // at y0, to one pixel down
	up     int     // which way the outline goes along it
}

// Mask gives the coverage of each pixel by the path, 0–255, on a canvas of w×h.
func (p *Path) Mask(w, h int) Plane {
	mask := NewPlane(w, h)
	var edges []pathEdge
	for _, points := range p.outlines {
		for i, a := range points {
			b := points[(i+1)%len(points)]
			e := pathEdge{y0: a[1], y1: b[1], x: a[0], up: 1}
			if a[1] > b[1] {
				e = pathEdge{y0: b[1], y1: a[1], x: b[0], up: -1}
				a, b = b, a
			}
			if e.y0 == e.y1 || e.y1 <= 0 || e.y0 >= float64(h) {
				continue
			}
			e.dx = (b[0] - a[0]) / (b[1] - a[1])
			edges = append(edges, e)
		}
	}
	slices.SortFunc(edges, func(a, b pathEdge) int {
		if a.y0 < b.y0 {
			return -1
		}
		return 1
	})
	type crossing struct {
		x  float64
		up int
	}
	var open []pathEdge
	var at []crossing
	cover := make([]float32, w+1) // what lines cover in part
	whole := make([]int32, w+2)   // and how many more whole ones there are from a pixel on
	for y := range h {
		for len(edges) > 0 && edges[0].y0 < float64(y+1) {
			open, edges = append(open, edges[0]), edges[1:]
		}
		open = slices.DeleteFunc(open, func(e pathEdge) bool { return e.y1 <= float64(y) })
		if len(open) == 0 {
			continue
		}
		clear(cover)
		clear(whole)
		for i := range pathRows {
			line := float64(y) + (float64(i)+0.5)/pathRows
			at = at[:0]
			for _, e := range open {
				if e.y0 <= line && line < e.y1 {
					at = append(at, crossing{e.x + (line-e.y0)*e.dx, e.up})
				}
			}
			slices.SortFunc(at, func(a, b crossing) int {
				if a.x < b.x {
					return -1
				}
				return 1
			})
			for j, turns := 0, 0; j+1 < len(at); j++ {
				turns += at[j].up
				if inside := turns != 0; !p.EvenOdd && inside || p.EvenOdd && j%2 == 0 {
					span(cover, whole, at[j].x, at[j+1].x, w)
				}
			}
		}
		row := mask.Row(y)
		lines := int32(0)
		for x := range row {
			lines += whole[x]
			row[x] = uint8(clamp255((cover[x]+float32(lines))*(255.0/pathRows) + 0.5))
		}
	}
	return mask
}

// span adds what of each pixel lies between two places on a line.
func span(cover []float32, whole []int32, x0, x1 float64, w int) {
	x0, x1 = math.Max(0, x0), math.Min(float64(w), x1)
	if x1 <= x0 {
		return
	}
	a, b := int(x0), int(x1)
	if a == b {
		cover[a] += float32(x1 - x0)
		return
	}
	cover[a] += float32(float64(a+1) - x0)
	whole[a+1]++
	whole[b]--
	if b < w {
		cover[b] += float32(x1 - float64(b))
	}
}

// Clip clears the picture outside a path.
func (p *RGBA) Clip(path *Path) {
	mask := path.Mask(p.W, p.H)
	defer mask.Free()
	p.ClipMask(mask)
}

// ClipMask multiplies every pixel by a mask of the picture's size.
func (p *RGBA) ClipMask(mask Plane) {
	for y := range p.H {
		row, cover := p.Row(y), mask.Row(y)
		for x, k := range cover {
			if k == 255 {
				continue
			}
			p.Opaque = false
			q := row[4*x : 4*x+4 : 4*x+4]
			for c := range q {
				q[c] = div255(uint32(q[c]) * uint32(k))
			}
		}
	}
}

// PaintMask paints a straight colour over the picture as far as a mask of the same size lets it.
func (p *RGBA) PaintMask(mask Plane, colour [4]uint8) {
	for y := range p.H {
		row, cover := p.Row(y), mask.Row(y)
		for x, k := range cover {
			a := uint32(div255(uint32(k) * uint32(colour[3])))
			if a == 0 {
				continue
			}
			q := row[4*x : 4*x+4 : 4*x+4]
			for c := range 3 {
				q[c] = uint8(min(255, uint32(div255(uint32(colour[c])*a))+uint32(div255(uint32(q[c])*(255-a)))))
			}
			q[3] = uint8(min(255, a+uint32(div255(uint32(q[3])*(255-a)))))
		}
	}
}

// Times multiplies the mask in place by another of the same size.
func (p Plane) Times(by Plane) {
	for y := range p.H {
		row, k := p.Row(y), by.Row(y)
		for x := range row {
			row[x] = div255(uint32(row[x]) * uint32(k[x]))
		}
	}
}

// Outside inverts the mask in place.
func (p Plane) Outside() {
	for y := range p.H {
		row := p.Row(y)
		for x := range row {
			row[x] = 255 - row[x]
		}
	}
}

// BlurMask gives a blurred copy of a mask, taken to be 0 beyond its edges. sigma is in pixels.
func BlurMask(mask Plane, sigma float64) Plane {
	return blurred(mask, newBlurAxis(sigma, mask.W, 0, mask.W, Faded), newBlurAxis(sigma, mask.H, 0, mask.H, Faded), 1)
}

// Turn turns the path clockwise around a point.
func (p *Path) Turn(degrees, x, y float64) {
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	for _, line := range p.outlines {
		for i, q := range line {
			ux, uy := q[0]-x, q[1]-y
			line[i] = [2]float64{x + ux*cos - uy*sin, y + ux*sin + uy*cos}
		}
	}
}

// Mix puts a picture in the place of what is there, with its top left corner at x, y, as far as a mask of the picture's size and an
// opacity let it. Both are premultiplied.
func (p *RGBA) Mix(src *RGBA, x, y int, mask Plane, opacity float64) {
	k := uint32(math.Round(opacity * 256))
	for row := range src.H {
		to, from, by := p.Row(y + row)[4*x:], src.Row(row), mask.Row(row)
		for i, m := range by {
			a := uint32(m) * k / 256
			if a == 0 {
				continue
			}
			for c := 4 * i; c < 4*i+4; c++ {
				to[c] = div255(uint32(from[c])*a + uint32(to[c])*(255-a))
			}
		}
	}
}
