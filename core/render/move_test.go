package render

import (
	"bytes"
	"image"
	"image/color"
	stdjpeg "image/jpeg"
	"math"
	"strings"
	"testing"
	"time"

	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
)

// movingJob is a request of class m in a site with this sheet, at so many frames a second.
func movingJob(t testing.TB, sheet, query string, perSecond float64) Job {
	t.Helper()
	doc := policy.NewDocument("kites")
	doc.Sheet, doc.Limits.AnimationFPS, doc.Formats = sheet, perSecond, []string{"avif", "jxl", "webp", "jpeg", "png", "gif"}
	site, _, err := policy.Compile(doc, nil)
	if err != nil {
		t.Fatal(err)
	}
	d, err := declare.Parse("class=m&" + query)
	if err != nil {
		t.Fatal(err)
	}
	r, no := site.Decide(&policy.Ask{Lane: &policy.CompiledLane{}, Declared: d, Accepted: policy.AcceptsAll}, nil)
	if no != nil {
		t.Fatal(no)
	}
	return Job{Request: r, Limits: site.Limits, Predict: true}
}

// film are a result's frames, and how long each is seen.
func film(t testing.TB, r Result) (frames []*raster.RGBA, shown []time.Duration) {
	t.Helper()
	err := formats.Of(r.Format.MediaType()).Frames(r.Data, func(p *raster.RGBA, d time.Duration) error {
		frames, shown = append(frames, p), append(shown, d)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return frames, shown
}

// A thing that drifts goes as far from each frame to the next: it isn't held to whole pixels, of the source or of the canvas.
func TestWhatMovesMovesEvenly(t *testing.T) {
	const w, h = 400, 100
	m := image.NewNRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			d := math.Hypot(float64(x)-200, float64(y)-50) / 12
			v := uint8(255 * math.Exp(-d*d))
			m.SetNRGBA(x, y, color.NRGBA{v, v, v, 255})
		}
	}
	source := asPNG(t, m)
	job := movingJob(t, "@keyframes go { from { object-view-box: inset(0 30% 0 20%) } to { object-view-box: inset(0 20% 0 30%) } } .m { animation: go 4s linear forwards; width: 100px; quality: lossless }", "format=webp", 10)
	r, err := Variant(source, job)
	if err != nil {
		t.Fatal(err)
	}
	frames, shown := film(t, r)
	if len(frames) != 41 {
		t.Fatalf("%d frames", len(frames))
	}
	var total time.Duration
	var at []float64
	for i, p := range frames {
		var sum, weight float64
		for y := range p.H {
			row := p.Row(y)
			for x := range p.W {
				v := float64(row[4*x])
				sum, weight = sum+v*(float64(x)+0.5), weight+v
			}
		}
		at = append(at, sum/weight)
		total += shown[i]
	}
	step := (at[40] - at[0]) / 40 // 20 canvas pixels in all
	if math.Abs(step+0.5) > 0.01 {
		t.Errorf("%.3f pixels from frame to frame, want -0.5", step)
	}
	for i := 1; i < len(at); i++ {
		if math.Abs(at[i]-at[i-1]-step) > 0.06 {
			t.Errorf("frame %d: %.3f pixels after the one before, want %.3f", i, at[i]-at[i-1], step)
		}
	}
	if total != 4100*time.Millisecond {
		t.Errorf("%v in all", total)
	}
}

// At a keyframe the picture is what it would be as a still, whichever way it is stored, turned and mirrored; on a canvas that stays.
func TestKeyframesAreStills(t *testing.T) {
	const sheet = "@keyframes go { from { xywh: percent:0,0,50,60 } to { xywh: percent:40,30,50,60; filter: sepia(.6) } } .m { animation: go 1s linear forwards; object-fit: cover; quality: lossless }"
	for _, orientation := range []int{1, 6} {
		var b bytes.Buffer
		if err := stdjpeg.Encode(&b, stored(scene(480, 360), orientation), &stdjpeg.Options{Quality: 95}); err != nil {
			t.Fatal(err)
		}
		source := withExif(b.Bytes(), byte(orientation))
		for _, query := range []string{"width=120&aspect-ratio=1", "width=100&rotate=90deg", "width=100&height=80&scale=-1+1", "width=120&border=4px+solid+red&border-radius=20px", "width=100&height=80&object-fit=contain", "width=90&resolution=2x"} {
			job := movingJob(t, sheet, query+"&format=webp", 4)
			r, err := Variant(source, job)
			if err != nil {
				t.Fatalf("%s: %v", query, err)
			}
			frames, _ := film(t, r)
			for i, still := range map[int]string{0: "&xywh=percent:0,0,50,60", len(frames) - 1: "&xywh=percent:40,30,50,60&filter=sepia(.6)"} {
				fit := "&object-fit=cover"
				if strings.Contains(query, "contain") {
					fit = ""
				}
				want := painted(t, source, query+still+fit)
				frames[i].Premultiply()
				if want.W != frames[i].W || want.H != frames[i].H {
					t.Errorf("%s, frame %d: %d × %d, the still %d × %d", query, i, frames[i].W, frames[i].H, want.W, want.H)
					continue
				}
				if p := psnr(t, frames[i], want); p < 32 {
					t.Errorf("orientation %d, %s, frame %d: PSNR %.1f to the still", orientation, query, i, p)
				}
			}
		}
	}
}

func TestWhatStaysAStill(t *testing.T) {
	source := asPNG(t, scene(300, 200))
	const sheet = "@keyframes go { to { opacity: .2; xywh: percent:10,10,80,80 } } .m { animation: go 1s infinite; width: 120px }"
	plain := variant(t, source, "width=120&object-fit=fill&format=jpeg")
	for _, query := range []string{"format=jpeg", "format=png", "format=webp&animation=none"} {
		r, err := Variant(source, movingJob(t, sheet, query, 8))
		if err != nil {
			t.Fatal(err)
		}
		if p := shown(t, r.Data); p.W != 120 || p.H != 80 {
			t.Errorf("%s: %d × %d", query, p.W, p.H)
		}
		if query == "format=jpeg" && psnr(t, shown(t, r.Data), shown(t, plain.Data)) < 30 {
			t.Error("the still isn't the picture without its animation")
		}
	}
	// An animation that comes moves as it did.
	r, err := Variant(clip(t), movingJob(t, sheet, "format=webp", 8))
	if err != nil {
		t.Fatal(err)
	}
	own, _ := film(t, r)
	if n := mustProbe(t, clip(t)).Frames; len(own) != n {
		t.Errorf("%d frames of a clip of %d", len(own), n)
	}
}

// No moment shows more pixels than the source has, unless that is asked for; then the canvas is smaller in all.
func TestMovingIsntGrowing(t *testing.T) {
	source := asPNG(t, scene(300, 200))
	const sheet = "@keyframes go { to { xywh: percent:25,25,50,50 } } .m { animation: go 1s infinite alternate; object-fit: cover }"
	for query, want := range map[string]int{"width=100": 100, "width=200": 150, "": 150, "width=200&grow=yes": 200} {
		r, err := Variant(source, movingJob(t, sheet, query+"&format=webp", 4))
		if err != nil {
			t.Fatal(err)
		}
		if frames, _ := film(t, r); frames[0].W != want || r.Canvas.W != want {
			t.Errorf("%s: %d wide, want %d", query, frames[0].W, want)
		}
	}
}

func TestMovingInEveryFormatAndWithinBounds(t *testing.T) {
	source := asPNG(t, scene(300, 200))
	const sheet = "@keyframes go { to { xywh: percent:25,25,50,50; opacity: .5 } } .m { animation: go 2s linear infinite alternate; object-fit: cover; width: 100px }"
	for _, format := range []string{"avif", "jxl", "webp", "gif"} {
		r, err := Variant(source, movingJob(t, sheet, "format="+format, 5))
		if err != nil {
			t.Errorf("%s: %v", format, err)
			continue
		}
		frames, times := film(t, r)
		var total time.Duration
		for _, d := range times {
			total += d
		}
		if r.Format.String() != format || len(frames) != 20 || math.Abs(total.Seconds()-4) > 0.02 {
			t.Errorf("%s: %v with %d frames, %v", format, r.Format, len(frames), total)
		}
	}
	// A site's bound on frames, and those of what is made at all.
	job := movingJob(t, sheet, "format=webp", 60)
	job.Request.Motion.Most = 10
	r, err := Variant(source, job)
	if err != nil {
		t.Fatal(err)
	}
	if frames, _ := film(t, r); len(frames) != 10 {
		t.Errorf("%d frames of at most 10", len(frames))
	}
	large := asPNG(t, image.NewNRGBA(image.Rect(0, 0, 4000, 3000)))
	_, err = Variant(large, movingJob(t, "@keyframes go { to { opacity: .5 } } .m { animation: go 2s infinite }", "format=webp", 5))
	if no := refusal(t, err); no.Reason != policy.ReasonVariantTooLarge {
		t.Errorf("%v", no)
	}
	// What is redacted is so at every moment, and a drawing is drawn as finely as its nearest moment needs.
	box := image.Rect(120, 80, 216, 152)
	r, err = Variant(asPNG(t, secret(400, 300, box)), movingJob(t, sheet, "format=webp&quality=95&redact=120,80,96,72", 5))
	if err != nil {
		t.Fatal(err)
	}
	frames, _ := film(t, r)
	for i, p := range frames {
		p.Premultiply()
		at := 1 - math.Abs(1-float64(i)/10) // of the run
		k := 100 / (400 - 200*at)
		x, y := 100*at, 75*at
		if c := contrast(p, int((145-x)*k), max(0, int((95-y)*k)), int((190-x)*k), min(p.H, int((137-y)*k))); c > 60 {
			t.Errorf("frame %d shows what is redacted: %d", i, c)
		}
	}
	svg := []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="30" height="20"><rect width="30" height="20" fill="white"/><rect x="15" width="15" height="20" fill="black"/></svg>`)
	r, err = Variant(svg, movingJob(t, "@keyframes go { from { xywh: percent:45,45,10,10 } to { xywh: percent:40,45,10,10 } } .m { animation: go 1s linear forwards; width: 200px; quality: lossless }", "format=webp", 4))
	if err != nil {
		t.Fatal(err)
	}
	frames, _ = film(t, r)
	for i, p := range frames {
		edge := 100 + 25*i // where white becomes black
		row := p.Row(p.H / 2)
		if p.W != 200 || row[4*(edge-3)] < 250 || i < 4 && row[4*(edge+3)] > 5 {
			t.Errorf("frame %d of a drawing: %d wide, %d and %d beside the edge", i, p.W, row[4*(edge-3)], row[4*min(edge+3, 199)])
		}
	}
}
