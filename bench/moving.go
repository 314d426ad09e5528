package main

import (
	"time"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/demo/pictures"
)

// moving measures stills that a sheet moves against as many stills of the same size and quality: how much longer a frame takes, and
// how many of their bytes it has.
func moving(r *report) error {
	source, err := pictures.Load("delta-red.jpg")
	if err != nil {
		return err
	}
	doc := policy.NewDocument("kites")
	doc.Sheet += ".slow { animation: across 4s linear infinite } .quick { animation: across 1s linear infinite }\n"
	site, _, err := policy.Compile(doc, nil)
	if err != nil {
		return err
	}
	try := func(query string) (took time.Duration, bytes int, err error) {
		d, err := declare.Parse(query)
		if err != nil {
			return 0, 0, err
		}
		asked, no := site.Decide(&policy.Ask{Lane: &policy.CompiledLane{}, Declared: d, Accepted: policy.AcceptsAll}, nil)
		if no != nil {
			return 0, 0, no
		}
		start := time.Now()
		made, err := render.Variant(source, render.Job{Request: asked, Limits: site.Limits, Predict: true})
		return time.Since(start), len(made.Data), err
	}
	for _, format := range []string{"avif", "webp", "jxl"} {
		var took [3]time.Duration
		var bytes [3]int
		for i, class := range []string{"", "class=quick&", "class=slow&"} {
			for range 3 {
				t, n, err := try(class + "width=480&quality=72&format=" + format)
				if err != nil {
					return err
				}
				if bytes[i] = n; took[i] == 0 || t < took[i] {
					took[i] = t
				}
			}
		}
		// What is done once is left out by the difference of eighty frames and twenty.
		frame := float64(took[2]-took[1]) / 60
		r.say("%-5s 480 wide: a frame takes %.2f of a still's time and %.2f of its bytes; eighty take %v, %.0f kB", format,
			frame/float64(took[0]), float64(bytes[2]-bytes[1])/60/float64(bytes[0]), took[2].Round(time.Millisecond), float64(bytes[2])/1000)
	}
	return nil
}
