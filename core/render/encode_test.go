package render

import (
	"bytes"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/color/palette"
	"image/draw"
	stdgif "image/gif"
	stdjpeg "image/jpeg"
	"math"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/avif"
	"echolane/core/codec/formats"
	"echolane/core/codec/gif"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/webp"
	"echolane/core/declare"
	"echolane/core/likeness"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/demo/pictures"
	"echolane/internal/cmemory"
)

// shown decodes a variant of any format, premultiplied.
func shown(t testing.TB, data []byte) *raster.RGBA {
	t.Helper()
	p, err := Job{Limits: policy.DefaultLimits}.pixelsOf(data, declare.Declarations{})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func drawn(t testing.TB, name string) []byte {
	t.Helper()
	source, err := pictures.Load(name)
	if err != nil {
		t.Fatal(err)
	}
	return source
}

func TestEveryFormatIsWrittenAndRead(t *testing.T) {
	source := asPNG(t, scene(200, 140))
	want := shown(t, source)
	for _, format := range []string{"avif", "webp", "jpeg", "png", "gif"} {
		r := variant(t, source, "quality=80&format="+format)
		info, err := Probe(r.Data)
		if err != nil {
			t.Fatalf("%s: %v", format, err)
		}
		if info.Type != "image/"+format || info.W != 200 || info.H != 140 || info.Frames != 1 || r.Format.String() != format {
			t.Errorf("%s: %+v", format, info)
		}
		if db := psnr(t, shown(t, r.Data), want); db < 29 {
			t.Errorf("%s at quality 80: %.1f dB", format, db)
		}
	}
}

func TestLosslessIsExact(t *testing.T) {
	m := scene(90, 61)
	for y := range 20 {
		for x := range 30 {
			m.SetNRGBA(x, y, color.NRGBA{uint8(8 * x), uint8(9 * y), 77, uint8(4 + 8*x)})
		}
	}
	source := asPNG(t, m)
	want := shown(t, source)
	for _, format := range []string{"avif", "webp", "png"} {
		got := shown(t, variant(t, source, "quality=lossless&format="+format).Data)
		for y := range want.H {
			a, b := got.Row(y), want.Row(y)
			for i := range a {
				if d := int(a[i]) - int(b[i]); d > 1 || d < -1 || d != 0 && b[i|3] == 255 { // premultiplying and back may cost a level
					t.Fatalf("%s: byte %d of row %d is %d, want %d", format, i, y, a[i], b[i])
				}
			}
		}
	}
}

// The promise of `quality`: as near as libjpeg-turbo comes to the same picture at that number, in every format.
func TestQualityMeansTheSameInEveryFormat(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	for _, name := range []string{"delta-red.jpg", "festival-crowd.jpg", "spool-turned.jpg"} {
		source := variant(t, drawn(t, name), "width=480&format=png&quality=lossless").Data
		planes := shown(t, source).To420()
		original := likeness.OfPlanes(planes)
		for _, q := range []int{50, 72, 85} {
			data, err := jpeg.EncodePlanes(planes, q)
			if err != nil {
				t.Fatal(err)
			}
			p, err := jpeg.Decode(data, codec.Want{Scale: 8, Planes: true})
			if err != nil {
				t.Fatal(err)
			}
			aim := likeness.Likeness(original.Distance(likeness.OfShown(p.YCbCr)))
			for format, read := range map[string]func([]byte) (*raster.YCbCr, error){"webp": webp.DecodePlanes, "avif": avif.DecodePlanes} {
				r := variant(t, source, fmt.Sprintf("quality=%d&format=%s", q, format))
				planes, err := read(r.Data)
				if err != nil {
					t.Fatal(err)
				}
				got := likeness.Likeness(original.Distance(likeness.OfShown(planes)))
				if got < aim-3 || got > aim+3 {
					t.Errorf("%s, quality %d, %s: likeness %.1f, libjpeg-turbo has %.1f (%+v)", name, q, format, got, aim, r.How)
				}
				if r.How.Way != "searched" || len(r.How.Trials) == 0 || len(r.How.Trials) > 5 {
					t.Errorf("%s, quality %d, %s: %+v", name, q, format, r.How)
				}
			}
		}
	}
}

// First answers come near what was asked for: most after one look, all after no more than three encodes.
func TestFirstAnswersComeNear(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	near, all := 0, 0
	for _, name := range []string{"delta-red.jpg", "festival-crowd.jpg", "box-kite-cliff.jpg", "dragon-tail.jpg"} {
		source := variant(t, drawn(t, name), "width=320&format=png&quality=lossless").Data
		planes := shown(t, source).To420()
		original := likeness.OfPlanes(planes)
		for format, read := range map[string]func([]byte) (*raster.YCbCr, error){"webp": webp.DecodePlanes, "avif": avif.DecodePlanes} {
			for _, q := range []int{50, 72, 85} {
				j := job(t, fmt.Sprintf("format=%s&quality=%d", format, q))
				j.Predict = true
				r, err := Variant(source, j)
				if err != nil || r.How.Way != "predicted" || !r.How.Provisional || len(r.How.Trials) < 1 || len(r.How.Trials) > 3 {
					t.Fatalf("%s, quality %d, %s: %+v, %v", name, q, format, r.How, err)
				}
				p, err := read(r.Data)
				if err != nil {
					t.Fatal(err)
				}
				got := likeness.Likeness(original.Distance(likeness.OfShown(p)))
				if all++; math.Abs(got-r.How.Aim) <= 3 {
					near++
				} else {
					t.Logf("%s, quality %d, %s: likeness %.1f, aim %.1f (%+v)", name, q, format, got, r.How.Aim, r.How)
				}
				if r.How.Likeness > 0 && math.Abs(got-r.How.Likeness) > 1 {
					t.Errorf("%s, quality %d, %s: the likeness is said to be %.1f, is %.1f", name, q, format, r.How.Likeness, got)
				}
			}
		}
	}
	if near*10 < all*7 {
		t.Errorf("%d of %d are within three points", near, all)
	}
}

// Kept AVIFs are between whole quantizers where that is nearer, first answers aren't.
func TestPartsOfAQuantizer(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	between := 0
	for _, name := range []string{"delta-red.jpg", "dragon-tail.jpg"} {
		source := drawn(t, name)
		for _, q := range []int{50, 60, 80} {
			for _, predict := range []bool{true, false} {
				j := job(t, fmt.Sprintf("width=200&format=avif&quality=%d", q))
				j.Predict = predict
				r, err := Variant(source, j)
				if err != nil {
					t.Fatal(err)
				}
				for _, trial := range r.How.Trials {
					if whole := trial.Setting == math.Round(trial.Setting); predict && !whole {
						t.Errorf("%s at %d: a first answer tries %v", name, q, trial.Setting)
					} else if trial.Setting*4 != math.Round(trial.Setting*4) {
						t.Errorf("%s at %d: tries %v", name, q, trial.Setting)
					}
				}
				if !predict && strings.Contains(r.How.Setting, ".") {
					between++
				}
			}
		}
	}
	if between < 2 {
		t.Errorf("of 6 kept pictures %d are between whole quantizers", between)
	}
}

// With alpha libwebp writes, and a first answer is one encode.
func TestPredictedWithAlphaTakesOneEncode(t *testing.T) {
	j := job(t, "width=200&format=webp&quality=60")
	j.Predict = true
	r, err := Variant(drawn(t, "mark.png"), j)
	if err != nil || r.How.Way != "predicted" || len(r.How.Trials) != 0 || strings.Contains(r.How.Setting, "rate-distortion") {
		t.Errorf("%+v, %v", r.How, err)
	}
}

func TestABudgetIsKept(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	source := drawn(t, "festival-crowd.jpg")
	for _, format := range []string{"jpeg", "webp", "avif"} {
		free := variant(t, source, "width=400&quality=80&format="+format)
		budget := len(free.Data) * 6 / 10
		r := variant(t, source, fmt.Sprintf("width=400&quality=80&budget=%d&format=%s", budget, format))
		if len(r.Data) > budget || len(r.Data) < budget*7/10 || r.How.Way != "budget" {
			t.Errorf("%s: %d bytes of %d: %+v", format, len(r.Data), budget, r.How)
		}
		if r = variant(t, source, fmt.Sprintf("width=400&quality=80&budget=%d&format=%s", len(free.Data)+1, format)); !bytes.Equal(r.Data, free.Data) {
			t.Errorf("%s: a budget that is large enough changes the variant", format)
		}
	}
	told := variant(t, told(t), "width=100&budget=2kB&format=jpeg&retain=rights")
	if len(told.Data) > 2000 || !bytes.Contains(told.Data, []byte("Kestrel&T.")) {
		t.Errorf("with what is retained %d bytes of 2000", len(told.Data))
	}
	_, err := Variant(source, job(t, "width=400&budget=300&format=webp"))
	var no *policy.Refusal
	if !errors.As(err, &no) || no.Reason != "budget-out-of-reach" || no.Allowed == "" {
		t.Errorf("300 bytes: %v", err)
	}
}

// Palettes shrink where there's no quality to lower.
func TestABudgetOfColours(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	photo, drawing := drawn(t, "festival-crowd.jpg"), drawn(t, "mark.png")
	for _, c := range []struct {
		name, query string
		source      []byte
	}{
		{"a photograph as PNG", "width=200&format=png", photo}, {"a photograph as GIF", "width=200&format=gif", photo},
		{"a drawing as PNG", "width=200&format=png", drawing}, {"a drawing as GIF", "width=200&format=gif", drawing},
		{"a moving GIF", "width=60&format=gif", clip(t)},
	} {
		free := variant(t, c.source, c.query)
		budget := len(free.Data) * 9 / 10
		j := job(t, fmt.Sprintf("%s&budget=%d", c.query, budget))
		j.Floor = 5
		r, err := Variant(c.source, j)
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if len(r.Data) > budget || r.How.Way != "budget" || !strings.HasSuffix(r.How.Setting, " colours") {
			t.Errorf("%s: %d bytes of %d: %+v", c.name, len(r.Data), budget, r.How)
		}
		if a, b := mustProbe(t, free.Data), mustProbe(t, r.Data); a != b {
			t.Errorf("%s: %+v became %+v", c.name, a, b)
		}
		// A palette that is too far from the picture isn't sent: the smallest that is near enough is named.
		j.Floor, j.Request.Budget = 97, 100
		var no *policy.Refusal
		if _, err = Variant(c.source, j); !errors.As(err, &no) || no.Reason != "budget-out-of-reach" || no.Given != "100" {
			t.Errorf("%s: %v", c.name, err)
		}
	}
}

// clip is an animation of 6 frames with something of every colour.
func clip(t testing.TB) []byte {
	t.Helper()
	whole := scene(120, 60)
	g := &stdgif.GIF{}
	for i := range 6 {
		frame := image.NewPaletted(image.Rect(0, 0, 60, 60), palette.Plan9)
		draw.FloydSteinberg.Draw(frame, frame.Rect, whole, image.Pt(10*i, 0))
		g.Image, g.Delay = append(g.Image, frame), append(g.Delay, 10)
	}
	var b bytes.Buffer
	if err := stdgif.EncodeAll(&b, g); err != nil {
		t.Fatal(err)
	}
	return b.Bytes()
}

func TestABudgetOfAMovingWebP(t *testing.T) {
	source := clip(t)
	for _, query := range []string{"width=60&format=webp&quality=90", "width=60&format=webp"} {
		free := variant(t, source, query)
		budget := len(free.Data) * 8 / 10
		j := job(t, fmt.Sprintf("%s&budget=%d", query, budget))
		r, err := Variant(source, j)
		if err != nil {
			t.Fatalf("%s, %d bytes: %v", query, budget, err)
		}
		if len(r.Data) > budget || r.How.Way != "budget" || mustProbe(t, r.Data).Frames != 6 {
			t.Errorf("%s: %d bytes of %d: %+v", query, len(r.Data), budget, r.How)
		}
	}
	var no *policy.Refusal
	if _, err := Variant(source, job(t, "width=60&format=webp&quality=lossless&budget=100")); !errors.As(err, &no) || !strings.Contains(no.Remedy, "quality=lossless") {
		t.Errorf("%v", err)
	}
	if _, err := Variant(source, job(t, "width=60&format=webp&budget=100")); !errors.As(err, &no) || !strings.Contains(no.Remedy, "animation=none") {
		t.Errorf("%v", err)
	}
}

func TestTheSourcesOwnDataIsSentWhereThatIsAllThatIsAsked(t *testing.T) {
	// As tight as the format goes.
	source := variant(t, asPNG(t, scene(300, 200)), "quality=40&format=jpeg").Data
	render := func(source []byte, query string, defaults string) Result {
		t.Helper()
		d, err := declare.Parse(query)
		if err != nil {
			t.Fatal(err)
		}
		base, _ := declare.Parse(defaults)
		r, err := Variant(source, Job{Request: d.Resolve(base, []declare.Format{declare.JPEG, declare.PNG}), Limits: policy.DefaultLimits})
		if err != nil {
			t.Fatal(err)
		}
		return r
	}
	const site = "quality=72&object-fit=cover"
	for _, query := range []string{"", "width=300", "width=900", "width=300&height=200&object-fit=fill"} {
		if r := render(source, query, site); r.How.Way != "source" || !bytes.Equal(r.Data, source) {
			t.Errorf("%q: %s, %d bytes of %d", query, r.How.Way, len(r.Data), len(source))
		}
	}
	for _, query := range []string{"width=299", "quality=72", "format=png", "filter=grayscale(1)", "rotate=90deg", "xywh=0,0,299,200", "scale=-1 1"} {
		if r := render(source, query, site); r.How.Way == "source" {
			t.Errorf("%q: the source itself is sent", query)
		}
	}
	if r := render(withExif(source, 6), "", site); r.How.Way == "source" {
		t.Error("a source that isn't upright is sent as it is")
	}
	// And a source that says where it was taken is sent without that.
	told := withExif(source, 1)
	if r := render(told, "", site); r.How.Way != "source" || bytes.Contains(r.Data, []byte("Exif")) || len(r.Data) >= len(told) {
		t.Errorf("%s, %d bytes of %d", r.How.Way, len(r.Data), len(told))
	}
	// One that wastes bytes is encoded anew.
	var b bytes.Buffer
	if err := stdjpeg.Encode(&b, scene(300, 200), &stdjpeg.Options{Quality: 100}); err != nil {
		t.Fatal(err)
	}
	if r := render(b.Bytes(), "", site); r.How.Way == "source" || len(r.Data) > b.Len()/2 {
		t.Errorf("a wasteful source: %s, %d bytes of %d", r.How.Way, len(r.Data), b.Len())
	}
}

func TestADamagedSourceIsntEncodedFinerThanItIs(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	var b bytes.Buffer
	if err := stdjpeg.Encode(&b, scene(300, 200), &stdjpeg.Options{Quality: 30}); err != nil {
		t.Fatal(err)
	}
	if q := jpeg.Quality(b.Bytes()); q < 29 || q > 31 {
		t.Errorf("the source was written at 30, its tables say %d", q)
	}
	if r := variant(t, b.Bytes(), "quality=90&format=webp"); r.How.Quality > 31 {
		t.Errorf("at its own size: %+v", r.How)
	}
	if r := variant(t, b.Bytes(), "width=100&quality=90&format=webp"); r.How.Quality != 90 {
		t.Errorf("much reduced: %+v", r.How)
	}
	for _, format := range []string{"webp", "avif"} {
		coarse, fine := variant(t, drawn(t, "festival-crowd.jpg"), "width=300&quality=10&format="+format).Data, variant(t, drawn(t, "festival-crowd.jpg"), "width=300&quality=92&format="+format).Data
		again := variant(t, coarse, "quality=90&format=jpeg")
		if again.How.Quality > 75 || again.How.Quality < 10 {
			t.Errorf("a coarse %s at its own size: %+v", format, again.How)
		}
		if r := variant(t, coarse, "width=100&quality=90&format=jpeg"); r.How.Quality != 90 {
			t.Errorf("a coarse %s much reduced: %+v", format, r.How)
		}
		if r := variant(t, fine, "quality=72&format=jpeg"); r.How.Quality != 72 {
			t.Errorf("a fine %s at its own size: %+v", format, r.How)
		}
	}
}

// Coloured lines of one pixel on a plain ground: with halved colour they would run together.
func TestSharpColourStaysSharp(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 160, 120))
	for y := range 120 {
		for x := range 160 {
			c := color.NRGBA{250, 250, 245, 255}
			if x%16 == 5 {
				c = color.NRGBA{230, 20, 60, 255}
			} else if x%16 == 6 {
				c = color.NRGBA{20, 80, 230, 255}
			}
			m.SetNRGBA(x, y, c)
		}
	}
	for _, format := range []string{"jpeg", "avif"} {
		r := variant(t, asPNG(t, m), "quality=85&format="+format)
		p := shown(t, r.Data)
		red, blue := p.Row(60)[4*69:][:3], p.Row(60)[4*70:][:3]
		if r.How.Kind != "graphic" || red[0] < 190 || red[2] > 110 || blue[2] < 190 || blue[0] > 70 {
			t.Errorf("%s: the red line is %v, the blue one %v (%+v)", format, red, blue, r.How)
		}
	}
}

// A photograph before a plain ground is as flat as a drawing, but has no edges between colours.
func TestColourIsHalvedWhereItDoesntShow(t *testing.T) {
	m := image.NewNRGBA(image.Rect(0, 0, 240, 180))
	for y := range 180 {
		for x := range 240 {
			c := color.NRGBA{226, 230, 233, 255}
			if dx, dy := float64(x-120), float64(y-90); dx*dx+dy*dy < 3600 {
				round := math.Sqrt(1 - (dx*dx+dy*dy)/3601)
				c = color.NRGBA{uint8(226 - 60*round), uint8(230 - 140*round), uint8(233 - 120*round), 255}
				c.G += uint8((x*37 ^ y*91) % 12)
			}
			m.SetNRGBA(x, y, c)
		}
	}
	for _, format := range []string{"jpeg", "avif"} {
		r := variant(t, asPNG(t, m), "quality=72&format="+format)
		if r.How.Kind != "graphic" || r.How.Way != "searched" {
			t.Errorf("%s: %+v", format, r.How)
		}
		p, err := decodeAny(r.Data)
		if err != nil || p.YCbCr == nil || p.YCbCr.ChromaX != 0.5 || p.YCbCr.ChromaY != 0.5 {
			t.Errorf("%s: colour isn't halved: %v", format, err)
		}
	}
}

func decodeAny(data []byte) (codec.Picture, error) {
	if formats.Sniff(data) == avif.Type {
		p, err := avif.DecodePlanes(data)
		return codec.Picture{YCbCr: p}, err
	}
	return jpeg.Decode(data, codec.Want{Scale: 8, Planes: true})
}

// WebP takes fewer bytes than libwebp by itself does at the same likeness.
func TestKeptWebPIsOurOwn(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	source := variant(t, drawn(t, "festival-crowd.jpg"), "width=400&format=png&quality=lossless").Data
	planes := shown(t, source).To420()
	original, limited := likeness.OfPlanes(planes), planes.ToLimited()
	far := func(data []byte) float64 {
		p, err := webp.DecodePlanes(data)
		if err != nil {
			t.Fatal(err)
		}
		return original.Distance(likeness.OfShown(p))
	}
	kept := variant(t, source, "format=webp&quality=72")
	if !strings.HasSuffix(kept.How.Setting, ", rate-distortion") {
		t.Errorf("%+v", kept.How)
	}
	reached := far(kept.Data)
	for fineness := 70.0; fineness <= 100; fineness += 0.5 {
		data, err := webp.EncodePlanes(limited, webp.Quality(fineness))
		if err != nil {
			t.Fatal(err)
		}
		if far(data) <= reached {
			if float64(len(kept.Data)) > 0.93*float64(len(data)) {
				t.Errorf("%d bytes, libwebp takes %d", len(kept.Data), len(data))
			}
			break
		}
	}
	at := job(t, "width=400&format=webp&quality=72")
	at.Predict = true
	first, err := Variant(source, at)
	if err != nil || !strings.HasSuffix(first.How.Setting, ", rate-distortion") || first.How.Way != "predicted" || !first.How.Provisional || kept.How.Provisional {
		t.Errorf("a first answer: %+v, %v", first.How, err)
	}
	// What was brought within a budget from a prediction is for now too.
	at.Request.Budget = 2500
	squeezed, err := Variant(source, at)
	if err != nil || squeezed.How.Way != "budget" || !squeezed.How.Provisional || len(squeezed.Data) > 2500 {
		t.Errorf("a first answer within a budget: %+v, %v", squeezed.How, err)
	}
	at.Predict = false
	if searched, err := Variant(source, at); err != nil || searched.How.Provisional || !strings.HasSuffix(searched.How.Setting, ", rate-distortion") || len(searched.Data) > 2500 {
		t.Errorf("what is kept within a budget: %+v, %v", searched.How, err)
	}
}

// An animation's frames are libwebp's own, and said to be.
func TestAnimationsAreLibwebps(t *testing.T) {
	r := variant(t, clip(t), "width=60&format=webp&quality=60")
	if r.How.Way != "searched" || strings.Contains(r.How.Setting, "rate-distortion") {
		t.Errorf("%+v", r.How)
	}
}

// What takes little time to encode is given more of it, and what is first answered isn't.
func TestLightPicturesGetMoreEffort(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	for _, c := range []struct{ name, ask, want string }{
		{"rokkaku-studio.jpg", "width=640&format=avif&quality=60", "speed 5"},
		{"dragon-tail.jpg", "width=480&format=avif&quality=60", "speed 6"},
		{"rokkaku-studio.jpg", "width=900&format=avif&quality=60", "speed 7"}, // too large
	} {
		source := drawn(t, c.name)
		if r := variant(t, source, c.ask); !strings.HasSuffix(r.How.Setting, c.want) || r.How.Way != "searched" {
			t.Errorf("%s, %s: %+v, want %s", c.name, c.ask, r.How, c.want)
		}
		j := job(t, c.ask)
		j.Predict = true
		if r, err := Variant(source, j); err != nil || !strings.HasSuffix(r.How.Setting, "speed 9") {
			t.Errorf("%s, %s at first: %+v, %v", c.name, c.ask, r.How, err)
		}
	}
}

// Large pictures are searched on parts of them, whether they come in planes or in pixels; not what is transparent.
func TestLargePicturesAreSearchedOnParts(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	large := image.NewNRGBA(image.Rect(0, 0, 1280, 900))
	for y := range 900 { // a drawing in greys
		for x := range 1280 {
			v := uint8(235)
			if (x-640)*(x-640)+(y-450)*(y-450) < 300*300 || x/90%4 == 1 && y%200 < 30 {
				v = uint8(60 + y/8%4*30)
			}
			large.SetNRGBA(x, y, color.NRGBA{v, v, v, 255})
		}
	}
	grey := asPNG(t, large)
	large.SetNRGBA(5, 5, color.NRGBA{})
	for _, c := range []struct {
		name, kind string
		source     []byte
		sampled    bool
	}{{"a drawing", "graphic", grey, true}, {"with a hole", "graphic", asPNG(t, large), false}, {"planes", "photograph", drawn(t, "festival-dawn.jpg"), true}} {
		for _, format := range []string{"webp", "avif"} {
			r := variant(t, c.source, "width=1280&format="+format+"&quality=50")
			if r.How.Kind != c.kind || r.How.Way == "searched" && r.How.Sampled != c.sampled || len(r.How.Trials) == 0 && r.How.Way != "lossless" {
				t.Errorf("%s as %s: %+v", c.name, format, r.How)
			}
		}
	}
	// First answers of large ones are looked at in strips, and the whole comes near all the same, also within a budget.
	source := drawn(t, "festival-dawn.jpg")
	exact := likeness.OfPixels(shown(t, variant(t, source, "width=1280&format=png&quality=lossless").Data))
	for _, ask := range []string{"format=webp&quality=50", "format=avif&quality=72", "format=webp&quality=80&budget=50kB"} {
		j := job(t, "width=1280&"+ask)
		j.Predict = true
		r, err := Variant(source, j)
		if err != nil {
			t.Fatal(err)
		}
		kept := variant(t, source, "width=1280&"+ask)
		far := likeness.Likeness(exact.Distance(likeness.OfPixels(shown(t, r.Data))))
		near := likeness.Likeness(exact.Distance(likeness.OfPixels(shown(t, kept.Data))))
		if !r.How.Sampled || len(r.How.Trials) == 0 || math.Abs(far-near) > 6 || strings.Contains(ask, "budget") && len(r.Data) > 50_000 {
			t.Errorf("%s: likeness %.1f at first with %d bytes, %.1f kept, %+v", ask, far, len(r.Data), near, r.How)
		}
	}
	// One picture in one format after the other, which has left planes beside the pixels.
	s, err := SweepOf(grey, job(t, "width=1280"), []declare.Format{declare.JPEG, declare.WebP, declare.AVIF}, []int{72}, nil)
	if err != nil || len(s.Steps) != 3 {
		t.Fatalf("%d steps, %v", len(s.Steps), err)
	}
	for _, step := range s.Steps {
		if step.Bytes == 0 || step.Likeness < float64(step.Quality)-20 {
			t.Errorf("%+v", step)
		}
	}
}

func TestAPaletteWhereNobodySeesIt(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	source := drawn(t, "pattern-sheet.png")
	exact := variant(t, source, "width=640&format=png&quality=lossless")
	small := variant(t, source, "width=640&format=png&quality=72")
	if small.How.Way != "palette" || float64(len(small.Data)) > 0.45*float64(len(exact.Data)) || small.How.Likeness < 90 {
		t.Errorf("%d bytes of %d: %+v", len(small.Data), len(exact.Data), small.How)
	}
	// A photograph of many colours stays as it is.
	photo := drawn(t, "festival-dawn.jpg")
	if r := variant(t, photo, "width=400&format=png&quality=95"); r.How.Way == "palette" && r.How.Likeness < 95 {
		t.Errorf("%+v", r.How)
	}
}

// kite is an animation of n frames in which a square moves over a plain ground.
func kite(n int, clear bool) []byte {
	palette := color.Palette{color.NRGBA{40, 90, 160, 255}, color.NRGBA{220, 40, 40, 255}, color.NRGBA{}}
	g := &stdgif.GIF{LoopCount: 2, Config: image.Config{Width: 60, Height: 40, ColorModel: palette}}
	for i := range n {
		m := image.NewPaletted(image.Rect(0, 0, 60, 40), palette)
		for y := range 40 {
			for x := range 60 {
				switch {
				case x >= 5*i && x < 5*i+10 && y >= 10 && y < 20:
					m.SetColorIndex(x, y, 1)
				case clear:
					m.SetColorIndex(x, y, 2)
				}
			}
		}
		g.Image = append(g.Image, m)
		g.Delay = append(g.Delay, 10+i)
		disposal := byte(stdgif.DisposalNone)
		if clear {
			disposal = stdgif.DisposalBackground
		}
		g.Disposal = append(g.Disposal, disposal)
	}
	var b bytes.Buffer
	if err := stdgif.EncodeAll(&b, g); err != nil {
		panic(err)
	}
	return b.Bytes()
}

func TestAnimationsKeepTheirFramesTimesAndLoops(t *testing.T) {
	for _, clear := range []bool{false, true} {
		source := kite(6, clear)
		for _, format := range []string{"webp", "gif"} {
			r := variant(t, source, "width=30&quality=72&format="+format)
			info, err := Probe(r.Data)
			if err != nil {
				t.Fatal(err)
			}
			if info.W != 30 || info.H != 20 || info.Frames != 6 || info.Plays != 3 {
				t.Errorf("%s, clear %v: %+v", format, clear, info)
			}
			read := map[string]func([]byte, func(*raster.RGBA, time.Duration) error) error{"webp": webp.Frames, "gif": gif.Frames}[format]
			i := 0
			err = read(r.Data, func(p *raster.RGBA, shown time.Duration) error {
				if want := time.Duration(100+10*i) * time.Millisecond; shown != want {
					t.Errorf("%s, clear %v: frame %d is shown %v, want %v", format, clear, i, shown, want)
				}
				at := p.Row(7)[4*int(2.5*float64(i)+2.5):]
				if at[0] < 190 || at[1] > 80 || at[3] < 240 {
					t.Errorf("%s, clear %v: the kite of frame %d is %v", format, clear, i, at[:4])
				}
				far := p.Row(17)[4*2:] // below it: the ground
				if clear && far[3] != 0 || !clear && (far[2] < 130 || far[3] < 240) {
					t.Errorf("%s, clear %v: the ground of frame %d is %v", format, clear, i, far[:4])
				}
				if i > 2 { // where it was two frames ago nothing of it is left
					if was := p.Row(7)[4*int(2.5*float64(i-3)+1):]; was[0] > 120 && was[3] > 100 {
						t.Errorf("%s, clear %v: frame %d still shows the kite of before: %v", format, clear, i, was[:4])
					}
				}
				i++
				return nil
			})
			if err != nil || i != 6 {
				t.Errorf("%s: %d frames, %v", format, i, err)
			}
		}
		if r := variant(t, source, "width=30&animation=none&format=webp"); mustProbe(t, r.Data).Frames != 1 {
			t.Error("animation=none gives an animation")
		}
		if r := variant(t, source, "width=30&format=jpeg"); mustProbe(t, r.Data).Frames != 1 || r.Format != declare.JPEG {
			t.Error("format=jpeg gives no still")
		}
	}
}

func mustProbe(t testing.TB, data []byte) (info struct{ Frames int }) {
	t.Helper()
	i, err := Probe(data)
	if err != nil {
		t.Fatal(err)
	}
	info.Frames = i.Frames
	return info
}

func TestAnimationsAreBoundedBeforeTheyAreDecoded(t *testing.T) {
	j := job(t, "width=30&format=webp")
	j.Limits.SourcePixels = 60 * 40 * 5
	_, err := Variant(kite(6, false), j)
	var no *policy.Refusal
	if !errors.As(err, &no) || no.Reason != "source-too-many-pixels" {
		t.Errorf("%v", err)
	}
}

func TestPhonesPicturesAreRead(t *testing.T) {
	m := scene(160, 120)
	source := fromPhone(t, asPNG(t, m))
	r := variant(t, source, "width=80&format=png")
	if r.Source != "image/heic" || r.Natural.W != 160 || r.Natural.H != 120 {
		t.Fatalf("%+v", r)
	}
	if db := psnr(t, shown(t, r.Data), shown(t, variant(t, asPNG(t, m), "width=80&format=png").Data)); db < 30 {
		t.Errorf("%.1f dB", db)
	}
}

// Files that are cut off, bent or lie are answered with a reason, in bounded time.
func TestBrokenFilesOfEveryFormat(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	m := scene(64, 48)
	var b bytes.Buffer
	if err := stdjpeg.Encode(&b, m, nil); err != nil {
		t.Fatal(err)
	}
	whole := map[string][]byte{"jpeg": b.Bytes(), "png": asPNG(t, m), "gif": kite(4, false), "heic": fromPhone(t, asPNG(t, m))}
	for _, f := range []string{"webp", "avif"} {
		whole[f] = variant(t, asPNG(t, m), "quality=80&format="+f).Data
	}
	whole["moving webp"] = variant(t, kite(4, true), "format=webp").Data
	r := rand.New(rand.NewPCG(11, 5))
	try := func(name string, data []byte) error {
		begin := time.Now()
		_, err := Paint(data, job(t, "width=20"))
		var no *policy.Refusal
		if err != nil && (!errors.As(err, &no) || no.Detail == "" || no.Remedy == "") {
			t.Errorf("%s: %v", name, err)
		}
		if took := time.Since(begin); took > 20*time.Second {
			t.Errorf("%s took %v", name, took)
		}
		return err
	}
	for name, data := range whole {
		if err := try(name, data); err != nil {
			t.Errorf("%s, whole: %v", name, err)
		}
		for i := range 32 {
			err := try(fmt.Sprintf("%s cut at %d/32", name, i), data[:len(data)*i/32])
			if i < 16 && err == nil && name != "gif" && name != "moving webp" && name != "jpeg" {
				t.Errorf("%s, cut at %d/32, gives a picture", name, i)
			}
		}
		for range 150 {
			bent := bytes.Clone(data)
			for range 1 + r.IntN(4) {
				bent[r.IntN(len(bent))] ^= 1 << r.IntN(8)
			}
			try(name+", bent", bent)
		}
	}
}

// What C libraries take for pictures that break on the way they give back.
func TestBrokenFilesLeakNothing(t *testing.T) {
	m := scene(64, 48)
	whole := map[string][]byte{"png": asPNG(t, m), "heic": fromPhone(t, asPNG(t, m)), "moving webp": variant(t, kite(4, true), "format=webp").Data}
	for _, f := range []string{"jpeg", "webp", "avif"} {
		whole[f] = variant(t, asPNG(t, m), "quality=80&format="+f).Data
	}
	for _, data := range whole {
		r := rand.New(rand.NewPCG(6, 6))
		cmemory.Grown(t, 200_000, func() {
			for i := range 60 {
				bent := bytes.Clone(data[:len(data)-i*len(data)/90])
				bent[r.IntN(len(bent))] ^= 1 << r.IntN(8)
				Variant(bent, job(t, "width=20&format=webp"))
				Variant(bent, job(t, "width=20&format=avif"))
			}
		})
	}
}
