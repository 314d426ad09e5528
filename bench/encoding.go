package main

import (
	"fmt"
	"math"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/avif"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/jxl"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/likeness"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
	"echolane/demo/pictures"
)

// searched are drawn pictures of several kinds, on which searches are measured.
var searched = []string{"delta-red.jpg", "festival-crowd.jpg", "box-kite-cliff.jpg", "spool-turned.jpg", "festival-dawn.jpg"}

// encoding measures what finding a quality costs beside one encode, and what effort buys.
func encoding(r *report) error {
	var sources [][]byte
	for _, name := range searched {
		source, err := pictures.Load(name)
		if err != nil {
			return err
		}
		sources = append(sources, source)
	}
	for _, c := range []struct {
		width  float64
		rounds int
		most   float64
		format declare.Format
	}{{640, 5, 3.5, declare.WebP}, {640, 5, 3.5, declare.AVIF}, {1600, 3, 2.5, declare.WebP}, {1600, 3, 2.5, declare.AVIF}} {
		var first, kept, predicted, found []float64
		var flat []float64
		for i, source := range sources {
			times, err := searching(source, c.width, c.format, c.rounds)
			if err != nil {
				return err
			}
			if i < 2 { // 640×427
				flat = append(flat, times[0]...)
			}
			first, kept = append(first, times[0]...), append(kept, times[1]...)
			predicted, found = append(predicted, times[2]...), append(found, times[3]...)
		}
		name := fmt.Sprintf("%v at %.0f wide", c.format, c.width)
		if c.width == 640 {
			r.atMost(name+" and 427 high, one encode from planes", median(flat), "ms", 45)
		}
		r.say("%-62s %7.2f ms", name+", one encode as kept", median(kept))
		r.say("%-62s %7.2f ms", name+", predicted", median(predicted))
		r.atMost(name+", predicted, against one encode as kept", ratio(predicted, kept), "×", 1.1)
		r.atMost(name+", searched, against one encode as kept", ratio(found, kept), "×", c.most)
	}
	return efforts(r, sources)
}

// searching gives the times of one encode as for a first answer, of one as it's kept, of a predicted one and of a
// search, all without decoding and resampling.
func searching(source []byte, width float64, format declare.Format, rounds int) ([][]float64, error) {
	var broke error
	check := func(err error) {
		if broke == nil {
			broke = err
		}
	}
	variant := func(predict bool) (encode float64, setting string) {
		d := declare.Declarations{GeometryValues: declare.GeometryValues{Width: width}, EncodingValues: declare.EncodingValues{Format: format, Quality: 72}}
		result, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Predict: predict, Clock: sinceStart()})
		check(err)
		for _, s := range result.Stages {
			if s.Name == "encode" {
				encode = s.Took.Seconds() * 1000
			}
		}
		return encode, result.How.Setting
	}
	planes, err := asPlanes(source, width)
	if err != nil {
		return nil, err
	}
	limited := planes.ToLimited()
	toAVIF := func(speed int) ([]byte, error) {
		return avif.EncodePlanes(planes, avif.Settings{Quantizer: 26, Speed: speed})
	}
	speed := 0
	if format == declare.AVIF { // which depends on the picture
		var quantizer float64
		_, setting := variant(false)
		if _, err := fmt.Sscanf(setting, "AV1 quantizer %g, speed %d", &quantizer, &speed); err != nil {
			return nil, fmt.Errorf("%q has no speed: %w", setting, err)
		}
	}
	first, kept := func() ([]byte, error) { return toAVIF(avif.FirstSpeed) }, func() ([]byte, error) { return toAVIF(speed) }
	if fineness := min(100, encode.UsualSetting(webp.Format.Write.Fit, 72)+webp.Alone); format == declare.WebP {
		first = func() ([]byte, error) { return guessed(limited, fineness) }
		kept = func() ([]byte, error) { return keptFile(limited, fineness) }
	}
	one := func(encode func() ([]byte, error)) func() {
		return func() {
			_, err := encode()
			check(err)
		}
	}
	var predicted, searched []float64
	into := func(times *[]float64, predict bool) func() {
		return func() {
			took, _ := variant(predict)
			*times = append(*times, took)
		}
	}
	times := alternate(rounds, one(first), one(kept), into(&predicted, true), into(&searched, false))
	return [][]float64{times[0], times[1], predicted, searched}, broke
}

// keptFile is a WebP as it's kept.
func keptFile(p *raster.YCbCr, fineness float64) ([]byte, error) {
	w := webp.NewEncoder(p)
	defer w.Free()
	return w.Write(fineness)
}

// guessed is a WebP as a first answer begins.
func guessed(p *raster.YCbCr, fineness float64) ([]byte, error) {
	w := webp.NewEncoder(p)
	defer w.Free()
	w.Choose(fineness, true)
	return w.File()
}

func asPlanes(source []byte, width float64) (*raster.YCbCr, error) {
	d := declare.Declarations{GeometryValues: declare.GeometryValues{Width: width}, EncodingValues: declare.EncodingValues{Format: declare.JPEG, Quality: 100}}
	made, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
	if err != nil {
		return nil, err
	}
	p, err := jpeg.Decode(made.Data, codec.Want{Scale: 8, Planes: true})
	return p.YCbCr, err
}

// efforts prints what each effort takes and gives: the time of one encode, and the bytes at the likeness that
// libjpeg-turbo reaches at 72, in all pictures together.
func efforts(r *report, sources [][]byte) error {
	type effort struct {
		name   string
		encode func(full, limited *raster.YCbCr, setting float64) ([]byte, error)
		decode func([]byte) (*raster.YCbCr, error)
		search likeness.Encoder
		guess  float64
		slope  float64
	}
	var pixels *raster.RGBA // of the picture in turn, for what is written from them
	var all []effort
	for method := 0; method <= 6; method += 2 {
		name := fmt.Sprintf("WebP method %d", method)
		if method == webp.Effort {
			name += ", with alpha or animated"
		}
		all = append(all, effort{name, func(_, p *raster.YCbCr, s float64) ([]byte, error) {
			return webp.EncodePlanesWith(p, webp.Quality(s), method)
		}, webp.DecodePlanes, likeness.Encoder{Most: 100, Step: 0.5}, 84, -0.045})
	}
	all = append(all, effort{"WebP, ours, first answers", func(_, p *raster.YCbCr, s float64) ([]byte, error) {
		return guessed(p, s)
	}, webp.DecodePlanes, likeness.Encoder{Most: 100, Step: 0.5}, 84, -0.045})
	all = append(all, effort{"WebP, ours, kept", func(_, p *raster.YCbCr, s float64) ([]byte, error) {
		return keptFile(p, s)
	}, webp.DecodePlanes, likeness.Encoder{Most: 100, Step: 0.5}, 84, -0.045})
	used := map[int]string{avif.FirstSpeed: ", first answers", avif.KeptSpeed: ", kept where large", avif.KeptSpeed - 1: ", kept", avif.ThoroughSpeed - 1: ", kept where effort is thorough"}
	for speed := 10; speed >= 5; speed-- {
		all = append(all, effort{fmt.Sprintf("AVIF speed %d%s", speed, used[speed]), func(p, _ *raster.YCbCr, s float64) ([]byte, error) {
			return avif.EncodePlanes(p, avif.Settings{Quantizer: avif.MaxQuantizer - int(s), Speed: speed})
		}, avif.DecodePlanes, likeness.Encoder{Most: avif.MaxQuantizer - 1, Step: 1}, 36, -0.05})
	}
	madeFor := map[int]string{4: ", first answers", 5: ", kept", 7: ", kept where effort is thorough"}
	for level := 3; level <= 8; level++ {
		all = append(all, effort{fmt.Sprintf("JPEG XL effort %d%s", level, madeFor[level]), func(_, _ *raster.YCbCr, s float64) ([]byte, error) {
			return jxl.Encode(pixels, jxl.Settings{Distance: jxl.Distance(s), Effort: level})
		}, func(data []byte) (*raster.YCbCr, error) {
			shown, err := jxl.Decode(data)
			if err != nil {
				return nil, err
			}
			defer shown.Free()
			return shown.RGBA.To420(), nil
		}, likeness.Encoder{Most: 100, Step: 0.25}, 33, -0.03})
	}
	times, bytes := make([][]float64, len(all)), make([]float64, len(all))
	for _, source := range sources {
		planes, err := asPlanes(source, 640)
		if err != nil {
			return err
		}
		j, err := jobOf("width=640")
		if err != nil {
			return err
		}
		if pixels, err = render.Paint(source, j); err != nil {
			return err
		}
		limited, original := planes.ToLimited(), likeness.OfPlanes(planes)
		data, err := jpeg.EncodePlainly(planes, 72)
		if err != nil {
			return err
		}
		p, err := jpeg.Decode(data, codec.Want{Scale: 8, Planes: true})
		if err != nil {
			return err
		}
		target := original.Distance(likeness.OfShown(p.YCbCr))
		for i, e := range all {
			var took []float64
			e.search.Try = func(s float64) ([]byte, float64, error) {
				start := time.Now()
				data, err := e.encode(planes, limited, s)
				if err != nil {
					return nil, 0, err
				}
				took = append(took, time.Since(start).Seconds()*1000)
				p, err := e.decode(data)
				if err != nil {
					return nil, 0, err
				}
				return data, original.Distance(likeness.OfShown(p)), nil
			}
			found, err := likeness.Search(e.search, func() float64 { return target }, e.guess, e.slope, 0.02)
			if err != nil {
				return err
			}
			times[i] = append(times[i], median(took))
			// What is a little off is put right along the usual way of bytes with distance.
			bytes[i] += float64(len(found.Data)) * math.Pow(found.Distance/target, 0.8)
		}
	}
	for i, e := range all {
		r.say("%-50s %8.1f ms %8.1f kB at equal likeness", e.name, median(times[i]), bytes[i]/1000)
	}
	return nil
}
