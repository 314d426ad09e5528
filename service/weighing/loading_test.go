package weighing

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/jpeg"
	"maps"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"echolane/core/weighin"
)

func TestFramesAreTheLastOnesBeforeTheirMarks(t *testing.T) {
	const origin = 1000.0
	frames := []seenFrame{{999, []byte("before")}, {1000.2, []byte("blank")}, {1000.7, []byte("a")}, {1001.9, []byte("b")}, {1003.9, []byte("c")}, {1004.2, []byte("late")}}
	for i, want := range []string{"", "a", "b", "c"} {
		if got := framesAt(frames, origin, 0.6)[i]; string(got.Data) != want || got.AtMS != weighin.Marks[i] {
			t.Errorf("at %d ms it is %q, want %q", got.AtMS, got.Data, want)
		}
	}
}

func TestASharedLineSendsOneThingAfterTheOther(t *testing.T) {
	now := time.Unix(1000, 0)
	s := &sharedLine{line: &line{latency: 100 * time.Millisecond, down: 1000}}
	for i, want := range []time.Duration{1100 * time.Millisecond, 2100 * time.Millisecond} {
		if got := s.wait(1000, now); got != want {
			t.Errorf("thing %d comes after %v, want %v", i, got, want)
		}
	}
	if got := s.wait(0, now.Add(time.Minute)); got != 100*time.Millisecond {
		t.Errorf("over an idle line it comes after %v", got)
	}
}

// A page in a file is throttled as one that is served: its pictures take the time that their bytes need.
func TestLoadsAreThrottled(t *testing.T) {
	t.Parallel() // it waits more than it works
	if Chromium() == "" {
		t.Skip("there is no Chromium here")
	}
	noise := image.NewGray(image.Rect(0, 0, 700, 600))
	for i := range noise.Pix {
		noise.Pix[i] = byte(rand.N(256))
	}
	var picture bytes.Buffer
	if err := jpeg.Encode(&picture, noise, &jpeg.Options{Quality: 70}); err != nil {
		t.Fatal(err)
	}
	html := `<!doctype html><title>A kite</title><p>Text<p><img src="kite.jpg" alt="">`
	w := fixer(t)
	for _, at := range []string{"http://page.test/", "https://page.test/"} {
		a := askFor(t, html, Screen{"phone", 390, 844, 1})
		a.Page, a.Loads, a.Fix = at, 1, false
		a.Files = []File{{URL: at + "kite.jpg", Type: "image/jpeg", Data: picture.Bytes()}}
		out, err := w.Weigh(context.Background(), a, func(int, int, string) {})
		if err != nil {
			t.Fatal(err)
		}
		if len(out.Report.Loads) != 2 || out.Report.Loads[0].Line != "Slow 4G" || out.Report.Loads[1].Line != "cable" {
			t.Fatalf("%s: loaded over %+v", at, out.Report.Loads)
		}
		for i, l := range out.Report.Loads {
			line := throttled[i]
			least := (2*line.latency.Seconds() + float64(picture.Len())/line.down) * 1000
			if l.Unfinished > 0 || l.LastImage.Median < 0.9*least || l.ImageBytes < int64(picture.Len()) {
				t.Errorf("%s over %s: the picture of %d bytes came after %.0f ms, want at least %.0f: %+v", at, l.Line, picture.Len(), l.LastImage.Median, least, l)
			}
			if l.Content.Median <= 0 || l.Content.Median > l.LastImage.Median+3000 {
				t.Errorf("%s over %s: the largest paint came after %.0f ms", at, l.Line, l.Content.Median)
			}
		}
		slow := out.Report.Loads[0]
		if slow.Frames[0].Shot != 0 {
			t.Errorf("%s: something was painted before anything can have come", at)
		}
		last := slow.Frames[len(slow.Frames)-1].Shot
		if last == 0 || last > len(out.Shots) {
			t.Fatalf("%s: nothing was seen after four seconds: %+v", at, slow.Frames)
		}
		for n, data := range out.Shots {
			if c, err := jpeg.DecodeConfig(bytes.NewReader(data)); err != nil || c.Width > shotWide {
				t.Errorf("%s: screenshot %d is %d × %d: %v", at, n+1, c.Width, c.Height, err)
			}
		}
		if v := out.Report.Views[0]; v.Shot != 1 || v.ShotHeight < v.Height {
			t.Errorf("%s: the page's screenshot is %d of %d CSS pixels", at, v.Shot, v.ShotHeight)
		}
	}
}

// A page weighs the same in a Chromium that has windows as in one that has none, loaded without scrolling too.
func TestEveryChromiumWeighsAlike(t *testing.T) {
	t.Parallel() // it waits more than it works
	var picture bytes.Buffer
	if err := jpeg.Encode(&picture, image.NewGray(image.Rect(0, 0, 600, 400)), nil); err != nil {
		t.Fatal(err)
	}
	html := `<!doctype html><meta name=viewport content="width=device-width"><title>Kites</title><style>body{margin:0;height:6500px}.wide{width:100%;height:auto}.lazy{position:absolute}</style>
<img class=wide alt="" src="wide.jpg"><picture><source media="(min-width: 700px)" srcset="large.jpg"><img alt="" width=200 src="small.jpg"></picture>
<div style="width:50%;height:200px;background:url(ground.jpg)"></div>`
	names := []string{"wide.jpg", "large.jpg", "small.jpg", "ground.jpg"}
	for y := 1000; y <= 6000; y += 500 {
		names = append(names, fmt.Sprintf("at%d.jpg", y))
		html += fmt.Sprintf(`<img class=lazy style="top:%dpx" loading=lazy alt="" width=300 src="at%d.jpg">`, y, y)
	}
	var said [2]string
	for i, program := range []string{"/usr/lib/chromium/chromium-headless-shell", "/usr/bin/chromium"} {
		if _, err := os.Stat(program); err != nil {
			t.Skip(err)
		}
		w := fixer(t)
		w.Browsers.Program = program
		a := askFor(t, html, Screen{"phone", 390, 844, 2}, Screen{"desktop", 1440, 900, 1})
		a.Fix, a.Loads, a.Files = false, 1, nil
		for _, name := range names {
			a.Files = append(a.Files, File{URL: "http://page.test/" + name, Type: "image/jpeg", Data: picture.Bytes()})
		}
		out, err := w.Weigh(t.Context(), a, func(int, int, string) {})
		if err != nil {
			t.Fatal(err)
		}
		var lines []string
		for _, v := range out.Report.Views {
			lines = append(lines, fmt.Sprintf("%s: page %d", v.Name, v.PageHeight)) // not its bytes: one with windows asks for an icon, too
			for _, p := range v.Pictures {
				lines = append(lines, fmt.Sprintf("%s: %s %s: %d bytes, %d × %d at %g, %g on %g × %g; above %v, lazy %v", v.Name, p.Kind, p.URL, p.Bytes, p.NaturalW, p.NaturalH, p.X, p.Y, p.W, p.H, p.Above, p.Lazy))
			}
		}
		for _, l := range out.Report.Loads {
			lines = append(lines, fmt.Sprintf("%s: %d pictures", l.Line, l.ImageBytes/int64(picture.Len())))
		}
		slices.Sort(lines)
		said[i] = strings.Join(lines, "\n")
	}
	if said[0] != said[1] || !strings.Contains(said[0], "at6000.jpg") {
		t.Errorf("%s\n\n%s", said[0], said[1])
	}
	t.Log(said[0])
}

// A page whose script never ends is weighed all the same: the script is ended.
func TestAPageWhoseScriptNeverEnds(t *testing.T) {
	if Chromium() == "" {
		t.Skip("there is no Chromium here")
	}
	w := fixer(t)
	w.Browsers.Busy, w.Browsers.Quiet = 3*time.Second, 500*time.Millisecond
	for name, script := range map[string]string{
		"while it is read": `for (;;);`,
		"afterwards":       `addEventListener("load", () => setTimeout(() => { for (;;); }, 200))`,
		"as a question":    `alert("Kites")`,
		"again and again":  `setInterval(() => { for (const end = Date.now() + 1e9; Date.now() < end;); }, 10)`,
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			a := askFor(t, `<!doctype html><title>A kite</title><p>Text<p><img src="pictures/`+anyPicture()+`" alt="" width=300 height=200><script>`+script+`</script>`, Screen{"phone", 390, 844, 1})
			if a.Loads, a.Fix = 0, false; name == "afterwards" {
				a.Loads = 1
			}
			began := time.Now()
			out, err := w.Weigh(context.Background(), a, func(int, int, string) {})
			if err != nil {
				t.Fatal(err)
			}
			if v := out.Report.Views[0]; len(v.Pictures) != 1 || v.Pictures[0].Bytes == 0 {
				t.Errorf("the pictures of the page are %+v", v.Pictures)
			}
			if notes := strings.Join(out.Report.Notes, "\n"); name != "as a question" && !strings.Contains(notes, "a script of the page") {
				t.Errorf("nothing is said of the script: %s", notes)
			}
			if took := time.Since(began); took > 90*time.Second {
				t.Errorf("it took %v", took)
			}
		})
	}
}

// What we ask of a page may take longer than a script of its own may, with many pictures or on a busy machine: it isn't taken for one that
// never ends.
func TestAPageThatAnswersSlowly(t *testing.T) {
	if Chromium() == "" {
		t.Skip("there is no Chromium here")
	}
	w := fixer(t)
	w.Browsers.Busy, w.Browsers.Quiet = 400*time.Millisecond, 120*time.Millisecond
	a := askFor(t, `<!doctype html><title>A kite</title><script>
		const own = Element.prototype.getBoundingClientRect;
		Element.prototype.getBoundingClientRect = function () { for (const end = performance.now() + 6; performance.now() < end;); return own.call(this); };
	</script><body>`+strings.Repeat(`<img src="pictures/`+anyPicture()+`" alt="" width=30 height=20>`, 300), Screen{"phone", 390, 844, 1})
	a.Loads, a.Fix = 0, false
	out, err := w.Weigh(context.Background(), a, func(int, int, string) {})
	if err != nil {
		t.Fatal(err)
	}
	if v := out.Report.Views[0]; len(v.Pictures) != 300 {
		t.Errorf("%d pictures", len(v.Pictures))
	}
	if notes := strings.Join(out.Report.Notes, "\n"); strings.Contains(notes, "a script of the page") {
		t.Errorf("what was ours is said to be the page's: %s", notes)
	}
}

func anyPicture() string {
	return slices.Min(slices.Collect(maps.Keys(shopPictures())))
}
