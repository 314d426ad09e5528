package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func TestDrawingsGoThroughUntouchedWhereALaneLetsThem(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	folder := t.TempDir()
	drawing := `<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 8 8"><script>document.title = "ran"</script><path d="M4 0l4 4-4 4-4-4z"/></svg>`
	if err := os.WriteFile(filepath.Join(folder, "kite.svg"), []byte(drawing), 0o644); err != nil {
		t.Fatal(err)
	}
	bed.Must(t, s, "lane", "add", "kestrel/drawings", "--folder", folder)
	path := "/kestrel/drawings/kite.svg?width=64"
	if no := s.Get(t, path).Problem(t); no.Reason != "not-an-image" || !strings.Contains(no.Remedy, "--svg untouched") {
		t.Errorf("%+v", no)
	}
	if out := bed.Run(t, s, "lane", "set", "kestrel/drawings", "--svg", "yes"); out.Code != 2 || !strings.Contains(out.Err, "refuse, untouched") {
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
