package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"mime/multipart"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"echolane/core/policy"
	"echolane/core/render"
	"echolane/demo/origin"
	"echolane/demo/store"
	"echolane/internal/testbed"
	"echolane/service/api"
	"echolane/service/delivery"
	"echolane/service/problem"
	"echolane/service/source"
)

// shopAt starts the made-up shop, for a web lane.
func shopAt(t *testing.T) string {
	t.Helper()
	s := httptest.NewServer(origin.New(bed.Pictures, ""))
	t.Cleanup(s.Close)
	return s.URL
}

func element(text string) string { return strings.ReplaceAll(url.QueryEscape(text), "+", "%20") }

func TestAWebLaneServesWhatItsRulesLet(t *testing.T) {
	t.Parallel()
	shop := shopAt(t)
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", shop+"/press/*", "--deny", shop+"/press/private/*", "--private", "127.0.0.1")
	r := bed.Run(t, s, "lane", "add", "kestrel/based", "--base", shop+"/press/", "--allow", shop+"/press/*", "--private", "127.0.0.1")
	if r.Code != 0 || !strings.Contains(r.Err, "warning: ") || !strings.Contains(r.Err, "plain http") {
		t.Errorf("a rule for plain http: %d %s", r.Code, r.Err)
	}
	for path, want := range map[string]int{
		"/kestrel/press/" + element(shop+"/press/mark.png") + "?width=64":     200,
		"/kestrel/based/mark.png?width=64":                                    200,
		"/kestrel/press/" + element(shop+"/press/private/mark.png"):           403,
		"/kestrel/press/" + element(shop+"/pictures/mark.png"):                403,
		"/kestrel/press/" + element(shop+"/press/none.png"):                   404,
		"/kestrel/press/" + shop + "/press/mark.png":                          400, // not encoded: more than one element
		"/kestrel/based/../pictures/mark.png":                                 400,
		"/kestrel/press/" + element("http://u:p@"+shop[7:]+"/press/mark.png"): 400,
	} {
		if a := s.Get(t, path); a.StatusCode != want {
			t.Errorf("%s: %d %s, want %d", path, a.StatusCode, a.Data, want)
		}
	}
	// The walk is told, and the mend works as pasted.
	out := bed.Run(t, s, "lane", "test", "kestrel/press", shop+"/pictures/mark.png")
	if out.Code != 1 || !strings.Contains(out.Out, "no rule is left") || !strings.Contains(out.Err, "source-not-allowed") {
		t.Errorf("lane test: %d %s%s", out.Code, out.Out, out.Err)
	}
	if out := bed.Must(t, s, "lane", "test", "kestrel/press", shop+"/press/mark.png"); !strings.Contains(out, "→  allow "+shop+"/press/*") || !strings.Contains(out, "800 × 800") {
		t.Errorf("lane test: %s", out)
	}
	// A path as it stands in a URL, such as a refusal's sample, goes into fetch and explain as it is.
	for _, path := range []string{"/kestrel/press/" + element(shop+"/press/mark.png"), "kestrel/press/" + shop + "/press/mark.png"} {
		if out := bed.Must(t, s, "fetch", path+"?width=64"); !strings.Contains(out, "64 × 64") {
			t.Errorf("fetch %s says:\n%s", path, out)
		}
	}
	no := s.Get(t, "/kestrel/press/"+element(shop+"/pictures/mark.png")).Problem(t)
	bed.Must(t, s, strings.Fields(strings.ReplaceAll(strings.TrimPrefix(no.Remedy, "echolane "), "'", ""))...)
	if a := s.Get(t, "/kestrel/press/"+element(shop+"/pictures/mark.png")+"?width=64"); a.StatusCode != 200 {
		t.Errorf("after the remedy: %d %s", a.StatusCode, a.Data)
	}
	// A rule that is taken back works at once, also for what is known already.
	bed.Must(t, s, "lane", "set", "kestrel/press", "--deny", shop+"/press/*")
	if a := s.Get(t, "/kestrel/press/"+element(shop+"/press/mark.png")+"?width=64"); a.StatusCode != 403 {
		t.Errorf("after a new deny rule: %d", a.StatusCode)
	}
	// Without the exception nothing on this machine is reached.
	bed.Must(t, s, "lane", "set", "kestrel/based", "--no-private", "127.0.0.1")
	if no := s.Get(t, "/kestrel/based/wind-chart.png").Problem(t); no.Reason != "address-not-public" {
		t.Errorf("%+v", no)
	}
}

func TestALaneThatLeadsBackToUsEnds(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/mirror", "--base", s.Base+"/kestrel/mirror/", "--allow", s.Base+"/*", "--private", "127.0.0.1")
	a := s.Get(t, "/kestrel/mirror/a.jpg")
	if no := a.Problem(t); a.StatusCode != 502 || !strings.Contains(no.Detail, "508") {
		t.Errorf("%d %+v", a.StatusCode, no)
	}
	out := bed.Must(t, s, "refusals")
	if !strings.Contains(out, "loop") {
		t.Errorf("refusals:\n%s", out)
	}
}

func TestABucketLane(t *testing.T) {
	t.Parallel()
	objects := &store.Store{Dir: t.TempDir(), AccessKey: "AKITE", SecretKey: "the-string-of-the-kite"}
	dir := filepath.Join(objects.Dir, "kites", "archive", "1962")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	data, err := os.ReadFile(filepath.Join(bed.Pictures, "archive-1962.jpg"))
	if err != nil {
		t.Fatal(err)
	}
	put := func(name string, data []byte) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(dir, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("launch day.jpg", data)
	server := httptest.NewServer(objects)
	defer server.Close()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/archive", "--bucket", "kites", "--prefix", "archive", "--endpoint", server.URL, "--private", "127.0.0.1", "--fresh", "1")
	if no := s.Get(t, "/kestrel/archive/1962/launch%20day.jpg").Problem(t); no.Reason != "origin-failed" || !strings.Contains(no.Remedy, "lane secret kestrel/archive") {
		t.Errorf("without credentials: %+v", no)
	}
	bed.Must(t, s, "lane", "secret", "kestrel/archive", "--access-key", "AKITE", "--secret-key", "the-string-of-the-kite")
	a := s.Get(t, "/kestrel/archive/1962/launch%20day.jpg?width=99")
	if a.StatusCode != 200 {
		t.Fatalf("with credentials: %d %s", a.StatusCode, a.Data)
	}
	if no := s.Get(t, "/kestrel/archive/1962/none.jpg").Problem(t); no.Reason != "no-such-source" {
		t.Errorf("%+v", no)
	}
	list := decoded[api.Page[struct{ Path string }]](t, s.Get(t, "/-/api/v1/sites/kestrel/lanes/archive/sources"), 200)
	if len(list.Items) != 1 || list.Items[0].Path != "1962/launch day.jpg" {
		t.Errorf("%+v", list)
	}
	// An upload lane may keep its sources there too.
	bed.Must(t, s, "lane", "add", "kestrel/incoming", "--upload", "--bucket", "kites", "--prefix", "incoming", "--endpoint", server.URL, "--private", "127.0.0.1")
	bed.Must(t, s, "lane", "secret", "kestrel/incoming", "--access-key", "AKITE", "--secret-key", "the-string-of-the-kite")
	for version, file := range []string{"mark.png", "sled-blue.jpg"} {
		var up api.Uploaded
		if err := json.Unmarshal([]byte(bed.Must(t, s, "upload", "put", filepath.Join(bed.Pictures, file), "kestrel/incoming/a/b.png", "--json")), &up); err != nil || up.Version != version+1 {
			t.Errorf("%+v, %v", up, err)
		}
	}
	if a := s.Get(t, "/kestrel/incoming/a/b.png?width=50"); a.StatusCode != 200 {
		t.Errorf("%d %s", a.StatusCode, a.Data)
	}
	// Its addresses are held to the same list as a web lane's.
	bed.Must(t, s, "lane", "add", "kestrel/closed", "--bucket", "kites", "--endpoint", server.URL)
	if no := s.Get(t, "/kestrel/closed/a.jpg").Problem(t); no.Reason != "address-not-public" {
		t.Errorf("%+v", no)
	}
	// Another object under the name is another variant, as soon as the lane looks again.
	other, err := os.ReadFile(filepath.Join(bed.Pictures, "sled-blue.jpg"))
	if err != nil {
		t.Fatal(err)
	}
	put("launch day.jpg", other)
	testbed.Eventually(t, "the new object is served", func() error {
		if b := s.Get(t, "/kestrel/archive/1962/launch%20day.jpg?width=99"); b.Header.Get("ETag") == a.Header.Get("ETag") {
			return errNotYet
		}
		return nil
	})
}

func TestPrivateSourcesAreShownAsTheLaneSays(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "key", "add", "kestrel", "k1")
	bed.Must(t, s, "lane", "set", "kestrel/catalogue", "--visibility", "signed")
	if no := s.Get(t, "/kestrel/catalogue/mark.png?width=64").Problem(t); no.Reason != "signature-needed" {
		t.Errorf("unsigned: %+v", no)
	}
	signed := func(args ...string) string {
		t.Helper()
		out := strings.TrimSpace(bed.Must(t, s, append([]string{"link", "kestrel/catalogue/spool-turned.jpg", "--sign", "k1"}, args...)...))
		return strings.TrimPrefix(out, s.Base)
	}
	link := signed("width=64", "--lasts", "1h")
	a := s.Get(t, link)
	if a.StatusCode != 200 || !strings.HasPrefix(a.Header.Get("Cache-Control"), "private, max-age=") || a.Header.Get("Content-Location") != link {
		t.Errorf("%d %v", a.StatusCode, a.Header)
	}
	if a := s.Get(t, strings.Replace(link, "width=64", "width=640", 1)); a.Problem(t).Reason != "signature-wrong" {
		t.Errorf("altered: %s", a.Data)
	}
	// The source itself: not unless the lane says so, and then without what it says of its making.
	down := signed("download=kite & twine")
	if a := s.Get(t, down); a.StatusCode != 200 || a.Header.Get("Cache-Status") == "Echo-Lane; fwd=bypass" {
		t.Errorf("a lane that doesn't show originals: %d %v", a.StatusCode, a.Header)
	}
	bed.Must(t, s, "lane", "set", "kestrel/catalogue", "--original", "download")
	a = s.Get(t, down)
	if a.StatusCode != 200 || a.Header.Get("Content-Disposition") != `attachment; filename="kite & twine.jpg"` || !strings.HasPrefix(a.Header.Get("Content-Security-Policy"), "sandbox") {
		t.Errorf("%d %v", a.StatusCode, a.Header)
	}
	source, err := os.ReadFile(filepath.Join(bed.Pictures, "spool-turned.jpg"))
	if err != nil {
		t.Fatal(err)
	}
	was, err := render.Probe(source)
	if err != nil {
		t.Fatal(err)
	}
	is, err := render.Probe(a.Data)
	if err != nil || is.Orientation != was.Orientation || is.W != was.W {
		t.Errorf("the download is %+v, the source %+v, %v", is, was, err)
	}
	bed.Must(t, s, "lane", "set", "kestrel/catalogue", "--metadata", "keep")
	if a := s.Get(t, down); !bytes.Equal(a.Data, source) {
		t.Errorf("kept whole it has %d bytes, the source %d", len(a.Data), len(source))
	}
	bed.Must(t, s, "key", "remove", "kestrel", "k1", "--yes")
	if no := s.Get(t, link).Problem(t); no.Reason != "key-unknown" {
		t.Errorf("with the key taken back: %+v", no)
	}
}

func TestSourcesAreUploaded(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	folder := filepath.Join(t.TempDir(), "incoming")
	bed.Must(t, s, "lane", "add", "kestrel/incoming", "--upload", "--folder", folder)
	mark, blue := filepath.Join(bed.Pictures, "mark.png"), filepath.Join(bed.Pictures, "sled-blue.jpg")
	var up api.Uploaded
	if err := json.Unmarshal([]byte(bed.Must(t, s, "upload", "put", mark, "kestrel/incoming/summer/the mark.png", "--json")), &up); err != nil {
		t.Fatal(err)
	}
	if up.Version != 1 || up.Facts.Width != 800 || !strings.HasPrefix(up.Facts.Placeholder, "data:image/webp;base64,") || len(up.Facts.Placeholder) > 600 || up.URL != "/kestrel/incoming/summer/the%20mark.png" {
		t.Errorf("%+v", up)
	}
	first := s.Get(t, up.URL+"?width=64")
	if first.StatusCode != 200 {
		t.Fatalf("%d %s", first.StatusCode, first.Data)
	}
	// The same again is no new version; other bytes are, and are served at once.
	for i, c := range []struct {
		file    string
		version int
	}{{mark, 1}, {blue, 2}, {mark, 3}} {
		if err := json.Unmarshal([]byte(bed.Must(t, s, "upload", "put", c.file, "kestrel/incoming/summer/the mark.png", "--json")), &up); err != nil || up.Version != c.version {
			t.Errorf("upload %d is version %d, want %d, %v", i, up.Version, c.version, err)
		}
	}
	if out := bed.Must(t, s, "upload", "list", "kestrel/incoming/summer/the mark.png"); strings.Count(out, "\n") != 4 {
		t.Errorf("versions:\n%s", out)
	}
	if out := bed.Must(t, s, "upload", "list", "kestrel/incoming"); !strings.Contains(out, "summer/the mark.png") {
		t.Errorf("list:\n%s", out)
	}
	back := filepath.Join(t.TempDir(), "back.png")
	bed.Must(t, s, "upload", "get", "kestrel/incoming/summer/the mark.png", "-o", back)
	want, _ := os.ReadFile(mark)
	if got, _ := os.ReadFile(back); !bytes.Equal(got, want) {
		t.Error("what comes back isn't what was put in")
	}
	// As a form, without a path.
	var form bytes.Buffer
	w := multipart.NewWriter(&form)
	if err := w.WriteField("note", "not the file"); err != nil {
		t.Fatal(err)
	}
	part, err := w.CreateFormFile("file", "chart.png")
	if err != nil {
		t.Fatal(err)
	}
	chart, err := os.ReadFile(filepath.Join(bed.Pictures, "wind-chart.png"))
	if err != nil {
		t.Fatal(err)
	}
	part.Write(chart)
	w.Close()
	a := s.Ask(t, "POST", "/-/api/v1/sites/kestrel/lanes/incoming/sources", &form, "Content-Type", w.FormDataContentType())
	if up := decoded[api.Uploaded](t, a, 201); up.Path != "chart.png" || up.Bytes != int64(len(chart)) {
		t.Errorf("%+v", up)
	}
	// A large one streams; what is too large, broken or elsewhere is refused.
	large, err := os.ReadFile(filepath.Join(bed.Pictures, "delta-red.jpg"))
	if err != nil {
		t.Fatal(err)
	}
	bed.Must(t, s, "lane", "set", "kestrel/incoming", "--source-bytes", fmt.Sprint(len(large)))
	put := func(path string, data []byte) testbed.Answer {
		return s.Ask(t, "POST", "/-/api/v1/sites/kestrel/lanes/incoming/sources?path="+path, bytes.NewReader(data))
	}
	if a := put("large.jpg", large); a.StatusCode != 201 {
		t.Errorf("a large one: %d %s", a.StatusCode, a.Data)
	}
	for _, c := range []struct {
		path   string
		data   []byte
		reason string
	}{
		{"larger.jpg", append(large[:len(large):len(large)], 0), "source-too-many-bytes"},
		{"text.jpg", []byte("no picture"), "not-an-image"},
		{"broken.svg", []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="9" <`), "source-broken"},
		{"cut.jpg", large[:len(large)/2], "source-truncated"},
		{"empty.jpg", nil, "source-truncated"},
		{"..%2Fout.png", chart, "bad-path"},
		{"", chart, "bad-path"},
	} {
		if no := put(c.path, c.data).Problem(t); string(no.Reason) != c.reason {
			t.Errorf("%s: %+v, want %s", c.path, no, c.reason)
		}
	}
	if a := s.Ask(t, "POST", "/-/api/v1/sites/kestrel/lanes/catalogue/sources?path=x.png", bytes.NewReader(chart)); a.StatusCode != 400 {
		t.Errorf("into a folder lane: %d", a.StatusCode)
	}
	bed.Must(t, s, "upload", "remove", "kestrel/incoming/chart.png", "--yes")
	testbed.Eventually(t, "what was removed is gone", func() error {
		if a := s.Get(t, "/kestrel/incoming/chart.png?width=5"); a.StatusCode != 404 {
			return fmt.Errorf("%d", a.StatusCode)
		}
		return nil
	})
	left := 0
	filepath.WalkDir(folder, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.Contains(p, "chart") {
			left++
		}
		return nil
	})
	if left > 0 {
		t.Errorf("%d files of what was removed are left", left)
	}
}

func TestPagesAreHeldToTheirOrigins(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	path := "/kestrel/catalogue/mark.png?width=64"
	open := s.Get(t, path, "Origin", "https://anybody.test")
	for name, want := range map[string]string{"Access-Control-Allow-Origin": "*", "Cross-Origin-Resource-Policy": "cross-origin", "Timing-Allow-Origin": "*", "Vary": "Accept"} {
		if got := open.Header.Get(name); got != want {
			t.Errorf("an open site: %s %q, want %q", name, got, want)
		}
	}
	bed.Must(t, s, "site", "set", "kestrel", "--pages", "https://www.kestrel.test", "--pages-silent", "refuse")
	for range 2 { // the second time from memory
		a := s.Get(t, path, "Sec-Fetch-Site", "cross-site", "Origin", "https://www.kestrel.test")
		if a.StatusCode != 200 {
			t.Fatalf("the site's own page: %d %s", a.StatusCode, a.Data)
		}
		for name, want := range map[string]string{
			"Access-Control-Allow-Origin": "https://www.kestrel.test", "Cross-Origin-Resource-Policy": "cross-origin", "Timing-Allow-Origin": "https://www.kestrel.test",
			"Vary": "Accept, Origin, Referer, Sec-Fetch-Site", "Cache-Control": "private, max-age=3600",
		} {
			if got := a.Header.Get(name); got != want {
				t.Errorf("%s: %q, want %q", name, got, want)
			}
		}
		for _, other := range [][]string{{"Origin", "https://evil.test"}, {"Referer", "https://evil.test/page"}, {"Sec-Fetch-Site", "cross-site"}, nil} {
			a := s.Get(t, path, other...)
			if no := a.Problem(t); a.StatusCode != 403 || no.Reason != "page-not-allowed" || a.Header.Get("Cache-Control") != "no-store" {
				t.Errorf("%v: %d %+v", other, a.StatusCode, no)
			}
		}
	}
	if a := s.Get(t, path, "Referer", "https://www.kestrel.test/shop"); a.StatusCode != 200 || a.Header.Get("Access-Control-Allow-Origin") != "https://www.kestrel.test" {
		t.Errorf("by referer: %d %v", a.StatusCode, a.Header)
	}
	out := bed.Run(t, s, "explain", strings.TrimPrefix(path, "/"), "--origin", "https://evil.test")
	if out.Code != 1 || !strings.Contains(out.Out, "pages.allow https://www.kestrel.test") || !strings.Contains(out.Err, "--add-page https://evil.test") {
		t.Errorf("explain: %d %s%s", out.Code, out.Out, out.Err)
	}
}

func TestASiteOnItsOwnHostName(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "site", "set", "kestrel", "--hosts", "img.kestrel.test")
	bed.Must(t, s, "site", "add", "other")
	a := s.Get(t, "/catalogue/mark.png?width=64", "Host", "img.kestrel.test")
	if a.StatusCode != 200 || a.Header.Get("Content-Location") != "/catalogue/mark.png?width=64" {
		t.Errorf("%d %v", a.StatusCode, a.Header)
	}
	if a := s.Get(t, "/catalogue/mark.png?width=64", "Host", "IMG.kestrel.test:8740"); a.StatusCode != 200 {
		t.Errorf("in capitals, with a port: %d", a.StatusCode)
	}
	if a := s.Get(t, "/catalogue/mark.png?width=64"); a.StatusCode != 404 {
		t.Errorf("without the host name: %d", a.StatusCode)
	}
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=64"); a.StatusCode != 200 {
		t.Errorf("by path: %d", a.StatusCode)
	}
}

func TestHowOftenAndHowMany(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t, "--proxies", "127.0.0.0/8")
	bed.Must(t, s, "site", "set", "kestrel", "--limit", "requests_per_second=2")
	from := func(client string) int {
		return s.Get(t, "/kestrel/catalogue/mark.png?width=64", "X-Forwarded-For", "203.0.113.99, "+client).StatusCode
	}
	counts := map[int]int{}
	for range 10 {
		counts[from("198.51.100.7")]++
	}
	if counts[200] < 2 || counts[429] < 5 {
		t.Errorf("ten requests of one client: %v", counts)
	}
	if got := from("198.51.100.8"); got != 200 {
		t.Errorf("another client: %d", got)
	}
	bed.Must(t, s, "site", "set", "kestrel", "--limit", "requests_per_second=0", "--limit", "variants_per_source=3")
	answers := map[int]int{}
	for w := 100; w < 110; w++ {
		a := s.Get(t, fmt.Sprintf("/kestrel/catalogue/wind-chart.png?width=%d", w))
		answers[a.StatusCode]++
		if a.StatusCode != 200 {
			if no := a.Problem(t); no.Reason != "too-many-variants" || no.Mend == nil {
				t.Errorf("%+v", no)
			}
		}
	}
	if answers[200] < 3 || answers[422] < 5 {
		t.Errorf("ten variants where three are allowed: %v", answers)
	}
	if a := s.Get(t, "/kestrel/catalogue/wind-chart.png?width=100"); a.StatusCode != 200 {
		t.Errorf("one that is there: %d", a.StatusCode)
	}
}

func TestRefusalsTeach(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "site", "set", "kestrel", "--rungs", "320,640")
	for range 5 {
		s.Get(t, "/kestrel/catalogue/mark.png?width=400")
	}
	for i := range 400 { // an attacker's many paths don't fill the table
		s.Get(t, fmt.Sprintf("/kestrel/catalogue/none-%d.png", i))
	}
	var list []api.Refusal
	if err := json.Unmarshal([]byte(bed.Must(t, s, "refusals", "kestrel", "--json")), &list); err != nil {
		t.Fatal(err)
	}
	var rung api.Refusal
	var total int64
	kinds := 0
	for _, r := range list {
		if r.Reason == "no-such-rung" {
			rung = r
		}
		if r.Reason == "no-such-source" {
			total += r.Count
			kinds++
		}
	}
	if rung.Count != 5 || rung.Asked != "400" || rung.Command != "echolane site set kestrel --add-rung 400" || rung.Sample == "" || rung.FirstAt.After(rung.LastAt) {
		t.Errorf("%+v", rung)
	}
	if total != 400 || kinds > 201 {
		t.Errorf("400 missing sources are %d in %d kinds", total, kinds)
	}
	id := fmt.Sprint(rung.ID)
	if out := bed.Must(t, s, "refusals", "mend", id, "--dry-run"); !strings.Contains(out, "320,640 → 320,400,640") {
		t.Errorf("mend --dry-run: %s", out)
	}
	if r := bed.Run(t, s, "refusals", "mend", id); r.Code != 2 || !strings.Contains(r.Err, "--yes") {
		t.Errorf("mending without being sure: %d %s", r.Code, r.Err)
	}
	bed.Must(t, s, "refusals", "mend", id, "--yes")
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=400"); a.StatusCode != 200 {
		t.Errorf("mended: %d", a.StatusCode)
	}
	if out := bed.Must(t, s, "site", "history", "kestrel"); !strings.Contains(out, "mended no-such-rung") {
		t.Errorf("history:\n%s", out)
	}
	bed.Must(t, s, "refusals", "forget", fmt.Sprint(list[len(list)-1].ID))
}

func TestExplainTellsTheWay(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "site", "set", "kestrel", "--rungs", "320,640", "--other-widths", "round-up")
	a := s.Get(t, "/kestrel/catalogue/mark.png?width=300&as=explain", "Accept", browserAccept)
	x := decoded[delivery.Explanation](t, a, 200)
	if x.Refusal != nil || x.Variant == nil || x.Variant.Width != 320 || x.Cache != "made" || x.Bytes == 0 || x.Address != "/kestrel/catalogue/mark.png?width=300" || !strings.HasPrefix(x.Resolved, "width=320&") {
		t.Errorf("%+v", x)
	}
	said := false
	for _, step := range x.Steps {
		said = said || step.Rule == "ladder" && strings.Contains(step.Note, "300 rounded to the rung 320")
	}
	if !said {
		t.Errorf("the ladder isn't told: %+v", x.Steps)
	}
	if x := decoded[delivery.Explanation](t, s.Get(t, "/kestrel/catalogue/mark.png?widht=300&as=explain"), 200); x.Refusal == nil || x.Refusal.Reason != "unknown-name" || !x.Steps[len(x.Steps)-1].Decided {
		t.Errorf("%+v", x)
	}
	if out := bed.Must(t, s, "explain", "kestrel/catalogue/mark.png?width=300"); !strings.Contains(out, "rounded to the rung 320") || !strings.Contains(out, "memory") {
		t.Errorf("explain:\n%s", out)
	}
}

func TestFactsTellWhatAPictureIs(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	a := s.Get(t, "/kestrel/catalogue/sled-blue.jpg?as=facts")
	f := decoded[source.Facts](t, a, 200)
	// The sled kite hangs right of the middle on white paper.
	if f.Width != 2560 || f.Height != 1600 || f.Type != "image/jpeg" || f.Subject == nil || f.Subject.X0 < 0.3 || f.Subject.X1 < 0.7 || f.Subject.X1 > 0.95 || len(f.Colour) != 7 {
		t.Errorf("%s", a.Data)
	}
	if len(f.Placeholder) > 600 || !strings.HasPrefix(f.Placeholder, "data:image/webp;base64,") {
		t.Errorf("the placeholder has %d bytes", len(f.Placeholder))
	}
	if again := s.Get(t, "/kestrel/catalogue/sled-blue.jpg?as=facts"); !strings.Contains(again.Header.Get("Cache-Status"), "hit") || again.Header.Get("ETag") != a.Header.Get("ETag") || again.Header.Get("Content-Type") != "application/json" {
		t.Errorf("asked again: %v", again.Header)
	}
	if no := s.Get(t, "/kestrel/catalogue/none.jpg?as=facts").Problem(t); no.Reason != "no-such-source" {
		t.Errorf("%+v", no)
	}
}

func TestLayersAreSourcesToo(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	folder := t.TempDir()
	put := func(file string) {
		t.Helper()
		data, err := os.ReadFile(filepath.Join(bed.Pictures, file))
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folder, "badge.png"), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	put("mark.png")
	bed.Must(t, s, "lane", "add", "kestrel/badges", "--folder", folder)
	const base = "/kestrel/catalogue/sled-blue.jpg?width=200&format=png"
	marked := base + "&after-content=url(badges/badge.png)&after-width=30%25&after-inset=auto+4%25+4%25+auto&after-mix-blend-mode=multiply"
	plain, first := s.Get(t, base), s.Get(t, marked)
	if first.StatusCode != 200 || first.Header.Get("ETag") == plain.Header.Get("ETag") {
		t.Fatalf("%d %s", first.StatusCode, first.Data)
	}
	if again := s.Get(t, marked); again.Header.Get("ETag") != first.Header.Get("ETag") || !strings.Contains(again.Header.Get("Cache-Status"), "hit") {
		t.Errorf("asked again: %v", again.Header)
	}
	// Another picture under the layer's name is another variant.
	put("wind-chart.png")
	testbed.Eventually(t, "the new layer is painted", func() error {
		if a := s.Get(t, marked); a.Header.Get("ETag") == first.Header.Get("ETag") {
			return errNotYet
		}
		return nil
	})
	for query, reason := range map[string]string{
		"after-content=url(badges/none.png)": "no-such-source", "after-content=url(nowhere/badge.png)": "no-such-lane", "background-image=url(badges/../../etc/passwd)": "bad-path",
		"after-content=%22kite+%EE%84%A3%22": "glyphs-missing", "after-content=url(badges/badge.png)&after-width=70000px": "variant-too-large",
	} {
		if no := s.Get(t, base+"&"+query).Problem(t); string(no.Reason) != reason || no.Remedy == "" {
			t.Errorf("%s: %+v, want %s", query, no, reason)
		}
	}
	if a := s.Get(t, base+"&after-content=%22Kites+%26+twine%22&after-font=bold+18px+sans-serif&after-color=white&after-background-color=navy&after-padding=4px&after-inset=auto+auto+8px+8px"); a.StatusCode != 200 {
		t.Errorf("a text: %d %s", a.StatusCode, a.Data)
	}
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=200&height=120&object-fit=contain&background-image=url(catalogue/sled-blue.jpg)&format=jpeg"); a.StatusCode != 200 {
		t.Errorf("a ground: %d %s", a.StatusCode, a.Data)
	}
	bed.Must(t, s, "lane", "set", "kestrel/badges", "--visibility", "signed")
	if no := s.Get(t, marked).Problem(t); no.Reason != "signature-needed" {
		t.Errorf("a layer from a lane for signed links: %+v", no)
	}
}

// Each reason that the service can give is given once, through the running service, and carries the status
// that the list says, a title and a way out.
func TestEveryReasonIsGiven(t *testing.T) {
	t.Parallel()
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/500.jpg":
			w.WriteHeader(500)
		case "/around.jpg":
			http.Redirect(w, r, "/around.jpg", 302)
		case "/slow.jpg":
			<-r.Context().Done()
		}
	}))
	defer origin.Close()
	shop, s := origin.URL, bed.Kestrel(t)
	folder := t.TempDir()
	gif, err := os.ReadFile(filepath.Join(bed.Pictures, "launch.gif"))
	if err != nil {
		t.Fatal(err)
	}
	png, err := os.ReadFile(filepath.Join(bed.Pictures, "mark.png"))
	if err != nil {
		t.Fatal(err)
	}
	broken := bytes.Clone(png)
	copy(broken[200:], make([]byte, 64))
	for name, data := range map[string][]byte{"a.gif": gif, "broken.png": broken, "cut.png": png[:len(png)/2], "text.png": []byte("words"), "mark.png": png,
		"flat.svg": []byte(`<svg xmlns="http://www.w3.org/2000/svg" width="80" height="60"><rect width="80" height="60" fill="teal"/></svg>`)} {
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Symlink("/etc/hostname", filepath.Join(folder, "out.png")); err != nil {
		t.Fatal(err)
	}
	bed.Must(t, s, "lane", "add", "kestrel/press", "--base", shop+"/", "--allow", shop+"/*", "--deny", shop+"/private/*", "--private", "127.0.0.1")
	bed.Must(t, s, "lane", "add", "kestrel/wide", "--allow", "http://*:*/*")
	bed.Must(t, s, "site", "add", "strict", "--rungs", "100", "--shapes", "1", "--formats", "webp", "--paint", "classes", "--limit", "quality_ceiling=80", "--limit", "source_frames=1", "--limit", "variants_per_source=1")
	bed.Must(t, s, "lane", "add", "strict/lane", "--folder", folder)
	bed.Must(t, s, "site", "add", "small", "--limit", "source_bytes=1024", "--unsigned", "nothing", "--pages", "https://www.kestrel.test")
	bed.Must(t, s, "lane", "add", "small/lane", "--folder", folder)
	bed.Must(t, s, "key", "add", "small", "k1")
	bed.Must(t, s, "site", "add", "tiny", "--limit", "source_pixels=1000", "--month", "renders=1", "--limit", "requests_per_second=1")
	bed.Must(t, s, "lane", "add", "tiny/lane", "--folder", folder)
	bed.Must(t, s, "site", "add", "gone")
	gone := filepath.Join(t.TempDir(), "gone")
	os.Mkdir(gone, 0o755)
	bed.Must(t, s, "lane", "add", "gone/lane", "--folder", gone)
	os.Remove(gone)
	bed.Must(t, s, "site", "add", "tall", "--limit", "width=65535", "--limit", "height=65535", "--limit", "pixels=300000000")
	bed.Must(t, s, "lane", "add", "tall/lane", "--folder", folder)
	bed.Must(t, s, "site", "add", "moving", "--formats", "avif,webp,jpeg,png")
	bed.Must(t, s, "lane", "add", "moving/lane", "--folder", bed.Pictures)
	if a := s.Get(t, "/strict/lane/mark.png?width=100"); a.StatusCode != 200 {
		t.Fatalf("%d %s", a.StatusCode, a.Data)
	}
	testbed.Eventually(t, "the variant is written down", func() error {
		if a := s.Get(t, "/strict/lane/mark.png?width=100&aspect-ratio=1"); a.StatusCode == 200 {
			return errNotYet
		}
		return nil
	})
	given := map[string]bool{}
	expect := func(reason string, a testbed.Answer) {
		t.Helper()
		no := a.Problem(t)
		given[string(no.Reason)] = true
		listed := problem.Status(policy.Reason(reason))
		if string(no.Reason) != reason || a.StatusCode != listed || no.Status != listed || no.Title == "" || no.Remedy == "" || no.Detail == "" {
			t.Errorf("%s: %d %+v", reason, a.StatusCode, no)
		}
	}
	k, l := "/kestrel/catalogue/mark.png", "/strict/lane/mark.png"
	for reason, path := range map[string]string{
		"unknown-name": k + "?widht=1", "repeated": k + "?width=1&width=1", "empty": k + "?width=", "unparsable": k + "?width=x", "out-of-range": k + "?width=0",
		"not-decodable": k + "?width=%zz", "format-not-lossless": k + "?format=jpeg&quality=lossless", "bad-path": "/kestrel/catalogue/../x",
		"data-not-taken": k + "?data-title=x", "no-such-rung": l + "?width=101", "shape-not-delivered": l + "?width=100&height=50", "format-not-delivered": l + "?format=png",
		"only-by-class": l + "?opacity=.5", "quality-not-delivered": l + "?quality=90", "source-too-many-frames": "/strict/lane/a.gif", "too-many-variants": l + "?width=100&quality=71",
		"no-such-page": "/-/nothing", "no-such-site": "/nobody/a/b", "no-such-lane": "/kestrel/none/b", "no-such-source": "/kestrel/catalogue/none.png", "outside-folder": "/strict/lane/out.png",
		"not-an-image": "/strict/lane/text.png", "source-broken": "/strict/lane/broken.png", "source-truncated": "/strict/lane/cut.png", "source-too-many-pixels": "/tiny/lane/mark.png",
		"signature-needed": "/small/lane/mark.png", "signature-wrong": "/small/lane/mark.png?keyid=k1&signature=abc", "key-unknown": "/small/lane/mark.png?keyid=k2&signature=abc",
		"link-expired": k + "?expires=2020-01-01T00:00:00Z", "glyphs-missing": k + "?after-content=%22%EE%84%A3%22", "nothing-left": k + "?xywh=900,0,10,10",
		"erased-too-much": k + "?erase=0,0,9999,9999", "no-clear-subject": "/tall/lane/flat.svg?mask-image=subject", "variant-too-large": k + "?width=8000&height=8000&grow=yes",
		"source-denied": "/kestrel/press/private/a.jpg", "source-not-allowed": "/kestrel/wide/https%3A%2F%2Fa.test%2Fb.jpg", "bad-source-url": "/kestrel/wide/ftp%3A%2F%2Fa.test%2Fb.jpg",
		"address-not-public": "/kestrel/wide/http%3A%2F%2F10.0.0.1%2Fb.jpg", "origin-failed": "/kestrel/press/500.jpg", "too-many-redirects": "/kestrel/press/around.jpg", "origin-slow": "/kestrel/press/slow.jpg",
		"budget-out-of-reach": k + "?width=300&format=webp&budget=100", "lane-unreachable": "/gone/lane/a.png", "no-such-class": k + "?class=nowhere", "too-large-for-format": "/tall/lane/mark.png?width=20000&height=100&grow=yes&format=webp",
	} {
		expect(reason, s.Get(t, path))
	}
	signed := strings.TrimPrefix(strings.TrimSpace(bed.Must(t, s, "link", "small/lane/mark.png", "--sign", "k1")), s.Base)
	expect("source-too-many-bytes", s.Get(t, signed))
	expect("page-not-allowed", s.Get(t, signed, "Origin", "https://evil.test"))
	for range 4 {
		if a := s.Get(t, "/tiny/lane/mark.png"); a.StatusCode == 429 {
			expect("too-many-requests", a)
			break
		}
	}
	bed.Must(t, s, "site", "set", "tiny", "--limit", "source_pixels=1000000", "--limit", "requests_per_second=0")
	s.Get(t, "/tiny/lane/mark.png?width=5")
	expect("month-used-up", s.Get(t, "/tiny/lane/mark.png?width=6"))
	expect("loop", s.Get(t, k, "CDN-Loop", "someone, "+loopName(t, s)+"; v=1"))
	expect("method-not-allowed", s.Ask(t, "POST", k, nil))
	api := "/-/api/v1"
	expect("bad-request", s.Ask(t, "POST", api+"/sites", strings.NewReader("{")))
	expect("bad-settings", s.Ask(t, "POST", api+"/sites", strings.NewReader(`{"site": "X"}`)))
	expect("exists", s.Ask(t, "POST", api+"/sites", strings.NewReader(`{"site": "kestrel"}`)))
	expect("if-match-needed", s.Ask(t, "DELETE", api+"/sites/kestrel", nil))
	expect("changed-meanwhile", s.Ask(t, "DELETE", api+"/sites/kestrel", nil, "If-Match", `"999"`))
	expect("no-such-thing", s.Ask(t, "DELETE", api+"/tokens/999", nil))
	expect("not-signed-in", s.Get(t, api+"/sites", "Authorization", ""))
	expect("wrong-credentials", s.Get(t, api+"/sites", "Authorization", "Bearer x"))
	expect("cross-site", s.Ask(t, "POST", api+"/session", strings.NewReader("{}"), "Authorization", "", "Sec-Fetch-Site", "cross-site"))
	reader := strings.TrimSpace(bed.Must(t, s, "token", "add", "reader"))
	expect("not-permitted", s.Ask(t, "POST", api+"/sites", strings.NewReader(`{"site": "y"}`), "Authorization", "Bearer "+reader))

	expect("no-such-version", s.Get(t, k+"?width=20&digest="+strings.Repeat("a", 22)))
	k20 := k + "?width=20&after-content=%22" + strings.Repeat("a", 13<<10) + "%22"
	expect("uri-too-long", s.Get(t, k20))
	expect("fields-too-large", s.Get(t, k, "Cookie", strings.Repeat("a", 20<<10)))

	// These have tests of their own, since they take a worker, a disk, a database or a password apart.
	elsewhere := map[string]bool{
		"render-too-slow": true, "render-too-much": true, "busy": true, // service/workshop
		"source-unreadable": true, "encoding-failed": true, "internal": true, // what only failing hardware or a bug brings about
		"class-in-use": true, "database-away": true, "secret-missing": true, "too-many-tries": true, "would-shut-out": true, // in this package
		"stopping": true, "worker-died": true, "source-set-aside": true, "request-too-slow": true, // service/app
	}
	for _, r := range policy.Reasons {
		if !given[string(r.Reason)] && !elsewhere[string(r.Reason)] {
			t.Errorf("%s was never given", r.Reason)
		}
	}
}

// loopName is what the service calls itself in CDN-Loop, heard from what it sends to an origin.
func loopName(t *testing.T, s *testbed.Process) string {
	t.Helper()
	heard := make(chan string, 1)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	listener := &http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		select {
		case heard <- r.Header.Get("CDN-Loop"):
		default:
		}
		w.WriteHeader(404)
	})}
	go listener.Serve(l)
	defer listener.Close()
	base := "http://" + l.Addr().String() + "/"
	bed.Must(t, s, "lane", "add", "kestrel/listen", "--base", base, "--allow", base+"*", "--private", "127.0.0.1")
	s.Get(t, "/kestrel/listen/a.jpg")
	return <-heard
}
