package vp8

import (
	"bytes"
	"fmt"
	"image"
	"math"
	"math/rand/v2"
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

// planned is a frame with every mode, segment and step somewhere, without a loop filter, as an encoder might write it.
func planned(t testing.TB, r *rand.Rand, p *raster.YCbCr) (frame []byte, blocks []macroblock) {
	t.Helper()
	h := &header{w: p.W, h: p.H, segmented: r.IntN(4) > 0, chances: usual}
	base := r.IntN(100)
	for i := range h.index {
		h.index[i] = min(127, base+r.IntN(40)) &^ 1
		if !h.segmented {
			h.index[i] = h.index[0]
		}
	}
	h.lumaDC, h.meansDC, h.meansAC, h.colourDC, h.colourAC = r.IntN(31)-15, r.IntN(31)-15, r.IntN(31)-15, r.IntN(31)-15, r.IntN(31)-15
	blocks = make([]macroblock, (p.W+15)/16*((p.H+15)/16))
	for i := range blocks {
		m := &blocks[i]
		m.mode, m.colour = uint8(r.IntN(modes+2)), uint8(r.IntN(modes))
		if m.mode >= bySmall {
			m.mode = bySmall
			for j := range m.small {
				m.small[j] = uint8(r.IntN(smallModes))
			}
		}
		if h.segmented {
			m.segment = uint8(r.IntN(segments))
		}
	}
	levels := make([]coefficients, len(blocks))
	for i := range levels {
		levels[i].empty = true
	}
	frame, err := h.write(blocks, levels)
	if err != nil {
		t.Fatal(err)
	}
	return frame, blocks
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

// Another decoder makes exactly the samples of which the plan predicted: every mode, every kind of step, every level.
func TestDecodersMakeTheSamplesThatWerePredictedFrom(t *testing.T) {
	for seed := range uint64(60) {
		r := rand.New(rand.NewPCG(seed, 8))
		from := mixed(r, 1+r.IntN(120), 1+r.IntN(90))
		encoded, blocks := planned(t, r, from)
		plan, err := Read(encoded, from)
		if err != nil {
			t.Fatal(err)
		}
		for i := range blocks {
			if plan.blocks[i] != blocks[i] {
				t.Fatalf("seed %d: macroblock %d is read as %+v, was %+v", seed, i, plan.blocks[i], blocks[i])
			}
		}
		frame, err := plan.Write(float64(r.IntN(60)-50), r.Float64())
		if err != nil {
			t.Fatal(err)
		}
		m := decoded(t, frame)
		for i, got := range [][]uint8{m.Y, m.Cb, m.Cr} {
			w, h, stride := from.W, from.H, m.YStride
			if i > 0 {
				w, h, stride = (w+1)/2, (h+1)/2, m.CStride
			}
			for y := range h {
				at := plan.made[i].at(0, y)
				if want := plan.made[i].pix[at : at+w]; !bytes.Equal(got[y*stride:y*stride+w], want) {
					t.Fatalf("seed %d, %d×%d: row %d of plane %d is decoded as %v, was made as %v", seed, from.W, from.H, y, i, got[y*stride:y*stride+w], want)
				}
			}
		}
	}
}

func TestFinerStepsComeNearer(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 3))
	from := mixed(r, 160, 120)
	encoded, _ := planned(t, r, from)
	plan, err := Read(encoded, from)
	if err != nil {
		t.Fatal(err)
	}
	before, size := math.Inf(1), 0
	for coarser := 30.0; coarser >= -130; coarser -= 40 {
		frame, err := plan.Write(coarser, 1)
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
			t.Errorf("%v coarser: %.0f squared, %d bytes, after %.0f and %d", coarser, sum, len(frame), before, size)
		}
		before, size = sum, len(frame)
	}
	if mean := before / 160 / 120; mean > 3 {
		t.Errorf("at the finest steps the mean square is %.1f", mean)
	}
	frame, err := plan.Write(-120, 0)
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
		var in, moved [16]float32
		var back [16]int32
		flat, out := make([]uint8, 16), make([]uint8, 16)
		for i := range in {
			flat[i] = 128
			in[i] = float32(r.IntN(200) - 100)
		}
		forward(&in, &moved)
		for i, v := range moved {
			back[i] = int32(math.Round(float64(v)))
		}
		inverse(&back, flat, 4, out, 4)
		for i, v := range out {
			if d := float64(v) - 128 - float64(in[i]); math.Abs(d) > 1 {
				t.Fatalf("%v becomes %v", in, out)
			}
		}
		moved = in
		forwardMeans(&moved)
		for i, v := range moved {
			back[i] = int32(math.Round(float64(v)))
		}
		inverseMeans(&back)
		for i, v := range back {
			if math.Abs(float64(v)-float64(in[i])) > 1 {
				t.Fatalf("means %v become %v", in, back)
			}
		}
	}
}

// worth is what levels cost in squared error and bits together, worked out along the tree of tokens.
func worth(c *[16]float32, levels *[16]int16, kind, first, context int, steps [2]int32, price float32, p *chances) float64 {
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
		chance := uint8(at - unchanging)
		if at < unchanging {
			chance = p[at/branches/3/bands][at/branches/3%bands][at/branches%3][at%branches]
		}
		bits += float64(bitCost(v&1 != 0, chance))
	}
	return sum + float64(price)*bits
}

func TestTheCheapestLevelsAreChosen(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 4))
	w := weigher{prices: pricesOf(&usual)}
	for range 3000 {
		kind, context := r.IntN(kinds), r.IntN(3)
		first := 0
		if kind == kindAfterMeans {
			first = 1
		}
		steps := [2]int32{int32(8 + r.IntN(40)), int32(8 + r.IntN(40))}
		price := float32(steps[1]*steps[1]) * r.Float32()
		var c [16]float32
		var busy []int
		for n := first; n < 16 && len(busy) < 5; n++ {
			if r.IntN(2) == 0 {
				c[n] = float32(r.NormFloat64()) * float32(steps[1]) * float32(1+r.IntN(3))
				busy = append(busy, n)
			}
		}
		var chosen, levels [16]int16
		used := w.choose(&c, &chosen, kind, first, context, steps, price)
		for n := used; n < 16; n++ {
			if chosen[n] != 0 {
				t.Fatalf("%v has a level beyond the %d used", chosen, used)
			}
		}
		got := worth(&c, &chosen, kind, first, context, steps, price, &usual)
		least := math.Inf(1)
		var every func(i int)
		every = func(i int) {
			if i == len(busy) {
				least = math.Min(least, worth(&c, &levels, kind, first, context, steps, price, &usual))
				return
			}
			n := busy[i]
			v := float64(c[n]) / float64(steps[min(n, 1)])
			low := math.Trunc(v)
			tries := []float64{low}
			if math.Abs(v-low) > 0.5 {
				tries = append(tries, low+math.Copysign(1, v))
			}
			if math.Abs(low) == 1 {
				tries = append(tries, 0)
			}
			for _, try := range tries {
				levels[n] = int16(try)
				every(i + 1)
			}
			levels[n] = 0
		}
		every(0)
		if got > least*1.0001+1e-3 {
			t.Fatalf("%v with steps %v and price %v: %v costs %.2f, there is one of %.2f", c, steps, price, chosen, got, least)
		}
	}
}

func TestBrokenFramesAreRefused(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	from := mixed(r, 96, 64)
	frame, _ := planned(t, r, from)
	for i := range 32 {
		if _, err := Read(frame[:len(frame)*i/32], from); err == nil && i < 16 {
			t.Errorf("%d/32 of a frame are read", i)
		}
	}
	if _, err := Read(frame, mixed(r, 97, 64)); err == nil {
		t.Error("a frame of another size is taken")
	}
	for range 2000 { // whatever is read can be written
		broken := bytes.Clone(frame)
		broken[10+r.IntN(len(broken)-10)] ^= 1 << r.IntN(8)
		plan, err := Read(broken, from)
		if err != nil {
			continue
		}
		if _, err := plan.Write(3, 1); err != nil {
			t.Fatal(err)
		}
	}
}

func FuzzRead(f *testing.F) {
	r := rand.New(rand.NewPCG(2, 7))
	for range 4 {
		frame, _ := planned(f, r, mixed(r, 48, 33))
		f.Add(frame)
	}
	f.Fuzz(func(t *testing.T, frame []byte) {
		h, _, err := read(frame)
		if err != nil || h.w > 200 || h.h > 200 {
			return
		}
		plan, err := Read(frame, raster.New420(h.w, h.h, raster.Limited))
		if err != nil {
			t.Fatal(err)
		}
		out, err := plan.Write(0, 1)
		if err != nil {
			t.Fatal(err)
		}
		if again, ok := Index(out); !ok || fmt.Sprint(again) == "" {
			t.Fatalf("what is written can't be read")
		}
	})
}
