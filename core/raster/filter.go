package raster

import (
	"encoding/binary"
	"math"
)

// A Matrix is a 3×4 colour matrix on straight sRGB in 0–255: rows R, G, B; columns R, G, B, and a constant.
type Matrix [3][4]float32

// Colour matrices of Filter Effects Level 1, section 7.

// Saturate is saturate(). The specification gives it other weights than grayscale(), in fewer digits.
func Saturate(s float64) Matrix {
	return of3x3([9]float64{
		0.213 + 0.787*s, 0.715 - 0.715*s, 0.072 - 0.072*s,
		0.213 - 0.213*s, 0.715 + 0.285*s, 0.072 - 0.072*s,
		0.213 - 0.213*s, 0.715 - 0.715*s, 0.072 + 0.928*s,
	})
}

// Grayscale is grayscale().
func Grayscale(amount float64) Matrix {
	k := 1 - amount
	return of3x3([9]float64{
		0.2126 + 0.7874*k, 0.7152 - 0.7152*k, 0.0722 - 0.0722*k,
		0.2126 - 0.2126*k, 0.7152 + 0.2848*k, 0.0722 - 0.0722*k,
		0.2126 - 0.2126*k, 0.7152 - 0.7152*k, 0.0722 + 0.9278*k,
	})
}

// Sepia is sepia().
func Sepia(amount float64) Matrix {
	k := 1 - amount
	return of3x3([9]float64{
		0.393 + 0.607*k, 0.769 - 0.769*k, 0.189 - 0.189*k,
		0.349 - 0.349*k, 0.686 + 0.314*k, 0.168 - 0.168*k,
		0.272 - 0.272*k, 0.534 - 0.534*k, 0.131 + 0.869*k,
	})
}

// HueRotate is hue-rotate().
func HueRotate(degrees float64) Matrix {
	sin, cos := math.Sincos(degrees * math.Pi / 180)
	return of3x3([9]float64{
		0.213 + cos*0.787 - sin*0.213, 0.715 - cos*0.715 - sin*0.715, 0.072 - cos*0.072 + sin*0.928,
		0.213 - cos*0.213 + sin*0.143, 0.715 + cos*0.285 + sin*0.140, 0.072 - cos*0.072 - sin*0.283,
		0.213 - cos*0.213 - sin*0.787, 0.715 - cos*0.715 + sin*0.715, 0.072 + cos*0.928 + sin*0.072,
	})
}

// Linear is v×slope + intercept on every channel, the intercept in 0–1: brightness(), contrast(), invert().
func Linear(slope, intercept float64) Matrix {
	return Matrix{{float32(slope), 0, 0, float32(intercept * 255)}, {0, float32(slope), 0, float32(intercept * 255)}, {0, 0, float32(slope), float32(intercept * 255)}}
}

func of3x3(v [9]float64) (m Matrix) {
	for i, x := range v {
		m[i/3][i%3] = float32(x)
	}
	return m
}

// ApplyMatrices runs every pixel through the matrices in turn, in straight colours, clamped in between and
// rounded once at the end. The picture is premultiplied before and after.
func (p *RGBA) ApplyMatrices(ms []Matrix) {
	if len(ms) == 0 {
		return
	}
	if p.Opaque && len(ms) == 1 && ms[0].perChannel() {
		p.applyTables(ms[0].tables())
		return
	}
	for y := range p.H {
		applyMatrices(p.Row(y), ms)
	}
}

// applyMatricesPlain does it for a row of pixels.
func applyMatricesPlain(row []uint8, ms []Matrix) {
	for i := 0; i+3 < len(row); i += 4 {
		a := float32(row[i+3])
		if a == 0 {
			continue
		}
		k := 255 / a
		r, g, b := float32(row[i])*k, float32(row[i+1])*k, float32(row[i+2])*k
		for j := range ms {
			m := &ms[j]
			// The conversions keep a processor from rounding a product and its sum as one.
			r, g, b = clamp255(float32(float32(float32(m[0][0]*r)+float32(m[0][1]*g))+float32(m[0][2]*b))+m[0][3]),
				clamp255(float32(float32(float32(m[1][0]*r)+float32(m[1][1]*g))+float32(m[1][2]*b))+m[1][3]),
				clamp255(float32(float32(float32(m[2][0]*r)+float32(m[2][1]*g))+float32(m[2][2]*b))+m[2][3])
		}
		k = a / 255
		row[i], row[i+1], row[i+2] = uint8(float32(r*k)+0.5), uint8(float32(g*k)+0.5), uint8(float32(b*k)+0.5)
	}
}

// perChannel reports whether no channel looks at another.
func (m *Matrix) perChannel() bool {
	return m[0][1] == 0 && m[0][2] == 0 && m[1][0] == 0 && m[1][2] == 0 && m[2][0] == 0 && m[2][1] == 0
}

func (m *Matrix) tables() (t [3][256]uint8) {
	for c := range t {
		for v := range t[c] {
			t[c][v] = uint8(clamp255(m[c][c]*float32(v)+m[c][3]) + 0.5)
		}
	}
	return t
}

func (p *RGBA) applyTables(t [3][256]uint8) {
	for y := range p.H {
		row := p.Row(y)
		for len(row) >= 4 {
			row[0], row[1], row[2] = t[0][row[0]], t[1][row[1]], t[2][row[2]]
			row = row[4:]
		}
	}
}

func clamp255(v float32) float32 {
	return min(max(v, 0), 255)
}

// Over paints src, premultiplied, onto p with its top left corner at x, y: source over (Compositing Level 1,
// section 9.1.4). What lies beside p is left out.
func (p *RGBA) Over(src *RGBA, x, y int) {
	for sy := max(0, -y); sy < min(src.H, p.H-y); sy++ {
		s, d := src.Row(sy), p.Row(y+sy)
		x0, x1 := max(0, -x), min(src.W, p.W-x)
		if x1 <= x0 {
			return
		}
		overRow(d[4*(x+x0):4*(x+x1)], s[4*x0:4*x1])
	}
}

// overRow paints pixels over others, two channels at a time: each product and its rounding stay within sixteen bits.
func overRow(d, s []uint8) {
	const lanes, half = 0x00FF00FF, 0x00800080
	for i := 0; i+4 <= len(s) && i+4 <= len(d); i += 4 {
		from := binary.LittleEndian.Uint32(s[i:])
		switch a := from >> 24; a {
		case 0:
		case 255:
			binary.LittleEndian.PutUint32(d[i:], from)
		default:
			under := binary.LittleEndian.Uint32(d[i:])
			if under == 0 {
				binary.LittleEndian.PutUint32(d[i:], from)
				continue
			}
			k := 255 - a
			even, odd := (under&lanes)*k+half, (under>>8&lanes)*k+half
			even = (even+(even>>8&lanes))>>8&lanes + from&lanes
			odd = (odd+(odd>>8&lanes))>>8&lanes + from>>8&lanes
			if (even|odd)&0x01000100 != 0 { // more colour than it is opaque
				for c := range 4 {
					d[i+c] = uint8(min(255, uint32(s[i+c])+uint32(div255(uint32(d[i+c])*k))))
				}
				continue
			}
			binary.LittleEndian.PutUint32(d[i:], even|odd<<8)
		}
	}
}

// Fill sets every pixel to a straight colour.
func (p *RGBA) Fill(r, g, b, a uint8) {
	one := []uint8{div255(uint32(r) * uint32(a)), div255(uint32(g) * uint32(a)), div255(uint32(b) * uint32(a)), a}
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			copy(row[i:], one)
		}
	}
	p.Opaque = a == 255
}

// Round clips the picture to a rectangle with rounded corners (CSS Backgrounds Level 3, section 5): rx and ry
// are the corners' radii from the top left one clockwise. Radii that overlap shrink together (section 5.5).
func (p *RGBA) Round(rx, ry [4]float64) {
	w, h := float64(p.W), float64(p.H)
	f := 1.0
	for _, side := range []struct{ have, want float64 }{{w, rx[0] + rx[1]}, {w, rx[2] + rx[3]}, {h, ry[0] + ry[3]}, {h, ry[1] + ry[2]}} {
		if side.want > side.have {
			f = min(f, side.have/side.want)
		}
	}
	rounded := false
	for c := range 4 {
		x, y := rx[c]*f, ry[c]*f
		if x <= 0 || y <= 0 {
			continue
		}
		rounded = true
		for j := range min(p.H, int(math.Ceil(y))) {
			for i := range min(p.W, int(math.Ceil(x))) {
				k := cornerCoverage(float64(i), float64(j), x, y)
				if k == 255 {
					continue
				}
				px, py := i, j
				if c == 1 || c == 2 {
					px = p.W - 1 - i
				}
				if c >= 2 {
					py = p.H - 1 - j
				}
				q := p.Pix[py*p.Stride+4*px:][:4]
				for n := range q {
					q[n] = div255(uint32(q[n]) * k)
				}
			}
		}
	}
	if rounded {
		p.Opaque = false
	}
}

// cornerCoverage is how much of the pixel at x, y from the corner lies inside an ellipse of radii rx, ry around
// (rx, ry), 0–255, by 8×8 samples where the edge may pass.
func cornerCoverage(x, y, rx, ry float64) uint32 {
	inside := func(px, py float64) bool {
		dx, dy := (rx-px)/rx, (ry-py)/ry
		return dx <= 0 || dy <= 0 || dx*dx+dy*dy <= 1
	}
	if inside(x, y) {
		return 255
	}
	if !inside(x+1, y+1) {
		return 0
	}
	n := uint32(0)
	for j := range 8 {
		for i := range 8 {
			if inside(x+(float64(i)+0.5)/8, y+(float64(j)+0.5)/8) {
				n++
			}
		}
	}
	return (n*255 + 32) / 64
}

// MapGradient maps the picture's luminance (Rec. 709 weights on gamma-encoded values) along stops, straight and
// evenly spaced, and mixes the result in at a strength from 0 to 1.
func (p *RGBA) MapGradient(stops [][4]uint8, strength float64) {
	var table [256][4]float32
	for i := range table {
		at := float64(i) / 255 * float64(len(stops)-1)
		j := min(int(at), len(stops)-2)
		f := at - float64(j)
		for c := range 4 {
			table[i][c] = float32(float64(stops[j][c])*(1-f) + float64(stops[j+1][c])*f)
		}
	}
	s := float32(strength)
	solid := p.Opaque
	for _, stop := range stops {
		solid = solid && stop[3] == 255
	}
	if solid {
		p.mapSolid(&table, uint32(strength*256+0.5))
		return
	}
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			a := float32(row[i+3])
			if a == 0 {
				continue
			}
			k := 255 / a
			r, g, b := float32(row[i])*k, float32(row[i+1])*k, float32(row[i+2])*k
			l := int(min(255, 0.2126*r+0.7152*g+0.0722*b+0.5))
			t := &table[l]
			na := a * (1 - s + s*t[3]/255)
			m := na / 255
			row[i], row[i+1], row[i+2] = uint8((r+(t[0]-r)*s)*m+0.5), uint8((g+(t[1]-g)*s)*m+0.5), uint8((b+(t[2]-b)*s)*m+0.5)
			row[i+3] = uint8(na + 0.5)
		}
	}
	for _, stop := range stops {
		if stop[3] != 255 {
			p.Opaque = false
		}
	}
}

// mapSolid is MapGradient where nothing is transparent, with a strength in 256.
func (p *RGBA) mapSolid(table *[256][4]float32, strength uint32) {
	var t [256][4]uint32 // times strength
	for i := range t {
		for c := range 3 {
			t[i][c] = uint32(table[i][c]+0.5)*strength + 128
		}
	}
	rest := 256 - strength
	for y := range p.H {
		row := p.Row(y)
		for len(row) >= 4 {
			r, g, b := uint32(row[0]), uint32(row[1]), uint32(row[2])
			q := &t[(13933*r+46871*g+4732*b+32768)>>16]
			row[0], row[1], row[2] = uint8((r*rest+q[0])>>8), uint8((g*rest+q[1])>>8), uint8((b*rest+q[2])>>8)
			row = row[4:]
		}
	}
}

// Sharpen is an unsharp mask on luminance: the difference from a Gaussian of 0.8 pixels, added amount times.
// Alpha stays; colours stay within it.
func (p *RGBA) Sharpen(amount float64) {
	if amount <= 0 {
		return
	}
	soft := p.Copy()
	soft.Blur(0.8, Extended)
	defer soft.Free()
	k := float32(amount)
	for y := range p.H {
		row, blurred := p.Row(y), soft.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			l := func(q []uint8) float32 {
				return 0.2126*float32(q[i]) + 0.7152*float32(q[i+1]) + 0.0722*float32(q[i+2])
			}
			d := k * (l(row) - l(blurred))
			top := float32(row[i+3])
			for c := range 3 {
				row[i+c] = uint8(min(top, max(0, float32(row[i+c])+d)) + 0.5)
			}
		}
	}
}
