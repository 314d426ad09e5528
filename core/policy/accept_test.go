package policy

import (
	"slices"
	"strings"
	"testing"

	"echolane/core/declare"
)

// What clients really send for an image, and what a new site answers a photograph with.
func TestEveryClientGetsWhatItCanShow(t *testing.T) {
	site, _, err := Compile(NewDocument("kestrel"), nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		client, accept string
		want           declare.Format
	}{
		{"Chromium, <img>", "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8", declare.AVIF},
		{"Chromium, a tab", "text/html,application/xhtml+xml,application/xml;q=0.9,image/avif,image/webp,image/apng,*/*;q=0.8,application/signed-exchange;v=b3;q=0.7", declare.AVIF},
		{"Firefox 128 and later, <img>", "image/avif,image/webp,image/png,image/svg+xml,image/*;q=0.8,*/*;q=0.5", declare.AVIF},
		{"Firefox before 128, <img>", "image/avif,image/webp,*/*", declare.AVIF},
		{"Firefox before 93, <img>", "image/webp,*/*", declare.WebP},
		{"Firefox before 65, <img>", "image/png,image/*;q=0.8,*/*;q=0.5", declare.JPEG},
		{"Safari 16 and later, <img>", "image/webp,image/avif,image/jxl,image/heic,image/heic-sequence,video/*;q=0.8,image/png,image/svg+xml,image/*;q=0.8,*/*;q=0.5", declare.AVIF},
		{"Safari 14, <img>", "image/webp,image/png,image/svg+xml,image/*;q=0.8,video/*;q=0.8,*/*;q=0.5", declare.WebP},
		{"Safari before 14, <img>", "image/png,image/svg+xml,image/*;q=0.8,video/*;q=0.8,*/*;q=0.5", declare.JPEG},
		{"Safari, a tab", "text/html,application/xhtml+xml,application/xml;q=0.9,*/*;q=0.8", declare.JPEG},
		{"an old Edge", "image/png,image/svg+xml,image/*;q=0.8,*/*;q=0.5", declare.JPEG},
		{"a search engine's picture bot", "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8", declare.AVIF},
		{"a search engine's bot", "*/*", declare.JPEG},
		{"a link preview's bot", "image/*", declare.JPEG},
		{"a link preview's bot, with types", "image/jpeg, image/png, image/gif", declare.JPEG},
		{"a feed reader", "image/png,image/jpeg,image/gif,image/*;q=0.7", declare.JPEG},
		{"a feed reader without the field", "", declare.JPEG},
		{"a mail client's proxy", "image/webp,image/*,*/*;q=0.8", declare.WebP},
		{"a mail client", "*/*", declare.JPEG},
		{"curl", "*/*", declare.JPEG},
		{"wget", "*/*;q=0.8, image/*;q=0.5", declare.JPEG},
		{"Python's requests", "*/*", declare.JPEG},
		{"okhttp on a phone", "image/webp", declare.WebP},
		{"no to AVIF, by name", "image/avif;q=0,image/webp,*/*", declare.WebP},
		{"no to both", "image/avif;q=0.0, image/webp;q=0, */*;q=1", declare.JPEG},
		{"only AVIF", "image/avif", declare.AVIF},
		{"little love is enough", "image/jpeg, image/avif;q=0.001", declare.AVIF},
		{"white space and case", " Image/AVIF ;q=0.9 , IMAGE/WEBP;Q=.9", declare.AVIF},
		{"parameters before the weight", "image/avif;profile=main;q=1", declare.AVIF},
		{"something longer", "image/avifs, image/webp2", declare.JPEG},
		{"a weight that says nothing counts as none", ";;;,,image/webp;q=,=", declare.JPEG},
	} {
		if got := site.Offer(ReadAccept(c.accept), 72)[0]; got != c.want {
			t.Errorf("%s: %q gets %v, want %v", c.client, c.accept, got, c.want)
		}
	}
	// Only a few bits of the field matter, so variants and caches aren't split by the rest.
	if a, b := ReadAccept("image/avif,image/webp,image/apng,*/*;q=0.8"), ReadAccept("image/webp;q=.5, image/avif;q=0.50"); a != b {
		t.Errorf("two clients that take the same, and like it as much, get %v and %v", a, b)
	}
}

// What a client likes more stands first, which counts among formats of like weight; beside that the site's order holds.
func TestWeightsOrderWhatIsOffered(t *testing.T) {
	site, _, err := Compile(NewDocument("kestrel"), nil)
	if err != nil {
		t.Fatal(err)
	}
	for accept, want := range map[string]string{
		"image/avif,image/jxl,image/webp":                         "avif jxl webp jpeg png gif",
		"image/avif;q=.5,image/jxl;q=.5,image/webp;q=.5":          "avif jxl webp jpeg png gif",
		"image/avif;q=.5,image/jxl;q=.7,image/webp":               "webp jxl avif jpeg png gif",
		"image/avif;q=.5,image/jxl;q=.5,image/webp":               "webp avif jxl jpeg png gif",
		"image/avif;q=.9,image/webp;q=.8":                         "avif webp jpeg png gif",
		"image/avif;q=.001,image/webp;q=.002,*/*":                 "webp avif jpeg png gif",
		"image/avif;q=nonsense,image/webp;q=.9,image/jxl;q=7":     "avif jxl webp jpeg png gif",
		"image/avif;q=0,image/jxl;q=0.1,image/webp;q=.2":          "webp jxl jpeg png gif",
		"image/jpeg;q=1,image/avif;q=.1,image/webp;q=.2,image/*":  "webp avif jpeg png gif",
		"image/webp;q=.4;x=1, image/avif;q=.3, image/jxl;level=5": "jxl webp avif jpeg png gif",
	} {
		var got []string
		for _, f := range site.Offer(ReadAccept(accept), 72) {
			got = append(got, f.String())
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%s: %s, want %s", accept, strings.Join(got, " "), want)
		}
		a := ReadAccept(accept)
		if !slices.Contains(a.Orders(), a) {
			t.Errorf("%s isn't among the orders of its formats", accept)
		}
	}
	if all := AcceptsAll.Orders(); len(all) != 13 { // so many weak orders has a set of three
		t.Errorf("three formats are liked in %d ways", len(all))
	}
}

// JPEG and PNG need no naming, unless a client names one of the two alone.
func TestWhoNamesPNGAloneGetsPNG(t *testing.T) {
	d := NewDocument("s")
	d.Formats = []string{"avif", "webp", "jpeg", "png"}
	site, _, err := Compile(d, nil)
	if err != nil {
		t.Fatal(err)
	}
	for accept, want := range map[string]string{
		"": "jpeg png gif", "*/*": "jpeg png gif", "image/*": "jpeg png gif", "text/html": "jpeg png gif", "image/png,image/jpeg": "jpeg png gif",
		"image/png": "png gif", "IMAGE/PNG;q=.5": "png gif", "image/png, image/jpeg;q=0": "png gif", "image/png,image/gif": "png gif",
		"image/png,*/*;q=0.1": "jpeg png gif", "image/png,image/*": "jpeg png gif", "image/jpeg": "jpeg", "image/avif,image/png": "avif png gif", "image/webp,image/jpeg": "webp jpeg",
		"image/png;q=0": "jpeg png gif",
	} {
		var got []string
		for _, f := range site.Offer(ReadAccept(accept), 72) {
			got = append(got, f.String())
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q is offered %v, want %s", accept, got, want)
		}
	}
	if got := site.Offer(ReadAccept("image/jpeg"), declare.Lossless); len(got) != 1 || got[0] != declare.PNG {
		t.Errorf("lossless, to a client that takes JPEG alone: %v", got)
	}
}
