package codec

import (
	"math"

	"echolane/core/raster"
)

// Colour is what a file says of its colours by code points (ITU-T H.273) instead of by a profile. The zero value
// says nothing, which means sRGB.
type Colour struct {
	Primaries int // section 8.1
	Transfer  int // section 8.2
}

const (
	primaries709, primariesUnspecified, primaries2020, primariesP3 = 1, 2, 9, 12
	transferLinear, transferPQ, transferHLG                        = 8, 16, 18
)

// IsSRGB reports whether pixels are sRGB as they are. Curves that are as good as sRGB's on a screen count as it.
func (c Colour) IsSRGB() bool {
	wide := c.Primaries == primaries2020 || c.Primaries == primariesP3
	return !wide && c.Transfer != transferLinear && !c.HighRange()
}

// HighRange reports whether the transfer function reaches above a screen's white: PQ or HLG.
func (c Colour) HighRange() bool { return c.Transfer == transferPQ || c.Transfer == transferHLG }

// toSRGB are linear matrices from other primaries to those of BT.709, all of D65's white (from the chromaticities
// in H.273, table 2).
var toSRGB = map[int][3][3]float64{
	primaries2020: {{1.660491, -0.587641, -0.072850}, {-0.124550, 1.132900, -0.008349}, {-0.018151, -0.100579, 1.118730}},
	primariesP3:   {{1.224940, -0.224940, 0}, {-0.042057, 1.042057, 0}, {-0.019638, -0.078636, 1.098274}},
}

// referenceWhite is how bright a page's white is taken to be, in cd/m² (ITU-R BT.2408, section 2).
const referenceWhite = 203

// mastered is how bright a high-range picture is taken to get, in cd/m².
const mastered = 1000

// to2020 are linear matrices from other primaries to those of BT.2020.
var to2020 = map[int][3][3]float64{
	primaries709: {{0.627404, 0.329283, 0.043313}, {0.069097, 0.919540, 0.011362}, {0.016391, 0.088013, 0.895595}},
	primariesP3:  {{0.753833, 0.198597, 0.047570}, {0.045744, 0.941777, 0.012479}, {-0.001210, 0.017602, 0.983609}},
}

// luminance2020 are the shares of BT.2020's primaries in luminance (BT.2020, table 4).
var luminance2020 = [3]float64{0.2627, 0.6780, 0.0593}

// linear is the light of a sample of 0–1, 1 for a page's white. Of HLG it is the scene's, 1 for the most.
func (c Colour) linear(v float64) float64 {
	switch c.Transfer {
	case transferLinear:
		return v
	case transferPQ: // SMPTE ST 2084, as in BT.2100 table 4
		const m1, m2, c1, c2, c3 = 2610.0 / 16384, 2523.0 / 4096 * 128, 3424.0 / 4096, 2413.0 / 4096 * 32, 2392.0 / 4096 * 32
		p := math.Pow(v, 1/m2)
		return 10000 * math.Pow(math.Max(p-c1, 0)/(c2-c3*p), 1/m1) / referenceWhite
	case transferHLG: // BT.2100 table 5
		const a, b, cc = 0.17883277, 0.28466892, 0.55991073
		e := v * v / 3
		if v > 0.5 {
			e = (math.Exp((v-cc)/a) + b) / 12
		}
		return e
	}
	if v <= 0.04045 {
		return v / 12.92
	}
	return math.Pow((v+0.055)/1.055, 2.4)
}

// toned is how much of light that is v times a page's white is shown on a screen that shows no more than white: half of it up
// to white, so that there is room for what is brighter, then ever less, up to what a display of 1000 cd/m² shows. Chromium does so;
// between, it is within two of 255 steps of this curve (cubic in the logarithms).
func toned(v float64) float64 {
	const most, from, to = mastered / referenceWhite * 1.0, -0.2, -0.7 // slopes of the logarithm at its ends
	switch {
	case v <= 1:
		return 0.5
	case v >= most:
		return 1 / v
	}
	d := math.Log2(most)
	t := math.Log2(v) / d
	u := 1 - t
	return math.Exp2(-(u*u*(1+2*t) + t*t*(3-2*t)*d) + d*(u*u*t*from-t*t*u*to))
}

func encoded(v float64) float64 {
	v = math.Min(1, math.Max(0, v))
	if v <= 0.0031308 {
		return 12.92 * v
	}
	return 1.055*math.Pow(v, 1/2.4) - 0.055
}

// Range names a high range: PQ or HLG, "" for none.
func (c Colour) Range() string {
	switch c.Transfer {
	case transferPQ:
		return "PQ"
	case transferHLG:
		return "HLG"
	}
	return ""
}

// Deep is a picture of W×H pixels of four 16-bit samples, R G B A, straight.
type Deep struct {
	Pix  []uint16
	W, H int
}

// NewDeep makes one.
func NewDeep(w, h int) *Deep { return &Deep{make([]uint16, 4*w*h), w, h} }

// converter is a table of a transfer function with a matrix behind it.
type converter struct {
	light  []float64 // by sample value
	matrix [3][3]float64
	high   bool
	hlg    bool          // light is the scene's
	wide   [3][3]float64 // to BT.2020, where light beyond white is judged
	out    [4096]uint8   // sRGB by light, for 0–1
}

func (c Colour) converter(levels int) *converter {
	k := &converter{light: make([]float64, levels), matrix: [3][3]float64{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}}, high: c.HighRange(), hlg: c.Transfer == transferHLG}
	k.wide = k.matrix
	if m, ok := to2020[c.Primaries]; ok {
		k.wide = m
	} else if c.Primaries != primaries2020 {
		k.wide = to2020[primaries709]
	}
	if m, ok := toSRGB[c.Primaries]; ok {
		k.matrix = m
	}
	for i := range k.light {
		k.light[i] = c.linear(float64(i) / float64(levels-1))
	}
	for i := range k.out {
		// Evenly spaced in the square root, where dark steps are fine enough.
		root := float64(i) / float64(len(k.out)-1)
		k.out[i] = uint8(encoded(root*root)*255 + 0.5)
	}
	return k
}

func (k *converter) pixel(to []uint8, r, g, b float64) {
	in := [3]float64{r, g, b}
	if k.high { // by the brightest channel, so that hues stay
		top, luminance := 0.0, 0.0
		for i, row := range k.wide {
			w := row[0]*in[0] + row[1]*in[1] + row[2]*in[2]
			top, luminance = math.Max(top, w), luminance+luminance2020[i]*w
		}
		f := 1.0
		if k.hlg && luminance > 0 { // the system's gamma for a display of 1000 cd/m² (BT.2100, table 5)
			f = math.Pow(luminance, 0.2) * mastered / referenceWhite
		}
		f *= toned(top * f)
		in[0], in[1], in[2] = in[0]*f, in[1]*f, in[2]*f
	}
	var v [3]float64
	for i, row := range k.matrix {
		v[i] = row[0]*in[0] + row[1]*in[1] + row[2]*in[2]
	}
	for i := range v {
		to[i] = k.out[int(math.Sqrt(math.Min(1, math.Max(0, v[i])))*float64(len(k.out)-1)+0.5)]
	}
}

// ToSRGB brings the picture to 8-bit sRGB, what is brighter than a screen's white toned down.
func (d *Deep) ToSRGB(c Colour) *raster.RGBA {
	k := c.converter(1 << 16)
	p := raster.PooledRGBA(d.W, d.H)
	for y := range d.H {
		row, from := p.Row(y), d.Pix[4*y*d.W:][:4*d.W]
		for i := 0; i < len(from); i += 4 {
			k.pixel(row[i:i+3:i+3], k.light[from[i]], k.light[from[i+1]], k.light[from[i+2]])
			row[i+3] = uint8((uint32(from[i+3])*255 + 32767) / 65535)
		}
	}
	p.FindOpaque()
	return p
}

// Convert brings straight 8-bit pixels of these colours to sRGB.
func (c Colour) Convert(p *raster.RGBA) {
	k := c.converter(256)
	for y := range p.H {
		row := p.Row(y)
		for i := 0; i+3 < len(row); i += 4 {
			k.pixel(row[i:i+3:i+3], k.light[row[i]], k.light[row[i+1]], k.light[row[i+2]])
		}
	}
}
