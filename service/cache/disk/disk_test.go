package disk

import (
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"echolane/service/cache/entry"
	"echolane/service/cache/guard"
)

func openIn(t testing.TB, o Options) *Disk {
	t.Helper()
	if o.Dir == "" {
		o.Dir = t.TempDir()
	}
	if o.Bytes == 0 {
		o.Bytes = 1 << 30
	}
	o.Log = slog.New(slog.NewTextHandler(io.Discard, nil))
	d := Open(o)
	t.Cleanup(d.Close)
	<-d.counting
	return d
}

// put writes at once.
func put(t testing.TB, d *Disk, key, head, body string) {
	t.Helper()
	if err := d.store(write{key: key, head: []byte(head), body: []byte(body)}); err != nil {
		t.Fatal(err)
	}
}

func waitFor(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !ok(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal(what)
		}
	}
}

func TestWhatIsStreamedIsThere(t *testing.T) {
	d := openIn(t, Options{})
	key := entry.Key("streamed")
	s, err := d.Create()
	if err != nil {
		t.Fatal(err)
	}
	for i := range 100 {
		fmt.Fprintf(s, "%04d", i)
	}
	e, err := s.Commit(key, []byte("head"))
	if err != nil {
		t.Fatal(err)
	}
	e.File.Close()
	e, ok := d.Open(key)
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
	left, _ := filepath.Glob(filepath.Join(d.o.Dir, ".new-*"))
	if len(left) != 0 {
		t.Errorf("left behind: %v", left)
	}
	before := d.Bytes()
	put(t, d, key, "head", strings.Repeat("x", 400)) // in its place
	if d.Bytes() != before || d.Files() != 1 {
		t.Errorf("%d bytes, were %d", d.Bytes(), before)
	}
	if d.Remove(key); d.Bytes() != 0 || d.Files() != 0 {
		t.Errorf("%d bytes are left", d.Bytes())
	}
}

func TestDamageIsFoundAndGoesAndTheDiskGoesOn(t *testing.T) {
	d := openIn(t, Options{})
	key := entry.Key("damaged")
	damage := map[string]func([]byte) []byte{
		"cut":            func(b []byte) []byte { return b[:len(b)-1] },
		"longer":         func(b []byte) []byte { return append(b, 0) },
		"empty":          func([]byte) []byte { return nil },
		"zeroed":         func(b []byte) []byte { return make([]byte, len(b)) },
		"body flipped":   func(b []byte) []byte { b[entry.Prefix] ^= 1; return b },
		"head flipped":   func(b []byte) []byte { b[len(b)-1] ^= 1; return b },
		"length lies":    func(b []byte) []byte { b[11] = 0x7f; return b },
		"header is huge": func(b []byte) []byte { b[15] = 0xff; return b },
		"an old format":  func(b []byte) []byte { b[3] = '2'; return b },
	}
	for name, do := range damage {
		put(t, d, key, "head", "body")
		data, err := os.ReadFile(d.path(key))
		if err != nil {
			t.Fatal(err)
		}
		os.WriteFile(d.path(key), do(data), 0o600)
		if _, _, ok := d.Get(key); ok {
			t.Errorf("%s: it is taken for whole", name)
		}
		if _, err := os.Stat(d.path(key)); err == nil || d.Files() != 0 {
			t.Errorf("%s: it stays", name)
		}
	}
	if s := d.State(); s.Resting || s.Failures == 0 {
		t.Errorf("after %d broken files: %+v; one broken file says nothing of the others", len(damage), s)
	}
}

// What lies in the system's memory is lent though the disk doesn't answer, and what isn't whole isn't.
func TestWhatIsAtHandIsLentWithoutTheDisk(t *testing.T) {
	d := openIn(t, Options{})
	small, large, torn := entry.Key("small"), entry.Key("large"), entry.Key("torn")
	bodies := map[string]string{small: "body", large: strings.Repeat("large", 40_000)}
	for key, body := range bodies {
		put(t, d, key, "head of "+key, body)
	}
	put(t, d, torn, "head", "body")
	os.Truncate(d.path(torn), entry.Prefix+7)
	lying := entry.Key("lying") // of its length, by a byte
	put(t, d, lying, "head", strings.Repeat("large", 40_000))
	f, err := os.OpenFile(d.path(lying), os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteAt([]byte{0x3f}, 7) // about a gigabyte
	f.Close()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	if _, ok := d.lendAtOnce(lying); ok {
		t.Error("an entry that lies of its length is lent")
	}
	if runtime.ReadMemStats(&after); after.TotalAlloc-before.TotalAlloc > 2<<20 {
		t.Errorf("%d bytes were made room for", after.TotalAlloc-before.TotalAlloc)
	}
	if _, ok := d.lendAtOnce(small); !ok {
		t.Skip("the file system here says nothing of what is at hand")
	}
	for range 20 { // it rests after a few
		guard.Do(d.reads, "read", func() (int, error) { return 0, errors.New("broken") }, nil)
	}
	for key, want := range bodies {
		for range 3 {
			head, body, loan, ok := d.Lend(key)
			if !ok || string(head) != "head of "+key || string(body) != want {
				t.Fatalf("%v, %q, %d bytes", ok, head, len(body))
			}
			if (loan == Loan{}) != (len(body) > mostLent) {
				t.Errorf("%d bytes, %v", len(body), loan)
			}
			loan.Back()
		}
	}
	for _, key := range []string{torn, entry.Key("none"), "no key"} {
		if _, _, _, ok := d.Lend(key); ok {
			t.Errorf("%s is lent", key)
		}
	}
}

// Files that stay open give what is there by now, and nothing of what has gone.
func TestAFileThatStaysOpenIsNoOtherThanTheOneThatIsThere(t *testing.T) {
	d := openIn(t, Options{})
	key := entry.Key("kite")
	short, _ := entry.Shorten(key)
	lent := func() string {
		_, body, loan, ok := d.Lend(key)
		defer loan.Back()
		if !ok {
			return ""
		}
		return string(body)
	}
	isOpen := func() bool { p := d.opened.place(short); return p.file != 0 && p.key == short }
	put(t, d, key, "head", "first")
	if lent() != "first" || lent() != "first" {
		t.Fatal("it isn't what was written")
	}
	if !isOpen() {
		t.Skip("the file system here says nothing of what is at hand")
	}
	for i := range 20 { // replaced while others read
		want := fmt.Sprint("body ", i)
		var readers sync.WaitGroup
		for range 4 {
			readers.Go(func() {
				for range 50 {
					if got := lent(); !strings.HasPrefix(got, "body ") && got != "first" {
						t.Errorf("%q", got)
					}
				}
			})
		}
		put(t, d, key, "head", want)
		if got := lent(); got != want {
			t.Errorf("%q, want %q", got, want)
		}
		readers.Wait()
		if got := lent(); got != want {
			t.Errorf("%q after that, want %q", got, want)
		}
	}
	d.Remove(key)
	if got := lent(); got != "" || isOpen() {
		t.Errorf("%q, open %v, though it was removed", got, isOpen())
	}
	put(t, d, key, "head", "damaged soon")
	lent()
	f, err := os.OpenFile(d.path(key), os.O_WRONLY, 0)
	if err != nil {
		t.Fatal(err)
	}
	f.WriteAt([]byte("D"), entry.Prefix)
	f.Close()
	if got := lent(); got != "" || isOpen() {
		t.Errorf("%q, open %v, though it is damaged", got, isOpen())
	}
	// An entry that has another's place takes it.
	other := short
	other[17] ^= 1
	put(t, d, key, "head", "mine")
	put(t, d, other.String(), "head", "another's")
	for range 3 {
		if got := lent(); got != "mine" {
			t.Errorf("%q", got)
		}
		if _, body, _, ok := d.Lend(other.String()); !ok || string(body) != "another's" {
			t.Errorf("%q", body)
		}
	}
	d.Close()
	if isOpen() || d.opened.place(other).file != 0 {
		t.Error("a file is open after the end")
	}
}

func TestAfterCloseNothingIsKeptAndNothingBreaks(t *testing.T) {
	d := openIn(t, Options{})
	kept := make(chan bool, 2)
	one, two := entry.Key("1"), entry.Key("2")
	d.Put(one, nil, []byte("body"), func(ok bool) { kept <- ok })
	d.Close()
	d.Put(two, nil, []byte("body"), func(ok bool) { kept <- ok })
	d.Close()
	if first, second := <-kept, <-kept; !first || second {
		t.Errorf("before the end: kept %v; after it: kept %v", first, second)
	}
	if _, _, ok := d.Get(one); !ok {
		t.Error("what was put before the end is lost")
	}
}

func TestRoomIsMadeInTheOrderOfUse(t *testing.T) {
	size := int64(entry.Prefix + 100)
	held := entry.Key("held")
	for _, o := range []Options{{Bytes: 10 * size}, {Files: 10}} {
		o.Held = func(key string) bool { return key == held }
		d := openIn(t, o)
		put(t, d, held, "", strings.Repeat("x", 100))
		used := entry.Key("used")
		put(t, d, used, "", strings.Repeat("x", 100))
		for i := range 40 {
			put(t, d, entry.Key("entry", fmt.Sprint(i)), "", strings.Repeat("x", 100))
			waitFor(t, "room isn't made", func() bool { return !d.isOver() })
			if _, _, ok := d.Get(used); !ok {
				t.Fatalf("after %d entries, what is used goes", i)
			}
		}
		if _, _, ok := d.Get(held); !ok {
			t.Error("what memory holds went")
		}
		if _, _, ok := d.Get(entry.Key("entry", "39")); !ok {
			t.Error("the newest went")
		}
		if _, _, ok := d.Get(entry.Key("entry", "5")); ok || d.Files() != 10 || d.Evicted() != 32 {
			t.Errorf("an old one is there: %v; %d files, %d went", ok, d.Files(), d.Evicted())
		}
		files := 0
		filepath.WalkDir(d.o.Dir, func(p string, e os.DirEntry, err error) error {
			if err == nil && !e.IsDir() {
				files++
			}
			return err
		})
		if files != 10 {
			t.Errorf("%d files lie there", files)
		}
	}
}

func TestWhatIsThereAtTheStartIsCountedInTheOrderOfUse(t *testing.T) {
	dir := t.TempDir()
	d := openIn(t, Options{Dir: dir})
	for i := range 20 {
		key := entry.Key(fmt.Sprint(i))
		put(t, d, key, "", "body")
		at := time.Now().Add(time.Duration(i-100) * time.Hour)
		if i == 3 {
			at = time.Now()
		}
		os.Chtimes(d.path(key), at, at)
	}
	d.Close()
	torn := filepath.Join(dir, ".new-torn")
	os.WriteFile(torn, []byte("half"), 0o600)
	os.Chtimes(torn, time.Now().Add(-time.Hour), time.Now().Add(-time.Hour))
	d = openIn(t, Options{Dir: dir, Files: 5})
	waitFor(t, "room isn't made", func() bool { return !d.isOver() })
	for i, want := range map[int]bool{0: false, 3: true, 15: false, 16: true, 19: true} {
		if _, _, ok := d.Get(entry.Key(fmt.Sprint(i))); ok != want {
			t.Errorf("entry %d: there is %v", i, ok)
		}
	}
	if _, err := os.Stat(torn); err == nil {
		t.Error("what was left half written stays")
	}
}

// A disk on which nothing can be written still answers with what it has, and isn't tried with every entry.
func TestADiskThatCannotBeWrittenIsRead(t *testing.T) {
	d := openIn(t, Options{})
	key := entry.Key("there")
	put(t, d, key, "", "body")
	old := d.o.Dir
	d.o.Dir = filepath.Join(old, "file")
	os.WriteFile(d.o.Dir, nil, 0o600) // a file where the directory should be
	done := make(chan bool, 10)
	for i := range 10 {
		d.Put(entry.Key(fmt.Sprint(i)), nil, []byte("body"), func(kept bool) { done <- kept })
	}
	for range 10 {
		if <-done {
			t.Error("kept in a directory that isn't there")
		}
	}
	if s := d.State(); !s.Resting || s.Failures >= 10 {
		t.Errorf("%+v", s)
	}
	d.o.Dir = old
	if _, _, ok := d.Get(key); !ok {
		t.Error("what is there can't be read any more")
	}
}

func TestTheIndex(t *testing.T) {
	x := newIndex()
	key := func(i int) entry.Short { s, _ := entry.Shorten(entry.Key(fmt.Sprint(i))); return s }
	for i := range 100 {
		x.put(key(i), int64(i), 1000, false)
	}
	for i := range 50 {
		x.remove(key(i))
	}
	for i := 100; i < 120; i++ {
		x.put(key(i), 1, 1000, true) // before all others
	}
	x.put(key(60), 1000, 1000, true) // known already
	if files, bytes := x.sizes(); files != 70 || bytes != (50+99)*50/2+20 || len(x.slots) != 101 {
		t.Errorf("%d files, %d bytes, %d slots", files, bytes, len(x.slots))
	}
	if stale := x.use(key(119), 1100); stale {
		t.Error("a time of 100 s ago is stale")
	}
	if stale := x.use(key(118), 9000); !stale {
		t.Error("a time of long ago isn't")
	}
	var order []entry.Short
	for k, ok := x.oldest(); ok; k, ok = x.oldest() {
		order = append(order, k)
		x.remove(k)
	}
	if len(order) != 70 || order[0] != key(117) || order[17] != key(100) || order[18] != key(50) || order[69] != key(118) || order[68] != key(119) {
		t.Errorf("the order is wrong: %d", len(order))
	}
	if _, bytes := x.sizes(); bytes != 0 {
		t.Errorf("%d bytes of nothing", bytes)
	}
}

func FuzzEntry(f *testing.F) {
	d := openIn(f, Options{})
	key := entry.Key("fuzzed")
	put(f, d, key, `{"type":"image/webp"}`, "body")
	whole, err := os.ReadFile(d.path(key))
	if err != nil {
		f.Fatal(err)
	}
	f.Add(whole)
	f.Fuzz(func(t *testing.T, data []byte) {
		d := openIn(t, Options{})
		os.MkdirAll(filepath.Dir(d.path(key)), 0o700)
		os.WriteFile(d.path(key), data, 0o600)
		head, body, ok := d.Get(key)
		h, b, err := entry.Parse(data)
		if ok != (err == nil) || string(h) != string(head) || string(b) != string(body) || errors.Is(err, io.EOF) {
			t.Fatal("a file and the same bytes are read differently")
		}
	})
}
