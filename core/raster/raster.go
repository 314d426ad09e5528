// Package raster has pixel buffers and the operations on them.
//
// Two layouts exist. RGBA is interleaved, premultiplied, gamma-encoded sRGB: what layers and transparency
// need. YCbCr is three planes as JPEG and WebP keep them (BT.601 matrix on gamma-encoded sRGB), so that a
// photograph goes from one codec to another without ever being turned into RGB. Nothing here is safe for
// concurrent writes to one buffer; buffers share no state.
package raster

// A Plane is one component: H rows of W samples, Stride samples from row to row.
type Plane struct {
	Pix    []uint8
	Stride int
	W, H   int

	whole *buffer // what Free gives back; views have none
}

// NewPlane makes a plane of zeros.
func NewPlane(w, h int) Plane {
	p := PooledPlane(w, h, Stride(w))
	clear(p.Pix)
	return p
}

// PooledPlane returns a plane with undefined samples, from a pool where there is one. It is for callers that write every sample.
func PooledPlane(w, h, stride int) Plane {
	b := take(stride * h)
	return Plane{Pix: b.bytes[:stride*h], Stride: stride, W: w, H: h, whole: b}
}

// Free gives the samples back for others to use. Neither the plane nor a view of it may be used after.
func (p *Plane) Free() { p.whole = give(p.whole) }

// Stride is how far apart rows of so many bytes should be. Rows whose distance is a multiple of 1024 share a few
// sets of a processor's first cache, and a kernel that goes down columns finds its rows thrown out again; one
// line more spreads them.
func Stride(row int) int {
	if row > 0 && row%1024 == 0 {
		return row + 64
	}
	return row
}

// Row is row y, W samples long.
func (p Plane) Row(y int) []uint8 { return p.Pix[y*p.Stride : y*p.Stride+p.W] }

// View is the part of the plane from (x0, y0) to before (x1, y1), in the same memory.
func (p Plane) View(x0, y0, x1, y1 int) Plane {
	return Plane{Pix: p.Pix[y0*p.Stride+x0:], Stride: p.Stride, W: x1 - x0, H: y1 - y0}
}

// Range says which sample values of YCbCr planes are black and white.
type Range uint8

const (
	Full    Range = iota // 0–255, as JPEG (JFIF) has it
	Limited              // luma 16–235, chroma 16–240, as WebP has it
)

// YCbCr is a picture of W×H pixels in three planes. The chroma planes may be smaller: ChromaX and ChromaY
// are their samples per pixel across and down (0.5 for 4:2:0), with sample centres spread evenly over the
// picture. Planes may be larger than the picture's share of them, with replicated edges.
type YCbCr struct {
	W, H             int
	Y, Cb, Cr        Plane
	ChromaX, ChromaY float64
	Range            Range
}

// New420 makes a 4:2:0 picture with undefined samples, from a pool where there is one.
func New420(w, h int, r Range) *YCbCr {
	cw, ch := (w+1)/2, (h+1)/2
	return &YCbCr{
		W: w, H: h, ChromaX: 0.5, ChromaY: 0.5, Range: r,
		Y: PooledPlane(w, h, Stride(w)), Cb: PooledPlane(cw, ch, Stride(cw)), Cr: PooledPlane(cw, ch, Stride(cw)),
	}
}

// RGBA is a picture of W×H pixels, four bytes a pixel (R, G, B, A), premultiplied, sRGB. Opaque says that
// every alpha is 255.
type RGBA struct {
	Pix    []uint8
	Stride int // bytes from row to row
	W, H   int
	Opaque bool

	whole *buffer // what Free gives back; views have none
}

// Within reports whether the picture is a view of another: their pixels are the same memory.
func (p *RGBA) Within(of *RGBA) bool {
	a, b := p.Pix[:cap(p.Pix)], of.Pix[:cap(of.Pix)]
	return len(a) > 0 && len(b) > 0 && &a[len(a)-1] == &b[len(b)-1]
}

// NewRGBA makes a transparent picture.
func NewRGBA(w, h int) *RGBA {
	p := PooledRGBA(w, h)
	clear(p.Pix)
	return p
}

// PooledRGBA returns a picture with undefined pixels, from a pool where there is one. It is for callers that write every pixel.
func PooledRGBA(w, h int) *RGBA {
	stride := Stride(4 * w)
	b := take(stride * h)
	return &RGBA{Pix: b.bytes[:stride*h], Stride: stride, W: w, H: h, whole: b}
}

// Free gives the pixels back for others to use. Neither the picture nor a view of it may be used afterwards. Freeing nil, or a view,
// does nothing.
func (p *RGBA) Free() {
	if p != nil {
		p.whole = give(p.whole)
	}
}

// Free gives the samples of all planes back; see Plane.Free.
func (p *YCbCr) Free() {
	if p != nil {
		p.Y.Free()
		p.Cb.Free()
		p.Cr.Free()
	}
}

// Row is row y, 4×W bytes long.
func (p *RGBA) Row(y int) []uint8 { return p.Pix[y*p.Stride : y*p.Stride+4*p.W] }

// View gives the part of the picture from (x0, y0) to before (x1, y1), in the same memory.
func (p *RGBA) View(x0, y0, x1, y1 int) *RGBA {
	return &RGBA{Pix: p.Pix[y0*p.Stride+4*x0:], Stride: p.Stride, W: x1 - x0, H: y1 - y0, Opaque: p.Opaque}
}

// Flatness is the share of pixels that equal the one before them in their row, looked at in every fourth row: much
// in drawings and screenshots, little in photographs.
func (p *RGBA) Flatness() float64 {
	equal, all := 0, 0
	for y := 0; y < p.H; y += 4 {
		row := p.Row(y)
		for i := 4; i+3 < len(row); i += 4 {
			if [4]uint8(row[i:i+4]) == [4]uint8(row[i-4:i]) {
				equal++
			}
		}
		all += p.W - 1
	}
	return float64(equal) / float64(max(1, all))
}

// SharpColour is the share of squares of 2×2 pixels that lose colour when they have one colour in common, among those
// whose pixels aren't all equal; every other row of squares is looked at. Edges between colours on plain grounds have
// much of it, photographs little.
func (p *RGBA) SharpColour() float64 {
	const visible = 16 // of 255, of the differences of blue and red together
	lossy, busy := 0, 0
	for y := 0; y+1 < p.H; y += 4 {
		a, b := p.Row(y), p.Row(y+1)
		for i := 0; i+7 < len(a); i += 8 {
			square := [4][4]uint8{[4]uint8(a[i:]), [4]uint8(a[i+4:]), [4]uint8(b[i:]), [4]uint8(b[i+4:])}
			if square[0] == square[1] && square[0] == square[2] && square[0] == square[3] {
				continue
			}
			busy++
			var blue, red [4]int
			meanBlue, meanRed := 0, 0
			for k, q := range square {
				l := int(luma(q[:]))
				blue[k], red[k] = (int(q[2])-l)*144, (int(q[0])-l)*183 // of 256, as BT.601 has them
				meanBlue, meanRed = meanBlue+blue[k]/4, meanRed+red[k]/4
			}
			for k := range square {
				db, dr := (blue[k]-meanBlue)/256, (red[k]-meanRed)/256
				if db*db+dr*dr > visible*visible {
					lossy++
					break
				}
			}
		}
	}
	return float64(lossy) / float64(max(1, busy))
}

// Copy gives a copy.
func (p *RGBA) Copy() *RGBA {
	c := PooledRGBA(p.W, p.H)
	c.Opaque = p.Opaque
	for y := range p.H {
		copy(c.Row(y), p.Row(y))
	}
	return c
}

// FindOpaque sets Opaque by looking at every pixel.
func (p *RGBA) FindOpaque() {
	for y := range p.H {
		row := p.Row(y)
		for i := 3; i < len(row); i += 4 {
			if row[i] != 255 {
				p.Opaque = false
				return
			}
		}
	}
	p.Opaque = true
}

// Fade multiplies the whole picture, which is premultiplied, with an opacity from 0 to 1.
func (p *RGBA) Fade(opacity float64) {
	k := uint32(opacity*65536 + 0.5)
	var times [256]uint8
	for v := range times {
		times[v] = uint8((uint32(v)*k + 32768) >> 16)
	}
	for y := range p.H {
		row := p.Row(y)
		for len(row) >= 4 {
			row[0], row[1], row[2], row[3] = times[row[0]], times[row[1]], times[row[2]], times[row[3]]
			row = row[4:]
		}
	}
	p.Opaque = false
}

// Premultiply turns straight alpha into premultiplied, rounding to nearest.
func (p *RGBA) Premultiply() {
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			a := uint32(row[i+3])
			if a == 255 {
				continue
			}
			row[i] = div255(uint32(row[i]) * a)
			row[i+1] = div255(uint32(row[i+1]) * a)
			row[i+2] = div255(uint32(row[i+2]) * a)
		}
	}
}

// Unpremultiply turns premultiplied alpha into straight, which most codecs want. Wholly transparent pixels
// become transparent black.
func (p *RGBA) Unpremultiply() {
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			a := uint32(row[i+3])
			if a == 255 || a == 0 {
				continue
			}
			half := a / 2
			row[i] = uint8(min(255, (uint32(row[i])*255+half)/a))
			row[i+1] = uint8(min(255, (uint32(row[i+1])*255+half)/a))
			row[i+2] = uint8(min(255, (uint32(row[i+2])*255+half)/a))
		}
	}
}

// Flatten composites the picture onto an opaque colour.
func (p *RGBA) Flatten(r, g, b uint8) {
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			rest := 255 - uint32(row[i+3])
			if rest == 0 {
				continue
			}
			row[i] += div255(uint32(r) * rest)
			row[i+1] += div255(uint32(g) * rest)
			row[i+2] += div255(uint32(b) * rest)
			row[i+3] = 255
		}
	}
	p.Opaque = true
}

// div255 is v/255 rounded to nearest, exact for v ≤ 255×255.
func div255(v uint32) uint8 { return uint8((v + 128 + (v+128)>>8) >> 8) }

// Transpose swaps rows and columns.
func (p Plane) Transpose() Plane {
	t := PooledPlane(p.H, p.W, Stride(p.H))
	for y := range p.H {
		for x, v := range p.Row(y) {
			t.Pix[x*t.Stride+y] = v
		}
	}
	return t
}

// Transpose swaps rows and columns.
func (p *RGBA) Transpose() *RGBA {
	t := PooledRGBA(p.H, p.W)
	t.Opaque = p.Opaque
	for y := range p.H {
		row := p.Row(y)
		for x := range p.W {
			copy(t.Pix[x*t.Stride+4*y:x*t.Stride+4*y+4], row[4*x:4*x+4])
		}
	}
	return t
}

// Transpose swaps rows and columns of all planes.
func (p *YCbCr) Transpose() *YCbCr {
	return &YCbCr{
		W: p.H, H: p.W, Y: p.Y.Transpose(), Cb: p.Cb.Transpose(), Cr: p.Cr.Transpose(),
		ChromaX: p.ChromaY, ChromaY: p.ChromaX, Range: p.Range,
	}
}
