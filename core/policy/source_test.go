package policy

import (
	"strings"
	"testing"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/sheet"
)

func TestWhatASourceOfThisHeaderMayBecome(t *testing.T) {
	png := func(w, h int) codec.Header {
		return codec.Header{Type: "image/png", W: w, H: h, Orientation: 1, Frames: 1}
	}
	turned := png(400, 100)
	turned.Orientation = 6
	moving := png(10, 10)
	moving.Frames = 10
	svg := codec.Header{Type: declare.Drawing, W: 100, H: 100, Orientation: 1, Frames: 1}
	for _, c := range []struct {
		name, query string
		h           codec.Header
		change      func(*Document)
		want        Reason
		use         Use
	}{
		{"as it is", "", png(400, 300), nil, "", Render},
		{"smaller", "width=100", png(400, 300), nil, "", Render},
		{"too wide", "width=300", png(400, 300), func(d *Document) { d.Limits.Width = 200 }, ReasonVariantTooLarge, Render},
		{"too wide by its nature", "", png(400, 300), func(d *Document) { d.Limits.Width = 200 }, ReasonVariantTooLarge, Render},
		{"not grown beyond it", "width=300", png(100, 100), func(d *Document) { d.Limits.Width = 200 }, "", Render},
		{"grown beyond it", "width=300&grow=yes", png(100, 100), func(d *Document) { d.Limits.Width = 200 }, ReasonVariantTooLarge, Render},
		{"by its resolution", "width=150&resolution=2x", png(900, 900), func(d *Document) { d.Limits.Width = 200 }, ReasonVariantTooLarge, Render},
		{"too high", "height=300", png(300, 400), func(d *Document) { d.Limits.Height = 200 }, ReasonVariantTooLarge, Render},
		{"too high by its shape", "width=100", png(100, 1000), func(d *Document) { d.Limits.Height = 200 }, ReasonVariantTooLarge, Render},
		{"turned upright it is high", "width=90", turned, func(d *Document) { d.Limits.Height = 200 }, ReasonVariantTooLarge, Render},
		{"turned on its side it isn't", "width=90&rotate=90deg", turned, func(d *Document) { d.Limits.Height = 200 }, "", Render},
		{"as it is stored it isn't", "width=90&image-orientation=none", turned, func(d *Document) { d.Limits.Height = 200 }, "", Render},
		{"a part of the stored picture", "xywh=0,390,10,5&image-orientation=none", turned, nil, ReasonNothingLeft, Render},
		{"too many pixels", "width=100&height=100", png(400, 400), func(d *Document) { d.Limits.Pixels = 9999 }, ReasonVariantTooLarge, Render},
		{"just as many", "width=100&height=100", png(400, 400), func(d *Document) { d.Limits.Pixels = 10_000 }, "", Render},
		{"a source of too many pixels", "width=1", png(1000, 1001), func(d *Document) { d.Limits.SourcePixels = 1_000_000 }, ReasonSourceTooManyPixels, Render},
		{"a header that overflows", "width=1", png(1<<31-1, 1<<31-1), nil, ReasonSourceTooManyPixels, Render},
		{"too many frames", "width=1", moving, func(d *Document) { d.Limits.SourceFrames = 9 }, ReasonSourceTooManyFrames, Render},
		{"frames enough", "width=1", moving, func(d *Document) { d.Limits.SourceFrames = 10 }, "", Render},
		{"a part that is there", "xywh=390,290,50,50", png(400, 300), nil, "", Render},
		{"a part beside it", "xywh=400,0,50,50", png(400, 300), nil, ReasonNothingLeft, Render},
		{"a part of the upright picture", "xywh=0,390,10,5", turned, nil, "", Render},
		{"a drawing", "", svg, nil, "", Render},
		{"a drawing that is drawn too wide", "width=300", svg, func(d *Document) { d.Limits.Width = 200 }, ReasonVariantTooLarge, Render},
		{"a drawing that is refused", "", svg, func(d *Document) { d.Lanes[0].SVG = "refuse" }, ReasonNotAnImage, Render},
		{"a drawing that may pass", "width=9999", svg, func(d *Document) { d.Lanes[0].SVG = "untouched" }, "", Untouched},
		{"a drawing of which something is to be gone", "redact=1,1,9,9", svg, func(d *Document) { d.Lanes[0].SVG = "untouched" }, "", Render},
	} {
		d := NewDocument("kestrel")
		d.Lanes = []Lane{{Name: "f", Kind: "folder", Folder: "/srv"}}
		d.Complete(kinds)
		if c.change != nil {
			c.change(&d)
		}
		s, _, err := Compile(d, kinds)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		declared, err := declare.Parse(c.query)
		if err != nil {
			t.Fatal(err)
		}
		full := s.Sheet.Over(declared, sheet.Client{})
		var r declare.Resolved
		full.Settle(s.Offer(0, full.Quality), &r)
		trace := []Step{}
		use, no := s.DecideSource(s.Lanes[0], r, c.h, &trace)
		got := Reason("")
		if no != nil {
			got = no.Reason
		}
		if got != c.want || use != c.use || len(trace) == 0 {
			t.Errorf("%s: %q and %d, want %q and %d (%v)", c.name, got, use, c.want, c.use, trace)
		}
		if no != nil && no.Remedy == "" {
			t.Errorf("%s has no way out", c.name)
		}
	}
}

func TestSettingsKeepWhatDidntChange(t *testing.T) {
	stored := func(name string, version int64, change func(*Document)) Stored {
		d := NewDocument(name)
		if change != nil {
			change(&d)
		}
		return Stored{Document: d, Version: version, Secrets: map[string]string{KeySecret("k"): "secret"}}
	}
	first, errs := NewSettings(kinds, nil, []Stored{stored("b", 1, nil), stored("a", 1, func(d *Document) { d.Hosts = []string{"img.a.test"} })})
	if len(errs) > 0 || len(first.Sites) != 2 || first.Sites[0].Name != "a" || string(first.Site("a").Keys["k"]) != "secret" || first.SiteByHost("IMG.a.test:80") != first.Site("a") || first.SiteByHost("b.test") != nil {
		t.Fatalf("%v %+v", errs, first)
	}
	second, _ := NewSettings(kinds, first, []Stored{stored("a", 1, nil), stored("b", 2, func(d *Document) { d.Limits.Width = 100 })})
	if second.Site("a") != first.Site("a") || second.Site("b") == first.Site("b") || second.Site("b").Limits.Width != 100 || second.Generation != first.Generation+1 {
		t.Error("what didn't change is another value, or what changed isn't")
	}
	third, errs := NewSettings(kinds, second, []Stored{stored("a", 2, func(d *Document) { d.Formats = []string{"nonsense"} }), stored("c", 1, func(d *Document) { d.Sheet = "* {" })})
	if len(errs) != 2 || third.Site("a") != second.Site("a") || third.Site("c") != nil || third.Site("b") != nil {
		t.Errorf("a site that doesn't compile: %v", errs)
	}
	changed := stored("a", 2, nil)
	changed.Secrets = map[string]string{KeySecret("k"): "other"}
	fourth, _ := NewSettings(kinds, third, []Stored{changed})
	if string(fourth.Site("a").Keys["k"]) != "other" {
		t.Error("a secret that changed isn't heard of")
	}
	var none *Settings
	if none.Site("a") != nil {
		t.Error("no settings have a site")
	}
}

func TestZeroIsAValue(t *testing.T) {
	zero := 0
	d := NewDocument("kestrel")
	d.Lanes = []Lane{{Name: "f", Kind: "folder", Folder: "/srv", FreshS: &zero, MaxAgeS: &zero}, {Name: "g", Kind: "web", Allow: []string{"https://a.test/*"}}}
	d.Complete(kinds)
	s, _, err := Compile(d, kinds)
	if err != nil {
		t.Fatal(err)
	}
	if s.Lanes[0].Fresh != 0 || s.Lanes[0].MaxAge != 0 || s.Lanes[1].Fresh.Seconds() != 300 || s.Lanes[1].MaxAge.Seconds() != 3600 {
		t.Errorf("%v %v, %v %v", s.Lanes[0].Fresh, s.Lanes[0].MaxAge, s.Lanes[1].Fresh, s.Lanes[1].MaxAge)
	}
	c := d.Clone()
	*c.Lanes[0].FreshS = 9
	if *d.Lanes[0].FreshS != 0 {
		t.Error("a clone shares its numbers")
	}
}

func TestWhatWouldBeTheOnlyOne(t *testing.T) {
	open := NewDocument("kestrel")
	closed := open.Clone()
	closed.Pages.Allow, closed.Ladder.Rungs, closed.Shapes = []string{"https://a.test"}, []int{100}, []string{"1"}
	for _, action := range []string{"add-page", "add-rung", "add-shape"} {
		if what, others := (Mend{Action: action}).Narrows(open); what == "" || others == "" {
			t.Errorf("%s narrows nothing", action)
		}
		if what, _ := (Mend{Action: action}).Narrows(closed); what != "" {
			t.Errorf("%s narrows %s, which is narrow", action, what)
		}
	}
	if what, _ := (Mend{Action: "add-allow"}).Narrows(open); what != "" {
		t.Error(what)
	}
}

// What becomes of a high dynamic range is said in the trace.
func TestTheTraceTellsOfAHighRange(t *testing.T) {
	site, _, err := Compile(NewDocument("kestrel"), nil)
	if err != nil {
		t.Fatal(err)
	}
	lane := &CompiledLane{Limits: site.Limits}
	for given, want := range map[string]string{"PQ": "toned down", "HLG": "toned down", "gain map": "what others show", "": ""} {
		var steps []Step
		h := codec.Header{Type: "image/avif", W: 40, H: 30, Orientation: 1, Frames: 1, Range: given}
		if _, no := site.DecideSource(lane, declare.Resolved{}, h, &steps); no != nil {
			t.Fatal(no)
		}
		said := ""
		for _, s := range steps {
			if s.Rule == "source" {
				said += s.Note
			}
		}
		if (said == "") != (want == "") || !strings.Contains(said, want) {
			t.Errorf("of %q it says %q", given, said)
		}
	}
}
