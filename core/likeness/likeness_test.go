package likeness

import (
	"errors"
	"math"
	"math/rand/v2"
	"testing"

	"echolane/core/raster"
)

// meadow has a sky without texture, a textured ground and a hard edge between.
func meadow(w, h int) *raster.RGBA {
	r := rand.New(rand.NewPCG(1, 2))
	p := raster.NewRGBA(w, h)
	p.Opaque = true
	for y := range h {
		for x := range w {
			q := p.Row(y)[4*x:]
			if y < h/2 {
				q[0], q[1], q[2], q[3] = uint8(110+40*y/h), uint8(150+30*y/h), 210, 255
			} else {
				n := r.IntN(60)
				q[0], q[1], q[2], q[3] = uint8(60+n), uint8(110+n), uint8(40+n/2), 255
			}
		}
	}
	return p
}

func changed(p *raster.RGBA, f func(x, y int, q []uint8)) *raster.RGBA {
	c := p.Copy()
	for y := range c.H {
		for x := range c.W {
			f(x, y, c.Row(y)[4*x:4*x+4])
		}
	}
	return c
}

func TestEqualPicturesAreAtNoDistance(t *testing.T) {
	for _, size := range [][2]int{{1, 1}, {3, 9}, {7, 7}, {64, 40}, {333, 77}} {
		p := OfPixels(meadow(size[0], size[1]))
		if d := p.Distance(OfPixels(meadow(size[0], size[1]))); d > 1e-6 || Likeness(d) != 100 {
			t.Errorf("%v: distance %g, likeness %v", size, d, Likeness(d))
		}
	}
}

func TestMoreDamageIsFarther(t *testing.T) {
	p := meadow(200, 120)
	original := OfPixels(p)
	last := 0.0
	for _, n := range []int{2, 5, 10, 20, 40} {
		r := rand.New(rand.NewPCG(7, 7))
		d := original.Distance(OfPixels(changed(p, func(_, _ int, q []uint8) {
			e := r.IntN(2*n+1) - n
			for c := range 3 {
				q[c] = uint8(min(255, max(0, int(q[c])+e)))
			}
		})))
		if d <= last {
			t.Errorf("noise of %d is at %g, less noise at %g", n, d, last)
		}
		last = d
	}
	if last > 1 {
		t.Errorf("the largest distance is %g", last)
	}
}

// The same errors hide in texture and show in a sky.
func TestDamageShowsWhereNothingHidesIt(t *testing.T) {
	p := meadow(200, 120)
	original := OfPixels(p)
	at := func(sky bool) float64 {
		r := rand.New(rand.NewPCG(3, 3))
		return original.Distance(OfPixels(changed(p, func(_, y int, q []uint8) {
			e := r.IntN(13) - 6
			if (y < 60) != sky {
				return
			}
			for c := range 3 {
				q[c] = uint8(min(255, max(0, int(q[c])+e)))
			}
		})))
	}
	if sky, grass := at(true), at(false); sky < 2.5*grass {
		t.Errorf("noise in the sky is at %g, in the grass at %g", sky, grass)
	}
	// Steps in the sky are seen, though each pixel is off by little.
	steps := original.Distance(OfPixels(changed(p, func(_, y int, q []uint8) {
		if y < 60 {
			for c := range 3 {
				q[c] = q[c] / 24 * 24
			}
		}
	})))
	if l := Likeness(steps); l > 80 {
		t.Errorf("a sky in steps has likeness %v", l)
	}
}

func TestColourAndTransparencyCount(t *testing.T) {
	p := meadow(100, 80)
	original := OfPixels(p)
	// Hue alone: luma stays.
	if d := original.Distance(OfPixels(changed(p, func(_, _ int, q []uint8) { q[0], q[2] = q[0]-30, q[2]+uint8(min(45, 255-int(q[2]))) }))); d < 0.005 {
		t.Errorf("another hue is at %g", d)
	}
	clear := changed(p, func(x, _ int, q []uint8) {
		if x < 50 {
			clear4(q)
		}
	})
	clear.Opaque = false
	kept := OfPixels(clear)
	whole := changed(clear, func(x, _ int, q []uint8) { // black where nothing was: equal on black, not on white
		q[3] = 255
	})
	whole.Opaque = true
	if d := kept.Distance(OfPixels(whole)); d < 0.2 {
		t.Errorf("lost transparency is at %g", d)
	}
}

func clear4(q []uint8) { q[0], q[1], q[2], q[3] = 0, 0, 0, 0 }

func TestPlanesAndPixelsAgree(t *testing.T) {
	p := meadow(160, 90)
	planes := p.To420()
	a, b := OfPixels(p), OfPlanes(planes)
	if d := a.Distance(b); d > 0.002 {
		t.Errorf("the same picture in planes is at %g", d)
	}
	if d := b.Distance(OfPlanes(planes.ToLimited())); d > 0.004 {
		t.Errorf("the same planes in limited range are at %g", d)
	}
}

// Colour beyond what red, green and blue can be is cut off where it's shown, which changes luma.
func TestLightnessIsAsShown(t *testing.T) {
	const tile, across = 8, 12
	for _, r := range []raster.Range{raster.Full, raster.Limited} {
		p := raster.New420(tile*across, tile*across, r)
		low, scale := 0.0, 1.0
		if r == raster.Limited {
			low, scale = 16, 255.0/219
		}
		want := map[[2]int]float64{}
		cut := 0
		for j := range across {
			for i := range across {
				luma, cb, cr := 20+(i*37+j*11)%210, 20+(i*53+j*29)%216, 20+(i*17+j*71)%216
				for y := range tile {
					for x := range tile {
						p.Y.Row(j*tile + y)[i*tile+x] = uint8(luma)
						p.Cb.Row((j*tile + y) / 2)[(i*tile+x)/2], p.Cr.Row((j*tile + y) / 2)[(i*tile+x)/2] = uint8(cb), uint8(cr)
					}
				}
				v, b, c := (float64(luma)-low)*scale, float64(cb)-128, float64(cr)-128
				if r == raster.Limited {
					b, c = b*255/224, c*255/224
				}
				in := func(v float64) float64 { return math.Max(0, math.Min(255, v)) }
				shown := 0.299*in(v+1.402*c) + 0.587*in(v-0.344136*b-0.714136*c) + 0.114*in(v+1.772*b)
				if math.Abs(shown-v) > 3 {
					cut++
				}
				want[[2]int{i, j}] = shown
			}
		}
		if cut < across*across/4 {
			t.Fatalf("only %d tiles are cut off", cut)
		}
		light := OfPlanes(p).grounds[0].light[0]
		for at, shown := range want {
			got := float64(light.v[(at[1]*tile+tile/2)*light.w+at[0]*tile+tile/2])
			if a, b := lightness[int(math.Max(0, shown-1.2))], lightness[int(math.Min(255, shown+2.2))]; got < float64(a) || got > float64(b) {
				t.Errorf("%v, range %v: lightness %.1f, want %.1f to %.1f", at, r, got, a, b)
			}
		}
	}
}

func TestLikenessAndItsInverse(t *testing.T) {
	last := 101.0
	for d := 1e-6; d < 1; d *= 1.3 {
		l := Likeness(d)
		if l > last || l < 0 || l > 100 {
			t.Fatalf("likeness of %g is %v after %v", d, l, last)
		}
		last = l
	}
	for l := 1.0; l <= 99; l++ {
		if got := Likeness(DistanceAt(l)); math.Abs(got-l) > 0.01 {
			t.Errorf("likeness %v is distance %g, which is likeness %v", l, DistanceAt(l), got)
		}
	}
}

// anEncoder whose distance falls as an exponential of the setting, and whose bytes grow.
func anEncoder(tries *int, step float64) Encoder {
	return Encoder{Least: 0, Most: 100, Step: step, Try: func(s float64) ([]byte, float64, error) {
		*tries++
		return make([]byte, int(1000*math.Exp(s/25))), 0.2 * math.Exp(-s/22), nil
	}}
}

func TestSearchFindsTheSetting(t *testing.T) {
	for target := 0.19; target > 0.003; target *= 0.8 {
		for _, guess := range []float64{0, 20, 50, 80, 100} {
			tries := 0
			f, err := Search(anEncoder(&tries, 0.5), asked(target), guess, -0.06, 0.02)
			if err != nil {
				t.Fatal(err)
			}
			if math.Abs(Likeness(f.Distance)-Likeness(target)) > 1.1 {
				t.Errorf("target %g from %v: found %g at %v after %v", target, guess, f.Distance, f.Setting, f.Trials)
			}
			if tries > mostTrials || len(f.Trials) != tries {
				t.Errorf("%d encodes, %d told", tries, len(f.Trials))
			}
		}
	}
	// Beyond what the encoder can do the nearest is found.
	tries := 0
	if f, err := Search(anEncoder(&tries, 1), asked(1e-5), 50, -0.06, 0.02); err != nil || f.Setting != 100 {
		t.Errorf("an impossible target ends at %v, %v", f.Setting, err)
	}
}

// Where encodes are light there are more of them, which find what is nearest even where the distance goes up and down.
func TestLightEncodesAreTriedAround(t *testing.T) {
	rough := []float64{0, 0.05, -0.08, 0.03, 0.07, -0.04, -0.06, 0.02}
	within := 0
	for _, light := range []int{0, math.MaxInt} {
		near := 0
		for target := 0.1; target > 0.01; target *= 0.97 {
			tries := 0
			e := anEncoder(&tries, 1)
			smooth := e.Try
			e.Light = light
			e.Try = func(s float64) ([]byte, float64, error) {
				data, far, err := smooth(s)
				return data, far * math.Exp(rough[int(s)%len(rough)]), err
			}
			f, err := Search(e, asked(target), 50, -0.045, 0.01)
			if err != nil {
				t.Fatal(err)
			}
			most := mostTrials
			if light > 0 {
				most *= 2
			}
			if tries > most || tries != len(f.Trials) {
				t.Errorf("%d encodes, at most %d, %d told", tries, most, len(f.Trials))
			}
			if math.Abs(math.Log(f.Distance/target)) < 0.02 {
				near++
			}
		}
		if light == 0 {
			within = near
		} else if near <= within {
			t.Errorf("%d of searches end near with light encodes, %d without", near, within)
		}
	}
	// Of two as far off, the one that is too near is found.
	e := Encoder{Least: 0, Most: 1, Step: 1, Try: func(s float64) ([]byte, float64, error) {
		return []byte{1}, math.Exp(0.1 - 0.2*s), nil
	}}
	if f, err := Search(e, asked(1), 0, -0.2, 0.01); err != nil || f.Setting != 1 {
		t.Errorf("found %v, %v", f, err)
	}
}

// asked is a goal that is known.
func asked(target float64) func() float64 { return func() float64 { return target } }

// Parts may mislead: the whole is looked at, and made once more where that is far off.
func TestAWholeIsMendedWhereItsPartsMisled(t *testing.T) {
	for parts, want := range map[float64]int{50: 1, 51: 1, 70: 2, 30: 2} {
		tries := 0
		target := 0.2 * math.Exp(-50.0/22)
		f, err := Whole(anEncoder(&tries, 0.5), Found{Setting: parts, Trials: []Trial{{Setting: 1}}}, target, -0.05, 0.07)
		if err != nil || tries != want || len(f.Trials) != tries+1 {
			t.Errorf("from %v: %d encodes, want %d; %d told, %v", parts, tries, want, len(f.Trials), err)
		}
		if l, aim := Likeness(f.Distance), Likeness(target); math.Abs(l-aim) > 5 {
			t.Errorf("from %v: likeness %.1f, want %.1f", parts, l, aim)
		}
	}
}

// A whole that comes out much too far at one setting and too near at the others is the latter: only bytes are lost by that.
func TestAWholeIsRatherTooNear(t *testing.T) {
	e := Encoder{Least: 0, Most: 60, Step: 1, Try: func(s float64) ([]byte, float64, error) {
		if s < 30 {
			return []byte{1}, 0.2, nil
		}
		return []byte{1}, 1e-5, nil
	}}
	f, err := Whole(e, Found{Setting: 20}, 0.02, -0.1, 0.1)
	if err != nil || f.Setting < 30 || len(f.Trials) != mostWhole {
		t.Errorf("found %v in %d, %v", f.Setting, len(f.Trials), err)
	}
}

// A glance encodes once where that is near enough, else once more, and a third time where it was far off.
func TestAGlanceIsCorrected(t *testing.T) {
	target := 0.2 * math.Exp(-50.0/22)
	goal := asked(target)
	for guess, want := range map[float64][2]int{50: {1, 0}, 51: {1, 0}, 46: {1, 1}, 56: {1, 1}, 20: {2, 1}, 90: {2, 1}} {
		looked, written := 0, 0
		e := anEncoder(&looked, 0.5)
		plain := e.Try
		write := func(s float64) ([]byte, error) {
			written++
			data, _, err := plain(s)
			looked--
			return data, err
		}
		f, err := Glance(e, write, goal, guess, -0.06, 0.05, 0.5)
		if err != nil || looked != want[0] || written != want[1] || len(f.Trials) != looked+written {
			t.Errorf("from %v: looked at %d, wrote %d more, want %v; %v, %v", guess, looked, written, want, f.Trials, err)
		}
		if math.Abs(f.Setting-50) > 2 || len(f.Data) == 0 || (f.Distance == 0) != (written > 0) {
			t.Errorf("from %v: ends at %v with %d bytes, distance %v", guess, f.Setting, len(f.Data), f.Distance)
		}
		// Where every correction is sure nothing is looked at twice.
		if f, err = Glance(e, write, goal, guess, -0.06, 0.05, math.Inf(1)); err != nil || len(f.Data) == 0 || len(f.Trials) > 2 {
			t.Errorf("from %v: %d bytes after %v, %v", guess, len(f.Data), f.Trials, err)
		}
	}
	broken := errors.New("no encode")
	failing := Encoder{Most: 100, Step: 1, Try: func(float64) ([]byte, float64, error) { return nil, 0, broken }}
	if _, err := Glance(failing, nil, asked(0.01), 50, -0.06, 0.05, 0.5); !errors.Is(err, broken) {
		t.Errorf("without an encode: %v", err)
	}
}

func TestWithinABudget(t *testing.T) {
	for budget := 1100; budget < 50_000; budget = budget * 5 / 4 {
		tries := 0
		e := anEncoder(&tries, 1)
		has, err := Search(e, asked(DistanceAt(85)), 60, -0.05, 0.02)
		if err != nil {
			t.Fatal(err)
		}
		tries = 0
		f, ok, err := Within(e, has, budget)
		if err != nil || !ok || len(f.Data) > budget {
			t.Fatalf("budget %d: %d bytes, ok %v, %v", budget, len(f.Data), ok, err)
		}
		if f.Setting < has.Setting && float64(len(f.Data)) < 0.85*float64(budget) {
			t.Errorf("budget %d: only %d bytes are used, at %v", budget, len(f.Data), f.Setting)
		}
		if tries > 8 {
			t.Errorf("budget %d took %d encodes", budget, tries)
		}
	}
	tries := 0
	e := anEncoder(&tries, 1)
	has, _ := Search(e, asked(0.01), 60, -0.05, 0.02)
	if f, ok, err := Within(e, has, 900); ok || err != nil || len(f.Data) != 1000 {
		t.Errorf("out of reach: ok %v, %d bytes, %v; want the smallest, 1000", ok, len(f.Data), err)
	}
}

// With vectors and without, the bits are the same: variants don't depend on the processor.
func TestVectorsChangeNoBit(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 4))
	for range 200 {
		n, rows, width := 1+r.IntN(70), 1+r.IntN(5), 0
		width = n + r.IntN(9)
		a, b := make([]float32, width*rows+8), make([]float32, width*rows+8)
		for i := range a {
			a[i], b[i] = float32(r.Float64()*100), float32(r.Float64()*100)
			if r.IntN(3) == 0 {
				b[i] = a[i]
			}
		}
		quick, plain := newRuns(n), newRuns(n)
		clear(quick.v)
		clear(plain.v)
		columns(a, b, width, rows, quick, n)
		columnsPlain(a, b, width, rows, plain, 0, n)
		for k := range 5 {
			for i := range n {
				if q, p := quick.of(k)[i], plain.of(k)[i]; q != p {
					t.Fatalf("sum %d of column %d of %d: %v with vectors, %v without", k, i, n, q, p)
				}
			}
		}
		if n < 2 {
			continue
		}
		c := [5]float32{1.0 / 36, c1, c2, hides, 1}
		by, without := newGrid(n-1, 1), newGrid(n-1, 1)
		windows(quick, plain, &by, 0, &c, n-1)
		windowsPlain(quick, plain, &without, 0, &c, 0, n-1)
		for i := range n - 1 {
			if by.lost[i] != without.lost[i] || by.err[i] != without.err[i] || by.masked[i] != without.masked[i] {
				t.Fatalf("window %d of %d: %v, %v, %v with vectors, %v, %v, %v without", i, n-1, by.lost[i], by.err[i], by.masked[i], without.lost[i], without.err[i], without.masked[i])
			}
		}
	}
}

// same tells where vectors and plain code differ, to the bit.
func same(t *testing.T, what string, quick, plain []float32) {
	t.Helper()
	for i := range plain {
		if quick[i] != plain[i] {
			t.Fatalf("%s: %d of %d is %v with vectors, %v without", what, i, len(plain), quick[i], plain[i])
		}
	}
}

func TestViewsAreTheSameWithoutVectors(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 11))
	some := func(n int) []float32 {
		v := make([]float32, n)
		for i := range v {
			v[i] = float32(r.Float64()*240 - 120)
		}
		return v
	}
	for range 200 {
		n := 1 + r.IntN(70)
		quick, plain := make([]float32, n), make([]float32, n)
		a, b, c := some(3*n), some(3*n), some(3*n)
		halvedRow(a, b, quick)
		halvedRowPlain(a, b, plain)
		same(t, "halved", quick, plain)
		smoothed(a, b, c, quick)
		smoothedPlain(a, b, c, plain)
		same(t, "smoothed", quick, plain)
		thirds(a, quick)
		thirdsPlain(a, plain)
		same(t, "thirds", quick, plain)
		var g group
		for k := range g {
			copy(g[k][:], some(8))
		}
		steps, inverse := [64]float32(some(64)), [64]float32{}
		for k := range steps {
			steps[k] = max(1, steps[k])
			inverse[k] = 1 / steps[k]
		}
		var off, left, offPlain, leftPlain [8]float32
		dropped(&g, &steps, &inverse, 0.4, &off, &left)
		droppedPlain(&g, &steps, &inverse, 0.4, &offPlain, &leftPlain)
		same(t, "off", off[:], offPlain[:])
		same(t, "left", left[:], leftPlain[:])
		block, columns := [64]float32(some(64)), [64]float32{}
		transformedPlain(&block, &basis, &across, &columns)
		rows := cosines(&block)
		same(t, "cosines", rows[:], columns[:])
	}
}

// What is marked holds all whose colour is beyond what can be shown, and little of what is well within.
func TestSamplesThatMayBeClippedAreMarked(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 2))
	const near = 12
	beyond, marked, all := 0, 0, 0
	for range 300 {
		w := 16 + r.IntN(80)
		cw := (w + 1) / 2
		blue, red := make([]float32, cw), make([]float32, cw)
		first, second := make([]uint8, w), make([]uint8, w)
		for i := range blue {
			blue[i], red[i] = float32(r.IntN(81)-40), float32(r.IntN(81)-40)
		}
		for i := range first {
			first[i], second[i] = uint8(40+r.IntN(176)), uint8(40+r.IntN(176))
		}
		low, scale := float32(0), float32(1)
		if r.IntN(2) == 0 {
			low, scale = 16, 255.0/219
		}
		marks := make([]uint8, cw/8)
		done := markClips(blue, red, first, second, low, scale, near, marks)
		for x := range done {
			r, g, b := apart(blue[x], red[x])
			least := (float32(min(first[2*x], first[2*x+1], second[2*x], second[2*x+1]))-low)*scale + min(r, g, b)
			most := (float32(max(first[2*x], first[2*x+1], second[2*x], second[2*x+1]))-low)*scale + max(r, g, b)
			is := marks[x/8]>>(x%8)&1 == 1
			if is != (least < near || most > 255-near) && !(least < near+0.1 || most > 255-near-0.1) || !is && (least < near || most > 255-near) {
				t.Fatalf("sample %d of %d, from %v to %v: marked %v", x, w, least, most, is)
			}
			all++
			if is {
				marked++
			}
			if least < near || most > 255-near {
				beyond++
			}
		}
	}
	if all > 0 && (beyond < all/20 || marked > beyond+all/100) {
		t.Errorf("of %d samples %d are to be marked, and %d are", all, beyond, marked)
	}
}

func BenchmarkDistance(b *testing.B) {
	p := meadow(640, 400).To420()
	original := OfPlanes(p)
	for b.Loop() {
		q := OfPlanes(p)
		original.Distance(q)
		q.Free()
	}
}

func BenchmarkTexture(b *testing.B) {
	original := OfPlanes(meadow(640, 400).To420())
	for b.Loop() {
		original.Texture().Step(72)
	}
}
