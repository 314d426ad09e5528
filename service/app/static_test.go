package app

import (
	"compress/gzip"
	"io"
	"net/http"
	"strings"
	"testing"
	"unsafe"

	"github.com/andybalholm/brotli"

	"echolane/web"
)

func TestOwnFilesGoOutInTheCodingThatTheClientTakes(t *testing.T) {
	r := start(t, nil, nil)
	plain := r.get("/-/web/lane.js", "Accept-Encoding", "identity")
	if plain.StatusCode != 200 || plain.Header.Get("Content-Encoding") != "" || plain.Header.Get("Vary") != "Accept-Encoding" {
		t.Fatalf("%d %v", plain.StatusCode, plain.Header)
	}
	tags := map[string]bool{plain.Header.Get("ETag"): true}
	for _, c := range []struct{ accept, want string }{
		{"gzip, deflate, br, zstd", "br"}, {"gzip", "gzip"}, {"br;q=0.1, gzip;q=0.9", "gzip"}, {"br;q=0, gzip;q=0", ""}, {"*", "br"}, {"*;q=0", ""},
		{"BR", "br"}, {"deflate", ""}, {"br;q=x", ""}, {"gzip;q=1.0, identity; q=0.5", "gzip"}, {"br; q=0.5", "br"},
	} {
		a := r.get("/-/web/lane.js", "Accept-Encoding", c.accept)
		if got := a.Header.Get("Content-Encoding"); got != c.want {
			t.Errorf("%s: %q, want %q", c.accept, got, c.want)
			continue
		}
		var body io.Reader = strings.NewReader(string(a.body))
		switch c.want {
		case "br":
			body = brotli.NewReader(body)
		case "gzip":
			var err error
			if body, err = gzip.NewReader(body); err != nil {
				t.Fatal(err)
			}
		}
		if text, err := io.ReadAll(body); err != nil || string(text) != string(plain.body) {
			t.Errorf("%s: it isn't the file (%v)", c.accept, err)
		}
		tag := a.Header.Get("ETag")
		tags[tag] = true
		if again := r.get("/-/web/lane.js", "Accept-Encoding", c.accept, "If-None-Match", `"x", W/`+tag); again.StatusCode != 304 || again.Header.Get("ETag") != tag || len(again.body) > 0 {
			t.Errorf("%s: asked again: %d", c.accept, again.StatusCode)
		}
		if other := r.get("/-/web/lane.js", "Accept-Encoding", c.accept, "If-None-Match", plain.Header.Get("ETag")); c.want != "" && other.StatusCode != 200 {
			t.Errorf("%s: the tag of another coding holds: %d", c.accept, other.StatusCode)
		}
	}
	if len(tags) != 3 {
		t.Errorf("tags of three codings: %v", tags)
	}
	for _, path := range []string{"/-/web/web.go", "/-/web/../web/lane.js", "/-/web/none.js", "/-/web/"} {
		if a := r.get(path); a.StatusCode == 200 {
			t.Errorf("%s: %d", path, a.StatusCode)
		}
	}
}

func TestTheConsoleIsSmallOnTheWay(t *testing.T) {
	r := start(t, nil, nil)
	page := r.get("/-/console/lanes", "Accept-Encoding", "br")
	if page.StatusCode == http.StatusNotFound {
		t.Skip("the console isn't built")
	}
	sum := len(page.body)
	for _, piece := range strings.Split(string(page.body), `"`) {
		if !strings.HasPrefix(piece, "/-/console/assets/") {
			continue
		}
		a := r.get(piece, "Accept-Encoding", "gzip, br")
		if a.StatusCode != 200 || a.Header.Get("Content-Encoding") != "br" || !strings.Contains(a.Header.Get("Cache-Control"), "immutable") {
			t.Errorf("%s: %d %v", piece, a.StatusCode, a.Header)
		}
		sum += len(a.body)
	}
	if sum > 150_000 {
		t.Errorf("the first view takes %d bytes", sum)
	}
	t.Logf("the first view takes %d bytes", sum)
}

// A request's path lies in memory that the next request is read into. What is kept must not.
func TestAFileIsKeptUnderItsOwnName(t *testing.T) {
	f := &files{from: web.Files}
	name := []byte("lane.js")
	if f.file(unsafe.String(&name[0], len(name))) == nil {
		t.Fatal("there is no lane.js")
	}
	copy(name, "gone.js") // the next request comes
	if f.file("gone.js") != nil {
		t.Error("a file is served under a name that it doesn't have")
	}
	f.file("lane.js")
	for name := range f.read {
		if name != "lane.js" {
			t.Errorf("it is kept as %q", name)
		}
	}
	if len(f.read) != 1 {
		t.Errorf("one file is kept %d times", len(f.read))
	}
}
