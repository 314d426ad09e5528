package main

import (
	"strings"
	"testing"
	"time"

	"echolane/service/delivery"
)

// A client gets the format that has the fewest bytes for the picture, once that is known, and is told what was weighed.
func TestAClientGetsTheSmallestOfWhatItTakes(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
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
	bed.Must(t, s, "site", "set", "kestrel", "--limit", "formats_tried=1")
	kept(drawing, "image/webp")
	if out := bed.Run(t, s, "site", "set", "kestrel", "--limit", "formats_tried=9"); out.Code != 2 || !strings.Contains(out.Err, "1 to 5") {
		t.Errorf("nine formats: %d %s", out.Code, out.Err)
	}
}
