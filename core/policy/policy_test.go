package policy

import (
	"slices"
	"testing"

	"echolane/core/declare"
)

func TestAcceptNamesFormats(t *testing.T) {
	for _, c := range []struct {
		field string
		webp  bool
	}{
		{"image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8", true},
		{"image/webp,image/png,image/svg+xml,image/*;q=0.8,video/*;q=0.8,*/*;q=0.5", true},
		{"image/WebP; q=0.1", true},
		{"image/png, image/webp;level=1;q=1.0", true},
		{"*/*", false},
		{"image/*", false},
		{"", false},
		{"image/webp;q=0", false},
		{"image/webp;q=0.000", false},
		{"image/webp ; Q=0 , */*", false},
		{"image/webpx", false},
		{"image/png,image/jpeg", false},
	} {
		if got := ReadAccept(c.field).Has(declare.WebP); got != c.webp {
			t.Errorf("Accept %q: webp %v, want %v", c.field, got, c.webp)
		}
	}
}

func TestOfferKeepsTheSitesOrderAndAlwaysAnswers(t *testing.T) {
	a, w, j, p, g := declare.AVIF, declare.WebP, declare.JPEG, declare.PNG, declare.GIF
	for _, c := range []struct {
		name    string
		formats []declare.Format
		accept  Accepted
		quality declare.Quality
		want    []declare.Format
	}{
		{"all taken", []declare.Format{a, w, j, p}, AcceptsAll, 72, []declare.Format{a, w, j, p, g}},
		{"avif not named", []declare.Format{a, w, j, p}, Accepts(declare.WebP), 72, []declare.Format{w, j, p, g}},
		{"webp not named", []declare.Format{w, j, p}, 0, 72, []declare.Format{j, p, g}},
		{"site prefers jpeg", []declare.Format{j, w}, Accepts(declare.WebP), 72, []declare.Format{j, w, p, g}},
		{"site without avif", []declare.Format{w}, AcceptsAll, 72, []declare.Format{w, p, g}},
		{"only webp, not taken", []declare.Format{w}, 0, 72, []declare.Format{j, p, g}},
		{"lossless rules jpeg out", []declare.Format{w, j, p}, 0, declare.Lossless, []declare.Format{p}},
		{"lossless with webp", []declare.Format{j, w}, Accepts(declare.WebP), declare.Lossless, []declare.Format{w, p}},
	} {
		site := Site{Formats: c.formats}
		site.offers = makeOffers(&site)
		if got := site.Offer(c.accept, c.quality); !slices.Equal(got, c.want) {
			t.Errorf("%s: %v, want %v", c.name, got, c.want)
		}
	}
}

func TestLimits(t *testing.T) {
	l := Limits{SourceBytes: 1000, SourcePixels: 1000, SourceFrames: 3, Width: 50, Height: 40, Pixels: 1500}
	if l.CheckBytes(1000) != nil || l.CheckPixels(100, 10) != nil {
		t.Error("what is just within the limits is refused")
	}
	if r := l.CheckBytes(1001); r == nil || r.Reason != "source-too-many-bytes" {
		t.Errorf("1001 bytes: %+v", r)
	}
	if r := l.CheckPixels(1<<31-1, 1<<31-1); r == nil || r.Reason != "source-too-many-pixels" {
		t.Errorf("a huge header: %+v", r)
	}
}

func TestEveryParseProblemHasAReasonAndARemedy(t *testing.T) {
	for _, q := range []string{"widht=1", "zzz=1", "width=1&width=1", "width=", "width=x", "width=0", "width=%zz", "format=jpg", "a=1&b=2"} {
		_, err := declare.Parse(q)
		r := BadDeclarations(err.(declare.Problems))
		if r.Title == "" || r.Remedy == "" {
			t.Errorf("%q: %+v", q, r)
		}
	}
}

func TestDefaultsParse(t *testing.T) {
	if d := NewSite("new").Defaults; d.AddressForm() != "object-fit=cover&quality=72" {
		t.Errorf("the defaults of a new site: %v", d.AddressForm())
	}
}
