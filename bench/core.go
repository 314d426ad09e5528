package main

import (
	"fmt"
	"image"
	"os"
	"os/exec"
	"runtime"
	"strconv"
	"strings"
	"testing"
	"time"

	"golang.org/x/image/draw"
	"golang.org/x/image/math/f64"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
	"echolane/demo/pictures"
)

// textured is a picture with something everywhere.
func textured(w, h int) *raster.RGBA {
	p := raster.NewRGBA(w, h)
	for y := range h {
		for x := range w {
			i := y*p.Stride + 4*x
			p.Pix[i], p.Pix[i+1], p.Pix[i+2], p.Pix[i+3] = uint8(x*3+y), uint8(x^y), uint8(y*5-x), 255
		}
	}
	p.Opaque = true
	return p
}

func asImage(p *raster.RGBA) *image.RGBA {
	return &image.RGBA{Pix: p.Pix, Stride: p.Stride, Rect: image.Rect(0, 0, p.W, p.H)}
}

func axis(from, to int) raster.Axis { return raster.Axis{Step: float64(from) / float64(to), Len: to} }

// resampling measures our kernel against x/image/draw's Catmull-Rom, on one core.
func resampling(r *report) error {
	for _, c := range [][4]int{{2560, 1600, 640, 400}, {1280, 800, 640, 400}} {
		name := fmt.Sprintf("RGBA %d×%d → %d×%d", c[0], c[1], c[2], c[3])
		theirs, ours, ratio := againstCatmullRom(c[0], c[1], c[2], c[3])
		r.say("%-62s %7.2f ms, ours %.2f ms", name+", x/image's Catmull-Rom", theirs, ours)
		r.atLeast(name+" against it", ratio, "×", 25)
	}
	plain, err := inPlainGo()
	if err != nil {
		return err
	}
	r.atLeast("RGBA 2560×1600 → 640×400 in plain Go against it", plain, "×", 2.5)
	w, h := 2560, 1600
	y, cb, cr := raster.NewPlane(w, h), raster.NewPlane(w/2, h/2), raster.NewPlane(w/2, h/2)
	for i := range y.Pix {
		y.Pix[i] = uint8(i * 7)
	}
	m := &image.YCbCr{Y: y.Pix, Cb: cb.Pix, Cr: cr.Pix, YStride: y.Stride, CStride: cb.Stride, SubsampleRatio: image.YCbCrSubsampleRatio420, Rect: image.Rect(0, 0, w, h)}
	dst := image.NewRGBA(image.Rect(0, 0, 640, 400))
	times := alternate(9, func() { draw.CatmullRom.Scale(dst, dst.Rect, m, m.Rect, draw.Src, nil) }, func() {
		raster.ResamplePlane(y, axis(w, 640), axis(h, 400), 1, 0)
		raster.ResamplePlane(cb, axis(w/2, 320), axis(h/2, 200), 1, 0)
		raster.ResamplePlane(cr, axis(w/2, 320), axis(h/2, 200), 1, 0)
	})
	r.say("%-62s %7.2f ms, ours %.2f ms", "planar 4:2:0 2560×1600 → 640×400, x/image's Catmull-Rom", median(times[0]), median(times[1]))
	r.atLeast("planar 4:2:0 2560×1600 → 640×400 against it", 1/ratio(times[1], times[0]), "×", 60)
	return nil
}

func againstCatmullRom(w, h, dw, dh int) (theirs, ours, better float64) {
	src := textured(w, h)
	m, dst := asImage(src), image.NewRGBA(image.Rect(0, 0, dw, dh))
	times := alternate(9, func() { draw.CatmullRom.Scale(dst, dst.Rect, m, m.Rect, draw.Src, nil) },
		func() { raster.ResampleRGBA(src, axis(w, dw), axis(h, dh)).Free() })
	return median(times[0]), median(times[1]), 1 / ratio(times[1], times[0])
}

// plainCommand is how the benchmark starts itself on a processor that it takes to be without vectors.
const plainCommand = "resample-plainly"

func resamplePlainly() {
	_, _, better := againstCatmullRom(2560, 1600, 640, 400)
	fmt.Println(better)
}

func inPlainGo() (float64, error) {
	self, err := os.Executable()
	if err != nil {
		return 0, err
	}
	cmd := exec.Command(self, plainCommand)
	cmd.Env = append(os.Environ(), "GODEBUG=cpu.avx2=off")
	out, err := cmd.Output()
	if err != nil {
		return 0, err
	}
	return strconv.ParseFloat(strings.TrimSpace(string(out)), 64)
}

// painting measures turns, blurs, filters and a whole chain.
func painting(r *report) error {
	const w, h = 1632, 1224 // two megapixels
	src := textured(w, h)
	m, dst := asImage(src), image.NewRGBA(image.Rect(0, 0, w, h))
	const sin, cos = 0.12186934340514748, 0.992546151641322 // 7°
	aff := f64.Aff3{cos, -sin, 0, sin, cos, 0}
	times := alternate(7, func() { draw.CatmullRom.Transform(dst, aff, m, m.Rect, draw.Src, nil) },
		func() { raster.Transform(src, w, h, raster.Turning{A: cos, C: sin, B: -sin, D: cos}) })
	r.say("%-62s %7.1f ms, ours %.1f ms", "2 megapixels turned by 7°, x/image's Catmull-Rom", median(times[0]), median(times[1]))
	r.atLeast("turned by 7° against it", 1/ratio(times[1], times[0]), "×", 4)

	copyOf := func() *raster.RGBA {
		return &raster.RGBA{Pix: append([]uint8(nil), src.Pix...), Stride: src.Stride, W: w, H: h, Opaque: true}
	}
	work := copyOf()
	times = alternate(9, func() { work.Blur(20, raster.Extended) }, func() { work.Blur(80, raster.Extended) })
	r.atMost("blur of 20 pixels on 2 megapixels", median(times[0]), "ms", 25)
	r.atMost("blur of 80 pixels against that", ratio(times[1], times[0]), "×", 1.3)
	for _, f := range []struct {
		name string
		m    raster.Matrix
	}{{"grayscale", raster.Grayscale(1)}, {"sepia", raster.Sepia(0.8)}, {"saturate", raster.Saturate(1.7)}, {"hue-rotate", raster.HueRotate(90)}, {"brightness", raster.Linear(1.2, 0)}, {"contrast", raster.Linear(1.4, -0.2)}, {"invert", raster.Linear(-1, 1)}} {
		one := []raster.Matrix{f.m}
		times := alternate(9, func() { work.ApplyMatrices(one) })
		r.atLeast(f.name, w*h/1000/median(times[0]), "MP/s", 150)
	}
	times = alternate(9, func() { work.Fade(0.999) })
	r.atLeast("opacity", w*h/1000/median(times[0]), "MP/s", 150)
	return nil
}

// chained measures a whole paint chain on 640×400.
func chained(r *report) error {
	source, err := photograph()
	if err != nil {
		return err
	}
	mark, err := pictures.Load("mark.png")
	if err != nil {
		return err
	}
	job := func(query string) (render.Job, error) {
		d, err := declare.Parse(query)
		start := time.Now()
		return render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits,
			Pictures: map[string][]byte{"catalogue/mark.png": mark}, Layers: render.NewLayerCache(16 << 20),
			Clock: func() time.Duration { return time.Since(start) }}, err
	}
	const common = "width=640&height=400&object-fit=cover&format=webp&gradient-map=123+0a7+fed+60%25&border-radius=24px"
	for _, c := range []struct{ name, layer string }{
		{"text", "&after-content=%22Kites+over+the+meadow%22&after-font=bold+28px+sans-serif&after-color=white&after-inset=auto+auto+20px+20px"},
		{"a mark", "&after-content=url(catalogue/mark.png)&after-width=18%25&after-inset=auto+4%25+4%25+auto&after-opacity=.7&after-mix-blend-mode=multiply"},
	} {
		j, err := job(common + c.layer)
		if err != nil {
			return err
		}
		var took []float64
		for range 15 {
			result, err := render.Variant(source, j)
			if err != nil {
				return err
			}
			var ms float64
			for _, s := range result.Stages {
				if s.Name == "layers" || s.Name == "paint" {
					ms += s.Took.Seconds() * 1000
				}
			}
			took = append(took, ms)
		}
		r.atMost("gradient map, radius and "+c.name+" on 640×400", median(took), "ms", 8)
	}
	steady, err := job("width=640&height=400&object-fit=cover&format=webp&filter=blur(3px)")
	if err != nil {
		return err
	}
	const renders = 20
	var before, after runtime.MemStats
	for n := range renders + 5 {
		if n == 5 {
			runtime.ReadMemStats(&before)
		}
		if _, err := render.Variant(source, steady); err != nil {
			return err
		}
	}
	runtime.ReadMemStats(&after)
	r.atMost("allocated for a variant of 2560×1600 at 640×400, once others were made", float64(after.TotalAlloc-before.TotalAlloc)/renders/1024, "KiB", 640*400*4/1024)

	var best testing.BenchmarkResult
	for range 5 {
		b := testing.Benchmark(func(b *testing.B) {
			var room [256]byte
			offered := []declare.Format{declare.WebP, declare.JPEG, declare.PNG}
			for b.Loop() {
				d, err := declare.Parse("width=350&aspect-ratio=3/2&object-fit=cover&quality=72")
				if err != nil {
					b.Fatal(err)
				}
				d.AppendAddressForm(room[:0])
				var resolved declare.Resolved
				d.Settle(offered, &resolved)
			}
		})
		if best.N == 0 || b.NsPerOp() < best.NsPerOp() {
			best = b
		}
	}
	r.atMost("parse, address form, resolve", float64(best.NsPerOp())/1000, "µs", 1.5)
	return nil
}
