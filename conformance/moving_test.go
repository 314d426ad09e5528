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
	"echolane/service/workshop"
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
	job := render.Job{Request: r, Limits: policy.DefaultLimits, Pictures: map[string][]byte{}}
	for _, s := range sources {
		job.Pictures["lane/"+s.Name] = s.Data
	}
	if err := workshop.ReadFonts(&job); err != nil {
		t.Fatal(err)
	}
	made, err := render.Variant(source, job)
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

// momentary is how near a frame comes to what the browser paints at that time, as PSNR.
func momentary(t *testing.T, name string, at float64, ours, theirs *image.RGBA, err error) float64 {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
	if ours.Rect != theirs.Rect {
		t.Fatalf("%s at %gs: %v, the browser %v", name, at, ours.Rect, theirs.Rect)
	}
	return Compare(ours, theirs, 2).PSNR
}

// A still that moves is at each moment what the browser paints of the <img> then.
func TestMovingStillsAreAsTheBrowserMovesThem(t *testing.T) {
	for _, c := range []struct {
		name, source, style, keyframes, animation string
		perSecond                                 float64
		frames                                    int
		least                                     float64 // PSNR; 0: 32
	}{
		{"a drift across", "photo.png", "width:200px;height:150px;object-fit:cover",
			"from { object-view-box: inset(0 20% 0 0) } to { object-view-box: inset(0 0 0 20%) }", "m 4s ease-in-out infinite alternate", 2, 16, 0},
		{"towards a place", "crowd.png", "width:210px;height:140px;object-fit:cover",
			"from { object-view-box: inset(0) } to { object-view-box: inset(10% 35% 30% 5%) }", "m 4s linear 1 forwards", 2, 9, 0},
		{"a pan by position", "panorama.jpg", "width:150px;height:110px;object-fit:cover;object-position:0% 50%",
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
			near := momentary(t, c.name, from[i], ours, theirs, err)
			worst = min(worst, near)
			least := c.least
			if least == 0 {
				least = 32
			}
			if near < least {
				t.Errorf("%s at %gs: PSNR %.1f", c.name, from[i], near)
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

// Layers that move are at each moment what the browser paints of boxes over the <img> then.
func TestMovingLayersAreAsTheBrowserMovesThem(t *testing.T) {
	photo := find(sources, "panorama.jpg")
	const mark = "content: url(lane/alpha.png);"
	for _, c := range []struct {
		name, keyframes string
		slot            string
		layers          []Box
		perSecond       float64
		frames          int
	}{
		{"a title rises", "@keyframes rise { from { opacity: 0; inset: auto 20px -60px 20px } to { inset: auto 20px 30px 20px } }", "",
			[]Box{{"inset: auto 20px 30px 20px; font: bold 20px/1.2 'Noto Sans'; color: white; animation: rise 1s ease-out both", "Kites by hand"}}, 6, 7},
		{"a mark turns", "@keyframes turn { from { rotate: 0deg } to { rotate: 360deg } }", "",
			[]Box{{mark + "left: 60px; top: 30px; width: 90px; animation: turn 2s linear infinite", ""}}, 4, 8},
		{"from where it is", "@keyframes away { to { left: 100%; opacity: .2 } }", "",
			[]Box{{"left: 10%; top: 20%; width: 100px; height: 60px; background-color: gold; rotate: -8deg; animation: away 2s ease-in-out infinite alternate", ""}}, 3, 12},
		{"auto isn't mixed", "@keyframes jump { from { top: 10px; bottom: auto } to { top: auto; bottom: 10px } }", "",
			[]Box{{"left: 40px; top: 10px; width: 90px; height: 40px; background-color: teal; animation: jump 1s linear infinite", ""}}, 8, 2},
		{"two of their own lengths, and one that stays", "@keyframes a { to { left: 120px } } @keyframes b { 50% { opacity: .1 } }", "",
			[]Box{{"left: 0; top: 10px; width: 60px; height: 60px; background-color: crimson; animation: a 1s linear infinite", ""},
				{"left: 30px; top: 75px; width: 120px; height: 30px; background-color: white", ""},
				{"left: 50px; top: 50px; width: 70px; height: 70px; background-color: navy; animation: b 1.5s ease infinite", ""}}, 4, 12},
		{"with the picture", "@keyframes p { to { filter: grayscale(1) } } @keyframes l { from { opacity: 0 } to { opacity: 1 } }", "animation: p 1.75s linear both",
			[]Box{{"inset: 60% 0 0 0; background: linear-gradient(transparent, black); animation: l 1s steps(4, jump-none) 0.5s both", ""}}, 4, 8},
	} {
		card := Layered{W: 200, H: 150, Slot: c.slot, Layers: c.layers}
		frames, from := moved(t, photo.Data, c.keyframes+"\n"+card.sheet()+".card { quality: lossless }", "class=card", c.perSecond)
		if c.frames != 0 && len(frames) != c.frames {
			t.Errorf("%s: %d frames, want %d", c.name, len(frames), c.frames)
		}
		const least = 40
		worst, differs := 99.0, false
		for i, ours := range frames {
			keep(t, c.name+"-"+string(rune('a'+i)), ours)
			if len(frames) > 6 && i%2 == 1 && i != len(frames)-1 {
				continue
			}
			theirs, err := judge.Staged(card.markup(photo)+"<style>"+c.keyframes+"</style>", from[i])
			near := momentary(t, c.name, from[i], ours, theirs, err)
			worst = min(worst, near)
			if near < least {
				keep(t, c.name+"-"+string(rune('a'+i))+"-browser", theirs)
				t.Errorf("%s at %gs: PSNR %.1f", c.name, from[i], near)
			}
			differs = differs || i > 0 && Compare(frames[0], theirs, 2).PSNR < least
		}
		if !differs {
			t.Errorf("%s: nothing moves", c.name)
		}
		t.Logf("%s: %d frames, the worst PSNR %.1f", c.name, len(frames), worst)
	}
}
