package policy

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"echolane/core/declare"
)

func decide(t *testing.T, s *Site, query string, trace *[]Step) (string, *Refusal) {
	t.Helper()
	d, err := declare.Parse(query)
	if err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	signed := d
	signed.Signature = ""
	r, no := s.Decide(&Ask{Lane: s.Lanes[0], Declared: d, Accepted: Accepts(declare.WebP), Now: 1_800_000_000, Form: func() string { return "/kestrel/catalogue/a.jpg?" + signed.AddressForm() }}, trace)
	if no != nil {
		return "", no
	}
	return r.String(), nil
}

const common = "&object-fit=cover&quality=72&format=webp,jpeg,png,gif,own"

func TestWhatASiteAllows(t *testing.T) {
	ladder := func(d *Document) { d.Ladder = Ladder{[]int{320, 640, 960}, "refuse"} }
	up := func(d *Document) { d.Ladder = Ladder{[]int{320, 640, 960}, "round-up"} }
	for _, c := range []struct {
		name   string
		change func(*Document)
		query  string
		want   string // resolved, or a reason
	}{
		{"anything goes at first", nil, "width=333", "width=333" + common},
		{"resolution multiplies", nil, "width=300&resolution=2x", "width=600" + common},
		{"a rung", ladder, "width=320", "width=320" + common},
		{"a rung by resolution", ladder, "width=320&resolution=2x", "width=640" + common},
		{"a rung by shape", ladder, "height=320&aspect-ratio=2/1", "height=320&aspect-ratio=2" + common},
		{"no rung", ladder, "width=321", "no-such-rung"},
		{"no rung by resolution", ladder, "width=320&resolution=1.5x", "no-such-rung"},
		{"a height is held to the rungs where no width is known", ladder, "height=321", "no-such-rung"},
		{"the natural size stays allowed", ladder, "format=png", "quality=72&format=png,own"},
		{"but not at any resolution", ladder, "resolution=2x", "no-such-rung"},
		{"rounded up", up, "width=321", "width=640" + common},
		{"rounded up with its height", up, "width=480&height=240", "width=640&height=320" + common},
		{"beyond the top the top", up, "width=5000", "width=960" + common},
		{"a shape that is listed", func(d *Document) { d.Shapes = []string{"3/2"} }, "width=300&aspect-ratio=6/4", "width=300&aspect-ratio=3/2" + common},
		{"a shape by both sides", func(d *Document) { d.Shapes = []string{"3/2"} }, "width=350&height=233", "width=350&height=233" + common},
		{"another shape", func(d *Document) { d.Shapes = []string{"3/2"} }, "width=300&height=300", "shape-not-delivered"},
		{"another ratio", func(d *Document) { d.Shapes = []string{"3/2"} }, "aspect-ratio=1", "shape-not-delivered"},
		{"the natural shape", func(d *Document) { d.Shapes = []string{"3/2"} }, "width=300", "width=300" + common},
		{"quality within", func(d *Document) { d.Limits.QualityFloor, d.Limits.QualityCeiling = 40, 80 }, "quality=40", "quality=40&format=webp,jpeg,png,gif"},
		{"quality below the floor", func(d *Document) { d.Limits.QualityFloor = 40 }, "quality=39", "quality-not-delivered"},
		{"quality above the ceiling", func(d *Document) { d.Limits.QualityCeiling = 80 }, "quality=81", "quality-not-delivered"},
		{"lossless is above every ceiling but 100", func(d *Document) { d.Limits.QualityCeiling = 99 }, "quality=lossless", "quality-not-delivered"},
		{"lossless", nil, "quality=lossless", "quality=lossless&format=webp,png"},
		{"a format that isn't the site's", func(d *Document) { d.Formats = []string{"webp", "jpeg"} }, "format=png", "format-not-delivered"},
		{"jpeg can't be lossless", nil, "format=jpeg&quality=lossless", "format-not-lossless"},
		{"paint by URL", nil, "width=9&opacity=.5", "width=9&object-fit=cover&opacity=0.5&quality=72&format=webp,jpeg,png,gif"},
		{"paint by class only", func(d *Document) { d.Paint = "classes" }, "opacity=.5", "only-by-class"},
		{"grow by class only", func(d *Document) { d.Grow = "classes" }, "width=9&grow=yes", "only-by-class"},
		{"not growing is always allowed", func(d *Document) { d.Grow = "classes" }, "width=9&grow=no", "width=9" + common},
		{"nothing unsigned", func(d *Document) { d.Signing.Unsigned = "nothing" }, "width=9", "signature-needed"},
		{"the ladder unsigned", func(d *Document) { ladder(d); d.Signing.Unsigned = "ladder" }, "width=320", "width=320" + common},
		{"the ladder unsigned isn't rounded", func(d *Document) { up(d); d.Signing.Unsigned = "ladder" }, "width=321", "no-such-rung"},
		{"paint beside the ladder unsigned", func(d *Document) { ladder(d); d.Signing.Unsigned = "ladder" }, "width=320&opacity=0", "signature-needed"},
		{"a lane for signed links only", func(d *Document) { d.Lanes[0].Visibility = "signed" }, "width=9", "signature-needed"},
		{"a key without a signature", nil, "width=9&keyid=k1", "signature-needed"},
		{"a signature without a key", nil, "width=9&signature=abc", "signature-wrong"},
		{"an unknown key", nil, "width=9&keyid=k1&signature=abc", "key-unknown"},
		{"an end that is past", nil, "expires=2020-01-01T00:00:00Z", "link-expired"},
		{"an end to come", nil, "width=9&expires=2099-01-01T00:00:00Z", "width=9" + common},
		{"delivery isn't part of the variant", nil, "width=9&download=kite.webp", "width=9" + common},
	} {
		s := compile(t, c.change)
		var trace []Step
		got, no := decide(t, s, c.query, &trace)
		if no != nil {
			got = string(no.Reason)
			if no.Remedy == "" || no.Detail == "" || len(trace) == 0 || !trace[len(trace)-1].Decided {
				t.Errorf("%s: %+v, trace %v", c.name, no, trace)
			}
			if no.Mend != nil {
				d, err := no.Mend.Apply(s.document(t, c.change))
				if err != nil {
					t.Errorf("%s: %v", c.name, err)
					continue
				}
				mended, _, err := Compile(d, kinds)
				if err != nil {
					t.Errorf("%s: mended it doesn't compile: %v", c.name, err)
					continue
				}
				if _, still := decide(t, mended, c.query, nil); still != nil && still.Reason == no.Reason {
					t.Errorf("%s: %s is still refused after %s", c.name, c.query, no.Mend.Command("kestrel"))
				}
			}
		}
		if got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
	}
}

func (s *Site) document(t *testing.T, change func(*Document)) Document {
	t.Helper()
	return kestrel(change)
}

func TestSignedLinksGoWhereTheirKeyLets(t *testing.T) {
	s := compile(t, func(d *Document) {
		d.Ladder, d.Shapes, d.Paint = Ladder{[]int{320}, "refuse"}, []string{"1"}, "classes"
		d.Signing.Unsigned = "nothing"
		d.Limits.QualityCeiling = 80
	})
	s.Keys = map[string][]byte{"old": []byte("a secret of at least 32 bytes: old"), "new": []byte("a secret of at least 32 bytes: new")}
	sign := func(key, query string) string {
		form := "/kestrel/catalogue/a.jpg?" + query + "&keyid=" + key
		return query + "&keyid=" + key + "&signature=" + Sign(s.Keys[key], form)
	}
	for _, key := range []string{"old", "new"} { // both are good at once
		if got, no := decide(t, s, sign(key, "width=333&aspect-ratio=3/2&opacity=0.5"), nil); no != nil || !strings.HasPrefix(got, "width=333&aspect-ratio=3/2") {
			t.Errorf("key %s: %q, %v", key, got, no)
		}
	}
	if _, no := decide(t, s, sign("old", "quality=90"), nil); no == nil || no.Reason != "quality-not-delivered" {
		t.Errorf("a signature lifts the limits: %v", no)
	}
	good := sign("old", "width=333")
	for what, query := range map[string]string{
		"another width":      strings.Replace(good, "333", "334", 1),
		"another key":        strings.Replace(good, "keyid=old", "keyid=new", 1),
		"one more word":      good + "&download=x",
		"a shorter spelling": good[:len(good)-1],
	} {
		if _, no := decide(t, s, query, nil); no == nil || no.Reason != "signature-wrong" {
			t.Errorf("%s: %v", what, no)
		}
	}
	if _, no := decide(t, s, strings.Replace(good, "width=333", "WIDTH=333px", 1), nil); no != nil {
		t.Errorf("another spelling of the same: %v", no)
	}
}

// The vectors are for whoever signs in another language; they hold what this code does.
func TestSigningVectors(t *testing.T) {
	data, err := os.ReadFile("../../docs/signing-vectors.json")
	if err != nil {
		t.Fatal(err)
	}
	var vectors []struct{ Name, Secret, Path, Query, AddressForm, Signature string }
	if err := json.Unmarshal(data, &vectors); err != nil {
		t.Fatal(err)
	}
	if len(vectors) < 8 {
		t.Fatalf("only %d vectors", len(vectors))
	}
	for _, v := range vectors {
		d, err := declare.Parse(v.Query)
		if err != nil {
			t.Errorf("%s: %v", v.Name, err)
			continue
		}
		var form []byte
		for i, element := range strings.Split(v.Path, "/") {
			if i > 0 {
				form = append(form, '/')
			}
			form = declare.AppendSegment(form, strings.ReplaceAll(element, "%2F", "/"))
		}
		form = d.AppendAddressForm(append(form, '?'))
		if string(form) != v.AddressForm {
			t.Errorf("%s: address form %s, want %s", v.Name, form, v.AddressForm)
		}
		if got := Sign([]byte(v.Secret), v.AddressForm); got != v.Signature {
			t.Errorf("%s: signature %s, want %s", v.Name, got, v.Signature)
		}
	}
}

func TestWhichPagesMayEmbed(t *testing.T) {
	s := compile(t, func(d *Document) { d.Pages.Allow = []string{"https://www.kestrel.test", "https://*.twine.test:8443"} })
	strict := compile(t, func(d *Document) { d.Pages.Allow, d.Pages.Silent = []string{"https://www.kestrel.test"}, "refuse" })
	for _, c := range []struct {
		name   string
		site   *Site
		page   Page
		origin string // "no" where it's refused
	}{
		{"by origin", s, Page{Site: "cross-site", Origin: "https://www.kestrel.test"}, "https://www.kestrel.test"},
		{"by referer alone", s, Page{Referer: "https://www.kestrel.test/shop/?q=1#x"}, "https://www.kestrel.test"},
		{"by referer with fetch metadata", s, Page{Site: "cross-site", Referer: "https://www.kestrel.test/"}, "https://www.kestrel.test"},
		{"a wildcard with a port", s, Page{Origin: "https://shop.twine.test:8443"}, "https://shop.twine.test:8443"},
		{"the wildcard isn't its own apex", s, Page{Origin: "https://twine.test:8443"}, "no"},
		{"another port", s, Page{Origin: "https://shop.twine.test"}, "no"},
		{"another scheme", s, Page{Origin: "http://www.kestrel.test"}, "no"},
		{"a host that only ends alike", s, Page{Origin: "https://evilwww.kestrel.test"}, "no"},
		{"a host that only begins alike", s, Page{Origin: "https://www.kestrel.test.evil.test"}, "no"},
		{"user information before the host", s, Page{Referer: "https://www.kestrel.test@evil.test/"}, "no"},
		{"the origin comes before the referer", s, Page{Origin: "https://evil.test", Referer: "https://www.kestrel.test/"}, "no"},
		{"an opaque origin", s, Page{Site: "cross-site", Origin: "null"}, "no"},
		{"a page that hides itself", s, Page{Site: "cross-site"}, "no"},
		{"a same-site page that hides itself", s, Page{Site: "same-site"}, "no"},
		{"silent", s, Page{}, ""},
		{"typed into the address bar", s, Page{Site: "none"}, ""},
		{"silent, where that is refused", strict, Page{}, "no"},
		{"typed, where silence is refused", strict, Page{Site: "none"}, "no"},
		{"the service's own page", strict, Page{Site: "same-origin"}, ""},
	} {
		var trace []Step
		e, no := c.site.CheckPage(c.page, &trace)
		got := e.Origin
		if no != nil {
			got = "no"
			if no.Reason != "page-not-allowed" || no.Remedy == "" || !trace[len(trace)-1].Decided {
				t.Errorf("%s: %+v", c.name, no)
			}
		}
		if got != c.origin || !e.Restricted {
			t.Errorf("%s: %q, want %q", c.name, got, c.origin)
		}
	}
	if e, no := NewSite("x").CheckPage(Page{Origin: "https://anybody.test"}, nil); no != nil || e.Restricted {
		t.Errorf("a site that lists no pages: %+v, %v", e, no)
	}
}

func TestDenyWinsAndTheWalkSaysWhatDecided(t *testing.T) {
	s := compile(t, func(d *Document) {
		d.Lanes[1].Allow = []string{"https://photos.kestrel.test/*", "https://cdn.kestrel.test/:year(\\d{4})/*"}
		d.Lanes[1].Deny = []string{"https://photos.kestrel.test/private/*"}
	})
	for url, want := range map[string]string{
		"https://photos.kestrel.test/a.jpg":         "allow https://photos.kestrel.test/*",
		"https://photos.kestrel.test/private/a.jpg": "deny https://photos.kestrel.test/private/*",
		"https://cdn.kestrel.test/2026/a.jpg":       `allow https://cdn.kestrel.test/:year(\d{4})/*`,
		"https://cdn.kestrel.test/26/a.jpg":         "no rule is left",
		"http://photos.kestrel.test/a.jpg":          "no rule is left",
	} {
		var trace []Step
		no := s.Lanes[1].WalkRules("kestrel", url, &trace)
		last := trace[len(trace)-1]
		if last.Rule != want || !last.Decided || (no == nil) != strings.HasPrefix(want, "allow") {
			t.Errorf("%s: %+v, %v; want %s", url, last, no, want)
		}
		if no != nil && no.Mend == nil {
			t.Errorf("%s: no way to mend", url)
		}
	}
}

func TestProposedRulesAllowWhatTheyWereProposedFor(t *testing.T) {
	for _, url := range []string{
		"https://photos.kestrel.test/a/b.jpg?id=7", "http://127.0.0.1:8741/press/x.png", "http://[::1]:80/a", "https://[2606:4700::1111]:8443/a/b",
		"https://a.test/x(1)/{y}/z:w*?/q.jpg", "https://b\u00fccher.test/\u00e4/1.jpg", "https://a.test", "https://a.test/it's;here/$(x)/1.jpg",
	} {
		u, err := ReadURL(url)
		if err != nil {
			t.Errorf("%s: %v", url, err)
			continue
		}
		r, err := ReadRule(ProposeRule(u.Href(true)))
		if err != nil || !r.Matches(u.Href(true)) || r.Matches("https://elsewhere.test/a/b.jpg") {
			t.Errorf("%s: %s, %v", url, ProposeRule(url), err)
		}
	}
}

func BenchmarkParseDecideKey(b *testing.B) {
	s, _, err := Compile(kestrel(func(d *Document) { d.Ladder.Rungs = []int{320, 350, 640} }), kinds)
	if err != nil {
		b.Fatal(err)
	}
	b.ReportAllocs()
	var room [256]byte
	for b.Loop() {
		d, err := declare.Parse("width=350&aspect-ratio=3/2&object-fit=cover&quality=72")
		if err != nil {
			b.Fatal(err)
		}
		r, no := s.Decide(&Ask{Lane: s.Lanes[0], Declared: d, Accepted: Accepts(declare.WebP), Now: 1}, nil)
		if no != nil {
			b.Fatal(no)
		}
		r.Append(room[:0])
	}
}
