package jpeg

// #include <stdlib.h>
// #include "libjpeg.h"
import "C"

import (
	"math"
	"runtime"
	"unsafe"

	"echolane/core/codec"
	"echolane/core/raster"
)

// Coefficients are a picture's cosine transform, from which it is written at any quality. What is kept of each
// coefficient is weighed against the bits it takes (rate-distortion optimal quantisation; K. Ramchandran, M. Vetterli,
// *Rate-distortion optimal fast thresholding with complete JPEG/MPEG decoder compatibility*, IEEE Transactions on Image
// Processing 3, 1994), so that the same closeness takes fewer bytes than rounding does. Any decoder reads the outcome.
type Coefficients struct {
	w, h  int
	parts [3]component
}

// component is one plane's: blocks of 64, in zigzag order.
type component struct {
	across, down int
	values       []float32
	quiet        []float32 // how much dearer bits are in each block: where little goes on, dropping that little shows less
	kept         []int16   // of the last Write, in reading order
}

// zigzag is where the coefficients lie in a block, in the order of files (ITU-T T.81, figure A.6).
var zigzag = [64]uint8{
	0, 1, 8, 16, 9, 2, 3, 10, 17, 24, 32, 25, 18, 11, 4, 5, 12, 19, 26, 33, 40, 48, 41, 34, 27, 20, 13, 6, 7, 14, 21, 28,
	35, 42, 49, 56, 57, 50, 43, 36, 29, 22, 15, 23, 30, 37, 44, 51, 58, 59, 52, 45, 38, 31, 39, 46, 53, 60, 61, 54, 47, 55, 62, 63,
}

// chrominance is ITU-T T.81, table K.2, in zigzag order.
var chrominance = [64]int{
	17, 18, 18, 24, 21, 24, 47, 26, 26, 47, 99, 66, 56, 66, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
	99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99, 99,
}

// Transform takes a 4:2:0 picture in Full range apart. It may be written any number of times, by one goroutine at a time.
func Transform(p *raster.YCbCr) *Coefficients {
	c := &Coefficients{w: p.W, h: p.H}
	for i, plane := range []*raster.Plane{&p.Y, &p.Cb, &p.Cr} {
		c.parts[i] = transform(plane)
	}
	return c
}

func transform(p *raster.Plane) component {
	c := component{across: (p.W + 7) / 8, down: (p.H + 7) / 8}
	c.values = make([]float32, 64*c.across*c.down)
	c.quiet = make([]float32, c.across*c.down)
	c.kept = make([]int16, len(c.values))
	var block [64]float32
	for by := range c.down {
		for bx := range c.across {
			for y := range 8 {
				row := p.Row(min(8*by+y, p.H-1))
				if at := 8 * bx; at+8 <= p.W {
					for x, v := range row[at : at+8] {
						block[8*y+x] = float32(v) - 128
					}
				} else {
					for x := range 8 {
						block[8*y+x] = float32(row[min(at+x, p.W-1)]) - 128
					}
				}
			}
			forward(&block)
			n := by*c.across + bx
			out := c.values[64*n : 64*n+64]
			energy := float32(0)
			for k := range out {
				v := block[zigzag[k]]
				out[k] = v
				if k > 0 {
					energy += v * v
				}
			}
			c.quiet[n] = float32(math.Pow(float64(energy/64+20)/220, -0.1))
		}
	}
	return c
}

// forward is the cosine transform of ITU-T T.81, section A.3.3, in place: eight rows, then eight columns.
func forward(b *[64]float32) {
	for i := 0; i < 64; i += 8 {
		line(b, i, 1)
	}
	for i := range 8 {
		line(b, i, 8)
	}
}

// line is a transform of eight samples in its even and odd halves.
func line(b *[64]float32, at, step int) {
	const (
		c1 = 0.49039264020161522 // cos(kπ/16)/2
		c2 = 0.46193976625564337
		c3 = 0.41573480615127262
		c4 = 0.35355339059327379
		c5 = 0.27778511650980114
		c6 = 0.19134171618254492
		c7 = 0.09754516100806412
	)
	x0, x1, x2, x3 := b[at], b[at+step], b[at+2*step], b[at+3*step]
	x4, x5, x6, x7 := b[at+4*step], b[at+5*step], b[at+6*step], b[at+7*step]
	s0, s1, s2, s3 := x0+x7, x1+x6, x2+x5, x3+x4
	d0, d1, d2, d3 := x0-x7, x1-x6, x2-x5, x3-x4
	e0, e1, o0, o1 := s0+s3, s1+s2, s0-s3, s1-s2
	b[at] = c4 * (e0 + e1)
	b[at+4*step] = c4 * (e0 - e1)
	b[at+2*step] = c2*o0 + c6*o1
	b[at+6*step] = c6*o0 - c2*o1
	b[at+step] = c1*d0 + c3*d1 + c5*d2 + c7*d3
	b[at+3*step] = c3*d0 - c7*d1 - c1*d2 - c5*d3
	b[at+5*step] = c5*d0 - c1*d1 + c7*d2 + c3*d3
	b[at+7*step] = c7*d0 - c5*d1 + c3*d2 - c1*d3
}

// The bits' prices in squared steps, and how far the tables of annex K are moved towards steps of one size: chosen on
// the corpus, for the fewest bytes at equal SSIM.
const (
	lumaPrice, chromaPrice = 0.1, 0.08
	lumaEven, chromaEven   = 0.6, 0.4
	lumaStep, chromaStep   = 24, 40
)

// steps are a table's at a quality, which may lie between libjpeg's: annex K's, moved towards one size by a geometric
// mean, scaled as libjpeg scales it.
func steps(table *[64]int, even, step, quality float64) (out [64]float32) {
	percent := 200 - 2*quality
	if quality < 50 {
		percent = 5000 / math.Max(1, quality)
	}
	for k, v := range table {
		moved := math.Pow(float64(v), 1-even) * math.Pow(step, even)
		out[k] = float32(math.Min(255, math.Max(1, math.Floor((moved*percent+50)/100))))
	}
	return out
}

// prices are the bits that a run of zeros and a size cost, by what the picture has of them.
type prices struct {
	bits [256]float32 // run<<4 | size, with the value's own bits
}

const endOfBlock, sixteenZeros = 0x00, 0xf0

func (c *component) count(counts *[256]int) {
	for n := 0; n < len(c.kept); n += 64 {
		block := c.kept[n : n+64]
		run := 0
		for k := 1; k < 64; k++ {
			v := block[zigzag[k]]
			if v == 0 {
				run++
				continue
			}
			for ; run > 15; run -= 16 {
				counts[sixteenZeros]++
			}
			counts[run<<4|size(int(v))]++
			run = 0
		}
		if run > 0 {
			counts[endOfBlock]++
		}
	}
}

func size(v int) int {
	if v < 0 {
		v = -v
	}
	n := 0
	for ; v > 0; v >>= 1 {
		n++
	}
	return n
}

func priced(counts *[256]int) *prices {
	total := 0.0
	for i := range counts {
		total += float64(counts[i]) + 0.25
	}
	p := &prices{}
	for i := range counts {
		bits := math.Log2(total / (float64(counts[i]) + 0.25))
		p.bits[i] = float32(math.Min(16, math.Max(1, bits))) + float32(i&15)
	}
	return p
}

// round quantises to the nearest.
func (c *component) round(table *[64]float32) {
	var inverse [64]float32
	for k, q := range table {
		inverse[k] = 1 / q
	}
	for n := 0; n < len(c.values); n += 64 {
		for k, v := range c.values[n : n+64] {
			c.kept[n+int(zigzag[k])] = nearest(v * inverse[k])
		}
	}
}

func nearest(v float32) int16 {
	if v < 0 {
		return -int16(0.5 - v)
	}
	return int16(v + 0.5)
}

// looksBack is among how many kept ones before it a coefficient's best predecessor is sought.
const looksBack = 8

// choose quantises each block to what costs least in error and bits together. A coefficient may be rounded, taken one
// nearer to zero, or dropped; the cheapest chain of the ones kept is found by dynamic programming over where the last
// one before lies, among the nearest few. Errors are in steps.
func (c *component) choose(table *[64]float32, p *prices, price float32) {
	var inverse [64]float32
	for k, q := range table {
		inverse[k] = 1 / q
	}
	var cost, dropped [64]float32 // the cheapest with the last one kept at k; the error of dropping all up to k
	var before [64]int8
	var value [64]int16
	for n, quiet := range c.quiet {
		block := c.values[64*n : 64*n+64]
		kept := c.kept[64*n : 64*n+64]
		clear(kept)
		kept[0] = nearest(block[0] * inverse[0])
		weight := price * quiet
		cost[0], dropped[0] = 0, 0
		nodes := [64]int8{}
		count := 1
		best, last := float32(math.MaxFloat32), 0
		for k := 1; k < 64; k++ {
			v := block[k] * inverse[k]
			if v < 0 {
				v = -v
			}
			dropped[k] = dropped[k-1] + v*v
			q := int(v + 0.5)
			if q == 0 {
				continue
			}
			cost[k] = math.MaxFloat32
			for try := q; try >= 1 && try >= q-1; try-- {
				e := v - float32(try)
				s := size(try)
				for i := count - 1; i >= max(0, count-looksBack); i-- {
					j := int(nodes[i])
					run := k - 1 - j
					bits := p.bits[(run&15)<<4|s]
					if run > 15 {
						bits += float32(run>>4) * p.bits[sixteenZeros]
					}
					total := cost[j] + dropped[k-1] - dropped[j] + e*e + weight*bits
					if total < cost[k] {
						cost[k], before[k], value[k] = total, int8(j), int16(try)
					}
				}
			}
			nodes[count] = int8(k)
			count++
		}
		for i := range count {
			k := int(nodes[i])
			total := cost[k] + dropped[63] - dropped[k]
			if k < 63 {
				total += weight * p.bits[endOfBlock]
			}
			if total < best {
				best, last = total, k
			}
		}
		for k := last; k > 0; k = int(before[k]) {
			if v := value[k]; block[k] < 0 {
				kept[zigzag[k]] = -v
			} else {
				kept[zigzag[k]] = v
			}
		}
	}
}

// Write gives the picture as a progressive JPEG file, by whichever of two scripts of scans takes fewer bytes. quality scales the tables as libjpeg does, 1–100, and needn't
// be whole; what is dropped besides makes it coarser than libjpeg's of the same number.
func (c *Coefficients) Write(quality float64) ([]byte, error) {
	luma := steps(&luminance, lumaEven, lumaStep, quality)
	chroma := steps(&chrominance, chromaEven, chromaStep, quality)
	var counts [2][256]int
	for i := range c.parts {
		table, n := &chroma, 1
		if i == 0 {
			table, n = &luma, 0
		}
		c.parts[i].round(table)
		c.parts[i].count(&counts[n])
	}
	dear := [2]*prices{priced(&counts[0]), priced(&counts[1])}
	c.parts[0].choose(&luma, dear[0], lumaPrice)
	c.parts[1].choose(&chroma, dear[1], chromaPrice)
	c.parts[2].choose(&chroma, dear[1], chromaPrice)
	best, err := c.write(&luma, &chroma, 0)
	if err != nil {
		return nil, err
	}
	if other, err := c.write(&luma, &chroma, 1); err == nil && len(other) < len(best) {
		best = other
	}
	return best, nil
}

func (c *Coefficients) write(luma, chroma *[64]float32, script int) ([]byte, error) {
	var pin runtime.Pinner
	defer pin.Unpin()
	var planes [3]C.el_coefficients
	for i := range c.parts {
		part, table := &c.parts[i], chroma
		if i == 0 {
			table = luma
		}
		pin.Pin(&part.kept[0])
		planes[i].blocks = (*C.int16_t)(&part.kept[0])
		planes[i].across, planes[i].down = C.int(part.across), C.int(part.down)
		for k, q := range table {
			planes[i].table[zigzag[k]] = C.uint16_t(q)
		}
	}
	var out *C.uint8_t
	var n C.ulong
	var message [256]C.char
	if C.el_write_coefficients(&planes[0], C.int(c.w), C.int(c.h), C.int(script), &out, &n, &message[0]) == 0 {
		return nil, &codec.Error{Type: Type, Problem: "encoding failed: " + C.GoString(&message[0])}
	}
	defer C.free(unsafe.Pointer(out))
	return C.GoBytes(unsafe.Pointer(out), C.int(n)), nil
}
