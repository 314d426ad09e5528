package source

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"sync"
	"time"

	"echolane/service/cache"
	"echolane/service/cache/disk"
	"echolane/service/cache/shared"
	"echolane/service/source/held"
)

// Sources that other nodes fetched, and those that they get from this one.

// sharing is with other nodes.
type sharing struct {
	store  *shared.Store
	leases cache.Leases
	mu     sync.Mutex
	giving map[string]chan struct{} // what is being written to the store, by key
	room   chan struct{}            // for those that are read for that
}

// mostShared is the most bytes of a source that other nodes get from the store; they fetch what is larger.
const mostShared = 64 << 20

// givingFor is how long a lease is held for a source to lie in the store, and leadLimit how long a node waits for others to fetch
// one before it does.
const (
	givingFor = 2 * time.Second
	leadLimit = 20 * time.Second
)

// givingAtOnce is how many sources are read at a time to be written to the store.
const givingAtOnce = 2

// Share has what is kept be found by other nodes too, in their store. leases may be nil. It isn't called while the Keep is used.
func (k *Keep) Share(store *shared.Store, leases cache.Leases) {
	if store != nil {
		k.shared = &sharing{store: store, leases: leases, giving: map[string]chan struct{}{}, room: make(chan struct{}, givingAtOnce)}
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
func (k *Keep) give(key string, v Version, c *held.Content) {
	if k.shared == nil || key == "" || v.Bytes > mostShared {
		return
	}
	s, given := k.shared, make(chan struct{})
	s.mu.Lock()
	s.giving[key] = given
	s.mu.Unlock()
	done := func(bool) {
		s.mu.Lock()
		if s.giving[key] == given {
			delete(s.giving, key)
		}
		s.mu.Unlock()
		close(given)
	}
	c = c.Share()
	go func() { // a few at a time, since they are read into memory
		s.room <- struct{}{}
		defer func() { <-s.room }()
		defer c.Close()
		body := make([]byte, c.Size())
		h, err := head(v)
		if err == nil {
			_, err = io.ReadFull(c.Reader(), body)
		}
		if err != nil {
			done(false)
			return
		}
		s.store.Put(shared.Name(shared.Sources, key), h, body, true, done)
	}()
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
func (k *Keep) Newest(ctx context.Context, key string, have *Version, get func(have *Version) (Version, *held.Content, error)) (Version, *held.Content, error) {
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
	for begun := time.Now(); time.Since(begun) < leadLimit; {
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
				select {
				case <-given:
				case <-time.After(givingFor): // a store that takes longer holds no other node up
				}
			}
			release()
		}()
		return v, content, err
	}
	return get(have)
}
