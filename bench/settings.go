package main

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"sync"
	"testing"
	"time"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/internal/testbed"
	"echolane/service/lane"
)

// decided measures what a request costs before any cache is asked: its text read, held against the site's
// rules and written as what the cache is asked for.
func decided(r *report) error {
	d := policy.NewDocument("kestrel")
	d.Ladder.Rungs = []int{160, 240, 320, 350, 480, 640, 960, 1280}
	d.Shapes = []string{"1", "3/2"}
	d.Lanes = []policy.Lane{{Name: "catalogue", Folder: "/srv/kestrel"}}
	d.Complete(lane.Described)
	site, _, err := policy.Compile(d, lane.Described)
	if err != nil {
		return err
	}
	const query = "width=350&aspect-ratio=3/2&object-fit=cover&quality=72"
	plain := fastest(func(b *testing.B) {
		var room [256]byte
		defaults := declare.Declarations{}
		for b.Loop() {
			declared, err := declare.Parse(query)
			if err != nil {
				b.Fatal(err)
			}
			resolved := declared.Resolve(defaults, nil)
			resolved.Append(room[:0])
		}
	})
	r.atMost("parse, resolve, write", float64(plain.NsPerOp())/1000, "µs", 1.5)
	r.atMost("its allocations", float64(plain.AllocsPerOp()), "", 2)
	whole := fastest(func(b *testing.B) {
		var room [256]byte
		for b.Loop() {
			declared, err := declare.Parse(query)
			if err != nil {
				b.Fatal(err)
			}
			resolved, no := site.Decide(&policy.Ask{Lane: site.Lanes[0], Declared: declared, Accepted: policy.Accepts(declare.WebP), Now: 1}, nil)
			if no != nil {
				b.Fatal(no)
			}
			resolved.Append(room[:0])
		}
	})
	r.atMost("parse, policy with a ladder and shapes, resolved form", float64(whole.NsPerOp())/1000, "µs", 2)
	r.atMost("its allocations", float64(whole.AllocsPerOp()), "", 2)
	return nil
}

// fastest is the fastest of five runs.
func fastest(f func(*testing.B)) (best testing.BenchmarkResult) {
	for range 5 {
		b := testing.Benchmark(func(b *testing.B) {
			b.ReportAllocs()
			f(b)
		})
		if best.N == 0 || b.NsPerOp() < best.NsPerOp() {
			best = b
		}
	}
	return best
}

// swapped measures what a change of settings does to requests that are served meanwhile.
func swapped(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		service := bed.Kestrel(t)
		url := service.Base + "/kestrel/catalogue/delta-red.jpg?width=640"
		if _, _, err := get(url); err != nil {
			return err
		}
		const seconds = 4
		var quiet, busy []float64
		changes := 0
		for range 3 {
			quiet = append(quiet, ninetyNinth(url, seconds*time.Second))
			stop := make(chan struct{})
			var changing sync.WaitGroup
			changing.Go(func() { // another site, as on a service with many; then every memo must stand
				for i := 0; ; i++ {
					select {
					case <-stop:
						return
					default:
					}
					bed.Must(t, service, "site", "add", fmt.Sprintf("other-%d", changes))
					changes++
				}
			})
			busy = append(busy, ninetyNinth(url, seconds*time.Second))
			close(stop)
			changing.Wait()
		}
		r.say("cached variant, 4 connections, medians of 3 rounds of %d s; %d changes of settings in the second kind", seconds, changes)
		r.say("%-62s %7.2f ms", "99th percentile, settings at rest", median(quiet))
		r.say("%-62s %7.2f ms", "99th percentile, settings changing all the time", median(busy))
		r.say("%-62s %7.2f×", "the changes' effect (with the commands that make them on the same processors)", median(busy)/median(quiet))
		return nil
	})
}

func ninetyNinth(url string, during time.Duration) float64 {
	end := time.Now().Add(during)
	all := make([][]float64, 4)
	var load sync.WaitGroup
	for i := range all {
		load.Go(func() {
			client := &http.Client{Transport: &http.Transport{}}
			for time.Now().Before(end) {
				start := time.Now()
				answer, err := client.Get(url)
				if err != nil {
					continue
				}
				io.Copy(io.Discard, answer.Body)
				answer.Body.Close()
				all[i] = append(all[i], float64(time.Since(start))/1e6)
			}
		})
	}
	load.Wait()
	times := slices.Concat(all...)
	slices.Sort(times)
	return times[len(times)*99/100]
}
