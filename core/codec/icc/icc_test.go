package icc

import (
	"encoding/binary"
	"math"
	"testing"

	"echolane/core/raster"
	"echolane/internal/cmemory"
)

// profile is one of version 2 (ICC.1:2001-04, section 6.3): the columns of its matrix to D50's XYZ, and a gamma for all; grey
// where there are no columns.
func profile(gamma float64, columns ...[3]float64) []byte {
	space := "RGB "
	if len(columns) == 0 {
		space = "GRAY"
	}
	curve := append([]byte("curv\x00\x00\x00\x00\x00\x00\x00\x01"), byte(int(gamma*256)>>8), byte(int(gamma*256)), 0, 0)
	xyz := func(v [3]float64) []byte {
		out := []byte("XYZ \x00\x00\x00\x00")
		for _, c := range v {
			out = binary.BigEndian.AppendUint32(out, uint32(int32(math.Round(c*65536))))
		}
		return out
	}
	type tag struct {
		name string
		data []byte
	}
	tags := []tag{{"wtpt", xyz([3]float64{0.9642, 1, 0.8249})}}
	for i, v := range columns {
		tags = append(tags, tag{string("rgb"[i]) + "XYZ", xyz(v)}, tag{string("rgb"[i]) + "TRC", curve})
	}
	if len(columns) == 0 {
		tags = append(tags, tag{"kTRC", curve})
	}
	out := make([]byte, 128, 1024)
	copy(out[8:], "\x02\x10\x00\x00mntr"+space+"XYZ ")
	copy(out[36:], "acsp")
	copy(out[68:], xyz([3]float64{0.9642, 1, 0.8249})[8:])
	out = binary.BigEndian.AppendUint32(out, uint32(len(tags)))
	at := len(out) + 12*len(tags)
	var data []byte
	for _, t := range tags {
		out = append(out, t.name...)
		out = binary.BigEndian.AppendUint32(out, uint32(at+len(data)))
		out = binary.BigEndian.AppendUint32(out, uint32(len(t.data)))
		data = append(data, t.data...)
	}
	out = append(out, data...)
	binary.BigEndian.PutUint32(out, uint32(len(out)))
	return out
}

var (
	srgb = [][3]float64{{0.4360, 0.2225, 0.0139}, {0.3851, 0.7169, 0.0971}, {0.1431, 0.0606, 0.7141}}
	wide = [][3]float64{{0.5151, 0.2412, -0.0011}, {0.2920, 0.6922, 0.0419}, {0.1571, 0.0666, 0.7841}} // P3's primaries
)

// row is one of pixels, four bytes each.
func row(opaque bool, pix ...uint8) *raster.RGBA {
	p := raster.NewRGBA(len(pix)/4, 1)
	copy(p.Pix, pix)
	p.Opaque = opaque
	return p
}

func applied(t *testing.T, profile []byte, cmyk bool, p *raster.RGBA) []uint8 {
	t.Helper()
	x := New(profile, cmyk)
	if x == nil {
		t.Fatal("the profile isn't taken")
	}
	defer x.Close()
	x.Apply(p)
	return p.Pix[:4*p.W]
}

func TestWideColoursComeOutStronger(t *testing.T) {
	got := applied(t, profile(2.2, wide...), false, row(true, 200, 60, 60, 255, 60, 200, 60, 255, 128, 128, 128, 255))
	if got[0] < 205 || got[1] > 56 || got[5] < 200 || got[4] > 45 {
		t.Errorf("a red and a green beyond sRGB become %v", got[:8])
	}
	for _, v := range got[8:11] { // greys stay grey
		if v < 126 || v > 130 {
			t.Errorf("grey becomes %v", got[8:])
		}
	}
}

func TestGreyProfilesAndGammas(t *testing.T) {
	// 128 of gamma 1 is half of the light, which is 188 in sRGB (IEC 61966-2-1).
	if got := applied(t, profile(1), false, row(true, 128, 128, 128, 255)); got[0] < 186 || got[0] > 190 || got[0] != got[1] || got[1] != got[2] {
		t.Errorf("grey by a linear profile becomes %v", got)
	}
	if got := applied(t, profile(1, srgb...), false, row(true, 128, 128, 128, 255)); got[0] < 186 || got[0] > 190 {
		t.Errorf("linear colours become %v", got)
	}
}

func TestAlphaStays(t *testing.T) {
	if got := applied(t, profile(1.8, wide...), false, row(false, 9, 80, 200, 17, 255, 255, 255, 0)); got[3] != 17 || got[7] != 0 {
		t.Errorf("alpha becomes %v", got)
	}
	if got := applied(t, profile(1.8, wide...), false, row(true, 9, 80, 200, 17)); got[3] != 255 {
		t.Errorf("what is opaque becomes %v", got)
	}
}

func TestWhichProfilesChangeNothing(t *testing.T) {
	for _, c := range []struct {
		name string
		data []byte
		want bool
	}{{"sRGB with a gamma of 2.2", profile(2.2, srgb...), false}, {"P3", profile(2.2, wide...), false}} {
		x := New(c.data, false)
		if got := x.IsIdentity(); got != c.want {
			t.Errorf("%s: %v", c.name, got)
		}
		x.Close()
	}
}

// A profile that is broken, or for another kind of pixel, is ignored; and all that is held is given back.
func TestBrokenProfilesAreIgnored(t *testing.T) {
	good := profile(2.2, srgb...)
	if New(good, true) != nil || New(nil, false) != nil || New(make([]byte, 4000), false) != nil {
		t.Error("a profile for something else is taken")
	}
	cmemory.Grown(t, 100_000, func() {
		for round := range 4 {
			for k := range 32 {
				if x := New(good[:len(good)*k/32], false); x != nil {
					t.Errorf("%d of 32 parts of a profile are taken", k)
					x.Close()
				}
				bent := append([]byte(nil), good...)
				bent[(k*41+round*7)%len(bent)] ^= 1 << (round % 8)
				if x := New(bent, false); x != nil {
					p := row(true, 1, 2, 3, 255)
					x.Apply(p)
					x.Close()
				}
			}
		}
	})
}

func TestInksWithoutAProfile(t *testing.T) {
	p := row(true, 255, 255, 255, 255, 0, 255, 255, 255, 255, 255, 255, 0, 255, 128, 255, 128)
	NaiveCMYK(p)
	want := []uint8{255, 255, 255, 255, 0, 255, 255, 255, 0, 0, 0, 255, 128, 64, 128, 255}
	for i, v := range want {
		if p.Pix[i] != v {
			t.Fatalf("inks become %v, want %v", p.Pix[:16], want)
		}
	}
}
