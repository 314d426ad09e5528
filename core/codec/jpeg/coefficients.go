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

// Coefficients are a picture's DCT, from which it is written at any quality with trellis quantization: levels are chosen for the
// least squared error plus λ times the bits (K. Ramchandran, M. Vetterli, *Rate-distortion optimal fast thresholding with
// complete JPEG/MPEG decoder compatibility*, IEEE Transactions on Image Processing 3, 1994). The same likeness takes fewer
// bytes than with rounding. Any decoder reads the file.
type Coefficients struct {
	w, h  int
	parts [3]component
}

// component is one plane's: blocks of 64, in zigzag order.
type component struct {
	across, down int
	coefficients []float32
	lambda       []float32 // λ of each block, as a multiple of the usual: larger where the block is plain
	levels       []int16   // quantized by the last Write, in raster order
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

// Transform takes the DCT of a 4:2:0 picture in Full range. It may be written any number of times, by one goroutine at a time.
func Transform(p *raster.YCbCr) *Coefficients {
	c := &Coefficients{w: p.W, h: p.H}
	for i, plane := range []*raster.Plane{&p.Y, &p.Cb, &p.Cr} {
		c.parts[i] = transform(plane)
	}
	return c
}

func transform(p *raster.Plane) component {
	c := component{across: (p.W + 7) / 8, down: (p.H + 7) / 8}
	c.coefficients = make([]float32, 64*c.across*c.down)
	c.lambda = make([]float32, c.across*c.down)
	c.levels = make([]int16, len(c.coefficients))
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
			forwardDCT(&block)
			n := by*c.across + bx
			out := c.coefficients[64*n : 64*n+64]
			energy := float32(0)
			for k := range out {
				v := block[zigzag[k]]
				out[k] = v
				if k > 0 {
					energy += v * v
				}
			}
			c.lambda[n] = float32(math.Pow(float64(energy/64+20)/220, -0.1))
		}
	}
	return c
}

// forwardDCT is the DCT of ITU-T T.81, section A.3.3, in place: eight rows, then eight columns.
func forwardDCT(b *[64]float32) {
	for i := 0; i < 64; i += 8 {
		dct8(b, i, 1)
	}
	for i := range 8 {
		dct8(b, i, 8)
	}
}

// dct8 is the DCT of eight samples, in its even and odd halves.
func dct8(b *[64]float32, at, step int) {
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

// λ in squared quantizer steps, and how far the tables of annex K are moved towards one step for all frequencies. `make
// quality-report` measures them: they give the fewest bytes at equal SSIM.
const (
	lumaLambda, chromaLambda     = 0.1, 0.08
	lumaFlatness, chromaFlatness = 0.6, 0.4
	lumaFlatStep, chromaFlatStep = 24, 40
)

// quantTable is a quantization table at a quality, which needn't be whole: annex K's, moved towards one step by a geometric
// mean and scaled as libjpeg does.
func quantTable(table *[64]int, even, step, quality float64) (out [64]float32) {
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

// entropyCosts are the bits of each run of zeros with a category, estimated from how often the picture has them.
type entropyCosts struct {
	bits [256]float32 // by run<<4 | category, with the bits of the value itself
}

const eob, zrl = 0x00, 0xf0

func (c *component) count(counts *[256]int) {
	for n := 0; n < len(c.levels); n += 64 {
		block := c.levels[n : n+64]
		run := 0
		for k := 1; k < 64; k++ {
			v := block[zigzag[k]]
			if v == 0 {
				run++
				continue
			}
			for ; run > 15; run -= 16 {
				counts[zrl]++
			}
			counts[run<<4|category(int(v))]++
			run = 0
		}
		if run > 0 {
			counts[eob]++
		}
	}
}

func category(v int) int {
	if v < 0 {
		v = -v
	}
	n := 0
	for ; v > 0; v >>= 1 {
		n++
	}
	return n
}

func entropyCostsOf(counts *[256]int) *entropyCosts {
	total := 0.0
	for i := range counts {
		total += float64(counts[i]) + 0.25
	}
	p := &entropyCosts{}
	for i := range counts {
		bits := math.Log2(total / (float64(counts[i]) + 0.25))
		p.bits[i] = float32(math.Min(16, math.Max(1, bits))) + float32(i&15)
	}
	return p
}

// quantize rounds every coefficient.
func (c *component) quantize(table *[64]float32) {
	var inverse [64]float32
	for k, q := range table {
		inverse[k] = 1 / q
	}
	for n := 0; n < len(c.coefficients); n += 64 {
		for k, v := range c.coefficients[n : n+64] {
			c.levels[n+int(zigzag[k])] = round(v * inverse[k])
		}
	}
}

func round(v float32) int16 {
	if v < 0 {
		return -int16(0.5 - v)
	}
	return int16(v + 0.5)
}

// predecessors is among how many nonzero levels before it the trellis looks for the best one.
const predecessors = 8

// trellis chooses each block's levels for the least squared error plus λ times the bits. A coefficient may be rounded, taken one
// nearer to zero, or dropped. Dynamic programming over the last nonzero level finds the best path. Errors are in steps.
func (c *component) trellis(table *[64]float32, p *entropyCosts, base float32) {
	var inverse [64]float32
	for k, q := range table {
		inverse[k] = 1 / q
	}
	var cost, dropped [64]float32 // the cheapest with the last one kept at k; the error of dropping all up to k
	var before [64]int8
	var value [64]int16
	for n, scale := range c.lambda {
		block := c.coefficients[64*n : 64*n+64]
		levels := c.levels[64*n : 64*n+64]
		clear(levels)
		levels[0] = round(block[0] * inverse[0])
		lambda := base * scale
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
				s := category(try)
				for i := count - 1; i >= max(0, count-predecessors); i-- {
					j := int(nodes[i])
					run := k - 1 - j
					bits := p.bits[(run&15)<<4|s]
					if run > 15 {
						bits += float32(run>>4) * p.bits[zrl]
					}
					total := cost[j] + dropped[k-1] - dropped[j] + e*e + lambda*bits
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
				total += lambda * p.bits[eob]
			}
			if total < best {
				best, last = total, k
			}
		}
		for k := last; k > 0; k = int(before[k]) {
			if v := value[k]; block[k] < 0 {
				levels[zigzag[k]] = -v
			} else {
				levels[zigzag[k]] = v
			}
		}
	}
}

// Write writes the picture as a progressive JPEG, with whichever of two scan scripts takes fewer bytes. quality scales the
// tables as libjpeg does, 1–100, and needn't be whole; the trellis makes the picture coarser than libjpeg's of the same number.
func (c *Coefficients) Write(quality float64) ([]byte, error) {
	luma := quantTable(&luminance, lumaFlatness, lumaFlatStep, quality)
	chroma := quantTable(&chrominance, chromaFlatness, chromaFlatStep, quality)
	var counts [2][256]int
	for i := range c.parts {
		table, n := &chroma, 1
		if i == 0 {
			table, n = &luma, 0
		}
		c.parts[i].quantize(table)
		c.parts[i].count(&counts[n])
	}
	costs := [2]*entropyCosts{entropyCostsOf(&counts[0]), entropyCostsOf(&counts[1])}
	c.parts[0].trellis(&luma, costs[0], lumaLambda)
	c.parts[1].trellis(&chroma, costs[1], chromaLambda)
	c.parts[2].trellis(&chroma, costs[1], chromaLambda)
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
		pin.Pin(&part.levels[0])
		planes[i].blocks = (*C.int16_t)(&part.levels[0])
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
