package main

import (
	"fmt"

	"echolane/core/codec/avif"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
)

// encoding measures what finding a quality costs beside one encode, and what effort buys.
func encoding(r *report) error {
	source, err := photograph()
	if err != nil {
		return err
	}
	for _, c := range []struct {
		width  float64
		most   float64
		format declare.Format
	}{{640, 3.5, declare.WebP}, {640, 3.5, declare.AVIF}, {1600, 2.5, declare.WebP}, {1600, 2.5, declare.AVIF}} {
		job := func(predict bool) render.Job {
			d := declare.Declarations{Width: c.width, Format: c.format, Quality: 72}
			return render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Predict: predict, Clock: sinceStart()}
		}
		var broke error
		encode := func(j render.Job) float64 {
			result, err := render.Variant(source, j)
			if err != nil {
				broke = err
				return 0
			}
			for _, s := range result.Stages {
				if s.Name == "encode" {
					return s.Took.Seconds() * 1000
				}
			}
			return 0
		}
		planes, err := asPlanes(source, c.width)
		if err != nil {
			return err
		}
		limited := planes.ToLimited()
		var searched, predicted []float64
		rounds := 7
		if c.width > 1000 {
			rounds = 3
		}
		times := alternate(rounds, func() {
			if c.format == declare.WebP {
				_, broke = webp.EncodePlanes(limited, render.WebPQuality(72))
			} else {
				_, broke = avif.EncodePlanes(planes, avif.Settings{Quantizer: 26, Speed: render.AVIFFirst})
			}
		}, func() { predicted = append(predicted, encode(job(true))) }, func() { searched = append(searched, encode(job(false))) }, func() {
			if c.format == declare.AVIF { // what is kept is written with more effort than a first answer
				_, broke = avif.EncodePlanes(planes, avif.Settings{Quantizer: 26, Speed: render.AVIFKept})
			}
		})
		if broke != nil {
			return broke
		}
		one := median(times[0])
		name := fmt.Sprintf("%v at %.0f wide", c.format, c.width)
		r.say("%-62s %7.2f ms", name+", one encode", one)
		if c.width == 640 {
			r.atMost(name+", one encode from planes", one, "ms", 45)
		}
		r.atMost(name+", predicted, against that", median(predicted)/one, "×", 1.1)
		if c.format == declare.AVIF {
			one = median(times[3])
			r.say("%-62s %7.2f ms", name+", one encode at the effort of what is kept", one)
		}
		r.atMost(name+", searched, against that", median(searched)/one, "×", c.most)
	}
	return efforts(r, source)
}

func asPlanes(source []byte, width float64) (*raster.YCbCr, error) {
	d := declare.Declarations{Width: width, Format: declare.JPEG, Quality: 100}
	made, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
	if err != nil {
		return nil, err
	}
	p, err := jpeg.Decode(made.Data, jpeg.Options{Scale: 8, Planes: true})
	return p.YCbCr, err
}

// efforts prints what each effort takes and gives, at the setting of quality 72.
func efforts(r *report, source []byte) error {
	planes, err := asPlanes(source, 640)
	if err != nil {
		return err
	}
	for speed := 10; speed >= 6; speed-- {
		var data []byte
		t := alternate(3, func() { data, err = avif.EncodePlanes(planes, avif.Settings{Quantizer: 26, Speed: speed}) })
		if err != nil {
			return err
		}
		r.say("AVIF speed %-2d %51.1f ms %8d bytes", speed, median(t[0]), len(data))
	}
	return nil
}
