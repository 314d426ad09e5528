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
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

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
	for _, all := range stores(t) {
		s, ok := all.(*S3)
		if !ok {
			continue
		}
		o := s.o
		o.Bucket = "none"
		if _, _, err := InBucket(o).Open(t.Context(), "a"); !errors.Is(err, ErrNoBucket) {
			t.Errorf("a bucket that isn't there is taken for an object: %v", err)
		}
		for range 2 {
			if _, err := InBucket(o).Stat(t.Context(), "a"); !errors.Is(err, ErrNoBucket) {
				t.Errorf("a bucket that isn't there is taken for an object: %v", err)
			}
		}
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

// A bucket whose service fails is asked once more, as often as that helps; what it says is believed no further than it goes.
func TestABucketThatFails(t *testing.T) {
	var asked atomic.Int64
	var elsewhere, unwanted atomic.Int64
	other := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { elsewhere.Add(1) }))
	defer other.Close()
	service := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := asked.Add(1)
		token := r.URL.Query().Get("continuation-token")
		switch _, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/"); {
		case key == "busy" && n == 1:
			w.WriteHeader(503)
			fmt.Fprint(w, "<Error><Code>SlowDown</Code><Message>one moment</Message></Error>")
		case key == "busy":
			text, _ := io.ReadAll(r.Body)
			w.Header().Set("Last-Modified", "Mon, 02 Jan 2006 15:04:05 GMT")
			w.Header().Set("ETag", fmt.Sprintf("%q", text))
		case key == "cut" && n == 1:
			panic(http.ErrAbortHandler)
		case key == "broken":
			w.WriteHeader(500)
			fmt.Fprint(w, "no XML")
		case key == "moved":
			http.Redirect(w, r, other.URL+"/kite", 307)
		case key == "forbidden":
			w.WriteHeader(403)
		case key == "hangs":
			<-r.Context().Done()
		case key == "stalls":
			w.Header().Set("Content-Length", "6")
			io.WriteString(w, "a ki")
			http.NewResponseController(w).Flush()
			<-r.Context().Done()
		case key == "cut" || key == "size": // which may come when nobody waits for it any more
		case key != "" || r.Method != "GET":
			unwanted.Add(1)
		case r.URL.Query().Get("prefix") == "words":
			fmt.Fprint(w, "these are no keys")
		case r.URL.Query().Get("prefix") == "endless":
			fmt.Fprint(w, "<ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>a</NextContinuationToken></ListBucketResult>")
		case r.URL.Query().Get("prefix") == "lost":
			fmt.Fprint(w, "<ListBucketResult><IsTruncated>true</IsTruncated></ListBucketResult>")
		case r.URL.Query().Get("prefix") == "long":
			io.WriteString(w, strings.Repeat("x", mostAnswer+1))
		case token == "":
			fmt.Fprint(w, "<ListBucketResult><IsTruncated>true</IsTruncated><NextContinuationToken>a&amp;+b</NextContinuationToken><Contents><Key>a</Key><Size>1</Size></Contents></ListBucketResult>")
		case token == "a&+b":
			fmt.Fprint(w, "<ListBucketResult><Contents><Key>b</Key><Size>2</Size></Contents></ListBucketResult>")
		}
	}))
	defer service.Close()
	s := InBucket(S3Options{Endpoint: service.URL, Bucket: "kites", AccessKey: "kite", SecretKey: "string", Client: &http.Client{}})
	defer s.Close()
	for _, c := range []struct {
		key   string
		asked int64
		is    error // nil: it works
		says  string
	}{
		{"busy", 2, nil, ""}, {"cut", 2, nil, ""}, {"forbidden", 1, fs.ErrPermission, "403"}, {"broken", 2, errAny, "status 500"}, {"moved", 1, errAny, "another endpoint or in another region"},
	} {
		asked.Store(0)
		err := s.Put(t.Context(), c.key, strings.NewReader("a kite"), 6)
		if (err == nil) != (c.is == nil) || c.is != nil && c.is != errAny && !errors.Is(err, c.is) || err != nil && !strings.Contains(err.Error(), c.says) || asked.Load() != c.asked {
			t.Errorf("%s: %v, asked %d times", c.key, err, asked.Load())
		}
	}
	asked.Store(1)
	if o, err := s.Stat(t.Context(), "busy"); err != nil || o.Modified.Year() != 2006 {
		t.Errorf("%+v %v", o, err)
	}
	asked.Store(0)
	for _, size := range []int64{5, 7} {
		if err := s.Put(t.Context(), "size", strings.NewReader("a kite"), size); err == nil || asked.Load() != 0 {
			t.Errorf("six bytes are put as %d: %v, asked %d times", size, err, asked.Load())
		}
	}
	if elsewhere.Load() != 0 {
		t.Error("a signed request went elsewhere")
	}
	for _, key := range []string{"", ".", "../other/kite", "a//b", "/a"} {
		_, stat := s.Stat(t.Context(), key)
		if put, remove := s.Put(t.Context(), key, strings.NewReader("x"), 1), s.Delete(t.Context(), key); !errors.Is(stat, fs.ErrInvalid) || !errors.Is(put, fs.ErrInvalid) || !errors.Is(remove, fs.ErrInvalid) || unwanted.Load() != 0 {
			t.Errorf("the key %q: %v; %v; %v, asked for it %d times", key, stat, put, remove, unwanted.Load())
		}
	}
	for _, key := range []string{"hangs", "stalls"} {
		short, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
		begin := time.Now()
		r, _, err := s.Open(short, key)
		if err == nil {
			_, err = io.ReadAll(r)
			r.Close()
		}
		cancel()
		if took := time.Since(begin); !errors.Is(err, context.DeadlineExceeded) || took > 10*time.Second {
			t.Errorf("%s: %v after %v", key, err, took)
		}
	}
	ended, end := context.WithCancel(t.Context())
	asked.Store(0)
	go func() {
		for asked.Load() == 0 {
			runtime.Gosched()
		}
		end()
	}()
	if err := s.Put(ended, "broken", strings.NewReader("a kite"), 6); !errors.Is(err, context.Canceled) {
		t.Errorf("after the end of its context: %v, asked %d times", err, asked.Load())
	}
	if got, err := list(s, "", ""); err != nil || !slices.Equal(got, []string{"a 1", "b 2"}) {
		t.Errorf("two pages: %v %v", got, err)
	}
	for prefix, says := range map[string]string{"words": "isn't what the interface says", "endless": "not where", "lost": "not where", "long": "longer than"} {
		if _, err := list(s, prefix, ""); err == nil || !strings.Contains(err.Error(), says) {
			t.Errorf("%s: %v", prefix, err)
		}
	}
}

var errAny = errors.New("some error")
