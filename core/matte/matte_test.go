package matte

import (
	"math"
	"os"
	"testing"

	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/face"
	"echolane/core/raster"
	"echolane/demo/pictures"
)

// judge is how far alpha is from the truth in the mean, and how much of what either has in common.
func judge(p *raster.RGBA, c pictures.Cut) (off, common float64) {
	var both, any float64
	for i, a := range c.Alpha {
		v := p.Row(i / c.W)[4*(i%c.W)+3]
		off += math.Abs(float64(v)-float64(a)) / 255
		switch in, want := v >= 128, a >= 128; {
		case in && want:
			both++
			any++
		case in || want:
			any++
		}
	}
	return off / float64(len(c.Alpha)), both / math.Max(1, any)
}

func opaque(c pictures.Cut) *raster.RGBA {
	p := &raster.RGBA{Pix: c.Pix, Stride: 4 * c.W, W: c.W, H: c.H, Opaque: true}
	return p.Copy()
}

func TestSubjectsAreCutOut(t *testing.T) {
	var off, common, n [2]float64
	for _, c := range pictures.LabelledCuts() {
		p := opaque(c)
		kind := 0
		if c.Busy {
			kind = 1
		}
		n[kind]++
		m, ok := New(p, func() []face.Face { return face.Find(p) }, declare.Focus{})
		if !ok {
			t.Logf("%s: no clear subject", c.Name)
			off[kind]++
			continue
		}
		m.Cut(p, 0, 0, float64(p.W), float64(p.H))
		o, u := judge(p, c)
		t.Logf("%s: off by %.3f, %.3f in common", c.Name, o, u)
		off[kind], common[kind] = off[kind]+o, common[kind]+u
		if dir := os.Getenv("LOOK"); dir != "" {
			q := raster.NewRGBA(p.W, p.H)
			q.Fill(255, 0, 255, 255)
			q.Over(p, 0, 0)
			data, _ := png.Encode(q)
			os.WriteFile(dir+"/"+c.Name+".png", data, 0o644)
		}
	}
	for kind, least := range []struct{ off, common float64 }{{0.02, 0.95}, {0.06, 0.9}} {
		o, u := off[kind]/n[kind], common[kind]/n[kind]
		t.Logf("%s grounds: off by %.4f, %.3f in common", [2]string{"plain", "busy"}[kind], o, u)
		if o > least.off || u < least.common {
			t.Errorf("%s grounds: off by %.4f, at most %.2f wanted; %.3f in common, at least %.2f", [2]string{"plain", "busy"}[kind], o, least.off, u, least.common)
		}
	}
}

func TestWithoutASubjectThereIsNoCut(t *testing.T) {
	p := raster.NewRGBA(200, 120)
	p.Fill(90, 120, 150, 255)
	if _, ok := New(p, func() []face.Face { return face.Find(p) }, declare.Focus{}); ok {
		t.Error("something is cut out of one colour")
	}
	for _, size := range [][2]int{{1, 1}, {3, 200}, {9, 9}} {
		if _, ok := New(raster.NewRGBA(size[0], size[1]), nil, declare.Focus{}); ok {
			t.Errorf("something is cut out of %v", size)
		}
	}
}

func BenchmarkNew(b *testing.B) {
	p := opaque(pictures.LabelledCuts()[2])
	p = raster.ResampleRGBA(p, raster.Axis{Step: 0.75, Len: 640}, raster.Axis{Step: 0.75, Len: 480})
	p.Opaque = true
	for b.Loop() {
		New(p, func() []face.Face { return face.Find(p) }, declare.Focus{})
	}
}

func BenchmarkCut(b *testing.B) {
	p := opaque(pictures.LabelledCuts()[2])
	m, ok := New(p, func() []face.Face { return face.Find(p) }, declare.Focus{})
	if !ok {
		b.Skip("no subject")
	}
	big := raster.ResampleRGBA(p, raster.Axis{Step: 0.288, Len: 1666}, raster.Axis{Step: 0.3, Len: 1200})
	for b.Loop() {
		m.Cut(big.Copy(), 0, 0, 1666, 1200)
	}
}

func TestMeansAreOfWhatIsAround(t *testing.T) {
	for _, c := range [][3]int{{1, 1, 1}, {7, 5, 2}, {3, 4, 6}, {40, 9, 3}, {40, 2, 20}, {41, 3, 19}} {
		w, h, r := c[0], c[1], c[2]
		v := make([]float32, w*h)
		for i := range v {
			v[i] = float32(i*7919%101) / 100
		}
		got := boxed(v, w, h, r)
		for y := range h {
			for x := range w {
				sum, n := 0.0, 0
				for j := max(0, y-r); j <= min(h-1, y+r); j++ {
					for i := max(0, x-r); i <= min(w-1, x+r); i++ {
						sum += float64(v[j*w+i])
						n++
					}
				}
				if want := sum / float64(n); math.Abs(float64(got[y*w+x])-want) > 1e-5 {
					t.Fatalf("%v at %d, %d: %v, want %v", c, x, y, got[y*w+x], want)
				}
			}
		}
	}
}
