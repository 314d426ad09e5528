// Command qualitytable works out which setting of libwebp comes as close to a painted picture as
// libjpeg-turbo does at each quality, 4:2:0: the table in core/render. It reduces the demo's photographs to
// 640 pixels, encodes each both ways, finds equal structural similarity of luma (Wang et al. 2004, windows of
// 8×8), and prints the median over the pictures.
package main

import (
	"fmt"
	"os"
	"sort"
	"strings"

	"echolane/core/codec/jpeg"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
	"echolane/demo/pictures"
)

var photographs = []string{
	"delta-red.jpg", "festival-dawn.jpg", "box-kite-cliff.jpg", "coast-panorama.jpg", "dragon-tail.jpg", "rokkaku-studio.jpg",
	"festival-crowd.jpg", "spool-turned.jpg", "poster-press.jpg",
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "qualitytable:", err)
		os.Exit(1)
	}
}

func run() error {
	found := map[int][]float64{}
	for _, file := range photographs {
		p, err := small(file)
		if err != nil {
			return fmt.Errorf("%s: %w", file, err)
		}
		of := func(decoded *raster.RGBA) float64 { return ssim(luma(p), luma(decoded), p.W, p.H) }
		curve := make([]float64, 101)
		for q := range curve {
			data, err := webp.EncodeRGBA(p, float64(q))
			if err != nil {
				return err
			}
			d, err := webp.Decode(data)
			if err != nil {
				return err
			}
			curve[q] = of(d.RGBA)
		}
		for q := 10; q <= 100; q += 5 {
			data, err := jpeg.EncodeRGBA(p, q)
			if err != nil {
				return err
			}
			d, err := jpeg.Decode(data, jpeg.Options{})
			if err != nil {
				return err
			}
			found[q] = append(found[q], reach(curve, of(d.RGBA)))
		}
		fmt.Fprintln(os.Stderr, file)
	}
	var table []string
	last := 0.0
	for q := 10; q <= 100; q += 5 {
		sort.Float64s(found[q])
		last = max(last, found[q][len(found[q])/2])
		fmt.Printf("libjpeg %3d  libwebp %5.1f   (%.1f to %.1f)\n", q, last, found[q][0], found[q][len(found[q])-1])
		table = append(table, fmt.Sprintf("%.1f", last))
	}
	fmt.Printf("{%s}\n", strings.Join(table, ", "))
	return nil
}

func small(file string) (*raster.RGBA, error) {
	source, err := pictures.Draw(file)
	if err != nil {
		return nil, err
	}
	d, err := declare.Parse("width=640&format=png")
	if err != nil {
		return nil, err
	}
	r, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
	if err != nil {
		return nil, err
	}
	p, err := png.Decode(r.Data)
	return p.RGBA, err
}

// reach is the setting at which a rising curve first reaches v, between its points.
func reach(curve []float64, v float64) float64 {
	for q := 1; q < len(curve); q++ {
		if curve[q] >= v {
			if curve[q] == curve[q-1] || curve[q-1] >= v {
				return float64(q - 1)
			}
			return float64(q-1) + (v-curve[q-1])/(curve[q]-curve[q-1])
		}
	}
	return 100
}

func luma(p *raster.RGBA) []float64 {
	y := make([]float64, p.W*p.H)
	for i := range y {
		y[i] = 0.299*float64(p.Pix[4*i]) + 0.587*float64(p.Pix[4*i+1]) + 0.114*float64(p.Pix[4*i+2])
	}
	return y
}

func ssim(a, b []float64, w, h int) float64 {
	const n, c1, c2 = 8, 6.5025, 58.5225
	var sum float64
	count := 0
	for y := 0; y+n <= h; y += 4 {
		for x := 0; x+n <= w; x += 4 {
			var sa, sb, saa, sbb, sab float64
			for j := range n {
				for i := range n {
					u, v := a[(y+j)*w+x+i], b[(y+j)*w+x+i]
					sa, sb, saa, sbb, sab = sa+u, sb+v, saa+u*u, sbb+v*v, sab+u*v
				}
			}
			const m = n * n
			ma, mb := sa/m, sb/m
			va, vb, cov := saa/m-ma*ma, sbb/m-mb*mb, sab/m-ma*mb
			sum += (2*ma*mb + c1) * (2*cov + c2) / ((ma*ma + mb*mb + c1) * (va + vb + c2))
			count++
		}
	}
	return sum / float64(count)
}
