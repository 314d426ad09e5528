package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/jpeg"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"echolane/internal/testbed"
	"echolane/service/source"
)

const friends = "/kestrel/catalogue/festival-friends.jpg"

func picture(t *testing.T, a testbed.Answer) image.Image {
	t.Helper()
	m, _, err := image.Decode(bytes.NewReader(a.Data))
	if a.StatusCode != 200 || err != nil {
		t.Fatalf("%d %v: %.300s", a.StatusCode, err, a.Data)
	}
	return m
}

func factsAbout(t *testing.T, s *testbed.Process, path string) (f source.Facts) {
	t.Helper()
	a := s.Get(t, path)
	if err := json.Unmarshal(a.Data, &f); a.StatusCode != 200 || err != nil {
		t.Fatalf("%d %v: %.300s", a.StatusCode, err, a.Data)
	}
	return f
}

// What is redacted goes out in no form: not from the cache of another request, not as the file that was asked for, not in a
// drawing that its lane lets through untouched.
func TestWhatIsRedactedDoesntGoOut(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	folder := t.TempDir()
	stripes := image.NewGray(image.Rect(0, 0, 120, 80))
	for i := range stripes.Pix {
		stripes.Pix[i] = 255 * uint8(i%120/5&1)
	}
	var file bytes.Buffer
	if err := jpeg.Encode(&file, stripes, &jpeg.Options{Quality: 60}); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(folder, "stripes.jpg"), file.Bytes(), 0o644)
	os.WriteFile(filepath.Join(folder, "plan.svg"), []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="80" height="60"><rect width="80" height="60" fill="gold"/><path d="M10 10h5v40h-5zM20 10h5v40h-5z"/></svg>`), 0o644)
	bed.Must(t, s, "lane", "add", "kestrel/secret", "--folder", folder)
	bed.Must(t, s, "lane", "set", "kestrel/secret", "--svg", "untouched")
	sharp := func(m image.Image, y int) (most uint32) {
		b := m.Bounds()
		for x := b.Min.X; x < b.Max.X-1; x++ {
			p, _, _, _ := m.At(x, y).RGBA()
			q, _, _, _ := m.At(x+1, y).RGBA()
			most = max(most, max(p, q)-min(p, q))
		}
		return most >> 8
	}
	open := picture(t, s.Get(t, "/kestrel/secret/stripes.jpg?format=jpeg"))
	if sharp(open, 40) < 150 {
		t.Fatal("the stripes don't show at all")
	}
	for _, query := range []string{"redact=0,0,120,80&format=jpeg", "redact=percent:0,0,100,100&format=jpeg&width=60", "redact=0,0,120,80&format=png&quality=lossless"} {
		a := s.Get(t, "/kestrel/secret/stripes.jpg?"+query)
		if m := picture(t, a); sharp(m, m.Bounds().Dy()/2) > 60 {
			t.Errorf("%s shows the stripes", query)
		}
		if bytes.Contains(a.Data, file.Bytes()[len(file.Bytes())/2:]) {
			t.Errorf("%s holds the source's own data", query)
		}
	}
	if a := s.Get(t, "/kestrel/secret/plan.svg"); a.Header.Get("Content-Type") != "image/svg+xml" {
		t.Fatalf("%v", a.Header)
	}
	a := s.Get(t, "/kestrel/secret/plan.svg?redact=0,0,80,60&format=png")
	if m := picture(t, a); a.Header.Get("Content-Type") != "image/png" || sharp(m, 30) > 60 {
		t.Errorf("a drawing shows what is redacted: %v", a.Header)
	}
	// Faces, wherever they are found; nothing is left that would be found again.
	var b bytes.Buffer
	m := picture(t, s.Get(t, friends+"?redact=faces&width=640&format=png"))
	if err := png.Encode(&b, m); err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(folder, "hidden.png"), b.Bytes(), 0o644)
	if f := factsAbout(t, s, "/kestrel/secret/hidden.png?as=facts"); len(f.Faces) > 0 {
		t.Errorf("faces are still found: %v", f.Faces)
	}
	// A site that paints by its sheet's classes alone takes neither from a URL.
	bed.Must(t, s, "site", "set", "kestrel", "--paint", "classes")
	if no := s.Get(t, friends+"?width=80&redact=faces").Problem(t); no.Reason != "only-by-class" || no.Parameter != "redact" {
		t.Errorf("%+v", no)
	}
}

func TestFactsTellOfFacesAndSubjects(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	f := factsAbout(t, s, friends+"?as=facts")
	if len(f.Faces) != 5 || f.Subject == nil || f.Subject.Sure <= 0 || f.Looks == nil || len(f.Looks.Colours) < 3 || f.Looks.Kind != "photograph" {
		t.Errorf("%+v %+v", f, f.Looks)
	}
	if f := factsAbout(t, s, "/kestrel/catalogue/wind-chart.png?as=facts"); len(f.Faces) != 0 || !f.Looks.Lettered || f.Looks.Kind != "graphic" {
		t.Errorf("%+v %+v", f, f.Looks)
	}
	// The trace of a cut-out says what took how long.
	if out := bed.Must(t, s, "explain", "kestrel/catalogue/rokkaku-studio.jpg?width=200&mask-image=subject"); !strings.Contains(out, "look") || !strings.Contains(out, "revise") {
		t.Errorf("%s", out)
	}
	m := picture(t, s.Get(t, "/kestrel/catalogue/rokkaku-studio.jpg?width=200&mask-image=subject&format=png"))
	if _, _, _, a := m.At(3, 3).RGBA(); a != 0 {
		t.Error("the studio is still there")
	}
	// What can't be done is said with the way out.
	for query, want := range map[string]string{
		"erase=0,0,2400,1500": "erased-too-much", "erase=faces": "erase", "redact=nobody": "faces", "xywh=faces+0.2": "faces", "mask-image=url(mark.png)": "subject", "mask-image=linear-gradient(red)": "linear-gradient",
		"redact=1,1,0,0": "x,y,width,height",
	} {
		if a := s.Get(t, friends+"?width=80&"+query); a.StatusCode < 400 || a.StatusCode >= 500 || !strings.Contains(string(a.Data), want) {
			t.Errorf("%s: %d %s", query, a.StatusCode, a.Data)
		}
	}
	if no := s.Get(t, "/kestrel/catalogue/wind-chart.png?width=80&mask-image=subject"); no.StatusCode != 200 && no.Problem(t).Reason != "no-clear-subject" {
		t.Errorf("%d %s", no.StatusCode, no.Data)
	}
}

func TestPlacesAreDrawnInTheEasel(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/easel" + friends + "?width=200&view=places&erase=percent:71,9,15,30"))
	p.says("faces: 5")
	p.until(`document.querySelectorAll("[data-face]").length === 5`)
	p.click("Redact faces")
	p.until(`new URLSearchParams(location.search).get("redact") === "faces"`)
	// A box is drawn by dragging over the picture.
	// drag drags over the picture from one place to another, beginning on the part of it that a selector names, or on the picture itself.
	drag := func(on string, x0, y0, x1, y1 float64) {
		t.Helper()
		p.must(p.Do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => {
			const g = document.querySelector("[role=group][aria-label*=' drag ']"), r = g.getBoundingClientRect(), first = %q ? g.querySelector(%q) : g;
			g.setPointerCapture = () => {};
			const at = (e, type, x, y) => e.dispatchEvent(new PointerEvent(type, {bubbles: true, pointerId: 1, clientX: r.left + x * r.width, clientY: r.top + y * r.height}));
			at(first, "pointerdown", %[3]g, %[4]g);
			requestAnimationFrame(() => { at(g, "pointermove", %[5]g, %[6]g); requestAnimationFrame(() => at(g, "pointerup", %[5]g, %[6]g)); });
		})()`, on, on, x0, y0, x1, y1))))
	}
	// redacted waits until the box that is redacted is about at these percentages: x, y, width, height.
	redacted := func(want string) {
		t.Helper()
		p.until(`((now, want) => now.length === 4 && want.every((v, i) => Math.abs(v - now[i]) < 0.35))(((new URLSearchParams(location.search).get("redact") ?? "").match(/^faces percent:(.*)$/)?.[1] ?? "").split(",").map(Number), [` + want + `])`)
	}
	drag("", 0.1, 0.6, 0.3, 0.8)
	redacted("10, 60, 20, 20")
	// It is moved by dragging it, sized by its handles, and both by the keyboard; at the edge it stays in the picture.
	drag("", 0.2, 0.7, 0.25, 0.6)
	redacted("15, 50, 20, 20")
	drag("[data-handle='lower right corner']", 0.35, 0.7, 0.45, 0.75)
	redacted("15, 50, 30, 25")
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`(() => {
		const b = document.querySelector("[aria-label^='redact: ']");
		b.focus();
		b.dispatchEvent(new KeyboardEvent("keydown", {key: "ArrowLeft", bubbles: true}));
	})()`)))
	redacted("14, 50, 30, 25")
	drag("", 0.2, 0.6, 0.9, 0.95)
	redacted("70, 75, 30, 25")
	p.until(`document.querySelector("[aria-label='Remove percent:71,9,15,30 from erase']")`)
	p.must(p.Do(chromedp.Click(chromedp.CSS(`[aria-label='Remove percent:71,9,15,30 from erase']`))))
	p.until(`!new URLSearchParams(location.search).has("erase")`)
	answered := func() {
		t.Helper()
		shown := p.text(`document.querySelector("[data-testid=address]").textContent`)
		if a := s.Get(t, strings.TrimPrefix(shown, s.Base)); a.StatusCode != 200 {
			t.Errorf("%s answers %d", shown, a.StatusCode)
		}
	}
	answered()
	// A fade is drawn on the variant as a line, whose ends move; a spot as a box.
	masked := func(pattern string) {
		t.Helper()
		p.until(`/` + pattern + `/.test(new URLSearchParams(location.search).get("mask-image") ?? "")`)
	}
	p.click("fade")
	p.until(`document.querySelector("img[alt='The variant']")`)
	drag("", 0.2, 0.5, 0.8, 0.5)
	masked(`^linear-gradient\((89\.\d+|90|90\.\d+)deg, black (19\.\d+|20|20\.\d+)%, transparent (79\.\d+|80|80\.\d+)%\)$`)
	answered()
	p.until(`document.querySelectorAll("[data-handle=end]").length === 2`)
	drag("[data-of='fade 1']", 0.8, 0.5, 0.2, 0.9)
	masked(`^linear-gradient\((179\.\d+|180|180\.\d+)deg, black (49\.\d+|50|50\.\d+)%, transparent (89\.\d+|90|90\.\d+)%\)$`)
	p.click("spot")
	drag("", 0.2, 0.1, 0.6, 0.9)
	masked(`^radial-gradient\(ellipse (19\.\d+|20|20\.\d+)% (39\.\d+|40|40\.\d+)% at (39\.\d+|40|40\.\d+)% (49\.\d+|50|50\.\d+)%, black 60%, transparent\)$`)
	answered()
}
