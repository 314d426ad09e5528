package conformance

import (
	"bytes"
	"image/jpeg"
	"strings"
	"testing"
	"time"

	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
)

// What is written in each format is shown by the browser as our own decoder reads it.
func TestTheBrowserShowsWhatIsWritten(t *testing.T) {
	var files []Source
	write := func(from Source, name, query string) {
		t.Helper()
		d, err := declare.Parse(query)
		if err != nil {
			t.Fatal(err)
		}
		r, err := render.Variant(from.Data, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, Source{Name: name + "." + r.Format.String(), Type: r.Format.MediaType(), Data: r.Data, W: r.Canvas.W, H: r.Canvas.H, Alpha: from.Alpha})
	}
	photo, alpha := find(sources, "photo.png"), find(sources, "alpha.png")
	for _, format := range []string{"jxl", "avif", "webp", "png"} {
		write(photo, "photo-exact", "width=300&quality=lossless&format="+format)
		write(alpha, "alpha-exact", "width=300&quality=lossless&format="+format)
		write(photo, "photo", "width=300&quality=80&format="+format)
		write(alpha, "alpha", "width=300&quality=80&format="+format)
	}
	m, err := Ours(photo.Data, "width=300")
	if err != nil {
		t.Fatal(err)
	}
	var b bytes.Buffer
	if err := jpeg.Encode(&b, m, &jpeg.Options{Quality: 60}); err != nil {
		t.Fatal(err)
	}
	write(Source{Data: b.Bytes()}, "rewrapped", "format=jxl")
	// An animation's first frame, which is shown for long.
	for _, f := range []declare.Format{declare.AVIF, declare.WebP, declare.JXL} {
		frame := raster.NewRGBA(m.Rect.Dx(), m.Rect.Dy())
		for y := range frame.H {
			copy(frame.Row(y), m.Pix[y*m.Stride:][:4*frame.W])
		}
		frame.Opaque = true
		a, err := formats.Writer(f).Animate(frame.W, frame.H, 0, 256, true)
		if err != nil {
			t.Fatal(err)
		}
		setting := map[declare.Format]float64{declare.AVIF: 50, declare.WebP: 95, declare.JXL: 70}[f]
		for range 3 {
			if err := a.Add(frame, time.Minute, setting); err != nil {
				t.Fatal(err)
			}
		}
		data, err := a.Bytes()
		a.Close()
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, Source{Name: "moving." + f.String(), Type: f.MediaType(), Data: data, W: frame.W, H: frame.H})
	}
	j, err := NewJudge(files)
	if err != nil {
		t.Fatal(err)
	}
	defer j.Close()
	for _, f := range files {
		kind := Fit
		if strings.Contains(f.Name, "exact") {
			kind = Same // but for a step, by which premultiplied colours are rounded in different ways
		}
		widened := f.Alpha && f.Type == "image/avif" // which is why transparent pictures go in other formats where a client takes them
		r, err := j.Run(Case{Kind: kind, Source: f}, nil)
		if err != nil {
			t.Errorf("%s: %v", f.Name, err)
			continue
		}
		if widened {
			if t.Logf("%s has %.1f dB", f.Name, r.Figures.PSNR); r.Figures.PSNR > 45 {
				t.Logf("the browser shows AVIF's alpha as it is by now: declare.ShowsAlpha needn't leave it out")
			}
			continue
		}
		for _, wrong := range r.Failures {
			if kind == Fit || r.Figures.Max > 2 {
				t.Errorf("%s: %s (PSNR %.1f, max %d)", f.Name, wrong, r.Figures.PSNR, r.Figures.Max)
			}
		}
		if kind == Fit && r.Figures.PSNR < 40 {
			t.Errorf("%s: PSNR %.1f", f.Name, r.Figures.PSNR)
		}
	}
}
