package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"echolane/core/render"
)

func TestLikenessOfFiles(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	variantFile := func(name string, declarations ...string) string {
		t.Helper()
		to := filepath.Join(dir, name)
		args := append([]string{"render", filepath.Join(bed.Pictures, "delta-red.jpg"), "width=300"}, declarations...)
		if r := bed.Run(t, nil, append(args, "-o", to)...); r.Code != 0 {
			t.Fatal(r.Err)
		}
		return to
	}
	exact, fine, coarse, cut := variantFile("exact.png", "quality=lossless"), variantFile("fine.webp", "quality=90"), variantFile("coarse.webp", "quality=20"), variantFile("cut.png", "height=300")
	like := func(a, b string) compared {
		t.Helper()
		var c compared
		r := bed.Run(t, nil, "likeness", a, b, "--json")
		if err := json.Unmarshal([]byte(r.Out), &c); err != nil || r.Code != 0 {
			t.Fatalf("%d %s %v", r.Code, r.Err, err)
		}
		return c
	}
	if c := like(exact, exact); c.Likeness != 100 || c.Width != 300 {
		t.Errorf("a picture and itself: %+v", c)
	}
	f, c := like(exact, fine), like(exact, coarse)
	if f.Likeness < 80 || c.Likeness > 45 || f.Bytes[1] <= c.Bytes[1] {
		t.Errorf("quality 90 has likeness %v in %d bytes, quality 20 %v in %d", f.Likeness, f.Bytes[1], c.Likeness, c.Bytes[1])
	}
	to := filepath.Join(dir, "map.png")
	if r := bed.Run(t, nil, "likeness", exact, coarse, "--map", to); r.Code != 0 || !strings.Contains(r.Out, "likeness") || !strings.Contains(r.Out, "%") {
		t.Errorf("%d %s%s", r.Code, r.Out, r.Err)
	}
	data, err := os.ReadFile(to)
	if info, e := render.Probe(data); err != nil || e != nil || info.W != 300 || info.H != 200 {
		t.Errorf("the map is %+v, %v %v", info, err, e)
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{exact}, 2, "give two files"}, {[]string{exact, "/none.png"}, 1, "no such file"}, {[]string{exact, cut}, 1, "of one shape"},
	} {
		if r := bed.Run(t, nil, append([]string{"likeness"}, c.args...)...); r.Code != c.code || !strings.Contains(r.Err, c.says) {
			t.Errorf("likeness %v: %d %s; want %d %q", c.args, r.Code, r.Err, c.code, c.says)
		}
	}
}

func TestSweepOfAFile(t *testing.T) {
	t.Parallel()
	page := filepath.Join(t.TempDir(), "sweep.html")
	r := bed.Run(t, nil, "sweep", filepath.Join(bed.Pictures, "sled-blue.jpg"), "width=160", "--formats", "jpeg,webp", "-o", page, "--json")
	var steps []sweepStep
	if err := json.Unmarshal([]byte(r.Out), &steps); err != nil || r.Code != 0 || len(steps) != 2*len(swept) {
		t.Fatalf("%d %s %v, %d steps", r.Code, r.Err, err, len(steps))
	}
	knees, sentSteps := 0, 0
	for i, s := range steps {
		if i > 0 && s.Format == steps[i-1].Format && (s.Bytes < steps[i-1].Bytes || s.Likeness < steps[i-1].Likeness-3) {
			t.Errorf("%s at %d has %d bytes and likeness %v, at %d it has %d and %v", s.Format, s.Quality, s.Bytes, s.Likeness, steps[i-1].Quality, steps[i-1].Bytes, steps[i-1].Likeness)
		}
		if s.Knee {
			knees++
		}
		if s.Sent {
			sentSteps++
		}
	}
	if knees != 2 || sentSteps != 2 {
		t.Errorf("%d knees, %d marked as sent; want one a format", knees, sentSteps)
	}
	html, err := os.ReadFile(page)
	if err != nil || strings.Count(string(html), "data:image/png;base64,") != 1+len(steps) || !strings.Contains(string(html), "<polyline") {
		t.Errorf("the page: %v, %d pictures", err, strings.Count(string(html), "data:image/png"))
	}
	table := bed.Must(t, nil, "sweep", filepath.Join(bed.Pictures, "sled-blue.jpg"), "width=160", "--formats", "jpeg,webp")
	if n := strings.Count(table, "the fewest bytes"); n < len(swept) {
		t.Errorf("at %d of %d qualities it's said in which format it has the fewest bytes:\n%s", n, len(swept), table)
	}
	if r := bed.Run(t, nil, "sweep", "x.jpg", "--formats", "png"); r.Code != 2 || !strings.Contains(r.Err, "can't be swept") {
		t.Errorf("%d %s", r.Code, r.Err)
	}
}

func TestEaselSweeps(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/sled-blue.jpg?width=120&view=sweep"))
	says := `(document.querySelector("[data-testid=step]")?.textContent ?? "")`
	p.until(says + `.startsWith("avif at 72: ")`)
	first := p.text(says)
	p.must(p.Do(chromedp.Focus(chromedp.CSS("input[type=range][aria-label=Quality]")), chromedp.KeyEvent("\u0302"))) // arrow left
	p.until(says + `.startsWith("avif at 66: ")`)
	if p.text(says) == first {
		t.Error("a lower quality changes nothing")
	}
	// All formats and qualities come, and are drawn.
	p.until(`document.querySelectorAll("svg[aria-label='Likeness against bytes'] circle").length === 48`)
	// The original is one key away, at the same place.
	shown := `document.querySelector("[aria-label=Enlarged] img").src`
	p.until(`document.querySelector("[aria-label=Enlarged] img")?.naturalWidth === 120`)
	before := p.text(shown)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`window.dispatchEvent(new KeyboardEvent("keydown", {key: "o"}))`)))
	p.until(says + ` === "original" && ` + shown + ` !== ` + `"` + before + `"`)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`window.dispatchEvent(new KeyboardEvent("keyup", {key: "o"}))`)))
	p.until(says + `.startsWith("avif at 66: ")`)
	// The view is in the address, beside what is declared.
	if q := p.query(); q.Get("view") != "sweep" || q.Get("width") != "120" {
		t.Errorf("the address says %v", q)
	}
}

func TestWhatIsSavedIsSaid(t *testing.T) {
	t.Parallel()
	for _, c := range []struct {
		before, after int64
		want          string
	}{{1000, 27, "−97.3 %"}, {1000, 1120, "+12.0 %"}, {1000, 1000, "0.0 %"}, {0, 10, ""}} {
		if got := savedText(c.before, c.after); got != c.want {
			t.Errorf("%d bytes after %d: %q, want %q", c.after, c.before, got, c.want)
		}
	}
}
