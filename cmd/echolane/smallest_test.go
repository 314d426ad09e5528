package main

import (
	"encoding/json"
	"errors"
	"strings"
	"testing"
	"time"

	"echolane/internal/testbed"
	"echolane/service/api"
	"echolane/service/delivery"
)

// A client gets the format that has the fewest bytes for the picture, once that is known, and is told what was weighed.
func TestAClientGetsTheSmallestOfWhatItTakes(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "site", "set", "kestrel", "--effort", "quick")
	const drawing, photo = "/kestrel/catalogue/mark.png?width=300&quality=92", "/kestrel/catalogue/delta-red.jpg?width=300"
	kept := func(address, want string) int {
		t.Helper()
		until := time.Now().Add(30 * time.Second)
		for {
			a := s.Get(t, address, "Accept", "image/webp,*/*")
			if got := a.Header.Get("Content-Type"); got == want {
				if a.Header.Get("Vary") != "Accept" {
					t.Errorf("%s varies by %q", address, a.Header.Get("Vary"))
				}
				return len(a.Data)
			} else if time.Now().After(until) {
				t.Fatalf("%s is %s, want %s", address, got, want)
			}
			time.Sleep(100 * time.Millisecond)
		}
	}
	asPNG := kept(drawing, "image/png")
	if webp := s.Get(t, drawing+"&format=webp"); webp.Header.Get("Content-Type") != "image/webp" || len(webp.Data) <= asPNG {
		t.Errorf("as WebP it has %d bytes, as PNG %d", len(webp.Data), asPNG)
	}
	kept(photo, "image/webp") // of which that is known beforehand
	told := decoded[delivery.Explanation](t, s.Get(t, drawing+"&as=explain", "Accept", "image/webp,*/*"), 200)
	if w := told.Variant.Encoding.Weighed; len(w) != 2 || w[0].Format != "webp" || w[1].Format != "png" || w[1].Bytes != asPNG {
		t.Errorf("it was weighed as %+v", told.Variant.Encoding)
	}
	if out := bed.Must(t, s, "explain", "kestrel/catalogue/mark.png?width=300&quality=92", "--accept", "image/webp"); !strings.Contains(out, "the smallest of webp") {
		t.Errorf("explain doesn't say what was weighed:\n%s", out)
	}
	// A page that names formats itself names the lightest first, and what every browser shows last.
	bed.Must(t, s, "site", "set", "kestrel", "--formats", "avif,webp,jpeg,png")
	var m api.Markup
	text := bed.Must(t, s, "markup", "kestrel/catalogue/delta-red.jpg", "--slot", "width: 300px", "--decorative", "--formats", "jpeg,webp,avif", "--json")
	if err := json.Unmarshal([]byte(text), &m); err != nil || len(m.Markup.Sources) != 2 {
		t.Fatalf("%v: %s", err, text)
	}
	bytes := func(format string) int {
		return len(s.Get(t, "/kestrel/catalogue/delta-red.jpg?width=600&format="+format).Data)
	}
	first, second := strings.TrimPrefix(m.Markup.Sources[0].Type, "image/"), strings.TrimPrefix(m.Markup.Sources[1].Type, "image/")
	if !strings.Contains(m.Markup.Src, "format=jpeg") || float64(bytes(first)) > 1.02*float64(bytes(second)) || first == second {
		t.Errorf("%s of %d bytes stands before %s of %d; at last %s", first, bytes(first), second, bytes(second), m.Markup.Src)
	}
	testbed.Eventually(t, "stock says in how many formats variants are made", func() error {
		if out := bed.Must(t, s, "stock", "kestrel"); !strings.Contains(out, "made in 2 formats at most") {
			return errors.New(out)
		}
		return nil
	})
	bed.Must(t, s, "site", "set", "kestrel", "--limit", "formats_tried=1")
	kept(drawing, "image/webp")
	if out := bed.Run(t, s, "site", "set", "kestrel", "--limit", "formats_tried=9"); out.Code != 2 || !strings.Contains(out.Err, "1 to 5") {
		t.Errorf("nine formats: %d %s", out.Code, out.Err)
	}
}
