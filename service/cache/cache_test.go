package cache

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"echolane/service/cache/entry"
	"echolane/service/cache/shared"
	"echolane/service/store"
)

var quiet = slog.New(slog.NewTextHandler(io.Discard, nil))

func made(n int, fill byte) *Variant {
	body := bytes.Repeat([]byte{fill}, n)
	return &Variant{Body: body, ETag: ETagOf(body), Type: "image/webp", Width: 3, Height: 2, Stages: []Stage{{"encode", 1.5}}}
}

func open(t *testing.T, o Options) *Cache {
	t.Helper()
	o.Log = quiet
	if o.MemoryBytes == 0 {
		o.MemoryBytes = 1 << 20
	}
	if o.DiskBytes == 0 {
		o.DiskBytes = 1 << 30
	}
	c, err := New(o)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func TestKeysDependOnEverything(t *testing.T) {
	base := Key{Resolved: "a", Sources: []string{"b"}, Renderer: "c"}
	keys := map[string]string{base.String(): "the base"}
	for what, change := range map[string]func(*Key){
		"kind":             func(k *Key) { k.Kind = Placeholder },
		"resolved form":    func(k *Key) { k.Resolved = "x" },
		"source":           func(k *Key) { k.Sources = []string{"x"} },
		"another source":   func(k *Key) { k.Sources = []string{"b", "x"} },
		"sources joined":   func(k *Key) { k.Sources = []string{"b", ""} },
		"renderer":         func(k *Key) { k.Renderer = "x" },
		"thorough":         func(k *Key) { k.Effort = 1 },
		"floor":            func(k *Key) { k.Floor = 50 },
		"fields slide":     func(k *Key) { k.Resolved, k.Renderer = "ac", "" },
		"sources slide":    func(k *Key) { k.Sources, k.Renderer = nil, "cb" },
		"kind and drawing": func(k *Key) { k.Kind = Drawing },
		"facts":            func(k *Key) { k.Kind = Facts },
	} {
		k := base
		change(&k)
		if was, there := keys[k.String()]; there {
			t.Errorf("%s makes the same key as %s", what, was)
		}
		keys[k.String()] = what
	}
	if again := (Key{Resolved: "a", Sources: []string{"b"}, Renderer: "c"}); again.String() != base.String() {
		t.Error("equal inputs have two keys")
	}
}

func TestMemoryStaysWithinItsBytes(t *testing.T) {
	c := open(t, Options{MemoryBytes: 100_000})
	for i := range 200 {
		c.Get(context.Background(), Ask{Key: entry.Key(fmt.Sprintf("key-%03d", i))}, func(context.Context) (*Variant, func(), error) { return made(5000, byte(i)), nil, nil })
	}
	if s := c.Stats(); s.MemoryBytes > 100_000 || s.MemoryEntries == 0 {
		t.Errorf("%d bytes in %d entries, want at most 100000", s.MemoryBytes, s.MemoryEntries)
	}
}

func TestOneMakerForAll(t *testing.T) {
	c := open(t, Options{})
	var all sync.WaitGroup
	runs := 0
	hold := make(chan struct{})
	wheres := make([]Where, 16)
	for i := range wheres {
		all.Go(func() {
			_, w, err := c.Get(context.Background(), Ask{Key: entry.Key("key")}, func(context.Context) (*Variant, func(), error) { runs++; <-hold; return made(10, 1), nil, nil })
			if err != nil {
				t.Error(err)
			}
			wheres[i] = w
		})
	}
	time.AfterFunc(20*time.Millisecond, func() { close(hold) })
	all.Wait()
	count := map[Where]int{}
	for _, w := range wheres {
		count[w]++
	}
	if runs != 1 || count[Made] != 1 {
		t.Errorf("made %d times, %v", runs, count)
	}
	if _, _, err := c.Get(context.Background(), Ask{Key: entry.Key("bad")}, func(context.Context) (*Variant, func(), error) { return nil, nil, errors.New("no") }); err == nil {
		t.Error("an error is lost")
	}
	if _, w, err := c.Get(context.Background(), Ask{Key: entry.Key("bad")}, func(context.Context) (*Variant, func(), error) { return made(1, 1), nil, nil }); err != nil || w != Made {
		t.Errorf("after a failure: %v, %v", w, err)
	}
}

func TestDiskKeepsWhatIsUsedWithinItsLimit(t *testing.T) {
	dir := t.TempDir()
	const size, limit = 20_000, 200_000
	c := open(t, Options{Dir: dir, DiskBytes: limit, MemoryBytes: 1})
	for i := range 30 {
		key := fmt.Sprintf("key-%03d", i)
		c.Get(context.Background(), Ask{Key: entry.Key(key)}, func(context.Context) (*Variant, func(), error) { return made(size, byte(i)), nil, nil })
		for until := time.Now().Add(10 * time.Second); c.disk.Waiting() > 0; time.Sleep(time.Millisecond) { // what can't keep up is let go
			if time.Now().After(until) {
				t.Fatalf("%s isn't written", key)
			}
		}
	}
	c.Close()
	var sum int64
	filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			info, _ := d.Info()
			sum += info.Size()
		}
		return err
	})
	if sum > limit || sum < limit/2 {
		t.Errorf("%d bytes on disk, want up to %d", sum, limit)
	}
	c = open(t, Options{Dir: dir, DiskBytes: limit})
	defer c.Close()
	v, w, err := c.Get(context.Background(), Ask{Key: entry.Key("key-029")}, func(context.Context) (*Variant, func(), error) { return nil, nil, errors.New("it isn't there") })
	if err != nil || w != Disk || len(v.Body) != size || v.Body[0] != 29 || v.Width != 3 || v.Whole().Stages[0].MS != 1.5 {
		t.Errorf("the newest: %+v, %v, %v", v, w, err)
	}
}

// hung is a store that has nothing, and in which nothing comes to lie.
type hung struct {
	store.Store
	until chan struct{}
}

func (h hung) Open(context.Context, string) (io.ReadCloser, store.Object, error) {
	return nil, store.Object{}, fs.ErrNotExist
}

func (h hung) Add(ctx context.Context, _ string, _ io.ReadSeeker, _ int64) error {
	select {
	case <-h.until:
	case <-ctx.Done():
	}
	return errors.New("it hangs")
}
func (h hung) Put(ctx context.Context, key string, b io.ReadSeeker, n int64) error {
	return h.Add(ctx, key, b, n)
}
func (h hung) Close() {}

type oneLease struct{ released chan struct{} }

func (l oneLease) Lead(context.Context, string) (func(), bool, error) {
	return func() { close(l.released) }, true, nil
}

// A store that hangs while it is written to holds no other node up: the lease on what was made is let go.
func TestALeaseIsLetGoThoughTheStoreHangs(t *testing.T) {
	h, l := hung{until: make(chan struct{})}, oneLease{make(chan struct{})}
	s := shared.Open(shared.Options{Store: h, Log: quiet})
	defer s.Close()
	defer close(h.until)
	c := open(t, Options{Store: s, Leases: l})
	begun := time.Now()
	if _, where, err := c.Get(t.Context(), Ask{Key: entry.Key("a")}, func(context.Context) (*Variant, func(), error) { return made(10, 1), nil, nil }); where != Made || err != nil || time.Since(begun) > time.Second {
		t.Errorf("%v %v after %v", where, err, time.Since(begun))
	}
	select {
	case <-l.released:
	case <-time.After(heldFor + 2*time.Second):
		t.Error("it is held on")
	}
}

// What an entry says is held against what may stand in an answer.
func TestAnEntryThatSaysOtherThingsIsNoVariant(t *testing.T) {
	good := made(10, 1)
	if !sound(good) {
		t.Fatal("a variant is none")
	}
	for what, change := range map[string]func(*Variant){
		"a page": func(v *Variant) { v.Type = "text/html" }, "two fields": func(v *Variant) { v.Type = "image/png\r\nX: y" }, "no type": func(v *Variant) { v.Type = "image/" },
		"a validator without quotes": func(v *Variant) { v.ETag = "0123456789abcdef01" }, "a validator with a quote in it": func(v *Variant) { v.ETag = `"01234567"9abcdef"` }, "none": func(v *Variant) { v.ETag = "" },
	} {
		v := *good
		if change(&v); sound(&v) {
			t.Errorf("%s is taken", what)
		}
	}
}

// What was read from disk or store doesn't take the place of what came to memory meanwhile, unless that was purged.
func TestWhatIsReadLateDoesNotTakeThePlaceOfWhatIsNewer(t *testing.T) {
	c, err := New(Options{MemoryBytes: 1 << 20})
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	provisional, final := &Variant{Body: []byte("first"), Provisional: true}, &Variant{Body: []byte("searched for")}
	if got := c.hold(Ask{Key: "k"}, provisional); got != provisional {
		t.Error("there was nothing, and what was read isn't given")
	}
	if got := c.hold(Ask{Key: "k"}, final); got != final {
		t.Errorf("%s stays where what was searched for is found", got.Body)
	}
	c.Replace("k", final, nil)
	if got := c.hold(Ask{Key: "k"}, provisional); got != final {
		t.Errorf("%s takes the place of %s", got.Body, final.Body)
	}
	anew := &Variant{Body: []byte("made anew"), Serial: 3}
	if got := c.hold(Ask{Key: "k", Since: 3}, anew); got != anew {
		t.Errorf("after a purge, %s is given", got.Body)
	}
	if v, ok := c.InMemory("k", 3); !ok || v != anew {
		t.Error("after a purge, memory has what was before")
	}
}
