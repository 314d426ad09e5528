package main

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"echolane/core/markup"
	"echolane/service/api"
)

func TestMarkupFromTheCommandLine(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	out := bed.Must(t, s, "markup", "kestrel/catalogue/delta-red.jpg", "--slot", "width: 320px; aspect-ratio: 3/2", "--alt", "A kite")
	if !strings.HasPrefix(out, `<img src="http://`) || strings.Count(out, "aspect-ratio=3/2") != 4 || !strings.Contains(out, `width="320" height="213" alt="A kite" loading="lazy"`) {
		t.Errorf("%s", out)
	}
	var m api.Markup
	if err := json.Unmarshal([]byte(bed.Must(t, s, "markup", "kestrel/catalogue/coast-panorama.jpg", "--slot", "100vw", "--first", "--decorative", "--placeholder", "picture", "--base", "https://img.kestrel.test", "--json")), &m); err != nil {
		t.Fatal(err)
	}
	if m.Markup.Loading != "eager" || !strings.Contains(m.Preload, "imagesrcset=") || !strings.Contains(m.Link, "rel=\"preload\"") || !strings.Contains(m.Markup.Style, "data:image/webp") || !strings.HasPrefix(m.Markup.Src, "https://img.kestrel.test/kestrel/catalogue/") {
		t.Errorf("%+v", m.Markup)
	}
	// What the widths weigh was measured: making one gives about what is said.
	for _, c := range m.Markup.Srcset {
		a := s.Get(t, strings.TrimPrefix(c.URL, "https://img.kestrel.test"), "Accept", browserAccept)
		if d := float64(len(a.Data)) / float64(c.Bytes); d < 0.75 || d > 1.35 {
			t.Errorf("%d wide has %d bytes, %d were said", c.Width, len(a.Data), c.Bytes)
		}
	}
	bed.Must(t, s, "site", "set", "kestrel", "--rungs", "160,320,640,1280")
	out = bed.Must(t, s, "markup", "kestrel/catalogue/delta-red.jpg", "--slot", "max-width: 800px", "--alt", "A kite")
	for _, w := range []string{"320w", "640w", "1280w"} {
		if !strings.Contains(out, w) {
			t.Errorf("without %s: %s", w, out)
		}
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"kestrel/catalogue/delta-red.jpg"}, 2, "--slot"},
		{[]string{"kestrel/catalogue/delta-red.jpg", "--slot", "width: 320px"}, 2, "alt is missing"},
		{[]string{"kestrel/catalogue/delta-red.jpg", "--slot", "wdith: 320px", "--decorative"}, 2, "did you mean width"},
		{[]string{"kestrel/catalogue/gone.jpg", "--slot", "width: 320px", "--decorative"}, 1, "gone.jpg"},
		{[]string{"kestrel/nowhere/gone.jpg", "--slot", "width: 320px", "--decorative"}, 1, "no lane nowhere"},
		{[]string{"kestrel/catalogue/delta-red.jpg", "--slot", "width: 320px; class: nowhere", "--decorative"}, 1, "no class nowhere"},
		{[]string{"kestrel/catalogue/delta-red.jpg", "--slot", "width: 320px", "--decorative", "--formats", "tiff"}, 2, "no such format"},
		{[]string{"kestrel/catalogue/delta-red.jpg", "--slot", "width: 320px", "--decorative", "--placeholder", "blur"}, 2, "picture, or colour"},
		{[]string{"kestrel/catalogue/delta-red.jpg", "--slot", "width: 320px", "--decorative", "--as", "xml"}, 2, "html, jsx, css, preload"},
	} {
		r := bed.Run(t, s, append([]string{"markup"}, c.args...)...)
		if r.Code != c.code || !strings.Contains(r.Err, c.says) {
			t.Errorf("%v: %d %s; want %d with %q", c.args, r.Code, r.Err, c.code, c.says)
		}
	}
}

func TestPagesWrittenAgainByTheirTags(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--base", "https://photos.kestrel.test/", "--allow", "https://photos.kestrel.test/*")
	dir := t.TempDir()
	const index = `<!doctype html><p>Kites &amp; twine</p>
<img src="pictures/delta-red.jpg" width="350" alt="A kite">
<img src="/pictures/mark.png" sizes="(min-width: 60em) 64px, 48px" alt="">
<picture><source srcset="a.webp"><img src="pictures/delta-red.jpg" width=20></picture>
<img src="https://elsewhere.test/x.jpg" width="30">
<img src="pictures/delta-red.jpg">
`
	write := func(name, text string) string {
		file := filepath.Join(dir, name)
		os.MkdirAll(filepath.Dir(file), 0o755)
		if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		return file
	}
	file := write("index.html", index)
	sub := write("about/us.htm", `<img src="../pictures/mark.png" width=64 alt="The mark">`)
	write("about/notes.txt", `<img src="../pictures/mark.png" width=64>`)
	args := []string{"markup", "--rewrite", dir, "--at", "https://shop.kestrel.test/", "--map", "https://shop.kestrel.test/pictures/=catalogue", "--base", "https://img.kestrel.test"}
	read := func(file string) string {
		data, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		return string(data)
	}
	dry := bed.Run(t, s, append(args, "--dry-run")...)
	if dry.Code != 0 || read(file) != index || strings.Count(dry.Out, "\n+ ") != 3 || strings.Count(dry.Out, "\n- ") != 3 {
		t.Fatalf("%d %s%s", dry.Code, dry.Out, dry.Err)
	}
	for _, why := range []string{"a <picture>", "no lane of kestrel has it", "how wide it is shown"} {
		if !strings.Contains(dry.Err, why) {
			t.Errorf("without %q: %s", why, dry.Err)
		}
	}
	bed.Must(t, s, args...)
	once := read(file)
	if strings.Count(once, "data-was=") != 2 || !strings.Contains(once, `srcset="https://img.kestrel.test/kestrel/catalogue/delta-red.jpg?width=350 1x`) || !strings.Contains(once, `sizes="(min-width: 960px) 64px, 48px"`) || !strings.Contains(once, `<picture><source srcset="a.webp"><img src="pictures/delta-red.jpg" width=20></picture>`) {
		t.Errorf("%s", once)
	}
	if page := read(sub); !strings.Contains(page, "kestrel/catalogue/mark.png?width=64 1x") {
		t.Errorf("%s", page)
	}
	if out := bed.Run(t, s, args...); out.Code != 0 || read(file) != once || !strings.Contains(out.Err, "nothing changes") {
		t.Errorf("a second time: %s%s", out.Out, out.Err)
	}
	bed.Must(t, s, "markup", "--rewrite", dir, "--undo")
	if read(file) != index {
		t.Errorf("undone: %s", read(file))
	}
	if markup.Restore([]byte(once)); string(markup.Restore([]byte(once))) != index {
		t.Error("the page can't be brought back")
	}
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"markup", "--rewrite", dir}, 2, "--at"},
		{[]string{"markup", "--rewrite"}, 2, "HTML files"},
		{[]string{"markup", "--rewrite", filepath.Join(dir, "gone.html"), "--at", "https://shop.kestrel.test/"}, 1, "no such file"},
		{[]string{"markup", "--rewrite", t.TempDir(), "--at", "https://shop.kestrel.test/"}, 1, "no .html"},
		{[]string{"markup", "--rewrite", dir, "--at", "https://shop.kestrel.test/", "--slot", "width: 3"}, 2, "length"},
	} {
		if r := bed.Run(t, s, c.args...); r.Code != c.code || !strings.Contains(r.Err, c.says) {
			t.Errorf("%v: %d %s; want %d with %q", c.args, r.Code, r.Err, c.code, c.says)
		}
	}
}
