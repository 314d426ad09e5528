package raster

import "math"

// BlendMode is a mode of Compositing and Blending Level 1, sections 9 and 10.
type BlendMode uint8

// The blend modes (Compositing Level 1, section 10).
const (
	BlendNormal BlendMode = iota
	BlendMultiply
	BlendScreen
	BlendOverlay
	BlendDarken
	BlendLighten
	BlendColorDodge
	BlendColorBurn
	BlendHardLight
	BlendSoftLight
	BlendDifference
	BlendExclusion
	BlendHue
	BlendSaturation
	BlendColor
	BlendLuminosity
)

// Blend paints src, premultiplied, onto p with its top left corner at x, y, its colours mixed with those below
// by a mode: co = cs·(1-αb) + cb·(1-αs) + αs·αb·B(Cb, Cs).
func (p *RGBA) Blend(src *RGBA, x, y int, mode BlendMode) {
	if mode == BlendNormal {
		p.Over(src, x, y)
		return
	}
	for sy := max(0, -y); sy < min(src.H, p.H-y); sy++ {
		s, d := src.Row(sy), p.Row(y+sy)
		for sx := max(0, -x); sx < min(src.W, p.W-x); sx++ {
			blendPixel(d[4*(x+sx):][:4], s[4*sx:][:4], mode)
		}
	}
}

func blendPixel(b, s []uint8, mode BlendMode) {
	if s[3] == 0 {
		return
	}
	var below, above [4]float32
	for c := range below {
		below[c], above[c] = float32(b[c])/255, float32(s[c])/255
	}
	BlendColours(&below, above, mode)
	for c := range below {
		b[c] = uint8(clamp255(below[c]*255) + 0.5)
	}
}

// BlendColours paints one colour onto another, both premultiplied, 0–1, as Blend does.
func BlendColours(b *[4]float32, s [4]float32, mode BlendMode) {
	as, ab := s[3], b[3]
	if as == 0 {
		return
	}
	var cs, cb, mixed [3]float32 // straight
	for c := range 3 {
		cs[c] = min(1, s[c]/as)
		if ab > 0 {
			cb[c] = min(1, b[c]/ab)
		}
	}
	if mode >= BlendHue {
		mixed = nonSeparable(cb, cs, mode)
	} else {
		for c := range 3 {
			mixed[c] = separable(cb[c], cs[c], mode)
		}
	}
	for c := range 3 {
		b[c] = as*cs[c]*(1-ab) + ab*cb[c]*(1-as) + as*ab*mixed[c]
	}
	b[3] = as + ab - as*ab
}

// separable is section 10.1: b is the backdrop, s the source.
func separable(b, s float32, mode BlendMode) float32 {
	switch mode {
	case BlendMultiply:
		return b * s
	case BlendScreen:
		return b + s - b*s
	case BlendOverlay:
		return hardLight(s, b)
	case BlendDarken:
		return min(b, s)
	case BlendLighten:
		return max(b, s)
	case BlendColorDodge:
		switch {
		case b == 0:
			return 0
		case s >= 1:
			return 1
		}
		return min(1, b/(1-s))
	case BlendColorBurn:
		switch {
		case b >= 1:
			return 1
		case s <= 0:
			return 0
		}
		return 1 - min(1, (1-b)/s)
	case BlendHardLight:
		return hardLight(b, s)
	case BlendSoftLight:
		if s <= 0.5 {
			return b - (1-2*s)*b*(1-b)
		}
		d := float32(math.Sqrt(float64(b)))
		if b <= 0.25 {
			d = ((16*b-12)*b + 4) * b
		}
		return b + (2*s-1)*(d-b)
	case BlendDifference:
		return max(b-s, s-b)
	case BlendExclusion:
		return b + s - 2*b*s
	}
	return s
}

func hardLight(b, s float32) float32 {
	if s <= 0.5 {
		return b * 2 * s
	}
	t := 2*s - 1
	return b + t - b*t
}

// nonSeparable is section 10.2.
func nonSeparable(b, s [3]float32, mode BlendMode) [3]float32 {
	switch mode {
	case BlendHue:
		return setLum(setSat(s, sat(b)), lum(b))
	case BlendSaturation:
		return setLum(setSat(b, sat(s)), lum(b))
	case BlendColor:
		return setLum(s, lum(b))
	}
	return setLum(b, lum(s))
}

func lum(c [3]float32) float32 { return 0.3*c[0] + 0.59*c[1] + 0.11*c[2] }
func sat(c [3]float32) float32 { return max(c[0], c[1], c[2]) - min(c[0], c[1], c[2]) }

func setLum(c [3]float32, l float32) [3]float32 {
	d := l - lum(c)
	for i := range c {
		c[i] += d
	}
	l = lum(c)
	n, x := min(c[0], c[1], c[2]), max(c[0], c[1], c[2])
	for i := range c {
		if n < 0 {
			c[i] = l + (c[i]-l)*l/(l-n)
		}
		if x > 1 {
			c[i] = l + (c[i]-l)*(1-l)/(x-l)
		}
	}
	return c
}

func setSat(c [3]float32, s float32) [3]float32 {
	n, x := min(c[0], c[1], c[2]), max(c[0], c[1], c[2])
	if x == n {
		return [3]float32{}
	}
	for i := range c {
		c[i] = (c[i] - n) * s / (x - n)
	}
	return c
}
