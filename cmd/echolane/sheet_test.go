package main

import (
	"encoding/base64"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/source"
)

func sheetFile(t *testing.T, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "sheet.css")
	if err := os.WriteFile(file, []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
	return file
}

func TestASheetFromDraftToHistory(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	const first = "* { object-fit: cover; quality: 72 }\n.tile { width: 120px; aspect-ratio: 1 }\n.stamped::after { content: url(catalogue/mark.png); width: 20%; inset: auto 4% 4% auto }\n"
	if out := bed.Must(t, s, "sheet", "show", "kestrel"); out != policy.StarterSheet {
		t.Errorf("a new site's sheet: %q", out)
	}
	// Wrong ones are never published, and lose nothing.
	wrong := sheetFile(t, "* { quality: 72 }\n.tile { widht: 120px }\n")
	if out := bed.Run(t, s, "sheet", "check", wrong); out.Code != 1 || !strings.Contains(out.Err, "sheet.css:2:9: widht isn't a property here; did you mean width?") {
		t.Errorf("check: %d %s", out.Code, out.Err)
	}
	if out := bed.Run(t, s, "sheet", "publish", "kestrel", wrong); out.Code != 2 || !strings.Contains(out.Err, "line 2, column 9") {
		t.Errorf("publish: %d %s", out.Code, out.Err)
	}
	bed.Must(t, s, "sheet", "draft", "kestrel", wrong)
	if out := bed.Run(t, s, "sheet", "publish", "kestrel", "--draft"); out.Code != 2 {
		t.Errorf("a wrong draft is published: %s", out.Out)
	}
	if out := bed.Must(t, s, "sheet", "show", "kestrel", "--draft"); !strings.Contains(out, "widht") {
		t.Errorf("the draft is lost: %s", out)
	}

	if no := s.Get(t, "/kestrel/catalogue/delta-red.jpg?class=tile").Problem(t); no.Reason != "no-such-class" || !strings.Contains(no.Remedy, "sheet publish kestrel") {
		t.Errorf("%+v", no)
	}
	good := sheetFile(t, first)
	if out := bed.Must(t, s, "sheet", "check", good, "--site", "kestrel"); !strings.Contains(out, "added    stamped, tile") {
		t.Errorf("check: %s", out)
	}
	if out := bed.Must(t, s, "sheet", "publish", "kestrel", good); !strings.Contains(out, "version 3") || !strings.Contains(out, "+ .tile") {
		t.Errorf("publish: %s", out)
	}
	if out := bed.Must(t, s, "sheet", "show", "kestrel", "--draft"); !strings.Contains(out, "widht") {
		t.Errorf("publishing a file lost a draft that says something else: %s", out)
	}

	plain := s.Get(t, "/kestrel/catalogue/delta-red.jpg?class=tile&format=png")
	if i, err := render.Probe(plain.Data); err != nil || i.W != 120 || i.H != 120 {
		t.Errorf("a tile is %d × %d, %v", i.W, i.H, err)
	}
	if l := plain.Header.Get("Content-Location"); l != "/kestrel/catalogue/delta-red.jpg?format=png&class=tile" {
		t.Errorf("Content-Location %q", l)
	}
	stamped := s.Get(t, "/kestrel/catalogue/delta-red.jpg?class=stamped+tile&format=png")
	if stamped.StatusCode != 200 || string(stamped.Data) == string(plain.Data) {
		t.Errorf("%d; the stamp isn't there", stamped.StatusCode)
	}
	over := s.Get(t, "/kestrel/catalogue/delta-red.jpg?class=tile&width=60&format=png")
	if i, err := render.Probe(over.Data); err != nil || i.W != 60 {
		t.Errorf("what the URL says doesn't win: %d wide, %v", i.W, err)
	}
	if no := s.Get(t, "/kestrel/catalogue/delta-red.jpg?class=tiel").Problem(t); no.Reason != "no-such-class" || !strings.Contains(no.Remedy, "write tile instead of tiel") {
		t.Errorf("%+v", no)
	}
	if out := bed.Must(t, s, "explain", "kestrel/catalogue/delta-red.jpg?class=tile"); !strings.Contains(out, "sheet .tile") || !strings.Contains(out, "width=120") {
		t.Errorf("explain: %s", out)
	}

	// A class that is in use doesn't vanish unnoticed.
	second := sheetFile(t, "* { object-fit: cover; quality: 72 }\n.tile { width: 120px; aspect-ratio: 1 }\n.unused { quality: 50 }\n")
	out := bed.Run(t, s, "sheet", "publish", "kestrel", second)
	if out.Code != 1 || !strings.Contains(out.Err, ".stamped: /kestrel/catalogue/delta-red.jpg?format=png&class=stamped%20tile") || strings.Contains(out.Err, ".unused") {
		t.Errorf("publish: %d %s", out.Code, out.Err)
	}
	bed.Must(t, s, "sheet", "publish", "kestrel", second, "--anyway")
	bed.Must(t, s, "sheet", "publish", "kestrel", good) // .unused was never asked for
	if out := bed.Must(t, s, "sheet", "history", "kestrel"); strings.Count(out, "published a sheet") != 3 || !strings.Contains(out, "added") || strings.Contains(out, "lane") {
		t.Errorf("history: %s", out)
	}
	bed.Must(t, s, "sheet", "restore", "kestrel", "4", "--anyway")
	if out := bed.Must(t, s, "sheet", "show", "kestrel"); !strings.Contains(out, ".unused") {
		t.Errorf("restored: %s", out)
	}
	bed.Must(t, s, "sheet", "draft", "kestrel", good)
	bed.Must(t, s, "sheet", "publish", "kestrel", "--draft")
	if out := bed.Run(t, s, "sheet", "show", "kestrel", "--draft"); out.Code != 1 || !strings.Contains(out.Err, "no draft") {
		t.Errorf("the draft is still there: %s%s", out.Out, out.Err)
	}
	bed.Must(t, s, "sheet", "restore", "kestrel", "4", "--anyway")
	if out := bed.Must(t, s, "export", "kestrel"); !strings.Contains(out, "sheet = ") || !strings.Contains(out, ".unused { quality: 50 }") {
		t.Errorf("export: %s", out)
	}
}

func TestSavingDataIsASheetsCondition(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	path := "/kestrel/catalogue/delta-red.jpg?width=200&format=jpeg"
	if a := s.Get(t, path); a.Header.Get("Vary") != "" {
		t.Errorf("Vary %q", a.Header.Get("Vary"))
	}
	bed.Must(t, s, "sheet", "publish", "kestrel", sheetFile(t, "* { quality: 80 }\n@media (prefers-reduced-data: reduce) { * { quality: 20 } }\n"))
	for range 2 { // the second time from memory
		usual, saving := s.Get(t, path), s.Get(t, path, "Save-Data", "on")
		if usual.Header.Get("Vary") != "Save-Data" || saving.Header.Get("Vary") != "Save-Data" {
			t.Errorf("Vary %q, %q", usual.Header.Get("Vary"), saving.Header.Get("Vary"))
		}
		if len(saving.Data)*3 > len(usual.Data)*2 {
			t.Errorf("saving data takes %d bytes, otherwise %d", len(saving.Data), len(usual.Data))
		}
	}
	if a := s.Get(t, "/kestrel/catalogue/delta-red.jpg?width=200"); a.Header.Get("Vary") != "Accept, Save-Data" {
		t.Errorf("Vary %q", a.Header.Get("Vary"))
	}
}

func TestPlaceholders(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	for _, name := range []string{"delta-red.jpg", "mark.png", "coast-panorama.jpg", "spool-turned.jpg"} {
		var facts source.Facts
		if err := json.Unmarshal(s.Get(t, "/kestrel/catalogue/"+name+"?as=facts").Data, &facts); err != nil {
			t.Fatal(err)
		}
		if len(facts.Placeholder) > render.PlaceholderBytes || !strings.HasPrefix(facts.Placeholder, "data:image/webp;base64,") {
			t.Errorf("%s: the data URL has %d bytes", name, len(facts.Placeholder))
		}
		data, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(facts.Placeholder, "data:image/webp;base64,"))
		if err != nil {
			t.Fatal(err)
		}
		if info, err := render.Probe(data); err != nil || info.Alpha != facts.HasAlpha {
			t.Errorf("%s: transparency %v, the source's %v, %v", name, info.Alpha, facts.HasAlpha, err)
		}
		for _, accept := range []string{browserAccept, "image/png,image/*;q=0.8"} {
			a := s.Get(t, "/kestrel/catalogue/"+name+"?as=placeholder&width=600&aspect-ratio=3/2", "Accept", accept)
			info, err := render.Probe(a.Data)
			if a.StatusCode != 200 || err != nil || len(a.Data) > render.PlaceholderBytes {
				t.Fatalf("%s for %q: %d, %d bytes, %v", name, accept, a.StatusCode, len(a.Data), err)
			}
			if shape := float64(info.W) / float64(info.H); shape < 1.3 || shape > 1.7 || info.W > 32 {
				t.Errorf("%s: %d × %d", name, info.W, info.H)
			}
			// Its mean is the variant's.
			whole := s.Get(t, "/kestrel/catalogue/"+name+"?width=600&aspect-ratio=3/2&format=png")
			near, far := mean(t, a.Data), mean(t, whole.Data)
			for c := range near {
				if d := near[c] - far[c]; d < -7 || d > 7 {
					t.Errorf("%s for %q: its mean is %.0f, the variant's %.0f", name, accept, near, far)
					break
				}
			}
		}
	}
}

// mean is what the picture's premultiplied pixels are on average.
func mean(t *testing.T, data []byte) (m [4]float64) {
	t.Helper()
	d := declare.Declarations{EncodingValues: declare.EncodingValues{Format: declare.PNG, Quality: declare.Lossless}}
	exact, err := render.Variant(data, render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
	if err != nil {
		t.Fatal(err)
	}
	whole, err := png.Decode(exact.Data)
	if err != nil {
		t.Fatal(err)
	}
	p := whole.RGBA
	p.Premultiply()
	for y := range p.H {
		for i, v := range p.Row(y)[:4*p.W] {
			m[i%4] += float64(v) / float64(p.W*p.H)
		}
	}
	return m
}
