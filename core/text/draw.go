package text

import (
	"bytes"
	"image"
	"image/draw"
	"image/png"
	"math"

	"golang.org/x/image/vector"

	"echolane/core/raster"
)

// A stamp is a glyph as it is drawn: how much of each pixel it covers, or a picture.
type stamp struct {
	cover   []uint8
	picture *raster.RGBA // premultiplied
	x, y    int          // of its top left corner, from the pixel of its origin
	w, h    int
}

type stampKey struct {
	face *face
	id   uint32
	part uint8 // of a pixel, in quarters
	lies bool
}

// pen draws the glyphs of one layout.
type pen struct {
	size   float64
	colour [4]uint8
	stamps map[stampKey]*stamp
	z      vector.Rasterizer
}

// Glyphs larger than so many pixels stand where they stand; smaller ones at quarters of a pixel, as browsers have them.
const largest = 256

// Ink is the box that a layout's letters cover, in whole pixels of a box whose corner is at x, y; empty where there are none.
func (l *Layout) Ink(x, y float64) image.Rectangle {
	p := pen{size: l.style.Size, stamps: map[stampKey]*stamp{}}
	var all image.Rectangle
	l.each(x, y, func(g placed, gx, gy float64) {
		s, px, py := p.stamp(g, gx, gy)
		if s != nil && s.w > 0 {
			all = all.Union(image.Rect(px+s.x, py+s.y, px+s.x+s.w, py+s.y+s.h))
		}
	})
	return all
}

// each gives every glyph and where it stands.
func (l *Layout) each(x, y float64, do func(g placed, gx, gy float64)) {
	for i := range l.Lines {
		line := &l.Lines[i]
		base := math.Round(l.base(line, x, y))
		if l.style.Writing != Horizontal {
			exact := l.base(line, x, y)
			base = math.Ceil(exact - 0.5) // as if it were turned
			for _, g := range line.glyphs {
				if g.lies {
					do(g, base-g.y, math.Round(y+line.X)+g.x)
				} else {
					do(g, exact-g.y, math.Round(y+line.X)+g.x)
				}
			}
			continue
		}
		for _, g := range line.glyphs {
			do(g, x+line.X+g.x, base+g.y)
		}
	}
}

// Paint draws the layout onto a picture, the top left corner of its box at x, y.
func (l *Layout) Paint(to *raster.RGBA, x, y float64) {
	s := &l.style
	p := pen{size: s.Size, colour: s.Color, stamps: map[stampKey]*stamp{}}
	var cover raster.Plane
	if len(s.Shadows) > 0 {
		cover = raster.NewPlane(to.W, to.H)
		l.each(x, y, func(g placed, gx, gy float64) {
			if st, px, py := p.stamp(g, gx, gy); st != nil {
				st.coverOnto(cover, px, py)
			}
		})
		l.lines(x, y, func(x0, y0, x1, y1 float64) { coverRect(cover, x0, y0, x1, y1) })
		for i := len(s.Shadows) - 1; i >= 0; i-- {
			paintShadow(to, cover, s.Shadows[i])
		}
	}
	l.paintUnder(to, x, y)
	l.each(x, y, func(g placed, gx, gy float64) {
		if st, px, py := p.stamp(g, gx, gy); st != nil {
			st.onto(to, px, py, s.Color)
		}
	})
	if s.Stroke > 0 {
		mask := l.strokes(to.W, to.H, x, y)
		to.PaintMask(mask, s.StrokeColor)
		mask.Free()
	}
	if s.LineThrough {
		l.through(x, y, func(x0, y0, x1, y1 float64) { fillRect(to, x0, y0, x1, y1, s.LineColor) })
	}
	to.Opaque = false
}

func paintShadow(to *raster.RGBA, cover raster.Plane, s Shadow) {
	moved := raster.NewPlane(cover.W, cover.H)
	dx, dy := int(math.Round(s.X)), int(math.Round(s.Y))
	for y := range cover.H {
		from := y - dy
		if from < 0 || from >= cover.H {
			continue
		}
		row, src := moved.Row(y), cover.Row(from)
		for x := max(0, dx); x < min(cover.W, cover.W+dx); x++ {
			row[x] = src[x-dx]
		}
	}
	if s.Sigma > 0 {
		moved = raster.BlurMask(moved, s.Sigma)
	}
	to.PaintMask(moved, s.Color)
}

// stamp is a glyph as it is drawn with its origin at gx, gy, and the pixel that it is drawn from.
func (p *pen) stamp(g placed, gx, gy float64) (s *stamp, px, py int) {
	along, across := gx, gy // the line on which it stands
	if g.lies {
		along, across = gy, gx
	}
	whole, across0 := math.Floor(along), math.Floor(across+0.5)
	part := uint8(math.Floor((along-whole)*4 + 0.5))
	if part == 4 {
		whole, part = whole+1, 0
	}
	px, py = int(whole), int(across0)
	dx, dy := float64(part)/4, 0.0
	if g.lies {
		px, py, dx, dy = py, px, dy, dx
	}
	if p.size > largest {
		return p.draw(g, gx-float64(px), gy-float64(py)), px, py
	}
	key := stampKey{g.face, g.id, part, g.lies}
	s, ok := p.stamps[key]
	if !ok {
		s = p.draw(g, dx, dy)
		p.stamps[key] = s
	}
	return s, px, py
}

// mostStamp is how wide or high a glyph may be, in pixels.
const mostStamp = 8192

func (p *pen) draw(g placed, dx, dy float64) *stamp {
	if s, ok := p.picture(g); ok {
		if s != nil && g.lies {
			return s.lie()
		}
		return s
	}
	if s, ok := p.painted(g, dx, dy); ok {
		return s
	}
	if layers := g.face.tints(g.id); layers != nil {
		return p.layered(g, layers, dx, dy)
	}
	o := g.outline(p.size)
	if o == nil {
		return nil
	}
	return p.fill(o, dx, dy)
}

func (p *pen) fill(o []Segment, dx, dy float64) *stamp {
	x0, y0, x1, y1 := reach(o)
	left, top := math.Floor(x0+dx), math.Floor(y0+dy)
	w, h := int(math.Ceil(x1+dx)-left), int(math.Ceil(y1+dy)-top)
	if w <= 0 || h <= 0 || w > mostStamp || h > mostStamp {
		return nil
	}
	p.z.Reset(w, h)
	p.z.DrawOp = draw.Src
	trace(&p.z, o, dx-left, dy-top)
	img := image.NewAlpha(image.Rect(0, 0, w, h))
	p.z.Draw(img, img.Rect, image.Opaque, image.Point{})
	return &stamp{cover: img.Pix, x: int(left), y: int(top), w: w, h: h}
}

// outline is the glyph's as it stands or lies.
func (g placed) outline(size float64) []Segment {
	o := outline(g.face, g.id, size)
	if g.lies {
		return lain(o)
	}
	return o
}

// outline is a glyph's, in pixels from its origin, y downwards, with what is made up for a face that lacks a style.
func outline(f *face, id uint32, size float64) []Segment {
	list := f.font.outline(id, size/f.upem)
	if len(list) == 0 {
		return nil
	}
	if f.slant {
		for i := range list {
			for j := range list[i].Points {
				list[i].Points[j][0] -= list[i].Points[j][1] * slantBy
			}
		}
	}
	if f.bold {
		list = embolden(list, boldBy(size))
	}
	return list
}

// slantBy is how far letters lean that are slanted for want of an italic face, as browsers have it.
const slantBy = 0.25

func points(op byte) int {
	switch op {
	case 'Q':
		return 2
	case 'C':
		return 3
	}
	return 1
}

// reach is the box around an outline's points.
func reach(o []Segment) (x0, y0, x1, y1 float64) {
	x0, y0, x1, y1 = math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, s := range o {
		for _, q := range s.Points[:points(s.Op)] {
			x0, y0 = math.Min(x0, q[0]), math.Min(y0, q[1])
			x1, y1 = math.Max(x1, q[0]), math.Max(y1, q[1])
		}
	}
	return x0, y0, x1, y1
}

func trace(z *vector.Rasterizer, o []Segment, dx, dy float64) {
	at := func(q [2]float64) (float32, float32) { return float32(q[0] + dx), float32(q[1] + dy) }
	open := false
	for _, s := range o {
		ax, ay := at(s.Points[0])
		bx, by := at(s.Points[1])
		cx, cy := at(s.Points[2])
		switch s.Op {
		case 'M':
			if open {
				z.ClosePath()
			}
			z.MoveTo(ax, ay)
			open = true
		case 'L':
			z.LineTo(ax, ay)
		case 'Q':
			z.QuadTo(ax, ay, bx, by)
		case 'C':
			z.CubeTo(ax, ay, bx, by, cx, cy)
		}
	}
	if open {
		z.ClosePath()
	}
}

// picture is a glyph that is a picture in its font, scaled to the size.
func (p *pen) picture(g placed) (*stamp, bool) {
	data, x0, y0, x1, y1, ok := g.face.picture(g.id)
	if !ok {
		return nil, false
	}
	config, err := png.DecodeConfig(bytes.NewReader(data))
	if err != nil || config.Width > 1024 || config.Height > 1024 || config.Width < 1 || config.Height < 1 {
		return nil, false
	}
	img, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return nil, false
	}
	src := raster.NewRGBA(config.Width, config.Height)
	rgba := image.NewRGBA(image.Rect(0, 0, config.Width, config.Height))
	draw.Draw(rgba, rgba.Rect, img, img.Bounds().Min, draw.Src)
	for y := range config.Height {
		copy(src.Row(y), rgba.Pix[y*rgba.Stride:])
	}
	k := p.size / g.face.upem
	x0, y0, x1, y1 = x0*k, y0*k, x1*k, y1*k
	left, top := math.Floor(x0), math.Floor(y0)
	w, h := int(math.Ceil(x1)-left), int(math.Ceil(y1)-top)
	if w <= 0 || h <= 0 || w > mostStamp || h > mostStamp {
		return nil, true
	}
	sx, sy := float64(config.Width)/(x1-x0), float64(config.Height)/(y1-y0)
	scaled := raster.ResampleRGBA(src, raster.Axis{From: (left - x0) * sx, Step: sx, Len: w}, raster.Axis{From: (top - y0) * sy, Step: sy, Len: h})
	return &stamp{picture: scaled, x: int(left), y: int(top), w: w, h: h}, true
}

// onto draws a stamp in a colour, straight, from a pixel on.
func (s *stamp) onto(to *raster.RGBA, px, py int, colour [4]uint8) {
	if s.picture != nil {
		if colour[3] < 255 {
			faded := s.picture.Copy()
			faded.Fade(float64(colour[3]) / 255)
			to.Over(faded, px+s.x, py+s.y)
			return
		}
		to.Over(s.picture, px+s.x, py+s.y)
		return
	}
	x0, x1 := max(0, px+s.x), min(to.W, px+s.x+s.w)
	table := contrasts(colour)
	for y := max(0, py+s.y); y < min(to.H, py+s.y+s.h); y++ {
		if x1 <= x0 {
			return
		}
		row := to.Row(y)
		cover := s.cover[(y-py-s.y)*s.w:]
		for x := x0; x < x1; x++ {
			a := uint32(table[cover[x-px-s.x]])
			if a == 0 {
				continue
			}
			a = (a*uint32(colour[3]) + 127) / 255
			q := row[4*x : 4*x+4]
			for c := range 3 {
				q[c] = uint8((uint32(colour[c])*a + uint32(q[c])*(255-a) + 127) / 255)
			}
			q[3] = uint8(a + (uint32(q[3])*(255-a)+127)/255)
		}
	}
}

// coverOnto adds what a stamp covers.
func (s *stamp) coverOnto(to raster.Plane, px, py int) {
	for y := max(0, py+s.y); y < min(to.H, py+s.y+s.h); y++ {
		row := to.Row(y)
		for x := max(0, px+s.x); x < min(to.W, px+s.x+s.w); x++ {
			var a uint32
			if i := (y-py-s.y)*s.w + x - px - s.x; s.picture != nil {
				a = uint32(s.picture.Row(y - py - s.y)[4*(x-px-s.x)+3])
			} else {
				a = uint32(s.cover[i])
			}
			row[x] = uint8(a + (uint32(row[x])*(255-a)+127)/255)
		}
	}
}

// contrasts is how much a colour's letters cover where their outlines cover so much: dark ones seem thin, so browsers draw them a
// little heavier.
func contrasts(colour [4]uint8) *[256]uint8 {
	var table [256]uint8
	for i := range table {
		table[i] = uint8(i)
	}
	return &table
}
