package variants

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"sort"
	"sync/atomic"
	"time"
)

// disk keeps variants as files: four bytes that say what it is, the header's length, the header as JSON, the
// body. Files appear whole, by renaming, and are checked against their ETag when read, so that neither a
// crash nor a failing disk can make a wrong picture. Writing happens behind the answer.
type disk struct {
	dir      string
	limit    int64
	log      *slog.Logger
	bytes    atomic.Int64
	failures atomic.Int64
	words    seldom

	writes chan write
	done   chan struct{}
}

type write struct {
	key string
	v   *Variant
}

const (
	magic     = "elv1"
	writeHold = 256 // variants that wait to be written; beyond that they aren't kept on disk
)

func openDisk(dir string, limit int64, log *slog.Logger) *disk {
	d := &disk{dir: dir, limit: limit, log: log, writes: make(chan write, writeHold), done: make(chan struct{})}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		d.failed("make the cache directory", err)
	}
	go d.run()
	return d
}

func (d *disk) failed(what string, err error) {
	d.failures.Add(1)
	if d.words.now() {
		d.log.Warn("the disk cache can't be used; variants are served without it", "doing", what, "dir", d.dir, "error", err)
	}
}

func (d *disk) path(key string) string { return filepath.Join(d.dir, key[:2], key) }

// get reads a variant, nil where there is none that is whole.
func (d *disk) get(key string) *Variant {
	data, err := os.ReadFile(d.path(key))
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			d.failed("read a variant", err)
		}
		return nil
	}
	v, ok := unpack(data)
	if !ok {
		d.failed("read a variant", errors.New("the file is broken"))
		os.Remove(d.path(key))
		return nil
	}
	now := time.Now()
	os.Chtimes(d.path(key), now, now) // what is used stays
	return v
}

func unpack(data []byte) (*Variant, bool) {
	if len(data) < 8 || string(data[:4]) != magic {
		return nil, false
	}
	n := int64(binary.LittleEndian.Uint32(data[4:]))
	if 8+n > int64(len(data)) {
		return nil, false
	}
	v := &Variant{Body: data[8+n:]}
	if json.Unmarshal(data[8:8+n], v) != nil || ETagOf(v.Body) != v.ETag {
		return nil, false
	}
	return v, true
}

func pack(v *Variant) ([]byte, error) {
	head, err := json.Marshal(v)
	if err != nil {
		return nil, err
	}
	data := append(make([]byte, 0, 8+len(head)+len(v.Body)), magic...)
	data = binary.LittleEndian.AppendUint32(data, uint32(len(head)))
	return append(append(data, head...), v.Body...), nil
}

// put hands a variant over for writing.
func (d *disk) put(key string, v *Variant) {
	select {
	case d.writes <- write{key, v}:
	default:
		d.failed("keep up with writing", errors.New("too many variants wait"))
	}
}

func (d *disk) run() {
	defer close(d.done)
	d.sweep() // counts what is there, and makes room where the limit was lowered
	for w := range d.writes {
		if err := d.store(w); err != nil {
			d.failed("write a variant", err)
		} else if d.bytes.Load() > d.limit {
			d.sweep()
		}
	}
}

func (d *disk) store(w write) error {
	data, err := pack(w.v)
	if err != nil {
		return err
	}
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
func (d *disk) sweep() {
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
				d.failed("remove an old variant", err)
				continue
			}
			sum -= f.size
		}
	}
	d.bytes.Store(sum)
}

func (d *disk) close() {
	close(d.writes)
	<-d.done
}
