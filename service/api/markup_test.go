package api

import (
	"context"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"echolane/core/policy"
	"echolane/core/sheet"
	"echolane/service/cache"
	"echolane/service/lane"
	"echolane/service/source"
)

// fakeMaker knows one source, whose variants have a byte for every two pixels of width.
type fakeMaker struct{ facts source.Facts }

func (m fakeMaker) Preview(ctx context.Context, uri, accept string, _ *sheet.Sheet) (*cache.Variant, *policy.Refusal) {
	return m.Measure(ctx, uri, accept)
}

func (fakeMaker) KeysOf(context.Context, string) ([]string, *policy.Refusal) { return nil, nil }

func (m fakeMaker) FactsOf(context.Context, string) (source.Facts, *policy.Refusal) {
	return m.facts, nil
}

func (m fakeMaker) Measure(_ context.Context, uri, _ string) (*cache.Variant, *policy.Refusal) {
	_, query, _ := strings.Cut(uri, "?")
	q, err := url.ParseQuery(query)
	if err != nil {
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest})
	}
	w, _ := strconv.ParseFloat(q.Get("width"), 64)
	return &cache.Variant{Body: make([]byte, int(w)/2), Type: "image/avif"}, nil
}

func kestrel(t *testing.T) *policy.SiteSettings {
	t.Helper()
	d := policy.NewDocument("kestrel")
	d.Lanes = []policy.Lane{{Name: "catalogue", Folder: "/srv/kestrel"}, {Name: "press", Kind: "web", Allow: []string{"https://photos.kestrel.test/*"}}}
	d.Complete(lane.Described)
	s, _, err := policy.Compile(d, lane.Described)
	if err != nil {
		t.Fatal(err)
	}
	return &policy.SiteSettings{Site: s, Document: d}
}

func TestMarkupKnowsWhichWayASourceLies(t *testing.T) {
	for _, c := range []struct {
		kind, declarations string
		turned             int
		wide               bool
	}{
		{"image/jpeg", "", 6, false},
		{"image/jpeg", "image-orientation=none", 6, true},
		{"image/jpeg", "image-orientation=from-image", 6, false},
		{"image/jpeg", "image-orientation=none", 3, false}, // upside down it is as wide
		{"image/avif", "image-orientation=none", 6, false}, // whose turn isn't Exif's
		{"image/jpeg", "image-orientation=none", 0, false},
	} {
		out, no := MarkupFor(t.Context(), fakeMaker{source.Facts{Type: c.kind, Width: 900, Height: 1600, Turned: c.turned}}, kestrel(t),
			AskMarkup{Source: "catalogue/spool.jpg", Slot: "width: 450px", Decorative: true, Declarations: c.declarations})
		if no != nil {
			t.Fatal(no)
		}
		w, h := out.Markup.Width, out.Markup.Height
		if c.wide != (w > h) {
			t.Errorf("%s turned by %d, %q: the image is %v × %v", c.kind, c.turned, c.declarations, w, h)
		}
	}
}

func TestASourceIsNamedByItsLaneAndPath(t *testing.T) {
	s := kestrel(t)
	for given, want := range map[string]string{
		"catalogue/a b/ü.jpg":                       "catalogue/a%20b/%C3%BC.jpg",
		"/catalogue/a.jpg":                          "catalogue/a.jpg",
		"press/https://photos.kestrel.test/a b.jpg": "press/https%3A%2F%2Fphotos.kestrel.test%2Fa%20b.jpg",
	} {
		if got, no := SourcePath(s, given); no != nil || got != want {
			t.Errorf("%s: %q %v, want %q", given, got, no, want)
		}
	}
	for given, reason := range map[string]policy.Reason{"catalogue": policy.ReasonBadRequest, "catalogue/": policy.ReasonBadRequest, "nowhere/a.jpg": policy.ReasonNoSuchThing} {
		if _, no := SourcePath(s, given); no == nil || no.Reason != reason {
			t.Errorf("%s: %v", given, no)
		}
	}
}
