// Command qualitytable works out the tables in core/likeness and of the formats: how far libjpeg-turbo's qualities
// are from the original by our measure, and which settings of the other encoders come as near. It prints the
// median over the pictures of the corpus that may be fitted on, how the pictures spread, and the lines that say which setting a picture needs by its texture,
// with how often a line that was fitted without the picture is right. Its arguments name some of webp, avif, jxl and jpeg; without any it
// looks at all.
package main

import (
	"fmt"
	"math"
	"os"
	"runtime"
	"slices"
	"sort"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"echolane/bench/corpus"
	"echolane/core/codec"
	"echolane/core/codec/avif"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/jxl"
	"echolane/core/codec/webp"
	"echolane/core/likeness"
	"echolane/core/linear"
	"echolane/core/raster"
)

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "qualitytable:", err)
		os.Exit(1)
	}
}

var qualities = []int{5, 10, 15, 20, 25, 30, 35, 40, 45, 50, 55, 60, 65, 70, 75, 80, 85, 90, 95, 98}

// wanted says which encoders are looked at: those that are named, or all.
func wanted(name string) bool { return len(os.Args) < 2 || slices.Contains(os.Args[1:], name) }

func run() error {
	all, err := corpus.At(640)
	if err != nil {
		return err
	}
	far := map[int][]float64{}
	seen := map[string][]sight{}
	settings := map[string]map[int][]float64{"webp": {}, "plain": {}, "avif": {}, "jpeg": {}, "jxl": {}}
	var room sync.Mutex
	var work errgroup.Group
	work.SetLimit(runtime.NumCPU())
	look := func(pic corpus.Picture) error {
		planes := pic.Pixels.To420()
		limited := planes.ToLimited()
		original := likeness.OfPlanes(planes)
		from := func(p *raster.YCbCr, err error) (float64, error) {
			if err != nil {
				return 0, err
			}
			defer p.Free()
			return original.Distance(likeness.OfShown(p)), nil
		}
		jpegs := map[int]float64{}
		for _, q := range qualities {
			data, err := jpeg.EncodePlainly(planes, q)
			if err != nil {
				return err
			}
			p, err := jpeg.Decode(data, codec.Want{Scale: 8, Planes: true})
			if jpegs[q], err = from(p.YCbCr, err); err != nil {
				return err
			}
		}
		var webps, plain, avifs []point // plain: libwebp's as they are
		for s := 10; s <= 100 && wanted("webp"); s += 6 {
			for to, write := range map[*[]point]func() ([]byte, error){
				&webps: func() ([]byte, error) { return webp.NewEncoder(limited).Write(float64(s)) },
				&plain: func() ([]byte, error) { return webp.EncodePlanes(limited, webp.Quality(float64(s))) },
			} {
				data, err := write()
				if err != nil {
					return err
				}
				d, err := from(webp.DecodePlanes(data))
				if err != nil {
					return err
				}
				*to = append(*to, point{float64(s), d})
			}
		}
		for s := 0; s <= 63 && wanted("avif"); s += 5 {
			data, err := avif.EncodePlanes(planes, avif.Settings{Quantizer: 63 - s, Speed: avif.SpeedFor(codec.Usual, planes.W*planes.H)})
			if err != nil {
				return err
			}
			d, err := from(avif.DecodePlanes(data))
			if err != nil {
				return err
			}
			avifs = append(avifs, point{float64(s), d})
		}
		var jxls []point
		for s := 0; s <= 100 && wanted("jxl"); s += 6 {
			data, err := jxl.Encode(pic.Pixels, jxl.Settings{Distance: jxl.Distance(float64(s)), Effort: 7})
			if err != nil {
				return err
			}
			shown, err := jxl.Decode(data)
			if err != nil {
				return err
			}
			d, err := from(shown.RGBA.To420(), nil)
			if err != nil {
				return err
			}
			jxls = append(jxls, point{float64(s), d})
		}
		var ours []point
		coefficients := jpeg.Transform(planes)
		for s := 1; s <= 100 && wanted("jpeg"); s += 9 {
			data, err := coefficients.Write(float64(s))
			if err != nil {
				return err
			}
			p, err := jpeg.Decode(data, codec.Want{Scale: 8, Planes: true})
			d, err := from(p.YCbCr, err)
			if err != nil {
				return err
			}
			ours = append(ours, point{float64(s), d})
		}
		texture := original.Texture()
		room.Lock()
		defer room.Unlock()
		for _, q := range qualities {
			far[q] = append(far[q], jpegs[q])
			settings["jpeg"][q] = append(settings["jpeg"][q], reach(ours, jpegs[q]))
			settings["webp"][q] = append(settings["webp"][q], reach(webps, jpegs[q]))
			settings["plain"][q] = append(settings["plain"][q], reach(plain, jpegs[q]))
			settings["jxl"][q] = append(settings["jxl"][q], reach(jxls, jpegs[q]))
			settings["avif"][q] = append(settings["avif"][q], reach(avifs, jpegs[q]))
		}
		for name, curve := range map[string][]point{"webp": webps, "avif": avifs, "jpeg": ours, "jxl": jxls} {
			if len(curve) == 0 {
				continue
			}
			for _, q := range lineQualities {
				target := jpegs[q]
				seen[name] = append(seen[name], sight{q, []float64{1, texture.Step(float64(q)), texture.Busy, texture.Plain}, reach(curve, target), func(setting float64) float64 {
					return math.Log(along(curve, setting) / target)
				}})
			}
		}
		fmt.Fprintf(os.Stderr, "%-44s 50: %.4f webp %.0f avif %.0f   72: %.4f  85: %.4f webp %.0f avif %.0f\n", pic.Name,
			jpegs[50], reach(webps, jpegs[50]), reach(avifs, jpegs[50]), jpegs[70], jpegs[85], reach(webps, jpegs[85]), reach(avifs, jpegs[85]))
		return nil
	}
	for _, pic := range all {
		if !pic.Fit {
			continue
		}
		work.Go(func() error { return look(pic) })
	}
	if err := work.Wait(); err != nil {
		return err
	}
	var rows [5][]string
	for _, q := range qualities {
		d, w, a, j := far[q], settings["webp"][q], settings["avif"][q], settings["jpeg"][q]
		fmt.Printf("libjpeg %3d  distance %.5f  libwebp %5.1f (%.1f to %.1f)  AVIF %4.1f (%.1f to %.1f)  JPEG %4.1f (%.1f to %.1f)\n", q, part(d, .5), part(w, .5), part(w, .1), part(w, .9), part(a, .5), part(a, .1), part(a, .9), part(j, .5), part(j, .1), part(j, .9))
		rows[0] = append(rows[0], fmt.Sprintf("%.5f", part(d, .5)))
		rows[1] = append(rows[1], fmt.Sprintf("%.1f", part(w, .5)))
		rows[2] = append(rows[2], fmt.Sprintf("%.1f", part(a, .5)))
		rows[3] = append(rows[3], fmt.Sprintf("%.1f", part(j, .5)))
		rows[4] = append(rows[4], fmt.Sprintf("%.1f", part(settings["jxl"][q], .5)))
	}
	var finer []float64
	for _, q := range qualities {
		finer = append(finer, part(settings["plain"][q], .5)-part(settings["webp"][q], .5))
	}
	fmt.Printf("libwebp alone needs %.1f finer settings\n", part(finer, .5))
	for name, of := range map[string]string{"webp": "plain", "avif": "avif", "jxl": "jxl"} {
		var easy []string
		for _, q := range qualities {
			easy = append(easy, fmt.Sprintf("%.1f", part(settings[of][q], .1)))
		}
		fmt.Printf("%sEasy {%s}\n", name, strings.Join(easy, ", "))
	}
	for _, name := range []string{"webp", "avif", "jpeg", "jxl"} {
		if wanted(name) {
			lines(name, seen[name])
		}
	}
	for i, name := range []string{"distances", "libwebp", "AVIF", "JPEG", "JPEG XL"} {
		fmt.Printf("%s {%s}\n", name, strings.Join(rows[i], ", "))
	}
	return nil
}

// lineQualities are those at which lines are fitted.
var lineQualities = []int{10, 20, 30, 40, 50, 60, 70, 80, 85, 90, 95}

// a sight is what is seen of one picture at one quality: of its texture, and which setting it needs.
type sight struct {
	quality int
	sees    []float64
	needs   float64
	off     func(setting float64) float64 // the logarithm of the distance at a setting over what is wanted
}

// lines prints, for every quality, what fits all pictures.
func lines(name string, all []sight) {
	fmt.Printf("%sLines\n", name)
	for _, q := range lineQualities {
		var at []sight
		for _, s := range all {
			if s.quality == q {
				at = append(at, s)
			}
		}
		near := math.Log(likeness.DistanceAt(float64(q)-3)/likeness.DistanceAt(float64(q)+3)) / 2
		right := 0
		var off []float64
		for i := range at {
			o := math.Abs(at[i].off(said(fitted(slices.Delete(slices.Clone(at), i, i+1)), at[i].sees)))
			if off = append(off, o); o <= near {
				right++
			}
		}
		c := fitted(at)
		fmt.Printf("\t{%d, %.1f, %.2f, %.2f, %.2f}, // right for %.0f %% of pictures that it doesn't know, half of them within %.0f %% of the distance\n", q, c[0], c[1], c[2], c[3], 100*float64(right)/float64(len(at)), 100*part(off, .5))
	}
}

func said(c, sees []float64) (setting float64) {
	for i, v := range sees {
		setting += c[i] * v
	}
	return setting
}

// fitted are the weights of what is seen: least squares, again and again with less weight for what lies far off.
func fitted(all []sight) []float64 {
	weights := make([]float64, len(all))
	for i := range weights {
		weights[i] = 1
	}
	var c []float64
	for range 10 {
		n := len(all[0].sees)
		m := make([][]float64, n) // normal equations
		for i := range m {
			m[i] = make([]float64, n+1)
			m[i][i] = 1e-3
			for k, s := range all {
				for j, v := range append(slices.Clone(s.sees), s.needs) {
					m[i][j] += weights[k] * s.sees[i] * v
				}
			}
		}
		linear.Solve(m)
		c = make([]float64, n)
		for i := range c {
			c[i] = m[i][n]
		}
		for k, s := range all {
			far := (said(c, s.sees) - s.needs) / 3
			weights[k] = 1 / (1 + far*far)
		}
	}
	return c
}

type point struct{ setting, far float64 }

// along is the distance at a setting, between a curve's points by their logarithms.
func along(curve []point, setting float64) float64 {
	for i := 1; i < len(curve); i++ {
		if a, b := curve[i-1], curve[i]; setting <= b.setting || i == len(curve)-1 {
			t := math.Min(1, math.Max(0, (setting-a.setting)/(b.setting-a.setting)))
			return (a.far + 1e-9) * math.Pow((b.far+1e-9)/(a.far+1e-9), t)
		}
	}
	return curve[0].far
}

// reach is the setting at which a curve first comes as near as far, between its points by the distances' logarithms.
func reach(curve []point, far float64) float64 {
	if len(curve) == 0 {
		return 0
	}
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
