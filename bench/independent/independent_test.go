package independent

import (
	"math"
	"math/rand/v2"
	"testing"
)

const side = 192 // so that the smallest of five sizes still has twelve samples a side

func filled(v func(x, y int) float64) []float64 {
	out := make([]float64, side*side)
	for i := range out {
		out[i] = v(i%side, i/side)
	}
	return out
}

func noisy(seed uint64, around []float64, much float64) []float64 {
	r := rand.New(rand.NewPCG(seed, 1))
	out := make([]float64, len(around))
	for i, v := range around {
		out[i] = v + much*r.NormFloat64()
	}
	return out
}

var waves = filled(func(x, y int) float64 { return 128 + 60*math.Sin(float64(x)/5)*math.Cos(float64(y)/9) })

// measures are what each gives for two pictures, the more the more alike.
var measures = map[string]func(a, b []float64) float64{
	"SSIM":       func(a, b []float64) float64 { s, _ := ofLuma(a, side, side).Structure(b); return s },
	"MS-SSIM":    func(a, b []float64) float64 { _, m := ofLuma(a, side, side).Structure(b); return m },
	"PSNR-HVS-M": func(a, b []float64) float64 { return ofLuma(a, side, side).PSNRHVSM(b) },
}

func TestLuma(t *testing.T) {
	pix := []uint8{255, 0, 0, 255, 0, 255, 0, 255, 9, 9, 9, 9, 0, 0, 255, 255, 255, 255, 255, 255}
	for i, want := range []float64{76.245, 149.685, 29.07, 255} { // two a row, of rows of three pixels
		if got := Luma(pix, 12, 2, 2)[i]; math.Abs(got-want) > 1e-9 {
			t.Errorf("luma %d is %v, want %v", i, got, want)
		}
	}
}

// Equal pictures are as alike as can be, and what is more disturbed is less alike, whichever comes first.
func TestMoreNoiseIsLessAlike(t *testing.T) {
	for name, of := range measures {
		before := of(waves, waves)
		if name != "PSNR-HVS-M" && math.Abs(before-1) > 1e-9 || before < 1-1e-9 {
			t.Errorf("%s of a picture with itself is %v", name, before)
		}
		for _, much := range []float64{1, 3, 9, 27} {
			other := noisy(7, waves, much)
			got, back := of(waves, other), of(other, waves)
			if got >= before || math.IsNaN(got) {
				t.Errorf("%s with noise of %v is %v, after %v", name, much, got, before)
			}
			if math.Abs(got-back) > 1e-9 {
				t.Errorf("%s is %v one way and %v the other", name, got, back)
			}
			before = got
		}
	}
}

// Of two plain pictures structural similarity is only its term of luminance, which is known.
func TestPlainPictures(t *testing.T) {
	const a, b, c1 = 100.0, 110.0, 6.5025
	plain := func(v float64) []float64 { return filled(func(int, int) float64 { return v }) }
	want := (2*a*b + c1) / (a*a + b*b + c1)
	if got := measures["SSIM"](plain(a), plain(b)); math.Abs(got-want) > 1e-9 {
		t.Errorf("SSIM %v, want %v", got, want)
	}
	if got := measures["MS-SSIM"](plain(a), plain(b)); math.Abs(got-math.Pow(want, 0.1333)) > 1e-9 {
		t.Errorf("MS-SSIM %v, want %v", got, math.Pow(want, 0.1333))
	}
	// A shift of ten is eighty in the first of 64 coefficients, of whose table the entry is 16.
	if got, want := measures["PSNR-HVS-M"](plain(a), plain(b)), 10*math.Log10(255*255*64/math.Pow(80*seenOfStep/16, 2)); math.Abs(got-want) > 1e-6 {
		t.Errorf("PSNR-HVS-M %v, want %v", got, want)
	}
}

// What the eye sees less of counts less, in PSNR-HVS-M; and in MS-SSIM what is fine counts less than in SSIM.
func TestFineErrorsCountLess(t *testing.T) {
	add := func(much float64, wave func(x, y int) float64) []float64 {
		out := make([]float64, len(waves))
		for i, v := range waves {
			out[i] = v + much*wave(i%side, i/side)
		}
		return out
	}
	fine := add(10, func(x, y int) float64 { return 1 - 2*float64((x+y)&1) })
	coarse := add(10, func(x, y int) float64 { return 1 - 2*float64((x/8+y/8)&1) })
	if f, c := measures["PSNR-HVS-M"](waves, fine), measures["PSNR-HVS-M"](waves, coarse); f < c+6 {
		t.Errorf("PSNR-HVS-M of a fine error is %.1f dB, of a coarse one %.1f", f, c)
	}
	lost := func(of string, b []float64) float64 { return 1 - measures[of](waves, b) }
	if f, c := lost("MS-SSIM", fine)/lost("SSIM", fine), lost("MS-SSIM", coarse)/lost("SSIM", coarse); f >= c {
		t.Errorf("against SSIM, MS-SSIM loses %.2f by what is fine and %.2f by what is coarse", f, c)
	}
}

// What texture hides counts less in PSNR-HVS-M than what is added to a plain block.
func TestTextureHides(t *testing.T) {
	rough := noisy(3, filled(func(int, int) float64 { return 128 }), 25)
	plain := filled(func(int, int) float64 { return 128 })
	in := measures["PSNR-HVS-M"](rough, noisy(4, rough, 4))
	if on := measures["PSNR-HVS-M"](plain, noisy(4, plain, 4)); in < on+3 {
		t.Errorf("noise in texture is %.1f dB, on plain ground %.1f", in, on)
	}
}

// Butteraugli sees nothing between equal pictures, and the more the more one is disturbed.
func TestButteraugli(t *testing.T) {
	rgba := func(v []float64) []uint8 {
		out := make([]uint8, 4*len(v))
		for i, s := range v {
			s := uint8(math.Max(0, math.Min(255, s)))
			copy(out[4*i:], []uint8{s, s, s, 255})
		}
		return out
	}
	of, before := Of(rgba(waves), 4*side, side, side), 0.0
	for _, much := range []float64{0, 1, 3, 9, 27} {
		d, err := of.Butteraugli(rgba(noisy(7, waves, much)), 4*side)
		if err != nil || d <= before && much > 0 || much == 0 && d != 0 {
			t.Errorf("noise of %v is %v apart, after %v (%v)", much, d, before, err)
		}
		before = d
	}
	if _, err := of.Butteraugli(nil, 4*side); err == nil {
		t.Error("a picture without pixels was compared")
	}
}
