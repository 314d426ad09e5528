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

// used notes that an entry was. It waits for nothing: its file is told behind it, so that it's known after a restart.
func (d *Disk) used(key string, short entry.Short) {
	if !d.index.use(short, time.Now().Unix()) {
		return
	}
	select {
	case d.touches <- key:
	default: // the disk is slow: it's told when it is used next
	}
}

// touch tells files of their use until the disk is closed.
func (d *Disk) touch() {
	for {
		select {
		case key := <-d.touches:
			now := time.Now()
			os.Chtimes(d.path(key), now, now)
		case <-d.stopping:
			return
		}
	}
}

const resolveCached = 0x20 // RESOLVE_CACHED of linux/openat2.h

// openAtOnce opens a file where the way to it is in the system's memory already.
func openAtOnce(path string) (file int, ok bool) {
	file, err := unix.Openat2(unix.AT_FDCWD, path, &unix.OpenHow{Flags: unix.O_RDONLY | unix.O_CLOEXEC, Resolve: resolveCached})
	return file, err == nil
}

// readAtOnce reads an entry where all of it is in the system's memory already: into room where that is large enough, else into memory
// of its own.
func readAtOnce(file int, room []byte) (whole []byte, ok bool) {
	n, err := unix.Preadv2(file, [][]byte{room}, 0, unix.RWF_NOWAIT)
	if err != nil {
		return nil, false
	}
	if _, err := entry.Read(room[:n], int64(n)); err == nil { // it's as long as it says
		return room[:n], true
	}
	var info unix.Stat_t
	if n < len(room) || unix.Fstat(file, &info) != nil || info.Size < int64(n) || info.Size > largestEntry {
		return nil, false
	}
	whole = make([]byte, info.Size) // not as it says: a byte of that may be wrong
	for at := copy(whole, room[:n]); at < len(whole); at += n {
		if n, err = unix.Preadv2(file, [][]byte{whole[at:]}, int64(at), unix.RWF_NOWAIT); err != nil || n <= 0 {
			return nil, false
		}
	}
	return whole, true
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

// A Loan is memory that an entry was read into, and that is used again once it is given back. That of a loan which is never given back
// is its holder's own. The zero Loan is no loan.
type Loan struct{ room *[mostLent]byte }

// Back gives the memory back: what was read into it may not be looked at any more.
func (l Loan) Back() {
	if l.room != nil {
		lent.Put(l.room)
	}
}

// Lend reads an entry as Get does, into memory that is lent.
func (d *Disk) Lend(key string) (head, body []byte, loan Loan, ok bool) {
	r, ok := d.lendAtOnce(key)
	if !ok {
		r, ok = d.read(key, true)
	}
	return r.head, r.body, r.loan, ok
}

const mostLent = 48 << 10 // bytes of an entry that is read into memory that is used again

var lent = sync.Pool{New: func() any { return new([mostLent]byte) }}

// A reading is what was read.
type reading struct {
	head, body []byte
	loan       Loan // of the memory that they lie in; zero: it is their own
}

// lendAtOnce reads an entry on the goroutine of who asks, without ever waiting for the disk: where the file and the way to it are in the
// system's memory already (openat2 with RESOLVE_CACHED, preadv2 with RWF_NOWAIT, both of Linux 5.12). ok is false where it isn't to be
// had so, for whatever reason: who reads in the ordinary way finds out.
func (d *Disk) lendAtOnce(key string) (r reading, ok bool) {
	short, ok := entry.Shorten(key)
	if !ok {
		return r, false
	}
	r.loan = Loan{lent.Get().(*[mostLent]byte)}
	whole, ok := d.opened.read(short, func() (int, bool) { return openAtOnce(d.path(key)) }, func(file int) ([]byte, bool) { return readAtOnce(file, r.loan.room[:]) })
	if ok {
		var err error
		if r.head, r.body, err = entry.Parse(whole); err != nil {
			d.opened.forget(short)
			ok = false
		}
	}
	if !ok {
		r.loan.Back()
		return reading{}, false
	}
	if len(whole) > mostLent {
		r.loan.Back()
		r.loan = Loan{}
	}
	d.used(key, short)
	return r, true
}

func (d *Disk) read(key string, lend bool) (reading, bool) {
	r, err := guard.Do(d.reads, "read an entry", func() (r reading, err error) {
		short, ok := entry.Shorten(key)
		if !ok {
			return r, fs.ErrNotExist
		}
		var room []byte
		if lend {
			r.loan = Loan{lent.Get().(*[mostLent]byte)}
			room = r.loan.room[:]
		}
		whole, err := readWhole(d.path(key), room)
		if len(whole) > len(room) {
			r.loan = Loan{}
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
