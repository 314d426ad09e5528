package main

import (
	"slices"
	"strings"
	"sync"

	"golang.org/x/sync/errgroup"

	"echolane/bench/corpus"
	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/demo/pictures"
)

// graphics are the demo's pictures that aren't like photographs.
var graphics = []string{"mark.png", "wind-chart.png", "pattern-sheet.png", "poster-press.jpg"}

// theFormats are those that one picture may have fewest bytes in.
var theFormats = []declare.Format{declare.AVIF, declare.JXL, declare.WebP, declare.JPEG, declare.PNG}

// weighFormats shows which format has the fewest bytes at a quality, how often, and what each weighs beside the smallest.
func weighFormats(r *report) error {
	photos, err := corpus.At(640)
	if err != nil {
		return err
	}
	type source struct {
		name, kind string
		data       []byte
	}
	var all []source
	for _, p := range photos {
		data, err := png.Encode(p.Pixels)
		if err != nil {
			return err
		}
		all = append(all, source{p.Name, "photographs", data})
	}
	for _, name := range graphics {
		data, err := pictures.Load(name)
		if err != nil {
			return err
		}
		all = append(all, source{name, "graphics", data})
	}
	for _, quality := range []int{50, 72, 90} {
		bytes := map[string]map[declare.Format][]float64{"photographs": {}, "graphics": {}}
		var mu sync.Mutex
		var work errgroup.Group
		work.SetLimit(2)
		for _, s := range all {
			work.Go(func() error {
				got := map[declare.Format]float64{}
				for _, f := range theFormats {
					d := declare.Declarations{GeometryValues: declare.GeometryValues{Width: 640}, EncodingValues: declare.EncodingValues{Format: f, Quality: declare.Quality(quality)}}
					made, err := render.Variant(s.data, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
					if err != nil {
						return err
					}
					got[f] = float64(len(made.Data))
				}
				mu.Lock()
				defer mu.Unlock()
				for f, n := range got {
					bytes[s.kind][f] = append(bytes[s.kind][f], n)
				}
				return nil
			})
		}
		if err := work.Wait(); err != nil {
			return err
		}
		for _, kind := range []string{"photographs", "graphics"} {
			of := bytes[kind]
			n := len(of[declare.JPEG])
			for _, set := range [][]declare.Format{theFormats, theFormats[1:], theFormats[2:]} {
				wins, second := map[declare.Format]int{}, map[declare.Format]int{}
				beside := map[declare.Format][]float64{}
				for i := range n {
					order := slices.Clone(set)
					slices.SortFunc(order, func(a, b declare.Format) int { return int(of[a][i] - of[b][i]) })
					wins[order[0]]++
					second[order[1]]++
					for _, f := range set {
						beside[f] = append(beside[f], of[f][i]/of[order[0]][i])
					}
				}
				var names []string
				for _, f := range set {
					names = append(names, f.String())
				}
				r.say("quality %d, %d %s, of %s:", quality, n, kind, strings.Join(names, ", "))
				for _, f := range set {
					r.say("  %-5s smallest %3d times, next %3d times; median %.2f× of the smallest", f, wins[f], second[f], median(beside[f]))
				}
			}
		}
	}
	return nil
}
