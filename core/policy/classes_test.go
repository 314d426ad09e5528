package policy

import (
	"testing"

	"echolane/core/declare"
)

func sheeted(t *testing.T, change func(*Document)) *Site {
	t.Helper()
	d := NewDocument("kestrel")
	d.Sheet = `* { object-fit: cover; quality: 72 }
.tile { width: 320px; aspect-ratio: 1; filter: grayscale(1) }
.fine { quality: 95; grow: yes; width: 5000px }
@media (prefers-reduced-data: reduce) { * { quality: 30 } }`
	d.Lanes = []Lane{{Name: "catalogue", Kind: "folder", Folder: "/srv"}, {Name: "private", Kind: "folder", Folder: "/srv", Visibility: "signed"}}
	if change != nil {
		change(&d)
	}
	d.Complete(kinds)
	s, _, err := Compile(d, kinds)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func asked(t *testing.T, s *Site, query string, more ...func(*Ask)) (declare.Resolved, *Refusal) {
	t.Helper()
	d, err := declare.Parse(query)
	if err != nil {
		t.Fatal(err)
	}
	a := Ask{Lane: s.Lane("catalogue"), Declared: d, Accepted: AcceptsAll, Form: func() string { return "" }}
	for _, m := range more {
		m(&a)
	}
	return s.Decide(&a, nil)
}

func TestClassesComeBeforeTheRules(t *testing.T) {
	s := sheeted(t, nil)
	for query, want := range map[string]string{
		"class=tile":                       "width=320&aspect-ratio=1&object-fit=cover&filter=grayscale(1)&quality=72&format=avif,jxl,webp,jpeg,png,gif",
		"class=tile&width=100":             "width=100&aspect-ratio=1&object-fit=cover&filter=grayscale(1)&quality=72&format=avif,jxl,webp,jpeg,png,gif",
		"class=tile&filter=none":           "width=320&aspect-ratio=1&object-fit=cover&quality=72&format=avif,jxl,webp,jpeg,png,gif",
		"class=tile&resolution=2x":         "width=640&aspect-ratio=1&object-fit=cover&filter=grayscale(1)&quality=72&format=avif,jxl,webp,jpeg,png,gif",
		"width=100":                        "width=100&object-fit=cover&quality=72&format=avif,jxl,webp,jpeg,png,gif,own",
		"class=fine&width=100&format=jpeg": "width=100&object-fit=cover&grow=yes&quality=95&format=jpeg",
	} {
		r, no := asked(t, s, query)
		if no != nil {
			t.Errorf("%s: %+v", query, no)
			continue
		}
		if r.String() != want {
			t.Errorf("%s: %s\nwant %s", query, r, want)
		}
	}
	// A class says the quality: then the source's own data won't do.
	if r, _ := asked(t, s, "class=fine&width=100"); r.Own {
		t.Error("a class that says the quality lets the source's own data through")
	}
	if r, _ := asked(t, s, "width=100", func(a *Ask) { a.Client.Saves = true }); r.Quality != 30 {
		t.Errorf("saving data: %v", r.Quality)
	}
	for _, query := range []string{"class=tiel", "class=tile+nowhere"} {
		if _, no := asked(t, s, query); no == nil || no.Reason != "no-such-class" {
			t.Errorf("%s: %+v", query, no)
		}
	}
}

func TestWhatOnlyClassesMayDo(t *testing.T) {
	s := sheeted(t, func(d *Document) { d.Paint, d.Grow = "classes", "classes" })
	if _, no := asked(t, s, "width=100&filter=grayscale(1)"); no == nil || no.Reason != "only-by-class" {
		t.Errorf("%+v", no)
	}
	if _, no := asked(t, s, "class=tile"); no != nil {
		t.Errorf("%+v", no)
	}
	if _, no := asked(t, s, "class=fine&grow=yes"); no == nil {
		t.Error("a URL may grow")
	}
	// The service itself may ask for anything but too much.
	trusted := func(a *Ask) { a.Trusted = true }
	if _, no := asked(t, s, "width=100&filter=grayscale(1)", trusted); no != nil {
		t.Errorf("%+v", no)
	}
	if _, no := asked(t, s, "width=100", trusted, func(a *Ask) { a.Lane = s.Lane("private") }); no != nil {
		t.Errorf("%+v", no)
	}
	if _, no := asked(t, s, "width=100", func(a *Ask) { a.Lane = s.Lane("private") }); no == nil || no.Reason != "signature-needed" {
		t.Errorf("%+v", no)
	}
}

func TestTheLadderHoldsForClassesToo(t *testing.T) {
	s := sheeted(t, func(d *Document) { d.Ladder.Rungs = []int{160, 320, 640} })
	if _, no := asked(t, s, "class=tile"); no != nil {
		t.Errorf("%+v", no)
	}
	if _, no := asked(t, s, "class=tile&resolution=3x"); no == nil || no.Reason != "no-such-rung" {
		t.Errorf("%+v", no)
	}
	if _, no := asked(t, s, "class=fine"); no == nil {
		t.Error("a class reaches beyond the ladder")
	}
}

func TestAChangedSheetIsToldByItsLines(t *testing.T) {
	a, b := NewDocument("kestrel"), NewDocument("kestrel")
	a.Sheet = "* { quality: 72 }\n.a { width: 1px }\n.z { width: 9px }\n"
	b.Sheet = "* { quality: 72 }\n.b { width: 2px }\n.z { width: 9px }\n"
	if ds := Diff(a, b); len(ds) != 1 || ds[0].String() != "sheet: .a { width: 1px } → .b { width: 2px }" {
		t.Errorf("%v", ds)
	}
	b.Sheet = a.Sheet + ".new { width: 3px }\n"
	if ds := Diff(a, b); len(ds) != 1 || ds[0].String() != "sheet: + .new { width: 3px }" {
		t.Errorf("%v", ds)
	}
	b.Sheet = a.Sheet
	if ds := Diff(a, b); len(ds) != 0 {
		t.Errorf("%v", ds)
	}
}
