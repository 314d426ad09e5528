// Command qualityreport holds the promises of compression against measures that aren't ours, on the whole corpus, and
// writes a page with plots: `make quality-report`.
package main

import (
	"fmt"
	"html/template"
	"os"
	"sort"

	"echolane/bench/corpus"
	"echolane/bench/independent"
	"echolane/core/codec"
	"echolane/core/codec/avif"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
)

func main() {
	to := "var/quality.html"
	if len(os.Args) > 1 {
		to = os.Args[1]
	}
	if err := run(to); err != nil {
		fmt.Fprintln(os.Stderr, "qualityreport:", err)
		os.Exit(1)
	}
}

var (
	marks   = []int{25, 40, 47, 53, 60, 69, 75, 82, 88, 95}
	asked   = []int{50, 72, 85}
	formats = []declare.Format{declare.WebP, declare.AVIF, declare.JPEG}
)

// seen are the two independent measures of one encode.
type seen struct {
	Bytes     int
	SSIM, HVS float64
}

// a Result is one picture in one format at one quality.
type Result struct {
	Picture, Format, Way string
	Asked                int
	Bytes                int
	SSIMQuality          float64 // the quality of libjpeg-turbo with this SSIM
	HVSQuality           float64
	Tries                int
}

func run(to string) error {
	pictures, err := corpus.At(640)
	if err != nil {
		return err
	}
	var all []Result
	ratios := map[string][]float64{}
	for _, pic := range pictures {
		results, ratio, err := measure(pic)
		if err != nil {
			return fmt.Errorf("%s: %w", pic.Name, err)
		}
		all = append(all, results...)
		for f, r := range ratio {
			ratios[f] = append(ratios[f], r)
		}
		fmt.Fprintln(os.Stderr, pic.Name)
	}
	var lines []string
	say := func(format string, args ...any) {
		lines = append(lines, fmt.Sprintf(format, args...))
		fmt.Println(lines[len(lines)-1])
	}
	for _, way := range []string{"searched", "predicted"} {
		for _, f := range formats {
			for _, q := range asked {
				s, h, n := 0, 0, 0
				var off []float64
				for _, r := range all {
					if r.Format == f.String() && r.Asked == q && r.Way == way {
						n++
						off = append(off, r.SSIMQuality-float64(q))
						if d := r.SSIMQuality - float64(q); d <= 3 && d >= -3 {
							s++
						}
						if d := r.HVSQuality - float64(q); d <= 3 && d >= -3 {
							h++
						}
					}
				}
				say("%-9s %-4s quality %d: within 3 points of libjpeg-turbo's curve by SSIM %3.0f %% (the median %+.1f), by PSNR-HVS %3.0f %% of %d pictures", way, f, q, 100*float64(s)/float64(n), median(off), 100*float64(h)/float64(n), n)
			}
		}
	}
	for _, f := range formats {
		say("%-4s at the SSIM of libjpeg-turbo at 72: %.2f of its bytes on the median photograph", f, median(ratios[f.String()]))
	}
	return page(to, all, lines)
}

func measure(pic corpus.Picture) ([]Result, map[string]float64, error) {
	source, err := png.Encode(pic.Pixels)
	if err != nil {
		return nil, nil, err
	}
	planes := pic.Pixels.To420()
	luma := independent.Luma(pic.Pixels.Pix, pic.Pixels.Stride, pic.Pixels.W, pic.Pixels.H)
	look := func(data []byte) (seen, error) {
		p, err := pixels(data)
		if err != nil {
			return seen{}, err
		}
		l := independent.Luma(p.Pix, p.Stride, p.W, p.H)
		return seen{len(data), independent.SSIM(luma, l, p.W, p.H), independent.PSNRHVS(luma, l, p.W, p.H)}, nil
	}
	curve := make([]seen, len(marks))
	for i, q := range marks {
		data, err := jpeg.EncodePlanes(planes, q)
		if err != nil {
			return nil, nil, err
		}
		if curve[i], err = look(data); err != nil {
			return nil, nil, err
		}
	}
	quality := func(v float64, of func(seen) float64) float64 {
		for i := 1; i < len(marks); i++ {
			if a, b := of(curve[i-1]), of(curve[i]); v <= b || i == len(marks)-1 {
				return float64(marks[i-1]) + (v-a)/(b-a)*float64(marks[i]-marks[i-1])
			}
		}
		return 0
	}
	ssim, hvs := func(s seen) float64 { return s.SSIM }, func(s seen) float64 { return s.HVS }
	bytesAt := func(q float64) float64 {
		for i := 1; i < len(marks); i++ {
			if float64(marks[i]) >= q || i == len(marks)-1 {
				t := (q - float64(marks[i-1])) / float64(marks[i]-marks[i-1])
				return float64(curve[i-1].Bytes) + t*float64(curve[i].Bytes-curve[i-1].Bytes)
			}
		}
		return 0
	}
	var out []Result
	ratio := map[string]float64{}
	for _, f := range formats {
		for _, q := range asked {
			for _, way := range []string{"searched", "predicted"} {
				d := declare.Declarations{Format: f, Quality: declare.Quality(q)}
				r, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Predict: way == "predicted"})
				if err != nil {
					return nil, nil, err
				}
				s, err := look(r.Data)
				if err != nil {
					return nil, nil, err
				}
				sq := quality(s.SSIM, ssim)
				out = append(out, Result{pic.Name, f.String(), way, q, s.Bytes, sq, quality(s.HVS, hvs), len(r.How.Trials)})
				if q == 72 && way == "searched" { // held against libjpeg-turbo at the quality that it really reached
					ratio[f.String()] = float64(s.Bytes) / bytesAt(sq)
				}
			}
		}
	}
	return out, ratio, nil
}

func pixels(data []byte) (*raster.RGBA, error) {
	var p codec.Picture
	var err error
	switch codec.Sniff(data) {
	case webp.Type:
		p, err = webp.Decode(data)
	case avif.Type:
		p, err = avif.Decode(data)
	default:
		p, err = jpeg.Decode(data, jpeg.Options{Scale: 8})
	}
	return p.RGBA, err
}

func median(v []float64) float64 {
	s := append([]float64(nil), v...)
	sort.Float64s(s)
	return s[len(s)/2]
}

const layout = `<!doctype html><html lang="en"><meta charset="utf-8"><title>Visible quality</title>
<style>body{margin:24px auto;max-width:1040px;padding:0 16px;font:15px/1.5 system-ui,sans-serif;background:#fbfaf8;color:#20282c}pre{overflow-x:auto;font-size:13px}
svg{width:100%;height:auto}text{font:12px ui-monospace,monospace;fill:#5c666b}.grid{stroke:#d5d2cc}.webp{fill:#3b5bb5}.avif{fill:#00695c}.band{fill:#00695c;opacity:.08}h2{font-size:16px}</style>
<h1>Visible quality</h1><p>Each dot is one photograph at 640 pixels wide. Its height is the quality at which libjpeg-turbo, 4:2:0, has the same SSIM as our variant; the band is ±3 around what was asked for. On the left of each column WebP, on the right AVIF.</p>
<pre>{{range .Lines}}{{.}}
{{end}}</pre>
{{range .Plots}}<h2>{{.Title}}</h2><svg viewBox="0 0 1000 420" role="img" aria-label="{{.Title}}">
{{range .Bands}}<rect class="band" x="{{.X}}" y="{{.Y}}" width="280" height="{{.H}}"/><text x="{{.X}}" y="410">asked {{.Asked}}</text>{{end}}
{{range .Ticks}}<line class="grid" x1="40" x2="1000" y1="{{.Y}}" y2="{{.Y}}"/><text x="32" y="{{.Y}}" dy="4" text-anchor="end">{{.Text}}</text>{{end}}
{{range .Dots}}<circle class="{{.Format}}" cx="{{.X}}" cy="{{.Y}}" r="3"><title>{{.Title}}</title></circle>{{end}}</svg>{{end}}</html>`

func page(to string, all []Result, lines []string) error {
	type dot struct {
		X, Y          float64
		Format, Title string
	}
	type tick struct {
		Y    float64
		Text string
	}
	type band struct {
		X, Y, H float64
		Asked   int
	}
	type plot struct {
		Title string
		Dots  []dot
		Ticks []tick
		Bands []band
	}
	y := func(q float64) float64 { return 20 + (100-max(25, min(100, q)))/75*370 }
	var plots []plot
	for _, way := range []string{"searched", "predicted"} {
		p := plot{Title: "By SSIM, " + way}
		for q := 30; q <= 100; q += 10 {
			p.Ticks = append(p.Ticks, tick{y(float64(q)), fmt.Sprint(q)})
		}
		for i, q := range asked {
			p.Bands = append(p.Bands, band{60 + 320*float64(i), y(float64(q) + 3), y(float64(q)-3) - y(float64(q)+3), q})
		}
		count := map[string]int{}
		for _, r := range all {
			if r.Way != way {
				continue
			}
			column := 0
			for r.Asked != asked[column] {
				column++
			}
			k := fmt.Sprint(r.Format, r.Asked)
			x := 64 + 320*float64(column) + 3.4*float64(count[k])
			if r.Format == "avif" {
				x += 140
			}
			count[k]++
			p.Dots = append(p.Dots, dot{x, y(r.SSIMQuality), r.Format, fmt.Sprintf("%s, %s: %d bytes, SSIM as at %.1f, PSNR-HVS as at %.1f, %d encodes", r.Picture, r.Format, r.Bytes, r.SSIMQuality, r.HVSQuality, r.Tries)})
		}
		plots = append(plots, p)
	}
	t, err := template.New("report").Parse(layout)
	if err != nil {
		return err
	}
	f, err := os.Create(to)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := t.Execute(f, map[string]any{"Lines": lines, "Plots": plots}); err != nil {
		return err
	}
	fmt.Println("page:", to)
	return f.Close()
}
