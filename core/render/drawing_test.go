package render

import (
	"bytes"
	"fmt"
	"image"
	_ "image/png"
	"testing"

	"echolane/core/codec"
	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/demo/pictures"
)

// halves is 40 × 30 CSS pixels, red in its left half, blue in its right.
const halves = `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 40 30"><rect width="20" height="30" fill="red"/><rect x="20" width="20" height="30" fill="blue"/></svg>`

func png32(t *testing.T, source, query string) *raster.RGBA {
	t.Helper()
	r, err := Variant([]byte(source), job(t, query+"&format=png&quality=lossless"))
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	p, err := png.Decode(r.Data)
	if err != nil {
		t.Fatal(err)
	}
	return p.RGBA
}

// A drawing is drawn at the size at which it lands, so that an edge on a whole pixel is sharp at any size.
func TestDrawingsAreSharpAtAnySize(t *testing.T) {
	red, blue := "ff0000ff", "0000ffff"
	at := func(p *raster.RGBA, x, y int) string { return fmt.Sprintf("%x", p.Row(y)[4*x:4*x+4]) }
	for query, want := range map[string]struct {
		w, h        int
		edge        int // the first blue column; with turned, row
		left, right string
	}{
		"":                                      {40, 30, 20, red, blue},
		"width=1000":                            {1000, 750, 500, red, blue}, // without grow
		"width=10":                              {10, 8, 5, red, blue},
		"width=200&height=200&object-fit=cover": {200, 200, 100, red, blue},
		"width=200&height=100&object-fit=fill":  {200, 100, 100, red, blue},
		"width=100&xywh=10,0,20,30":             {100, 150, 50, red, blue},
		"width=100&xywh=percent:50,0,50,100":    {100, 150, 0, blue, blue},
		"width=100&scale=-1 1":                  {100, 75, 50, blue, red},
		"width=30&resolution=2x":                {60, 45, 30, red, blue},
	} {
		p := png32(t, halves, query)
		if p.W != want.w || p.H != want.h {
			t.Errorf("%s: %d × %d, want %d × %d", query, p.W, p.H, want.w, want.h)
			continue
		}
		for _, x := range []int{0, want.edge - 1, want.edge, p.W - 1} {
			colour := want.left
			if x >= want.edge {
				colour = want.right
			}
			if x >= 0 && at(p, x, p.H/2) != colour {
				t.Errorf("%s: column %d is %s, want %s", query, x, at(p, x, p.H/2), colour)
			}
		}
	}
	if p := png32(t, halves, "width=60&rotate=90deg"); p.W != 60 || p.H != 80 || at(p, 30, 39) != red || at(p, 30, 40) != blue {
		t.Errorf("turned: %d × %d, %s %s", p.W, p.H, at(p, 30, 39), at(p, 30, 40))
	}
	if p := png32(t, halves, "width=90&rotate=45deg"); at(p, 5, p.H/2) != "00000000" && p.Opaque {
		t.Errorf("turned by 45°: %s", at(p, 5, p.H/2))
	}
}

func TestADrawingAsALayerAndAsAGround(t *testing.T) {
	photo, err := pictures.Load("delta-red.jpg")
	if err != nil {
		t.Fatal(err)
	}
	d, err := declare.Parse("width=200&height=150&object-fit=cover&after-content=url(lane/kite.svg)&after-width=100px&after-inset=0 auto auto 0")
	if err != nil {
		t.Fatal(err)
	}
	p, err := Paint(photo, Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Pictures: map[string][]byte{"lane/kite.svg": []byte(halves)}})
	if err != nil {
		t.Fatal(err)
	}
	if got := fmt.Sprintf("%x %x", p.Row(40)[4*49:4*50], p.Row(40)[4*50:4*51]); got != "ff0000ff 0000ffff" {
		t.Errorf("beside the layer's middle: %s", got)
	}
}

// Many variants of one drawing are each drawn at their own size.
func TestManyVariantsOfADrawing(t *testing.T) {
	var jobs []Job
	queries := []string{"width=80", "width=120", "width=80&format=webp", "width=80&xywh=0,0,20,30"}
	for _, q := range queries {
		if !bytes.Contains([]byte(q), []byte("format")) {
			q += "&format=png"
		}
		jobs = append(jobs, job(t, q))
	}
	Variants([]byte(halves), jobs, func(i int, o Outcome) {
		if o.Err != nil {
			t.Errorf("%s: %v", queries[i], o.Err)
			return
		}
		alone, err := Variant([]byte(halves), jobs[i])
		if err != nil || !bytes.Equal(alone.Data, o.Result.Data) {
			t.Errorf("%s: other bytes than by itself (%v)", queries[i], err)
		}
		if c, _, err := image.DecodeConfig(bytes.NewReader(o.Result.Data)); err == nil && c.Width != o.Result.Canvas.W {
			t.Errorf("%s: %d wide", queries[i], c.Width)
		}
	})
}

func TestWhatADrawingIsThoughtToTake(t *testing.T) {
	h, err := Header([]byte(halves))
	if err != nil || h.Type != declare.Drawing || h.W != 40 || h.H != 30 {
		t.Fatalf("%+v, %v", h, err)
	}
	small, large := job(t, "width=40"), job(t, "width=4000")
	a, b := small.Estimate([]codec.Header{h}, 100), large.Estimate([]codec.Header{h}, 100)
	if b.Work < 100*a.Work || b.Memory < a.Memory+100<<20 {
		t.Errorf("%+v at 40 pixels, %+v at 4000", a, b)
	}
}
