package app

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/internal/testbed"
)

// settledVariant gives a variant that was made more than a second ago, so that it says when.
func (r *running) settled(path string) answer {
	r.t.Helper()
	var a answer
	testbed.Eventually(r.t, "it says when it was made", func() error {
		if a = r.get(path); a.StatusCode != 200 || a.Header.Get("Last-Modified") == "" {
			return fmt.Errorf("%d %s", a.StatusCode, a.Header)
		}
		return nil
	})
	return a
}

// What RFC 9110 says of conditions and ranges holds for variants and for the sources themselves.
func TestAnswersAreByTheBook(t *testing.T) {
	r := start(t, nil, nil)
	r.put("kite.png", picture(t, 120, 80))
	old := time.Now().Add(-time.Hour).Truncate(time.Second)
	os.Chtimes(filepath.Join(r.dir, "kite.png"), old, old)
	for _, path := range []string{"/kestrel/f/kite.png?width=60&format=webp", "/kestrel/f/kite.png?download="} {
		whole := r.settled(path)
		etag, modified, size := whole.Header.Get("ETag"), whole.Header.Get("Last-Modified"), len(whole.body)
		if etag == "" || strings.HasPrefix(etag, "W/") || whole.Header.Get("Accept-Ranges") != "bytes" {
			t.Errorf("%s: %s", path, whole.Header)
		}
		at, err := http.ParseTime(modified)
		if err != nil || at.After(time.Now()) {
			t.Fatalf("%s: Last-Modified: %s", path, modified)
		}
		before, after := at.Add(-time.Hour).Format(http.TimeFormat), at.Add(time.Hour).Format(http.TimeFormat)
		of := func(from, to int) string { return string(whole.body[from : to+1]) }
		for _, c := range []struct {
			section string // of RFC 9110
			fields  []string
			status  int
			body    string
			sent    string // Content-Range
		}{
			{"13.1.2", []string{"If-None-Match", etag}, 304, "", ""},
			{"13.1.2", []string{"If-None-Match", "W/" + etag}, 304, "", ""},
			{"13.1.2", []string{"If-None-Match", `"x", ` + etag}, 304, "", ""},
			{"13.1.2", []string{"If-None-Match", "*"}, 304, "", ""},
			{"13.1.2", []string{"If-None-Match", `"x"`}, 200, string(whole.body), ""},
			{"13.1.3", []string{"If-Modified-Since", modified}, 304, "", ""},
			{"13.1.3", []string{"If-Modified-Since", before}, 200, string(whole.body), ""},
			{"13.1.3", []string{"If-Modified-Since", "yesterday"}, 200, string(whole.body), ""},
			{"13.1.3: with If-None-Match it isn't looked at", []string{"If-None-Match", `"x"`, "If-Modified-Since", modified}, 200, string(whole.body), ""},
			{"14.1.2", []string{"Range", "bytes=0-9"}, 206, of(0, 9), fmt.Sprintf("bytes 0-9/%d", size)},
			{"14.1.2", []string{"Range", "bytes=5-5"}, 206, of(5, 5), fmt.Sprintf("bytes 5-5/%d", size)},
			{"14.1.2", []string{"Range", "bytes=10-"}, 206, of(10, size-1), fmt.Sprintf("bytes 10-%d/%d", size-1, size)},
			{"14.1.2", []string{"Range", "bytes=-7"}, 206, of(size-7, size-1), fmt.Sprintf("bytes %d-%d/%d", size-7, size-1, size)},
			{"14.1.2", []string{"Range", "bytes=-999999"}, 206, string(whole.body), fmt.Sprintf("bytes 0-%d/%d", size-1, size)},
			{"14.1.2", []string{"Range", "bytes=3-999999"}, 206, of(3, size-1), fmt.Sprintf("bytes 3-%d/%d", size-1, size)},
			{"14.2", []string{"Range", "pixels=0-9"}, 200, string(whole.body), ""},
			{"14.2", []string{"Range", "bytes=9-3"}, 200, string(whole.body), ""},
			{"14.2", []string{"Range", "bytes=x"}, 200, string(whole.body), ""},
			{"14.2: one that is sensible at most", []string{"Range", "bytes=" + strings.Repeat("0-1,", 40) + "0-1"}, 200, string(whole.body), ""},
			{"15.5.17", []string{"Range", "bytes=999999-"}, 416, "", fmt.Sprintf("bytes */%d", size)},
			{"15.5.17", []string{"Range", "bytes=-0"}, 416, "", fmt.Sprintf("bytes */%d", size)},
			{"13.1.5", []string{"Range", "bytes=0-9", "If-Range", etag}, 206, of(0, 9), fmt.Sprintf("bytes 0-9/%d", size)},
			{"13.1.5", []string{"Range", "bytes=0-9", "If-Range", "W/" + etag}, 200, string(whole.body), ""},
			{"13.1.5", []string{"Range", "bytes=0-9", "If-Range", modified}, 206, of(0, 9), fmt.Sprintf("bytes 0-9/%d", size)},
			{"13.1.5", []string{"Range", "bytes=0-9", "If-Range", after}, 200, string(whole.body), ""},
			{"13.2.2: conditions come first", []string{"Range", "bytes=0-9", "If-None-Match", etag}, 304, "", ""},
		} {
			a := r.get(path, c.fields...)
			if a.StatusCode != c.status || c.status != 416 && string(a.body) != c.body || a.Header.Get("Content-Range") != c.sent {
				t.Errorf("%s, section %s, %q: %d, %d bytes, Content-Range %q", path, c.section, c.fields, a.StatusCode, len(a.body), a.Header.Get("Content-Range"))
			}
			if a.StatusCode == 304 && (a.Header.Get("ETag") != etag || a.Header.Get("Cache-Control") == "" || a.Header.Get("Content-Location") == "") {
				t.Errorf("%s, section 15.4.5: %s", path, a.Header)
			}
		}
		// Several ranges are parts of one body (section 14.6).
		a := r.get(path, "Range", "bytes=0-3, 10-12 ,-2")
		kind, parameters, err := mime.ParseMediaType(a.Header.Get("Content-Type"))
		if err != nil || a.StatusCode != 206 || kind != "multipart/byteranges" || a.Header.Get("Content-Range") != "" {
			t.Fatalf("%s: %d %s", path, a.StatusCode, a.Header)
		}
		parts := multipart.NewReader(bytes.NewReader(a.body), parameters["boundary"])
		for _, want := range []struct{ sent, body string }{{"0-3", of(0, 3)}, {"10-12", of(10, 12)}, {fmt.Sprintf("%d-%d", size-2, size-1), of(size-2, size-1)}} {
			p, err := parts.NextPart()
			if err != nil {
				t.Fatalf("%s: %v", path, err)
			}
			body, _ := io.ReadAll(p)
			if p.Header.Get("Content-Range") != fmt.Sprintf("bytes %s/%d", want.sent, size) || string(body) != want.body || p.Header.Get("Content-Type") != whole.Header.Get("Content-Type") {
				t.Errorf("%s: %s holds %d bytes", path, p.Header, len(body))
			}
		}
		if _, err := parts.NextPart(); err != io.EOF {
			t.Errorf("%s: more parts than ranges: %v", path, err)
		}
		// HEAD says what GET would (section 9.3.2), and knows no ranges (section 14.2).
		head := r.do("HEAD", path, nil, "Range", "bytes=0-9")
		if head.StatusCode != 200 || len(head.body) != 0 || head.Header.Get("Content-Length") != fmt.Sprint(size) || head.Header.Get("ETag") != etag || head.Header.Get("Last-Modified") != modified {
			t.Errorf("HEAD %s: %d %s", path, head.StatusCode, head.Header)
		}
	}
}

// Of what never changes, what caches in front are told, and by which names they may forget it.
func TestWhatCachesInFrontAreTold(t *testing.T) {
	minute := 60
	day := 86400
	r := start(t, nil, func(d *policy.Document) {
		d.Lanes[0].MaxAgeS, d.Lanes[0].CDNMaxAgeS = &minute, &day
		d.Lanes = append(d.Lanes, policy.Lane{Name: "plain", Kind: "folder", Folder: d.Lanes[0].Folder})
	})
	os.MkdirAll(filepath.Join(r.dir, "summer"), 0o755)
	r.put("summer/a kite.png", picture(t, 60, 40))
	r.put("over.png", picture(t, 20, 20))
	const path = "/kestrel/f/summer/a%20kite.png?width=30&format=webp"
	a := r.get(path)
	for field, want := range map[string]string{
		"Cache-Control": "public, max-age=60, stale-while-revalidate=86400", "CDN-Cache-Control": "public, max-age=86400, stale-while-revalidate=86400",
		"Content-Disposition": `inline; filename="a kite.webp"`, "Cache-Groups": `"kestrel", "kestrel/f", "kestrel/f/summer/a kite.png"`,
	} {
		if got := a.Header.Get(field); got != want {
			t.Errorf("%s: %s, want %s", field, got, want)
		}
	}
	if got := r.get(path + "&download=x"); got.Header.Get("Content-Disposition") != `attachment; filename="x.webp"` {
		t.Errorf("%s", got.Header)
	}
	if got := r.get("/kestrel/plain/summer/a%20kite.png?width=30"); got.Header.Get("CDN-Cache-Control") != "" {
		t.Errorf("a lane that says nothing of them: %s", got.Header)
	}
	// An address that names the version of its source never changes (RFC 8246).
	facts := r.get("/kestrel/f/summer/a%20kite.png?as=facts")
	_, digest, _ := strings.Cut(string(facts.body), `"digest":"`)
	digest, _, _ = strings.Cut(digest, `"`)
	pinned := r.get(path + "&digest=" + digest)
	if pinned.StatusCode != 200 || pinned.Header.Get("Cache-Control") != "public, max-age=31536000, immutable" || !bytes.Equal(pinned.body, a.body) || !strings.Contains(pinned.Header.Get("Cache-Status"), "hit") {
		t.Errorf("%d %s", pinned.StatusCode, pinned.Header)
	}
	if over := r.get(path + "&after-content=url(f/over.png)&digest=" + digest); over.StatusCode != 200 || strings.Contains(over.Header.Get("Cache-Control"), "immutable") {
		t.Errorf("what is drawn over it may change: %d %s", over.StatusCode, over.Header)
	}
	// So does one that names it by a digest of the earlier kind, but no other of that kind.
	earlier := earlierDigest(picture(t, 60, 40))
	if a := r.get(path + "&digest=" + earlier); a.StatusCode != 200 || a.Header.Get("Cache-Control") != pinned.Header.Get("Cache-Control") || !bytes.Equal(a.body, pinned.body) {
		t.Errorf("of the earlier kind: %d %s", a.StatusCode, a.Header)
	}
	if a := r.get(path + "&digest=" + strings.Repeat("x", 22)); a.reason() != "404 no-such-version" {
		t.Errorf("another of the earlier kind: %s", a.reason())
	}
	r.put("summer/a kite.png", picture(t, 61, 40))
	testbed.Eventually(t, "the addresses name another version", func() error {
		for _, d := range []string{digest, earlier} {
			if a := r.get(path + "&digest=" + d); a.reason() != "404 no-such-version" || a.Header.Get("Cache-Control") != "no-store" {
				return fmt.Errorf("%s: %d %s", d, a.StatusCode, a.Header)
			}
		}
		return nil
	})
	for _, bad := range []string{"", "short", strings.Repeat("x", 23), strings.Repeat("?", 22), strings.Repeat("?", 24), strings.Repeat("x", 25)} {
		if a := r.get(path + "&digest=" + bad); a.StatusCode != 400 {
			t.Errorf("digest=%s: %d", bad, a.StatusCode)
		}
	}
}

// A client of the field goes on where it was cut off.
func TestCurlGoesOnWhereItWasCutOff(t *testing.T) {
	curl, err := exec.LookPath("curl")
	if err != nil {
		t.Fatal(err)
	}
	r := start(t, nil, nil)
	r.put("kite.png", picture(t, 300, 200))
	whole := r.get("/kestrel/f/kite.png?width=300&format=png")
	file := filepath.Join(t.TempDir(), "kite.png")
	os.WriteFile(file, whole.body[:1000], 0o644)
	if out, err := exec.Command(curl, "-sS", "--fail", "-C", "-", "-o", file, r.base+"/kestrel/f/kite.png?width=300&format=png").CombinedOutput(); err != nil {
		t.Fatalf("%v %s", err, out)
	}
	if got, _ := os.ReadFile(file); !bytes.Equal(got, whole.body) {
		t.Errorf("%d bytes of %d", len(got), len(whole.body))
	}
}

// Answers that go out with parts of one another in one buffer are the same as alone.
func TestRequestsInOnePacketAreAnsweredInTurn(t *testing.T) {
	for name, change := range map[string]func(*Options){
		"memory": nil,
		"disk":   func(o *Options) { o.MemoryBytes, o.CacheDir = 1, t.TempDir() }, // in memory that is used again
	} {
		t.Run(name, func(t *testing.T) { answeredInTurn(t, start(t, change, nil), name) })
	}
}

func answeredInTurn(t *testing.T, r *running, from string) {
	r.put("kite.png", picture(t, 400, 300))
	paths := []string{"/kestrel/f/kite.png?width=8&format=png", "/kestrel/f/kite.png?width=400&format=png", "/kestrel/f/kite.png?width=60&format=png", "/kestrel/f/kite.png?download=", "/kestrel/f/none.png", "/-/live"}
	alone := map[string]answer{}
	for _, path := range paths {
		testbed.Eventually(t, path+" comes from "+from, func() error {
			alone[path] = r.get(path)
			if said := alone[path].Header.Get("Cache-Status"); strings.Contains(path, "width=") && !strings.HasSuffix(said, from) { // it is written behind its first answer
				return fmt.Errorf("it says %q", said)
			}
			return nil
		})
	}
	etag := alone[paths[1]].Header.Get("ETag")
	type asked struct{ method, path, more string }
	var all []asked
	for range 4 {
		for _, path := range paths {
			all = append(all, asked{"GET", path, ""}, asked{"HEAD", path, ""}, asked{"GET", paths[1], "If-None-Match: " + etag + "\r\n"}, asked{"GET", paths[1], "Range: bytes=5-\r\n"})
		}
	}
	var text strings.Builder
	for _, q := range all {
		fmt.Fprintf(&text, "%s %s HTTP/1.1\r\nHost: x\r\n%s\r\n", q.method, q.path, q.more)
	}
	ask := func() {
		c, err := net.Dial("tcp", r.Addr())
		if err != nil {
			t.Error(err)
			return
		}
		defer c.Close()
		c.SetDeadline(time.Now().Add(20 * time.Second))
		go io.WriteString(c, text.String())
		in := bufio.NewReader(c)
		for i, q := range all {
			a, err := http.ReadResponse(in, &http.Request{Method: q.method})
			if err != nil {
				t.Errorf("answer %d, %s %s: %v", i, q.method, q.path, err)
				return
			}
			body, err := io.ReadAll(a.Body)
			want, status := alone[q.path].body, alone[q.path].StatusCode
			switch {
			case q.method == "HEAD":
				want = nil
			case strings.HasPrefix(q.more, "If-None-Match"):
				want, status = nil, 304
			case strings.HasPrefix(q.more, "Range"):
				want, status = want[5:], 206
			}
			if err != nil || a.StatusCode != status || !bytes.Equal(body, want) && q.path != "/kestrel/f/none.png" {
				t.Errorf("answer %d, %s %s %s: %d of %d bytes with %d, want %d of %d with %d, %v", i, q.method, q.path, q.more, len(body), a.ContentLength, a.StatusCode, len(want), len(want), status, err)
				return
			}
		}
	}
	var clients sync.WaitGroup
	for range 4 {
		clients.Go(ask)
	}
	clients.Wait()
}
