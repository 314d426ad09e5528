package render

import (
	"math"

	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/raster"
)

// frame draws what CSS draws around an image within its slot: inner shadows, then the border.
func (p *paints) frame(on *raster.RGBA) {
	outer := p.corners()
	for i := len(p.shadows) - 1; i >= 0; i-- { // the first lies on top
		p.shade(on, p.shadows[i], outer)
	}
	if p.plan.Frame.Bordered() {
		p.border(on, outer)
	}
}

// corners are the radii of the canvas.
func (p *paints) corners() raster.Corners {
	return cornersOf(p.radius, p.plan.K, float64(p.plan.Canvas.W), float64(p.plan.Canvas.H))
}

func cornersOf(r declare.Radius, k, w, h float64) (c raster.Corners) {
	for i := range c.Across {
		c.Across[i], c.Down[i] = max(0, r.Across[i].Px*k+r.Across[i].Part*w), max(0, r.Down[i].Px*k+r.Down[i].Part*h)
	}
	return c.Fit(w, h)
}

func floats(v [4]int) [4]float64 {
	return [4]float64{float64(v[0]), float64(v[1]), float64(v[2]), float64(v[3])}
}

// rounded adds a rectangle whose corners are the canvas's, as far in as it lies.
func rounded(path *raster.Path, r geometry.Rect, canvas geometry.Size, outer raster.Corners) {
	edge := [4]float64{float64(r.Y0), float64(canvas.W - r.X1), float64(canvas.H - r.Y1), float64(r.X0)}
	path.Rect(float64(r.X0), float64(r.Y0), float64(r.X1), float64(r.Y1), outer.Within(edge))
}

// shade paints a shadow that falls inwards from the padding's edge: what lies beside a hole, blurred. A wide blur is made small and
// enlarged, for it has no detail.
func (p *paints) shade(on *raster.RGBA, s declare.InnerShadow, outer raster.Corners) {
	k, box := p.plan.K, p.plan.Padding()
	sigma, spread := s.Blur*k/2, s.Spread*k
	const widest, reduced = 32, 16
	q := 1.0 // the mask's pixels to one of the canvas
	if sigma > widest {
		q = reduced / sigma
	}
	room := int(math.Ceil(3*sigma*q)) + 2 // around the canvas, from where blurring reaches it
	at := func(v float64) float64 { return float64(room) + v*q }
	x0, y0 := at(float64(box.X0)+spread+s.X*k), at(float64(box.Y0)+spread+s.Y*k)
	x1, y1 := at(float64(box.X1)-spread+s.X*k), at(float64(box.Y1)-spread+s.Y*k)
	b := floats(p.plan.Frame.Border)
	corners := outer.Within([4]float64{b[0] + spread, b[1] + spread, b[2] + spread, b[3] + spread})
	for i := range corners.Across {
		if spread < 0 && (outer.Across[i] == 0 || outer.Down[i] == 0) { // square corners stay so
			corners.Across[i], corners.Down[i] = 0, 0
		}
		corners.Across[i], corners.Down[i] = corners.Across[i]*q, corners.Down[i]*q
	}
	var hole raster.Path
	hole.Rect(x0, y0, x1, y1, corners.Fit(x1-x0, y1-y0))
	mask := hole.Mask(int(math.Ceil(float64(on.W)*q))+2*room, int(math.Ceil(float64(on.H)*q))+2*room)
	if sigma > 0 {
		sharp := mask
		mask = raster.BlurMask(sharp, sigma*q)
		sharp.Free()
	}
	defer mask.Free()
	mask.Outside()
	shadow := mask.View(room, room, room+int(math.Ceil(float64(on.W)*q)), room+int(math.Ceil(float64(on.H)*q)))
	if q != 1 {
		large := raster.ResamplePlane(mask, raster.Axis{From: float64(room), Step: q, Len: on.W}, raster.Axis{From: float64(room), Step: q, Len: on.H}, 1, 0)
		defer large.Free()
		shadow = large
	}
	var within raster.Path
	rounded(&within, box, p.plan.Canvas, outer)
	inside := within.Mask(on.W, on.H)
	defer inside.Free()
	inside.Times(shadow)
	on.PaintMask(inside, straightOf(s.Color))
}

// border draws the four sides: each in its style and colour within the ring between the slot's edge and the padding's, joined
// along the line from corner to corner.
func (p *paints) border(on *raster.RGBA, outer raster.Corners) {
	sides, b := p.sides, p.plan.Frame.Border
	alike := true
	for i := range sides {
		alike = alike && sides[i].Style == sides[0].Style && sides[i].Color == sides[0].Color && b[i] == b[0]
	}
	for i := range sides {
		if b[i] == 0 || !sides[i].Shows() || sides[i].Color.A == 0 {
			continue
		}
		mask := p.drawn(on, sides[i].Style, i, alike, outer)
		if !alike {
			join := p.joint(i).Mask(on.W, on.H)
			mask.Times(join)
			join.Free()
		}
		on.PaintMask(mask, straightOf(sides[i].Color))
		mask.Free()
		if alike {
			return
		}
	}
}

// ring is what lies between two lines that run within the border: from and to are how far in, in parts of its width.
func (p *paints) ring(from, to [4]float64, outer raster.Corners) *raster.Path {
	w, h := float64(p.plan.Canvas.W), float64(p.plan.Canvas.H)
	path := &raster.Path{EvenOdd: true}
	for _, e := range [][4]float64{from, to} {
		path.Rect(e[3], e[0], w-e[1], h-e[2], outer.Within(e))
	}
	return path
}

// joint is where one side of the border is drawn: up to the lines from its outer corners through its inner ones.
func (p *paints) joint(side int) *raster.Path {
	w, h := float64(p.plan.Canvas.W), float64(p.plan.Canvas.H)
	b := floats(p.plan.Frame.Border)
	out := [4][2]float64{{0, 0}, {w, 0}, {w, h}, {0, h}}
	in := [4][2]float64{{b[3], b[0]}, {w - b[1], b[0]}, {w - b[1], h - b[2]}, {b[3], h - b[2]}}
	// A rounded corner's ring may reach further in than the corner of the padding: the lines go on to the middle.
	further := func(i int) [2]float64 {
		dx, dy := in[i][0]-out[i][0], in[i][1]-out[i][1]
		if dx == 0 && dy == 0 {
			return in[i]
		}
		r := math.Max(p.reach(i), 1)
		return [2]float64{out[i][0] + dx*r, out[i][1] + dy*r}
	}
	i, j := side, (side+1)%4
	path := &raster.Path{}
	path.Line(out[i], out[j], further(j), further(i))
	return path
}

// reach is how many times as far as the padding's corner the ring of a rounded corner goes in.
func (p *paints) reach(corner int) float64 {
	c, b := p.corners(), floats(p.plan.Frame.Border)
	across, down := b[3], b[0]
	if corner == 1 || corner == 2 {
		across = b[1]
	}
	if corner >= 2 {
		down = b[2]
	}
	r := 1.0
	if across > 0 {
		r = math.Max(r, c.Across[corner]/across)
	}
	if down > 0 {
		r = math.Max(r, c.Down[corner]/down)
	}
	return math.Min(r, math.Min(float64(p.plan.Canvas.W), float64(p.plan.Canvas.H))/2/math.Max(1, math.Max(across, down)))
}

// drawn is the mask of a style, of one side or, where all are alike, of all four.
func (p *paints) drawn(on *raster.RGBA, style declare.BorderStyle, side int, alike bool, outer raster.Corners) raster.Plane {
	b := p.plan.Frame.Border
	whole := floats(b)
	ring := p.ring([4]float64{}, whole, outer)
	switch style {
	case declare.Double:
		if b[side] >= 3 {
			// Two lines of a third each, in whole pixels, as browsers have them.
			var first, second [4]float64
			for i, w := range b {
				first[i], second[i] = float64((w+1)/3), float64(w-(w+1)/3)
			}
			mask := p.ring([4]float64{}, first, outer).Mask(on.W, on.H)
			in := p.ring(second, whole, outer).Mask(on.W, on.H)
			defer in.Free()
			for y := range mask.H {
				row, more := mask.Row(y), in.Row(y)
				for x := range row {
					row[x] = max(row[x], more[x])
				}
			}
			return mask
		}
	case declare.Dashed, declare.Dotted:
		mask := ring.Mask(on.W, on.H)
		strokes := p.strokes(style, side, alike, outer).Mask(on.W, on.H)
		defer strokes.Free()
		mask.Times(strokes)
		return mask
	}
	return ring.Mask(on.W, on.H)
}

// strokes are the dashes or dots along the middle of one side, or of all where they are alike.
func (p *paints) strokes(style declare.BorderStyle, side int, alike bool, outer raster.Corners) *raster.Path {
	path := &raster.Path{}
	w, h := float64(p.plan.Canvas.W), float64(p.plan.Canvas.H)
	b := floats(p.plan.Frame.Border)
	if outer != (raster.Corners{}) && alike { // once around
		half := b[0] / 2
		line := middle(w, h, half, outer.Within([4]float64{half, half, half, half}))
		dash(path, line, b[0], style, true)
		return path
	}
	for i := range b {
		if b[i] == 0 || !alike && i != side {
			continue
		}
		half := b[i] / 2
		ends := [4][2][2]float64{{{0, half}, {w, half}}, {{w - half, 0}, {w - half, h}}, {{w, h - half}, {0, h - half}}, {{half, h}, {half, 0}}}[i]
		dash(path, ends[:], b[i], style, false)
	}
	return path
}

// middle is the line that runs in a rectangle so far from its edge.
func middle(w, h, in float64, c raster.Corners) [][2]float64 {
	points := [][2]float64{{in + c.Across[0], in}} // clockwise from the top, as browsers draw it
	for i, corner := range [4]struct{ x, y, dx, dy, from float64 }{{w - in, in, -1, 1, 1.5 * math.Pi}, {w - in, h - in, -1, -1, 0}, {in, h - in, 1, -1, math.Pi / 2}, {in, in, 1, 1, math.Pi}} {
		rx, ry := c.Across[(i+1)%4], c.Down[(i+1)%4]
		n := min(256, 1+int(math.Ceil(math.Max(rx, ry)))) // within a 40th of a pixel at any size
		for j := range n + 1 {
			sin, cos := math.Sincos(corner.from + math.Pi/2*float64(j)/float64(n))
			points = append(points, [2]float64{corner.x + corner.dx*rx + rx*cos, corner.y + corner.dy*ry + ry*sin})
		}
	}
	return append(points, points[0])
}

// dash puts dashes or dots of a width on a line, the gaps between them made to fit its length.
func dash(path *raster.Path, line [][2]float64, width float64, style declare.BorderStyle, closed bool) {
	long := 0.0
	for i := 1; i < len(line); i++ {
		long += math.Hypot(line[i][0]-line[i-1][0], line[i][1]-line[i-1][1])
	}
	on, off := 2*width, width
	round := style == declare.Dotted && width > 3
	switch {
	case style == declare.Dotted:
		on, off = width, width
	case width < 3:
		on, off = 3*width, 2*width
	}
	off = gap(long, on, off, closed)
	if on+off <= 0 {
		return
	}
	for from := 0.0; from < long-1e-6; from += on + off {
		if round {
			at := from
			if !closed {
				at += on / 2
			}
			middle := along(line, at)
			path.Ellipse(middle[0], middle[1], width/2, width/2)
			continue
		}
		stroke(path, line, from, math.Min(long, from+on), width)
	}
}

// gap is the length nearest to what is wanted with which whole dashes fill a line, as browsers choose it.
func gap(long, on, off float64, closed bool) float64 {
	room := long
	if !closed {
		room += off
	}
	fewer := math.Floor(room / (on + off))
	more := fewer + 1
	gaps := func(dashes float64) float64 {
		if closed {
			return dashes
		}
		return dashes - 1
	}
	if gaps(fewer) <= 0 {
		return math.Max(off, long)
	}
	wide, narrow := (long-fewer*on)/gaps(fewer), (long-more*on)/gaps(more)
	if narrow <= 0 || math.Abs(wide-off) < math.Abs(narrow-off) {
		return wide
	}
	return narrow
}

// along is the point so far along a line.
func along(line [][2]float64, at float64) [2]float64 {
	for i := 1; i < len(line); i++ {
		a, b := line[i-1], line[i]
		d := math.Hypot(b[0]-a[0], b[1]-a[1])
		if at <= d && d > 0 {
			return [2]float64{a[0] + (b[0]-a[0])*at/d, a[1] + (b[1]-a[1])*at/d}
		}
		at -= d
	}
	return line[len(line)-1]
}

// stroke adds a part of a line, so wide.
func stroke(path *raster.Path, line [][2]float64, from, to, width float64) {
	points := [][2]float64{along(line, from)}
	at := 0.0
	for i := 1; i < len(line); i++ {
		at += math.Hypot(line[i][0]-line[i-1][0], line[i][1]-line[i-1][1])
		if at > from+1e-9 && at < to-1e-9 {
			points = append(points, line[i])
		}
	}
	points = append(points, along(line, to))
	var left, right [][2]float64
	for i := range points {
		a, b := points[max(0, i-1)], points[min(len(points)-1, i+1)]
		d := math.Hypot(b[0]-a[0], b[1]-a[1])
		if d == 0 {
			continue
		}
		nx, ny := -(b[1]-a[1])/d*width/2, (b[0]-a[0])/d*width/2
		left = append(left, [2]float64{points[i][0] + nx, points[i][1] + ny})
		right = append([][2]float64{{points[i][0] - nx, points[i][1] - ny}}, right...)
	}
	if len(left) > 1 {
		path.Line(append(left, right...)...)
	}
}

// shapePath is a basic shape on the canvas.
func (p *paints) shapePath() *raster.Path {
	s, k := p.shape, p.plan.K
	box := geometry.Rect{X1: p.plan.Canvas.W, Y1: p.plan.Canvas.H}
	switch s.Box {
	case declare.PaddingBox:
		box = p.plan.Padding()
	case declare.ContentBox:
		box = p.plan.Content()
	}
	x, y, w, h := float64(box.X0), float64(box.Y0), float64(box.W()), float64(box.H())
	of := func(l declare.Length, whole float64) float64 { return l.Px*k + l.Part*whole }
	path := &raster.Path{EvenOdd: s.EvenOdd}
	switch s.Kind {
	case declare.InsetShape:
		top, right, bottom, left := of(s.Edge[0], h), of(s.Edge[1], w), of(s.Edge[2], h), of(s.Edge[3], w)
		if sum := left + right; sum > w { // CSS Shapes, section 3.1: opposite edges meet
			left, right = left*w/sum, right*w/sum
		}
		if sum := top + bottom; sum > h {
			top, bottom = top*h/sum, bottom*h/sum
		}
		cw, ch := w-left-right, h-top-bottom
		// Percentages of the radii are of the box.
		var c raster.Corners
		for i := range c.Across {
			c.Across[i], c.Down[i] = max(0, of(s.Round.Across[i], w)), max(0, of(s.Round.Down[i], h))
		}
		path.Rect(x+left, y+top, x+w-right, y+h-bottom, c.Fit(cw, ch))
	case declare.Circle, declare.Ellipse:
		cx, cy := of(s.At[0], w), of(s.At[1], h)
		radius := func(e declare.Extent, whole float64, distances ...float64) float64 {
			r := distances[0]
			switch e.Side {
			case declare.ByLength:
				return of(e.Length, whole)
			case declare.ClosestSide:
				for _, d := range distances {
					r = math.Min(r, d)
				}
			case declare.FarthestSide:
				for _, d := range distances {
					r = math.Max(r, d)
				}
			}
			return r
		}
		l, r, t, b := math.Abs(cx), math.Abs(w-cx), math.Abs(cy), math.Abs(h-cy)
		if s.Kind == declare.Circle {
			size := radius(s.Radii[0], math.Sqrt(w*w+h*h)/math.Sqrt2, l, r, t, b)
			path.Ellipse(x+cx, y+cy, size, size)
		} else {
			path.Ellipse(x+cx, y+cy, radius(s.Radii[0], w, l, r), radius(s.Radii[1], h, t, b))
		}
	case declare.Polygon:
		points := make([][2]float64, len(s.Points))
		for i, q := range s.Points {
			points[i] = [2]float64{x + of(q[0], w), y + of(q[1], h)}
		}
		path.Line(points...)
	}
	return path
}
