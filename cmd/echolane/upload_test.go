package main

import (
	"bytes"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A folder goes in whole; what can't is told of, and loses nothing of the others. Older versions can be had, and be the newest again.
func TestAFolderIsPutInAndOlderVersionsComeBack(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/incoming", "--upload", "--folder", t.TempDir())
	dir := t.TempDir()
	os.MkdirAll(filepath.Join(dir, "summer", "deep"), 0o755)
	mark, err := os.ReadFile(bed.Pictures + "/mark.png")
	if err != nil {
		t.Fatal(err)
	}
	chart, err := os.ReadFile(bed.Pictures + "/wind-chart.png")
	if err != nil {
		t.Fatal(err)
	}
	for name, data := range map[string][]byte{"mark.png": mark, "summer/chart.png": chart, "summer/deep/mark.png": mark, "notes.txt": []byte("no picture")} {
		os.WriteFile(filepath.Join(dir, name), data, 0o644)
	}
	if out := bed.Must(t, s, "upload", "put", dir, "kestrel/incoming/2026"); !strings.Contains(out, "3 sources") {
		t.Errorf("%s", out)
	}
	for _, path := range []string{"mark.png", "summer/chart.png", "summer/deep/mark.png"} {
		if a := s.Get(t, "/kestrel/incoming/2026/"+path+"?width=20"); a.StatusCode != 200 {
			t.Errorf("%s: %d", path, a.StatusCode)
		}
	}
	os.WriteFile(filepath.Join(dir, "broken.png"), []byte("\x89PNG\r\n\x1a\nno"), 0o644)
	os.WriteFile(filepath.Join(dir, "mark.png"), chart, 0o644)
	r := bed.Run(t, s, "upload", "put", dir, "kestrel/incoming/2026")
	if r.Code != 1 || !strings.Contains(r.Out, "3 sources") || !strings.Contains(r.Err, "broken.png") || !strings.Contains(r.Err, "1 of 4") {
		t.Errorf("%d %s %s", r.Code, r.Out, r.Err)
	}
	got := filepath.Join(t.TempDir(), "got.png")
	for version, want := range map[string][]byte{"1": mark, "2": chart} {
		bed.Must(t, s, "upload", "get", "kestrel/incoming/2026/mark.png", "--version", version, "-o", got)
		if data, _ := os.ReadFile(got); !bytes.Equal(data, want) {
			t.Errorf("version %s: %d bytes", version, len(data))
		}
	}
	if out := bed.Must(t, s, "upload", "restore", "kestrel/incoming/2026/mark.png", "1"); !strings.Contains(out, "version 3 is what version 1 was") {
		t.Errorf("%s", out)
	}
	bed.Must(t, s, "upload", "get", "kestrel/incoming/2026/mark.png", "-o", got)
	if data, _ := os.ReadFile(got); !bytes.Equal(data, mark) {
		t.Errorf("after restoring: %d bytes", len(data))
	}
	for _, args := range [][]string{{"upload", "restore", "kestrel/incoming/2026/mark.png", "9"}, {"upload", "restore", "kestrel/catalogue/mark.png", "1"}, {"upload", "get", "kestrel/incoming/2026/mark.png", "--version", "9", "-o", got}, {"upload", "put", t.TempDir(), "kestrel/incoming"}} {
		if r := bed.Run(t, s, args...); r.Code == 0 || r.Err == "" {
			t.Errorf("%q: %d %s", args, r.Code, r.Err)
		}
	}
}
