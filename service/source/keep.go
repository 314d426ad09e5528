package source

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"echolane/core/policy"
	"echolane/service/cache/disk"
	"echolane/service/cache/entry"
	"echolane/service/cache/shared"
	"echolane/service/source/held"
)

// Keep holds the sources that were fetched: on disk, where there is one, and otherwise in memory that is counted. What
// nobody may keep is held in memory as long as it is used. Safe for concurrent use.
type Keep struct {
	disk   *disk.Disk // nil: none
	memory *memory
	shared *sharing // nil: other nodes have nothing of it
}

// DefaultMemory is how many bytes of sources are held in memory at once.
const DefaultMemory = 128 << 20

// NewKeep makes one. disk may be nil. memoryBytes bounds what is held in memory; 0: DefaultMemory.
func NewKeep(disk *disk.Disk, memoryBytes int64) *Keep {
	if memoryBytes <= 0 {
		memoryBytes = DefaultMemory
	}
	return &Keep{disk: disk, memory: &memory{total: memoryBytes, entries: map[string]*kept{}, wake: make(chan struct{})}}
}

// Disk is where sources are kept, nil for nowhere.
func (k *Keep) Disk() *disk.Disk { return k.disk }

// MemoryBytes is what is held in memory.
func (k *Keep) MemoryBytes() int64 {
	k.memory.mu.Lock()
	defer k.memory.mu.Unlock()
	return k.memory.used
}

// Known gives what is kept under a key, nil where nothing is.
func (k *Keep) Known(key string) *Version {
	if k.disk != nil {
		if e, ok := k.disk.Open(key); ok {
			e.File.Close()
			var v Version
			if json.Unmarshal(e.Head, &v) == nil && v.Digest != "" {
				return &v
			}
		}
	}
	return k.fromStore(key)
}

// Open gives the content of a version that is kept under a key.
func (k *Keep) Open(key string, v Version) (*held.Content, bool) {
	if c, ok := k.memory.get(key, v.Digest); ok {
		return c, true
	}
	if k.disk == nil {
		return nil, false
	}
	e, ok := k.disk.Open(key)
	if !ok {
		return nil, false
	}
	var have Version
	if json.Unmarshal(e.Head, &have) != nil || have.Digest != v.Digest || e.Size != v.Bytes {
		e.File.Close()
		return nil, false
	}
	return held.InFile(e.File, e.From, e.Size), true
}

// OpenOr gives the content of a version that is kept under a key, or that fetch brings. held.ErrChanged where that is another.
func (k *Keep) OpenOr(key string, v Version, fetch func() (Version, *held.Content, error)) (*held.Content, error) {
	if c, ok := k.Open(key, v); ok {
		return c, nil
	}
	got, content, err := fetch()
	if err != nil {
		return nil, err
	}
	if got.Digest != v.Digest {
		content.Close()
		return nil, held.ErrChanged
	}
	return content, nil
}

// serialOf is the context's serial, under which sources are looked at.
type serialOf struct{}

// Under has sources looked at under a serial: see Version.
func Under(ctx context.Context, serial uint64) context.Context {
	return context.WithValue(ctx, serialOf{}, serial)
}

func serial(ctx context.Context) uint64 {
	n, _ := ctx.Value(serialOf{}).(uint64)
	return n
}

// Forget drops what is kept under a key: all, or, where since isn't 0, what this node kept under an earlier serial. What the
// store has of an earlier one isn't looked at any more, and is replaced.
func (k *Keep) Forget(key string, since uint64) {
	if since > 0 && k.disk != nil {
		if e, ok := k.disk.Open(key); ok {
			e.File.Close()
			var v Version
			if json.Unmarshal(e.Head, &v) == nil && v.Serial >= since {
				return
			}
		}
	}
	k.memory.forget(key)
	if k.disk != nil {
		k.disk.Remove(key)
	}
	if k.shared != nil && since == 0 {
		ctx, cancel := context.WithTimeout(context.Background(), shared.Budget)
		defer cancel()
		k.shared.store.Delete(ctx, shared.Name(shared.Sources, key))
	}
}

// Refresh puts what an origin has said anew beside what is kept.
func (k *Keep) Refresh(key string, v Version) {
	c, ok := k.Open(key, v)
	if !ok || k.disk == nil {
		c.Close()
		return
	}
	defer c.Close()
	h, err := head(v)
	if err == nil && k.write(key, h, c.Reader()) {
		k.give(key, v, c)
	}
}

// ErrTooLong: there is more than the limit.
var ErrTooLong = errors.New("there are more bytes than the limit")

// Receive takes a source in, at most limit bytes of it, and works out its digest. hint is how long it says it is, below 0
// where it doesn't. complete makes its version once the bytes are known; it says under which key to keep them, "" for as
// long as they are used only. The digest is of the same kind as like.
func (k *Keep) Receive(ctx context.Context, r io.Reader, limit, hint int64, like held.Digest, complete func(held.Digest, int64) (Version, string)) (Version, *held.Content, error) {
	sum := held.NewDigester(like)
	r = io.TeeReader(held.ReaderOf(ctx, io.LimitReader(r, limit+1)), sum)
	// Whether it may be kept is known before its bytes are.
	if _, key := complete("", 0); key != "" && k.disk != nil {
		if s, err := k.disk.Create(); err == nil {
			return k.toDisk(ctx, s, r, limit, sum, complete)
		}
	}
	return k.toMemory(ctx, nil, r, limit, hint, sum, complete)
}

func (k *Keep) toDisk(ctx context.Context, s *disk.Stream, r io.Reader, limit int64, sum held.Digester, complete func(held.Digest, int64) (Version, string)) (Version, *held.Content, error) {
	buffer := make([]byte, 64<<10)
	var n int64
	for {
		got, err := r.Read(buffer)
		if n += int64(got); n > limit {
			s.Abort()
			return Version{}, nil, ErrTooLong
		}
		if _, failed := s.Write(buffer[:got]); failed != nil {
			// The disk is full or failing: what came so far is read back, and the rest goes to memory.
			before, lost := s.ReadBack(n - int64(got))
			s.Abort()
			if lost != nil {
				return Version{}, nil, lost
			}
			return k.toMemory(ctx, append(before, buffer[:got]...), r, limit, -1, sum, complete)
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			s.Abort()
			return Version{}, nil, err
		}
	}
	v, key := complete(sum.Digest(), n)
	v.Serial = serial(ctx)
	h, err := head(v)
	if err != nil {
		s.Abort()
		return Version{}, nil, err
	}
	e, err := s.Commit(key, h)
	if err != nil {
		before, lost := s.ReadBack(n)
		s.Abort()
		if lost != nil {
			return Version{}, nil, lost
		}
		return k.toMemory(ctx, before, bytes.NewReader(nil), limit, -1, sum, complete)
	}
	content := held.InFile(e.File, e.From, e.Size)
	k.give(key, v, content)
	return v, content, nil
}

func (k *Keep) toMemory(ctx context.Context, before []byte, r io.Reader, limit, hint int64, sum held.Digester, complete func(held.Digest, int64) (Version, string)) (Version, *held.Content, error) {
	const step = 1 << 20
	m := k.memory
	reserved := int64(0)
	// grow reserves room in steps: what is announced isn't there yet.
	grow := func(to int64) error {
		if to > m.total {
			return policy.No(policy.Refusal{Reason: policy.ReasonSourceTooManyBytes, Given: fmt.Sprint(to), Allowed: fmt.Sprintf("at most %d bytes", m.total), Detail: "the service keeps sources in memory, and this one is larger than that",
				Remedy: "use a smaller file, or start the service with a --cache-dir"})
		}
		if err := m.reserve(ctx, to-reserved); err != nil {
			return err
		}
		reserved = to
		return nil
	}
	fail := func(err error) (Version, *held.Content, error) {
		m.unreserve(reserved)
		return Version{}, nil, err
	}
	first := int64(len(before)) + 64<<10
	if hint >= 0 {
		first = min(hint+1, step)
	}
	if err := grow(max(first, int64(len(before))+1)); err != nil {
		return fail(err)
	}
	data := append(make([]byte, 0, reserved), before...)
	for {
		if len(data) == cap(data) {
			next := max(2*int64(len(data)), step)
			if hint >= int64(len(data)) { // one byte more is how its end is met
				next = min(next, hint+1)
			}
			if err := grow(min(next, limit+1)); err != nil {
				return fail(err)
			}
			bigger := make([]byte, len(data), reserved)
			copy(bigger, data)
			data = bigger
		}
		got, err := r.Read(data[len(data):cap(data)])
		if data = data[:len(data)+got]; int64(len(data)) > limit {
			return fail(ErrTooLong)
		}
		if err == io.EOF {
			break
		}
		if err != nil {
			return fail(err)
		}
	}
	v, key := complete(sum.Digest(), int64(len(data)))
	v.Serial = serial(ctx)
	content := m.put(key, v.Digest, data, reserved)
	k.give(key, v, content)
	return v, content, nil
}

// KeepKey is the key of what these parts name together.
func KeepKey(parts ...string) string { return entry.Key(parts...) }
