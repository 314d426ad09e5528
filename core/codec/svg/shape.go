package svg

import (
	"math"
	"strings"

	"echolane/core/raster"
)

// shape is the outline of a basic shape or path in its user space, nil for anything else.
func (p *painter) shape(n *node, at place) outline {
	pen := p.pen(at.m)
	if n.style["stroke-dasharray"] != "" { // whose places depend on the length
		pen.tolerance /= 20
	}
	get := func(name string, a axis) float64 { return at.measures.or(n.attrs[name], a, 0) }
	switch n.name {
	case "path":
		d := n.attrs["d"]
		if v, ok := strings.CutPrefix(n.style["d"], "path("); ok {
			d = strings.Trim(strings.TrimSuffix(v, ")"), `"'`)
		}
		pen.path(d)
	case "rect":
		rx, okX := at.measures.length(n.attrs["rx"], across)
		ry, okY := at.measures.length(n.attrs["ry"], down)
		if !okX {
			rx = ry
		}
		if !okY {
			ry = rx
		}
		pen.rect(get("x", across), get("y", down), get("width", across), get("height", down), rx, ry)
	case "circle":
		r := get("r", either)
		pen.ellipse(get("cx", across), get("cy", down), r, r)
	case "ellipse":
		rx, okX := at.measures.length(n.attrs["rx"], across)
		ry, okY := at.measures.length(n.attrs["ry"], down)
		if !okX {
			rx = ry
		}
		if !okY {
			ry = rx
		}
		pen.ellipse(get("cx", across), get("cy", down), rx, ry)
	case "line":
		pen.move(get("x1", across), get("y1", down))
		pen.line(get("x2", across), get("y2", down))
	case "polyline", "polygon":
		v := numbers(n.attrs["points"])
		for i := 0; i+1 < len(v); i += 2 {
			if i == 0 {
				pen.move(v[0], v[1])
			} else {
				pen.line(v[i], v[i+1])
			}
		}
		if n.name == "polygon" {
			pen.close()
		}
	}
	return pen.out
}

// shaped paints an outline: fill, stroke, markers.
func (p *painter) shaped(n *node, o outline, s *style, at place) error {
	if !s.hidden {
		bounds := o.box()
		fill := func() error {
			return p.fill(o.through(at.m), s.evenOdd, s.fill, s.fillOpacity*s.opacity, bounds, s, at)
		}
		stroke := func() error { return p.stroke(o, s, bounds, at) }
		first, second := fill, stroke
		if s.strokeFirst {
			first, second = stroke, fill
		}
		if err := first(); err != nil {
			return err
		}
		if err := second(); err != nil {
			return err
		}
	}
	switch n.name {
	case "path", "line", "polyline", "polygon":
		if s.markers != [3]string{} {
			return p.markers(o, s, at)
		}
	}
	return nil
}

func (p *painter) stroke(o outline, s *style, bounds box, at place) error {
	if s.stroke.none && s.stroke.server == nil || s.brush.width <= 0 || s.strokeOpacity == 0 {
		return nil
	}
	tolerance := 0.1 / math.Max(1e-6, at.m.Scale())
	var line outline
	if s.fixed {
		line = s.brush.stroked(o.through(at.m), 0.1, &p.points)
	} else {
		line = s.brush.stroked(o, tolerance, &p.points).through(at.m)
		line.sameWay()
	}
	return p.fill(line, false, s.stroke, s.strokeOpacity*s.opacity, bounds, s, at)
}

// sameWay turns pieces that a mirroring turned back again.
func (o outline) sameWay() {
	for _, s := range o {
		area := 0.0
		for i, a := range s.points {
			b := s.points[(i+1)%len(s.points)]
			area += a[0]*b[1] - b[0]*a[1]
		}
		if area < 0 {
			for i, j := 0, len(s.points)-1; i < j; i, j = i+1, j-1 {
				s.points[i], s.points[j] = s.points[j], s.points[i]
			}
		}
	}
}

// edgeWork is what an outline's edge takes for each row that it goes through, in what a sample takes.
const edgeWork = 60

// cover is how much of each of a layer's pixels an outline covers.
func (p *painter) cover(o outline, evenOdd bool, l layer) (raster.Plane, error) {
	path := raster.Path{EvenOdd: evenOdd}
	rows := 0.0
	for _, s := range o {
		if len(s.points) < 2 {
			continue
		}
		points := make([]point, len(s.points))
		for i, q := range s.points {
			points[i] = point{bounded(q[0] - float64(l.x)), bounded(q[1] - float64(l.y))}
			if i > 0 {
				rows += 1 + math.Min(float64(l.H), math.Abs(points[i][1]-points[i-1][1]))
			}
		}
		path.Line(points...)
	}
	if err := p.spend(int(edgeWork * rows)); err != nil {
		return raster.Plane{}, err
	}
	return path.Mask(l.W, l.H), nil
}

func bounded(v float64) float64 { return math.Max(-1e7, math.Min(1e7, v)) }

// fill paints an outline on the canvas.
func (p *painter) fill(o outline, evenOdd bool, with paint, opacity float64, bounds box, s *style, at place) error {
	if with.none && with.server == nil || opacity <= 0 || len(o) == 0 {
		return nil
	}
	x0, y0, x1, y1 := clipped(o.box(), p.dst)
	if x0 >= x1 || y0 >= y1 {
		return nil
	}
	if err := p.spend((x1 - x0) * (y1 - y0)); err != nil {
		return err
	}
	part := layer{p.dst.View(x0-p.dst.x, y0-p.dst.y, x1-p.dst.x, y1-p.dst.y), x0, y0}
	var shade shader
	var err error
	if with.server != nil {
		if shade, err = p.shader(with.server, bounds, s, at); err != nil || shade == nil && with.none {
			return err
		}
	}
	mask, err := p.cover(o, evenOdd, part)
	if err != nil {
		return err
	}
	defer mask.Free()
	if shade != nil {
		part.shaded(mask, shade, opacity)
		return nil
	}
	c := with.colour
	part.PaintMask(mask, [4]uint8{c.R, c.G, c.B, uint8(float64(c.A)*opacity + 0.5)})
	return nil
}

// A shader gives the colour, premultiplied, 0–1, at the middle of a pixel of the canvas.
type shader func(x, y float64) [4]float32

// shaded paints what a shader says as far as a mask lets it.
func (l layer) shaded(mask raster.Plane, shade shader, opacity float64) {
	for y := range l.H {
		row, cover := l.Row(y), mask.Row(y)
		for x, k := range cover {
			if k == 0 {
				continue
			}
			c := shade(float64(l.x+x)+0.5, float64(l.y+y)+0.5)
			share := float32(k) * float32(opacity)
			q := row[4*x : 4*x+4 : 4*x+4]
			left := 1 - c[3]*share/255
			for i := range q {
				q[i] = uint8(math.Max(0, math.Min(255, float64(c[i]*share+float32(q[i])*left+0.5))))
			}
		}
	}
}

// image draws a picture that the drawing holds itself.
func (p *painter) image(n *node, s *style, at place) error {
	data := dataURL(n.attrs["href"])
	if data == nil || s.hidden || p.images == nil {
		return nil
	}
	pic, err := p.images(data)
	if err != nil {
		return broken("a picture within the drawing can't be read: %s", err)
	}
	defer pic.Free()
	x, y := at.measures.or(n.attrs["x"], across, 0), at.measures.or(n.attrs["y"], down, 0)
	w, h := at.measures.or(n.attrs["width"], across, 0), at.measures.or(n.attrs["height"], down, 0)
	switch pw, ph := float64(pic.W), float64(pic.H); {
	case w <= 0 && h <= 0:
		w, h = pw, ph
	case w <= 0:
		w = h * pw / ph
	case h <= 0:
		h = w * ph / pw
	}
	m := at.m.After(moved(x, y)).After(fitted(box{0, 0, float64(pic.W), float64(pic.H)}, w, h, n.attrs["preserveAspectRatio"]))
	return p.within(box{x, y, x + w, y + h}, at.m, func() error {
		back, ok := m.Inverse()
		x0, y0, x1, y1 := clipped(box{0, 0, float64(pic.W), float64(pic.H)}.through(m), p.dst)
		if !ok || x0 >= x1 || y0 >= y1 {
			return nil
		}
		if err := p.spend(4 * (x1 - x0) * (y1 - y0)); err != nil {
			return err
		}
		src := pic
		if k := math.Min(1/math.Hypot(back[0], back[1]), 1/math.Hypot(back[2], back[3])); k < 0.75 { // reduced first, so that nothing is left out
			w, h := max(1, int(math.Ceil(float64(pic.W)*k))), max(1, int(math.Ceil(float64(pic.H)*k)))
			src = raster.ResampleRGBA(pic, raster.Axis{Step: float64(pic.W) / float64(w), Len: w}, raster.Axis{Step: float64(pic.H) / float64(h), Len: h})
			defer src.Free()
			back = scaled(float64(w)/float64(pic.W), float64(h)/float64(pic.H)).After(back)
		}
		part := layer{p.dst.View(x0-p.dst.x, y0-p.dst.y, x1-p.dst.x, y1-p.dst.y), x0, y0}
		pen := p.pen(m)
		pen.rect(0, 0, float64(pic.W), float64(pic.H), 0, 0)
		mask, err := p.cover(pen.out.through(m), false, part)
		if err != nil {
			return err
		}
		defer mask.Free()
		part.shaded(mask, sampled(src, back, false, n.style["image-rendering"] == "pixelated"), s.opacity)
		return nil
	})
}
