package delivery

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/service/lane"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

func TestTheWayOfARequest(t *testing.T) {
	s := newStand(t)
	s.put("text.png", "words")
	s.put("drawing.svg", "svg")
	s.put("many.gif", "10x10 900\n")
	s.put("huge.png", "60000x60000\n")
	hidden := 0
	s.settings.set(t,
		s.site("kestrel", nil),
		s.site("hosted", func(d *policy.Document) { d.Hosts = []string{"img.hosted.test"} }),
		s.site("ladder", func(d *policy.Document) { d.Ladder.Rungs = []int{100, 200} }),
		s.site("shapes", func(d *policy.Document) { d.Shapes = []string{"1"} }),
		s.site("small", func(d *policy.Document) { d.Limits.Width = 100 }),
		s.site("few", func(d *policy.Document) { d.Limits.SourcePixels = 1000 }),
		s.site("pages", func(d *policy.Document) { d.Pages.Allow = []string{"https://shop.test"}; d.Pages.Silent = "refuse" }),
		s.site("signed", func(d *policy.Document) { d.Lanes[0].Visibility = "signed" }),
		s.site("floor", func(d *policy.Document) { d.Limits.QualityFloor = 50 }),
		s.site("classes", func(d *policy.Document) {
			d.Sheet = "* { quality: 72 } .tile { width: 50px }"
			d.Paint, d.Grow = "classes", "classes"
		}),
		s.site("svg", func(d *policy.Document) { d.Lanes[0].SVG = "untouched" }),
		s.site("nosvg", func(d *policy.Document) { d.Lanes[0].SVG = "refuse" }),
		s.site("webp", func(d *policy.Document) { d.Formats = []string{"webp"} }),
		s.site("gone", func(d *policy.Document) { d.Lanes[0].Folder = "/nowhere/at/all"; d.Lanes[0].FreshS = &hidden }),
		s.site("web", func(d *policy.Document) {
			d.Lanes = []policy.Lane{{Name: "w", Kind: "web", Allow: []string{"https://photos.test/*"}, Deny: []string{"https://photos.test/private/*"}}}
			d.Complete(lane.Described)
		}),
	)
	for _, c := range []struct{ uri, fields, want string }{
		{"/kestrel/f/kite.png?width=60", "", "200"},
		{"/kestrel/f/kite.png", "", "200"},
		{"/kestrel/f/kite.png?width=60&as=facts", "", "200"},
		{"/kestrel/f/kite.png?width=60&as=placeholder", "", "200"},
		{"/kestrel/f/kite.png?width=60&as=explain", "", "200"},
		{"http://any.test/kestrel/f/kite.png?width=60", "", "200"},
		{"/kestrel/f/KITE.png", "", "404 no-such-source"},
		{"/kestrel/f/none.png?as=facts", "", "404 no-such-source"},
		{"/kestrel/f/none.png?as=explain", "", "200"},
		{"/kestrel/g/kite.png", "", "404 no-such-lane"},
		{"/kestrle/f/kite.png", "", "404 no-such-site"},
		{"/", "", "404 no-such-site"},
		{"/kestrel", "", "404 no-such-lane"},
		{"/kestrel/f", "", "400 bad-path"},
		{"/kestrel/f/", "", "400 bad-path"},
		{"/kestrel/f/../kite.png", "", "400 bad-path"},
		{"/kestrel/f/a%00b.png", "", "400 bad-path"},
		{"/kestrel/f/a%ffb.png", "", "400 bad-path"},
		{"/kestrel/f/a%5cb.png", "", "400 bad-path"},
		{"/kestrel/f/%zz.png", "", "400 bad-path"},
		{"/kestrel/f/kite.png?widht=60", "", "400 unknown-name"},
		{"/kestrel/f/kite.png?width=60&width=60", "", "400 repeated"},
		{"/kestrel/f/kite.png?width=", "", "400 empty"},
		{"/kestrel/f/kite.png?width=abc", "", "400 unparsable"},
		{"/kestrel/f/kite.png?width=%00", "", "400 unparsable"},
		{"/kestrel/f/kite.png?width=0", "", "400 out-of-range"},
		{"/kestrel/f/kite.png?width=%z", "", "400 not-decodable"},
		{"/kestrel/f/kite.png?format=jpeg&quality=lossless", "", "400 format-not-lossless"},
		{"/kestrel/f/kite.png?xywh=700,0,10,10", "", "422 nothing-left"},
		{"/kestrel/f/kite.png?width=9000&height=9000&grow=yes", "", "422 variant-too-large"},
		{"/kestrel/f/kite.png?expires=2020-01-01T00:00:00Z", "", "403 link-expired"},
		{"/kestrel/f/kite.png?keyid=k&signature=abc", "", "403 key-unknown"},
		{"/kestrel/f/kite.png?keyid=k", "", "403 signature-needed"},
		{"/kestrel/f/kite.png?class=none", "", "404 no-such-class"},
		{"/kestrel/f/kite.png?after-content=url(f/none.png)", "", "404 no-such-source"},
		{"/kestrel/f/kite.png?after-content=url(g/kite.png)", "", "404 no-such-lane"},
		{"/kestrel/f/kite.png?after-content=url(f/../x.png)", "", "400 bad-path"},
		{"/kestrel/f/kite.png?after-content=url(f/kite.png)", "", "200"},
		{"/kestrel/f/kite.png?after-content=url(f/text.png)", "", "422 not-an-image"},
		{"/kestrel/f/kite.png?after-content=url(f/drawing.svg)", "", "200"},
		{"/nosvg/f/kite.png?after-content=url(f/drawing.svg)", "", "422 not-an-image"},
		{"/kestrel/f/kite.png?after-content=url(f/huge.png)", "", "422 source-too-many-pixels"},
		{"/kestrel/f/text.png?width=60", "", "422 not-an-image"},
		{"/kestrel/f/text.png?as=facts", "", "422 not-an-image"},
		{"/kestrel/f/drawing.svg", "", "200"},
		{"/nosvg/f/drawing.svg", "", "422 not-an-image"},
		{"/kestrel/f/many.gif?width=5", "", "422 source-too-many-frames"},
		{"/kestrel/f/huge.png?width=5", "", "422 source-too-many-pixels"},
		{"/kestrel/f/huge.png?as=facts", "", "422 source-too-many-pixels"},
		{"/svg/f/drawing.svg", "", "200"},
		{"/svg/f/drawing.svg?width=5", "", "200"},
		{"/svg/f/drawing.svg?as=facts", "", "200"},
		{"/hosted/f/kite.png?width=60", "", "200"},
		{"/f/kite.png?width=60", "Host img.hosted.test", "200"},
		{"/f/kite.png?width=60", "Host IMG.hosted.test:8740", "200"},
		{"/hosted/f/kite.png?width=60", "Host img.hosted.test", "404 no-such-lane"},
		{"/ladder/f/kite.png?width=100", "", "200"},
		{"/ladder/f/kite.png?width=101", "", "400 no-such-rung"},
		{"/ladder/f/kite.png?width=50&resolution=2x", "", "200"},
		{"/ladder/f/kite.png?height=101", "", "400 no-such-rung"},
		{"/shapes/f/kite.png?width=60&height=60", "", "200"},
		{"/shapes/f/kite.png?width=60&height=30", "", "400 shape-not-delivered"},
		{"/small/f/kite.png?width=100", "", "200"},
		{"/small/f/kite.png?width=101", "", "422 variant-too-large"},
		{"/small/f/kite.png", "", "422 variant-too-large"},
		{"/small/f/kite.png?height=80", "", "422 variant-too-large"},
		{"/small/f/kite.png?as=facts", "", "200"},
		{"/few/f/kite.png?width=5", "", "422 source-too-many-pixels"},
		{"/pages/f/kite.png?width=5", "", "403 page-not-allowed"},
		{"/pages/f/kite.png?width=5", "Origin https://shop.test", "200"},
		{"/pages/f/kite.png?width=5", "Origin https://evil.test", "403 page-not-allowed"},
		{"/pages/f/kite.png?width=5", "Referer https://shop.test/a", "200"},
		{"/pages/f/kite.png?width=5", "Sec-Fetch-Site same-origin", "200"},
		{"/pages/f/kite.png?width=5", "Sec-Fetch-Site cross-site", "403 page-not-allowed"},
		{"/signed/f/kite.png?width=5", "", "403 signature-needed"},
		{"/signed/f/kite.png?width=5&as=facts", "", "403 signature-needed"},
		{"/floor/f/kite.png?quality=40", "", "422 quality-not-delivered"},
		{"/floor/f/kite.png?quality=60", "", "200"},
		{"/classes/f/kite.png?class=tile", "", "200"},
		{"/classes/f/kite.png?opacity=.5", "", "403 only-by-class"},
		{"/classes/f/kite.png?grow=yes", "", "403 only-by-class"},
		{"/webp/f/kite.png?format=png", "", "403 format-not-delivered"},
		{"/gone/f/kite.png", "", "502 lane-unreachable"},
		{"/web/w/https%3A%2F%2Fother.test%2Fa.jpg", "", "403 source-not-allowed"},
		{"/web/w/https%3A%2F%2Fphotos.test%2Fprivate%2Fa.jpg", "", "403 source-denied"},
		{"/web/w/https%3A%2F%2Fphotos.test%2F..%252fprivate%252fa.jpg", "", "400 bad-source-url"},
		{"/web/w/ftp%3A%2F%2Fphotos.test%2Fa.jpg", "", "400 bad-source-url"},
		{"/web/w/https%3A%2F%2Fphotos.test%2Fa%FFb", "", "400 bad-path"},
		{"/web/w/https://photos.test/a.jpg", "", "400 bad-source-url"},
		{"/kestrel/f/kite.png?width=60", "CDN-Loop echolane-test", "508 loop"},
		{"/kestrel/f/kite.png?width=60", "CDN-Loop other", "200"},
	} {
		var fields []string
		if c.fields != "" {
			name, value, _ := strings.Cut(c.fields, " ")
			fields = []string{name, value}
		}
		a := s.ask(c.uri, fields...)
		if got := outcome(a); got != c.want {
			t.Errorf("%s %s: %s, want %s: %.200s", c.uri, c.fields, got, c.want, a.Response.Body())
		}
		if a.Response.StatusCode() >= 400 {
			if field(a, "Cache-Control") != "no-store" || !strings.HasPrefix(field(a, "Cache-Status"), "Echo-Lane; detail=") {
				t.Errorf("%s: %q, %q", c.uri, field(a, "Cache-Control"), field(a, "Cache-Status"))
			}
		}
	}
	// Every line of a list field counts.
	for _, c := range []struct {
		fields []string
		want   string
	}{
		{[]string{"CDN-Loop", "a", "CDN-Loop", "echolane-test;v=1"}, "508 loop"},
		{[]string{"If-None-Match", `"x"`, "If-None-Match", field(s.ask("/kestrel/f/kite.png?width=60"), "Etag")}, "304"},
		{[]string{"If-None-Match", `"a,b", W/` + field(s.ask("/kestrel/f/kite.png?width=60"), "Etag")}, "304"},
		{[]string{"If-None-Match", `*`}, "304"},
		{[]string{"If-None-Match", `"x", "y"`}, "200"},
		{[]string{"If-None-Match", `"unclosed`}, "200"},
	} {
		if got := outcome(s.ask("/kestrel/f/kite.png?width=60", c.fields...)); got != c.want {
			t.Errorf("%v: %s, want %s", c.fields, got, c.want)
		}
	}
	a, b := s.ask("/kestrel/f/kite.png?width=61", "Accept", "image/avif", "Accept", "image/webp"), s.ask("/kestrel/f/kite.png?width=61", "Accept", "image/avif,image/webp")
	if !bytes.Equal(a.Response.Body(), b.Response.Body()) || field(b, "Cache-Status") != "Echo-Lane; hit; detail=memory" {
		t.Errorf("two lines of Accept aren't one list: %s, %s", a.Response.Body(), b.Response.Body())
	}
}

func TestWhatASiteForbidsIsRefusedForWhatIsKeptToo(t *testing.T) {
	s := newStand(t)
	s.put("d.svg", "svg drawing")
	open := s.site("open", func(d *policy.Document) { d.Lanes[0].SVG = "untouched" })
	closed := s.site("closed", func(d *policy.Document) {
		d.Limits.Width = 100
		d.Limits.QualityFloor = 60
		d.Lanes[0].SVG = "refuse"
	})
	s.settings.set(t, open, closed)
	for _, c := range []struct{ path, want string }{
		{"d.svg", "422 not-an-image"}, {"kite.png?width=300", "422 variant-too-large"}, {"kite.png?width=90&quality=50", "422 quality-not-delivered"},
	} {
		if got := outcome(s.ask("/closed/f/" + c.path)); got != c.want {
			t.Errorf("%s before: %s", c.path, got)
		}
		if got := outcome(s.ask("/open/f/" + c.path)); got != "200" {
			t.Errorf("%s at the other site: %s", c.path, got)
		}
		if got := outcome(s.ask("/closed/f/" + c.path)); got != c.want {
			t.Errorf("%s is refused, and served from what another site had made: %s", c.path, got)
		}
	}
	// Equal bytes for equal requests are made once, and counted for both.
	made := s.shop.renders.Load()
	s.ask("/open/f/kite.png?width=80")
	if got := outcome(s.ask("/closed/f/kite.png?width=80")); got != "200" || s.shop.renders.Load() != made+1 {
		t.Errorf("%s, made %d times", got, s.shop.renders.Load()-made)
	}
	counted := map[string]int{}
	for _, v := range s.recorder.made {
		if strings.Contains(v.Declarations, "width=80") {
			counted[v.Site]++
		}
	}
	if counted["open"] != 1 || counted["closed"] != 1 {
		t.Errorf("the shared variant is counted %v", counted)
	}
	// A budget's outcome depends on the floor, so they don't share that.
	a, b := s.ask("/open/f/kite.png?width=80&budget=2kB"), s.ask("/closed/f/kite.png?width=80&budget=2kB")
	if bytes.Equal(a.Response.Body(), b.Response.Body()) {
		t.Errorf("sites of other floors share a variant with a budget: %s", a.Response.Body())
	}
	// A change of settings counts at once, for what was answered a moment ago.
	hot := "/open/f/d.svg"
	if got := outcome(s.ask(hot)); got != "200" {
		t.Fatal(got)
	}
	for what, change := range map[string]func(*policy.Document){
		"422 not-an-image":      func(d *policy.Document) { d.Lanes[0].SVG = "refuse" },
		"403 signature-needed":  func(d *policy.Document) { d.Lanes[0].Visibility = "signed" },
		"403 page-not-allowed":  func(d *policy.Document) { d.Pages.Allow, d.Pages.Silent = []string{"https://a.test"}, "refuse" },
		"404 no-such-lane":      func(d *policy.Document) { d.Lanes[0].Name = "g" },
		"403 signature-needed ": func(d *policy.Document) { d.Signing.Unsigned = "nothing" },
	} {
		s.settings.set(t, open)
		if got := outcome(s.ask(hot)); got != "200" {
			t.Errorf("set back: %s", got)
		}
		next := open.Clone()
		change(&next)
		s.settings.set(t, next)
		if got := outcome(s.ask(hot)); got != strings.TrimSpace(what) {
			t.Errorf("after the change: %s, want %s", got, what)
		}
	}
}

func TestCacheControl(t *testing.T) {
	const now = 1_000_000
	for _, c := range []struct {
		name                    string
		c                       control
		provisional, restricted bool
		want                    string
	}{
		{"public", control{maxAge: 3600}, false, false, "public, max-age=3600, stale-while-revalidate=86400"},
		{"public, never kept", control{}, false, false, "public, max-age=0"},
		{"public, provisional", control{maxAge: 3600}, true, false, "public, max-age=5"},
		{"public, provisional, kept shorter", control{maxAge: 2}, true, false, "public, max-age=2"},
		{"signed", control{maxAge: 3600, signed: true}, false, false, "private, max-age=3600"},
		{"signed, provisional", control{maxAge: 3600, signed: true}, true, false, "private, max-age=5"},
		{"signed, zero", control{signed: true}, false, false, "private, max-age=0"},
		{"restricted", control{maxAge: 3600}, false, true, "private, max-age=3600"},
		{"restricted, provisional", control{maxAge: 3600}, true, true, "private, max-age=5"},
		{"ends", control{maxAge: 3600, expires: now + 60}, false, false, "public, max-age=60"},
		{"ends late", control{maxAge: 3600, expires: now + 9999}, false, false, "public, max-age=3600"},
		{"ends, provisional", control{maxAge: 3600, expires: now + 60}, true, false, "public, max-age=5"},
		{"ends in a moment, provisional", control{maxAge: 3600, expires: now + 2}, true, false, "public, max-age=2"},
		{"has ended", control{maxAge: 3600, expires: now - 60}, false, false, "public, max-age=0"},
		{"ends, signed", control{maxAge: 3600, expires: now + 60, signed: true}, false, false, "private, max-age=60"},
		{"ends, signed, provisional", control{maxAge: 3600, expires: now + 60, signed: true}, true, false, "private, max-age=5"},
		{"ends, restricted, provisional", control{maxAge: 3600, expires: now + 60}, true, true, "private, max-age=5"},
		{"the origin says private", control{maxAge: 3600, sharing: source.Private}, false, false, "private, max-age=3600"},
		{"the origin says private, provisional", control{maxAge: 3600, sharing: source.Private}, true, false, "private, max-age=5"},
		{"the origin says no-store", control{maxAge: 3600, sharing: source.NoStore}, false, false, "no-store"},
		{"no-store wins over all", control{maxAge: 3600, sharing: source.NoStore, signed: true, expires: now + 9}, true, true, "no-store"},
	} {
		if got := c.c.text(c.provisional, c.restricted, now); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func TestProvisionalAnswersAreShortLivedEverywhere(t *testing.T) {
	s := newStand(t)
	s.shop.provisional = true
	s.settings.keys = map[string]string{policy.KeySecret("k"): strings.Repeat("s", 32)}
	later := time.Now().Add(time.Hour).UTC().Format("2006-01-02T15:04:05Z")
	s.settings.set(t,
		s.site("kestrel", nil),
		s.site("signed", func(d *policy.Document) { d.Lanes[0].Visibility = "signed" }),
		s.site("pages", func(d *policy.Document) { d.Pages.Allow = []string{"https://shop.test"} }))
	hold := make(chan struct{})
	for uri, want := range map[string]string{
		"/kestrel/f/kite.png?width=60": "public, max-age=5", "/kestrel/f/kite.png?width=61&expires=" + later: "public, max-age=5",
		"/pages/f/kite.png?width=62": "private, max-age=5", sign(s, "/signed/f/kite.png?width=63&keyid=k"): "private, max-age=5",
	} {
		a := s.ask(uri)
		if got := field(a, "Cache-Control"); got != want || outcome(a) != "200" {
			t.Errorf("%s: %s %q, want %q", uri, outcome(a), got, want)
		}
	}
	close(hold)
	eventually(t, "what is kept takes its place", func() bool {
		return strings.Contains(field(s.ask("/kestrel/f/kite.png?width=60"), "Cache-Control"), "max-age=3600")
	})
}

func sign(s *stand, uri string) string {
	site, _, _ := strings.Cut(strings.TrimPrefix(uri, "/"), "/")
	return uri + "&signature=" + policy.Sign(s.settings.Current().Site(site).Keys["k"], uri)
}

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !ok(); time.Sleep(2 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal(what)
		}
	}
}

func TestAHitCostsNoDatabaseAndNoWorker(t *testing.T) {
	s := newStand(t)
	s.ask("/kestrel/f/kite.png?width=60")
	renders, headers, counted := s.shop.renders.Load(), s.shop.headers.Load(), s.recorder.counting.Load()
	for range 100 {
		if a := s.ask("/kestrel/f/kite.png?width=60"); field(a, "Cache-Status") != "Echo-Lane; hit; detail=memory" {
			t.Fatal(field(a, "Cache-Status"))
		}
	}
	if s.shop.renders.Load() != renders || s.shop.headers.Load() != headers || s.recorder.counting.Load() != counted {
		t.Error("a hit asks a worker or the database")
	}
	if s.metrics.answered.Load() != 101 || s.recorder.Usage("kestrel").Month().Requests != 101 {
		t.Errorf("%d answers are counted", s.metrics.answered.Load())
	}
}

func TestAClientThatHasGoneFreesItsPlace(t *testing.T) {
	s := newStand(t)
	s.shop.hold = make(chan struct{})
	r := &request{settings: s.settings.Current()}
	if no := s.read(r, "/kestrel/f/kite.png?width=60"); no != nil {
		t.Fatal(no)
	}
	if no := s.decide(r); no != nil {
		t.Fatal(no)
	}
	ctx, leave := context.WithCancel(context.Background())
	gone := make(chan *policy.Refusal, 1)
	go func() {
		f, no := s.find(ctx, r, 0)
		f.close()
		gone <- no
	}()
	eventually(t, "the render waits", func() bool { return s.shop.renders.Load() == 1 })
	leave()
	if no := <-gone; no == nil || no.Reason != policy.ReasonBusy {
		t.Errorf("%v", no)
	}
	// Nothing is left waiting: the next one for the same variant begins anew.
	done := make(chan string, 1)
	go func() { done <- outcome(s.ask("/kestrel/f/kite.png?width=60")) }()
	eventually(t, "another render begins", func() bool { return s.shop.renders.Load() == 2 })
	close(s.shop.hold)
	if got := <-done; got != "200" {
		t.Error(got)
	}
}

func TestAMakerThatPanicsFailsItsOwnWaiters(t *testing.T) {
	s := newStand(t)
	s.shop.panics = true
	var all sync.WaitGroup
	for range 5 {
		all.Go(func() {
			if got := outcome(s.ask("/kestrel/f/kite.png?width=60")); got != "500 internal" {
				t.Error(got)
			}
		})
	}
	all.Wait()
	if s.caught.Count() == 0 {
		t.Error("nobody counted it")
	}
	s.shop.panics = false
	if got := outcome(s.ask("/kestrel/f/kite.png?width=60")); got != "200" {
		t.Errorf("the next one: %s", got)
	}
}

func TestASourceOverWhichWorkersDieIsSetAside(t *testing.T) {
	s := newStand(t)
	died := &workshop.Death{Refusal: policy.No(policy.Refusal{Reason: policy.ReasonWorkerDied, RetryIn: 3}), Workers: 2, How: "signal: segmentation fault", Call: -1}
	s.shop.fail = died
	if a := s.ask("/kestrel/f/kite.png?width=60"); outcome(a) != "503 worker-died" || field(a, "Retry-After") != "3" {
		t.Errorf("%s, %q", outcome(a), field(a, "Retry-After"))
	}
	made := s.shop.renders.Load()
	if a := s.ask("/kestrel/f/kite.png?width=61"); outcome(a) != "422 source-set-aside" || s.shop.renders.Load() != made || strings.Contains(string(a.Response.Body()), "segmentation fault") {
		t.Errorf("%s, %s", outcome(a), a.Response.Body())
	}
	s.shop.fail = nil
	s.put("other.png", "600x400\nanother")
	if got := outcome(s.ask("/kestrel/f/other.png?width=60")); got != "200" {
		t.Errorf("another source: %s", got)
	}
	s.settings.set(t, s.site("gull", nil))
	if got := outcome(s.ask("/gull/f/kite.png?width=60")); got != "200" {
		t.Errorf("another site: %s", got)
	}
	// That a request took too much memory may be the request's fault: one worker's death, or memory, sets nothing aside.
	for _, d := range []*workshop.Death{{Refusal: died.Refusal, Workers: 1}, {Refusal: died.Refusal, Workers: 2, Memory: true}} {
		s.shop.fail = d
		if got := outcome(s.ask("/kestrel/f/other.png?width=70")); got != "503 worker-died" {
			t.Errorf("%+v: %s", d, got)
		}
	}
	s.shop.fail = nil
	if got := outcome(s.ask("/kestrel/f/other.png?width=70")); got != "200" {
		t.Error(got)
	}
}

func TestAFullQueueReadsNoSources(t *testing.T) {
	s := newStand(t)
	s.shop.full = true
	if a := s.ask("/kestrel/f/kite.png?width=60"); outcome(a) != "503 busy" || field(a, "Retry-After") == "" || s.shop.renders.Load() != 0 {
		t.Errorf("%s, %d renders", outcome(a), s.shop.renders.Load())
	}
}

func TestASlowDatabaseCostsOneShortWait(t *testing.T) {
	s := newStand(t)
	s.recorder.census = func(ctx context.Context) error { <-ctx.Done(); return ctx.Err() }
	begin := time.Now()
	var all sync.WaitGroup
	for i := range 8 {
		all.Go(func() {
			if got := outcome(s.ask(fmt.Sprintf("/kestrel/f/kite.png?width=%d", 100+i))); got != "200" {
				t.Error(got)
			}
		})
	}
	all.Wait()
	if took := time.Since(begin); took > 2*time.Second { // eight in line would take 2.4 s and more
		t.Errorf("eight sizes took %v", took)
	}
	before := s.recorder.counting.Load()
	for i := range 20 {
		s.ask(fmt.Sprintf("/kestrel/f/kite.png?width=%d", 200+i))
	}
	if n := s.recorder.counting.Load() - before; n != 0 {
		t.Errorf("asked %d times more a moment later", n)
	}
}

func TestTheNumberOfVariantsHolds(t *testing.T) {
	s := newStand(t)
	s.settings.set(t, s.site("kestrel", func(d *policy.Document) { d.Limits.VariantsPerSource = 3 }))
	got := map[string]int{}
	for i := range 6 {
		got[outcome(s.ask(fmt.Sprintf("/kestrel/f/kite.png?width=%d", 100+i)))]++
		s.recorder.inAll = len(s.recorder.made)
	}
	if got["200"] != 3 || got["422 too-many-variants"] != 3 {
		t.Errorf("%v", got)
	}
	if got := outcome(s.ask("/kestrel/f/kite.png?width=100")); got != "200" {
		t.Errorf("one that is there: %s", got)
	}
}

// A variant is made while those that there are of its source are counted; where there are enough, its making is stopped.
func TestVariantsAreCountedWhileOneIsMade(t *testing.T) {
	for inAll, want := range map[int]string{2: "200", 3: "422 too-many-variants"} {
		s := newStand(t)
		s.settings.set(t, s.site("kestrel", func(d *policy.Document) { d.Limits.VariantsPerSource = 3 }))
		s.recorder.inAll, s.shop.hold = inAll, make(chan struct{})
		s.recorder.census = func(ctx context.Context) error {
			for s.shop.renders.Load() == 0 {
				select {
				case <-ctx.Done():
					return ctx.Err()
				case <-time.After(time.Millisecond):
				}
			}
			if want == "200" { // the other one never comes to its end by itself
				close(s.shop.hold)
			}
			return nil
		}
		if got := outcome(s.ask("/kestrel/f/kite.png?width=100")); got != want {
			t.Errorf("of %d: %s, want %s", inAll, got, want)
		}
		if kept := len(s.recorder.made) == 1; kept != (want == "200") {
			t.Errorf("of %d: kept is %v", inAll, kept)
		}
		if want == "200" {
			continue
		}
		s.recorder.census, s.shop.hold = nil, nil
		if got := outcome(s.ask("/kestrel/f/kite.png?width=101")); got != want || s.shop.renders.Load() != 1 {
			t.Errorf("the next: %s, %d were made", got, s.shop.renders.Load())
		}
	}
}

// Nobody gets the counting put off for all by leaving, or by asking for what fails, while it is done.
func TestWhoLeavesLeavesTheNumberInForce(t *testing.T) {
	s := newStand(t)
	s.settings.set(t, s.site("kestrel", func(d *policy.Document) { d.Limits.VariantsPerSource = 3 }))
	over := make(chan struct{})
	s.recorder.inAll, s.shop.fail = 3, errors.New("it can't be made")
	s.recorder.census = func(ctx context.Context) error {
		defer close(over)
		<-ctx.Done()
		return ctx.Err()
	}
	s.ask("/kestrel/f/kite.png?width=100")
	<-over
	s.recorder.census, s.shop.fail = nil, nil
	time.Sleep(20 * time.Millisecond) // what the counting says is taken note of
	if got := outcome(s.ask("/kestrel/f/kite.png?width=101")); got != "422 too-many-variants" {
		t.Errorf("the next: %s", got)
	}
}

func TestTheMonthHoldsInABurst(t *testing.T) {
	s := newStand(t)
	s.settings.set(t, s.site("kestrel", func(d *policy.Document) { d.Month.Renders = 5 }))
	s.shop.hold = make(chan struct{})
	var all sync.WaitGroup
	var ok, over atomic.Int64
	for i := range 40 {
		all.Go(func() {
			switch got := outcome(s.ask(fmt.Sprintf("/kestrel/f/kite.png?width=%d", 100+i))); got {
			case "200":
				ok.Add(1)
			case "429 month-used-up":
				over.Add(1)
			default:
				t.Error(got)
			}
		})
	}
	eventually(t, "35 are refused", func() bool { return over.Load() == 35 })
	close(s.shop.hold)
	all.Wait()
	if ok.Load() != 5 {
		t.Errorf("%d were made, 5 are allowed", ok.Load())
	}
	s.settings.set(t, s.site("kestrel", func(d *policy.Document) { d.Month.Renders = 6 }))
	s.shop.fail = errors.New("it fails")
	s.ask("/kestrel/f/kite.png?width=300")
	s.shop.fail = nil
	if got := outcome(s.ask("/kestrel/f/kite.png?width=301")); got != "200" {
		t.Errorf("what failed wasn't given back: %s", got)
	}
}

func TestASourceThatChangesIsNeverMixedUp(t *testing.T) {
	s := newStand(t)
	short := 0
	s.settings.set(t, s.site("kestrel", func(d *policy.Document) { d.Lanes[0].FreshS = &short }))
	first := s.ask("/kestrel/f/kite.png?width=60")
	s.put("kite.png", "600x400\nanother kite")
	second := s.ask("/kestrel/f/kite.png?width=60")
	if bytes.Equal(first.Response.Body(), second.Response.Body()) || field(first, "Etag") == field(second, "Etag") {
		t.Error("a changed source is answered with an old picture")
	}
	// What lies there isn't what its time and size say: the bytes that are read decide.
	info, err := os.Stat(filepath.Join(s.dir, "kite.png"))
	if err != nil {
		t.Fatal(err)
	}
	s.put("kite.png", "600x400\nothers kite!")
	if err := os.Chtimes(filepath.Join(s.dir, "kite.png"), info.ModTime(), info.ModTime()); err != nil {
		t.Fatal(err)
	}
	third := s.ask("/kestrel/f/kite.png?width=61")
	if outcome(third) != "200" && outcome(third) != "502 source-unreadable" || strings.Contains(string(third.Response.Body()), string(held.DigestOf([]byte("600x400\nanother kite")))) {
		t.Errorf("%s %s", outcome(third), third.Response.Body())
	}
}

func TestExplainIsATraceOfTheLine(t *testing.T) {
	s := newStand(t)
	s.settings.set(t, s.site("kestrel", func(d *policy.Document) {
		d.Ladder.Rungs, d.Pages.Allow = []int{60}, []string{"https://shop.test"}
	}), s.site("web", func(d *policy.Document) {
		d.Lanes = []policy.Lane{{Name: "w", Kind: "web", Allow: []string{"https://photos.test/*"}}}
		d.Complete(lane.Described)
	}))
	for _, c := range []struct{ uri, bearer, want, not string }{
		{"/kestrel/f/kite.png?width=60&as=explain", "good", `"rule": "ladder"`, `"refusal"`},
		{"/kestrel/f/kite.png?width=60&as=explain", "good", `"rule": "limits"`, ""},
		{"/kestrel/f/kite.png?width=60&as=explain", "good", `"key":`, ""},
		{"/kestrel/f/kite.png?width=61&as=explain", "", `"reason": "no-such-rung"`, `"key"`},
		{"/kestrel/f/kite.png?widht=61&as=explain", "", `"reason": "unknown-name"`, ""},
		{"/kestrel/f/none.png?width=60&as=explain", "", `"reason": "no-such-source"`, ""},
		{"/kestrel/f/kite.png?width=60&xywh=900,0,1,1&as=explain", "", `"reason": "nothing-left"`, ""},
		{"/web/w/https%3A%2F%2Fother.test%2Fa.jpg?as=explain", "good", `allow https://photos.test/*`, ""},
		{"/web/w/https%3A%2F%2Fother.test%2Fa.jpg?as=explain", "", `"reason": "source-not-allowed"`, `photos.test`},
		{"/web/w/https%3A%2F%2Fother.test%2Fa.jpg?as=explain", "bad", `"reason": "source-not-allowed"`, `photos.test`},
	} {
		var fields []string
		if c.bearer != "" {
			fields = []string{"Authorization", "Bearer " + c.bearer}
		}
		a := s.ask(c.uri, fields...)
		body := string(a.Response.Body())
		if outcome(a) != "200" || !strings.Contains(body, c.want) || c.not != "" && strings.Contains(body, c.not) {
			t.Errorf("%s as %q: %s, want %s and not %s", c.uri, c.bearer, body, c.want, c.not)
		}
	}
	if s.shop.renders.Load() != 1 { // as the request itself would have: once, and then from memory
		t.Errorf("%d renders", s.shop.renders.Load())
	}
}

func TestStrangersAreToldNoRulesAndNoAddresses(t *testing.T) {
	s := newStand(t)
	s.settings.set(t, s.site("web", func(d *policy.Document) {
		d.Pages.Allow = []string{"https://intranet.test"}
		d.Lanes = []policy.Lane{{Name: "w", Kind: "web", Allow: []string{"https://inner.test/*"}, Deny: []string{"https://inner.test/secret/*"}}}
		d.Complete(lane.Described)
	}))
	for uri, fields := range map[string][]string{
		"/web/w/https%3A%2F%2Fother.test%2Fa.jpg": nil, "/web/w/https%3A%2F%2Finner.test%2Fsecret%2Fa.jpg": nil, "/web/w/https%3A%2F%2Finner.test%2Fb.jpg": {"Origin", "https://evil.test"},
	} {
		told := string(s.ask(uri, fields...).Response.Body())
		for _, secret := range []string{"inner.test", "intranet.test", "echolane lane set", "echolane site set", `"mend"`} {
			if strings.Contains(told, secret) {
				t.Errorf("%s tells a stranger %s: %s", uri, secret, told)
			}
		}
		if !strings.Contains(told, `"remedy"`) {
			t.Errorf("%s has no way out: %s", uri, told)
		}
		all := string(s.ask(uri, append(fields, "Authorization", "Bearer good")...).Response.Body())
		if !strings.Contains(all, "echolane ") {
			t.Errorf("%s tells who may know no command: %s", uri, all)
		}
	}
	for _, no := range s.recorder.refused {
		if no.Mend == nil {
			t.Errorf("what is counted lost its way out: %+v", no)
		}
	}
}

func TestBeforeSettingsAreKnownNothingIsAnswered(t *testing.T) {
	s := newStand(t)
	s.settings.none = true
	if got := outcome(s.ask("/kestrel/f/kite.png")); got != "503 database-away" {
		t.Error(got)
	}
}

// deadlines is a connection that notes until when it may be written to.
type deadlines struct {
	net.Conn
	set []time.Time
}

func (d *deadlines) SetWriteDeadline(t time.Time) error { d.set = append(d.set, t); return nil }

func TestEachPieceOfAnOriginalHasADeadline(t *testing.T) {
	data := bytes.Repeat([]byte("0123456789"), 1000)
	released := 0
	conn := &deadlines{}
	o := &original{content: held.InMemory(data, func() { released++ }), size: 9, splices: []metadata.Splice{{From: 2, N: 4}, {Put: []byte("xy")}, {From: 9000, N: 3}}}
	r := &originalReader{o: o, parts: []part{{span: span{0, 9}}}, conn: conn}
	got, err := io.ReadAll(struct{ io.Reader }{r})
	if err != nil || string(got) != "2345xy012" {
		t.Errorf("%q %v", got, err)
	}
	if len(conn.set) < 3 {
		t.Errorf("%d deadlines for three pieces", len(conn.set))
	}
	for _, at := range conn.set {
		if left := time.Until(at); left <= 0 || left > stalled {
			t.Errorf("a deadline in %v", left)
		}
	}
	if r.Close(); released != 1 {
		t.Error("the source isn't let go of")
	}
	short := &originalReader{o: &original{content: held.InMemory(data[:10], nil), size: 20}, parts: []part{{span: span{0, 20}}}}
	if _, err := io.ReadAll(short); !errors.Is(err, io.ErrUnexpectedEOF) {
		t.Errorf("a source that is shorter than it was: %v", err)
	}
	broken := &originalReader{o: &original{splices: []metadata.Splice{{N: 5}}}, parts: []part{{span: span{0, 5}}}}
	if _, err := broken.Read(make([]byte, 5)); err == nil || !strings.Contains(err.Error(), "panic") {
		t.Errorf("a panic while an answer is written: %v", err)
	}
}

// Facts that the service asks for itself about a source that is gone have what was found in it forgotten; visitors can't.
func TestWhatIsGoneIsForgotten(t *testing.T) {
	s := newStand(t)
	s.settings.set(t, s.site("kestrel", func(*policy.Document) {}))
	if _, no := s.Measure(context.Background(), "/kestrel/f/none.png?as=facts", ""); no == nil || no.Reason != policy.ReasonNoSuchSource {
		t.Fatalf("%v", no)
	}
	if got := strings.Join(s.recorder.gone, " "); got != "f/none.png" {
		t.Errorf("forgotten: %s", got)
	}
	s.ask("/kestrel/f/none.png?as=facts")
	s.Measure(context.Background(), "/kestrel/f/none.png?width=60", "")
	if len(s.recorder.gone) != 1 {
		t.Errorf("forgotten: %v", s.recorder.gone)
	}
}

// A header that ends workers is read no more than it takes to know that: also by a service that knows nothing of the source any more.
func TestASourceWhoseHeaderEndsWorkersIsSetAside(t *testing.T) {
	s := newStand(t)
	died := &workshop.Death{Refusal: policy.No(policy.Refusal{Reason: policy.ReasonWorkerDied, RetryIn: 3}), Workers: 2, How: "signal: segmentation fault", Call: -1}
	s.shop.headerFail = died
	if got := outcome(s.ask("/kestrel/f/kite.png?width=60")); got != "503 worker-died" {
		t.Error(got)
	}
	// The same bytes under another path, of which nothing is known.
	s.put("again.png", "600x400\nkite")
	read := s.shop.headers.Load()
	if got := outcome(s.ask("/kestrel/f/again.png?width=60")); got != "422 source-set-aside" || s.shop.headers.Load() != read {
		t.Errorf("%s, read %d times more", got, s.shop.headers.Load()-read)
	}
	s.shop.headerFail = nil
	s.put("other.png", "600x400\nanother")
	if got := outcome(s.ask("/kestrel/f/other.png?width=60")); got != "200" {
		t.Errorf("another source: %s", got)
	}
}

func TestFieldsAreSeenAsTheyAreSent(t *testing.T) {
	for _, c := range []struct {
		sent  string
		hosts int
		has   uint8
	}{
		{"Host: x\r\n", 1, 0},
		{"host: x\r\nHOST: y\r\nHosts: z\r\n", 2, 0},
		{"Host: x\r\nACCEPT: image/webp\r\nAccept-Encoding: br\r\n", 1, hasAccept},
		{"Host: x\r\ncdn-loop: a\r\nsave-data: on\r\nsec-ch-prefers-reduced-motion: reduce\r\n", 1, hasLoop | hasSaves | hasStill},
		{"Host: x\r\nif-none-match: *\r\nIf-Modified-Since: Sun, 29 Nov 2026 00:00:00 GMT\r\nRANGE: bytes=0-\r\n", 1, hasMatch | hasSince | hasRange},
		{"Host: x\r\nX-A: Range: bytes=0-\r\n", 1, 0},
	} {
		var q fasthttp.Request
		if err := q.Header.Read(bufio.NewReader(strings.NewReader("GET / HTTP/1.1\r\n" + c.sent + "\r\n"))); err != nil {
			t.Fatalf("%q: %v", c.sent, err)
		}
		if f := FieldsOf(&q.Header); f.Hosts != c.hosts || f.has != c.has {
			t.Errorf("%q: %+v, want %d hosts and %b", c.sent, f, c.hosts, c.has)
		}
	}
}

// What is asked for over and over gets the same head each time, and another as soon as it is something else.
func TestTheHeadOfWhatIsAskedForOftenIsItsOwn(t *testing.T) {
	s := newStand(t)
	head := func(fields ...string) string {
		c := s.ask("/kestrel/f/kite.png?width=60", append([]string{"Accept", "image/webp"}, fields...)...)
		before, dated, _ := strings.Cut(string(c.Response.Header.Header()), "Date: ")
		_, after, _ := strings.Cut(dated, "\n")
		return before + after
	}
	entry := func() *hotEntry { // as if its variant had been made a while ago
		t.Helper()
		head()
		for _, m := range s.hot.All() {
			if v, ok := s.Cache.InMemory(m.key, 0); ok {
				v.MadeAt -= 10
				return m
			}
		}
		t.Fatal("nothing is hot")
		return nil
	}
	m := entry()
	first := head()
	if !strings.Contains(first, "Last-Modified") || !strings.Contains(first, "hit; detail=memory") {
		t.Fatal(first)
	}
	for i := range 3 * headAfter {
		if h := head(); h != first {
			t.Fatalf("after %d: %s, was %s", i, h, first)
		}
	}
	if k := s.heads.place(m).Load(); k == nil || k.entry != m {
		t.Fatal("no head is kept")
	}
	// What a kept head is changed by for one request isn't kept.
	if h := head("If-None-Match", field(s.ask("/kestrel/f/kite.png?width=60", "Accept", "image/webp"), "ETag")); !strings.HasPrefix(h, "HTTP/1.1 304") || strings.Contains(h, "\nContent-Type:") {
		t.Errorf("not modified: %s", h)
	}
	if h := head("Range", "bytes=0-1"); !strings.Contains(h, "Content-Range") {
		t.Errorf("a part: %s", h)
	}
	if h := head(); h != first {
		t.Errorf("after those: %s, was %s", h, first)
	}
	// Another variant has a head of its own, at once.
	v, _ := s.Cache.InMemory(m.key, 0)
	other := *v
	other.Body, other.ETag = []byte("other"), `"0123456789abcdef"`
	s.Cache.Replace(m.key, &other, nil)
	if h := head(); h == first || !strings.Contains(h, other.ETag) {
		t.Errorf("of another variant: %s", h)
	}
	// So have a request and a site that want something else.
	if h := string(s.ask("/kestrel/f/kite.png?width=60", "Accept", "image/png").Response.Header.Header()); strings.Contains(h, other.ETag) {
		t.Errorf("of another format: %s", h)
	}
}
