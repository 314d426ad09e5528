// Package diskcache keeps entries as files within a bound of bytes: variants, and sources that were fetched.
//
// An entry is a header and a body. Files appear whole, by renaming, and both are checked against their digests when read, so
// that neither a crash nor a failing disk can make a wrong picture; a body that is handed out as a file is for its reader to
// check. Writing happens behind the answer, or as a stream. A disk that is full or read-only costs only what it would have
// kept.
package diskcache

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sort"
	"sync"
	"sync/atomic"
	"time"

	"echolane/service/panics"
)

// Disk is a directory of entries. Safe for concurrent use.
type Disk struct {
	dir      string
	limit    int64
	log      *slog.Logger
	opened   time.Time
	bytes    atomic.Int64
	failures atomic.Int64
	lastWord atomic.Int64

	mu     sync.Mutex // guards closed, and sending on writes
	closed bool
	writes chan write
	over   chan struct{} // there is more than the bound
	swept  chan struct{} // closed when what was there at the start is counted
	ended  sync.WaitGroup
}

type write struct {
	key        string
	head, body []byte
}

// A file: what it is, the body's length (8 bytes, little endian), the header's (4), the SHA-256 of the header, that of the
// body, the body, the header.
const (
	magic  = "eld3"
	prefix = 4 + 8 + 4 + 2*sha256.Size

	writeHold  = 256     // entries that wait to be written; beyond that they aren't kept
	mostHeader = 1 << 20 // bytes
)

// Open starts a cache in dir, which is made where it is missing. A directory that can't be used is not an
// error: it is said in the log and counted. Keys are at least two characters that may stand in file names.
func Open(dir string, limit int64, log *slog.Logger, catch *panics.Catcher) *Disk {
	d := &Disk{dir: dir, limit: limit, log: log, opened: time.Now(), writes: make(chan write, writeHold), over: make(chan struct{}, 1), swept: make(chan struct{})}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		d.failed("make the cache directory", err)
	}
	catch.Go(&d.ended, "write to the disk cache", d.run)
	return d
}

// Bytes is what is kept.
func (d *Disk) Bytes() int64 { return d.bytes.Load() }

// Failures counts the times that the disk couldn't be read or written.
func (d *Disk) Failures() int64 { return d.failures.Load() }

func (d *Disk) failed(what string, err error) {
	d.failures.Add(1)
	now, last := time.Now().UnixNano(), d.lastWord.Load()
	if (last == 0 || now-last > int64(time.Minute)) && d.lastWord.CompareAndSwap(last, now) { // one word a minute
		d.log.Warn("the disk cache can't be used; images are served without it", "doing", what, "dir", d.dir, "error", err)
	}
}

func (d *Disk) path(key string) string { return filepath.Join(d.dir, key[:2], key) }

// errOld: the file is of a format before this one.
var errOld = errors.New("an old format")

// An Entry is a kept body as a file. Its header is sure; the body is for its reader to check.
type Entry struct {
	Head []byte
	File *os.File
	From int64 // where in the file the body begins
	Size int64 // the body's bytes
	sum  [sha256.Size]byte
}

// Open gives an entry whose file the caller closes; ok is false where there is none that is whole.
func (d *Disk) Open(key string) (e Entry, ok bool) {
	f, err := os.Open(d.path(key))
	if err == nil {
		if e, err = readEntry(f); err == nil {
			now := time.Now()
			os.Chtimes(d.path(key), now, now) // what is used stays
			return e, true
		}
		f.Close()
		os.Remove(d.path(key))
	}
	if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, errOld) {
		d.failed("read an entry", err)
	}
	return Entry{}, false
}

func readEntry(f *os.File) (e Entry, err error) {
	broken := errors.New("the file is broken")
	var p [prefix]byte
	if _, err := f.ReadAt(p[:], 0); err != nil {
		return e, broken
	}
	if string(p[:4]) != magic {
		if string(p[:3]) == magic[:3] {
			return e, errOld
		}
		return e, broken
	}
	size, n := int64(binary.LittleEndian.Uint64(p[4:])), int64(binary.LittleEndian.Uint32(p[12:]))
	info, err := f.Stat()
	if err != nil || size < 0 || n > mostHeader || info.Size() != prefix+size+n {
		return e, broken
	}
	e = Entry{Head: make([]byte, n), File: f, From: prefix, Size: size, sum: [sha256.Size]byte(p[16+sha256.Size:])}
	if _, err := f.ReadAt(e.Head, prefix+size); err != nil || sha256.Sum256(e.Head) != [sha256.Size]byte(p[16:]) {
		return e, broken
	}
	return e, nil
}

// Get reads an entry; ok is false where there is none that is whole.
func (d *Disk) Get(key string) (head, body []byte, ok bool) {
	e, ok := d.Open(key)
	if !ok {
		return nil, nil, false
	}
	defer e.File.Close()
	body = make([]byte, e.Size)
	if _, err := e.File.ReadAt(body, e.From); err != nil || sha256.Sum256(body) != e.sum {
		d.failed("read an entry", errors.New("the file is broken"))
		d.Remove(key)
		return nil, nil, false
	}
	return e.Head, body, true
}

// Remove forgets an entry.
func (d *Disk) Remove(key string) {
	if info, err := os.Stat(d.path(key)); err == nil && os.Remove(d.path(key)) == nil {
		d.bytes.Add(-info.Size())
	}
}

// Put hands an entry over for writing. Neither slice may be changed afterwards. After Close nothing is kept.
func (d *Disk) Put(key string, head, body []byte) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.closed {
		return
	}
	select {
	case d.writes <- write{key, head, body}:
	default:
		d.failed("keep up with writing", errors.New("too many entries wait"))
	}
}

// Waiting is how many entries wait to be written.
func (d *Disk) Waiting() int { return len(d.writes) }

func (d *Disk) run() {
	d.sweep() // counts what is there, and makes room where the limit was lowered
	close(d.swept)
	for {
		select {
		case <-d.over:
			d.sweep()
		case w, open := <-d.writes:
			if !open {
				if d.bytes.Load() > d.limit {
					d.sweep()
				}
				return
			}
			if err := d.store(w); err != nil {
				d.failed("write an entry", err)
			}
		}
	}
}

// ask has the cache swept soon.
func (d *Disk) ask() {
	select {
	case d.over <- struct{}{}:
	default:
	}
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
	hash hash.Hash
	size int64
}

// Create begins an entry.
func (d *Disk) Create() (*Stream, error) {
	if d.bytes.Load() > d.limit+d.limit/4 {
		return nil, errors.New("the disk cache is full, and wasn't swept yet")
	}
	f, err := os.CreateTemp(d.dir, ".new-")
	if err != nil {
		return nil, err
	}
	if _, err := f.Seek(prefix, io.SeekStart); err != nil {
		f.Close()
		os.Remove(f.Name())
		return nil, err
	}
	return &Stream{d: d, f: f, hash: sha256.New()}, nil
}

// Write adds to the body.
func (s *Stream) Write(p []byte) (int, error) {
	n, err := s.f.Write(p)
	s.hash.Write(p[:n])
	s.size += int64(n)
	return n, err
}

// Abort forgets what was written.
func (s *Stream) Abort() {
	s.f.Close()
	os.Remove(s.f.Name())
}

// Commit makes the entry appear under its key, and gives it open; the caller closes its file. Where it fails, what was
// written can still be read back, until Abort.
func (s *Stream) Commit(key string, head []byte) (Entry, error) {
	var p [prefix]byte
	copy(p[:], magic)
	binary.LittleEndian.PutUint64(p[4:], uint64(s.size))
	binary.LittleEndian.PutUint32(p[12:], uint32(len(head)))
	sum := sha256.Sum256(head)
	copy(p[16:], sum[:])
	e := Entry{Head: head, File: s.f, From: prefix, Size: s.size, sum: [sha256.Size]byte(s.hash.Sum(nil))}
	copy(p[16+sha256.Size:], e.sum[:])
	path := s.d.path(key)
	err := func() error {
		if len(head) > mostHeader {
			return fmt.Errorf("the header has %d bytes", len(head))
		}
		if _, err := s.f.Write(head); err != nil {
			return err
		}
		if _, err := s.f.WriteAt(p[:], 0); err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		var before int64
		if info, err := os.Stat(path); err == nil {
			before = info.Size()
		}
		if err := os.Rename(s.f.Name(), path); err != nil {
			return err
		}
		if s.d.bytes.Add(prefix+s.size+int64(len(head))-before) > s.d.limit {
			s.d.ask()
		}
		return nil
	}()
	if err != nil {
		return Entry{}, err
	}
	return e, nil
}

// sweep counts all files, removes what a crash left half written, and where there is too much, removes what
// was used longest ago until nine tenths of the limit are left.
func (d *Disk) sweep() {
	type file struct {
		path string
		size int64
		used time.Time
	}
	var files []file
	var sum int64
	before := d.bytes.Load()
	filepath.WalkDir(d.dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return nil
		}
		if e.Name()[0] == '.' {
			if info.ModTime().Before(d.opened.Add(-time.Second)) { // what is newer, a stream is still at; file times are coarse
				os.Remove(p)
			}
			return nil
		}
		files = append(files, file{p, info.Size(), info.ModTime()})
		sum += info.Size()
		return nil
	})
	if sum > d.limit {
		sort.Slice(files, func(i, j int) bool { return files[i].used.Before(files[j].used) })
		for _, f := range files {
			if sum <= d.limit*9/10 {
				break
			}
			if err := os.Remove(f.path); err != nil {
				d.failed("remove an old entry", err)
				continue
			}
			sum -= f.size
		}
	}
	d.bytes.Add(sum - before) // what came and went meanwhile is counted already, or the next time
}

// Close waits for what is still being written. What is put afterwards isn't kept.
func (d *Disk) Close() {
	d.mu.Lock()
	if !d.closed {
		d.closed = true
		close(d.writes)
	}
	d.mu.Unlock()
	d.ended.Wait()
}

// ReadBack gives the first n bytes that were written.
func (s *Stream) ReadBack(n int64) ([]byte, error) {
	data := make([]byte, n)
	_, err := s.f.ReadAt(data, prefix)
	return data, err
}

// Dir is where the entries are.
func (d *Disk) Dir() string { return d.dir }
