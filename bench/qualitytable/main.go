// Command qualitytable works out the tables in core/fidelity and core/render: how far libjpeg-turbo's qualities
// are from the original by our measure, and which settings of the other encoders come as near. It prints the
// median over the corpus, and how the pictures spread.
package main

import (
	"fmt"
	"math"
	"os"
	"sort"
	"strings"

	"echolane/bench/corpus"
	"echolane/core/codec/avif"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/webp"
	"echolane/core/fidelity"
	"echolane/core/raster"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "qualitytable:", err)
		os.Exit(1)
	}
}

var qualities = []int{5, 10, 15, 20, 25, 30, 35, 40, 45, 50, 55, 60, 65, 70, 75, 80, 85, 90, 95, 98}

func run() error {
	all, err := corpus.At(640)
	if err != nil {
		return err
	}
	far := map[int][]float64{}
	settings := map[string]map[int][]float64{"webp": {}, "avif": {}, "jpeg": {}}
	for _, pic := range all {
		planes := pic.Pixels.To420()
		limited := planes.ToLimited()
		original := fidelity.OfPlanes(planes)
		from := func(p *raster.YCbCr, err error) (float64, error) {
			if err != nil {
				return 0, err
			}
			defer p.Free()
			return original.Distance(fidelity.OfPlanes(p)), nil
		}
		jpegs := map[int]float64{}
		for _, q := range qualities {
			data, err := jpeg.EncodePlainly(planes, q)
			if err != nil {
				return err
			}
			p, err := jpeg.Decode(data, jpeg.Options{Scale: 8, Planes: true})
			if jpegs[q], err = from(p.YCbCr, err); err != nil {
				return err
			}
			far[q] = append(far[q], jpegs[q])
		}
		var webps, avifs []point
		for s := 0; s <= 100; s += 7 {
			data, err := webp.EncodePlanes(limited, float64(s))
			if err != nil {
				return err
			}
			d, err := from(webp.DecodePlanes(data))
			if err != nil {
				return err
			}
			webps = append(webps, point{float64(s), d})
		}
		for s := 0; s <= 63; s += 5 {
			data, err := avif.EncodePlanes(planes, avif.Settings{Quantizer: 63 - s, Speed: 8})
			if err != nil {
				return err
			}
			d, err := from(avif.DecodePlanes(data))
			if err != nil {
				return err
			}
			avifs = append(avifs, point{float64(s), d})
		}
		var ours []point
		coefficients := jpeg.Transform(planes)
		for s := 1; s <= 100; s += 9 {
			data, err := coefficients.Write(float64(s))
			if err != nil {
				return err
			}
			p, err := jpeg.Decode(data, jpeg.Options{Scale: 8, Planes: true})
			d, err := from(p.YCbCr, err)
			if err != nil {
				return err
			}
			ours = append(ours, point{float64(s), d})
		}
		for _, q := range qualities {
			settings["jpeg"][q] = append(settings["jpeg"][q], reach(ours, jpegs[q]))
			settings["webp"][q] = append(settings["webp"][q], reach(webps, jpegs[q]))
			settings["avif"][q] = append(settings["avif"][q], reach(avifs, jpegs[q]))
		}
		texture, plain := original.Activity()
		fmt.Fprintf(os.Stderr, "activity %.4f %.4f", texture, plain)
		for _, q := range []int{30, 50, 70, 85} {
			fmt.Fprintf(os.Stderr, " %.2f %.2f %.2f", reach(webps, jpegs[q]), reach(avifs, jpegs[q]), reach(ours, jpegs[q]))
		}
		fmt.Fprintln(os.Stderr)
		fmt.Fprintf(os.Stderr, "%-44s 50: %.4f webp %.0f avif %.0f   72: %.4f  85: %.4f webp %.0f avif %.0f\n", pic.Name,
			jpegs[50], reach(webps, jpegs[50]), reach(avifs, jpegs[50]), jpegs[70], jpegs[85], reach(webps, jpegs[85]), reach(avifs, jpegs[85]))
	}
	var rows [4][]string
	for _, q := range qualities {
		d, w, a, j := far[q], settings["webp"][q], settings["avif"][q], settings["jpeg"][q]
		fmt.Printf("libjpeg %3d  distance %.5f  libwebp %5.1f (%.1f to %.1f)  AVIF %4.1f (%.1f to %.1f)  JPEG %4.1f (%.1f to %.1f)\n", q, part(d, .5), part(w, .5), part(w, .1), part(w, .9), part(a, .5), part(a, .1), part(a, .9), part(j, .5), part(j, .1), part(j, .9))
		rows[0] = append(rows[0], fmt.Sprintf("%.5f", part(d, .5)))
		rows[1] = append(rows[1], fmt.Sprintf("%.1f", part(w, .5)))
		rows[2] = append(rows[2], fmt.Sprintf("%.1f", part(a, .5)))
		rows[3] = append(rows[3], fmt.Sprintf("%.1f", part(j, .5)))
	}
	for i, name := range []string{"distances", "libwebp", "AVIF", "JPEG"} {
		fmt.Printf("%s {%s}\n", name, strings.Join(rows[i], ", "))
	}
	return nil
}

type point struct{ setting, far float64 }

// reach is the setting at which a curve first comes as near as far, between its points by the distances' logarithms.
func reach(curve []point, far float64) float64 {
	for i, p := range curve {
		if p.far <= far {
			if i == 0 {
				return p.setting
			}
			b := curve[i-1]
			la, lb, lf := math.Log(p.far+1e-9), math.Log(b.far+1e-9), math.Log(far+1e-9)
			return b.setting + (p.setting-b.setting)*(lb-lf)/math.Max(1e-9, lb-la)
		}
	}
	return curve[len(curve)-1].setting
}

func part(v []float64, share float64) float64 {
	s := append([]float64(nil), v...)
	sort.Float64s(s)
	return s[int(share*float64(len(s)-1)+0.5)]
}
