package face

import (
	_ "embed"
	"math"
	"runtime"
	"slices"
	"sync"

	"echolane/core/face/convolve"
)

// weights are the network's, a byte each, layer by layer: see layers for their shapes and what a byte stands for.
//
//go:embed weights/detector.bin
var weights []byte

// stride is how many pixels of the network's input lie between the middles of its cells.
const stride = 32

// anchors are the sizes of faces, in cells, that the outputs of a cell are told in parts of: width and height.
var anchors = [5][2]float64{{1.603231, 2.094468}, {6.041143, 7.080126}, {2.882459, 3.518061}, {4.266906, 5.178857}, {9.041765, 10.66308}}

// means are what is taken from red, green and blue.
var means = [3]float32{117.001, 114.697, 97.404}

// quantised says what bytes stand for: least + step·byte.
type quantised struct{ step, least float32 }

// A layer is a convolution of 3×3 in each channel by itself, then one of 1×1 over all channels, and a bias.
type layer struct {
	in, out               int
	apart, across, biases quantised
}

var (
	// between is the largest number that what lies between the two convolutions of each layer may be where it is held in 16 bits: at
	// least three times as large as any seen.
	between    = [5]float32{12, 8, 4, 8, 16}
	first      = struct{ filters, biases quantised }{quantised{0.009007044399485869, -1.2069439495311063}, quantised{0.005263455241334205, -0.9211046672334858}}
	separables = [5]layer{
		{16, 32, quantised{0.004001977630690033, -0.5042491814669441}, quantised{0.013836609615999109, -1.411334180831909}, quantised{0.0015159862590771096, -0.30926119685173037}},
		{32, 64, quantised{0.002666276225856706, -0.317286870876948}, quantised{0.015265831292844286, -1.6792414422128714}, quantised{0.0020280554598453, -0.37113414915168985}},
		{64, 128, quantised{0.006100742489683862, -0.8907084034938438}, quantised{0.016276211832083907, -2.0508026908425725}, quantised{0.003394414279975143, -0.7637432129944072}},
		{128, 256, quantised{0.006716050119961009, -0.8059260143953211}, quantised{0.021875603993733724, -2.8875797271728514}, quantised{0.0041141652009066415, -0.8187188749804216}},
		{256, 512, quantised{0.008423839597141042, -0.9013508368940915}, quantised{0.030007277283014035, -3.8709387695088107}, quantised{0.008402082966823203, -1.4871686851277068}},
	}
	last = struct{ filters, biases quantised }{quantised{0.028336129469030042, -4.675461362389957}, quantised{0.002268134028303857, -0.41053225912299807}}
)

const (
	firstOut = 16 // channels of the first layer
	lastIn   = 512
	lastOut  = 25 // five anchors' x, y, width, height and score
)

// A network is the weights as numbers. Products' weights lie in panels: 16 outputs for each input, then the next 16.
type network struct {
	first  []float32 // 27 inputs: three rows of three pixels
	bias0  []float32
	whole  []float32    // the first layer's weights, times whole numbers: its bytes less their middle
	apart  [5][]float32 // 9×in
	steps  [5][]float32 // the same, in steps of what lies between
	words  [5]convolve.Words
	across [5][]float32
	biases [5][]float32
	last   []float32
	bias8  []float32
}

const (
	panel      = convolve.Panel
	lastPadded = 32 // lastOut, made a multiple of panel
	leak       = 0.1
)

// net reads the weights once.
var net = sync.OnceValue(func() *network {
	at := 0
	read := func(n int, q quantised) []float32 {
		out := make([]float32, n)
		for i, b := range weights[at : at+n] {
			out[i] = float32(b)*q.step + q.least
		}
		at += n
		return out
	}
	panels := func(k []float32, in, out int) []float32 {
		padded := (out + panel - 1) / panel * panel
		v := make([]float32, in*padded)
		for i := range in {
			for o := range out {
				v[(o/panel*in+i)*panel+o%panel] = k[i*out+o]
			}
		}
		return v
	}
	var n network
	for _, b := range weights[:27*firstOut] {
		n.whole = append(n.whole, float32(b)-middle)
	}
	n.first, n.bias0 = panels(read(27*firstOut, first.filters), 27, firstOut), read(firstOut, first.biases)
	for i, l := range separables {
		n.apart[i] = read(9*l.in, l.apart)
		bytes := weights[at:][:l.in*l.out]
		n.across[i], n.biases[i] = panels(read(l.in*l.out, l.across), l.in, l.out), read(l.out, l.biases)
		step := between[i] / math.MaxInt16
		for _, k := range n.apart[i] {
			n.steps[i] = append(n.steps[i], k/step)
		}
		n.words[i] = convolve.Words{N: l.in, K: make([]int16, len(bytes)), Scale: l.across.step * step, Bias: n.biases[i]}
		zero := math.Round(float64(-l.across.least / l.across.step)) // a whole number of steps, of each layer
		for j, b := range bytes {
			in, out := j/l.out, j%l.out
			n.words[i].K[((out/panel*l.in+in)/2*panel+out%panel)*2+in%2] = int16(b) - int16(zero)
		}
	}
	n.last = panels(read(lastIn*lastOut, last.filters), lastIn, lastOut)
	n.bias8 = append(read(lastOut, last.biases), make([]float32, lastPadded-lastOut)...)
	return &n
})

// A tensor is h×w places of c channels each, with a border of one place of zeros.
type tensor struct {
	h, w, c int
	v       []float32
}

// A room is what tensors are put in during a run: kept for the next.
type room struct{ v []float32 }

var (
	rooms = sync.Pool{New: func() any { return new(room) }}
	words = sync.Pool{New: func() any { return new([]int16) }} // rooms for whole numbers
)

// floats are n numbers within the room, whatever they are.
func (r *room) floats(n int) []float32 {
	if cap(r.v) < n {
		r.v = make([]float32, n)
	}
	return r.v[:n]
}

// tensor is one within the room, whose places hold anything, whose border is zeros.
func (r *room) tensor(h, w, c int) tensor {
	n := (h + 2) * (w + 2) * c
	t := tensor{h, w, c, r.floats(n)}
	line := (w + 2) * c
	clear(t.v[:line])
	clear(t.v[n-line:])
	for y := range h {
		clear(t.v[(y+1)*line:][:c])
		clear(t.v[(y+2)*line-c:][:c])
	}
	return t
}

// from is where the channels of a place begin; −1 is the border's.
func (t *tensor) from(y, x int) int { return ((y+1)*(t.w+2) + x + 1) * t.c }

// row is the channels of a row's places.
func (t *tensor) row(y int) []float32 { return t.v[t.from(y, 0):][:t.w*t.c] }

// run gives the cells' outputs for a picture of at least 64×64.
func (n *network) run(in pixels) cells {
	var used [len(separables)]*room
	for i := range used {
		used[i] = rooms.Get().(*room)
		defer rooms.Put(used[i])
	}
	start := n.start(in)
	t := pooled(used[0], in.h-2, in.w-2, firstOut, func(y, rows int, to []float32) {
		for i := range rows {
			start(y+i, to[i*(in.w-2)*firstOut:])
		}
	})
	convolved := func(i int, from tensor) rower {
		l, line := separables[i], from.w*from.c
		if convolve.HasWhole() {
			return func(y, rows int, to []float32) {
				between := words.Get().(*[]int16)
				defer words.Put(between)
				if len(*between) < rows*line {
					*between = make([]int16, rows*line)
				}
				for row := range rows {
					convolve.ApartWords(from.v[from.from(y+row-1, -1):], from.w+2, from.w, from.c, n.steps[i], (*between)[row*line:])
				}
				n.words[i].Products(*between, to, rows*from.w, leak)
			}
		}
		return func(y, rows int, to []float32) {
			between := rooms.Get().(*room)
			defer rooms.Put(between)
			v := between.floats(rows * line)
			for row := range rows {
				convolve.Apart(from.v[from.from(y+row-1, -1):], from.w+2, from.w, from.c, n.apart[i], v[row*line:])
			}
			convolve.Products(v, l.in, 1, 0, l.in, n.across[i], n.biases[i], to, l.out, rows*from.w, leak)
		}
	}
	const deepest = len(separables) - 1
	for i, l := range separables[:deepest] {
		t = pooled(used[i+1], t.h, t.w, l.out, convolved(i, t))
	}
	most := rooms.Get().(*room)
	defer rooms.Put(most)
	deep := spread(most, t.h, t.w, lastIn, convolved(deepest, t))
	out := cells{t.h, t.w, make([]float32, t.h*t.w*lastPadded)}
	convolve.Products(deep, lastIn, 1, 0, lastIn, n.last, n.bias8, out.v, lastPadded, t.h*t.w, 1)
	return out
}

// middle is the byte that stands for a weight of zero in the first layer.
const middle = 134

// start is the first layer, row by row.
func (n *network) start(in pixels) func(y int, to []float32) {
	if !convolve.HasWhole() {
		v := make([]float32, 3*in.w*in.h)
		for i := 0; i+3 <= len(v); i += 3 {
			v[i], v[i+1], v[i+2] = levels[0][in.v[i]], levels[1][in.v[i+1]], levels[2][in.v[i+2]]
		}
		return func(y int, to []float32) {
			convolve.Products(v[3*y*in.w:], 3, 3, 3*in.w, 9, n.first, n.bias0, to, firstOut, in.w-2, leak)
		}
	}
	b := n.bytes(3 * in.w)
	return func(y int, to []float32) { b.Products(in.v[3*y*in.w:], to, in.w-2, leak) }
}

// bytes is the first layer on bytes, in rows of so many: it has the same weights. Those too large for eight bits count in two parts.
func (n *network) bytes(line int) convolve.Bytes {
	b := convolve.Bytes{Scale: first.filters.step / 255, Bias: slices.Clone(n.bias0)}
	rest := slices.Clone(n.whole)
	for o := range firstOut {
		for i := range 27 {
			b.Bias[o] -= b.Scale * rest[i*firstOut+o] * means[i%3]
		}
	}
	for more := true; more; {
		more = false
		for at := 0; at < 36; at += 4 { // three rows of twelve bytes, of which the last three are no part of it
			var k [firstOut * 4]int8
			any := false
			for o := range firstOut {
				for j := range 4 {
					if at%12+j >= 9 {
						continue
					}
					left := &rest[((at/12*9)+at%12+j)*firstOut+o]
					part := max(-128, min(127, *left))
					k[o*4+j] = int8(part)
					*left -= part
					any = any || part != 0
					more = more || *left != 0
				}
			}
			if any {
				b.Offsets, b.K = append(b.Offsets, at/12*line+at%12), append(b.K, k[:]...)
			}
		}
	}
	return b
}

// cells are h×w of lastPadded outputs each.
type cells struct {
	h, w int
	v    []float32
}

// A rower gives rows of a layer, from y on: products of many places at once take less.
type rower func(y, rows int, to []float32)

// inBands does something with all rows, by bands of them beside one another on as many processors as there are for them.
func inBands(h int, do func(from, to int)) {
	n := min(runtime.GOMAXPROCS(0), h/16+1)
	var others sync.WaitGroup
	for i := 1; i < n; i++ {
		others.Go(func() { do(i*h/n, (i+1)*h/n) })
	}
	do(0, h/n)
	others.Wait()
}

// pooled is the largest of each two by two places of what give gives, row by row; what lies outside doesn't count.
func pooled(in *room, h, w, c int, give rower) tensor {
	out := in.tensor((h+1)/2, (w+1)/2, c)
	inBands(out.h, func(from, to int) {
		both := rooms.Get().(*room)
		defer rooms.Put(both)
		two := both.floats(2 * w * c)
		for y := from; y < to; y++ {
			n := min(2, h-2*y)
			give(2*y, n, two)
			convolve.Largest(two, two[(n-1)*w*c:], w, c, out.row(y))
		}
	})
	return out
}

// spread is the largest of two by two from each place to the right and down, without a border.
func spread(in *room, h, w, c int, give rower) []float32 {
	out := in.floats(h * w * c)
	line := w * c
	inBands(h, func(from, to int) { give(from, to-from, out[from*line:]) })
	for y := range h { // those below haven't been changed yet
		row := out[y*line:][:line]
		convolve.LargestNext(row, out[min(y+1, h-1)*line:][:line], w, c, row)
	}
	return out
}

// A found is a place that may be a face, in pixels of the network's input.
type found struct {
	x0, y0, x1, y1, score float64
}

// read gives what a run's outputs say with at least a score.
func read(t cells, least float64) []found {
	var out []found
	sigmoid := func(v float32) float64 { return 1 / (1 + math.Exp(-float64(v))) }
	for y := range t.h {
		for x := range t.w {
			v := t.v[(y*t.w+x)*lastPadded:]
			for a, size := range anchors {
				v := v[5*a : 5*a+5]
				score := sigmoid(v[4])
				if score < least {
					continue
				}
				mx, my := stride*(float64(x)+sigmoid(v[0])), stride*(float64(y)+sigmoid(v[1]))
				w, h := stride*size[0]*math.Exp(float64(v[2])), stride*size[1]*math.Exp(float64(v[3]))
				out = append(out, found{mx - w/2, my - h/2, mx + w/2, my + h/2, score})
			}
		}
	}
	return out
}
