package main

import (
	"bytes"
	"image/png"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestDrawingsAreDrawnRefusedOrGoThrough(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	folder := t.TempDir()
	drawing := `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 8 8"><!-- by wren --><script>document.title = "ran"</script><path d="M4 0l4 4-4 4-4-4z"/></svg>`
	if err := os.WriteFile(filepath.Join(folder, "kite.svg"), []byte(drawing), 0o644); err != nil {
		t.Fatal(err)
	}
	bed.Must(t, s, "lane", "add", "kestrel/drawings", "--folder", folder)
	path := "/kestrel/drawings/kite.svg?width=64"
	a := s.Get(t, path+"&format=png")
	m, err := png.Decode(bytes.NewReader(a.Data))
	if err != nil || m.Bounds().Dx() != 64 || m.Bounds().Dy() != 64 || a.Header.Get("Content-Type") != "image/png" {
		t.Fatalf("%d %v: %v", a.StatusCode, a.Header, err)
	}
	if _, _, _, alpha := m.At(2, 2).RGBA(); alpha != 0 {
		t.Error("beside the kite it isn't transparent")
	}
	if _, _, _, alpha := m.At(32, 32).RGBA(); alpha != 0xffff {
		t.Error("the kite isn't there")
	}
	explained := s.Get(t, path+"&as=explain")
	if explained.StatusCode != 200 || !strings.Contains(string(explained.Data), "image/svg+xml") {
		t.Errorf("%s", explained.Data)
	}
	// As a layer over a photograph.
	if a := s.Get(t, "/kestrel/catalogue/delta-red.jpg?width=200&after-content=url(drawings/kite.svg)&after-width=40px&format=jpeg"); a.StatusCode != 200 {
		t.Errorf("as a layer: %d %s", a.StatusCode, a.Data)
	}
	// The file itself goes to who may have it, without what it says of its making.
	bed.Must(t, s, "lane", "set", "kestrel/drawings", "--original", "download")
	own := s.Get(t, "/kestrel/drawings/kite.svg?download")
	if own.StatusCode != 200 || string(own.Data) != strings.Replace(drawing, "<!-- by wren -->", "", 1) || own.Header.Get("Content-Disposition") != `attachment; filename="kite.svg"` {
		t.Errorf("%d %v %s", own.StatusCode, own.Header, own.Data)
	}
	// What isn't drawn is named.
	os.WriteFile(filepath.Join(folder, "page.svg"), []byte(`<svg xmlns="http://www.w3.org/2000/svg"><foreignObject><p xmlns="http://www.w3.org/1999/xhtml">text</p><rect/></foreignObject></svg>`), 0o644)
	if no := s.Get(t, "/kestrel/drawings/page.svg?width=64").Problem(t); no.Reason != "source-broken" || !strings.Contains(no.Detail, "foreignObject") {
		t.Errorf("%+v", no)
	}
	bed.Must(t, s, "lane", "set", "kestrel/drawings", "--svg", "refuse")
	if no := s.Get(t, path).Problem(t); no.Reason != "not-an-image" || !strings.Contains(no.Remedy, "--svg draw") {
		t.Errorf("%+v", no)
	}
	if out := bed.Run(t, s, "lane", "set", "kestrel/drawings", "--svg", "yes"); out.Code != 2 || !strings.Contains(out.Err, "draw, untouched, refuse") {
		t.Errorf("%d %s", out.Code, out.Err)
	}
	bed.Must(t, s, "lane", "set", "kestrel/drawings", "--svg", "untouched")
	for range 2 { // the second time from memory
		a := s.Get(t, path)
		if a.StatusCode != 200 || string(a.Data) != drawing || a.Header.Get("Content-Type") != "image/svg+xml" {
			t.Errorf("%d %v %s", a.StatusCode, a.Header, a.Data)
		}
		if csp := a.Header.Get("Content-Security-Policy"); !strings.Contains(csp, "sandbox") || !strings.Contains(csp, "default-src 'none'") {
			t.Errorf("its policy: %q", csp)
		}
	}
	if a := s.Get(t, path+"&download"); a.Header.Get("Content-Disposition") != `attachment; filename="kite.svg"` {
		t.Errorf("%v", a.Header)
	}
	// What isn't a drawing is rendered as ever, under the same lane.
	data, err := os.ReadFile(filepath.Join(bed.Pictures, "mark.png"))
	if err != nil {
		t.Fatal(err)
	}
	os.WriteFile(filepath.Join(folder, "mark.svg"), data, 0o644)
	if a := s.Get(t, "/kestrel/drawings/mark.svg?width=16&format=png"); a.StatusCode != 200 || a.Header.Get("Content-Security-Policy") != "" {
		t.Errorf("%d %v", a.StatusCode, a.Header)
	}
}
