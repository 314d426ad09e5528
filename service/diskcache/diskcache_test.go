package diskcache

import (
	"bytes"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func open(t testing.TB, limit int64) *Disk {
	t.Helper()
	d := Open(t.TempDir(), limit, slog.New(slog.NewTextHandler(io.Discard, nil)), nil)
	t.Cleanup(d.Close)
	<-d.swept
	return d
}

// put writes at once.
func put(t testing.TB, d *Disk, key, head, body string) {
	t.Helper()
	if err := d.store(write{key, []byte(head), []byte(body)}); err != nil {
		t.Fatal(err)
	}
}

func TestWhatIsStreamedIsThere(t *testing.T) {
	d := open(t, 1<<30)
	s, err := d.Create()
	if err != nil {
		t.Fatal(err)
	}
	for i := range 100 {
		fmt.Fprintf(s, "%04d", i)
	}
	e, err := s.Commit("abcd", []byte("head"))
	if err != nil {
		t.Fatal(err)
	}
	e.File.Close()
	e, ok := d.Open("abcd")
	if !ok {
		t.Fatal("it isn't there")
	}
	defer e.File.Close()
	body, err := io.ReadAll(io.NewSectionReader(e.File, e.From, e.Size))
	if err != nil || len(body) != 400 || !strings.HasPrefix(string(body), "00000001") || string(e.Head) != "head" {
		t.Errorf("%q %q %v", e.Head, body, err)
	}
	s, _ = d.Create()
	s.Write([]byte("half"))
	s.Abort()
	left, _ := filepath.Glob(filepath.Join(d.dir, ".new-*"))
	if len(left) != 0 {
		t.Errorf("left behind: %v", left)
	}
	before := d.Bytes()
	put(t, d, "abcd", "head", strings.Repeat("x", 400)) // in its place
	if d.Bytes() != before {
		t.Errorf("%d bytes, were %d", d.Bytes(), before)
	}
	if d.Remove("abcd"); d.Bytes() != 0 {
		t.Errorf("%d bytes are left", d.Bytes())
	}
}

func TestDamageIsFound(t *testing.T) {
	d := open(t, 1<<30)
	damage := map[string]func([]byte) []byte{
		"cut":            func(b []byte) []byte { return b[:len(b)-1] },
		"longer":         func(b []byte) []byte { return append(b, 0) },
		"empty":          func([]byte) []byte { return nil },
		"zeroed":         func(b []byte) []byte { return make([]byte, len(b)) },
		"body flipped":   func(b []byte) []byte { b[prefix] ^= 1; return b },
		"head flipped":   func(b []byte) []byte { b[len(b)-1] ^= 1; return b },
		"length lies":    func(b []byte) []byte { b[11] = 0x7f; return b },
		"header is huge": func(b []byte) []byte { b[15] = 0xff; return b },
		"an old format":  func(b []byte) []byte { b[3] = '2'; return b },
	}
	for name, do := range damage {
		put(t, d, "key1", "head", "body")
		data, err := os.ReadFile(d.path("key1"))
		if err != nil {
			t.Fatal(err)
		}
		os.WriteFile(d.path("key1"), do(data), 0o600)
		if _, _, ok := d.Get("key1"); ok {
			t.Errorf("%s: it is taken for whole", name)
		}
		if _, err := os.Stat(d.path("key1")); err == nil {
			t.Errorf("%s: it stays", name)
		}
	}
}

func TestAfterCloseNothingIsKeptAndNothingBreaks(t *testing.T) {
	d := open(t, 1<<30)
	d.Put("key1", nil, []byte("body"))
	d.Close()
	d.Put("key2", nil, []byte("body"))
	d.Close()
	if _, _, ok := d.Get("key1"); !ok {
		t.Error("what was put before the end is lost")
	}
}

func FuzzEntry(f *testing.F) {
	d := open(f, 1<<30)
	put(f, d, "seed", `{"type":"image/webp"}`, "body")
	whole, err := os.ReadFile(d.path("seed"))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole)
	f.Add([]byte(magic))
	f.Fuzz(func(t *testing.T, data []byte) {
		d := open(t, 1<<30)
		os.MkdirAll(filepath.Dir(d.path("key1")), 0o700)
		os.WriteFile(d.path("key1"), data, 0o600)
		head, body, ok := d.Get("key1")
		if !ok {
			return
		}
		put(t, d, "key1", string(head), string(body))
		if again, _ := os.ReadFile(d.path("key1")); !bytes.Equal(again, data) {
			t.Fatal("a broken file is taken for whole")
		}
	})
}
