package svg

import (
	"math"
	"strings"
)

type point = [2]float64

// A subpath is a line through points; closed says that it ends where it began by a line of its own.
type subpath struct {
	points []point
	closed bool

	corners []int // those of its points where markers stand
}

// An outline is a path whose curves are lines already.
type outline []subpath

// mostPoints is how many points all paths of a drawing may have together.
const mostPoints = 1_000_000

// pen draws an outline.
type pen struct {
	out       outline
	tolerance float64 // how far lines may leave the curves, in user space
	at, start point
	open      bool
	count     *int // of points
}

func (p *pen) move(x, y float64) {
	p.out = append(p.out, subpath{points: []point{{x, y}}, corners: []int{0}})
	p.at, p.start, p.open = point{x, y}, point{x, y}, true
	*p.count++
}

func (p *pen) begin() *subpath {
	if !p.open {
		p.move(p.at[0], p.at[1])
	}
	return &p.out[len(p.out)-1]
}

func (p *pen) step(s *subpath, x, y float64) {
	s.points = append(s.points, point{x, y})
	*p.count++
}

func (p *pen) corner(s *subpath) {
	s.corners = append(s.corners, len(s.points)-1)
	p.at = s.points[len(s.points)-1]
}

func (p *pen) line(x, y float64) {
	s := p.begin()
	p.step(s, x, y)
	p.corner(s)
}

func (p *pen) close() {
	if p.open {
		s := &p.out[len(p.out)-1]
		s.closed = true
		s.corners = append(s.corners, len(s.points)) // its end is its start
	}
	p.at, p.open = p.start, false
}

// pieces is into how many lines a curve goes whose control points deviate so much from evenly spaced.
func (p *pen) pieces(deviation float64) int {
	n := math.Sqrt(deviation / (8 * p.tolerance))
	if !(n > 1) {
		return 1
	}
	return int(math.Min(400, math.Ceil(n)))
}

func (p *pen) cubic(x1, y1, x2, y2, x, y float64) {
	s := p.begin()
	a := p.at
	n := p.pieces(6 * math.Max(math.Hypot(a[0]-2*x1+x2, a[1]-2*y1+y2), math.Hypot(x1-2*x2+x, y1-2*y2+y)))
	for i := 1; i <= n; i++ {
		t := float64(i) / float64(n)
		u := 1 - t
		k := [4]float64{u * u * u, 3 * u * u * t, 3 * u * t * t, t * t * t}
		p.step(s, k[0]*a[0]+k[1]*x1+k[2]*x2+k[3]*x, k[0]*a[1]+k[1]*y1+k[2]*y2+k[3]*y)
	}
	p.corner(s)
}

func (p *pen) quadratic(x1, y1, x, y float64) {
	a := p.at
	p.cubic(a[0]+2*(x1-a[0])/3, a[1]+2*(y1-a[1])/3, x+2*(x1-x)/3, y+2*(y1-y)/3, x, y)
}

// arc goes along an ellipse (SVG 2, appendix B.2).
func (p *pen) arc(rx, ry, turn float64, large, sweep bool, x, y float64) {
	a := p.at
	rx, ry = math.Abs(rx), math.Abs(ry)
	if rx == 0 || ry == 0 || a == (point{x, y}) {
		p.line(x, y)
		return
	}
	sin, cos := math.Sincos(turn * math.Pi / 180)
	dx, dy := (a[0]-x)/2, (a[1]-y)/2
	x1, y1 := cos*dx+sin*dy, -sin*dx+cos*dy
	if l := x1*x1/(rx*rx) + y1*y1/(ry*ry); l > 1 {
		rx, ry = rx*math.Sqrt(l), ry*math.Sqrt(l)
	}
	k := math.Sqrt(math.Max(0, (rx*rx*ry*ry-rx*rx*y1*y1-ry*ry*x1*x1)/(rx*rx*y1*y1+ry*ry*x1*x1)))
	if large == sweep {
		k = -k
	}
	cx, cy := k*rx*y1/ry, -k*ry*x1/rx
	from := math.Atan2((y1-cy)/ry, (x1-cx)/rx)
	by := math.Atan2((-y1-cy)/ry, (-x1-cx)/rx) - from
	if sweep && by < 0 {
		by += 2 * math.Pi
	} else if !sweep && by > 0 {
		by -= 2 * math.Pi
	}
	mx, my := cos*cx-sin*cy+(a[0]+x)/2, sin*cx+cos*cy+(a[1]+y)/2
	s := p.begin()
	n := max(2, p.pieces(math.Max(rx, ry)*by*by))
	for i := 1; i < n; i++ {
		sn, cs := math.Sincos(from + by*float64(i)/float64(n))
		p.step(s, mx+cos*rx*cs-sin*ry*sn, my+sin*rx*cs+cos*ry*sn)
	}
	p.step(s, x, y)
	p.corner(s)
}

// path draws path data up to what is wrong in it (SVG 2, section 9.5.4).
func (p *pen) path(d string) {
	var command byte
	var control point // the last curve's second control point
	var last byte
	for *p.count < mostPoints {
		d = strings.TrimLeft(d, " \t\r\n\f,")
		if d == "" {
			return
		}
		if c := d[0]; c|0x20 >= 'a' && c|0x20 <= 'z' {
			command, d = c, d[1:]
		} else if command|0x20 == 'z' {
			return
		}
		if command == 0 || last == 0 && command|0x20 != 'm' {
			return
		}
		relative := command >= 'a'
		var v [7]float64
		n, known := map[byte]int{'m': 2, 'l': 2, 'h': 1, 'v': 1, 'c': 6, 's': 4, 'q': 4, 't': 2, 'a': 7, 'z': 0}[command|0x20]
		if !known {
			return
		}
		for i := range n {
			if command|0x20 == 'a' && (i == 3 || i == 4) { // flags may stand without anything between
				d = strings.TrimLeft(d, " \t\r\n\f,")
				if d == "" || d[0] != '0' && d[0] != '1' {
					return
				}
				v[i], d = float64(d[0]-'0'), d[1:]
				continue
			}
			var ok bool
			if v[i], d, ok = leading(d); !ok {
				return
			}
		}
		o := point{}
		if relative {
			o = p.at
		}
		kind := command | 0x20
		switch kind {
		case 'm':
			p.move(o[0]+v[0], o[1]+v[1])
			command-- // to l or L, which what follows without a letter is
		case 'l':
			p.line(o[0]+v[0], o[1]+v[1])
		case 'h':
			p.line(o[0]+v[0], p.at[1])
		case 'v':
			p.line(p.at[0], o[1]+v[0])
		case 'c':
			control = point{o[0] + v[2], o[1] + v[3]}
			p.cubic(o[0]+v[0], o[1]+v[1], control[0], control[1], o[0]+v[4], o[1]+v[5])
		case 's':
			first := p.at
			if last == 'c' || last == 's' {
				first = point{2*p.at[0] - control[0], 2*p.at[1] - control[1]}
			}
			control = point{o[0] + v[0], o[1] + v[1]}
			p.cubic(first[0], first[1], control[0], control[1], o[0]+v[2], o[1]+v[3])
		case 'q':
			control = point{o[0] + v[0], o[1] + v[1]}
			p.quadratic(control[0], control[1], o[0]+v[2], o[1]+v[3])
		case 't':
			if last == 'q' || last == 't' {
				control = point{2*p.at[0] - control[0], 2*p.at[1] - control[1]}
			} else {
				control = p.at
			}
			p.quadratic(control[0], control[1], o[0]+v[0], o[1]+v[1])
		case 'a':
			p.arc(v[0], v[1], v[2], v[3] != 0, v[4] != 0, o[0]+v[5], o[1]+v[6])
		case 'z':
			p.close()
		}
		last = kind
	}
}

// rect draws a rectangle with round corners.
func (p *pen) rect(x, y, w, h, rx, ry float64) {
	if w <= 0 || h <= 0 {
		return
	}
	rx, ry = math.Min(math.Max(0, rx), w/2), math.Min(math.Max(0, ry), h/2)
	if rx == 0 || ry == 0 {
		p.move(x, y)
		p.line(x+w, y)
		p.line(x+w, y+h)
		p.line(x, y+h)
		p.close()
		return
	}
	p.move(x+rx, y)
	p.line(x+w-rx, y)
	p.arc(rx, ry, 0, false, true, x+w, y+ry)
	p.line(x+w, y+h-ry)
	p.arc(rx, ry, 0, false, true, x+w-rx, y+h)
	p.line(x+rx, y+h)
	p.arc(rx, ry, 0, false, true, x, y+h-ry)
	p.line(x, y+ry)
	p.arc(rx, ry, 0, false, true, x+rx, y)
	p.close()
}

func (p *pen) ellipse(x, y, rx, ry float64) {
	if rx <= 0 || ry <= 0 {
		return
	}
	p.move(x+rx, y)
	p.arc(rx, ry, 0, false, true, x, y+ry)
	p.arc(rx, ry, 0, false, true, x-rx, y)
	p.arc(rx, ry, 0, false, true, x, y-ry)
	p.arc(rx, ry, 0, false, true, x+rx, y)
	p.close()
}

func (o outline) box() box {
	b := nothing
	for _, s := range o {
		for _, p := range s.points {
			b.add(p[0], p[1])
		}
	}
	return b
}

func (o outline) through(m matrix) outline {
	out := make(outline, len(o))
	for i, s := range o {
		points := make([]point, len(s.points))
		for j, p := range s.points {
			points[j][0], points[j][1] = m.At(p[0], p[1])
		}
		out[i] = subpath{points: points, closed: s.closed, corners: s.corners}
	}
	return out
}
