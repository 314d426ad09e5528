// Command qualityreport holds the promises of compression against measures that aren't ours, on the whole corpus, and
// writes a page with plots: `make quality-report`. Its arguments are where to, and some formats where not all are asked for.
package main

import (
	"fmt"
	"html/template"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"

	"golang.org/x/sync/errgroup"

	"echolane/bench/corpus"
	"echolane/bench/direct"
	"echolane/bench/independent"
	"echolane/core/codec"
	"echolane/core/codec/avif"
	imageformats "echolane/core/codec/formats"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/jxl"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
	"echolane/demo/pictures"
)

func main() {
	to := "var/quality.html"
	if len(os.Args) > 1 {
		to = os.Args[1]
	}
	if only := os.Args[min(2, len(os.Args)):]; len(only) > 0 { // some formats
		other := func(f declare.Format) bool { return !slices.Contains(only, f.String()) }
		formats = slices.DeleteFunc(formats, other)
		efforts = slices.DeleteFunc(efforts, func(e effort) bool { return other(e.format) })
	}
	if err := run(to); err != nil {
		fmt.Fprintln(os.Stderr, "qualityreport:", err)
		os.Exit(1)
	}
}

var (
	marks   = []int{25, 40, 47, 53, 60, 69, 72, 75, 82, 88, 95}
	asked   = []int{50, 72, 85}
	formats = []declare.Format{declare.WebP, declare.AVIF, declare.JXL, declare.JPEG}
)

// An effort is a way a format is written, whose bytes are told.
type effort struct {
	name     string
	format   declare.Format
	thorough bool
	most     float64
}

var efforts = []effort{{"JPEG", declare.JPEG, false, 0.92}, {"WebP", declare.WebP, false, 0.60}, {"JPEG XL", declare.JXL, false, 0.60}, {"AVIF, quick", declare.AVIF, false, 0.48}, {"AVIF, thorough", declare.AVIF, true, 0.40}}

// optioned is the plain encoder of AVIF with the options that ours has; without them it is as libavif comes.
const optioned = "avif, with our options"

// seen are the independent measures of one encode.
type seen struct {
	Bytes         int
	SSIM, MS, HVS float64
	Likeness      float64
}

// a Result is one picture in one format at one quality.
type Result struct {
	Picture, Format, Way string
	Asked                int
	Bytes                int
	Likeness             float64 // by our own measure
	BySSIM, ByMS, ByHVS  float64 // the quality of libjpeg-turbo at which that measure is the same
	Tries                int
}

// a Picture is what is measured of one.
type Picture struct {
	Drawn   bool
	Results []Result
	Ratios  map[string]float64 // by effort: bytes over those of libjpeg-turbo at 72, at its SSIM
	Fixed   map[string][]at    // by format: the plain encoder at settings that are the same for all pictures
}

// at is how near a setting comes, and its bytes.
type at struct {
	likeness float64
	bytes    int
}

func run(to string) error {
	all640, err := corpus.At(640)
	if err != nil {
		return err
	}
	measured := make([]Picture, len(all640))
	var work errgroup.Group
	work.SetLimit(runtime.NumCPU())
	for i, pic := range all640 {
		work.Go(func() error {
			var err error
			if measured[i], err = measure(pic); err != nil {
				return fmt.Errorf("%s: %w", pic.Name, err)
			}
			fmt.Fprintln(os.Stderr, pic.Name)
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	var all []Result
	for _, p := range measured {
		all = append(all, p.Results...)
	}
	var lines []string
	say := func(format string, args ...any) {
		lines = append(lines, fmt.Sprintf(format, args...))
		fmt.Println(lines[len(lines)-1])
	}
	kept := func(ok bool) string {
		if ok {
			return "kept"
		}
		return "NOT KEPT"
	}
	for _, way := range []string{"searched", "predicted"} {
		least := 0.9
		if way == "predicted" {
			least = 0.7
		}
		for _, f := range formats {
			for _, q := range asked {
				s, m, h := spread{}, spread{}, spread{}
				for _, r := range all {
					if r.Format == f.String() && r.Asked == q && r.Way == way {
						s, m, h = append(s, r.BySSIM-float64(q)), append(m, r.ByMS-float64(q)), append(h, r.ByHVS-float64(q))
					}
				}
				say("%-9s %-4s quality %d: by SSIM %3.0f %% of %d pictures within 3 points of libjpeg-turbo's curve, median %+.1f, at least %.0f %% %s (medians by MS-SSIM %+.1f, by PSNR-HVS %+.1f)",
					way, f, q, 100*s.within(3), len(s), median(s), 100*least, kept(s.within(3) >= least), median(m), median(h))
			}
		}
	}
	for _, e := range efforts {
		var every, photographs []float64
		for _, p := range measured {
			if every = append(every, p.Ratios[e.name]); !p.Drawn {
				photographs = append(photographs, p.Ratios[e.name])
			}
		}
		say("%-14s at the SSIM of libjpeg-turbo at 72: %.3f of its bytes on the median photograph, at most %.2f %s (%.3f with the drawn pictures)",
			e.name, median(photographs), e.most, kept(median(photographs) <= e.most), median(every))
	}
	for _, f := range formats {
		total, each := againstFixed(measured, f.String(), f.String())
		say("%-4s at quality 72 against the plain encoder's one setting with the same mean likeness: a picture takes %.0f %% fewer bytes in the mean, at least 8 %% %s (all together %.0f %%)", f, 100-100*each, kept(each <= 0.92), 100-100*total)
	}
	if slices.Contains(formats, declare.AVIF) {
		_, each := againstFixed(measured, declare.AVIF.String(), optioned)
		say("avif at quality 72 against that of our own options: %.0f %% fewer bytes in the mean", 100-100*each)
	}
	if err := palettes(say, kept); err != nil {
		return err
	}
	return page(to, all, lines)
}

// spread is how far results lie from what was asked.
type spread []float64

func (s spread) within(points float64) float64 {
	n := 0
	for _, v := range s {
		if math.Abs(v) <= points {
			n++
		}
	}
	return float64(n) / float64(len(s))
}

// againstFixed holds quality 72 against the one setting of a plain encoder for all pictures whose mean likeness is as
// high: the bytes of all together as a share of that one's, and the mean (geometric) of every picture's share.
func againstFixed(measured []Picture, format, plain string) (total, each float64) {
	ours := make([]float64, len(measured))
	mean := 0.0
	for i, p := range measured {
		for _, r := range p.Results {
			if r.Format == format && r.Asked == 72 && r.Way == "searched" {
				ours[i] = float64(r.Bytes)
				mean += r.Likeness / float64(len(measured))
			}
		}
	}
	last := len(measured[0].Fixed[plain]) - 1
	likeness := func(k int) (sum float64) {
		for _, p := range measured {
			sum += p.Fixed[plain][k].likeness / float64(len(measured))
		}
		return sum
	}
	k := 1
	for k < last && likeness(k) < mean {
		k++
	}
	t := (mean - likeness(k-1)) / (likeness(k) - likeness(k-1))
	var all, fixed float64
	for i, p := range measured {
		a, b := float64(p.Fixed[plain][k-1].bytes), float64(p.Fixed[plain][k].bytes)
		usual := a * math.Pow(b/a, t)
		all, fixed = all+ours[i], fixed+usual
		each += math.Log(ours[i]/usual) / float64(len(measured))
	}
	return all / fixed, math.Exp(each)
}

// palettes holds the drawn graphics' palettes against 32 bits a pixel.
func palettes(say func(string, ...any), kept func(bool) string) error {
	for _, name := range []string{"mark.png", "wind-chart.png", "pattern-sheet.png"} {
		source, err := pictures.Load(name)
		if err != nil {
			return err
		}
		made := func(quality declare.Quality) (render.Result, error) {
			d := declare.Declarations{GeometryValues: declare.GeometryValues{Width: 640}, EncodingValues: declare.EncodingValues{Format: declare.PNG, Quality: quality}}
			return render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
		}
		exact, err := made(declare.Lossless)
		if err != nil {
			return err
		}
		reduced, err := made(72)
		if err != nil {
			return err
		}
		share := float64(len(reduced.Data)) / float64(len(exact.Data))
		say("%-18s as a palette %.2f of the bytes with 32 bits a pixel, at most 0.45, likeness %.1f, at least 90 %s", name, share, reduced.How.Likeness, kept(share <= 0.45 && reduced.How.Likeness >= 90))
	}
	return nil
}

// A scale puts a measure on libjpeg-turbo's qualities for one picture.
type scale []seen

func (c scale) quality(v float64, of func(seen) float64) float64 {
	for i := 1; i < len(marks); i++ {
		if a, b := of(c[i-1]), of(c[i]); v <= b || i == len(marks)-1 {
			return float64(marks[i-1]) + (v-a)/(b-a)*float64(marks[i]-marks[i-1])
		}
	}
	return 0
}

// at is what was measured at one of the marks.
func (c scale) at(quality int) seen { return c[slices.Index(marks, quality)] }

func bySSIM(s seen) float64 { return s.SSIM }
func byMS(s seen) float64   { return s.MS }
func byHVS(s seen) float64  { return s.HVS }

func measure(pic corpus.Picture) (Picture, error) {
	out := Picture{Ratios: map[string]float64{}, Fixed: map[string][]at{}, Drawn: slices.Contains(corpus.Drawn, pic.Name)}
	source, err := png.Encode(pic.Pixels)
	if err != nil {
		return out, err
	}
	planes := pic.Pixels.To420()
	original := likeness.OfPlanes(planes)
	luma := independent.Luma(pic.Pixels.Pix, pic.Pixels.Stride, pic.Pixels.W, pic.Pixels.H)
	look := func(data []byte, all bool) (seen, error) {
		p, err := pixels(data)
		if err != nil {
			return seen{}, err
		}
		defer p.Free()
		l := independent.Luma(p.Pix, p.Stride, p.W, p.H)
		s := seen{Bytes: len(data), SSIM: independent.SSIM(luma, l, p.W, p.H), Likeness: likeness.Likeness(original.Distance(likeness.OfPixels(p)))}
		if all {
			s.MS, s.HVS = independent.MSSSIM(luma, l, p.W, p.H), independent.PSNRHVS(luma, l, p.W, p.H)
		}
		return s, nil
	}
	curve := make(scale, len(marks))
	for i, q := range marks {
		data, err := jpeg.EncodePlanes(planes, q)
		if err != nil {
			return out, err
		}
		if curve[i], err = look(data, true); err != nil {
			return out, err
		}
	}
	variant := func(f declare.Format, q int, predict, thorough bool) (render.Result, error) {
		d := declare.Declarations{EncodingValues: declare.EncodingValues{Format: f, Quality: declare.Quality(q)}}
		return render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Predict: predict, Thorough: thorough})
	}
	for _, f := range formats {
		for _, q := range asked {
			for _, way := range []string{"searched", "predicted"} {
				r, err := variant(f, q, way == "predicted", false)
				if err != nil {
					return out, err
				}
				s, err := look(r.Data, true)
				if err != nil {
					return out, err
				}
				out.Results = append(out.Results, Result{pic.Name, f.String(), way, q, s.Bytes, s.Likeness, curve.quality(s.SSIM, bySSIM), curve.quality(s.MS, byMS), curve.quality(s.HVS, byHVS), len(r.How.Trials)})
			}
		}
	}
	for _, e := range efforts { // the bytes at libjpeg-turbo's SSIM lie on the line through two that are near it
		var near [2]seen
		for i, q := range []int{70, 74} {
			r, err := variant(e.format, q, false, e.thorough)
			if err != nil {
				return out, err
			}
			if near[i], err = look(r.Data, false); err != nil {
				return out, err
			}
		}
		out.Ratios[e.name] = bytesAt(curve.at(72).SSIM, near[0], near[1]) / float64(curve.at(72).Bytes)
	}
	limited := planes.ToLimited()
	for f, encode := range map[string]func(step float64) ([]byte, error){
		"jpeg": func(s float64) ([]byte, error) { return jpeg.EncodePlanes(planes, 60+int(30*s)) },
		"webp": func(s float64) ([]byte, error) { return webp.EncodePlanes(limited, 50+48*s) },
		"avif": func(s float64) ([]byte, error) {
			return direct.AVIFAlone(planes, 37-int(24*s), avif.SpeedFor(codec.Usual, planes.W*planes.H))
		},
		"jxl": func(s float64) ([]byte, error) {
			return jxl.Encode(pic.Pixels, jxl.Settings{Distance: jxl.Distance(10 + 60*s), Effort: 5})
		},
		optioned: func(s float64) ([]byte, error) {
			return avif.EncodePlanes(planes, avif.Settings{Quantizer: 37 - int(24*s), Speed: avif.SpeedFor(codec.Usual, planes.W*planes.H)})
		},
	} {
		for s := 0.0; s <= 1; s += 0.125 {
			data, err := encode(s)
			if err != nil {
				return out, err
			}
			l, err := look(data, false)
			if err != nil {
				return out, err
			}
			out.Fixed[f] = append(out.Fixed[f], at{l.Likeness, len(data)})
		}
	}
	return out, nil
}

// bytesAt is how many bytes an SSIM takes, by the line through two encodes: of the bytes' logarithm over what SSIM
// lacks of 1, by its logarithm.
func bytesAt(ssim float64, a, b seen) float64 {
	lacks := func(v float64) float64 { return math.Log(1 - v) }
	if math.Abs(lacks(a.SSIM)-lacks(b.SSIM)) < 0.01 { // the same encode, or nearly
		return float64(a.Bytes)
	}
	t := (lacks(ssim) - lacks(a.SSIM)) / (lacks(b.SSIM) - lacks(a.SSIM))
	return float64(a.Bytes) * math.Pow(float64(b.Bytes)/float64(a.Bytes), math.Min(3, math.Max(-2, t)))
}

func pixels(data []byte) (*raster.RGBA, error) {
	p, err := imageformats.Of(imageformats.Sniff(data)).Decode(data, codec.Want{})
	return p.RGBA, err
}

func median(v []float64) float64 {
	s := append([]float64(nil), v...)
	sort.Float64s(s)
	return s[len(s)/2]
}

const layout = `<!doctype html><html lang="en"><meta charset="utf-8"><title>Visible quality</title>
<style>body{margin:24px auto;max-width:1040px;padding:0 16px;font:15px/1.5 system-ui,sans-serif;background:#fbfaf8;color:#20282c}pre{overflow-x:auto;font-size:13px}
svg{width:100%;height:auto}text{font:12px ui-monospace,monospace;fill:#5c666b}.grid{stroke:#d5d2cc}.webp{fill:#3b5bb5}.avif{fill:#00695c}.jxl{fill:#a0408c}.band{fill:#00695c;opacity:.08}h2{font-size:16px}</style>
<h1>Visible quality</h1><p>Each dot is one photograph at 640 pixels wide. Its height is the quality at which libjpeg-turbo, 4:2:0, has the same SSIM as our variant; the band is ±3 around what was asked for. On the left of each column WebP, on the right AVIF, between them JPEG XL and JPEG.</p>
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
			p.Dots = append(p.Dots, dot{x, y(r.BySSIM), r.Format, fmt.Sprintf("%s, %s: %d bytes, SSIM as at %.1f, PSNR-HVS as at %.1f, %d encodes", r.Picture, r.Format, r.Bytes, r.BySSIM, r.ByHVS, r.Tries)})
		}
		plots = append(plots, p)
	}
	t, err := template.New("report").Parse(layout)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
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
