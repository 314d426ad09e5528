package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"echolane/core/metadata"
	"echolane/core/render"
	"echolane/internal/testbed"
	"echolane/service/delivery"
)

func TestEncodingOverHTTP(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	const k = "/kestrel/catalogue/festival-crowd.jpg"
	explained := func(query string) delivery.Explanation {
		t.Helper()
		x := decoded[delivery.Explanation](t, s.Get(t, k+"?"+query+"&as=explain", "Accept", browserAccept), 200)
		if x.Refusal != nil || x.Variant == nil || x.Variant.Encoding == nil {
			t.Fatalf("%s: %+v", query, x)
		}
		return x
	}
	// The way to a quality is told: what was aimed at, reached, and tried.
	for _, format := range []string{"avif", "webp"} {
		e := explained("width=300&quality=60&format=" + format).Variant.Encoding
		if e.Way != "searched" || e.Quality != 60 || e.Setting == "" || len(e.Trials) == 0 || e.Likeness < e.Aim-4 || e.Likeness > e.Aim+4 {
			t.Errorf("%s: %+v", format, e)
		}
	}
	// A budget holds over HTTP, and what is out of reach is told with its smallest.
	a := s.Get(t, k+"?width=300&budget=6kB", "Accept", browserAccept)
	if a.StatusCode != 200 || len(a.Data) > 6000 {
		t.Errorf("6 kB: %d, %d bytes", a.StatusCode, len(a.Data))
	}
	no := s.Get(t, k+"?width=300&budget=150", "Accept", browserAccept)
	if no.StatusCode != 422 || !strings.Contains(string(no.Data), "budget-out-of-reach") || !strings.Contains(string(no.Data), "smallest possible") {
		t.Errorf("150 bytes: %d %.300s", no.StatusCode, no.Data)
	}
	// The site's floor bounds it.
	bed.Must(t, s, "site", "set", "kestrel", "--limit", "quality_floor=60")
	high := s.Get(t, k+"?width=300&budget=3kB", "Accept", browserAccept)
	if high.StatusCode != 422 {
		t.Errorf("3 kB at quality 60 or more: %d, %d bytes", high.StatusCode, len(high.Data))
	}
	if out := bed.Must(t, s, "explain", "kestrel/catalogue/festival-crowd.jpg?width=300&quality=60&format=webp"); !strings.Contains(out, "searched for quality 60 · VP8 quantizer") {
		t.Errorf("explain:\n%s", out)
	}
}

func TestAnimationsOverHTTP(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	source, err := os.ReadFile(filepath.Join(bed.Pictures, "launch.gif"))
	if err != nil {
		t.Fatal(err)
	}
	info, err := render.Probe(source)
	if err != nil || info.Frames < 2 {
		t.Fatalf("%+v, %v", info, err)
	}
	for _, c := range []struct {
		query, accept, kind string
		frames              int
	}{
		{"width=120", browserAccept, "image/avif", info.Frames},
		{"width=120", "image/webp,*/*", "image/webp", info.Frames},
		{"width=120&format=jxl", "", "image/jxl", info.Frames},
		{"width=120", "image/png,*/*", "image/gif", info.Frames},
		{"width=120&format=webp", "", "image/webp", info.Frames},
		{"width=120&animation=none", browserAccept, "image/avif", 1},
		{"width=120&format=jpeg", "", "image/jpeg", 1},
	} {
		a := s.Get(t, "/kestrel/catalogue/launch.gif?"+c.query, "Accept", c.accept)
		got, err := render.Probe(a.Data)
		if err != nil || a.Header.Get("Content-Type") != c.kind || got.Frames != c.frames || got.W != 120 || got.Plays != info.Plays && got.Frames > 1 {
			t.Errorf("%s for %q: %s, %+v, %v; want %d frames of %s", c.query, c.accept, a.Header.Get("Content-Type"), got, err, c.frames, c.kind)
		}
		if len(a.Data) > len(source) {
			t.Errorf("%s: %d bytes of %d", c.query, len(a.Data), len(source))
		}
	}
}

func TestRetainOverHTTP(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	dir := t.TempDir()
	source, err := os.ReadFile(filepath.Join(bed.Pictures, "sled-blue.jpg"))
	if err != nil {
		t.Fatal(err)
	}
	stripped, ok := metadata.Strip(source)
	if !ok {
		t.Fatal("the picture can't be stripped")
	}
	told := metadata.Embed(stripped, metadata.Facts{Exif: []byte("MM\x00*\x00\x00\x00\x08\x00\x01\x82\x98\x00\x02\x00\x00\x00\x0d\x00\x00\x00\x1a\x00\x00\x00\x00Kestrel&Twine")})
	if err := os.WriteFile(filepath.Join(dir, "told.jpg"), told, 0o644); err != nil {
		t.Fatal(err)
	}
	bed.Must(t, s, "lane", "add", "kestrel/told", "--folder", dir)
	for _, format := range []string{"avif", "webp", "jpeg", "png"} {
		for retain, want := range map[string]bool{"": false, "&retain=rights": true, "&retain=camera%20place": false} {
			a := s.Get(t, "/kestrel/told/told.jpg?width=100&format="+format+retain)
			if a.StatusCode != 200 || bytes.Contains(a.Data, []byte("Kestrel&Twine")) != want {
				t.Errorf("%s%s: %d, copyright %v, want %v", format, retain, a.StatusCode, !want, want)
			}
		}
	}
}

func TestTheSourceItselfOverHTTP(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	dir := t.TempDir()
	r := bed.Run(t, nil, "render", filepath.Join(bed.Pictures, "delta-red.jpg"), "width=400", "quality=50", "-o", filepath.Join(dir, "small.jpg"))
	if r.Code != 0 {
		t.Fatal(r.Err)
	}
	source, err := os.ReadFile(filepath.Join(dir, "small.jpg"))
	if err != nil {
		t.Fatal(err)
	}
	bed.Must(t, s, "lane", "add", "kestrel/small", "--folder", dir)
	for query, own := range map[string]bool{"": true, "?width=400": true, "?width=1200": true, "?width=399": false, "?quality=50": false} {
		a := s.Get(t, "/kestrel/small/small.jpg"+query, "Accept", "image/jpeg")
		if is := bytes.Equal(a.Data, source); a.StatusCode != 200 || is != own {
			t.Errorf("%q: %d, the source's own bytes: %v, want %v", query, a.StatusCode, is, own)
		}
	}
	// A client that takes more is sent what is smaller.
	if a := s.Get(t, "/kestrel/small/small.jpg", "Accept", browserAccept); len(a.Data) > len(source) {
		t.Errorf("%s of %d bytes for a source of %d", a.Header.Get("Content-Type"), len(a.Data), len(source))
	}
	// On a lane for signed links the source's bytes aren't given away.
	bed.Must(t, s, "lane", "set", "kestrel/small", "--visibility", "signed")
	bed.Must(t, s, "key", "add", "kestrel", "k1")
	link := strings.TrimSpace(bed.Must(t, s, "link", "kestrel/small/small.jpg", "--sign", "k1"))
	if a := s.Get(t, strings.TrimPrefix(link, s.Base), "Accept", "image/jpeg"); a.StatusCode != 200 || bytes.Equal(a.Data, source) {
		t.Errorf("%d, the source's own bytes: %v", a.StatusCode, bytes.Equal(a.Data, source))
	}
}

func TestRenderSaysHow(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	for ending, want := range map[string]string{"webp": "searched for quality 72 · VP8 quantizer", "avif": "AV1 quantizer", "jpg": "searched for quality 72 · JPEG tables", "gif": "palette for quality 72"} {
		out := filepath.Join(dir, "o."+ending)
		r := bed.Run(t, nil, "render", filepath.Join(bed.Pictures, "delta-red.jpg"), "width=160", "-o", out)
		if r.Code != 0 || !strings.Contains(r.Out, want) {
			t.Errorf("%s: %d %s%s; want %q", ending, r.Code, r.Out, r.Err, want)
		}
	}
	r := bed.Run(t, nil, "render", filepath.Join(bed.Pictures, "delta-red.jpg"), "width=160", "budget=2500", "-o", filepath.Join(dir, "b.webp"), "--json")
	var one rendered
	if err := json.Unmarshal([]byte(r.Out), &one); err != nil || one.Bytes > 2500 || one.Encoding.Likeness == 0 {
		t.Errorf("%d %s%s %v", r.Code, fmt.Sprint(one), r.Err, err)
	}
}

func TestTheFirstAnswerIsPredictedAndTheNextSearched(t *testing.T) {
	t.Parallel()
	p := bed.KestrelWhole(t, "--search-at-once=false")
	const path = "/kestrel/catalogue/delta-red.jpg?width=500&format=webp"
	first := p.Get(t, path)
	if first.StatusCode != 200 || first.Header.Get("Cache-Control") != "public, max-age=5" {
		t.Errorf("%d, Cache-Control %q", first.StatusCode, first.Header.Get("Cache-Control"))
	}
	var last testbed.Answer
	testbed.Eventually(t, "the searched variant takes its place", func() error {
		if last = p.Get(t, path); last.Header.Get("Cache-Control") == "public, max-age=5" {
			return fmt.Errorf("it is still the first one")
		}
		return nil
	})
	if last.Header.Get("ETag") == first.Header.Get("ETag") && !bytes.Equal(first.Data, last.Data) {
		t.Error("another variant has the same validator")
	}
	x := decoded[delivery.Explanation](t, p.Get(t, path+"&as=explain"), 200)
	if e := x.Variant.Encoding; e == nil || e.Way != "searched" || len(e.Trials) == 0 || x.Variant.Provisional || x.Bytes != len(last.Data) {
		t.Errorf("%+v", x.Variant)
	}
	// An explanation that comes first searches at once.
	x = decoded[delivery.Explanation](t, p.Get(t, "/kestrel/catalogue/festival-dawn.jpg?width=300&format=webp&as=explain"), 200)
	if e := x.Variant.Encoding; e == nil || e.Way != "searched" || x.Variant.Provisional {
		t.Errorf("%+v", x.Variant)
	}
	// Nothing is left to be searched for where no setting has to be found.
	if a := p.Get(t, "/kestrel/catalogue/mark.png?width=100&format=png"); a.Header.Get("Cache-Control") == "public, max-age=5" {
		t.Error("a PNG is provisional")
	}
}

func TestAThoroughSiteKeepsFewerBytes(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	const path = "/kestrel/catalogue/festival-crowd.jpg?width=500&format=avif"
	quick := decoded[delivery.Explanation](t, s.Get(t, path+"&as=explain"), 200)
	bed.Must(t, s, "site", "set", "kestrel", "--effort", "thorough")
	slow := decoded[delivery.Explanation](t, s.Get(t, path+"&as=explain"), 200)
	if !strings.Contains(quick.Variant.Encoding.Setting, "speed 6") || !strings.Contains(slow.Variant.Encoding.Setting, "speed 5") || slow.Bytes > quick.Bytes+quick.Bytes/30 || slow.Key == quick.Key {
		t.Errorf("%s with %d bytes, %s with %d", quick.Variant.Encoding.Setting, quick.Bytes, slow.Variant.Encoding.Setting, slow.Bytes)
	}
}
