package vp8

import (
	"bytes"
	"fmt"
	"image"
	"math"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"golang.org/x/image/vp8"

	"echolane/core/raster"
)

// mixed is a picture with plain, sloping and busy parts.
func mixed(r *rand.Rand, w, h int) *raster.YCbCr {
	p := raster.New420(w, h, raster.Limited)
	for i, plane := range []*raster.Plane{&p.Y, &p.Cb, &p.Cr} {
		for y := range plane.H {
			for x := range plane.W {
				v := 110 + 60*math.Sin(float64(x)/float64(7+9*i)+float64(y*y)/300)
				if x/16%3 == 1 {
					v += float64(r.IntN(60))
				}
				plane.Row(y)[x] = uint8(v)
			}
		}
	}
	return p
}

// anything gives a plan with every mode, segment and level somewhere, and a run with steps of every kind.
func anything(r *rand.Rand, p *raster.YCbCr) *run {
	plan := New(p)
	for i := range plan.blocks {
		m := &plan.blocks[i]
		m.yMode, m.uvMode, m.segment = uint8(r.IntN(mbModes+2)), uint8(r.IntN(mbModes)), uint8(r.IntN(segments))
		if m.yMode >= bPred {
			m.yMode = bPred
			for j := range m.bMode {
				m.bMode[j] = uint8(r.IntN(bModes))
			}
		}
	}
	plan.costBy(&defaultCoeffProbs)
	run := plan.run(0, r.Float64())
	base := r.IntN(90)
	run.header = &header{w: p.W, h: p.H, uvDCDelta: r.IntN(31) - 15, uvACDelta: r.IntN(31) - 15}
	plan.last = run.header
	for i := range run.quantizers {
		run.header.qIndex[i] = base + r.IntN(38)
		if seeds := r.IntN(3); seeds > 0 { // with and without the loop filter
			run.header.filterLevel[i] = r.IntN(64)
		}
		run.quantizers[i] = quantizerOf(run.header, i)
	}
	return run
}

func (p *Plan) choice(index float64) ([]byte, error) {
	p.Choose(index, 1, false)
	return p.Frame()
}

func decoded(t *testing.T, frame []byte) *image.YCbCr {
	t.Helper()
	d := vp8.NewDecoder()
	d.Init(bytes.NewReader(frame), len(frame))
	if _, err := d.DecodeFrameHeader(); err != nil {
		t.Fatal(err)
	}
	m, err := d.DecodeFrame()
	if err != nil {
		t.Fatal(err)
	}
	return m
}

// compared holds what another decoder makes of a frame against what was predicted from.
func (p *Plan) compared(t *testing.T, frame []byte, what string) {
	t.Helper()
	m := decoded(t, frame)
	shown := p.Shown()
	for i, got := range [][]uint8{m.Y, m.Cb, m.Cr} {
		plane, stride := []raster.Plane{shown.Y, shown.Cb, shown.Cr}[i], m.YStride
		if i > 0 {
			stride = m.CStride
		}
		w := plane.W
		for y := range plane.H {
			if want := plane.Row(y)[:w]; !bytes.Equal(got[y*stride:y*stride+w], want) {
				t.Fatalf("%s, %d×%d: row %d of plane %d is decoded as %v, was made as %v", what, p.w, p.h, y, i, got[y*stride:y*stride+w], want)
			}
		}
	}
}

// Another decoder makes exactly the samples of which the plan predicted: every mode, every step, every level.
func TestDecodersMakeTheSamplesThatWerePredictedFrom(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 8))
		run := anything(r, mixed(r, 1+r.IntN(120), 1+r.IntN(90)))
		run.quick = seed%2 == 0
		run.all()
		frame, _, err := run.header.write(run.blocks, run.coefficients, &run.tokens)
		if err != nil {
			t.Fatal(err)
		}
		run.compared(t, frame, fmt.Sprintf("seed %d", seed))
		if got, ok := Index(frame); !ok || got != slices.Min(run.header.qIndex[:]) {
			t.Errorf("seed %d: the index is read as %d (%v), was %v", seed, got, ok, run.header.qIndex)
		}
		// The same where the modes are chosen; then too the frame holds the levels of which the samples were made.
		run.quick = seed%3 == 0
		run.choose()
		if frame, _, err = run.header.write(run.blocks, run.coefficients, &run.tokens); err != nil {
			t.Fatal(err)
		}
		run.compared(t, frame, fmt.Sprintf("seed %d, chosen", seed))
	}
}

// What is chosen costs less, in error and bytes together, than one mode everywhere.
func TestChosenModesTakeFewerBytes(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 7))
	from := mixed(r, 200, 150)
	far := func(p *Plan) (sum float64) {
		for y := range from.H {
			at := p.recon[0].offset(0, y)
			for x, v := range from.Y.Row(y)[:from.W] {
				d := float64(v) - float64(p.recon[0].pix[at+x])
				sum += d * d
			}
		}
		return sum
	}
	plan := New(from)
	chosen, err := plan.choice(90)
	if err != nil {
		t.Fatal(err)
	}
	off, used := far(plan), map[uint8]int{}
	for i := range plan.blocks {
		used[plan.blocks[i].yMode]++
	}
	if len(used) < 2 {
		t.Errorf("only the modes %v are used", used)
	}
	for mode := range uint8(mbModes) {
		for i := range plan.blocks {
			plan.blocks[i].yMode = mode
		}
		plan.Again(90, 1)
		frame, err := plan.Frame()
		if err != nil {
			t.Fatal(err)
		}
		// Twice as fine steps leave about a quarter of the error in twice the bytes.
		if float64(len(frame))*math.Sqrt(far(plan)) < float64(len(chosen))*math.Sqrt(off) {
			t.Errorf("mode %d everywhere takes %d bytes with a squared error of %.0f, chosen ones %d with %.0f", mode, len(frame), far(plan), len(chosen), off)
		}
	}
}

// Vector instructions and plain ones give the same bits.
func TestTriesAreTheSameWithoutVectors(t *testing.T) {
	r := rand.New(rand.NewPCG(6, 6))
	for range 300 {
		source := plane{pix: make([]uint8, 64*8), stride: 64}
		predicted := make([]uint8, 16*8)
		for i := range source.pix {
			source.pix[i] = uint8(r.IntN(256))
		}
		for i := range predicted {
			predicted[i] = uint8(r.IntN(256))
		}
		lambda := []float32{r.Float32(), r.Float32(), r.Float32(), r.Float32()}
		one := source.candidates(r.IntN(40), r.IntN(4), predicted, 16, 4)
		one.sourceNext, one.squareBits, one.squareBitsNext, one.pairs = 4*r.IntN(2), lambda, r.IntN(2), 2
		one.inverse, one.first = r.Float32(), float32(r.IntN(2))
		one.values, one.costs = make([][16]float32, 4), make([]float32, 4)
		other := one
		other.values, other.costs = make([][16]float32, 4), make([]float32, 4)
		one.scoreAll()
		other.score()
		if !slices.Equal(one.values, other.values) || !slices.Equal(one.costs, other.costs) {
			t.Fatalf("with vectors %v and %v, without %v and %v", one.values, one.costs, other.values, other.costs)
		}
	}
}

func TestFinerStepsComeNearer(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	from := mixed(r, 160, 120)
	plan := New(from)
	before, size := math.Inf(1), 0
	for index := 120.0; index >= 0; index -= 40 {
		frame, err := plan.choice(index)
		if err != nil {
			t.Fatal(err)
		}
		sum := 0.0
		m := decoded(t, frame)
		for y := range from.H {
			for x, v := range from.Y.Row(y)[:from.W] {
				d := float64(v) - float64(m.Y[y*m.YStride+x])
				sum += d * d
			}
		}
		if sum > before || len(frame) < size {
			t.Errorf("at %v: %.0f squared, %d bytes, after %.0f and %d", index, sum, len(frame), before, size)
		}
		before, size = sum, len(frame)
	}
	if mean := before / 160 / 120; mean > 3 {
		t.Errorf("at the finest steps the mean square is %.1f", mean)
	}
	plan.Again(0, 0)
	frame, err := plan.Frame()
	if err != nil || len(frame) <= size {
		t.Errorf("without thrift it takes %d bytes, with it %d (%v)", len(frame), size, err)
	}
}

func TestBoolsComeBack(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	type bit struct {
		set  bool
		zero uint8
	}
	bits := make([]bit, 50_000)
	w := newBoolWriter(0)
	for i := range bits {
		zero := uint8(1 + r.IntN(255))
		if i/1000%2 == 0 { // long runs of what is improbable, for carries
			zero = 255
		}
		bits[i] = bit{r.IntN(256) >= int(zero) || i/1000%4 == 0, zero}
		w.put(bits[i].set, zero)
	}
	for v := -15; v <= 15; v++ {
		w.signed(v, 4)
	}
	got := newBoolReader(w.bytes())
	for i, b := range bits {
		if got.get(b.zero) != b.set {
			t.Fatalf("bit %d is another", i)
		}
	}
	for v := -15; v <= 15; v++ {
		if is := got.signed(4); is != v {
			t.Errorf("%d comes back as %d", v, is)
		}
	}
	if got.over {
		t.Error("more was read than written")
	}
}

func TestTransformsAreEachOthersInverse(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 500 {
		var in [4][4]float32
		var moved [16]float32
		var back [16]int32
		flat, out := make([]uint8, 16), make([]uint8, 16)
		for i := range flat {
			flat[i] = 128
			in[i/4][i%4] = float32(r.IntN(200) - 100)
		}
		forwardDCT(&in, &moved)
		for i, v := range moved { // from column by column
			back[i%4*4+i/4] = int32(math.Round(float64(v)))
		}
		inverseDCT(&back, flat, 4, out, 4)
		for i, v := range out {
			if d := float64(v) - 128 - float64(in[i/4][i%4]); math.Abs(d) > 1 {
				t.Fatalf("%v becomes %v", in, out)
			}
		}
		var means [16]float32
		for i := range means {
			means[i] = in[i/4][i%4]
		}
		was := means
		forwardWHT(&means)
		for i, v := range means {
			back[i] = int32(math.Round(float64(v)))
		}
		inverseWHT(&back)
		for i, v := range back {
			if math.Abs(float64(v)-float64(was[i])) > 1 {
				t.Fatalf("means %v become %v", was, back)
			}
		}
	}
}

// worth is what levels cost in squared error and bits together, worked out along the tree of tokens.
func worth(c *[16]float32, levels *[16]int16, kind, first, context int, steps [2]int32, lambda float32, p *coeffProbs) float64 {
	sum, used := 0.0, first
	for n := first; n < 16; n++ {
		d := float64(c[n]) - float64(levels[n])*float64(steps[min(n, 1)])
		sum += d * d
		if levels[n] != 0 {
			used = n + 1
		}
	}
	var t tokens
	t.block(levels[:], kind, first, used, context)
	bits := 0.0
	for _, v := range t {
		at := int(v >> 1)
		prob := uint8(at - unchanging)
		if at < unchanging {
			prob = p[at/branches/3/bands][at/branches/3%bands][at/branches%3][at%branches]
		}
		bits += float64(bitCost(v&1 != 0, prob))
	}
	return sum + float64(lambda)*bits
}

func TestTheCheapestLevelsAreChosen(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 4))
	w := trellis{costs: levelCostsOf(&defaultCoeffProbs)}
	for range 3000 {
		kind, context := r.IntN(blockTypes), r.IntN(3)
		first := 0
		if kind == typeYAfterY2 {
			first = 1
		}
		steps := [2]int32{int32(8 + r.IntN(40)), int32(8 + r.IntN(40))}
		lambda := float32(steps[1]*steps[1]) * r.Float32()
		var c [16]float32
		var busy []int
		for n := first; n < 16 && len(busy) < 5; n++ {
			if r.IntN(2) == 0 {
				c[n] = float32(r.NormFloat64()) * float32(steps[1]) * float32(1+r.IntN(3))
				busy = append(busy, n)
			}
		}
		var chosen, levels [16]int16
		var columns [16]float32
		for n, at := range inColumns {
			columns[at] = c[n]
		}
		used, off, bits := w.quantize(&columns, &chosen, kind, first, context, steps, lambda)
		for n := used; n < 16; n++ {
			if chosen[n] != 0 {
				t.Fatalf("%v has a level beyond the %d used", chosen, used)
			}
		}
		got := worth(&c, &chosen, kind, first, context, steps, lambda, &defaultCoeffProbs)
		least := math.Inf(1)
		var every func(i int)
		every = func(i int) {
			if i == len(busy) {
				least = math.Min(least, worth(&c, &levels, kind, first, context, steps, lambda, &defaultCoeffProbs))
				return
			}
			n := busy[i]
			v := float64(c[n]) / float64(steps[min(n, 1)])
			near := math.Round(v)
			tries := []float64{near}
			if near != 0 {
				tries = append(tries, near-math.Copysign(1, v))
			}
			for _, try := range tries {
				levels[n] = int16(try)
				every(i + 1)
			}
			levels[n] = 0
		}
		every(0)
		if said := float64(off) + float64(lambda)*float64(bits); math.Abs(said-got) > got*1e-4+1e-2 {
			t.Fatalf("%v is said to cost %.2f, costs %.2f", chosen, said, got)
		}
		if got > least*1.0001+1e-3 {
			t.Fatalf("%v with steps %v and price %v: %v costs %.2f, there is one of %.2f", c, steps, lambda, chosen, got, least)
		}
	}
}

// Levels that are taken by themselves are near their coefficients or none, and the fewer the dearer bits are.
func TestQuickLevels(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 12))
	for range 2000 {
		steps := [2]int32{int32(4 + r.IntN(150)), int32(4 + r.IntN(150))}
		first := r.IntN(2)
		var columns [16]float32
		for n := range columns {
			columns[n] = float32(r.NormFloat64()) * float32(steps[1]) * float32(1+r.IntN(3))
		}
		kept := 17
		for _, lambda := range []float32{0, 0.05, 0.3, 1, 1000} {
			var levels [16]int16
			used := deadZone(&columns, &levels, first, steps, lambda*float32(steps[1]*steps[1]))
			count := 0
			for n, level := range levels {
				v := float64(columns[inColumns[n]]) / float64(steps[min(n, 1)])
				switch {
				case level != 0 && (n < first || n >= used):
					t.Fatalf("%v has a level outside of %d–%d", levels, first, used)
				case level != 0:
					count++
					if off := math.Abs(v) - math.Abs(float64(level)); off < -1+deadZoneRounding-1e-4 || off > deadZoneRounding+1e-4 || v*float64(level) < 0 {
						t.Fatalf("%.3f steps become %d", v, level)
					}
				case n >= first && lambda == 0 && math.Abs(v) > deadZoneRounding+1e-4:
					t.Fatalf("%.3f steps become nothing where bits cost nothing", v)
				case n >= first && math.Abs(v) > deadZoneRounding+1e-4 && v*v > float64(lambda)*(coarseBits+coarseBitsPerStep*math.Abs(v))*1.001:
					t.Fatalf("%.3f steps become nothing at a price of %v", v, lambda)
				}
			}
			if used > first && levels[used-1] == 0 {
				t.Fatalf("%v ends before %d", levels, used)
			}
			if count > kept {
				t.Fatalf("%d levels are kept at a price of %v, %d where bits are cheaper", count, lambda, kept)
			}
			kept = count
		}
		if kept > 0 {
			t.Fatalf("%d levels are kept at any price", kept)
		}
	}
}

func TestBrokenFramesHaveNoIndex(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	frame, err := New(mixed(r, 96, 64)).choice(30)
	if err != nil {
		t.Fatal(err)
	}
	for n := range 20 {
		if index, ok := Index(frame[:n]); ok {
			t.Errorf("of %d bytes the index %d is read", n, index)
		}
	}
	inter := bytes.Clone(frame)
	inter[0] |= 1
	if _, ok := Index(inter); ok {
		t.Error("a frame that isn't a key frame has an index")
	}
}

func FuzzIndex(f *testing.F) {
	r := rand.New(rand.NewPCG(2, 7))
	for range 4 {
		frame, err := New(mixed(r, 48, 33)).choice(float64(r.IntN(120)))
		if err != nil {
			f.Fatal(err)
		}
		f.Add(frame)
	}
	f.Fuzz(func(t *testing.T, frame []byte) {
		if index, ok := Index(frame); ok && (index < 0 || index > 127) {
			t.Errorf("the index is %d", index)
		}
	})
}

func TestTheLoopFilterIsTheSameWithoutVectors(t *testing.T) {
	r := rand.New(rand.NewPCG(15, 6))
	const stride, high = 40, 24
	changed, left := 0, 0
	for range 4000 {
		a, b := make([]uint8, stride*high), make([]uint8, stride*high)
		rough := 1 + r.IntN(60)
		for i := range a {
			step := i % stride / (1 + r.IntN(30)) * r.IntN(8)
			a[i], b[i] = uint8(min(255, 100+r.IntN(rough)+step)), uint8(max(0, 30+r.IntN(rough)-2*step))
			if r.IntN(40) == 0 {
				a[i], b[i] = uint8(r.IntN(256)), 255*uint8(r.IntN(2))
			}
		}
		s := loopFilter{stride: stride}
		if r.IntN(2) == 0 {
			b, s.apart = a, 8
		}
		s.within(1 + r.IntN(63))
		at, upright, between := 4*stride+4+r.IntN(8), r.IntN(2) == 0, r.IntN(2) == 0
		over, along := stride, 1
		if upright {
			over, along = 1, stride
		}
		wantA := slices.Clone(a)
		wantB := wantA
		if s.apart == 0 {
			wantB = slices.Clone(b)
		}
		s.plainly(wantA, at, over, along, between)
		s.plainly(wantB, at+s.apart*along, over, along, between)
		before := slices.Clone(a)
		if !s.edges(a, b, at, at+s.apart*along, stride, upright, between) {
			t.Skip("this processor has no vectors")
		}
		if !slices.Equal(a, wantA) || !slices.Equal(b, wantB) {
			t.Fatalf("upright %v, between macroblocks %v, limits %+v: other samples with vectors than without", upright, between, s)
		}
		if slices.Equal(a, before) {
			left++
		} else {
			changed++
		}
	}
	if changed < 500 || left < 500 {
		t.Errorf("%d edges were filtered, %d left", changed, left)
	}
}

// A plan that has another picture's room writes what one of its own does.
func TestRoomIsUsedAgain(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 3))
	pictures := []*raster.YCbCr{mixed(r, 150, 90), mixed(r, 64, 200), mixed(r, 17, 5)}
	written := func(p *raster.YCbCr) ([]byte, *raster.YCbCr) {
		plan := New(p)
		defer plan.Free()
		plan.Choose(30, 1, true)
		plan.Again(24, 1)
		shown := plan.Shown()
		frame, err := plan.Frame()
		if err != nil {
			t.Fatal(err)
		}
		return frame, shown
	}
	var frames [][]byte
	var shown []*raster.YCbCr
	for _, p := range pictures {
		plans = sync.Pool{New: plans.New}
		f, s := written(p)
		frames, shown = append(frames, f), append(shown, s)
	}
	for n := range 20 {
		i := n * 7 % len(pictures)
		f, s := written(pictures[i])
		if !bytes.Equal(f, frames[i]) || !bytes.Equal(s.Y.Pix, shown[i].Y.Pix) || !bytes.Equal(s.Cr.Pix, shown[i].Cr.Pix) {
			t.Errorf("picture %d is written otherwise with room that others had", i)
		}
	}
}
