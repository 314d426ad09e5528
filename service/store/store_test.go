package store

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"

	demo "echolane/demo/store"
	"echolane/internal/localstore"
)

// stores are one of each kind, empty.
func stores(t *testing.T) map[string]Store {
	t.Helper()
	folder, err := InFolder(filepath.Join(t.TempDir(), "new"))
	if err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	if err := errors.Join(os.Mkdir(filepath.Join(dir, "archive"), 0o755), os.Mkdir(filepath.Join(dir, "shared"), 0o755)); err != nil {
		t.Fatal(err)
	}
	s := httptest.NewServer(&demo.Store{Dir: dir, AccessKey: "kite", SecretKey: "string"})
	t.Cleanup(s.Close)
	bucket := func(name, prefix string) Store {
		return InBucket(S3Options{Endpoint: s.URL, Bucket: name, Prefix: prefix, AccessKey: "kite", SecretKey: "string", Client: &http.Client{Transport: &http.Transport{}}})
	}
	real, err := localstore.Start(context.Background(), t.TempDir(), "kept")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(real.Stop)
	return map[string]Store{
		"folder": folder, "bucket": bucket("archive", ""), "bucket below a prefix": bucket("shared", "press/1962/"),
		"bucket of a real server": InBucket(S3Options{Endpoint: real.Endpoint, Bucket: "kept", Prefix: "v/", AccessKey: real.AccessKey, SecretKey: real.SecretKey, Client: &http.Client{Transport: &http.Transport{}}}),
	}
}

func put(t *testing.T, s Store, key, text string) {
	t.Helper()
	if err := s.Put(t.Context(), key, strings.NewReader(text), int64(len(text))); err != nil {
		t.Fatalf("put %s: %v", key, err)
	}
}

func list(s Store, prefix, after string) (keys []string, err error) {
	for o, err := range s.List(context.Background(), prefix, after) {
		if err != nil {
			return keys, err
		}
		keys = append(keys, fmt.Sprintf("%s %d", o.Key, o.Size))
	}
	return keys, nil
}

func TestObjectsAreKeptUnderTheirKeys(t *testing.T) {
	for name, s := range stores(t) {
		defer s.Close()
		for _, key := range []string{"a.png", "b/c d.png", "b/é.png", "b.png", "b/c/d.png", "z/1"} {
			put(t, s, key, "of "+key)
		}
		put(t, s, "a.png", "another a")
		for key, want := range map[string]string{"a.png": "another a", "b/é.png": "of b/é.png", "b/c d.png": "of b/c d.png"} {
			r, o, err := s.Open(t.Context(), key)
			if err != nil {
				t.Errorf("%s: %s: %v", name, key, err)
				continue
			}
			got, err := io.ReadAll(r)
			r.Close()
			at, e := s.Stat(t.Context(), key)
			if err != nil || e != nil || string(got) != want || o.Size != int64(len(want)) || at.ETag == "" || at.ETag != o.ETag || at.Key != key || at.Modified.IsZero() {
				t.Errorf("%s: %s holds %q; %+v and %+v (%v, %v)", name, key, got, o, at, err, e)
			}
		}
		for _, c := range []struct {
			prefix, after string
			want          []string
		}{
			{"", "", []string{"a.png 9", "b.png 8", "b/c d.png 12", "b/c/d.png 12", "b/é.png 11", "z/1 6"}},
			{"b/", "", []string{"b/c d.png 12", "b/c/d.png 12", "b/é.png 11"}},
			{"b", "", []string{"b.png 8", "b/c d.png 12", "b/c/d.png 12", "b/é.png 11"}},
			{"b/c", "", []string{"b/c d.png 12", "b/c/d.png 12"}},
			{"", "b/c d.png", []string{"b/c/d.png 12", "b/é.png 11", "z/1 6"}},
			{"b/", "b/c/d.png", []string{"b/é.png 11"}},
			{"b/", "b/c/a", []string{"b/c/d.png 12", "b/é.png 11"}},
			{"none", "", nil},
		} {
			if got, err := list(s, c.prefix, c.after); err != nil || !slices.Equal(got, c.want) {
				t.Errorf("%s: below %q after %q: %q (%v), want %q", name, c.prefix, c.after, got, err, c.want)
			}
		}
		if err := s.Delete(t.Context(), "b/c/d.png"); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if got, err := list(s, "b/c/", ""); err != nil || got != nil {
			t.Errorf("%s: after it was removed: %v, %v", name, got, err)
		}
	}
}

func TestWhatCantBeIsSaidByItsError(t *testing.T) {
	for name, s := range stores(t) {
		put(t, s, "a/b", "x")
		for _, key := range []string{"none", "a", "a/none", "a/b/c"} {
			_, err := s.Stat(t.Context(), key)
			_, _, e := s.Open(t.Context(), key)
			if !errors.Is(err, fs.ErrNotExist) || !errors.Is(e, fs.ErrNotExist) {
				t.Errorf("%s: %s: %v; %v", name, key, err, e)
			}
		}
		if err := s.Delete(t.Context(), "none"); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: removing what isn't there: %v", name, err)
		}
		if err := s.Add(t.Context(), "a/b", strings.NewReader("y"), 1); !errors.Is(err, fs.ErrExist) {
			t.Errorf("%s: adding what is there: %v", name, err)
		}
		ended, cancel := context.WithCancel(t.Context())
		cancel()
		if err := s.Put(ended, "late", strings.NewReader("x"), 1); !errors.Is(err, context.Canceled) {
			t.Errorf("%s: after the end of its context: %v", name, err)
		}
		if _, err := s.Stat(t.Context(), "late"); !errors.Is(err, fs.ErrNotExist) {
			t.Errorf("%s: what came late is there: %v", name, err)
		}
	}
	wrong := stores(t)["bucket"].(*S3).o
	wrong.SecretKey = "wrong"
	if _, err := InBucket(wrong).Stat(t.Context(), "a"); !errors.Is(err, fs.ErrPermission) {
		t.Errorf("with wrong credentials: %v", err)
	}
	wrong = stores(t)["bucket"].(*S3).o
	wrong.Bucket = "none"
	if _, _, err := InBucket(wrong).Open(t.Context(), "a"); err == nil || errors.Is(err, fs.ErrNotExist) {
		t.Errorf("a bucket that isn't there is taken for an object: %v", err)
	}
}

func TestOneOfManyAddsAndReadersSeeWholeObjects(t *testing.T) {
	for name, s := range stores(t) {
		if name != "folder" { // a real store's own business
			continue
		}
		var added atomic.Int64
		var all sync.WaitGroup
		for i := range 20 {
			all.Go(func() {
				switch err := s.Add(t.Context(), "versions/1", strings.NewReader(fmt.Sprint(i%10)), 1); {
				case err == nil:
					added.Add(1)
				case !errors.Is(err, fs.ErrExist):
					t.Error(err)
				}
				text := strings.Repeat(fmt.Sprint(i%10), 100_000)
				put(t, s, "names/a", text)
				r, _, err := s.Open(t.Context(), "names/a")
				if err != nil {
					t.Error(err)
					return
				}
				defer r.Close()
				if got, err := io.ReadAll(r); err != nil || string(got) != strings.Repeat(string(got[:1]), 100_000) {
					t.Errorf("a torn object of %d bytes (%v)", len(got), err)
				}
			})
		}
		all.Wait()
		if added.Load() != 1 {
			t.Errorf("%d of 20 were added", added.Load())
		}
		if err := s.Put(t.Context(), "short", strings.NewReader("x"), 2); err == nil {
			t.Error("a body that is too short is kept")
		}
		if got, err := list(s, "", ""); err != nil || !slices.Equal(got, []string{"names/a 100000", "versions/1 1"}) {
			t.Errorf("what is left: %v, %v", got, err)
		}
	}
}

func TestAFolderDoesntLeadOutside(t *testing.T) {
	dir := t.TempDir()
	s, err := InFolder(filepath.Join(dir, "in"))
	if err != nil {
		t.Fatal(err)
	}
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "secret"), []byte("x"), 0o644), os.Symlink(dir, filepath.Join(dir, "in", "out"))); err != nil {
		t.Fatal(err)
	}
	for _, key := range []string{"../secret", "out/secret", "/etc/passwd"} {
		if _, _, err := s.Open(t.Context(), key); err == nil {
			t.Errorf("%s is read", key)
		}
		if err := s.Put(t.Context(), key, strings.NewReader("y"), 1); err == nil {
			t.Errorf("%s is written", key)
		}
	}
}
