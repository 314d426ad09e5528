// Package diskcache keeps entries as files within a bound of bytes: variants, and sources that were fetched.
//
// An entry is a header and a body. Files appear whole, by renaming, and bodies are checked against their digest
// when read, so that neither a crash nor a failing disk can make a wrong picture. Writing happens behind the
// answer. A disk that is full or read-only costs only what it would have kept.
package diskcache

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sort"
	"sync/atomic"
	"time"
)

// Disk is a directory of entries. Safe for concurrent use.
type Disk struct {
	dir      string
	limit    int64
	log      *slog.Logger
	bytes    atomic.Int64
	failures atomic.Int64
	lastWord atomic.Int64

	writes chan write
	done   chan struct{}
}

type write struct {
	key        string
	head, body []byte
}

const (
	// A file: what it is, the header's length (4 bytes, little endian), the SHA-256 of header and body, the
	// header, the body.
	magic  = "eld2"
	prefix = 4 + 4 + sha256.Size

	writeHold = 256 // entries that wait to be written; beyond that they aren't kept
)

// Open starts a cache in dir, which is made where it is missing. A directory that can't be used is not an
// error: it is said in the log and counted. Keys are at least two characters that may stand in file names.
func Open(dir string, limit int64, log *slog.Logger) *Disk {
	d := &Disk{dir: dir, limit: limit, log: log, writes: make(chan write, writeHold), done: make(chan struct{})}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		d.failed("make the cache directory", err)
	}
	go d.run()
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

// Get reads an entry; ok is false where there is none that is whole.
func (d *Disk) Get(key string) (head, body []byte, ok bool) {
	data, err := os.ReadFile(d.path(key))
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			d.failed("read an entry", err)
		}
		return nil, nil, false
	}
	head, body, ok = unpack(data)
	if !ok {
		d.failed("read an entry", errors.New("the file is broken"))
		os.Remove(d.path(key))
		return nil, nil, false
	}
	now := time.Now()
	os.Chtimes(d.path(key), now, now) // what is used stays
	return head, body, true
}

func unpack(data []byte) (head, body []byte, ok bool) {
	if len(data) < prefix || string(data[:4]) != magic {
		return nil, nil, false
	}
	n := int64(binary.LittleEndian.Uint32(data[4:]))
	rest := data[prefix:]
	if n > int64(len(rest)) || sha256.Sum256(rest) != [sha256.Size]byte(data[8:prefix]) {
		return nil, nil, false
	}
	return rest[:n:n], rest[n:], true
}

func pack(head, body []byte) []byte {
	data := append(make([]byte, prefix, prefix+len(head)+len(body)), head...)
	data = append(data, body...)
	copy(data, magic)
	binary.LittleEndian.PutUint32(data[4:], uint32(len(head)))
	sum := sha256.Sum256(data[prefix:])
	copy(data[8:], sum[:])
	return data
}

// Put hands an entry over for writing. Neither slice may be changed afterwards.
func (d *Disk) Put(key string, head, body []byte) {
	select {
	case d.writes <- write{key, head, body}:
	default:
		d.failed("keep up with writing", errors.New("too many entries wait"))
	}
}

func (d *Disk) run() {
	defer close(d.done)
	d.sweep() // counts what is there, and makes room where the limit was lowered
	for w := range d.writes {
		if err := d.store(w); err != nil {
			d.failed("write an entry", err)
		} else if d.bytes.Load() > d.limit {
			d.sweep()
		}
	}
}

func (d *Disk) store(w write) error {
	data := pack(w.head, w.body)
	path := d.path(w.key)
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	f, err := os.CreateTemp(filepath.Dir(path), ".new-")
	if err != nil {
		return err
	}
	_, err = f.Write(data)
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(f.Name(), path)
	}
	if err != nil {
		os.Remove(f.Name())
		return err
	}
	d.bytes.Add(int64(len(data)))
	return nil
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
	filepath.WalkDir(d.dir, func(p string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return nil
		}
		info, err := e.Info()
		if err != nil {
			return nil
		}
		if e.Name()[0] == '.' {
			os.Remove(p)
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
	d.bytes.Store(sum)
}

// Close waits for what is still being written.
func (d *Disk) Close() {
	close(d.writes)
	<-d.done
}
