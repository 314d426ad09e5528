package shared

import (
	"bytes"
	"context"
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"echolane/service/cache/entry"
	"echolane/service/store"
)

func TestPlaces(t *testing.T) {
	for text, want := range map[string]string{
		"/srv/store": "/srv/store", "/srv/store/": "/srv/store", "s3://kept": "s3://kept/", "s3://kept/a/b/?region=eu-1": "s3://kept/a/b/",
		"s3://kept/v?endpoint=https://store.test": "s3://kept/v/ at https://store.test",
	} {
		if p, err := ReadPlace(text); err != nil || p.String() != want {
			t.Errorf("%s: %s, %v", text, p, err)
		}
	}
	for text, named := range map[string]string{
		"store": "absolute", "": "absolute", "http://store.test/kept": "s3://", "s3://": "s3://", "s3://key:secret@kept": "environment", "s3://kept?endpoint=store.test": "endpoint", "s3://kept?colour=red": "colour",
	} {
		if _, err := ReadPlace(text); err == nil || !strings.Contains(err.Error(), named) {
			t.Errorf("%q: %v", text, err)
		}
	}
}

func open(t *testing.T) (*Store, string) {
	t.Helper()
	dir := t.TempDir()
	in, err := store.InFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	s := Open(Options{Store: in, Where: dir, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	t.Cleanup(s.Close)
	return s, dir
}

func keep(s *Store, name, head, body string, replace bool) bool {
	kept := make(chan bool, 1)
	s.Put(name, []byte(head), []byte(body), replace, func(ok bool) { kept <- ok })
	return <-kept
}

func TestWhatIsPutIsGotWholeOrNotAtAll(t *testing.T) {
	s, dir := open(t)
	ctx := context.Background()
	name := Name(Variants, entry.Key("a"))
	if !keep(s, name, "head", "body", false) || !keep(s, name, "head", "another", false) { // which is there already
		t.Fatal("it isn't kept")
	}
	if head, body, err := s.Get(ctx, name); string(head) != "head" || string(body) != "body" || err != nil {
		t.Errorf("%q %q %v", head, body, err)
	}
	keep(s, name, "head", "another", true)
	if _, body, err := s.Get(ctx, name); string(body) != "another" || err != nil {
		t.Errorf("%q %v", body, err)
	}
	file := filepath.Join(dir, name)
	whole, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	for what, data := range map[string][]byte{"cut": whole[:len(whole)-1], "empty": {}, "altered": append(bytes.Clone(whole[:entry.Prefix]), append([]byte{whole[entry.Prefix] ^ 1}, whole[entry.Prefix+1:]...)...)} {
		os.MkdirAll(filepath.Dir(file), 0o755)
		os.WriteFile(file, data, 0o644)
		if _, _, err := s.Get(ctx, name); !errors.Is(err, entry.ErrBroken) {
			t.Errorf("%s: %v", what, err)
		}
		if _, err := os.Stat(file); err == nil {
			t.Errorf("%s: it stays", what)
		}
	}
	if _, _, err := s.Get(ctx, name); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what isn't there: %v", err)
	}
	if err := s.Delete(ctx, name); err != nil {
		t.Errorf("removing what isn't there: %v", err)
	}
	if s.State().Resting {
		t.Errorf("%+v", s.State())
	}
	s.Close()
	if keep(s, name, "", "body", false) {
		t.Error("kept after the end")
	}
	var none *Store
	if _, _, err := none.Get(ctx, name); !errors.Is(err, fs.ErrNotExist) || none.Delete(ctx, name) != nil || keep(none, name, "", "", false) {
		t.Error("no store holds something")
	}
}

func TestAStoreIsChecked(t *testing.T) {
	dir := t.TempDir()
	in, err := store.InFolder(dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := Check(context.Background(), in); err != nil {
		t.Error(err)
	}
	left := 0
	filepath.WalkDir(dir, func(_ string, e fs.DirEntry, _ error) error {
		if !e.IsDir() {
			left++
		}
		return nil
	})
	if left != 0 {
		t.Errorf("%d files are left", left)
	}
	os.RemoveAll(dir)
	if err := Check(context.Background(), in); err == nil {
		t.Error("a store that is gone is good")
	}
}
