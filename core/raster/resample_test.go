package raster

import (
	"bytes"
	"math"
	"math/rand/v2"
	"slices"
	"testing"
)

// noisyPlane is full of the values that break filters: extremes, next to each other.
func noisyPlane(r *rand.Rand, w, h, channels int) Plane {
	p := Plane{Pix: make([]uint8, w*h*channels), Stride: w * channels, W: w, H: h}
	for i := range p.Pix {
		switch r.IntN(4) {
		case 0:
			p.Pix[i] = 0
		case 1:
			p.Pix[i] = 255
		default:
			p.Pix[i] = uint8(r.UintN(256))
		}
	}
	return p
}

func randomAxis(r *rand.Rand, n int) Axis {
	a := Axis{Len: 1 + r.IntN(2*n)}
	from, to := r.Float64()*float64(n)*0.3, float64(n)*(0.7+0.3*r.Float64())
	a.From, a.Step = from, (to-from)/float64(a.Len)
	if r.IntN(3) == 0 {
		a.From, a.Step = to, -a.Step
	}
	return a
}

func exactLanczos(x float64) float64 {
	px := math.Pi * x
	switch {
	case x == 0:
		return 1
	case math.Abs(x) >= lobes:
		return 0
	}
	return lobes * math.Sin(px) * math.Sin(px/lobes) / (px * px)
}

// reference is the same sum in float64, with weights unrounded.
func reference(src Plane, x, y Axis, channels int, gain, offset float64) []float64 {
	weigh := func(a Axis, i, n int) ([]float64, int) {
		scale := math.Max(1, math.Abs(a.Step))
		c := a.From + (float64(i)+0.5)*a.Step
		lo, hi := int(math.Floor(c-3*scale)), int(math.Ceil(c+3*scale))
		w := make([]float64, n)
		var sum float64
		for j := lo; j <= hi; j++ {
			v := exactLanczos((float64(j) + 0.5 - c) / scale)
			w[min(max(j, 0), n-1)] += v
			sum += v
		}
		for j := range w {
			w[j] /= sum
		}
		return w, lo
	}
	out := make([]float64, x.Len*y.Len*channels)
	for j := range y.Len {
		wy, _ := weigh(y, j, src.H)
		for i := range x.Len {
			wx, _ := weigh(x, i, src.W)
			for c := range channels {
				var s float64
				for sy, a := range wy {
					if a == 0 {
						continue
					}
					for sx, b := range wx {
						if b != 0 {
							s += a * b * float64(src.Pix[sy*src.Stride+sx*channels+c])
						}
					}
				}
				out[(j*x.Len+i)*channels+c] = math.Min(255, math.Max(0, s*gain+offset))
			}
		}
	}
	return out
}

func TestResamplingIsWithinALevelOfFloat64(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	var worst float64
	for range 60 {
		channels := 1 + 3*r.IntN(2)
		w, h := 1+r.IntN(70), 1+r.IntN(50)
		src := noisyPlane(r, w, h, channels)
		x, y := randomAxis(r, w), randomAxis(r, h)
		if x.boxFor() > 1 || y.boxFor() > 1 {
			continue
		}
		gain, offset := 1.0, 0.0
		if channels == 1 && r.IntN(2) == 0 {
			gain, offset = 219.0/255, 16
		}
		got := make([]uint8, x.Len*y.Len*channels)
		resample(got, x.Len*channels, src, x, y, channels, gain, offset)
		for i, want := range reference(src, x, y, channels, gain, offset) {
			if d := math.Abs(float64(got[i]) - want); d > worst {
				worst = d
			}
		}
	}
	t.Logf("largest error %.3f levels", worst)
	if worst > 0.6 { // 0.5 is rounding itself
		t.Errorf("largest error %.3f levels, want at most 0.6", worst)
	}
}

func TestVectorsEqualPlain(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for range 3000 {
		checkVectors(t, r)
	}
}

func FuzzVectorsEqualPlain(f *testing.F) {
	f.Add(uint64(1))
	f.Fuzz(func(t *testing.T, seed uint64) { checkVectors(t, rand.New(rand.NewPCG(seed, 0))) })
}

func checkVectors(t *testing.T, r *rand.Rand) {
	t.Helper()
	if !hasVectors {
		t.Skip("this processor has no vectors that we use")
	}
	channels := 1 + 3*r.IntN(2)
	w, h := 1+r.IntN(200), 1+r.IntN(40)
	src := noisyPlane(r, w, h, channels)
	x, y := randomAxis(r, w), randomAxis(r, h)
	if x.boxFor() > 1 || y.boxFor() > 1 {
		return
	}
	gain, round := 0.5+r.Float64(), int32(r.IntN(1<<24))
	stride := x.Len*channels + r.IntN(5)
	plain, fast := make([]uint8, stride*y.Len), make([]uint8, stride*y.Len)
	bx, by := newBank(x, w, gain), newBank(y, h, 1)
	resamplePlain(plain, stride, src, bx, by, channels, round)
	resampleVectors(fast, stride, src, bx, by, channels, round)
	for i := range plain {
		if plain[i] != fast[i] {
			t.Fatalf("%d channels, %d×%d to %d×%d (%+v, %+v): byte %d of row %d is %d plainly, %d with vectors",
				channels, w, h, x.Len, y.Len, x, y, i%stride, i/stride, plain[i], fast[i])
		}
	}
}

func TestFlatStaysFlat(t *testing.T) {
	src := Plane{Pix: bytes.Repeat([]byte{201}, 333*77), Stride: 333, W: 333, H: 77}
	for _, w := range []int{1, 2, 7, 31, 32, 100, 332, 333, 500} {
		got := ResamplePlane(src, Axis{0, 333 / float64(w), w}, Axis{0, 77.0 / 13, 13}, 1, 0)
		for y := range got.H {
			for _, v := range got.Row(y) {
				if v != 201 {
					t.Fatalf("width %d: a flat 201 became %d", w, v)
				}
			}
		}
	}
}

func TestMirroredAxisMirrors(t *testing.T) {
	src := noisyPlane(rand.New(rand.NewPCG(3, 3)), 100, 40, 1)
	forward := ResamplePlane(src, Axis{0, 100.0 / 37, 37}, Axis{0, 2, 20}, 1, 0)
	back := ResamplePlane(src, Axis{100, -100.0 / 37, 37}, Axis{0, 2, 20}, 1, 0)
	for y := range 20 {
		for x := range 37 {
			if a, b := int(forward.Row(y)[x]), int(back.Row(y)[36-x]); a-b > 1 || b-a > 1 {
				t.Fatalf("(%d,%d): %d mirrored is %d", x, y, a, b)
			}
		}
	}
}

func TestGreatReductionsKeepTheMean(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 9))
	src := &RGBA{Pix: make([]uint8, 4*4001*900), Stride: 4 * 4001, W: 4001, H: 900, Opaque: true}
	for i := range src.Pix {
		src.Pix[i] = uint8(100 + r.IntN(21))
	}
	got := ResampleRGBA(src, Axis{0, 4001.0 / 10, 10}, Axis{0, 300, 3})
	for i, v := range got.Pix {
		if v < 109 || v > 111 {
			t.Fatalf("sample %d is %d, want the mean 110", i, v)
		}
	}
}

func TestUnscaledIsACopy(t *testing.T) {
	src := noisyPlane(rand.New(rand.NewPCG(4, 4)), 50, 30, 1)
	got := ResamplePlane(src, Axis{7, 1, 20}, Axis{3, 1, 10}, 1, 0)
	for y := range 10 {
		if !bytes.Equal(got.Row(y), src.Row(y + 3)[7:27]) {
			t.Fatalf("row %d isn't the source's", y)
		}
	}
}

func TestAlphaArithmetic(t *testing.T) {
	for v := range uint32(255*255 + 1) {
		if got, want := div255(v), uint8(math.Round(float64(v)/255)); got != want {
			t.Fatalf("div255(%d) = %d, want %d", v, got, want)
		}
	}
	p := &RGBA{Pix: []byte{200, 100, 50, 128, 9, 9, 9, 0, 1, 2, 3, 255}, Stride: 12, W: 3, H: 1}
	p.Premultiply()
	if want := []byte{100, 50, 25, 128, 0, 0, 0, 0, 1, 2, 3, 255}; !bytes.Equal(p.Pix, want) {
		t.Errorf("premultiplied %v, want %v", p.Pix, want)
	}
	p.Flatten(255, 255, 255)
	if want := []byte{227, 177, 152, 255, 255, 255, 255, 255, 1, 2, 3, 255}; !bytes.Equal(p.Pix, want) {
		t.Errorf("flattened %v, want %v", p.Pix, want)
	}
}

func benchmarkRGBA(b *testing.B, w, h, tw, th int) {
	src := NewRGBA(w, h)
	src.Opaque = true
	r := rand.New(rand.NewPCG(1, 1))
	for i := range src.Pix {
		src.Pix[i] = uint8(r.UintN(256))
	}
	b.SetBytes(int64(w * h))
	for b.Loop() {
		ResampleRGBA(src, Axis{0, float64(w) / float64(tw), tw}, Axis{0, float64(h) / float64(th), th})
	}
}

func BenchmarkResampleRGBA2560to640(b *testing.B) { benchmarkRGBA(b, 2560, 1600, 640, 400) }
func BenchmarkResampleRGBA1280to640(b *testing.B) { benchmarkRGBA(b, 1280, 800, 640, 400) }

func TestNearestTakesThePixelThatAMiddleFallsInto(t *testing.T) {
	src := NewRGBA(4, 2)
	src.Opaque = true
	for i := range 8 {
		src.Pix[4*i], src.Pix[4*i+3] = uint8(10*i), 255
	}
	for name, c := range map[string]struct {
		x, y Axis
		want []uint8
	}{
		"as it is":            {Axis{Step: 1, Len: 4}, Axis{Step: 1, Len: 2}, []uint8{0, 10, 20, 30, 40, 50, 60, 70}},
		"mirrored":            {Axis{From: 4, Step: -1, Len: 4}, Axis{Step: 1, Len: 1}, []uint8{30, 20, 10, 0}},
		"twice as wide":       {Axis{Step: 0.5, Len: 8}, Axis{Step: 1, Len: 1}, []uint8{0, 0, 10, 10, 20, 20, 30, 30}},
		"a middle on an edge": {Axis{Step: 2, Len: 2}, Axis{Step: 2, Len: 1}, []uint8{0, 20}},
		"beyond the edges":    {Axis{From: -1, Step: 3, Len: 3}, Axis{Step: 1, Len: 1}, []uint8{0, 30, 30}},
		"three times as tall": {Axis{Step: 4, Len: 1}, Axis{Step: 1.0 / 3, Len: 6}, []uint8{10, 10, 10, 50, 50, 50}},
	} {
		got := NearestRGBA(src, c.x, c.y)
		for i, want := range c.want {
			if got.Row(i / c.x.Len)[4*(i%c.x.Len)] != want {
				t.Errorf("%s: pixel %d is %d, want %d", name, i, got.Row(i / c.x.Len)[4*(i%c.x.Len)], want)
			}
		}
		if got.W*got.H != len(c.want) || !got.Opaque {
			t.Errorf("%s: %d × %d, opaque %t", name, got.W, got.H, got.Opaque)
		}
	}
	// Turned by a right angle through Transform's way, nothing is mixed.
	turned := TransformNearest(src, 2, 4, Turning{C: 1, B: -1, F: 2})
	for i, want := range []uint8{40, 0, 50, 10, 60, 20, 70, 30} {
		if got := turned.Row(i / 2)[4*(i%2)]; got != want {
			t.Errorf("turned: pixel %d is %d, want %d", i, got, want)
		}
	}
}

// Weights that are taken over from another sample are its own.
func TestWeightsAreTheSameWhereverTheyComeFrom(t *testing.T) {
	for _, a := range []Axis{{0, 2, 40}, {0.5, 1.5, 50}, {3, 0.75, 80}, {90, -2, 40}, {0, 1.9, 45}, {-2.25, 2.25, 40}, {0.1, 2, 40}} {
		const n, gain = 91, 1.16
		all := newBank(a, n, gain)
		for i := range a.Len {
			one := newBank(Axis{From: a.From + float64(i)*a.Step, Step: a.Step, Len: 1}, n, gain)
			if one.start[0] != all.start[i] || !slices.Equal(one.weights, all.weights[i*all.taps:(i+1)*all.taps]) {
				t.Errorf("%+v: sample %d has %v from %d, by itself %v from %d", a, i, all.weights[i*all.taps:(i+1)*all.taps], all.start[i], one.weights, one.start[0])
				break
			}
		}
		for i, start := range all.start {
			if int(start) < all.lo || int(start)+all.taps > all.hi {
				t.Errorf("%+v: sample %d is outside of %d to %d", a, i, all.lo, all.hi)
			}
		}
	}
}
