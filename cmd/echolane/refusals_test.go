package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestBadRequestsAreRefusedWithReasonAndRemedy(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	for _, c := range []struct {
		path   string
		status int
		reason string
		remedy string // part of it
	}{
		{"/kestrel/catalogue/mark.png?widht=64", 400, "unknown-name", "write width instead of widht"},
		{"/kestrel/catalogue/mark.png?blur=4", 400, "unknown-name", "filter=blur(4px)"},
		{"/kestrel/catalogue/mark.png?width=64&width=64", 400, "repeated", "keep one width"},
		{"/kestrel/catalogue/mark.png?width=", 400, "empty", "give width a length"},
		{"/kestrel/catalogue/mark.png?width=0", 400, "out-of-range", "from 1 to 65535"},
		{"/kestrel/catalogue/mark.png?width=wide", 400, "unparsable", "480px"},
		{"/kestrel/catalogue/mark.png?format=jpg", 400, "unparsable", "write format=jpeg"},
		{"/kestrel/catalogue/mark.png?format=photoshop", 400, "unparsable", "avif, jxl, webp, jpeg, png or gif"},
		{"/kestrel/catalogue/mark.png?width=%zz", 400, "not-decodable", "%25"},
		{"/kestrel/catalogue/mark.png?format=jpeg&quality=lossless", 400, "format-not-lossless", "format=webp"},
		{"/kestrel/catalogue/../catalogue/mark.png", 400, "bad-path", ""},
		{"/kestrel/catalogue/..%2f..%2fetc%2fpasswd", 400, "bad-path", ""},
		{"/kestrel/catalogue/%2e%2e/mark.png", 400, "bad-path", ""},
		{"/kestrel/catalogue//etc/passwd", 400, "bad-path", ""},
		{"/kestrel/catalogue/%2fetc/passwd", 400, "bad-path", ""},
		{"/kestrel/catalogue/mark%00.png", 400, "bad-path", ""},
		{"/kestrel/catalogue/a%5c..%5cb.png", 400, "bad-path", ""},
		{"/kestrel/catalogue/a%zz.png", 400, "bad-path", "%25"},
		{"/kestrel/catalogue/", 400, "bad-path", ""},
		{"/kestrel/catalogue/./mark.png", 400, "bad-path", ""},
		{"/kestrel/catalogue/" + strings.Repeat("a", 2000), 400, "bad-path", ""},
		{"/kestrel/catalogue/" + strings.Repeat("a", 300), 404, "no-such-source", ""},
		{"/kestrel/catalogue/missing.png", 404, "no-such-source", ""},
		{"/kestrel/catalogue/mark.png/more", 404, "no-such-source", ""},
		{"/kestrel/catalog/mark.png", 404, "no-such-lane", "write catalogue instead of catalog"},
		{"/kestrl/catalogue/mark.png", 404, "no-such-site", "write kestrel instead of kestrl"},
		{"/favicon.ico", 404, "no-such-site", ""},
		{"/-/nothing", 404, "no-such-page", ""},
	} {
		a := s.Get(t, c.path)
		no := a.Problem(t)
		if a.StatusCode != c.status || string(no.Reason) != c.reason || no.Status != c.status || !strings.Contains(no.Remedy, c.remedy) || no.Remedy == "" || no.Title == "" {
			t.Errorf("%.80s: %d %s, remedy %q; want %d %s, remedy with %q", c.path, a.StatusCode, no.Reason, no.Remedy, c.status, c.reason, c.remedy)
		}
		if got := a.Header.Get("Cache-Control"); got != "no-store" {
			t.Errorf("%.80s: Cache-Control %q", c.path, got)
		}
	}
	two := s.Get(t, "/kestrel/catalogue/mark.png?widht=64&quality=400").Problem(t)
	if len(two.Problems) != 2 {
		t.Errorf("two mistakes give the problems %q", two.Problems)
	}
	a := s.Ask(t, "POST", "/kestrel/catalogue/mark.png", strings.NewReader("x"))
	if no := a.Problem(t); a.StatusCode != 405 || no.Reason != "method-not-allowed" || a.Header.Get("Allow") != "GET, HEAD, OPTIONS" {
		t.Errorf("POST: %d %s, Allow %q", a.StatusCode, no.Reason, a.Header.Get("Allow"))
	}
}

func TestBadSourcesAreRefused(t *testing.T) {
	t.Parallel()
	folder, outside := t.TempDir(), t.TempDir()
	write := func(name string, data []byte) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(folder, name), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	photo, err := os.ReadFile(filepath.Join(bed.Pictures, "sled-blue.jpg"))
	if err != nil {
		t.Fatal(err)
	}
	write("text.jpg", []byte("Buy twine.\n"))
	write("cut.jpg", photo[:len(photo)/2])
	write("empty.png", nil)
	write("photo.jpg", photo)
	if err := os.WriteFile(filepath.Join(outside, "secret.jpg"), photo, 0o644); err != nil {
		t.Fatal(err)
	}
	for link, to := range map[string]string{
		"out.jpg": filepath.Join(outside, "secret.jpg"), "up": "..", "in.jpg": "photo.jpg", "loop.jpg": "loop.jpg", "etc": "/etc",
	} {
		if err := os.Symlink(to, filepath.Join(folder, link)); err != nil {
			t.Fatal(err)
		}
	}
	if err := os.Mkdir(filepath.Join(folder, "dir.jpg"), 0o755); err != nil {
		t.Fatal(err)
	}

	s := bed.Serve(t)
	bed.Must(t, s, "site", "add", "kestrel")
	bed.Must(t, s, "lane", "add", "kestrel/mixed", "--folder", folder)
	bed.Must(t, s, "site", "add", "small", "--limit", "source_pixels=1000000", "--limit", "source_bytes=100000")
	bed.Must(t, s, "lane", "add", "small/mixed", "--folder", folder)
	bed.Must(t, s, "site", "add", "narrow", "--limit", "source_pixels=1000000")
	bed.Must(t, s, "lane", "add", "narrow/mixed", "--folder", folder)
	for _, c := range []struct {
		path   string
		status int
		reason string
		detail string
	}{
		{"/kestrel/mixed/text.jpg", 422, "not-an-image", "text/plain"},
		{"/kestrel/mixed/cut.jpg?width=99", 422, "source-truncated", "ends before the picture does"},
		{"/kestrel/mixed/empty.png", 422, "source-truncated", "empty"},
		{"/kestrel/mixed/out.jpg", 403, "outside-folder", ""},
		{"/kestrel/mixed/up/secret.jpg", 403, "outside-folder", ""},
		{"/kestrel/mixed/etc/hostname", 403, "outside-folder", ""},
		{"/kestrel/mixed/dir.jpg", 404, "no-such-source", ""},
		{"/small/mixed/photo.jpg", 422, "source-too-many-bytes", "at most 100000"},
		{"/narrow/mixed/photo.jpg", 422, "source-too-many-pixels", "2560 × 1600"},
	} {
		a := s.Get(t, c.path)
		no := a.Problem(t)
		if a.StatusCode != c.status || string(no.Reason) != c.reason || !strings.Contains(no.Detail, c.detail) || no.Remedy == "" {
			t.Errorf("%s: %d %s %q; want %d %s with %q", c.path, a.StatusCode, no.Reason, no.Detail, c.status, c.reason, c.detail)
		}
	}
	if a := s.Get(t, "/kestrel/mixed/in.jpg?width=20"); a.StatusCode != 200 {
		t.Errorf("a link that stays inside: %d", a.StatusCode)
	}
	if a := s.Get(t, "/kestrel/mixed/loop.jpg"); a.StatusCode < 400 || a.StatusCode == 500 {
		t.Errorf("a link to itself: %d", a.StatusCode)
	}

	if err := os.RemoveAll(folder); err != nil {
		t.Fatal(err)
	}
	a := s.Get(t, "/kestrel/mixed/never-asked.jpg")
	if no := a.Problem(t); a.StatusCode != 502 || no.Reason != "lane-unreachable" || a.Header.Get("Retry-After") == "" {
		t.Errorf("with the folder gone: %d %s", a.StatusCode, no.Reason)
	}
}

func TestAPersonInATabReadsTheRefusal(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	a := s.Get(t, "/kestrel/catalogue/mark.png?widht=<b>", "Accept", "text/html,application/xhtml+xml,image/webp,*/*;q=0.8")
	page := string(a.Data)
	if a.StatusCode != 400 || !strings.HasPrefix(a.Header.Get("Content-Type"), "text/html") || !strings.Contains(page, "write width instead of widht") {
		t.Errorf("%d %s: %s", a.StatusCode, a.Header.Get("Content-Type"), page)
	}
	if strings.Contains(page, "<b>") {
		t.Error("what was given stands in the page as markup")
	}
	list := string(s.Get(t, "/-/problems").Data)
	if !strings.Contains(list, `id="unknown-name"`) {
		t.Error("/-/problems doesn't describe the reason")
	}
}
