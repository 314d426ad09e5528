package codec

import (
	"testing"

	"echolane/core/raster"
)

func TestWideColoursComeToSRGB(t *testing.T) {
	one := func(c Colour, r, g, b uint8) [3]uint8 {
		p := &raster.RGBA{Pix: []uint8{r, g, b, 255}, Stride: 4, W: 1, H: 1, Opaque: true}
		c.Convert(p)
		return [3]uint8(p.Pix[:3])
	}
	p3 := Colour{Primaries: primariesP3, Transfer: 13}
	for _, c := range []struct {
		name       string
		colour     Colour
		from, want [3]uint8
	}{
		{"white stays", p3, [3]uint8{255, 255, 255}, [3]uint8{255, 255, 255}},
		{"grey stays", p3, [3]uint8{119, 119, 119}, [3]uint8{119, 119, 119}},
		{"black stays", p3, [3]uint8{}, [3]uint8{}},
		{"P3's red lies beyond and is cut", p3, [3]uint8{255, 0, 0}, [3]uint8{255, 0, 0}},
		{"a red within becomes stronger", p3, [3]uint8{200, 60, 60}, [3]uint8{218, 42, 52}},
		{"P3's green", p3, [3]uint8{100, 200, 100}, [3]uint8{45, 203, 86}},
		{"BT.2020's grey", Colour{Primaries: primaries2020, Transfer: 1}, [3]uint8{80, 80, 80}, [3]uint8{80, 80, 80}},
		{"linear light", Colour{Primaries: 1, Transfer: transferLinear}, [3]uint8{55, 55, 55}, [3]uint8{128, 128, 128}},
	} {
		got := one(c.colour, c.from[0], c.from[1], c.from[2])
		for i := range got {
			if d := int(got[i]) - int(c.want[i]); d > 2 || d < -2 {
				t.Errorf("%s: %v became %v, want %v", c.name, c.from, got, c.want)
				break
			}
		}
	}
	for _, c := range []Colour{{}, {1, 13}, {1, 1}, {2, 2}, {1, 6}} {
		if !c.IsSRGB() || c.HighRange() {
			t.Errorf("%+v isn't taken for sRGB", c)
		}
	}
	for _, c := range []Colour{p3, {9, 16}, {1, 8}, {9, 18}} {
		if c.IsSRGB() {
			t.Errorf("%+v is taken for sRGB", c)
		}
	}
}

func TestHighRangeIsTonedDown(t *testing.T) {
	for name, c := range map[string]struct {
		colour Colour
		white  float64 // the sample of a page's white
	}{
		"PQ":  {Colour{primaries2020, transferPQ}, 0.5807}, // 203 cd/m² (BT.2408, table 1)
		"HLG": {Colour{primaries2020, transferHLG}, 0.75},
	} {
		grey := func(v float64) uint8 {
			d := NewDeep(1, 1)
			s := uint16(v*65535 + 0.5)
			d.Pix[0], d.Pix[1], d.Pix[2], d.Pix[3] = s, s, s, 65535
			p := d.ToSRGB(c.colour)
			if p.Pix[0] != p.Pix[1] || p.Pix[0] != p.Pix[2] || !p.Opaque {
				t.Fatalf("%s: a grey became %v", name, p.Pix)
			}
			return p.Pix[0]
		}
		last := uint8(0)
		for v := 0.0; v <= 1; v += 0.01 {
			g := grey(v)
			if g < last {
				t.Errorf("%s: brighter samples come out darker at %.2f", name, v)
			}
			last = g
		}
		if w := grey(c.white); w < 184 || w > 192 { // half of the light
			t.Errorf("%s: a page's white comes out as %d", name, w)
		}
		if grey(0) != 0 || grey(1) < 250 {
			t.Errorf("%s: black is %d, the brightest %d", name, grey(0), grey(1))
		}
	}
	// A bright colour keeps its hue: its channels keep their order and none is cut off alone.
	d := NewDeep(1, 1)
	copy(d.Pix, []uint16{48000, 40000, 30000, 65535})
	if p := d.ToSRGB(Colour{1, transferPQ}); !(p.Pix[0] > p.Pix[1] && p.Pix[1] > p.Pix[2]) {
		t.Errorf("a bright orange became %v", p.Pix)
	}
}
