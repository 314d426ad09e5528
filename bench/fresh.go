package main

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"echolane/core/codec"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/png"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
	"echolane/internal/testbed"
)

// fresh makes a 640-wide WebP from a 2560×1600 JPEG: by the core alone and through the running service, held
// against one decode and one encode of the same files by the codecs, with nothing between them.
func fresh(r *report) error {
	source, err := photograph()
	if err != nil {
		return err
	}
	d, err := declare.Parse("width=640&quality=72&format=webp")
	if err != nil {
		return err
	}
	job := render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Predict: true}
	variant, err := render.Variant(source, job)
	if err != nil {
		return err
	}
	used := variant.How.Trials[len(variant.How.Trials)-1].Setting
	planes, err := exactly(source, "width=640")
	if err != nil {
		return err
	}
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		folder := filepath.Join(bed.Dir, "copies")
		if err := os.MkdirAll(folder, 0o755); err != nil {
			return err
		}
		service := bed.Kestrel(t, "--search-at-once=false") // as services do
		bed.Must(t, service, "lane", "add", "kestrel/copies", "--folder", folder)
		bed.Must(t, service, "site", "set", "kestrel", "--effort", "predicted") // so that no search runs beside what is measured next
		const rounds = 81
		for i := range rounds + 1 { // each with its own bytes, so that none was made before
			if err := write(folder, fmt.Sprintf("copy-%02d.jpg", i), append(source[:len(source):len(source)], byte(i))); err != nil {
				return err
			}
		}
		var broke error
		check := func(e error) {
			if broke == nil {
				broke = e
			}
		}
		search := job
		search.Predict = false
		kept, err := render.Variant(source, search)
		if err != nil {
			return err
		}
		next, timing := 0, ""
		overHTTP := func() {
			answer, _, e := get(fmt.Sprintf("%s/kestrel/copies/copy-%02d.jpg?width=640&format=webp", service.Base, next))
			next++
			if check(e); e != nil {
				return
			}
			timing = answer.Header.Get("Server-Timing")
		}
		overHTTP() // the worker is there
		times := alternate(rounds,
			func() { _, e := jpeg.Decode(source, codec.Want{Scale: 4, Planes: true}); check(e) },
			func() { _, e := guessed(planes, used); check(e) },
			func() { _, e := webp.EncodePlanes(planes, webp.Quality(used)); check(e) },
			func() { _, e := render.Variant(source, job); check(e) },
			overHTTP,
			func() { // as one after the other would
				for _, t := range kept.How.Trials {
					_, e := keptFile(planes, t.Setting)
					check(e)
				}
			},
			func() { _, e := render.Variant(source, search); check(e) })
		if broke != nil {
			return broke
		}
		r.say("2560×1600 baseline 4:2:0 JPEG of %d kB → 640×400 WebP of %d kB, medians of %d rounds", len(source)/1000, len(variant.Data)/1000, rounds)
		r.say("%-62s %7.2f ms", "decoding alone (libjpeg-turbo, half size, planes)", median(times[0]))
		r.say("%-62s %7.2f ms", "encoding alone, once (ours, from planes)", median(times[1]))
		r.say("%-62s %7.2f ms", "the same by libwebp", median(times[2]))
		r.say("%-62s %7.2f ms", "the core's render", median(times[3]))
		r.say("%-62s %7.2f ms", "over HTTP, through a worker process", median(times[4]))
		r.say("stages of the last: %s", timing)
		r.say("%-62s %7.2f ms", fmt.Sprintf("the %d encodes that a search tries", len(kept.How.Trials)), median(times[5]))
		r.say("%-62s %7.2f ms", "the core's render, searched", median(times[6]))
		r.atMost("the core's render against its codec calls", ratio(times[3], times[0], times[1]), "×", 1.15)
		r.atMost("over HTTP against its codec calls", ratio(times[4], times[0], times[1]), "×", 1.25)
		r.atMost("a searched render against decoding and the encodes that were tried", ratio(times[6], times[0], times[5]), "×", 1.6)
		return nil
	})
}

// exactly is what a render of a source has its encoder write, without what writing it loses: what was written before takes less.
func exactly(source []byte, query string) (*raster.YCbCr, error) {
	job, err := jobOf(query + "&format=png&quality=100")
	if err != nil {
		return nil, err
	}
	made, err := render.Variant(source, job)
	if err != nil {
		return nil, err
	}
	if made.How.Way != "lossless" {
		return nil, fmt.Errorf("the picture was written %s", made.How.Way)
	}
	shown, err := png.Decode(made.Data)
	if err != nil {
		return nil, err
	}
	return shown.RGBA.To420().ToLimited(), nil
}

// many makes a page's set of one source of 12 megapixels: eight widths in two formats, together and one by one.
func many(r *report) error {
	source, err := photographOf(4000, 3000)
	if err != nil {
		return err
	}
	var jobs []render.Job
	for _, width := range []int{160, 320, 480, 640, 960, 1280, 1600, 2000} {
		for _, format := range []string{"webp", "jpeg"} {
			j, err := jobOf(fmt.Sprintf("width=%d&quality=72&format=%s", width, format))
			if err != nil {
				return err
			}
			j.Predict = true
			jobs = append(jobs, j)
		}
	}
	var broke error
	together := func() {
		render.Variants(source, jobs, func(_ int, o render.Outcome) {
			if o.Err != nil {
				broke = o.Err
			}
		})
	}
	alone := func() {
		for _, j := range jobs {
			if _, err := render.Variant(source, j); err != nil {
				broke = err
			}
		}
	}
	t := alternate(9, together, alone)
	if broke != nil {
		return broke
	}
	r.say("together %.0f ms, one by one %.0f ms", median(t[0]), median(t[1]))
	r.atMost("8 widths in 2 formats, of 16 separate renders", ratio(t[0], t[1]), "×", 0.45)
	return nil
}
