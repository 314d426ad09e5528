// Command parts works out how much coarser a large picture's parts look than the whole, written at the same setting: what the
// Seams of a format's Fit make up for. It prints, by format and quality, how many points of quality the whole came out beyond what was
// aimed at when it was first encoded, and where it was left, on the pictures that may be fitted on or, with -others, on the others.
package main

import (
	"flag"
	"fmt"
	"math"
	"os"
	"runtime"
	"slices"
	"sync"

	"golang.org/x/sync/errgroup"

	"echolane/bench/corpus"
	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/policy"
	"echolane/core/render"
)

var (
	formats   = []declare.Format{declare.JPEG, declare.WebP, declare.AVIF, declare.JXL}
	qualities = []int{30, 50, 72, 85, 92}
)

func main() {
	width := flag.Int("width", 1600, "the pictures' width in pixels")
	others := flag.Bool("others", false, "of the pictures that nothing is fitted on")
	flag.Parse()
	if err := run(*width, !*others); err != nil {
		fmt.Fprintln(os.Stderr, "parts:", err)
		os.Exit(1)
	}
}

// a row is what came of one picture in one format at one quality, in points of quality beyond the aim.
type row struct {
	format      declare.Format
	quality     int
	first, last float64
	wholes      int // encodes of the whole
	bytes       int
}

func run(width int, fitted bool) error {
	all, err := corpus.At(width)
	if err != nil {
		return err
	}
	all = slices.DeleteFunc(all, func(p corpus.Picture) bool { return p.Fit != fitted })
	var rows []row
	var mu sync.Mutex
	var work errgroup.Group
	work.SetLimit(runtime.NumCPU())
	for _, pic := range all {
		work.Go(func() error {
			source, err := png.Encode(pic.Pixels)
			if err != nil {
				return err
			}
			for _, f := range formats {
				for _, q := range qualities {
					d := declare.Declarations{EncodingValues: declare.EncodingValues{Format: f, Quality: declare.Quality(q)}}
					r, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
					if err != nil {
						return fmt.Errorf("%s: %w", pic.Name, err)
					}
					first := wholeFrom(r)
					if first < 0 {
						continue
					}
					beyond := func(got float64) float64 {
						return math.Log(likeness.DistanceAt(r.How.Aim)/likeness.DistanceAt(got)) / likeness.Points(float64(q), 1)
					}
					trials := r.How.Trials
					mu.Lock()
					rows = append(rows, row{f, q, beyond(trials[first].Likeness), beyond(r.How.Likeness), len(trials) - first, len(r.Data)})
					mu.Unlock()
				}
			}
			return nil
		})
	}
	if err := work.Wait(); err != nil {
		return err
	}
	fmt.Printf("%d pictures, %d wide; points of quality beyond the aim\n", len(all), width)
	for _, f := range formats {
		for _, q := range qualities {
			var first, last, wholes, bytes []float64
			near := 0
			for _, r := range rows {
				if r.format != f || r.quality != q {
					continue
				}
				first, last, wholes, bytes = append(first, r.first), append(last, r.last), append(wholes, float64(r.wholes)), append(bytes, math.Log(float64(r.bytes)))
				if math.Abs(r.last) <= 3 {
					near++
				}
			}
			if len(first) == 0 {
				continue
			}
			fmt.Printf("%-4s %d: %2d pictures; first %s; left %s, %3d %% within three; the whole encoded %.2f times; %.1f kB in the mean\n",
				f, q, len(first), spread(first), spread(last), 100*near/len(last), mean(wholes), math.Exp(mean(bytes))/1000)
		}
	}
	return nil
}

// wholeFrom is which trial is the first of the whole, at a setting that was tried on parts; below zero where no parts were searched.
func wholeFrom(r render.Result) int {
	seen := map[float64]bool{}
	for i, t := range r.How.Trials {
		if seen[t.Setting] {
			return i
		}
		seen[t.Setting] = true
	}
	return -1
}

// spread is a median between the tenth and the ninetieth of a hundred.
func spread(v []float64) string {
	slices.Sort(v)
	at := func(part float64) float64 { return v[int(part*float64(len(v)-1)+0.5)] }
	return fmt.Sprintf("%+5.1f (%+.1f to %+.1f)", at(0.5), at(0.1), at(0.9))
}

func mean(v []float64) (sum float64) {
	for _, x := range v {
		sum += x / float64(len(v))
	}
	return sum
}
