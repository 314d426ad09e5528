package text

import (
	"image"
	"math"

	"echolane/core/raster"
)

// boldBy is by how much letters grow that are made bold for want of a bold face, in pixels.
func boldBy(size float64) float64 {
	// From 1/24 of the size for small letters to 1/32 for large ones.
	const small, large = 9.0, 36.0
	t := math.Min(1, math.Max(0, (size-small)/(large-small)))
	return size * (1.0/24 + t*(1.0/32-1.0/24))
}

// flat is an outline whose curves are lines, each closed.
func flat(o []Segment) (list [][][2]float64) {
	var now [][2]float64
	end := func() {
		if n := len(now); n > 1 && now[0] == now[n-1] {
			now = now[:n-1]
		}
		if len(now) > 2 {
			list = append(list, now)
		}
		now = nil
	}
	for _, s := range o {
		if s.Op == 'M' {
			end()
			now = append(now, s.Points[0])
			continue
		}
		if len(now) == 0 {
			continue
		}
		from := now[len(now)-1]
		switch s.Op {
		case 'L':
			now = append(now, s.Points[0])
		case 'Q', 'C':
			b, c, d := s.Points[0], s.Points[1], s.Points[2]
			if s.Op == 'Q' { // raised to a cubic
				d = c
				c = [2]float64{d[0] + (b[0]-d[0])*2/3, d[1] + (b[1]-d[1])*2/3}
				b = [2]float64{from[0] + (b[0]-from[0])*2/3, from[1] + (b[1]-from[1])*2/3}
			}
			bend := math.Hypot(from[0]-2*b[0]+c[0], from[1]-2*b[1]+c[1]) + math.Hypot(b[0]-2*c[0]+d[0], b[1]-2*c[1]+d[1])
			n := min(64, max(2, int(math.Ceil(math.Sqrt(bend*4)))))
			for i := 1; i <= n; i++ {
				t := float64(i) / float64(n)
				u := 1 - t
				w0, w1, w2, w3 := u*u*u, 3*u*u*t, 3*u*t*t, t*t*t
				now = append(now, [2]float64{w0*from[0] + w1*b[0] + w2*c[0] + w3*d[0], w0*from[1] + w1*b[1] + w2*c[1] + w3*d[1]})
			}
		}
	}
	end()
	return list
}

// embolden moves an outline's points outwards by half of by, so that stems grow by all of it.
func embolden(o []Segment, by float64) []Segment {
	var out []Segment
	for _, line := range flat(o) {
		for i, p := range line {
			s := Segment{Op: 'L', Points: [3][2]float64{p}}
			if i == 0 {
				s.Op = 'M'
			}
			out = append(out, s)
		}
	}
	// What a line of that width along the edges covers is added.
	for _, piece := range stroked(o, by) {
		for i, p := range piece {
			s := Segment{Op: 'L', Points: [3][2]float64{p}}
			if i == 0 {
				s.Op = 'M'
			}
			out = append(out, s)
		}
	}
	return out
}

const miterLimit = 4

// stroked is what a line along an outline covers, as pieces that go round the same way as letters of TrueType fonts do.
func stroked(o []Segment, width float64) (pieces [][][2]float64) {
	r := width / 2
	piece := func(points ...[2]float64) {
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
		pieces = append(pieces, points)
	}
	for _, line := range flat(o) {
		var points [][2]float64
		for _, p := range line {
			if n := len(points); n == 0 || math.Hypot(p[0]-points[n-1][0], p[1]-points[n-1][1]) > 1e-6 {
				points = append(points, p)
			}
		}
		n := len(points)
		if n < 2 {
			continue
		}
		way := func(i int) (x, y float64) {
			a, b := points[i%n], points[(i+1)%n]
			l := math.Max(1e-9, math.Hypot(b[0]-a[0], b[1]-a[1]))
			return (b[0] - a[0]) / l, (b[1] - a[1]) / l
		}
		for i := range n {
			a, b := points[i], points[(i+1)%n]
			dx, dy := way(i)
			ex, ey := way(i + 1)
			nx, ny := -dy*r, dx*r
			piece([2]float64{a[0] + nx, a[1] + ny}, [2]float64{b[0] + nx, b[1] + ny}, [2]float64{b[0] - nx, b[1] - ny}, [2]float64{a[0] - nx, a[1] - ny})
			cross, dot := dx*ey-dy*ex, dx*ex+dy*ey
			if math.Abs(cross) < 1e-6 && dot > 0 {
				continue
			}
			side := -r
			if cross < 0 {
				side = r
			}
			p, q := [2]float64{b[0] - dy*side, b[1] + dx*side}, [2]float64{b[0] - ey*side, b[1] + ex*side}
			half := math.Sqrt(math.Max(0, 1+dot) / 2)
			if dot <= -1+1e-9 || 1/half > miterLimit {
				piece(b, p, q)
				continue
			}
			mx, my := -(dy+ey)/2, (dx+ex)/2
			l := math.Hypot(mx, my)
			piece(b, p, [2]float64{b[0] + mx/l*side/half, b[1] + my/l*side/half}, q)
		}
	}
	return pieces
}

// strokes is what the lines along the letters' edges cover.
func (l *Layout) strokes(w, h int, x, y float64) raster.Plane {
	var path raster.Path
	l.each(x, y, func(g placed, gx, gy float64) {
		o := outline(g.face, g.id, l.style.Size)
		if o == nil {
			return
		}
		for _, piece := range stroked(o, l.style.Stroke) {
			for i := range piece {
				piece[i][0] += gx
				piece[i][1] += gy
			}
			path.Line(piece...)
		}
	})
	return path.Mask(w, h)
}

// lines gives the boxes of what is drawn along the text, without what is left out for letters.
func (l *Layout) lines(x, y float64, do func(x0, y0, x1, y1 float64)) {
	l.underAt(x, y, do)
	if l.style.LineThrough {
		l.through(x, y, do)
	}
}

func (l *Layout) thick() float64 { return math.Max(1, math.Round(l.style.Size/10)) }

// underAt gives the boxes of underlines and overlines.
func (l *Layout) underAt(x, y float64, do func(x0, y0, x1, y1 float64)) {
	t := l.thick()
	for i := range l.Lines {
		line := &l.Lines[i]
		if line.Width <= 0 {
			continue
		}
		base := math.Round(y + line.Baseline)
		if l.style.Underline {
			top := base + math.Max(1, math.Ceil(t/2))
			do(x+line.X, top, x+line.X+line.Width, top+t)
		}
		if l.style.Overline && line.primary != nil {
			top := base - math.Round(line.primary.ascent*l.style.Size) - t
			do(x+line.X, top, x+line.X+line.Width, top+t)
		}
	}
}

func (l *Layout) through(x, y float64, do func(x0, y0, x1, y1 float64)) {
	t := l.thick()
	for i := range l.Lines {
		line := &l.Lines[i]
		if line.Width <= 0 || line.primary == nil {
			continue
		}
		ascent := math.Round(line.primary.ascent * l.style.Size)
		middle := math.Round(y+line.Baseline) - ascent + 2*ascent/3
		do(x+line.X, middle-t/2, x+line.X+line.Width, middle+t/2)
	}
}

// under draws what goes behind the letters. An underline leaves out what hangs through it (CSS Text Decoration Level 4, section 2.10.1).
func (l *Layout) under(to *raster.RGBA, x, y float64, p *pen) {
	if !l.style.Underline && !l.style.Overline {
		return
	}
	l.underAt(x, y, func(x0, y0, x1, y1 float64) {
		type gap struct{ from, to float64 }
		var gaps []gap
		if l.style.Underline {
			l.each(x, y, func(g placed, gx, gy float64) {
				if gy >= y0 || gy < y0-3*l.style.Size { // another line's
					return
				}
				o := outline(g.face, g.id, l.style.Size)
				lo, hi := math.Inf(1), math.Inf(-1)
				for _, line := range flat(o) {
					for i, a := range line {
						b := line[(i+1)%len(line)]
						ay, by := a[1]+gy, b[1]+gy
						if math.Max(ay, by) < y0 || math.Min(ay, by) > y1 {
							continue
						}
						for _, at := range []float64{y0, y1} {
							if (ay < at) != (by < at) {
								cx := a[0] + (b[0]-a[0])*(at-ay)/(by-ay)
								lo, hi = math.Min(lo, cx+gx), math.Max(hi, cx+gx)
							}
						}
						for _, q := range [][2]float64{{a[0] + gx, ay}, {b[0] + gx, by}} {
							if q[1] >= y0 && q[1] <= y1 {
								lo, hi = math.Min(lo, q[0]), math.Max(hi, q[0])
							}
						}
					}
				}
				if lo <= hi {
					d := y1 - y0
					gaps = append(gaps, gap{lo - d, hi + d})
				}
			})
		}
		at := x0
		for at < x1 {
			end := x1
			inside := false
			for _, g := range gaps {
				if g.from <= at && g.to > at {
					at, inside = g.to, true
					break
				}
				if g.from > at {
					end = math.Min(end, g.from)
				}
			}
			if inside {
				continue
			}
			fillRect(to, at, y0, end, y1, l.style.LineColor)
			at = end
		}
	})
}

func fillRect(to *raster.RGBA, x0, y0, x1, y1 float64, colour [4]uint8) {
	var path raster.Path
	path.Rect(x0, y0, x1, y1, raster.Corners{})
	mask := path.Mask(to.W, to.H)
	to.PaintMask(mask, colour)
	mask.Free()
}

func coverRect(cover raster.Plane, x0, y0, x1, y1 float64) {
	var path raster.Path
	path.Rect(x0, y0, x1, y1, raster.Corners{})
	mask := path.Mask(cover.W, cover.H)
	for y := range cover.H {
		row, add := cover.Row(y), mask.Row(y)
		for x, a := range add {
			row[x] = max(row[x], a)
		}
	}
	mask.Free()
}

// layered draws a glyph of coloured layers.
func (p *pen) layered(g placed, layers []tint, dx, dy float64) *stamp {
	var all image.Rectangle
	type part struct {
		stamp *stamp
		tint
	}
	var parts []part
	for _, t := range layers {
		o := outline(g.face, t.id, p.size)
		if o == nil {
			continue
		}
		if s := p.fill(o, dx, dy); s != nil {
			all = all.Union(image.Rect(s.x, s.y, s.x+s.w, s.y+s.h))
			parts = append(parts, part{s, t})
		}
	}
	if all.Empty() || all.Dx() > mostStamp || all.Dy() > mostStamp {
		return nil
	}
	out := raster.NewRGBA(all.Dx(), all.Dy())
	for _, one := range parts {
		c := one.colour
		if one.own {
			c = p.colour
		}
		one.stamp.onto(out, -all.Min.X, -all.Min.Y, c)
	}
	return &stamp{picture: out, x: all.Min.X, y: all.Min.Y, w: all.Dx(), h: all.Dy()}
}
