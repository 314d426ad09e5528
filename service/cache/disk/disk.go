// Package disk keeps entries as files within bounds of bytes and files: variants, and sources that were fetched.
//
// Files appear whole, by renaming, once they are on the disk, and are checked against their sums when read; a body that is
// handed out as a file is for its reader to check. Writing happens behind the answer, or as a stream. What lies there is
// known from an index in memory, in the order of use, so that making room walks nothing. A disk that is full, read-only, slow
// or failing costs only what it would have kept: after a few failures it isn't asked for a while.
package disk

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"echolane/service/cache/entry"
	"echolane/service/cache/guard"
	"echolane/service/panics"
)

// Disk is a directory of entries. Safe for concurrent use.
type Disk struct {
	o        Options
	started  time.Time
	index    *index
	opened   *opened
	reads    *guard.Guard
	writing  *guard.Guard
	evicted  atomic.Int64
	counted  atomic.Bool // what was there at the start is in the index
	mu       sync.Mutex  // guards closed, and sending on writes
	closed   bool
	writes   [writers]chan write // by key, so that what is put first is written first
	touches  chan string         // of entries whose files are to be told that they are used
	over     chan struct{}       // there may be more than the bounds
	counting chan struct{}       // closed when counted
	stopping chan struct{}       // closed by Close
	ended    sync.WaitGroup
}

// Options say where entries are kept, and how much of them.
type Options struct {
	Dir   string // made where it is missing
	Bytes int64  // that are kept at most
	Files int    // that are kept at most; 0: a million
	// Held reports whether what is about to go is in use elsewhere, so that it stays for another round; nil: nothing is.
	Held func(key string) bool
	// Evicted is told of entries that made room for others; nil: nobody is. It doesn't block.
	Evicted func(key string)
	Log     *slog.Logger
	Panics  *panics.Catcher
}

type write struct {
	key        string
	head, body []byte
	done       func(kept bool)
}

const (
	writeHold = 256 // entries that wait to be written; beyond that they aren't kept
	touchHold = 256 // entries whose files wait to be told
	writers   = 2
	mostFiles = 1_000_000

	// Budget is how long a request waits for the disk before it goes on without.
	Budget = 500 * time.Millisecond
)

// Open starts a cache. A directory that can't be used is not an error: it is said in the log and counted. Keys are those of
// package entry.
func Open(o Options) *Disk {
	if o.Files <= 0 {
		o.Files = mostFiles
	}
	if o.Held == nil {
		o.Held = func(string) bool { return false }
	}
	d := &Disk{
		o: o, started: time.Now(), opened: newOpened(), index: newIndex(), touches: make(chan string, touchHold), over: make(chan struct{}, 1), counting: make(chan struct{}), stopping: make(chan struct{}),
	}
	guards := guard.Options{
		Name: "disk", Budget: Budget, Log: o.Log, Panics: o.Panics, Words: "the disk cache can't be used; images are served without it", With: []any{"dir", o.Dir},
		Minor: func(err error) bool { return errors.Is(err, entry.ErrBroken) || errors.Is(err, errNoRoom) },
	}
	d.reads, d.writing = guard.New(guards), guard.New(guards)
	if err := os.MkdirAll(o.Dir, 0o700); err != nil {
		d.writing.Failed("make the cache directory", err)
	}
	o.Panics.Go(&d.ended, "count the disk cache", d.count)
	o.Panics.Go(&d.ended, "tell files of their use", d.touch)
	var writing sync.WaitGroup
	for i := range d.writes {
		writes := make(chan write, writeHold/writers)
		d.writes[i] = writes
		writing.Add(1)
		o.Panics.Go(&d.ended, "write to the disk cache", func() {
			defer writing.Done()
			for w := range writes {
				d.write(w)
			}
		})
	}
	o.Panics.Go(&d.ended, "make room in the disk cache", func() {
		ended := make(chan struct{})
		go func() { writing.Wait(); close(ended) }()
		<-d.counting
		for {
			d.makeRoom()
			select {
			case <-d.over:
			case <-ended:
				d.makeRoom()
				return
			}
		}
	})
	return d
}

// Bytes is what is kept.
func (d *Disk) Bytes() int64 { _, n := d.index.sizes(); return n }

// Files is how many entries are kept.
func (d *Disk) Files() int { n, _ := d.index.sizes(); return n }

// Evicted counts the entries that made room for others.
func (d *Disk) Evicted() int64 { return d.evicted.Load() }

// State says how the disk is.
func (d *Disk) State() guard.State { return guard.Join(d.reads.State(), d.writing.State()) }

// Dir is where the entries are.
func (d *Disk) Dir() string { return d.o.Dir }

// Waiting is how many entries wait to be written.
func (d *Disk) Waiting() (n int) {
	for _, w := range d.writes {
		n += len(w)
	}
	return n
}

func (d *Disk) path(key string) string {
	return d.o.Dir + string(filepath.Separator) + key[:2] + string(filepath.Separator) + key
}

// Remove forgets an entry.
func (d *Disk) Remove(key string) {
	if short, ok := entry.Shorten(key); ok {
		os.Remove(d.path(key))
		d.opened.forget(short)
		d.index.remove(short)
	}
}

// Put hands an entry over for writing. Neither slice may be changed afterwards. done, where it isn't nil, is told whether it
// is kept. After Close nothing is.
func (d *Disk) Put(key string, head, body []byte, done func(kept bool)) {
	if done == nil {
		done = func(bool) {}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	if _, ok := entry.Shorten(key); !ok || d.closed {
		done(false)
		return
	}
	select {
	case d.writes[int(key[0])%writers] <- write{key, head, body, done}:
	default:
		d.writing.Failed("keep up with writing", errors.New("too many entries wait"))
		done(false)
	}
}

func (d *Disk) write(w write) {
	kept := false
	defer func() { w.done(kept) }()
	end, err := d.writing.Allow()
	if err != nil {
		return
	}
	err = d.store(w)
	end("write an entry", err)
	kept = err == nil
}

func (d *Disk) store(w write) error {
	s, err := d.Create()
	if err != nil {
		return err
	}
	if _, err := s.Write(w.body); err != nil {
		s.Abort()
		return err
	}
	e, err := s.Commit(w.key, w.head)
	if err != nil {
		s.Abort()
		return err
	}
	return e.File.Close()
}

// A Stream writes one entry's body piece by piece. A Commit that works, or Abort, ends it.
type Stream struct {
	d    *Disk
	f    *os.File
	hash hash.Hash64
	size int64
}

// errNoRoom: there is more than the bounds allow, and what has to go isn't gone yet.
var errNoRoom = errors.New("the disk cache is full, and room wasn't made yet")

// Create begins an entry.
func (d *Disk) Create() (*Stream, error) {
	if d.Bytes() > d.o.Bytes+d.o.Bytes/4 {
		return nil, errNoRoom
	}
	f, err := os.CreateTemp(d.o.Dir, ".new-")
	if err != nil {
		return nil, err
	}
	if _, err := f.Seek(entry.Prefix, io.SeekStart); err != nil {
		f.Close()
		os.Remove(f.Name())
		return nil, err
	}
	return &Stream{d: d, f: f, hash: entry.NewSum()}, nil
}

// Write adds to the body.
func (s *Stream) Write(p []byte) (int, error) {
	n, err := s.f.Write(p)
	s.hash.Write(p[:n])
	s.size += int64(n)
	return n, err
}

// ReadBack gives the first n bytes that were written.
func (s *Stream) ReadBack(n int64) ([]byte, error) {
	data := make([]byte, n)
	_, err := s.f.ReadAt(data, entry.Prefix)
	return data, err
}

// Abort forgets what was written.
func (s *Stream) Abort() {
	s.f.Close()
	os.Remove(s.f.Name())
}

// Commit makes the entry appear under its key, once it is on the disk, and gives it open; the caller closes its file. Where it
// fails, what was written can still be read back, until Abort.
func (s *Stream) Commit(key string, head []byte) (Entry, error) {
	short, ok := entry.Shorten(key)
	if !ok {
		return Entry{}, fmt.Errorf("%q is no key", key)
	}
	if len(head) > entry.MostHeader {
		return Entry{}, fmt.Errorf("the header has %d bytes", len(head))
	}
	p := entry.Prelude{Body: s.size, Head: int64(len(head)), HeadSum: entry.Sum(head), BodySum: s.hash.Sum64()}
	path := s.d.path(key)
	err := func() error {
		if _, err := s.f.Write(head); err != nil {
			return err
		}
		if _, err := s.f.WriteAt(p.Append(nil), 0); err != nil {
			return err
		}
		if err := s.f.Sync(); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		return os.Rename(s.f.Name(), path)
	}()
	if err != nil {
		return Entry{}, err
	}
	s.d.opened.forget(short)
	s.d.index.put(short, p.Size(), time.Now().Unix(), false)
	if s.d.isOver() {
		select {
		case s.d.over <- struct{}{}:
		default:
		}
	}
	return Entry{Head: head, File: s.f, From: entry.Prefix, Size: p.Body, sum: p.BodySum}, nil
}

func (d *Disk) isOver() bool {
	files, bytes := d.index.sizes()
	return files > d.o.Files || bytes > d.o.Bytes
}

// makeRoom removes what was used longest ago until the bounds are kept. What memory answers counts as used: its file goes to
// the end of the line, but not for ever.
func (d *Disk) makeRoom() {
	const rounds = 256
	spared := 0
	for d.isOver() {
		short, ok := d.index.oldest()
		if !ok {
			return
		}
		key := short.String()
		if spared < rounds && d.o.Held(key) {
			spared++
			if now := time.Now(); d.index.use(short, now.Unix()) {
				os.Chtimes(d.path(key), now, now)
			}
			continue
		}
		spared = 0
		if err := os.Remove(d.path(key)); err != nil && !errors.Is(err, fs.ErrNotExist) {
			d.writing.Failed("remove an old entry", err)
		} else {
			d.evicted.Add(1)
			if d.o.Evicted != nil {
				d.o.Evicted(key)
			}
		}
		d.opened.forget(short)
		d.index.remove(short)
	}
}

// count puts what is there at the start into the index, the newest first, and removes what a crash left half written.
func (d *Disk) count() {
	defer close(d.counting)
	type file struct {
		key  entry.Short
		size int64
		used int64
	}
	var files []file
	top, err := os.ReadDir(d.o.Dir)
	if err != nil {
		d.reads.Failed("read the cache directory", err)
		return
	}
	for _, sub := range top {
		select {
		case <-d.stopping:
			return
		default:
		}
		if !sub.IsDir() {
			info, err := sub.Info()
			if err == nil && sub.Name()[0] == '.' && info.ModTime().Before(d.started.Add(-time.Second)) { // what is newer, a stream is still at; file times are coarse
				os.Remove(filepath.Join(d.o.Dir, sub.Name()))
			}
			continue
		}
		entries, err := os.ReadDir(filepath.Join(d.o.Dir, sub.Name()))
		if err != nil {
			continue
		}
		for _, e := range entries {
			key, ok := entry.Shorten(e.Name())
			if !ok {
				continue
			}
			if info, err := e.Info(); err == nil {
				files = append(files, file{key, info.Size(), info.ModTime().UnixNano()})
			}
		}
	}
	slices.SortFunc(files, func(a, b file) int {
		return cmp.Or(cmp.Compare(b.used, a.used), bytes.Compare(a.key[:], b.key[:]))
	})
	for _, f := range files {
		d.index.put(f.key, f.size, f.used/1e9, true)
	}
}

// Sweep removes the entries of which gone says so by their key and header, while ctx lasts, and counts them.
func (d *Disk) Sweep(ctx context.Context, gone func(key string, head []byte) bool) (n int) {
	<-d.counting
	const atOnce = 64
	for i, short := range d.index.all() {
		if i%atOnce == atOnce-1 {
			select {
			case <-ctx.Done():
				return n
			case <-d.stopping:
				return n
			case <-time.After(time.Millisecond):
			}
		}
		key := short.String()
		f, err := os.Open(d.path(key))
		if err != nil {
			continue
		}
		e, err := readEntry(f)
		f.Close()
		if err == nil && gone(key, e.Head) {
			d.Remove(key)
			n++
		}
	}
	return n
}

// Touch notes that entries are used, also by who looks at the files after a restart.
func (d *Disk) Touch(keys []string) {
	now := time.Now()
	for _, key := range keys {
		if short, ok := entry.Shorten(key); ok && d.index.use(short, now.Unix()) {
			os.Chtimes(d.path(key), now, now)
		}
	}
}

// Close waits for what is still being written. What is put afterwards isn't kept.
func (d *Disk) Close() {
	d.mu.Lock()
	if !d.closed {
		d.closed = true
		close(d.stopping)
		for _, w := range d.writes {
			close(w)
		}
	}
	d.mu.Unlock()
	d.ended.Wait()
	d.opened.forgetAll()
}
