package raster

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
)

// scene is premultiplied, of plain areas with hard edges and some noise, opaque or not.
func scene(r *rand.Rand, w, h int, opaque bool) *RGBA {
	p := NewRGBA(w, h)
	p.Opaque = opaque
	for y := range h {
		for x := range w {
			q := p.Row(y)[4*x:]
			q[0], q[1], q[2], q[3] = uint8(40+x*150/w), uint8(200-y*150/h), uint8(r.UintN(40)), 255
			if (x/9+y/13)%3 == 0 {
				q[0], q[1], q[2] = 240, 20, 90
			}
			if !opaque {
				q[3] = uint8([]int{0, 90, 255}[(x/7+y/5)%3])
			}
		}
	}
	if !opaque {
		p.Premultiply()
	}
	return p
}

// threeTimes averages a row three times in float64 with the boxes of filter effects, section 6.1.
func threeTimes(row []float64, sigma float64, edge Edge) []float64 {
	d := int(math.Floor(sigma*3*math.Sqrt(2*math.Pi)/4 + 0.5))
	lefts, sizes := [3]int{d / 2, d / 2, d / 2}, [3]int{d, d, d}
	if d%2 == 0 {
		lefts, sizes = [3]int{d / 2, d/2 - 1, d / 2}, [3]int{d, d, d + 1}
	}
	pad := 2 * d
	line := make([]float64, len(row)+2*pad)
	for i := range line {
		if j := i - pad; j >= 0 && j < len(row) {
			line[i] = row[j]
		} else if edge == Extended {
			line[i] = row[min(max(j, 0), len(row)-1)]
		}
	}
	for b := range 3 {
		next := make([]float64, len(line))
		for i := range line {
			for j := i - lefts[b]; j < i-lefts[b]+sizes[b]; j++ {
				next[i] += line[min(max(j, 0), len(line)-1)] / float64(sizes[b])
			}
		}
		line = next
	}
	return line[pad : pad+len(row)]
}

func TestBlurIsThreeBoxes(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 9))
	for _, sigma := range []float64{2, 3.5, 5, 8, 20, 33} {
		for _, edge := range []Edge{Extended, Faded} {
			for _, opaque := range []bool{true, false} {
				t.Run(fmt.Sprintf("%v edge %v opaque %v", sigma, edge, opaque), func(t *testing.T) {
					p := scene(r, 157, 101, opaque)
					want := make([]float64, 4*p.W*p.H)
					for y := range p.H {
						for c := range 4 {
							row := make([]float64, p.W)
							for x := range row {
								row[x] = float64(p.Row(y)[4*x+c])
							}
							for x, v := range threeTimes(row, sigma, edge) {
								want[4*(y*p.W+x)+c] = v
							}
						}
					}
					for x := range p.W {
						for c := range 4 {
							column := make([]float64, p.H)
							for y := range column {
								column[y] = want[4*(y*p.W+x)+c]
							}
							for y, v := range threeTimes(column, sigma, edge) {
								want[4*(y*p.W+x)+c] = v
							}
						}
					}
					p.Blur(sigma, edge)
					worst, sum := 0.0, 0.0
					for y := range p.H {
						for i, v := range p.Row(y) {
							d := math.Abs(float64(v) - want[4*y*p.W+i])
							worst, sum = max(worst, d), sum+d
						}
					}
					// Where the blur is done on a smaller picture it may be off by what no eye sees.
					allowed, mean := 1.6, 0.5
					if reduction(sigma, min(p.W, p.H)) > 1 {
						allowed, mean = 5, 0.9
					}
					if worst > allowed || sum/float64(len(want)) > mean {
						t.Errorf("off by up to %.2f levels, %.3f in the mean; at most %v and %v", worst, sum/float64(len(want)), allowed, mean)
					}
				})
			}
		}
	}
}

func TestBlurKeepsAPlainColourAndPremultiplied(t *testing.T) {
	plain := NewRGBA(130, 70)
	plain.Fill(200, 100, 50, 255)
	for _, sigma := range []float64{0.5, 1.9, 2, 6, 40, 300} {
		plain.Blur(sigma, Extended)
		for i, v := range plain.Pix {
			if want := [4]uint8{200, 100, 50, 255}[i%4]; v != want {
				t.Fatalf("blur of %v made %d of %d in a plain picture", sigma, v, want)
			}
		}
	}
	p := scene(rand.New(rand.NewPCG(1, 2)), 90, 120, false)
	for _, sigma := range []float64{0.7, 4, 25} {
		p.Blur(sigma, Faded)
		for i := 0; i < len(p.Pix); i += 4 {
			if q := p.Pix[i:]; int(max(q[0], q[1], q[2])) > int(q[3])+1 {
				t.Fatalf("blur of %v left %v, brighter than its alpha", sigma, q[:4])
			}
		}
	}
}

func TestMatricesAreTheSumInFloat64(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	named := map[string]Matrix{
		"grayscale": Grayscale(1), "half grayscale": Grayscale(0.5), "sepia": Sepia(0.8), "saturate": Saturate(3),
		"hue-rotate": HueRotate(123), "brightness": Linear(1.4, 0), "contrast": Linear(2, -127.5), "invert": Linear(-1, 255),
	}
	for name, m := range named {
		for _, opaque := range []bool{true, false} {
			p := scene(r, 61, 47, opaque)
			before := append([]uint8(nil), p.Pix...)
			p.ApplyMatrices([]Matrix{m})
			for i := 0; i < len(before); i += 4 {
				a := float64(before[i+3])
				if p.Pix[i+3] != before[i+3] {
					t.Fatalf("%s changed alpha", name)
				}
				if a == 0 {
					continue
				}
				for c := range 3 {
					v := float64(m[c][3])
					for s := range 3 {
						v += float64(m[c][s]) * float64(before[i+s]) * 255 / a
					}
					want := min(max(v, 0), 255) * a / 255
					if got := float64(p.Pix[i+c]); math.Abs(got-want) > 0.52 {
						t.Fatalf("%s, opaque %v: %v became %v in channel %d, want %.3f", name, opaque, before[i:i+4], got, c, want)
					}
				}
			}
		}
	}
}

func TestMatricesWithVectorsEqualPlain(t *testing.T) {
	r := rand.New(rand.NewPCG(8, 8))
	for range 2000 {
		row := make([]uint8, 4*(1+r.IntN(60)))
		for i := 0; i < len(row); i += 4 {
			a := []int{0, 1, r.IntN(256), 254, 255}[r.IntN(5)]
			row[i+3] = uint8(a)
			for c := range 3 {
				row[i+c] = uint8(r.IntN(a + 1))
			}
		}
		ms := make([]Matrix, 1+r.IntN(4))
		for i := range ms {
			for j := range 12 {
				ms[i][j/4][j%4] = float32(r.NormFloat64())
			}
			for j := range 3 {
				ms[i][j][3] *= 100
			}
		}
		plain, fast := append([]uint8(nil), row...), append([]uint8(nil), row...)
		applyMatricesPlain(plain, ms)
		applyMatrices(fast, ms)
		for i := range plain {
			if plain[i] != fast[i] {
				t.Fatalf("pixel %v under %v: channel %d is %d plainly, %d with vectors", row[i/4*4:i/4*4+4], ms, i%4, plain[i], fast[i])
			}
		}
	}
}

func TestMatricesInARowAreClampedBetween(t *testing.T) {
	p := NewRGBA(1, 1)
	p.Fill(200, 100, 50, 255)
	p.ApplyMatrices([]Matrix{Linear(2, 0), Linear(0.5, 0)})
	if got := [4]uint8(p.Pix); got != [4]uint8{128, 100, 50, 255} {
		t.Errorf("brightness(2) brightness(0.5) made %v; 200 is clamped to 255 on the way", got)
	}
}

func TestFadeAndRoundedCorners(t *testing.T) {
	p := NewRGBA(100, 60)
	p.Fill(200, 100, 50, 255)
	p.Fade(0.5)
	if got := [4]uint8(p.Pix[:4]); got != [4]uint8{100, 50, 25, 128} || p.Opaque {
		t.Errorf("half of (200 100 50 255) is %v, opaque %v", got, p.Opaque)
	}
	p.Fill(255, 255, 255, 255)
	p.Round([4]float64{20, 20, 20, 20}, [4]float64{20, 20, 20, 20})
	sum := 0.0
	for i := 3; i < len(p.Pix); i += 4 {
		sum += float64(p.Pix[i]) / 255
	}
	if want := 100*60 - (4-math.Pi)*20*20; math.Abs(sum-want) > 2 {
		t.Errorf("corners of 20 leave %.1f pixels covered, want %.1f", sum, want)
	}
	if p.Row(0)[3] != 0 || p.Row(30)[3] != 255 || p.Row(0)[4*50+3] != 255 {
		t.Error("the corner is not cut, or more than the corner is")
	}
}
