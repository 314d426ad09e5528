// Command qualityreport holds the promises of compression against measures that aren't ours, on pictures that weren't fitted
// on, and writes a page with plots: `make quality-report`. Its arguments are where to, and some formats where not all are asked for.
package main

import (
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"html/template"
	"math"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"sort"
	"sync"

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
	width := flag.Int("width", 640, "the pictures' width in pixels")
	fitted := flag.Bool("fitted", false, "report on the pictures that weights were fitted on instead: to fit what a format's Harder says")
	resume := flag.String("resume", "", "a file of the pictures that a run which was cut off has measured, read, written, and removed in the end: at 1600 it takes an hour")
	flag.Parse()
	to := "var/quality.html"
	if flag.NArg() > 0 {
		to = flag.Arg(0)
	}
	if only := flag.Args()[min(1, flag.NArg()):]; len(only) > 0 { // some formats
		formats = slices.DeleteFunc(formats, func(f declare.Format) bool { return !slices.Contains(only, f.String()) })
	}
	if err := run(to, *resume, *width, *fitted); err != nil {
		fmt.Fprintln(os.Stderr, "qualityreport:", err)
		os.Exit(1)
	}
}

var (
	marks   = []int{12, 20, 28, 36, 44, 52, 60, 68, 75, 81, 86, 90, 94, 97}
	asked   = []int{30, 50, 72, 85, 92}
	weighed = []int{50, 72, 90} // at which bytes are told
	formats = []declare.Format{declare.WebP, declare.AVIF, declare.JXL, declare.JPEG}
	ways    = []string{"kept", "first"}
)

// What is promised.
const (
	near, nearFirst         = 4.0, 7.0 // points of quality
	keptNear, keptFirst     = 0.90, 0.85
	singleOff               = 8.0
	leastSaved              = 0.08
	mostFirst               = 2.0 // times the bytes of what is kept
	thoroughName, anyFormat = "avif, thorough", "the smallest"
)

// most is what a format may take of libjpeg-turbo's bytes at the same consensus, at 50, 72 and 90.
var most = map[string][3]float64{
	"jpeg": {0.90, 0.88, 0.88}, "webp": {0.75, 0.80, 0.90}, "avif": {0.45, 0.50, 0.65}, thoroughName: {0.40, 0.45, 0.60}, "jxl": {0.60, 0.60, 0.65}, anyFormat: {0.42, 0.46, 0.58},
}

// measures are the independent ones, each as a distance.
var measures = []string{"SSIM", "MS-SSIM", "PSNR-HVS-M", "butteraugli"}

// seen are the independent measures of one encode.
type seen struct {
	Bytes    int
	Far      [4]float64 // by measures, each the smaller the better
	Likeness float64
}

// a Result is one picture in one format at one quality.
type Result struct {
	Picture, Format, Way string
	Asked                int
	Bytes                int
	Likeness             float64    // by our own measure
	By                   [4]float64 // the quality of libjpeg-turbo at which each measure is the same
	Consensus            float64    // their median
	Share                float64    // of libjpeg-turbo's bytes at that quality
	Tries                int
}

// a Picture is what is measured of one.
type Picture struct {
	Results []Result
	Fixed   map[string][]at // by format: the plain encoder at settings that are the same for all pictures
}

// at is how near a setting comes, and its bytes.
type at struct {
	Consensus float64
	Bytes     int
}

func run(to, resume string, width int, fitted bool) error {
	pictures, err := corpus.At(width)
	if err != nil {
		return err
	}
	pictures = slices.DeleteFunc(pictures, func(p corpus.Picture) bool { return p.Fit != fitted })
	before, err := begun(resume)
	if err != nil {
		return err
	}
	measured := make([]Picture, len(pictures))
	var work errgroup.Group
	work.SetLimit(runtime.NumCPU())
	for i, pic := range pictures {
		work.Go(func() error {
			key := fmt.Sprintf("%s at %d in %v by %s", pic.Name, width, formats, render.Version)
			var known bool
			if measured[i], known = before.of(key); known {
				return nil
			}
			var err error
			if measured[i], err = measure(pic); err != nil {
				return fmt.Errorf("%s: %w", pic.Name, err)
			}
			fmt.Fprintln(os.Stderr, pic.Name)
			return before.add(key, measured[i])
		})
	}
	if err := work.Wait(); err != nil {
		return err
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
	results := func(format, way string, quality int) (found []Result) {
		for _, p := range measured {
			for _, r := range p.Results {
				if r.Format == format && r.Way == way && r.Asked == quality {
					found = append(found, r)
				}
			}
		}
		return found
	}
	say("%d pictures, %d wide%s", len(pictures), width, map[bool]string{false: ", none of which anything was fitted on", true: ", which weights were fitted on"}[fitted])
	for _, way := range ways {
		within, least := near, keptNear
		if way == "first" {
			within, least = nearFirst, keptFirst
		}
		for _, f := range formats {
			for _, q := range asked {
				found := results(f.String(), way, q)
				n := 0
				var off []float64
				single := make([][]float64, len(measures))
				for _, r := range found {
					if o := r.Consensus - float64(q); math.Abs(o) <= within {
						n++
					}
					off = append(off, r.Consensus-float64(q))
					for k := range measures {
						single[k] = append(single[k], r.By[k]-float64(q))
					}
				}
				share := float64(n) / float64(len(found))
				text := fmt.Sprintf("%-5s %-4s quality %d: %3.0f %% of pictures within %.0f points, at least %.0f %% %s; median %+.1f", way, f, q, 100*share, within, 100*least, kept(share >= least), median(off))
				if way == "kept" {
					worst := 0.0
					for k, name := range measures {
						m := median(single[k])
						text += fmt.Sprintf(", %s %+.1f", name, m)
						worst = math.Max(worst, math.Abs(m))
					}
					text += fmt.Sprintf(": none off by more than %.0f %s", singleOff, kept(worst <= singleOff))
				}
				say("%s", text)
			}
		}
	}
	for _, name := range append(names(formats), thoroughName, anyFormat) {
		text := fmt.Sprintf("%-14s at equal consensus, of libjpeg-turbo's bytes on the median picture at 50, 72, 90:", name)
		ok := true
		for i, q := range weighed {
			var shares []float64
			for _, r := range results(name, "kept", q) {
				shares = append(shares, r.Share)
			}
			if len(shares) == 0 {
				ok = false
				continue
			}
			text += fmt.Sprintf(" %.3f (at most %.2f)", median(shares), most[name][i])
			ok = ok && median(shares) <= most[name][i]
		}
		say("%s %s", text, kept(ok))
	}
	for _, f := range formats {
		var times []float64
		for _, p := range measured {
			for _, q := range asked {
				var bytes [2]float64
				for _, r := range p.Results {
					if r.Format == f.String() && r.Asked == q {
						bytes[slices.Index(ways, r.Way)] = float64(r.Bytes)
					}
				}
				times = append(times, bytes[1]/bytes[0])
			}
		}
		say("%-4s first answers have %.2f times the bytes of what is kept in the median, at most %.1f %s", f, median(times), mostFirst, kept(median(times) <= mostFirst))
		each := againstFixed(measured, f.String())
		say("%-4s at quality 72 takes %.3f times the bytes of the plain encoder's one setting with the same mean consensus, in the mean over the pictures, at most %.2f %s", f, each, 1-leastSaved, kept(each <= 1-leastSaved))
	}
	if err := palettes(say, kept); err != nil {
		return err
	}
	var every []Result
	for _, p := range measured {
		every = append(every, p.Results...)
	}
	if err := page(to, every, lines); err != nil || resume == "" {
		return err
	}
	return os.Remove(resume)
}

// done are the pictures that were measured so far, in a file.
type done struct {
	sync.Mutex
	file     string
	pictures map[string]Picture
}

func begun(file string) (*done, error) {
	d := &done{file: file, pictures: map[string]Picture{}}
	data, err := os.ReadFile(file)
	if file == "" || errors.Is(err, os.ErrNotExist) {
		return d, nil
	}
	if err != nil {
		return nil, err
	}
	err = json.Unmarshal(data, &d.pictures)
	fmt.Fprintf(os.Stderr, "%d pictures were measured before: remove %s where the encoders have changed since\n", len(d.pictures), file)
	return d, err
}

func (d *done) of(key string) (Picture, bool) {
	d.Lock()
	defer d.Unlock()
	p, ok := d.pictures[key]
	return p, ok
}

func (d *done) add(key string, p Picture) error {
	d.Lock()
	defer d.Unlock()
	if d.pictures[key] = p; d.file == "" {
		return nil
	}
	data, err := json.Marshal(d.pictures)
	if err != nil {
		return err
	}
	return os.WriteFile(d.file, data, 0o644)
}

func names(formats []declare.Format) (all []string) {
	for _, f := range formats {
		all = append(all, f.String())
	}
	return all
}

// againstFixed holds quality 72 against the one setting of a plain encoder for all pictures whose mean consensus is as
// high: the mean (geometric) of every picture's share of its bytes.
func againstFixed(measured []Picture, format string) (each float64) {
	ours := make([]float64, len(measured))
	mean := 0.0
	for i, p := range measured {
		for _, r := range p.Results {
			if r.Format == format && r.Asked == 72 && r.Way == "kept" {
				ours[i] = float64(r.Bytes)
				mean += r.Consensus / float64(len(measured))
			}
		}
	}
	last := len(measured[0].Fixed[format]) - 1
	consensus := func(k int) (sum float64) {
		for _, p := range measured {
			sum += p.Fixed[format][k].Consensus / float64(len(measured))
		}
		return sum
	}
	k := 1
	for k < last && consensus(k) < mean {
		k++
	}
	t := (mean - consensus(k-1)) / (consensus(k) - consensus(k-1))
	for i, p := range measured {
		a, b := float64(p.Fixed[format][k-1].Bytes), float64(p.Fixed[format][k].Bytes)
		each += math.Log(ours[i]/(a*math.Pow(b/a, t))) / float64(len(measured))
	}
	return math.Exp(each)
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

// A scale puts measures on libjpeg-turbo's qualities for one picture.
type scale []seen

// quality is where a measure is as far as it is at a quality of libjpeg-turbo's.
func (c scale) quality(s seen, k int) float64 {
	of := func(s seen) float64 {
		if measures[k] == "PSNR-HVS-M" { // decibels
			return s.Far[k]
		}
		return math.Log(s.Far[k] + 1e-9)
	}
	v := of(s)
	for i := 1; i < len(marks); i++ {
		if a, b := of(c[i-1]), of(c[i]); v >= b || i == len(marks)-1 {
			return math.Max(0, math.Min(100, float64(marks[i-1])+(a-v)/(a-b)*float64(marks[i]-marks[i-1])))
		}
	}
	return 0
}

// bytes are libjpeg-turbo's at a quality, between marks by their logarithms.
func (c scale) bytes(quality float64) float64 {
	for i := 1; i < len(marks); i++ {
		if quality <= float64(marks[i]) || i == len(marks)-1 {
			t := (quality - float64(marks[i-1])) / float64(marks[i]-marks[i-1])
			return float64(c[i-1].Bytes) * math.Pow(float64(c[i].Bytes)/float64(c[i-1].Bytes), t)
		}
	}
	return 0
}

// consensus is the median of what the measures say, and what each says.
func (c scale) consensus(s seen) (median float64, by [4]float64) {
	for k := range measures {
		by[k] = c.quality(s, k)
	}
	sorted := slices.Sorted(slices.Values(by[:]))
	return (sorted[1] + sorted[2]) / 2, by
}

func measure(pic corpus.Picture) (Picture, error) {
	out := Picture{Fixed: map[string][]at{}}
	source, err := png.Encode(pic.Pixels)
	if err != nil {
		return out, err
	}
	planes := pic.Pixels.To420()
	original := likeness.OfPlanes(planes)
	eyes := independent.Of(pic.Pixels.Pix, pic.Pixels.Stride, pic.Pixels.W, pic.Pixels.H)
	look := func(data []byte) (seen, error) {
		p, err := pixels(data)
		if err != nil {
			return seen{}, err
		}
		defer p.Free()
		l := independent.Luma(p.Pix, p.Stride, p.W, p.H)
		s := seen{Bytes: len(data), Likeness: likeness.Likeness(original.Distance(likeness.OfPixels(p)))}
		ssim, multi := eyes.Structure(l)
		s.Far = [4]float64{1 - ssim, 1 - multi, -eyes.PSNRHVSM(l)}
		s.Far[3], err = eyes.Butteraugli(p.Pix, p.Stride)
		return s, err
	}
	curve := make(scale, len(marks))
	for i, q := range marks {
		data, err := jpeg.EncodePlainly(planes, q)
		if err != nil {
			return out, err
		}
		if curve[i], err = look(data); err != nil {
			return out, err
		}
	}
	make := func(name string, f declare.Format, q int, way string, thorough bool) error {
		d := declare.Declarations{EncodingValues: declare.EncodingValues{Format: f, Quality: declare.Quality(q)}}
		r, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Predict: way == "first", Thorough: thorough})
		if err != nil {
			return err
		}
		s, err := look(r.Data)
		if err != nil {
			return err
		}
		consensus, by := curve.consensus(s)
		out.Results = append(out.Results, Result{pic.Name, name, way, q, s.Bytes, s.Likeness, by, consensus, float64(s.Bytes) / curve.bytes(consensus), len(r.How.Trials)})
		return nil
	}
	for _, q := range slices.Compact(slices.Sorted(slices.Values(append(slices.Clone(asked), weighed...)))) {
		smallest := -1
		for _, f := range formats {
			for _, way := range ways {
				if way == "first" && !slices.Contains(asked, q) {
					continue
				}
				if err := make(f.String(), f, q, way, false); err != nil {
					return out, err
				}
				if last := len(out.Results) - 1; way == "kept" && (smallest < 0 || out.Results[last].Bytes < out.Results[smallest].Bytes) {
					smallest = last
				}
			}
		}
		r := out.Results[smallest]
		r.Format = anyFormat
		out.Results = append(out.Results, r)
		if slices.Contains(weighed, q) && slices.Contains(formats, declare.AVIF) {
			if err := make(thoroughName, declare.AVIF, q, "kept", true); err != nil {
				return out, err
			}
		}
	}
	limited := planes.ToLimited()
	plain := map[declare.Format]func(step float64) ([]byte, error){
		declare.JPEG: func(s float64) ([]byte, error) { return jpeg.EncodePlanes(planes, 60+int(30*s)) },
		declare.WebP: func(s float64) ([]byte, error) { return webp.EncodePlanes(limited, 50+48*s) },
		declare.AVIF: func(s float64) ([]byte, error) {
			return direct.AVIFAlone(planes, 37-int(24*s), avif.SpeedFor(codec.Usual, planes.W*planes.H))
		},
		declare.JXL: func(s float64) ([]byte, error) {
			return jxl.Encode(pic.Pixels, jxl.Settings{Distance: jxl.Distance(10 + 60*s), Effort: 5})
		},
	}
	for _, f := range formats {
		for s := 0.0; s <= 1; s += 0.2 {
			data, err := plain[f](s)
			if err != nil {
				return out, err
			}
			l, err := look(data)
			if err != nil {
				return out, err
			}
			consensus, _ := curve.consensus(l)
			out.Fixed[f.String()] = append(out.Fixed[f.String()], at{consensus, len(data)})
		}
	}
	return out, nil
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
<style>body{margin:24px auto;max-width:1040px;padding:0 16px;font:15px/1.5 system-ui,sans-serif;background:#fbfaf8;color:#20282c}pre{white-space:pre-wrap;font-size:13px}
svg{width:100%;height:auto}text{font:12px ui-monospace,monospace;fill:#5c666b}.grid{stroke:#d5d2cc}.webp{fill:#3b5bb5}.avif{fill:#00695c}.jxl{fill:#a0408c}.jpeg{fill:#8a6d3b}.band{fill:#00695c;opacity:.08}h2{font-size:16px}</style>
<h1>Visible quality</h1><p>Each dot is one picture that nothing was fitted on. Its height is the quality at which libjpeg-turbo, 4:2:0, is as far from the original as our variant, by the median of SSIM, MS-SSIM, PSNR-HVS-M and butteraugli; the band is ±4 around what was asked for. In each column from the left: WebP, AVIF, JPEG XL, JPEG.</p>
<pre>{{range .Lines}}{{.}}
{{end}}</pre>
{{range .Plots}}<h2>{{.Title}}</h2><svg viewBox="0 0 1000 420" role="img" aria-label="{{.Title}}">
{{range .Bands}}<rect class="band" x="{{.X}}" y="{{.Y}}" width="172" height="{{.H}}"/><text x="{{.X}}" y="410">asked {{.Asked}}</text>{{end}}
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
	y := func(q float64) float64 { return 20 + (100-max(15, min(100, q)))/85*370 }
	var plots []plot
	for _, way := range ways {
		p := plot{Title: map[string]string{"kept": "What is kept", "first": "First answers"}[way]}
		for q := 20; q <= 100; q += 10 {
			p.Ticks = append(p.Ticks, tick{y(float64(q)), fmt.Sprint(q)})
		}
		for i, q := range asked {
			p.Bands = append(p.Bands, band{60 + 190*float64(i), y(float64(q) + near), y(float64(q)-near) - y(float64(q)+near), q})
		}
		count := map[string]int{}
		for _, r := range all {
			column, format := slices.Index(asked, r.Asked), slices.Index(names(formats), r.Format)
			if r.Way != way || column < 0 || format < 0 {
				continue
			}
			k := fmt.Sprint(r.Format, r.Asked)
			x := 64 + 190*float64(column) + 42*float64(format) + 38*float64(count[k])/float64(len(all))*float64(len(asked)*len(formats)*2+1)
			count[k]++
			p.Dots = append(p.Dots, dot{math.Min(x, 64+190*float64(column)+42*float64(format)+38), y(r.Consensus), r.Format, fmt.Sprintf("%s, %s: %d bytes, as at %.1f by %v %.0f, %d encodes", r.Picture, r.Format, r.Bytes, r.Consensus, measures, r.By, r.Tries)})
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
