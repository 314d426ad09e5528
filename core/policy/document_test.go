package policy

import (
	"errors"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"
)

// kinds are two kinds of lane: one whose sources have paths, one whose sources have URLs.
var kinds = LaneKinds{
	{Name: "folder", FreshS: 1, Fields: []LaneField{{Name: "folder", Needed: "an absolute path", Place: true}}, Where: [][]string{{"folder"}}},
	{
		Name: "web", FreshS: 300, URLWithout: "base", Secrets: LaneSecrets{Form: Headers}, Where: [][]string{{"base"}, {"allow"}},
		Fields: []LaneField{{Name: "allow", Needed: "a URL pattern"}, {Name: "deny"}, {Name: "base", Place: true}, {Name: "private"}, {Name: "unshared", Common: true}},
	},
	{
		Name: "upload", FreshS: 1, Where: [][]string{{"folder"}, {"endpoint", "bucket", "prefix"}}, Secrets: LaneSecrets{Form: Credentials, Unless: "folder"},
		Fields: []LaneField{{Name: "folder", Place: true}, {Name: "bucket", Place: true}, {Name: "endpoint", Place: true}, {Name: "prefix", Place: true}},
		Check: func(l *Lane) *Trouble {
			if (l.Folder == "") == (l.Bucket == "") {
				return &Trouble{Path: "folder", Given: l.Folder, Detail: "one of the two", Allowed: "one"}
			}
			return nil
		},
	},
}

func kestrel(change func(*Document)) Document {
	d := NewDocument("kestrel")
	d.Lanes = []Lane{{Name: "catalogue", Folder: "/srv/kestrel"}, {Name: "press", Kind: "web", Allow: []string{"https://photos.kestrel.test/*"}}}
	if change != nil {
		change(&d)
	}
	d.Complete(kinds)
	return d
}

func compile(t *testing.T, change func(*Document)) *Site {
	t.Helper()
	s, _, err := Compile(kestrel(change), kinds)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func TestADocumentThatCantBeSaysWhereAndWhy(t *testing.T) {
	for _, c := range []struct {
		path    string
		nearest string
		change  func(*Document)
	}{
		{"site", "", func(d *Document) { d.Site = "Kestrel" }},
		{"hosts[0]", "", func(d *Document) { d.Hosts = []string{"IMG.kestrel.test"} }},
		{"hosts[0]", "", func(d *Document) { d.Hosts = []string{"img.kestrel.test:80"} }},
		{"sheet", "width", func(d *Document) { d.Sheet = "* { widht: 3 }" }},
		{"sheet", "", func(d *Document) { d.Sheet = "* { download: a }" }},
		{"sheet", "", func(d *Document) { d.Limits.QualityCeiling = 60 }},
		{"formats[1]", "jpeg", func(d *Document) { d.Formats = []string{"webp", "jpge"} }},
		{"formats[1]", "", func(d *Document) { d.Formats = []string{"webp", "webp"} }},
		{"formats", "", func(d *Document) { d.Formats = []string{} }},
		{"shapes[0]", "3/2", func(d *Document) { d.Shapes = []string{"6/4"} }},
		{"shapes[0]", "", func(d *Document) { d.Shapes = []string{"wide"} }},
		{"effort", "thorough", func(d *Document) { d.Effort = "thourough" }},
		{"grow", "classes", func(d *Document) { d.Grow = "clases" }},
		{"paint", "", func(d *Document) { d.Paint = "nobody" }},
		{"ladder.other", "round-up", func(d *Document) { d.Ladder.Other = "roundup" }},
		{"ladder.rungs[1]", "", func(d *Document) { d.Ladder.Rungs = []int{320, 320} }},
		{"ladder.rungs[0]", "", func(d *Document) { d.Ladder.Rungs = []int{0} }},
		{"ladder.rungs[0]", "", func(d *Document) { d.Ladder.Rungs = []int{9000} }},
		{"ladder.rungs", "", func(d *Document) {
			for i := range maxRungs + 1 {
				d.Ladder.Rungs = append(d.Ladder.Rungs, i+1)
			}
		}},
		{"limits.quality_floor", "", func(d *Document) { d.Limits.QualityFloor, d.Limits.QualityCeiling = 90, 80 }},
		{"limits.source_bytes", "", func(d *Document) { d.Limits.SourceBytes = 3 }},
		{"month.renders", "", func(d *Document) { d.Month.Renders = -1 }},
		{"pages.allow[0]", "", func(d *Document) { d.Pages.Allow = []string{"https://www.kestrel.test/shop"} }},
		{"pages.allow[0]", "", func(d *Document) { d.Pages.Allow = []string{"www.kestrel.test"} }},
		{"pages.silent", "", func(d *Document) { d.Pages.Silent = "refuse" }},
		{"signing.unsigned", "", func(d *Document) { d.Signing.Unsigned = "ladder" }},
		{"signing.unsigned", "nothing", func(d *Document) { d.Signing.Unsigned = "nothin" }},
		{"lanes[0].name", "", func(d *Document) { d.Lanes[0].Name = "a/b" }},
		{"lanes[1].name", "", func(d *Document) { d.Lanes[1].Name = "catalogue" }},
		{"lanes[0].kind", "folder", func(d *Document) { d.Lanes[0].Kind = "foldr" }},
		{"lanes[0].folder", "", func(d *Document) { d.Lanes[0].Folder = "srv/kestrel" }},
		{"lanes[0].folder", "", func(d *Document) { d.Lanes[0].Folder = "" }},
		{"lanes[0].allow", "", func(d *Document) { d.Lanes[0].Allow = []string{"https://a.test/*"} }},
		{"lanes[1].allow", "", func(d *Document) { d.Lanes[1].Allow = nil }},
		{"lanes[1].allow[0]", "", func(d *Document) { d.Lanes[1].Allow = []string{"photos.kestrel.test/*"} }},
		{"lanes[1].allow[0]", "", func(d *Document) { d.Lanes[1].Allow = []string{"ftp://photos.kestrel.test/*"} }},
		{"lanes[1].deny[0]", "", func(d *Document) { d.Lanes[1].Deny = []string{"https://(("} }},
		{"lanes[1].base", "", func(d *Document) { d.Lanes[1].Base = "https://photos.kestrel.test/press" }},
		{"lanes[1].base", "", func(d *Document) { d.Lanes[1].Base = "https://me:pw@photos.kestrel.test/" }},
		{"lanes[1].private[0]", "", func(d *Document) { d.Lanes[1].Private = []string{"localhost"} }},
		{"lanes[1].source_bytes", "", func(d *Document) { d.Lanes[1].SourceBytes = 1 << 30 }},
		{"lanes[0].prefix", "", func(d *Document) { d.Lanes[0] = Lane{Name: "f", Kind: "folder", Folder: "/srv", Prefix: "a"} }},
		{"lanes[0].folder", "", func(d *Document) { d.Lanes[0] = Lane{Name: "u", Kind: "upload"} }},
		{"lanes[0].endpoint", "", func(d *Document) {
			d.Lanes[0] = Lane{Name: "u", Kind: "upload", Bucket: "x", Endpoint: "file:///etc"}
		}},
		{"lanes[0].visibility", "signed", func(d *Document) { d.Lanes[0].Visibility = "singed" }},
	} {
		_, _, err := Compile(kestrel(c.change), kinds)
		var ts Troubles
		if !errors.As(err, &ts) {
			t.Errorf("%s: accepted", c.path)
			continue
		}
		if ts[0].Path != c.path || ts[0].Nearest != c.nearest || ts[0].Allowed == "" || ts[0].Detail == "" {
			t.Errorf("%+v, want it at %s, nearest %q", ts[0], c.path, c.nearest)
		}
		if r := BadDocument(ts); r.Reason != ReasonBadSettings || r.Remedy == "" {
			t.Errorf("%+v", r)
		}
	}
}

func TestWhatIsTooOpenIsAcceptedWithAWarning(t *testing.T) {
	for rule, says := range map[string]string{
		"https://*/*":                     "every host on the internet",
		"*://*/*":                         "every host on the internet",
		"https://*.test/*":                "",
		"https://*.com/*":                 "every host below com",
		"https://*.co.uk/*":               "every host below co.uk",
		"https://{*.}?github.io/*":        "every host below github.io",
		"http://photos.kestrel.test/*":    "plain http",
		"https://photos.kestrel.test/*":   "none",
		"https://*.photos.kestrel.test/*": "none",
	} {
		_, warnings, err := Compile(kestrel(func(d *Document) { d.Lanes[1].Allow = []string{rule} }), kinds)
		if err != nil {
			t.Errorf("%s: %v", rule, err)
			continue
		}
		if says == "none" && len(warnings) > 0 || says != "none" && len(warnings) == 0 {
			t.Errorf("%s: warnings %v", rule, warnings)
		}
		if says != "none" && !strings.Contains(warnings[0].Detail, says) {
			t.Errorf("%s: %v, want %q", rule, warnings, says)
		}
	}
}

func TestDiffSaysWhatChanges(t *testing.T) {
	before := kestrel(nil)
	after := kestrel(func(d *Document) {
		d.Ladder.Rungs = []int{320, 640}
		d.Lanes[1].Allow = append(d.Lanes[1].Allow, "https://b.test/*")
		d.Lanes = append(d.Lanes, Lane{Name: "more", Folder: "/srv/more"})
	})
	var lines []string
	for _, d := range Diff(before, after) {
		lines = append(lines, d.String())
	}
	all := strings.Join(lines, "\n")
	for _, want := range []string{"ladder.rungs: none → 320,640", "lanes.press.allow: https://photos.kestrel.test/* → https://photos.kestrel.test/*, https://b.test/*", "lanes.more.folder: + /srv/more"} {
		if !strings.Contains(all, want) {
			t.Errorf("%q isn't in\n%s", want, all)
		}
	}
	if ds := Diff(before, before.Clone()); len(ds) != 0 {
		t.Errorf("equal documents differ: %v", ds)
	}
	if s := Summary(Diff(NewDocument("a"), after)); len(s) > 2000 || !strings.Contains(s, "more") {
		t.Errorf("summary %q", s)
	}
}

func TestCloneSharesNothing(t *testing.T) {
	a := kestrel(func(d *Document) { d.Ladder.Rungs, d.Shapes, d.Hosts = []int{1}, []string{"1"}, []string{"h"} })
	b := a.Clone()
	b.Ladder.Rungs[0], b.Shapes[0], b.Hosts[0], b.Lanes[0].Name, b.Lanes[1].Allow[0], b.Formats[0] = 2, "2", "i", "x", "y", "z"
	if !reflect.DeepEqual(a, kestrel(func(d *Document) { d.Ladder.Rungs, d.Shapes, d.Hosts = []int{1}, []string{"1"}, []string{"h"} })) {
		t.Errorf("changed with its clone: %+v", a)
	}
}

func TestProposedLaddersClimbWithinTheirWaste(t *testing.T) {
	for _, c := range []struct {
		least, most int
		waste       float64
	}{{160, 2560, 0.5}, {320, 4096, 1}, {100, 100, 0.5}, {48, 8192, 0.3}} {
		rungs := ProposeLadder(c.least, c.most, c.waste)
		if !slices.IsSorted(rungs) || len(rungs) == 0 || len(rungs) > maxRungs {
			t.Errorf("%+v: %v", c, rungs)
		}
		for i := 1; i < len(rungs); i++ {
			a, b := float64(rungs[i-1]), float64(rungs[i])
			if b <= a || b*b/(a*a)-1 > c.waste*1.25+0.12 { // rounding to even widths costs a little
				t.Errorf("%+v: from %v to %v", c, a, b)
			}
		}
	}
}

func TestEveryMendMendsAndItsCommandIsSafe(t *testing.T) {
	d := kestrel(func(d *Document) { d.Ladder.Rungs = []int{640}; d.Lanes[1].Deny = []string{"https://x.test/*"} })
	for _, m := range []Mend{
		{Action: "add-rung", Value: "320"}, {Action: "add-shape", Value: "3/2"}, {Action: "add-page", Value: "https://a.test"}, {Action: "allow-silent"},
		{Action: "add-format", Value: "png"}, {Action: "url-paint"}, {Action: "url-grow"}, {Action: "add-allow", Lane: "press", Value: "https://b.test/*"},
		{Action: "remove-deny", Lane: "press", Value: "https://x.test/*"}, {Action: "add-private", Lane: "press", Value: "10.0.0.1"},
		{Action: "set-limit", Value: "source_bytes=99999999"}, {Action: "set-limit", Lane: "press", Value: "source_bytes=5000000"},
		{Action: "set-limit", Value: "quality_floor=10"}, {Action: "set-limit", Value: "variants_per_source=5"},
	} {
		d.Formats, d.Paint, d.Grow, d.Pages.Silent = []string{"webp"}, "classes", "classes", "refuse"
		after, err := m.Apply(d)
		if err != nil || len(Diff(d, after)) != 1 {
			t.Errorf("%+v: %v, %v", m, err, Diff(d, after))
		}
		if c := m.Command("kestrel"); !strings.HasPrefix(c, "echolane ") || strings.Contains(c, "''") {
			t.Errorf("%+v: %s", m, c)
		}
	}
	for _, m := range []Mend{{Action: "burn"}, {Action: "add-allow", Lane: "gone", Value: "x"}, {Action: "set-limit", Value: "moon=1"}, {Action: "add-rung", Value: "wide"}} {
		if _, err := m.Apply(d); err == nil {
			t.Errorf("%+v is applied", m)
		}
	}
	evil := Mend{Action: "add-page", Value: "https://x.test'; rm -rf ~; '\n$(id)"}.Command("kestrel")
	if want := `echolane site set kestrel --add-page 'https://x.test'\''; rm -rf ~; '\''$(id)'`; evil != want {
		t.Errorf("%s\nwant %s", evil, want)
	}
}

func TestAKindSaysWhereItsSourcesAre(t *testing.T) {
	for where, l := range map[string]Lane{
		"/srv/kestrel":                      {Kind: "folder", Folder: "/srv/kestrel"},
		"https://photos.kestrel.test/a/":    {Kind: "web", Base: "https://photos.kestrel.test/a/", Allow: []string{"https://photos.kestrel.test/*"}},
		"https://a.test/*, https://b.test/": {Kind: "web", Allow: []string{"https://a.test/*", "https://b.test/"}},
		"kites":                             {Kind: "upload", Bucket: "kites"},
		"https://store.test/kites/old":      {Kind: "upload", Bucket: "kites", Endpoint: "https://store.test/", Prefix: "old/"},
	} {
		if got := kinds.Of(l.Kind).Source(&l); got != where {
			t.Errorf("%q, want %q", got, where)
		}
	}
}

// What is taken to be unchanged for longer is also taken to be missing for longer, up to five seconds; a lane may say otherwise.
func TestMissingSourcesAreRememberedAsTheLaneSays(t *testing.T) {
	for _, c := range []struct {
		fresh, said      int // said below 0: nothing
		missing, failing time.Duration
	}{{0, -1, time.Second, 5 * time.Second}, {3, -1, 3 * time.Second, 5 * time.Second}, {300, -1, 5 * time.Second, 5 * time.Second}, {300, 0, 0, 0}, {1, 60, time.Minute, time.Minute}} {
		l := compile(t, func(d *Document) {
			d.Lanes[0].FreshS = &c.fresh
			if c.said >= 0 {
				d.Lanes[0].MissingS = &c.said
			}
		}).Lanes[0]
		if l.Missing != c.missing || l.Failing != c.failing {
			t.Errorf("%+v: %v, %v", c, l.Missing, l.Failing)
		}
	}
}

func TestAnotherPlaceMeansOtherSources(t *testing.T) {
	place := func(change func(*Lane)) string {
		return compile(t, func(d *Document) { change(&d.Lanes[1]) }).Lanes[1].Place
	}
	as := place(func(*Lane) {})
	if place(func(l *Lane) { l.Base = "https://photos.kestrel.test/" }) == as {
		t.Error("another base has the same sources")
	}
	if place(func(l *Lane) { l.Deny = []string{"https://photos.kestrel.test/private/*"} }) != as {
		t.Error("another rule has other sources")
	}
	s := compile(t, nil)
	if s.Lanes[0].TakesURL || !s.Lanes[1].TakesURL || compile(t, func(d *Document) { d.Lanes[1].Base = "https://photos.kestrel.test/" }).Lanes[1].TakesURL {
		t.Error("a web lane without a base takes whole URLs, others take paths")
	}
}
