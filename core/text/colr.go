package text

// #cgo LDFLAGS: -lharfbuzz
// #include <harfbuzz/hb.h>
import "C"

import (
	"encoding/binary"
	"image"
	"image/draw"
	"math"
	"sort"
	"unsafe"

	"golang.org/x/image/vector"

	"echolane/core/raster"
)

// Glyphs that are graphs of paints: gradients, transforms, compositing (OpenType 1.9.1, COLR version 1). What a variable font varies of a
// paint stands at its default.

// Bounds on one glyph.
const (
	mostPaints     = 4000
	deepestPaint   = 32
	mostLayers     = 1 << 18   // of a font
	mostPaintBytes = 256 << 20 // of pixels at a time
	mostPaintWork  = 200 << 20 // pixels that are filled, one after another
)

// colr is a font's table of paints.
type colr struct {
	data    []byte
	glyphs  []uint32 // that have paints, in ascending order
	paints  []int    // where theirs are
	layers  []int
	clips   []clip
	palette [][4]uint8 // straight
}

type clip struct {
	first, last uint32
	at          int
}

// fields reads a table's fields; what lies beyond its end is 0, and says so.
type fields struct {
	data []byte
	bad  bool
}

func (f *fields) at(i, n int) uint32 {
	if i < 0 || n < 0 || i > len(f.data)-n {
		f.bad = true
		return 0
	}
	v := uint32(0)
	for _, b := range f.data[i : i+n] {
		v = v<<8 | uint32(b)
	}
	return v
}

func (f *fields) i16(i int) float64     { return float64(int16(f.at(i, 2))) }
func (f *fields) f2dot14(i int) float64 { return float64(int16(f.at(i, 2))) / (1 << 14) }
func (f *fields) fixed(i int) float64   { return float64(int32(f.at(i, 4))) / (1 << 16) }

func tagOf(name string) C.hb_tag_t { return C.hb_tag_t(binary.BigEndian.Uint32([]byte(name))) }

// table is one of a font's tables.
func table(face *C.hb_face_t, tag string) []byte {
	blob := C.hb_face_reference_table(face, tagOf(tag))
	defer C.hb_blob_destroy(blob)
	var n C.uint
	p := C.hb_blob_get_data(blob, &n)
	if n == 0 || p == nil {
		return nil
	}
	return C.GoBytes(unsafe.Pointer(p), C.int(n))
}

// readColr reads the paints of a font; nil where it has none.
func readColr(face *C.hb_face_t) *colr {
	f := &fields{data: table(face, "COLR")}
	if len(f.data) < 34 || f.at(0, 2) < 1 {
		return nil
	}
	c := &colr{data: f.data}
	if list := int(f.at(14, 4)); list != 0 {
		n := int(f.at(list, 4))
		for i := range min(n, 65536) {
			at := list + 4 + 6*i
			c.glyphs, c.paints = append(c.glyphs, f.at(at, 2)), append(c.paints, list+int(f.at(at+2, 4)))
		}
	}
	if list := int(f.at(18, 4)); list != 0 {
		for i := range min(int(f.at(list, 4)), mostLayers) {
			c.layers = append(c.layers, list+int(f.at(list+4+4*i, 4)))
		}
	}
	if list := int(f.at(22, 4)); list != 0 && f.at(list, 1) == 1 {
		for i := range min(int(f.at(list+1, 4)), 65536) {
			at := list + 5 + 7*i
			c.clips = append(c.clips, clip{f.at(at, 2), f.at(at+2, 2), list + int(f.at(at+4, 3))})
		}
	}
	if f.bad || len(c.glyphs) == 0 || !sort.SliceIsSorted(c.glyphs, func(i, j int) bool { return c.glyphs[i] < c.glyphs[j] }) {
		return nil
	}
	p := &fields{data: table(face, "CPAL")}
	if n, from, first := int(p.at(2, 2)), int(p.at(8, 4)), int(p.at(12, 2)); !p.bad {
		for i := range n {
			at := from + 4*(first+i)
			if v := p.at(at, 4); !p.bad {
				c.palette = append(c.palette, [4]uint8{uint8(v >> 8), uint8(v >> 16), uint8(v >> 24), uint8(v)})
			}
		}
	}
	return c
}

// paintOf is where a glyph's paint is, 0 where it has none.
func (c *colr) paintOf(id uint32) int {
	if c == nil {
		return 0
	}
	if i := sort.Search(len(c.glyphs), func(i int) bool { return c.glyphs[i] >= id }); i < len(c.glyphs) && c.glyphs[i] == id {
		return c.paints[i]
	}
	return 0
}

// around is a transform with a point that stays where it is.
func around(a raster.Affine, x, y float64) raster.Affine {
	return raster.Affine{1, 0, 0, 1, x, y}.After(a).After(raster.Affine{1, 0, 0, 1, -x, -y})
}

// painter paints one glyph.
type painter struct {
	*colr
	fields
	font  *font
	own   [4]uint8 // the text's colour, straight
	left  int      // paints that may still be read
	bytes int      // of pixels that are held
	work  int      // pixels that were filled
	box   image.Rectangle
	sized bool // the box is what is looked for; nothing is painted
}

// painted is a glyph that is a graph of paints, in pixels from its origin moved by dx, dy; ok is false where it is none.
func (p *pen) painted(g placed, dx, dy float64) (s *stamp, ok bool) {
	c := g.face.colr
	root := c.paintOf(g.id)
	if root == 0 {
		return nil, false
	}
	k := p.size / g.face.upem
	m := raster.Affine{k, 0, 0, -k, dx, dy}
	if g.lies {
		m = raster.Affine{0, k, k, 0, dx, dy}
	}
	q := &painter{colr: c, fields: fields{data: c.data}, font: g.face.font, own: p.colour, left: mostPaints, sized: true}
	if !q.clipped(g.id, m) {
		q.paint(root, m, nil, 0)
	}
	b := q.box
	if q.bad || b.Empty() || b.Dx() > mostStamp || b.Dy() > mostStamp {
		return nil, true
	}
	q.sized, q.left = false, mostPaints
	m[4], m[5] = m[4]-float64(b.Min.X), m[5]-float64(b.Min.Y)
	out := q.layer(b.Dx(), b.Dy())
	if out == nil {
		return nil, true
	}
	if q.paint(root, m, out, 0); q.bad {
		return nil, true
	}
	return &stamp{picture: out, x: b.Min.X, y: b.Min.Y, w: out.W, h: out.H}, true
}

// clipped takes the box that a font gives for a glyph.
func (q *painter) clipped(id uint32, m raster.Affine) bool {
	for _, c := range q.clips {
		if id >= c.first && id <= c.last {
			at := c.at + 1
			x0, y0, x1, y1 := q.i16(at), q.i16(at+2), q.i16(at+4), q.i16(at+6)
			q.reach(m, [][2]float64{{x0, y0}, {x1, y0}, {x1, y1}, {x0, y1}})
			return true
		}
	}
	return false
}

func (q *painter) reach(m raster.Affine, points [][2]float64) {
	x0, y0, x1, y1 := math.Inf(1), math.Inf(1), math.Inf(-1), math.Inf(-1)
	for _, p := range points {
		x, y := m.At(p[0], p[1])
		x0, y0, x1, y1 = math.Min(x0, x), math.Min(y0, y), math.Max(x1, x), math.Max(y1, y)
	}
	if x0 <= x1 && x0 > -mostStamp && x1 < mostStamp && y0 > -mostStamp && y1 < mostStamp {
		q.box = q.box.Union(image.Rect(int(math.Floor(x0)), int(math.Floor(y0)), int(math.Ceil(x1)), int(math.Ceil(y1))))
	}
}

// layer is a clear picture; nil where too many are held, or were.
func (q *painter) layer(w, h int) *raster.RGBA {
	q.bytes, q.work = q.bytes+4*w*h, q.work+w*h
	if q.bytes > mostPaintBytes || q.work > mostPaintWork {
		q.bad = true
		return nil
	}
	return raster.NewRGBA(w, h)
}

func (q *painter) done(l *raster.RGBA) {
	q.bytes -= 4 * l.W * l.H
	l.Free()
}

// paint paints what stands in the table at a place. m is from units of the em, y upwards, to pixels.
func (q *painter) paint(at int, m raster.Affine, to *raster.RGBA, deep int) {
	if q.left--; q.left < 0 || deep > deepestPaint || q.bad {
		q.bad = true
		return
	}
	child := at + int(q.at24(at+1))
	kind := q.at(at, 1)
	switch kind {
	case 1: // layers
		n, first := int(q.at(at+1, 1)), int(q.at(at+2, 4))
		for i := first; i < first+n && i < len(q.layers); i++ {
			q.paint(q.layers[i], m, to, deep+1)
		}
	case 2, 3:
		if to != nil {
			c := q.colour(q.at(at+1, 2), q.f2dot14(at+3))
			q.fill(to, func(x, y float64) [4]float64 { return c })
		}
	case 4, 5, 6, 7, 8, 9:
		if to != nil {
			q.gradient(kind, at, child, m, to)
		}
	case 10:
		q.glyph(child, q.at(at+4, 2), m, to, deep)
	case 11:
		if root := q.paintOf(q.at(at+1, 2)); root != 0 {
			q.paint(root, m, to, deep+1)
		}
	case 12, 13:
		t := at + int(q.at24(at+4))
		q.paint(child, m.After(raster.Affine{q.fixed(t), q.fixed(t + 4), q.fixed(t + 8), q.fixed(t + 12), q.fixed(t + 16), q.fixed(t + 20)}), to, deep+1)
	case 32:
		q.composite(at, child, m, to, deep)
	default:
		t, ok := q.transform(kind, at+4)
		if !ok {
			q.bad = true
			return
		}
		q.paint(child, m.After(t), to, deep+1)
	}
}

func (q *painter) at24(i int) uint32 { return q.at(i, 3) }

// transform is what formats 14 to 31 do, whose fields begin at a place. The odd ones vary.
func (q *painter) transform(kind uint32, at int) (raster.Affine, bool) {
	turn := func(v float64) (sin, cos float64) { return math.Sincos(v * math.Pi) }
	switch kind &^ 1 {
	case 14:
		return raster.Affine{1, 0, 0, 1, q.i16(at), q.i16(at + 2)}, true
	case 16:
		return raster.Affine{q.f2dot14(at), 0, 0, q.f2dot14(at + 2), 0, 0}, true
	case 18:
		return around(raster.Affine{q.f2dot14(at), 0, 0, q.f2dot14(at + 2), 0, 0}, q.i16(at+4), q.i16(at+6)), true
	case 20:
		return raster.Affine{q.f2dot14(at), 0, 0, q.f2dot14(at), 0, 0}, true
	case 22:
		return around(raster.Affine{q.f2dot14(at), 0, 0, q.f2dot14(at), 0, 0}, q.i16(at+2), q.i16(at+4)), true
	case 24, 26:
		sin, cos := turn(q.f2dot14(at))
		t := raster.Affine{cos, sin, -sin, cos, 0, 0}
		if kind&^1 == 26 {
			t = around(t, q.i16(at+2), q.i16(at+4))
		}
		return t, true
	case 28, 30:
		x, y := math.Tan(q.f2dot14(at)*math.Pi), math.Tan(q.f2dot14(at+2)*math.Pi)
		t := raster.Affine{1, y, -x, 1, 0, 0}
		if kind&^1 == 30 {
			t = around(t, q.i16(at+4), q.i16(at+6))
		}
		return t, true
	}
	return raster.Affine{}, false
}

// colour is one of the palette's, or the text's, premultiplied, 0–1.
func (q *painter) colour(i uint32, alpha float64) [4]float64 {
	c := [4]uint8{0, 0, 0, 255}
	switch {
	case i == 0xFFFF:
		c = q.own
	case int(i) < len(q.palette):
		c = q.palette[i]
	}
	a := float64(c[3]) / 255 * math.Min(1, math.Max(0, alpha))
	return [4]float64{float64(c[0]) / 255 * a, float64(c[1]) / 255 * a, float64(c[2]) / 255 * a, a}
}

// fill lays colours, premultiplied, over all pixels.
func (q *painter) fill(to *raster.RGBA, colour func(x, y float64) [4]float64) {
	if q.work += to.W * to.H; q.work > mostPaintWork {
		q.bad = true
		return
	}
	for y := range to.H {
		row := to.Row(y)
		for x := range to.W {
			c := colour(float64(x)+0.5, float64(y)+0.5)
			for i := range 4 {
				row[4*x+i] = uint8(math.Min(255, c[i]*255+float64(row[4*x+i])*(1-c[3])+0.5))
			}
		}
	}
}

// glyph paints what is inside of a glyph's outline.
func (q *painter) glyph(child int, id uint32, m raster.Affine, to *raster.RGBA, deep int) {
	outline := q.font.outline(id, 1) // y downwards
	for i := range outline {
		for j, p := range outline[i].Points {
			outline[i].Points[j][0], outline[i].Points[j][1] = m.At(p[0], -p[1])
		}
	}
	x0, y0, x1, y1 := reach(outline)
	if q.sized {
		q.reach(raster.Affine{1, 0, 0, 1, 0, 0}, [][2]float64{{x0, y0}, {x1, y1}})
		return
	}
	if !(x0 < x1 && y0 < y1) || x1 < 0 || y1 < 0 || x0 > float64(to.W) || y0 > float64(to.H) {
		return
	}
	b := image.Rect(int(math.Max(0, math.Floor(x0))), int(math.Max(0, math.Floor(y0))), int(math.Min(float64(to.W), math.Ceil(x1))), int(math.Min(float64(to.H), math.Ceil(y1))))
	if b.Empty() {
		return
	}
	layer := q.layer(b.Dx(), b.Dy())
	if layer == nil {
		return
	}
	defer q.done(layer)
	left, top := float64(b.Min.X), float64(b.Min.Y)
	m[4], m[5] = m[4]-left, m[5]-top
	q.paint(child, m, layer, deep+1)
	var z vector.Rasterizer
	z.Reset(layer.W, layer.H)
	z.DrawOp = draw.Src
	trace(&z, outline, -left, -top)
	img := image.NewAlpha(image.Rect(0, 0, layer.W, layer.H))
	z.Draw(img, img.Rect, image.Opaque, image.Point{})
	for y := range layer.H {
		row, mask := layer.Row(y), img.Pix[y*img.Stride:]
		for x := range layer.W {
			for i := range 4 {
				row[4*x+i] = uint8((uint32(row[4*x+i])*uint32(mask[x]) + 127) / 255)
			}
		}
	}
	to.Over(layer, b.Min.X, b.Min.Y)
}

// modes of compositing that blend; the others are Porter's and Duff's.
var colrModes = map[uint32]raster.BlendMode{
	13: raster.BlendScreen, 14: raster.BlendOverlay, 15: raster.BlendDarken, 16: raster.BlendLighten, 17: raster.BlendColorDodge, 18: raster.BlendColorBurn, 19: raster.BlendHardLight,
	20: raster.BlendSoftLight, 21: raster.BlendDifference, 22: raster.BlendExclusion, 23: raster.BlendMultiply, 24: raster.BlendHue, 25: raster.BlendSaturation, 26: raster.BlendColor, 27: raster.BlendLuminosity,
}

// composite paints one graph onto another by a mode, and both onto the picture.
func (q *painter) composite(at, child int, m raster.Affine, to *raster.RGBA, deep int) {
	mode, under := q.at(at+4, 1), at+int(q.at24(at+5))
	if q.sized {
		q.paint(child, m, nil, deep+1)
		q.paint(under, m, nil, deep+1)
		return
	}
	source := q.layer(to.W, to.H)
	if source == nil {
		return
	}
	defer q.done(source)
	backdrop := q.layer(to.W, to.H)
	if backdrop == nil {
		return
	}
	defer q.done(backdrop)
	q.paint(child, m, source, deep+1)
	q.paint(under, m, backdrop, deep+1)
	if blend, ok := colrModes[mode]; ok {
		backdrop.Blend(source, 0, 0, blend)
		to.Over(backdrop, 0, 0)
		return
	}
	for y := range to.H {
		s, b := source.Row(y), backdrop.Row(y)
		for x := 0; x < len(b); x += 4 {
			fs, fb := porterDuff(mode, float64(s[x+3])/255, float64(b[x+3])/255)
			for i := range 4 {
				b[x+i] = uint8(math.Min(255, float64(s[x+i])*fs+float64(b[x+i])*fb+0.5))
			}
		}
	}
	to.Over(backdrop, 0, 0)
}

// porterDuff gives what a mode keeps of source and backdrop (Compositing and Blending Level 1, section 9.1).
func porterDuff(mode uint32, as, ab float64) (fs, fb float64) {
	switch mode {
	case 0:
		return 0, 0
	case 1:
		return 1, 0
	case 2:
		return 0, 1
	case 4:
		return 1 - ab, 1
	case 5:
		return ab, 0
	case 6:
		return 0, as
	case 7:
		return 1 - ab, 0
	case 8:
		return 0, 1 - as
	case 9:
		return ab, 1 - as
	case 10:
		return 1 - ab, as
	case 11:
		return 1 - ab, 1 - as
	case 12:
		return 1, 1
	}
	return 1, 1 - as
}

// A colourStop is one of a gradient's, its colour premultiplied.
type colourStop struct {
	at     float64
	colour [4]float64
}

// gradient fills with colours along a line, between circles, or around a point.
func (q *painter) gradient(kind uint32, at, line int, m raster.Affine, to *raster.RGBA) {
	back, ok := m.Inverse()
	extend, n, width := q.at(line, 1), int(q.at(line+1, 2)), 6
	if kind&1 == 1 {
		width = 10
	}
	var stops []colourStop
	for i := range min(n, 256) {
		s := line + 3 + width*i
		stops = append(stops, colourStop{q.f2dot14(s), q.colour(q.at(s+2, 2), q.f2dot14(s+4))})
	}
	if q.bad || !ok || len(stops) == 0 {
		return
	}
	sort.SliceStable(stops, func(i, j int) bool { return stops[i].at < stops[j].at })
	v := func(i int) float64 { return q.i16(at + 4 + 2*i) }
	var place func(x, y float64) (float64, bool)
	switch kind &^ 1 {
	case 4:
		x0, y0, x1, y1, x2, y2 := v(0), v(1), v(2), v(3), v(4), v(5)
		// The part of the line that stands upright on where colours stay the same.
		nx, ny := y2-y0, -(x2 - x0)
		if nn := nx*nx + ny*ny; nn > 0 {
			along := ((x1-x0)*nx + (y1-y0)*ny) / nn
			nx, ny = nx*along, ny*along
		} else {
			nx, ny = x1-x0, y1-y0
		}
		l := nx*nx + ny*ny
		if l == 0 {
			return
		}
		place = func(x, y float64) (float64, bool) { return ((x-x0)*nx + (y-y0)*ny) / l, true }
	case 6:
		x0, y0, x1, y1 := v(0), v(1), v(3), v(4)
		r0, r1 := float64(q.at(at+8, 2)), float64(q.at(at+14, 2))
		place = func(x, y float64) (float64, bool) { return betweenCircles(x-x0, y-y0, x1-x0, y1-y0, r0, r1-r0) }
	default:
		x0, y0 := v(0), v(1)
		from, until := (q.f2dot14(at+8)+1)/2, (q.f2dot14(at+10)+1)/2 // turns, against the clock
		if from == until {
			return
		}
		place = func(x, y float64) (float64, bool) {
			turn := math.Atan2(y-y0, x-x0) / (2 * math.Pi)
			if turn < 0 {
				turn++
			}
			return (turn - from) / (until - from), true
		}
	}
	q.fill(to, func(x, y float64) [4]float64 {
		t, ok := place(back.At(x, y))
		if !ok {
			return [4]float64{}
		}
		return stopsAt(stops, t, extend)
	})
}

// betweenCircles is the place of the circle through a point, of those that grow from one around the origin to another: the largest whose
// radius isn't below 0.
func betweenCircles(x, y, dx, dy, r, dr float64) (float64, bool) {
	a, b, c := dx*dx+dy*dy-dr*dr, x*dx+y*dy+r*dr, x*x+y*y-r*r
	if math.Abs(a) < 1e-9 {
		if b == 0 {
			return 0, false
		}
		t := c / (2 * b)
		return t, r+t*dr >= 0
	}
	d := b*b - a*c
	if d < 0 {
		return 0, false
	}
	root := math.Sqrt(d)
	t, u := (b+root)/a, (b-root)/a
	if t < u {
		t, u = u, t
	}
	if r+t*dr >= 0 {
		return t, true
	}
	return u, r+u*dr >= 0
}

// stopsAt is the colour of a gradient at a place; beyond its ends it is padded, repeated or reflected.
func stopsAt(stops []colourStop, t float64, extend uint32) [4]float64 {
	first, last := stops[0].at, stops[len(stops)-1].at
	if whole := last - first; whole > 0 && extend != 0 && (t < first || t > last) {
		n := (t - first) / whole
		turn := math.Floor(n)
		n -= turn
		if extend == 2 && math.Mod(math.Abs(turn), 2) == 1 {
			n = 1 - n
		}
		t = first + n*whole
	}
	i := sort.Search(len(stops), func(i int) bool { return stops[i].at > t })
	switch {
	case i == 0:
		return stops[0].colour
	case i == len(stops):
		return stops[i-1].colour
	}
	a, b := stops[i-1], stops[i]
	k := (t - a.at) / (b.at - a.at)
	var c [4]float64
	for j := range c {
		c[j] = a.colour[j] + (b.colour[j]-a.colour[j])*k
	}
	return c
}
