package main

import (
	"encoding/json"
	"fmt"
	"html"
	"math"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"echolane/core/weighin"
	"echolane/internal/testbed"
	"echolane/service/api"
)

// slowPage is a page as many are.
const slowPage = `<!doctype html>
<html lang="en"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1"><title>Kites by hand</title>
<style>
body { margin: 0; font: 16px/1.5 sans-serif }
.hero { display: block; width: 100%; aspect-ratio: 3/1; object-fit: cover; object-position: left top }
.wide { width: 300px }
.card { width: 40% }
.back { width: 100%; height: 240px; background: url(pictures/coast-panorama.jpg) center/cover }
.gap { height: 1400px }
</style></head>
<body>
<img class="hero" src="pictures/delta-red.jpg" alt="A red delta kite">
<p>Text <!-- <img src="pictures/never.jpg"> --></p>
<div class="gap"></div>
<img class=wide src='pictures/rokkaku-studio.jpg'>
<p>More text &amp; so on</p>
<div class="gap"></div>
<img class="card" loading="lazy" src="pictures/dragon-tail.jpg" alt="A diamond kite" width="1800" height="3200" style="height:auto">
<div class="back"></div>
<img src="data:image/gif;base64,R0lGODlhAQABAAAAACH5BAEKAAEALAAAAAABAAEAAAICTAEAOw==" alt="">
<img src="pictures/gone.jpg" alt="Gone" width="30" height="30">
<img class=wide src="pictures/rokkaku-studio.jpg" alt="Again">
</body></html>
`

// shop serves a page, and the demo's pictures as they are.
func shop(t *testing.T, page string) string { return shopOf(t, bed.Pictures, page) }

func shopOf(t *testing.T, pictures, page string) string {
	t.Helper()
	mux := http.NewServeMux()
	mux.Handle("/pictures/", http.StripPrefix("/pictures/", http.FileServer(http.Dir(pictures))))
	mux.HandleFunc("/{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprint(w, page)
	})
	mux.HandleFunc("/circle", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/circle", http.StatusFound) })
	mux.HandleFunc("/broken", func(w http.ResponseWriter, _ *http.Request) { http.Error(w, "no", http.StatusInternalServerError) })
	mux.HandleFunc("/nothing", func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusNoContent) })
	mux.HandleFunc("/download", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/zip")
		w.Header().Set("Content-Disposition", "attachment; filename=kites.zip")
		fmt.Fprint(w, "PK")
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	return s.URL + "/"
}

// smallPictures is a folder of the catalogue's photographs at a width of 1600: what they come to doesn't hang on it, and how long
// a browser waits for them does.
var smallPictures = sync.OnceValues(func() (string, error) {
	dir := filepath.Join(bed.Dir, "small")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	data, err := os.ReadFile(filepath.Join(bed.Pictures, "mark.png"))
	if err == nil {
		err = os.WriteFile(filepath.Join(dir, "mark.png"), data, 0o644)
	}
	if err != nil {
		return "", err
	}
	return dir, reduced(dir, 1600, "box-kite-cliff.jpg", "coast-panorama.jpg", "delta-red.jpg", "dragon-tail.jpg", "festival-dawn.jpg")
})

// withSmallPictures has the site's catalogue be of smallPictures.
func withSmallPictures(t *testing.T, s *testbed.Process) string {
	t.Helper()
	dir, err := smallPictures()
	if err != nil {
		t.Fatal(err)
	}
	bed.Must(t, s, "lane", "set", "kestrel/catalogue", "--folder", dir)
	return dir
}

func weighedPage(t *testing.T, s *testbed.Process, args ...string) api.Weighing {
	t.Helper()
	var w api.Weighing
	if !slices.Contains(args, "--loads") {
		args = append(args, "--loads", "0")
	}
	if err := json.Unmarshal([]byte(bed.Must(t, s, append([]string{"weigh"}, append(args, "--json")...)...)), &w); err != nil {
		t.Fatal(err)
	}
	return w
}

func TestAPageIsWeighedWrittenAgainAndWeighedAgain(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	at := shop(t, slowPage)
	// The page is on an address that isn't public: nothing is taken from there unless a lane says so.
	if out := bed.Run(t, s, "weigh", at); out.Code != 1 || !strings.Contains(out.Err, "127.0.0.1") || !strings.Contains(out.Err, "public") {
		t.Errorf("%d %s", out.Code, out.Err)
	}
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")

	file := filepath.Join(t.TempDir(), "index.html")
	if err := os.WriteFile(file, []byte(slowPage), 0o644); err != nil {
		t.Fatal(err)
	}
	report := filepath.Join(t.TempDir(), "report.html")
	w := weighedPage(t, s, file, "--at", at, "--map", at+"pictures/=catalogue", "--screens", "phone 390x844@3, desktop 1440x900", "--fix", "--in-place", "--page", report)
	if w.Report == nil || w.After == nil || w.Fixed == nil || len(w.Report.Views) != 2 || w.Report.Title != "Kites by hand" {
		t.Fatalf("%+v", w)
	}
	phone := w.Report.Views[0]
	find := func(v weighin.View, part, kind string) *weighin.Picture {
		t.Helper()
		for i := range v.Pictures {
			if p := &v.Pictures[i]; strings.Contains(p.URL, part) && p.Kind == kind && !p.Repeated {
				return p
			}
		}
		t.Fatalf("no %s among the %ss of the %s", part, kind, v.Name)
		return nil
	}
	does := func(p *weighin.Picture) string {
		words := make([]string, len(p.Remedies))
		for i, r := range p.Remedies {
			words[i] = r.What
		}
		return strings.Join(words, " ")
	}
	size := func(name string) int64 {
		info, err := os.Stat(filepath.Join(bed.Pictures, name))
		if err != nil {
			t.Fatal(err)
		}
		return info.Size()
	}

	hero := find(phone, "delta-red.jpg", "img")
	if hero.NaturalW != 2400 || hero.W != 390 || hero.H != 130 || !hero.Above || hero.Lazy || !hero.Sized || hero.Fit != "cover" || hero.Position != "0% 0%" || hero.Source != "catalogue/delta-red.jpg" {
		t.Errorf("%+v", hero)
	}
	if n := size("delta-red.jpg"); hero.Bytes < n || hero.Bytes > n+2000 {
		t.Errorf("%d bytes over the wire for a file of %d", hero.Bytes, n)
	}
	if hero.After == nil || hero.After.Width != 1170 || hero.After.Height != 390 || hero.After.Type != "image/webp" || hero.After.Bytes > 60_000 {
		t.Errorf("%+v", hero.After)
	}
	if !strings.HasPrefix(does(hero), "pixels") || !strings.Contains(does(hero), "candidates") || strings.Contains(does(hero), "lazy") {
		t.Errorf("hero: %s", does(hero))
	}
	if !hero.First || phone.ContentMS <= 0 {
		t.Errorf("the largest paint is %q, %s after %v ms", phone.Content, phone.ContentURL, phone.ContentMS)
	}
	studio := find(phone, "rokkaku-studio.jpg", "img")
	if studio.Above || studio.Sized || studio.Sizing == "" || studio.Alt != nil || studio.W != 300 {
		t.Errorf("%+v", studio)
	}
	for _, want := range []string{"lazy", "size", "alt"} {
		if !strings.Contains(does(studio), want) {
			t.Errorf("studio: %s", does(studio))
		}
	}
	tail := find(phone, "dragon-tail.jpg", "img")
	if !tail.Lazy || !tail.Sized || tail.W != 156 || strings.Contains(does(tail), "size") {
		t.Errorf("%+v", tail)
	}
	if back := find(phone, "coast-panorama.jpg", "background"); back.NaturalW != 6400 || back.W != 390 || back.After == nil || back.After.Height != 720 {
		t.Errorf("%+v %+v", back, back.After)
	}
	if gone := find(phone, "gone.jpg", "img"); !strings.Contains(gone.Failed, "404") {
		t.Errorf("%+v", gone)
	}
	if inline := find(phone, "data:image/gif", "img"); !inline.Inline || inline.After != nil {
		t.Errorf("%+v", inline)
	}
	if all := size("delta-red.jpg") + size("rokkaku-studio.jpg") + size("dragon-tail.jpg") + size("coast-panorama.jpg"); phone.ImageBytes < all || phone.ImageBytes > all+8000 {
		t.Errorf("%d bytes of pictures, the files have %d", phone.ImageBytes, all)
	}

	// What was rewritten.
	html, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if w.Fixed.Changed != 4 || len(w.Fixed.Left) != 2 || string(html) != string(w.Fixed.HTML) {
		t.Errorf("%d changed, %+v", w.Fixed.Changed, w.Fixed.Left)
	}
	tags := regexp.MustCompile(`(?s)<img[^>]*>`)
	if tags.ReplaceAllString(string(html), "") != tags.ReplaceAllString(slowPage, "") {
		t.Error("something beside the images changed")
	}
	list := tags.FindAllString(strings.Replace(string(html), `<!-- <img src="pictures/never.jpg"> -->`, "", 1), -1)
	if h := list[0]; !strings.Contains(h, `fetchpriority="high"`) || strings.Contains(h, "lazy") || !strings.Contains(h, `sizes="100vw"`) || !strings.Contains(h, "aspect-ratio=3&amp;object-position=0%200") {
		t.Errorf("the hero: %s", h)
	}
	if h := list[1]; !strings.Contains(h, `loading="lazy"`) || !strings.Contains(h, "width=300") || !strings.Contains(h, " 2x") || strings.Contains(h, " alt=") {
		t.Errorf("the studio: %s", h)
	}
	if h := list[2]; !strings.Contains(h, `sizes="40vw"`) || !strings.Contains(h, `width="1800"`) {
		t.Errorf("the tail: %s", h)
	}
	after := w.After.Views[0]
	if kept := find(after, "coast-panorama.jpg", "background").Bytes; after.ImageBytes-kept > (phone.ImageBytes-kept)*6/100 {
		t.Errorf("the images have %d bytes of %d left", after.ImageBytes-kept, phone.ImageBytes-kept)
	}
	for i, v := range w.After.Views {
		if v.Shift > 0.001 {
			t.Errorf("the %s jumps by %v: %+v", v.Name, v.Shift, v.Shifts)
		}
		for _, p := range v.Pictures {
			before := w.Report.Views[i]
			if p.Kind == "img" && p.Failed == "" && !p.Inline && !p.Sized {
				t.Errorf("on the %s the place of %s isn't kept free", v.Name, p.URL)
			}
			if p.Kind == "img" && strings.Contains(p.URL, "dragon-tail") && (p.W != find(before, "dragon-tail", "img").W || math.Abs(p.H-find(before, "dragon-tail", "img").H) > 0.6) {
				t.Errorf("on the %s the page changed: %+v", v.Name, p)
			}
			if a := p.After; a != nil && p.Kind == "img" && p.Bytes > 3*a.Bytes+2000 {
				t.Errorf("on the %s the browser took %s with %d bytes, to measure it has %d", v.Name, p.URL, p.Bytes, a.Bytes)
			}
		}
	}
	if text, err := os.ReadFile(report); err != nil || !strings.Contains(string(text), "rewritten page") || !strings.Contains(string(text), "rokkaku-studio.jpg") {
		t.Errorf("the report: %v", err)
	}
	bed.Must(t, s, "weigh", file, "--undo", "--in-place")
	if html, _ := os.ReadFile(file); string(html) != slowPage {
		t.Errorf("undone, the page is\n%s", html)
	}
	if out := bed.Must(t, s, "weigh", file, "--undo"); out != slowPage {
		t.Error("undoing twice isn't the same as once")
	}
}

func TestPagesThatCantBeWeighedSaySo(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	at := shop(t, "<!doctype html><title>Nothing</title><p>No pictures")
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")
	for _, c := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{at + "circle"}, 1, "redirect"},
		{[]string{at + "broken"}, 1, "500"},
		{[]string{at + "nothing"}, 1, "no page: a download, or nothing"},
		{[]string{at + "download"}, 1, "no page: a download, or nothing"},
		{[]string{"http://127.0.0.1:1/"}, 1, "can't be opened"},
		{[]string{"http://169.254.10.10/"}, 1, "public"},
		{[]string{"ftp://kestrel.test/"}, 2, "http"},
		{[]string{"page.html"}, 1, "no such file"},
		{[]string{t.TempDir()}, 1, "no .html"},
		{[]string{at, "--screens", "phone"}, 2, "phone 390x844@3"},
		{[]string{at, "--screens", "tiny 10x10"}, 2, "200"},
		{[]string{at, "--map", "x"}, 2, "URL=LANE"},
		{[]string{at, "--map", at + "=nowhere"}, 1, "no lane nowhere"},
		{[]string{at, "--site", "kestral"}, 1, "write kestrel instead of kestral"},
		{nil, 2, "echolane weigh"},
	} {
		out := bed.Run(t, s, append([]string{"weigh", "--loads", "0"}, c.args...)...)
		if out.Code != c.code || !strings.Contains(out.Err, c.says) {
			t.Errorf("%v: %d %s; want %d with %q", c.args, out.Code, out.Err, c.code, c.says)
		}
	}
	// A folder goes along with what it names.
	folder := t.TempDir()
	os.MkdirAll(filepath.Join(folder, "img"), 0o755)
	mark, err := os.ReadFile(filepath.Join(bed.Pictures, "mark.png"))
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string]string{"img/mark.png": string(mark), "style.css": "div { background: url(img/mark.png); height: 90px; width: 90px }", "index.html": `<!doctype html><link rel="stylesheet" href="style.css"><img src="img/mark.png" width="60" height="60" alt="The mark"><div></div><img src="img/gone.png" alt="">`} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	local := weighedPage(t, s, folder, "--screens", "phone 390x844@3").Report.Views[0]
	if len(local.Pictures) != 3 || local.ImageBytes < int64(len(mark)) || local.Pictures[0].After == nil || local.Pictures[0].NaturalW != 800 {
		t.Errorf("%+v", local)
	}
	w := weighedPage(t, s, at, "--screens", "phone 390x844@3")
	if v := w.Report.Views[0]; len(v.Pictures) != 0 || v.ImageBytes != 0 || w.Report.Title != "Nothing" {
		t.Errorf("%+v", w.Report)
	}
}

func TestTheFilesOfAFolderAreWeighedRewrittenAndUndone(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	folder, reports := t.TempDir(), filepath.Join(t.TempDir(), "reports")
	picture, err := os.ReadFile(filepath.Join(bed.Pictures, "mark.png"))
	if err != nil {
		t.Fatal(err)
	}
	files := map[string]string{
		"pictures/mark.png":          string(picture),
		"index.html":                 `<!doctype html><title>Home</title><img src="pictures/mark.png" width="60" height="60" alt="The mark">`,
		"guides/first.html":          `<!doctype html><title>First</title><img src="../pictures/mark.png" width="90" height="90" alt="The mark">`,
		"guides/none.htm":            `<!doctype html><title>None</title><p>No pictures here`,
		"node_modules/x/readme.html": `<!doctype html><img src="../../pictures/mark.png" alt="">`,
	}
	for name, data := range files {
		file := filepath.Join(folder, name)
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(data), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if out := bed.Run(t, s, "weigh", folder, "--fix", "--out", "x.html"); out.Code != 2 || !strings.Contains(out.Err, "--in-place") {
		t.Errorf("one file for three pages: %d %s", out.Code, out.Err)
	}
	out := bed.Must(t, s, "weigh", folder, "--map", "pictures/=catalogue", "--screens", "phone 390x844@2", "--fix", "--in-place", "--page", reports)
	for _, want := range []string{"index.html", "guides/first.html", "guides/none.htm", "rewritten"} {
		if !strings.Contains(out, want) {
			t.Errorf("the table lacks %s:\n%s", want, out)
		}
	}
	if strings.Contains(out, "node_modules") {
		t.Errorf("a package of others was weighed:\n%s", out)
	}
	once := map[string]string{}
	for name := range files {
		data, _ := os.ReadFile(filepath.Join(folder, name))
		once[name] = string(data)
	}
	bed.Must(t, s, "weigh", folder, "--map", "pictures/=catalogue", "--screens", "phone 390x844@2", "--fix", "--in-place")
	for name := range files {
		if data, err := os.ReadFile(filepath.Join(folder, name)); err != nil || string(data) != once[name] {
			t.Errorf("rewritten a second time, %s is another: %v\n%s\nwas\n%s", name, err, data, once[name])
		}
	}
	for name, rewritten := range map[string]bool{"index.html": true, "guides/first.html": true, "guides/none.htm": false, "node_modules/x/readme.html": false} {
		data, err := os.ReadFile(filepath.Join(folder, name))
		if err != nil || strings.Contains(string(data), "/kestrel/catalogue/mark.png") != rewritten {
			t.Errorf("%s: %v\n%s", name, err, data)
		}
	}
	for _, name := range []string{"index.html", "guides-first.html", "guides-none.htm"} {
		if text, err := os.ReadFile(filepath.Join(reports, name)); err != nil || !strings.Contains(string(text), "Weigh-in") {
			t.Errorf("the report %s: %v", name, err)
		}
	}
	bed.Must(t, s, "weigh", folder, "--undo", "--in-place")
	for name, data := range files {
		if now, err := os.ReadFile(filepath.Join(folder, name)); err != nil || string(now) != data {
			t.Errorf("undone, %s isn't what it was: %v\n%s", name, err, now)
		}
	}
}

// What a page looks like while it loads, and when it has, is in the report, in the terminal and behind the calls' addresses.
func TestAPageIsLoadedOverThrottledLines(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")
	at := shop(t, `<!doctype html><title>One kite</title><img src="pictures/mark.png" width="300" height="300" alt="The mark">`)
	w := weighedPage(t, s, at, "--screens", "phone 390x844@1", "--loads", "1")
	if len(w.Report.Loads) != 2 || w.Report.Loads[0].LastImage.Median < 500 || len(w.Report.Loads[0].Frames) != len(weighin.Marks) {
		t.Fatalf("%+v", w.Report.Loads)
	}
	path := fmt.Sprintf("/-/api/v1/sites/kestrel/weighings/%d/", w.ID)
	shot := 0
	for _, f := range w.Report.Loads[0].Frames { // on a busy machine the first of them may have nothing yet
		shot = max(shot, f.Shot)
	}
	if shot == 0 || w.Report.Views[0].Shot == 0 {
		t.Fatalf("there are no screenshots: %+v, %d", w.Report.Loads[0].Frames, w.Report.Views[0].Shot)
	}
	for n, want := range map[int]string{w.Report.Views[0].Shot: "200", shot: "200", 0: "404", 1000: "404"} {
		if r := s.Get(t, path+fmt.Sprintf("shots/%d", n)); r.Status[:3] != want || want == "200" && r.Header.Get("Content-Type") != "image/jpeg" {
			t.Errorf("screenshot %d: %s %s", n, r.Status, r.Header.Get("Content-Type"))
		}
	}
	// A hundred at once are answered, a few at a time.
	var flood sync.WaitGroup
	for range 100 {
		flood.Go(func() {
			if r := s.Get(t, path+"shots/1"); r.Status[:3] != "200" {
				t.Errorf("one of a hundred: %s", r.Status)
			}
		})
	}
	flood.Wait()
	if r, err := http.Get(s.Base + path + "shots/1"); err != nil || r.StatusCode != 401 {
		t.Errorf("a screenshot for nobody: %v %v", r, err)
	}
	if r := s.Get(t, path+"page"); !strings.Contains(string(r.Data), "Slow 4G") || !strings.Contains(string(r.Data), "data:image/jpeg;base64,") {
		t.Errorf("the report lacks how the page loads: %s", r.Status)
	}
	if out := bed.Run(t, s, "weigh", at, "--loads", "10"); out.Code != 2 || !strings.Contains(out.Err, "0 to 9") {
		t.Errorf("ten loads: %d %s", out.Code, out.Err)
	}
}

func TestTheBrowserTakesTheRungThatTheMarkupIsFor(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")
	withSmallPictures(t, s)
	for _, c := range []struct {
		slot, css string
		want      map[string]float64 // the pixels that each screen needs
	}{
		{"(min-width: 900px) 33vw, 100vw", "width: 100vw; @media (min-width: 900px) { width: 33vw }", map[string]float64{"phone": 1170, "desktop": 422}},
		{"width: 320px; aspect-ratio: 1", "width: 320px", map[string]float64{"phone": 960, "desktop": 320}},
		{"max-width: 800px", "width: 100%; max-width: 800px", map[string]float64{"phone": 1170, "desktop": 800}},
	} {
		markup := bed.Must(t, s, "markup", "kestrel/catalogue/delta-red.jpg", "--slot", c.slot, "--alt", "A kite")
		rule, media, _ := strings.Cut(c.css, "@media")
		css := "img { display: block; height: auto; " + rule + "}"
		if media != "" {
			cond, inner, _ := strings.Cut(media, "{")
			css += " @media" + cond + "{ img {" + inner + " }"
		}
		at := shop(t, `<!doctype html><meta name="viewport" content="width=device-width, initial-scale=1"><style>body { margin: 0 } `+css+`</style>`+markup)
		for _, address := range regexp.MustCompile(`/kestrel/catalogue/[^ "]+`).FindAllString(html.UnescapeString(markup), -1) {
			s.Get(t, address, "Accept", "image/avif,image/webp,image/*") // so that the browser waits for none, however busy the machine is
		}
		w := weighedPage(t, s, at, "--screens", "phone 390x844@3, desktop 1280x900, odd 1280x900@1.2")
		var offered []int
		for _, m := range regexp.MustCompile(`width=(\d+)[^ ]*(?:&amp;resolution=([\d.]+)x)?[^ ]* [\d.]+[wx]`).FindAllStringSubmatch(markup, -1) {
			offered = append(offered, len(m))
		}
		if len(offered) < 2 {
			t.Fatalf("%s", markup)
		}
		var told api.Markup
		if err := json.Unmarshal([]byte(bed.Must(t, s, "markup", "kestrel/catalogue/delta-red.jpg", "--slot", c.slot, "--alt", "A kite", "--json")), &told); err != nil {
			t.Fatal(err)
		}
		for _, v := range w.Report.Views {
			p := v.Pictures[0]
			for _, pick := range told.Picks {
				if pick.Viewport == float64(v.Width) && pick.Density == v.Density && pick.URL != p.URL {
					t.Errorf("%s on the %s: the browser took %s, %s was foretold", c.slot, v.Name, p.URL, pick.URL)
				}
			}
			need := c.want[v.Name]
			if v.Name == "odd" {
				need = c.want["desktop"] * 1.2
			}
			if float64(p.NaturalW) < need-1 || float64(p.NaturalW) > need*1.8 {
				t.Errorf("%s on the %s: %d pixels came where %.0f are shown", c.slot, v.Name, p.NaturalW, need)
			}
			if p.W*v.Density < need-2 || p.W*v.Density > need+2 {
				t.Errorf("%s on the %s is %v wide", c.slot, v.Name, p.W)
			}
		}
	}
}

func TestStoppingAWeighIn(t *testing.T) {
	s := bed.Kestrel(t)
	hold := make(chan struct{})
	mux := http.NewServeMux()
	mux.HandleFunc("/{$}", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, `<!doctype html><img src="slow.jpg">`) })
	mux.HandleFunc("/slow.jpg", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-hold:
		case <-r.Context().Done():
		}
	})
	origin := httptest.NewServer(mux)
	defer origin.Close()
	defer close(hold)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")
	a := s.Ask(t, "POST", "/-/api/v1/sites/kestrel/weighings", strings.NewReader(`{"page":"`+origin.URL+`/"}`), "Content-Type", "application/json")
	if a.StatusCode != 202 {
		t.Fatalf("%d %s", a.StatusCode, a.Data)
	}
	var w api.Weighing
	json.Unmarshal(a.Data, &w)
	path := fmt.Sprintf("/-/api/v1/sites/kestrel/weighings/%d", w.ID)
	state := func() string {
		var now api.Weighing
		json.Unmarshal(s.Ask(t, "GET", path, nil).Data, &now)
		return now.State + " " + now.Doing
	}
	testbed.Eventually(t, "it says what it does", func() error {
		if got := state(); !strings.Contains(got, "opening the page") {
			return fmt.Errorf("%s", got)
		}
		return nil
	})
	began := time.Now()
	if a := s.Ask(t, "DELETE", path, nil); a.StatusCode != 204 {
		t.Fatalf("%d %s", a.StatusCode, a.Data)
	}
	if got := state(); got != "stopped " {
		t.Errorf("it is %q", got)
	}
	// Its turn is free again at once.
	next := shop(t, "<!doctype html><p>Next")
	weighedPage(t, s, next, "--screens", "phone 390x844@3")
	if time.Since(began) > 20*time.Second {
		t.Errorf("the next had to wait for %v", time.Since(began))
	}
}

func TestAPageOfFarTooMuchIsWeighedWithinBounds(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")
	var page strings.Builder
	page.WriteString("<!doctype html><title>\xe4</title><img src=\"data:image/png;base64,")
	page.WriteString(strings.Repeat("AAAA", 300_000))
	page.WriteString("\" alt=\"\">")
	for i := range 2100 {
		fmt.Fprintf(&page, `<img src="pictures/mark.png" alt="%d" width="8" height="8" srcset="pictures/mark.png, , ,, 4x 5w, %s 1x">`, i, strings.Repeat(",", i%7))
	}
	page.WriteString(strings.Repeat("<b></b>", 15_000)) // siblings, among which each picture has its place
	began := time.Now()
	w := weighedPage(t, s, shop(t, page.String()), "--screens", "phone 390x844@1")
	v := w.Report.Views[0]
	if len(v.Pictures) != 2000 || len(w.Report.Notes) == 0 || !strings.Contains(strings.Join(w.Report.Notes, " "), "more elements") {
		t.Errorf("%d pictures, %v", len(v.Pictures), w.Report.Notes)
	}
	for _, p := range v.Pictures {
		if len(p.URL) > 200 || len(p.Src) > 4100 {
			t.Fatalf("an address of %d bytes is kept", max(len(p.URL), len(p.Src)))
		}
	}
	if took := time.Since(began); took > 2*time.Minute {
		t.Errorf("it took %v", took)
	}
	huge := sheetFile(t, "<p>"+strings.Repeat("x", 9<<20))
	if out := bed.Run(t, s, "weigh", huge); out.Code != 2 || !strings.Contains(out.Err, "too large") {
		t.Errorf("9 MB of HTML: %d %s", out.Code, out.Err)
	}
}

// Pages hold pictures in other ways too, and other letters; written again twice is as once.
func TestOtherPicturesOfAPage(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	page := `<!doctype html><html lang="fr"><head><meta charset="iso-8859-1"><meta name="viewport" content="width=device-width"><title>Caf` + "\xe9" + ` des vents</title>
<style>body{margin:0}.row{width:280px;aspect-ratio:4/3;background:image-set(url(pictures/box-kite-cliff.jpg) 1x)}</style></head><body>
<img src="pictures/mark.png" alt="Enseigne du caf` + "\xe9" + `" width="64" height="64">
<video poster="pictures/coast-panorama.jpg" width="320" height="180"></video>
<picture><source media="(max-width: 600px)" srcset="pictures/dragon-tail.jpg"><img src="pictures/delta-red.jpg" alt="" width="300" height="200"></picture>
<picture><source type="image/jpeg" srcset="pictures/festival-dawn.jpg"><img src="pictures/festival-dawn.jpg" alt="" width="300" height="200"></picture>
<div class="row"></div>
<noscript><img src="pictures/mark.png" alt="" width="64" height="64"></noscript>
</body></html>
`
	at := shopOf(t, withSmallPictures(t, s), page)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")
	file := filepath.Join(t.TempDir(), "cafe.html")
	if err := os.WriteFile(file, []byte(page), 0o644); err != nil {
		t.Fatal(err)
	}
	args := []string{file, "--at", at, "--map", at + "pictures/=catalogue", "--screens", "phone 390x844@2, desktop 1440x900", "--fix", "--in-place"}
	w := weighedPage(t, s, args...)
	if w.Report.Title != "Café des vents" {
		t.Errorf("the title is read as %q", w.Report.Title)
	}
	kinds := func(v weighin.View) string {
		var list []string
		for _, p := range v.Pictures {
			list = append(list, p.Kind+" "+p.URL[strings.LastIndex(p.URL, "/")+1:])
		}
		return strings.Join(list, ", ")
	}
	phone, desktop := kinds(w.Report.Views[0]), kinds(w.Report.Views[1])
	for _, want := range []string{"img mark.png", "poster coast-panorama.jpg", "picture festival-dawn.jpg", "background box-kite-cliff.jpg"} {
		if !strings.Contains(phone, want) || !strings.Contains(desktop, want) {
			t.Errorf("without %s: on the phone %s; on the desktop %s", want, phone, desktop)
		}
	}
	if !strings.Contains(phone, "picture dragon-tail.jpg") || !strings.Contains(desktop, "picture delta-red.jpg") {
		t.Errorf("what each screen shows: %s; %s", phone, desktop)
	}
	once, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{
		"Caf\xe9 des vents", "alt=\"Enseigne du caf\xe9\"", `<source media="(max-width: 600px)" srcset="pictures/dragon-tail.jpg"><img src="pictures/delta-red.jpg" alt="" width="300" height="200">`,
		"kestrel/catalogue/festival-dawn.jpg?", `poster="pictures/coast-panorama.jpg"`,
	} {
		if !strings.Contains(string(once), want) {
			t.Errorf("without %q the page is\n%q\nleft: %+v", want, once, w.Fixed.Left)
		}
	}
	if strings.Contains(string(once), `<source type="image/jpeg" srcset`) {
		t.Errorf("a <source> for a format is still chosen first:\n%s", once)
	}
	left := ""
	for _, l := range w.Fixed.Left {
		left += l.Src + ": " + l.Why + "\n"
	}
	if !strings.Contains(left, "pictures/delta-red.jpg: its <picture> shows other pictures on other screens") {
		t.Errorf("left as they are: %s", left)
	}
	again := weighedPage(t, s, args...)
	// Which picture is painted last, and so comes first, hangs on how busy the machine is.
	steady := func(page []byte) string { return strings.ReplaceAll(string(page), ` fetchpriority="high"`, "") }
	if twice, err := os.ReadFile(file); err != nil || steady(twice) != steady(once) {
		t.Errorf("a second time %d change, %v:\n%s\nafter\n%s", again.Fixed.Changed, err, twice, once)
	}
	bed.Must(t, s, "weigh", file, "--undo", "--in-place")
	if back, _ := os.ReadFile(file); string(back) != page {
		t.Errorf("undone, the page is\n%q", back)
	}
}
