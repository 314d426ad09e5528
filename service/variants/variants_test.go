package variants

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"
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
	keys := map[string]bool{}
	for _, k := range []string{Key("a", "b", "c"), Key("ab", "", "c"), Key("a", "bc", ""), Key("a", "b", "d"), Key("a", "x", "c")} {
		keys[k] = true
	}
	if len(keys) != 5 {
		t.Errorf("five different requests have %d keys", len(keys))
	}
}

func TestMemoryStaysWithinItsBytes(t *testing.T) {
	c := open(t, Options{MemoryBytes: 100_000})
	for i := range 200 {
		c.Get(fmt.Sprintf("key-%03d", i), func() (*Variant, error) { return made(5000, byte(i)), nil })
	}
	c.memory.CleanUp()
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
			_, w, err := c.Get("key", func() (*Variant, error) { runs++; <-hold; return made(10, 1), nil })
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
	if _, _, err := c.Get("bad", func() (*Variant, error) { return nil, errors.New("no") }); err == nil {
		t.Error("an error is lost")
	}
	if _, w, err := c.Get("bad", func() (*Variant, error) { return made(1, 1), nil }); err != nil || w != Made {
		t.Errorf("after a failure: %v, %v", w, err)
	}
}

func TestDiskKeepsWhatIsUsedWithinItsLimit(t *testing.T) {
	dir := t.TempDir()
	const size, limit = 20_000, 200_000
	c := open(t, Options{Dir: dir, DiskBytes: limit, MemoryBytes: 1})
	for i := range 30 {
		c.Get(fmt.Sprintf("key-%03d", i), func() (*Variant, error) { return made(size, byte(i)), nil })
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
	v, w, err := c.Get("key-029", func() (*Variant, error) { return nil, errors.New("it isn't there") })
	if err != nil || w != Disk || len(v.Body) != size || v.Body[0] != 29 || v.Width != 3 || v.Stages[0].MS != 1.5 {
		t.Errorf("the newest: %+v, %v, %v", v, w, err)
	}
}
