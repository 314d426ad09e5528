package svg

import "math"

// A brush is how lines are drawn.
type brush struct {
	width, miter float64
	cap, join    string
	dashes       []float64
	offset       float64
}

// mostDashes is into how many pieces one path goes at most.
const mostDashes = 50_000

// stroked is what a brush covers of an outline, as pieces that all go round the same way: inside is what any of them covers.
func (b *brush) stroked(o outline, tolerance float64, count *int) outline {
	if len(b.dashes) > 0 {
		o = b.dashed(o)
	}
	s := stroker{brush: b, r: b.width / 2, tolerance: tolerance, count: count}
	for _, line := range o {
		if *count > mostPoints {
			break
		}
		s.line(line)
	}
	return s.out
}

type stroker struct {
	*brush
	r, tolerance float64
	out          outline
	count        *int
}

// piece adds a convex piece, turned so that it goes round clockwise.
func (s *stroker) piece(points ...point) {
	area := 0.0
	for i, p := range points {
		q := points[(i+1)%len(points)]
		area += p[0]*q[1] - q[0]*p[1]
	}
	if area < 0 {
		for i, j := 0, len(points)-1; i < j; i, j = i+1, j-1 {
			points[i], points[j] = points[j], points[i]
		}
	}
	*s.count += len(points)
	s.out = append(s.out, subpath{points: points, closed: true})
}

func (s *stroker) line(sub subpath) {
	points := sub.points[:0:0]
	for _, p := range sub.points { // without steps of no length
		if n := len(points); n == 0 || math.Hypot(p[0]-points[n-1][0], p[1]-points[n-1][1]) > 1e-9 {
			points = append(points, p)
		}
	}
	n := len(points)
	if sub.closed && n > 1 && math.Hypot(points[0][0]-points[n-1][0], points[0][1]-points[n-1][1]) <= 1e-9 {
		n--
		points = points[:n]
	}
	if n == 1 { // a dot, where its caps show it
		p := points[0]
		switch s.cap {
		case "round":
			s.disc(p)
		case "square":
			s.piece(point{p[0] - s.r, p[1] - s.r}, point{p[0] + s.r, p[1] - s.r}, point{p[0] + s.r, p[1] + s.r}, point{p[0] - s.r, p[1] + s.r})
		}
		return
	}
	segments := n - 1
	if sub.closed {
		segments = n
	}
	direction := func(i int) point {
		a, b := points[i%n], points[(i+1)%n]
		l := math.Hypot(b[0]-a[0], b[1]-a[1])
		return point{(b[0] - a[0]) / l, (b[1] - a[1]) / l}
	}
	for i := range segments {
		a, b, d := points[i], points[(i+1)%n], direction(i)
		nx, ny := -d[1]*s.r, d[0]*s.r
		s.piece(point{a[0] + nx, a[1] + ny}, point{b[0] + nx, b[1] + ny}, point{b[0] - nx, b[1] - ny}, point{a[0] - nx, a[1] - ny})
		if i+1 < segments || sub.closed {
			s.corner(b, d, direction(i+1))
		}
	}
	if !sub.closed {
		s.end(points[0], direction(0), -1)
		s.end(points[n-1], direction(n-2), 1)
	}
}

func (s *stroker) end(p, d point, way float64) {
	switch s.cap {
	case "round":
		s.disc(p)
	case "square":
		nx, ny := -d[1]*s.r, d[0]*s.r
		ex, ey := d[0]*s.r*way, d[1]*s.r*way
		s.piece(point{p[0] + nx, p[1] + ny}, point{p[0] + nx + ex, p[1] + ny + ey}, point{p[0] - nx + ex, p[1] - ny + ey}, point{p[0] - nx, p[1] - ny})
	}
}

// corner fills the wedge where a line turns from one direction to another.
func (s *stroker) corner(p, d, e point) {
	cross, dot := d[0]*e[1]-d[1]*e[0], d[0]*e[0]+d[1]*e[1]
	if math.Abs(cross) < 1e-6 && dot > 0 {
		return
	}
	if s.join == "round" {
		if angle := math.Atan2(math.Abs(cross), dot); angle*angle*s.r/8 < s.tolerance/4 { // a curve's own step
			s.bevel(p, d, e, cross)
			return
		}
		s.disc(p)
		return
	}
	if s.join == "bevel" || dot <= -1+1e-9 {
		s.bevel(p, d, e, cross)
		return
	}
	// The miter is 1/sin(θ/2) times the width long, θ between the lines.
	half := math.Sqrt((1 + dot) / 2) // cosine of half the turn
	if 1/half > s.miter {
		s.bevel(p, d, e, cross)
		return
	}
	side := -s.r
	if cross < 0 {
		side = s.r
	}
	a, b := point{p[0] - d[1]*side, p[1] + d[0]*side}, point{p[0] - e[1]*side, p[1] + e[0]*side}
	mx, my := -(d[1]+e[1])/2, (d[0]+e[0])/2
	l := math.Hypot(mx, my)
	tip := point{p[0] + mx/l*side/half, p[1] + my/l*side/half}
	s.piece(p, a, tip, b)
}

func (s *stroker) bevel(p, d, e point, cross float64) {
	side := -s.r
	if cross < 0 {
		side = s.r
	}
	s.piece(p, point{p[0] - d[1]*side, p[1] + d[0]*side}, point{p[0] - e[1]*side, p[1] + e[0]*side})
}

func (s *stroker) disc(p point) {
	n := int(math.Min(200, math.Max(8, math.Ceil(math.Pi*math.Sqrt(s.r/(2*s.tolerance))))))
	points := make([]point, n)
	for i := range points {
		sin, cos := math.Sincos(2 * math.Pi * float64(i) / float64(n))
		points[i] = point{p[0] + s.r*cos, p[1] + s.r*sin}
	}
	s.piece(points...)
}

// dashed cuts lines into dashes.
func (b *brush) dashed(o outline) outline {
	pattern, sum := b.dashes, 0.0
	if len(pattern)%2 == 1 {
		pattern = append(append([]float64{}, pattern...), pattern...)
	}
	for _, d := range pattern {
		if d < 0 {
			return o
		}
		sum += d
	}
	length := 0.0
	for _, s := range o {
		for i, p := range s.points[1:] {
			length += math.Hypot(p[0]-s.points[i][0], p[1]-s.points[i][1])
		}
	}
	if !(sum > 1e-6) || length/sum*float64(len(pattern)) > mostDashes {
		return o
	}
	var out outline
	for _, s := range o {
		points := s.points
		if s.closed {
			points = append(append([]point{}, points...), points[0])
		}
		at := math.Mod(b.offset, sum)
		if at < 0 {
			at += sum
		}
		k := 0
		for at > 0 && at >= pattern[k] {
			at -= pattern[k]
			k = (k + 1) % len(pattern)
		}
		left := pattern[k] - at
		var dash []point
		if k%2 == 0 {
			dash = []point{points[0]}
		}
		firstWhole := k%2 == 0
		first := -1
		for i, p := range points[1:] {
			from := points[i]
			l := math.Hypot(p[0]-from[0], p[1]-from[1])
			for done := 0.0; ; {
				if l-done < left {
					left -= l - done
					if k%2 == 0 {
						dash = append(dash, p)
					}
					break
				}
				done += left
				q := p
				if l > 0 {
					q = point{from[0] + (p[0]-from[0])*done/l, from[1] + (p[1]-from[1])*done/l}
				}
				if k%2 == 0 {
					if dash = append(dash, q); first < 0 {
						first = len(out)
					}
					out = append(out, subpath{points: dash})
					dash = nil
				} else {
					dash = []point{q}
				}
				k = (k + 1) % len(pattern)
				left = pattern[k]
			}
		}
		if len(dash) > 1 {
			// On a closed line the last dash goes on as the first.
			if s.closed && firstWhole && first >= 0 {
				out[first].points = append(dash, out[first].points[1:]...)
			} else {
				out = append(out, subpath{points: dash, closed: s.closed && first < 0})
			}
		}
	}
	return out
}
