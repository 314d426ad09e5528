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
		o := g.outline(l.style.Size)
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
	for i := range l.Lines {
		line := &l.Lines[i]
		for _, s := range l.under(line) {
			do(l.boxOf(line, x, y, 0, line.Width, s.over, s.over+l.thick()))
		}
	}
	if l.style.LineThrough {
		l.through(x, y, do)
	}
}

func (l *Layout) thick() float64 { return math.Max(1, math.Floor(l.style.Size/10)) }

// A strip goes along a line of text.
type strip struct {
	over  float64 // from the baseline to its upper edge
	skips bool    // it leaves out what of the letters crosses it
}

// under are the underline and the overline of a line.
func (l *Layout) under(line *Line) (list []strip) {
	if line.Width <= 0 {
		return nil
	}
	t := l.thick()
	ascent, descent := line.extents(l.style.Size)
	if l.style.Underline {
		over := math.Max(1, math.Ceil(l.style.Size/20))
		if l.style.central() { // one pixel under the em's box
			over = (l.style.Size-ascent+descent)/2 + 1
		}
		list = append(list, strip{over, true})
	}
	if l.style.Overline && line.primary != nil {
		list = append(list, strip{-ascent - t, false})
	}
	return list
}

func (l *Layout) through(x, y float64, do func(x0, y0, x1, y1 float64)) {
	t := l.thick()
	for i := range l.Lines {
		line := &l.Lines[i]
		if line.Width <= 0 || line.primary == nil {
			continue
		}
		ascent := math.Round(line.primary.ascent * l.style.Size)
		over := math.Round(2*ascent/3-l.style.Size/20) - ascent
		if l.style.central() {
			over += 0.01 // what is between two pixels goes to the left
		}
		do(l.boxOf(line, x, y, 0, line.Width, over, over+t))
	}
}

// A stretch is a part of a line, from one place along it to another.
type stretch struct{ from, to float64 }

// crossed are the parts of a line where letters cross a strip, with the strip's width around them (CSS Text Decoration Level 4,
// section 2.10.1). Letters that stand upright in vertical writing don't count.
func (l *Layout) crossed(line *Line, over, under float64) (list []stretch) {
	for _, g := range line.glyphs {
		if l.style.Writing != Horizontal && !g.lies {
			continue
		}
		lo, hi := math.Inf(1), math.Inf(-1)
		add := func(x float64) { lo, hi = math.Min(lo, x+g.x), math.Max(hi, x+g.x) }
		for _, outline := range flat(outline(g.face, g.id, l.style.Size)) {
			for i, a := range outline {
				b := outline[(i+1)%len(outline)]
				ay, by := a[1]+g.y, b[1]+g.y
				if math.Max(ay, by) < over || math.Min(ay, by) > under {
					continue
				}
				for _, at := range []float64{over, under} {
					if (ay < at) != (by < at) {
						add(a[0] + (b[0]-a[0])*(at-ay)/(by-ay))
					}
				}
				for _, q := range [][2]float64{{a[0], ay}, {b[0], by}} {
					if q[1] >= over && q[1] <= under {
						add(q[0])
					}
				}
			}
		}
		if lo <= hi {
			list = append(list, stretch{lo - (under - over), hi + under - over})
		}
	}
	return list
}

// paintUnder draws what goes behind the letters.
func (l *Layout) paintUnder(to *raster.RGBA, x, y float64) {
	for i := range l.Lines {
		line := &l.Lines[i]
		for _, s := range l.under(line) {
			var gaps []stretch
			if s.skips {
				gaps = l.crossed(line, s.over, s.over+l.thick())
			}
			for at := 0.0; at < line.Width; {
				end, inside := line.Width, false
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
				x0, y0, x1, y1 := l.boxOf(line, x, y, at, end, s.over, s.over+l.thick())
				fillRect(to, x0, y0, x1, y1, l.style.LineColor)
				at = end
			}
		}
	}
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
		o := placed{face: g.face, id: t.id, lies: g.lies}.outline(p.size)
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
