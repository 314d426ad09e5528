package conformance

import (
	"image"
	"testing"
	"time"

	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/raster"
	"echolane/core/render"
)

// moved are the frames of a still that a sheet moves, eight of a run, and when each begins to be seen.
func moved(t *testing.T, source []byte, sheet, query string, perSecond float64) (frames []*image.RGBA, from []float64) {
	t.Helper()
	doc := policy.NewDocument("kites")
	doc.Sheet, doc.Formats, doc.Limits.AnimationFPS = sheet, []string{"webp"}, perSecond
	site, _, err := policy.Compile(doc, nil)
	if err != nil {
		t.Fatal(err)
	}
	d, err := declare.Parse(query)
	if err != nil {
		t.Fatal(err)
	}
	r, no := site.Decide(&policy.Ask{Lane: &policy.CompiledLane{}, Declared: d, Accepted: policy.AcceptsAll}, nil)
	if no != nil {
		t.Fatal(no)
	}
	made, err := render.Variant(source, render.Job{Request: r, Limits: policy.DefaultLimits})
	if err != nil {
		t.Fatal(err)
	}
	at := 0.0
	err = formats.Of("image/webp").Frames(made.Data, func(p *raster.RGBA, shown time.Duration) error {
		p.Premultiply()
		frames, from = append(frames, &image.RGBA{Pix: p.Pix, Stride: p.Stride, Rect: image.Rect(0, 0, p.W, p.H)}), append(from, at)
		at += shown.Seconds()
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return frames, from
}

// A still that moves is at each moment what the browser paints of the <img> then.
func TestMovingStillsAreAsTheBrowserMovesThem(t *testing.T) {
	for _, c := range []struct {
		name, source, style, keyframes, animation string
		perSecond                                 float64
		frames                                    int
		least                                     float64 // PSNR; 0: 32
	}{
		{"a drift across", "photo.png", "width:400px;height:300px;object-fit:cover",
			"from { object-view-box: inset(0 20% 0 0) } to { object-view-box: inset(0 0 0 20%) }", "m 4s ease-in-out infinite alternate", 2, 16, 0},
		{"towards a place", "crowd.png", "width:420px;height:280px;object-fit:cover",
			"from { object-view-box: inset(0) } to { object-view-box: inset(10% 35% 30% 5%) }", "m 4s linear 1 forwards", 2, 9, 0},
		{"a pan by position", "panorama.jpg", "width:300px;height:220px;object-fit:cover;object-position:0% 50%",
			"0%, 25% { object-position: 0% 50% } 100% { object-position: 100% 50% }", "m 2s cubic-bezier(.2,.8,.4,1) infinite", 4, 6, 0},
		{"filters and opacity", "square.png", "width:200px;height:200px",
			"from { filter: none; opacity: .2 } 50% { filter: sepia(1) saturate(2); animation-timing-function: ease-in } to { filter: hue-rotate(90deg); opacity: 1 }", "m 2s linear infinite", 4, 8, 30},
		{"steps, backwards, with a delay", "tall.png", "width:160px;height:240px;object-fit:cover",
			"from { object-view-box: inset(0) } to { object-view-box: inset(40% 10% 10% 10%) }", "m 2s steps(4, jump-start) -0.5s infinite reverse", 4, 5, 0},
		{"once, and then as it was", "alpha.png", "width:180px;height:180px;object-fit:contain;object-position:50% 50%",
			"from { opacity: 0; object-view-box: inset(0) } to { opacity: 1; object-view-box: inset(20%) }", "m 1s ease-out 0.5s 2 alternate backwards", 4, 0, 28},
	} {
		source := find(sources, c.source)
		sheet := "@keyframes m { " + c.keyframes + " } .moving { " + c.style + ";animation:" + c.animation + "; quality: lossless }"
		frames, from := moved(t, source.Data, sheet, "class=moving", c.perSecond)
		if c.frames != 0 && len(frames) != c.frames {
			t.Errorf("%s: %d frames, want %d", c.name, len(frames), c.frames)
		}
		worst, differs := 99.0, false
		for i, ours := range frames {
			if len(frames) > 8 && i%2 == 1 && i != len(frames)-1 {
				continue
			}
			theirs, err := judge.Posed(source.Name, c.style, "@keyframes m { "+c.keyframes+" }", c.animation, from[i])
			if err != nil {
				t.Fatal(err)
			}
			if ours.Rect != theirs.Rect {
				t.Fatalf("%s at %gs: %v, the browser %v", c.name, from[i], ours.Rect, theirs.Rect)
			}
			f := Compare(ours, theirs, 2)
			worst = min(worst, f.PSNR)
			least := c.least
			if least == 0 {
				least = 32
			}
			if f.PSNR < least {
				t.Errorf("%s at %gs: PSNR %.1f", c.name, from[i], f.PSNR)
			}
			if i > 0 { // a test of the test: another moment isn't this one
				differs = differs || Compare(frames[0], theirs, 2).PSNR < least
			}
		}
		if !differs {
			t.Errorf("%s: nothing moves", c.name)
		}
		t.Logf("%s: %d frames, the worst PSNR %.1f", c.name, len(frames), worst)
	}
}
