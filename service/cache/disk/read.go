package disk

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"echolane/service/cache/entry"
	"echolane/service/cache/guard"
)

// An Entry is a kept body as a file. Its header is sure; the body is for its reader to check.
type Entry struct {
	Head []byte
	File *os.File
	From int64 // where in the file the body begins
	Size int64 // the body's bytes
	sum  uint64
}

// Open gives an entry whose file the caller closes; ok is false where there is none that is whole, or the disk doesn't answer
// in time.
func (d *Disk) Open(key string) (e Entry, ok bool) {
	e, err := guard.Do(d.reads, "read an entry", func() (Entry, error) { return d.open(key) }, func(e Entry) { e.File.Close() })
	return e, err == nil
}

// open reads a header. Of what isn't whole nothing stays.
func (d *Disk) open(key string) (e Entry, err error) {
	short, ok := entry.Shorten(key)
	if !ok {
		return e, fs.ErrNotExist
	}
	f, err := os.Open(d.path(key))
	if err != nil {
		if errors.Is(err, fs.ErrNotExist) {
			d.index.remove(short)
		}
		return e, err
	}
	if e, err = readEntry(f); err != nil {
		f.Close()
		d.Remove(key)
		if errors.Is(err, entry.ErrOld) {
			err = fs.ErrNotExist
		}
		return e, err
	}
	d.used(key, short)
	return e, nil
}

// used notes that an entry was.
func (d *Disk) used(key string, short entry.Short) {
	if now := time.Now(); d.index.use(short, now.Unix()) {
		os.Chtimes(d.path(key), now, now) // so that it's known after a restart
	}
}

// readWhole reads a file that is replaced as a whole, never written to, in as few system calls as that takes: into room, where it is
// smaller than that, else into memory of its own. It errs with entry.ErrBroken where the file is shorter than it says.
func readWhole(path string, room []byte) ([]byte, error) {
	var fd int
	var err error
	for fd, err = unix.Open(path, unix.O_RDONLY|unix.O_CLOEXEC, 0); err == unix.EINTR; fd, err = unix.Open(path, unix.O_RDONLY|unix.O_CLOEXEC, 0) {
	}
	if err != nil {
		return nil, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	defer unix.Close(fd)
	read := func(b []byte) (n int, err error) {
		for n, err = unix.Read(fd, b); err == unix.EINTR; n, err = unix.Read(fd, b) {
		}
		if err != nil {
			return 0, &fs.PathError{Op: "read", Path: path, Err: err}
		}
		return n, nil
	}
	at := 0
	for at < len(room) {
		n, err := read(room[at:])
		if err != nil {
			return nil, err
		}
		at += n
		if _, err := entry.Read(room[:at], int64(at)); err == nil || n == 0 { // it's as long as it says, or it ends
			return room[:at], nil
		}
	}
	var info unix.Stat_t
	if err := unix.Fstat(fd, &info); err != nil {
		return nil, &fs.PathError{Op: "stat", Path: path, Err: err}
	}
	if info.Size < entry.Prefix || info.Size > largestEntry {
		return nil, entry.ErrBroken
	}
	b := make([]byte, info.Size)
	for at = copy(b, room); at < len(b); {
		n, err := read(b[at:])
		if err != nil {
			return nil, err
		}
		if n == 0 {
			return nil, entry.ErrBroken
		}
		at += n
	}
	return b, nil
}

// largestEntry is more than a variant has.
const largestEntry = 1 << 30

func readEntry(f *os.File) (e Entry, err error) {
	var b [entry.Prefix]byte
	if _, err := f.ReadAt(b[:], 0); err != nil {
		return e, brokenOr(err)
	}
	info, err := f.Stat()
	if err != nil {
		return e, err
	}
	p, err := entry.Read(b[:], info.Size())
	if err != nil {
		return e, err
	}
	e = Entry{Head: make([]byte, p.Head), File: f, From: entry.Prefix, Size: p.Body, sum: p.BodySum}
	if _, err := f.ReadAt(e.Head, entry.Prefix+p.Body); err != nil {
		return e, brokenOr(err)
	}
	if entry.Sum(e.Head) != p.HeadSum {
		return e, entry.ErrBroken
	}
	return e, nil
}

// brokenOr tells a file that ends too early from a disk that can't be read.
func brokenOr(err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return entry.ErrBroken
	}
	return err
}

// Get reads an entry; ok is false where there is none that is whole, or the disk doesn't answer in time.
func (d *Disk) Get(key string) (head, body []byte, ok bool) {
	r, ok := d.read(key, false)
	return r.head, r.body, ok
}

// Lend reads an entry as Get does, into memory that is used again: once back is called, neither slice may be looked at. Of who never
// calls it, the memory is its own.
func (d *Disk) Lend(key string) (head, body []byte, back func(), ok bool) {
	r, ok := d.read(key, true)
	back = func() {
		if r.lent != nil {
			lent.Put(r.lent)
		}
	}
	return r.head, r.body, back, ok
}

const mostLent = 48 << 10 // bytes of an entry that is read into memory that is used again

var lent = sync.Pool{New: func() any { return new([mostLent]byte) }}

// A reading is what was read.
type reading struct {
	head, body []byte
	lent       *[mostLent]byte // that they lie in; nil: in memory of their own
}

func (d *Disk) read(key string, lend bool) (reading, bool) {
	r, err := guard.Do(d.reads, "read an entry", func() (r reading, err error) {
		short, ok := entry.Shorten(key)
		if !ok {
			return r, fs.ErrNotExist
		}
		var room []byte
		if lend {
			r.lent = lent.Get().(*[mostLent]byte)
			room = r.lent[:]
		}
		whole, err := readWhole(d.path(key), room)
		if len(whole) > len(room) {
			r.lent = nil
		}
		if err == nil {
			r.head, r.body, err = entry.Parse(whole)
		}
		switch {
		case errors.Is(err, fs.ErrNotExist):
			d.index.remove(short)
			return r, err
		case errors.Is(err, entry.ErrOld), errors.Is(err, entry.ErrBroken):
			d.Remove(key)
			if errors.Is(err, entry.ErrOld) {
				err = fs.ErrNotExist
			}
			return r, err
		case err != nil:
			return r, err
		}
		d.used(key, short)
		return r, nil
	}, nil)
	return r, err == nil
}
