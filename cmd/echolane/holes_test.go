package main

import (
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/chromedp/chromedp"
	"github.com/jackc/pgx/v5"

	"echolane/demo/store"
	"echolane/internal/testbed"
	"echolane/service/api"
	"echolane/service/source"
)

// rude sends bytes as they are, and gives the status line.
func rude(t *testing.T, s *testbed.Process, text string) string {
	t.Helper()
	c, err := net.Dial("tcp", strings.TrimPrefix(s.Base, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	c.SetDeadline(time.Now().Add(10 * time.Second))
	io.WriteString(c, text)
	b := make([]byte, 64)
	n, _ := c.Read(b)
	line, _, _ := strings.Cut(string(b[:n]), "\r\n")
	return line
}

func TestNoAddressJamsTheListOfRefusals(t *testing.T) {
	t.Parallel()
	database := bed.Database(t)
	s := bed.ServeOn(t, database)
	bed.Must(t, s, "site", "add", "kestrel")
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	bed.Must(t, s, "lane", "add", "kestrel/wide", "--allow", "http://*:*/*", "--private", "127.0.0.1")
	rude(t, s, "GET /kestrel/catalogue/no\xff.png HTTP/1.1\r\nHost: x\r\n\r\n")
	rude(t, s, "GET /kestrel/catalogue/mark.png?width=\xff HTTP/1.1\r\nHost: x\r\n\r\n")
	s.Get(t, "/kestrel/catalogue/mark.png?width=%00")
	s.Get(t, "/kestrel/catalogue/mark.png?width=%FF")
	s.Get(t, "/kestrel/catalogue/x"+strings.Repeat("%C3%A9", 120)+".png")
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.ServeFile(w, r, filepath.Join(bed.Pictures, "mark.png"))
	}))
	defer origin.Close()
	if a := s.Get(t, "/kestrel/wide/"+strings.ReplaceAll(strings.ReplaceAll(origin.URL, ":", "%3A"), "/", "%2F")+"%2Fa%FFb?width=20"); a.StatusCode != 400 {
		t.Errorf("an address that isn't text: %d", a.StatusCode)
	}
	s.Get(t, "/kestrel/catalogue/the-last-one.png")
	if out := bed.Must(t, s, "refusals", "kestrel"); !strings.Contains(out, "the-last-one.png") || !strings.Contains(out, "xé") {
		t.Errorf("what came after is lost:\n%s", out)
	}
	s.Get(t, "/kestrel/catalogue/mark.png?width=33")
	db, err := pgx.Connect(t.Context(), database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(t.Context())
	testbed.Eventually(t, "variants are recorded after it", func() error {
		var n int
		err := db.QueryRow(t.Context(), "SELECT count(*) FROM made_variants WHERE declarations LIKE 'width=33%'").Scan(&n)
		if err != nil || n != 1 {
			return fmt.Errorf("%d, %v", n, err)
		}
		return nil
	})
}

func TestTheTerminalShowsControlCharactersAsPictures(t *testing.T) {
	t.Parallel()
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		c, _, err := w.(http.Hijacker).Hijack()
		if err != nil {
			return
		}
		io.WriteString(c, "HTTP/1.1 599 bad\x1b[31mred\x07\r\nContent-Length: 0\r\n\r\n")
		c.Close()
	}))
	defer origin.Close()
	folder := t.TempDir()
	if err := os.WriteFile(filepath.Join(folder, "esc\x1b[31m\u009bred\n.png"), []byte("no picture"), 0o644); err != nil {
		t.Fatal(err)
	}
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--base", origin.URL+"/", "--allow", origin.URL+"/*", "--private", "127.0.0.1")
	bed.Must(t, s, "lane", "add", "kestrel/odd", "--folder", folder)
	said := ""
	for _, args := range [][]string{
		{"fetch", "kestrel/press/a.jpg"}, {"lane", "test", "kestrel/press", "a.jpg"}, {"explain", "kestrel/press/a.jpg"}, {"fetch", "kestrel/odd/esc%1b[31m%c2%9bred%0a.png"},
		{"upload", "list", "kestrel/odd"}, {"refusals", "kestrel"}, {"refusals", "kestrel", "--json"}, {"fetch", "kestrel/catalogue/\x1b[2J.png"}, {"site", "set", "kestrel", "--add-page", "https://\x1b.test", "--only"},
	} {
		r := bed.Run(t, s, args...)
		for _, c := range r.Out + r.Err {
			if c < ' ' && c != '\n' && c != '\t' || c >= 0x7f && c < 0xa0 {
				t.Errorf("%q prints %q", args, r.Out+r.Err)
				break
			}
		}
		said += r.Out + r.Err
	}
	if !strings.Contains(said, "bad␛[31mred␇") {
		t.Errorf("they aren't shown: %s", said)
	}
}

func TestOriginsAreLeftAloneForAWhileAfterTheyFail(t *testing.T) {
	t.Parallel()
	var hits sync.Map
	asked := func(path string) int64 {
		n, _ := hits.LoadOrStore(path, new(atomic.Int64))
		return n.(*atomic.Int64).Load()
	}
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n, _ := hits.LoadOrStore(r.URL.Path, new(atomic.Int64))
		n.(*atomic.Int64).Add(1)
		switch r.URL.Path {
		case "/slow.png":
			select {
			case <-r.Context().Done():
			case <-time.After(30 * time.Second):
			}
		case "/busy.png":
			w.Header().Set("Retry-After", "120")
			w.WriteHeader(503)
		case "/broken.png":
			w.WriteHeader(500)
		case "/private.png", "/secret.png":
			w.Header().Set("Cache-Control", map[string]string{"/private.png": "private, max-age=60", "/secret.png": "no-store"}[r.URL.Path])
			fallthrough
		case "/mark.png":
			http.ServeFile(w, r, filepath.Join(bed.Pictures, "mark.png"))
		default:
			w.WriteHeader(404)
		}
	}))
	defer origin.Close()
	s := bed.Kestrel(t, "--cache-dir", t.TempDir())
	bed.Must(t, s, "lane", "add", "kestrel/press", "--base", origin.URL+"/", "--allow", origin.URL+"/*", "--private", "127.0.0.1")
	for path, status := range map[string]int{"/none.png": 404, "/broken.png": 502} {
		for range 200 {
			if a := s.Get(t, "/kestrel/press"+path); a.StatusCode != status {
				t.Fatalf("%s: %d", path, a.StatusCode)
			}
		}
		if n := asked(path); n > 3 {
			t.Errorf("%s: the origin was asked %d times for 200 requests", path, n)
		}
	}
	if a := s.Get(t, "/kestrel/press/busy.png"); a.StatusCode != 502 || a.Header.Get("Retry-After") != "120" {
		t.Errorf("the origin's Retry-After: %d %q", a.StatusCode, a.Header.Get("Retry-After"))
	}
	begin := time.Now()
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			if a := s.Get(t, "/kestrel/press/slow.png"); a.StatusCode != 504 {
				t.Errorf("slow: %d", a.StatusCode)
			}
		})
	}
	all.Wait()
	if took := time.Since(begin); took > 14*time.Second || asked("/slow.png") > 2 { // one wait for the first byte is 8 s
		t.Errorf("five that wait for one slow source took %v, and asked %d times", took, asked("/slow.png"))
	}
	for path, want := range map[string]string{"/private.png": "private, max-age=3600", "/secret.png": "no-store", "/mark.png": "public, max-age=3600, stale-while-revalidate=86400"} {
		for range 2 {
			if a := s.Get(t, "/kestrel/press"+path+"?width=20"); a.StatusCode != 200 || a.Header.Get("Cache-Control") != want {
				t.Errorf("%s: %d %q, want %q", path, a.StatusCode, a.Header.Get("Cache-Control"), want)
			}
		}
		if n := asked(path); path != "/mark.png" && n < 2 || path == "/mark.png" && n != 1 {
			t.Errorf("%s: the origin was asked %d times", path, n)
		}
	}
	bed.Must(t, s, "lane", "set", "kestrel/press", "--unshared", "keep", "--fresh", "60")
	s.Get(t, "/kestrel/press/secret.png?width=21")
	before := asked("/secret.png")
	if a := s.Get(t, "/kestrel/press/secret.png?width=21"); a.Header.Get("Cache-Control") != "no-store" || a.Header.Get("Cache-Status") != "Echo-Lane; hit; detail=memory" || asked("/secret.png") != before {
		t.Errorf("kept here: %q, %q, asked %d times more", a.Header.Get("Cache-Control"), a.Header.Get("Cache-Status"), asked("/secret.png")-before)
	}
}

func TestABucketIsAnsweredForWhileItsStoreIsAway(t *testing.T) {
	t.Parallel()
	objects := &store.Store{Dir: t.TempDir(), AccessKey: "AKITE", SecretKey: "the-string-of-the-kite"}
	os.MkdirAll(filepath.Join(objects.Dir, "kites"), 0o755)
	for _, name := range []string{"mark.png", "a.avif", "b.heic", "c.jfif", "d.svg"} {
		data, err := os.ReadFile(filepath.Join(bed.Pictures, "mark.png"))
		if err == nil {
			err = os.WriteFile(filepath.Join(objects.Dir, "kites", name), data, 0o644)
		}
		if err != nil {
			t.Fatal(err)
		}
	}
	away := atomic.Bool{}
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if away.Load() {
			w.WriteHeader(503)
			return
		}
		objects.ServeHTTP(w, r)
	}))
	defer server.Close()
	s := bed.Kestrel(t, "--cache-dir", t.TempDir())
	bed.Must(t, s, "lane", "add", "kestrel/archive", "--bucket", "kites", "--endpoint", server.URL, "--private", "127.0.0.1", "--fresh", "0")
	bed.Must(t, s, "lane", "secret", "kestrel/archive", "--access-key", "AKITE", "--secret-key", "the-string-of-the-kite")
	if a := s.Get(t, "/kestrel/archive/mark.png?width=20"); a.StatusCode != 200 {
		t.Fatalf("%d %s", a.StatusCode, a.Data)
	}
	after, seen := "", []string{}
	for range 10 {
		page := decoded[api.Page[source.Entry]](t, s.Get(t, "/-/api/v1/sites/kestrel/lanes/archive/sources?limit=2&after="+after), 200)
		for _, i := range page.Items {
			seen = append(seen, i.Path)
		}
		if after = page.Next; after == "" {
			break
		}
	}
	if got := strings.Join(seen, " "); got != "a.avif b.heic c.jfif d.svg mark.png" {
		t.Errorf("listed: %s", got)
	}
	away.Store(true)
	for _, width := range []string{"20", "21"} { // one that is kept, one that is made of what is kept
		if a := s.Get(t, "/kestrel/archive/mark.png?width="+width); a.StatusCode != 200 {
			t.Errorf("with the store away, width=%s: %d %s", width, a.StatusCode, a.Data)
		}
	}
}

func TestWhatWouldShutOthersOutWantsAPlainYes(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "site", "set", "kestrel", "--pages", "https://shop.test")
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=20", "Origin", "https://evil.test"); a.StatusCode != 403 {
		t.Fatal(a.StatusCode)
	}
	bed.Must(t, s, "site", "set", "kestrel", "--pages", "")
	refusals := decoded[api.Page[api.Refusal]](t, s.Get(t, "/-/api/v1/refusals?site=kestrel"), 200).Items
	id := fmt.Sprint(refusals[0].ID)
	if r := bed.Run(t, s, "refusals", "mend", id, "--yes"); r.Code != 2 || !strings.Contains(r.Err, "--only") {
		t.Errorf("mend: %d %s", r.Code, r.Err)
	}
	for _, args := range [][]string{{"--add-page", "https://a.test"}, {"--add-rung", "300"}, {"--add-shape", "1"}} {
		if r := bed.Run(t, s, append([]string{"site", "set", "kestrel"}, args...)...); r.Code != 2 || !strings.Contains(r.Err, "--only") {
			t.Errorf("%v: %d %s", args, r.Code, r.Err)
		}
	}
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=20", "Origin", "https://anybody.test"); a.StatusCode != 200 {
		t.Errorf("others are shut out: %d", a.StatusCode)
	}
	if a := s.Ask(t, "POST", "/-/api/v1/refusals/"+id+"/mend", nil, "If-Match", "*"); a.Problem(t).Reason != "would-shut-out" {
		t.Errorf("the API: %s", a.Data)
	}
	bed.Must(t, s, "refusals", "mend", id, "--yes", "--only")
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=20", "Origin", "https://anybody.test"); a.StatusCode != 403 {
		t.Errorf("with a plain yes: %d", a.StatusCode)
	}
}

func TestZeroSecondsAreZeroSeconds(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "set", "kestrel/catalogue", "--max-age", "0", "--fresh", "0")
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=20"); a.Header.Get("Cache-Control") != "public, max-age=0" {
		t.Errorf("%q", a.Header.Get("Cache-Control"))
	}
	if out := bed.Must(t, s, "export", "kestrel"); !strings.Contains(out, "max_age_s = 0") || !strings.Contains(out, "fresh_s = 0") {
		t.Errorf("%s", out)
	}
}

func TestLinksAreOfTheSitesOwnHostAndEndOnlySigned(t *testing.T) {
	s := bed.Kestrel(t)
	if r := bed.Run(t, s, "link", "kestrel/catalogue/mark.png", "width=20", "--lasts", "24h"); r.Code != 2 || r.Out != "" || !strings.Contains(r.Err, "--sign") {
		t.Errorf("--lasts without --sign: %d %q %q", r.Code, r.Out, r.Err)
	}
	bed.Must(t, s, "site", "set", "kestrel", "--hosts", "img.kestrel.test")
	bed.Must(t, s, "key", "add", "kestrel", "spring")
	t.Setenv("HTTP_PROXY", s.Base) // the host's name leads to the service
	t.Setenv("http_proxy", s.Base)
	for _, args := range [][]string{{"width=20"}, {"width=20", "--sign", "spring", "--lasts", "1h"}} {
		out := strings.TrimSpace(bed.Must(t, s, append([]string{"link", "kestrel/catalogue/mark.png", "--server", "http://img.kestrel.test"}, args...)...))
		path, own := strings.CutPrefix(out, "http://img.kestrel.test/catalogue/")
		if !own {
			t.Errorf("%v: %s", args, out)
			continue
		}
		if a := s.Get(t, "/catalogue/"+path, "Host", "img.kestrel.test", "Authorization", ""); a.StatusCode != 200 {
			t.Errorf("%s: %d %s", out, a.StatusCode, a.Data)
		}
	}
	// Asked for at another address, it still writes the site's own host, unless another is wanted.
	if out := strings.TrimSpace(bed.Must(t, s, "link", "kestrel/catalogue/mark.png", "width=20")); out != "https://img.kestrel.test/catalogue/mark.png?width=20" {
		t.Errorf("at another address: %s", out)
	}
	if out := strings.TrimSpace(bed.Must(t, s, "link", "kestrel/catalogue/mark.png", "width=20", "--base", "https://cdn.kestrel.test/")); out != "https://cdn.kestrel.test/kestrel/catalogue/mark.png?width=20" {
		t.Errorf("with another base: %s", out)
	}
	if out := bed.Must(t, s, "markup", "kestrel/catalogue/mark.png", "--slot", "width: 64px", "--decorative"); !strings.Contains(out, `src="https://img.kestrel.test/catalogue/mark.png?`) {
		t.Errorf("markup: %s", out)
	}
}

func TestAnotherSecretKeyIsNoticedAtTheStart(t *testing.T) {
	t.Parallel()
	database := bed.Database(t)
	s := bed.ServeOn(t, database)
	bed.Must(t, s, "site", "add", "kestrel")
	bed.Must(t, s, "key", "add", "kestrel", "spring")
	s.Stop()
	p := testbed.Start(t, bed.Binary, []string{"serve", "--listen", "127.0.0.1:0"}, []string{"ECHOLANE_DATABASE_URL=" + database, "ECHOLANE_SECRET_KEY=AAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA="})
	<-p.Ended()
	if p.Cmd.ProcessState.ExitCode() != 1 || !strings.Contains(p.Said(), "ECHOLANE_SECRET_KEY") {
		t.Errorf("%d %s", p.Cmd.ProcessState.ExitCode(), p.Said())
	}
	none := testbed.Start(t, bed.Binary, []string{"serve", "--listen", "127.0.0.1:0"}, []string{"ECHOLANE_DATABASE_URL=" + database, "ECHOLANE_DRAIN_DELAY=0s"})
	testbed.Eventually(t, "a service without a key says so", func() error {
		if !strings.Contains(none.Said(), "no key to keep secrets under") || !strings.Contains(none.Said(), "msg=serving") {
			return errNotYet
		}
		return nil
	})
	none.Stop()
	if none.Cmd.ProcessState.ExitCode() != 0 {
		t.Errorf("told to end, it ends with %d", none.Cmd.ProcessState.ExitCode())
	}
}

func TestTheEaselOpensSourcesThatAreWholeURLs(t *testing.T) {
	t.Parallel()
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.ServeFile(w, r, filepath.Join(bed.Pictures, "mark.png"))
	}))
	defer origin.Close()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/wide", "--allow", origin.URL+"/*", "--private", "127.0.0.1")
	source := origin.URL + "/pictures/mark.png?id=7&size=large"
	p := enter(t, s)
	// One that nobody asked for yet opens by its URL.
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/wide"))
	p.says("No sources are known in this lane yet.")
	p.must(p.Do(chromedp.SendKeys(chromedp.CSS("input[type=search]"), source+"\r")))
	p.until(`location.pathname.includes("http%3A%2F%2F") && document.querySelector('[data-testid=saving]')`)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/wide/" + url.QueryEscape(source) + "?width=60"))
	p.until(`[...document.images].some(i => i.alt !== "" && i.complete && i.naturalWidth > 0)`)
	p.until(`document.querySelector('[data-testid=saving]')`)
	p.until(`!document.body.textContent.includes("Source's URL not understood")`)
	asked := func() string {
		return p.text(`JSON.stringify(performance.getEntriesByType("resource").map(e => e.name).filter(n => n.includes("/kestrel/wide/")))`)
	}
	if got := asked(); !strings.Contains(got, "/kestrel/wide/http%3A%2F%2F") {
		t.Errorf("the Easel asks for %s", got)
	}
	// One that was asked for stands in the list, and opens from there.
	testbed.Eventually(t, "the source is listed", func() error {
		if a := s.Get(t, "/-/api/v1/sites/kestrel/lanes/wide/sources"); !strings.Contains(string(a.Data), "mark.png") {
			return errNotYet
		}
		return nil
	})
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/wide"))
	p.until(`[...document.querySelectorAll("ul[aria-label=Sources] button")].some(e => e.textContent.includes("mark.png"))`)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("ul[aria-label=Sources] button")].find(e => e.textContent.includes("mark.png")).click()`)))
	p.until(`location.pathname.includes("http%3A%2F%2F") && document.querySelector('[data-testid=saving]')`)
}
