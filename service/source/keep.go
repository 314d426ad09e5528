package source

import (
	"bytes"
	"container/list"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync"
	"time"

	"echolane/core/policy"
	"echolane/service/cache"
	"echolane/service/cache/disk"
	"echolane/service/cache/entry"
	"echolane/service/cache/shared"
)

// Keep holds the sources that were fetched: on disk, where there is one, and otherwise in memory that is counted. What
// nobody may keep is held in memory as long as it is used. Safe for concurrent use.
type Keep struct {
	disk   *disk.Disk // nil: none
	memory *memory
	shared *sharing // nil: other nodes have nothing of it
}

// sharing is with other nodes.
type sharing struct {
	store  *shared.Store
	leases cache.Leases
	mu     sync.Mutex
	giving map[string]chan struct{} // what is being written to the store, by key
}

// mostShared is the most bytes of a source that other nodes get from the store; they fetch what is larger.
const mostShared = 64 << 20

// DefaultMemory is how many bytes of sources are held in memory at once.
const DefaultMemory = 128 << 20

// NewKeep makes one. disk may be nil. memoryBytes bounds what is held in memory; 0: DefaultMemory.
func NewKeep(disk *disk.Disk, memoryBytes int64) *Keep {
	if memoryBytes <= 0 {
		memoryBytes = DefaultMemory
	}
	return &Keep{disk: disk, memory: &memory{total: memoryBytes, entries: map[string]*held{}, wake: make(chan struct{})}}
}

// Share has what is kept be found by other nodes too, in their store. leases may be nil. It isn't called while the Keep is used.
func (k *Keep) Share(store *shared.Store, leases cache.Leases) {
	if store != nil {
		k.shared = &sharing{store: store, leases: leases, giving: map[string]chan struct{}{}}
	}
}

// Local is the same Keep, of which other nodes get nothing.
func (k *Keep) Local() *Keep { return &Keep{disk: k.disk, memory: k.memory} }

// head is what is written beside a source's bytes.
func head(v Version) ([]byte, error) {
	if v.Validated.IsZero() {
		v.Validated = time.Now()
	}
	return json.Marshal(v)
}

// give writes a source to the store, behind the answer.
func (k *Keep) give(key string, v Version, c *Content) {
	if k.shared == nil || key == "" || v.Bytes > mostShared {
		return
	}
	c = c.Share()
	defer c.Close()
	body, err := io.ReadAll(c.Reader())
	if err != nil {
		return
	}
	h, err := head(v)
	if err != nil {
		return
	}
	s, given := k.shared, make(chan struct{})
	s.mu.Lock()
	s.giving[key] = given
	s.mu.Unlock()
	s.store.Put(shared.Name(shared.Sources, key), h, body, true, func(bool) {
		s.mu.Lock()
		if s.giving[key] == given {
			delete(s.giving, key)
		}
		s.mu.Unlock()
		close(given)
	})
}

// fromStore brings a source from where another node has put it, nil where none has.
func (k *Keep) fromStore(key string) *Version {
	if k.shared == nil {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), shared.Budget)
	defer cancel()
	h, body, err := k.shared.store.Get(ctx, shared.Name(shared.Sources, key))
	var v Version
	if err != nil || json.Unmarshal(h, &v) != nil || v.Digest == "" || v.Bytes != int64(len(body)) {
		return nil
	}
	if k.disk != nil && k.write(key, h, bytes.NewReader(body)) {
		return &v
	}
	if k.memory.reserve(ctx, v.Bytes) != nil {
		return nil
	}
	k.memory.put(key, v.Digest, body, v.Bytes).Close()
	return &v
}

// write keeps a source on the disk.
func (k *Keep) write(key string, head []byte, body io.Reader) bool {
	s, err := k.disk.Create()
	if err != nil {
		return false
	}
	if _, err = io.Copy(s, body); err == nil {
		var e disk.Entry
		if e, err = s.Commit(key, head); err == nil {
			e.File.Close()
			return true
		}
	}
	s.Abort()
	return false
}

// fresh gives a version whose freshness lifetime hasn't passed since it was validated, with what is left of that.
func (v *Version) fresh() (out Version, ok bool) {
	if v == nil {
		return out, false
	}
	age := time.Since(v.Validated)
	if age < 0 || age >= v.Fresh {
		return out, false
	}
	out = *v
	out.Fresh -= age
	return out, true
}

// Newest gives the newest version of what is kept under a key: as it is kept, while that is fresh, or as get finds it. have is
// what is known already, nil for nothing; get is given what is kept then. Of several nodes that know nothing, one asks.
func (k *Keep) Newest(ctx context.Context, key string, have *Version, get func(have *Version) (Version, *Content, error)) (Version, *Content, error) {
	if have != nil {
		return get(have)
	}
	known := func() *Version {
		if have := k.Known(key); have != nil && have.Serial >= serial(ctx) {
			return have
		}
		return nil // what was purged isn't asked about
	}
	have = known()
	if v, ok := have.fresh(); ok {
		return v, nil, nil
	}
	if have != nil || k.shared == nil || k.shared.leases == nil {
		return get(have)
	}
	for {
		release, lead, err := k.shared.leases.Lead(ctx, key)
		if err != nil {
			return Version{}, nil, err
		}
		have = known() // another node may have fetched it since
		v, ok := have.fresh()
		if !ok && !lead {
			continue
		}
		if ok {
			if lead {
				release()
			}
			return v, nil, nil
		}
		v, content, err := get(have)
		k.shared.mu.Lock()
		given := k.shared.giving[key]
		k.shared.mu.Unlock()
		go func() {
			if given != nil {
				<-given
			}
			release()
		}()
		return v, content, err
	}
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
func (k *Keep) Open(key string, v Version) (*Content, bool) {
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
	return InFile(e.File, e.From, e.Size), true
}

// OpenOr gives the content of a version that is kept under a key, or that fetch brings. ErrChanged where that is another.
func (k *Keep) OpenOr(key string, v Version, fetch func() (Version, *Content, error)) (*Content, error) {
	if c, ok := k.Open(key, v); ok {
		return c, nil
	}
	got, content, err := fetch()
	if err != nil {
		return nil, err
	}
	if got.Digest != v.Digest {
		content.Close()
		return nil, ErrChanged
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
// long as they are used only.
func (k *Keep) Receive(ctx context.Context, r io.Reader, limit, hint int64, complete func(Digest, int64) (Version, string)) (Version, *Content, error) {
	sum := NewDigester()
	r = io.TeeReader(readerOf(ctx, io.LimitReader(r, limit+1)), sum)
	// Whether it may be kept is known before its bytes are.
	if _, key := complete("", 0); key != "" && k.disk != nil {
		if s, err := k.disk.Create(); err == nil {
			return k.toDisk(ctx, s, r, limit, sum, complete)
		}
	}
	return k.toMemory(ctx, nil, r, limit, hint, sum, complete)
}

func (k *Keep) toDisk(ctx context.Context, s *disk.Stream, r io.Reader, limit int64, sum Digester, complete func(Digest, int64) (Version, string)) (Version, *Content, error) {
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
	content := InFile(e.File, e.From, e.Size)
	k.give(key, v, content)
	return v, content, nil
}

func (k *Keep) toMemory(ctx context.Context, before []byte, r io.Reader, limit, hint int64, sum Digester, complete func(Digest, int64) (Version, string)) (Version, *Content, error) {
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
	fail := func(err error) (Version, *Content, error) {
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

// memory is sources in memory, counted in bytes. Those in use stay; of the others those that were used last stay as long as
// there is room, so that equal readers share them. Who needs room waits for it.
type memory struct {
	mu      sync.Mutex
	total   int64
	used    int64
	entries map[string]*held
	idle    list.List     // of *held that nobody uses, oldest first
	wake    chan struct{} // closed when room may have come free
}

type held struct {
	key    string
	digest Digest
	data   []byte
	bytes  int64
	users  int
	at     *list.Element // in idle
}

// errNoRoom: the sources in use leave no room for another in time.
func errNoRoom() *policy.Refusal {
	return policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "the sources that are being read take all the memory that there is for them", Remedy: "try again in a moment", RetryIn: 2})
}

// longestWait is how long a source waits for room.
const longestWait = 10 * time.Second

func (m *memory) reserve(ctx context.Context, n int64) error {
	late := time.NewTimer(longestWait)
	defer late.Stop()
	for {
		m.mu.Lock()
		for m.used+n > m.total && m.idle.Len() > 0 {
			m.drop(m.idle.Front().Value.(*held))
		}
		if m.used+n <= m.total {
			m.used += n
			m.mu.Unlock()
			return nil
		}
		wake := m.wake
		m.mu.Unlock()
		select {
		case <-wake:
		case <-ctx.Done():
			return ctx.Err()
		case <-late.C:
			return errNoRoom()
		}
	}
}

func (m *memory) unreserve(n int64) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.free(n)
}

// free gives room back; m.mu is held.
func (m *memory) free(n int64) {
	m.used -= n
	close(m.wake)
	m.wake = make(chan struct{})
}

// drop forgets an entry that nobody uses; m.mu is held.
func (m *memory) drop(h *held) {
	if h.at != nil {
		m.idle.Remove(h.at)
		h.at = nil
	}
	if m.entries[h.key] == h {
		delete(m.entries, h.key)
	}
	m.free(h.bytes)
}

// put holds data for which room was reserved, in use once. Without a key it is nobody else's.
func (m *memory) put(key string, digest Digest, data []byte, reserved int64) *Content {
	m.mu.Lock()
	defer m.mu.Unlock()
	h := &held{key: key, digest: digest, data: data, bytes: reserved, users: 1}
	if key != "" {
		if old := m.entries[key]; old != nil && old.users == 0 {
			m.drop(old)
		}
		m.entries[key] = h
	}
	return m.content(h)
}

func (m *memory) content(h *held) *Content {
	return InMemory(h.data, func() {
		m.mu.Lock()
		defer m.mu.Unlock()
		if h.users--; h.users > 0 {
			return
		}
		if m.entries[h.key] != h || h.key == "" {
			m.drop(h)
			return
		}
		h.at = m.idle.PushBack(h)
		close(m.wake) // it can be dropped for others
		m.wake = make(chan struct{})
	})
}

func (m *memory) get(key string, digest Digest) (*Content, bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	h := m.entries[key]
	if h == nil || h.digest != digest {
		return nil, false
	}
	if h.at != nil {
		m.idle.Remove(h.at)
		h.at = nil
	}
	h.users++
	return m.content(h), true
}

func (m *memory) forget(key string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if h := m.entries[key]; h != nil {
		delete(m.entries, key)
		if h.users == 0 {
			m.drop(h)
		}
	}
}

// KeepKey is the key of what these parts name together.
func KeepKey(parts ...string) string { return entry.Key(parts...) }
