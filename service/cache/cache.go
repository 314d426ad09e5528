// Package cache keeps the variants that were made: in memory and on disk, each within bounds, and in a store that all nodes
// share; and sees to it that equal requests at once, on whichever nodes, are made once.
//
// A key names its variant for good: it holds the digest of the source, so nothing here ever turns stale. What is purged is
// told by a serial: what was made under one before the purge's isn't given any more. A disk or a store that is full, read-only,
// slow or failing costs only what it would have kept.
package cache

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"echolane/core/encode"
	"echolane/core/render"
	"echolane/service/cache/disk"
	"echolane/service/cache/entry"
	"echolane/service/cache/guard"
	"echolane/service/cache/memory"
	"echolane/service/cache/shared"
	"echolane/service/flight"
	"echolane/service/panics"
)

// A Variant is an image ready to be sent. It is never changed after it is made.
type Variant struct {
	Body []byte `json:"-"`

	// What an answer needs stands first where a variant is written down, and readHead reads it in this order.
	ETag        string `json:"etag"` // with its quotes
	Type        string `json:"type"` // media type
	Width       int    `json:"width"`
	Height      int    `json:"height"`
	SourceBytes int    `json:"source_bytes"`

	MadeAt int64 `json:"made_at,omitempty"` // seconds since 1970

	// Provisional variants are replaced soon: their quality was predicted, and the search for it is still to come.
	Provisional bool `json:"provisional,omitempty"`

	// Of is the address that it was first made for; others may share it.
	Of Address `json:"of"`

	// Serial is that of the newest purge that was known when its making began.
	Serial uint64 `json:"serial,omitempty"`

	// How it was made: of a variant that was read back, Whole gives these.
	NaturalWidth  int              `json:"natural_width"`
	NaturalHeight int              `json:"natural_height"`
	SourceType    string           `json:"source_type"`
	Stages        []Stage          `json:"stages"`
	Encoding      *encode.Encoding `json:"encoding,omitempty"` // how its bytes came about
	Layers        []render.Laid    `json:"layers,omitempty"`   // where they lie

	// Unshared variants come from a source that its origin lets nobody keep: they are answered, and forgotten.
	Unshared bool `json:"-"`

	head []byte    // what else was read back, and isn't taken apart yet
	loan disk.Loan // of the memory that it lies in
}

// Lent reports whether a variant lies in memory that is used again.
func (v *Variant) Lent() bool { return v.loan != disk.Loan{} }

// Back gives its memory back where it is lent: the variant may not be looked at any more.
func (v *Variant) Back() { v.loan.Back() }

// Whole gives the variant with how it was made.
func (v *Variant) Whole() *Variant {
	if v.head == nil {
		return v
	}
	whole := &Variant{}
	if json.Unmarshal(v.head, whole) != nil {
		return v
	}
	whole.Body, whole.Unshared = v.Body, v.Unshared
	return whole
}

// An Address is whose a variant is.
type Address struct {
	Site    string `json:"site"`
	Lane    string `json:"lane"`
	Path    string `json:"path"`
	Classes string `json:"classes,omitempty"`
}

// A Stage is a step of the making.
type Stage struct {
	Name string  `json:"name"`
	MS   float64 `json:"ms"`
}

// ETagOf is a strong validator for these bytes.
func ETagOf(body []byte) string {
	sum := sha256.Sum256(body)
	return `"` + base64.RawURLEncoding.EncodeToString(sum[:12]) + `"`
}

// Where says what a cache answered from.
type Where uint8

const (
	Nowhere Where = iota
	Memory
	Disk
	Store // that all nodes share
	Made
	Joined   // made by another request that came first
	Original // no variant: the source itself
)

func (w Where) String() string {
	return [...]string{"", "memory", "disk", "store", "made", "joined", "original"}[w]
}

// Cache is all tiers. Safe for concurrent use.
type Cache struct {
	memory  *memory.Cache[*Variant]
	reading [256]sync.Mutex // of keys that are being read from the disk, by their hash
	disk    *disk.Disk
	store   *shared.Store
	leases  Leases
	making  flight.Group[found]
	log     *slog.Logger
	waited  atomic.Int64 // times that another node made it
	stopped chan struct{}
	closing sync.Once
	ended   sync.WaitGroup
}

// Leases say which node makes what. They exist where nodes share a store.
type Leases interface {
	// Lead waits until this node is the one to make what a key names: then lead is true, and release is called once it is kept,
	// or won't be. Where another node was the one and has come to an end, lead is false. Who can't find out leads. It errs with
	// the context's error.
	Lead(ctx context.Context, key string) (release func(), lead bool, err error)
}

// Options bound the cache.
type Options struct {
	MemoryBytes int64
	Dir         string // "" keeps nothing on disk
	DiskBytes   int64
	DiskFiles   int              // 0: what package disk has
	Store       *shared.Store    // nil: none
	Leases      Leases           // nil: this node is the only one
	Evicted     func(key string) // is told of variants that made room on the disk; nil: nobody is. It doesn't block
	Log         *slog.Logger
	Panics      *panics.Catcher
}

const (
	// heldFor is how long a lease is held for what was made to lie in the store: a store that takes longer holds no other node up.
	heldFor = 2 * time.Second
	// leadLimit is how long a node waits for others to make something before it makes it itself.
	leadLimit = 20 * time.Second

	overhead  = 512              // that an entry weighs beside its body
	saveEvery = 10 * time.Minute // that files are told what memory has answered
)

// weight is what a variant takes of the memory.
func weight(v *Variant) int64 { return int64(len(v.Body) + overhead) }

// New opens the cache. A directory that can't be used is not an error: it is said in the log and counted.
func New(o Options) (*Cache, error) {
	c := &Cache{memory: memory.New(o.MemoryBytes, weight), store: o.Store, leases: o.Leases, log: o.Log, making: flight.Group[found]{Panics: o.Panics}, stopped: make(chan struct{})}
	if o.Dir != "" {
		c.disk = disk.Open(disk.Options{Dir: o.Dir, Bytes: o.DiskBytes, Files: o.DiskFiles, Log: o.Log, Panics: o.Panics, Evicted: o.Evicted, Held: func(key string) bool {
			_, there := c.memory.Peek(key)
			return there
		}})
		o.Panics.Go(&c.ended, "tell files of their use", func() {
			for {
				select {
				case <-time.After(saveEvery):
					c.touch()
				case <-c.stopped:
					c.touch()
					return
				}
			}
		})
	}
	return c, nil
}

// touch tells the disk what memory holds: that is in use, though its files weren't read.
func (c *Cache) touch() {
	c.disk.Touch(c.memory.Keys())
}

// InMemory gives a variant only if memory has it, made under a serial of since or later.
func (c *Cache) InMemory(key string, since uint64) (*Variant, bool) {
	v, ok := c.memory.Get(key)
	return v, ok && v.Serial >= since
}

// AtHand gives a variant from memory, or from the disk: one of those who ask at the same time reads it there, by itself, since most
// don't ask for the same. ok is false for the others, and where there is none. Who asks calls Back when it is done with it.
func (c *Cache) AtHand(ask Ask) (v *Variant, where Where, ok bool) {
	if v, ok := c.InMemory(ask.Key, ask.Since); ok {
		return v, Memory, true
	}
	if c.disk == nil {
		return nil, Nowhere, false
	}
	turn := &c.reading[fnv1a(ask.Key)%uint32(len(c.reading))]
	if !turn.TryLock() {
		return nil, Nowhere, false
	}
	defer turn.Unlock()
	head, body, loan, ok := c.disk.Lend(ask.Key)
	if !ok {
		return nil, Nowhere, false
	}
	wanted := c.memory.Wants(ask.Key, int64(len(body)+overhead))
	if wanted {
		own := make([]byte, len(head)+len(body))
		copy(own[copy(own, body):], head)
		head, body = own[len(body):], own[:len(body):len(body)]
		loan.Back()
	}
	if v = c.read(ask, head, body, func() { c.disk.Remove(ask.Key) }); v == nil {
		return nil, Nowhere, false
	}
	if wanted {
		return c.hold(ask, v), Disk, true
	}
	v.loan = loan
	return v, Disk, true
}

// hold has what was read from disk or store be in memory, unless there is something by now: what was searched for meanwhile isn't given up for
// what was provisional. It gives what is there.
func (c *Cache) hold(ask Ask, v *Variant) *Variant {
	have, set := c.memory.PutIfAbsent(ask.Key, v)
	switch {
	case set:
		return v
	case have.Serial >= ask.Since && (v.Provisional || !have.Provisional):
		return have
	}
	c.memory.Put(ask.Key, v) // what is there was purged, or is provisional
	return v
}

// Replace keeps a variant in place of the one that is there. kept, where it isn't nil, is called once it is where other nodes
// find it, or won't be. Where there is a store, it isn't answered with before that, so that all nodes turn to it at once.
func (c *Cache) Replace(key string, v *Variant, kept func()) {
	if have, there := c.memory.Peek(key); there && have.Serial > v.Serial { // it was purged meanwhile, and made again
		if kept != nil {
			kept()
		}
		return
	}
	c.keep(key, v, func() {
		c.memory.Put(key, v)
		if kept != nil {
			kept()
		}
		if c.store != nil && !v.Provisional {
			ctx, cancel := context.WithTimeout(context.Background(), shared.Budget)
			defer cancel()
			c.store.Delete(ctx, shared.Name(shared.Provisional, key))
		}
	})
}

// keep writes a variant to disk and store.
func (c *Cache) keep(key string, v *Variant, done func()) {
	head, err := json.Marshal(v)
	if err != nil {
		c.log.Error("a variant can't be kept", "error", err)
		done()
		return
	}
	if c.disk != nil {
		c.disk.Put(key, head, v.Body, nil)
	}
	if c.store == nil {
		done()
		return
	}
	kind := shared.Variants
	if v.Provisional {
		kind = shared.Provisional
	}
	// What is there already has the same bytes, unless it was purged.
	c.store.Put(shared.Name(kind, key), head, v.Body, v.Provisional || v.Serial > 0, func(bool) { done() })
}

type found struct {
	v     *Variant
	where Where
}

// An Ask is for one variant.
type Ask struct {
	Key   string
	Since uint64 // the serial under which it must have been made, or a later one
	Alone bool   // other nodes have nothing of it: its source is one that nobody may keep
}

// Get returns the variant from memory, disk or store, or from produce, which runs once for all who ask for the key at the same
// time, on whichever nodes. It blocks until then or until ctx ends. produce's context ends when nobody waits any more. The
// function that produce returns as then, where it isn't nil, is called once the variant is kept.
func (c *Cache) Get(ctx context.Context, ask Ask, produce func(context.Context) (v *Variant, then func(), err error)) (*Variant, Where, error) {
	key := ask.Key
	if v, where, ok := c.AtHand(ask); ok {
		return v, where, nil
	}
	together := key
	if ask.Since > 0 { // what is made for who knows nothing of a purge isn't for who does
		together = fmt.Sprint(key, " ", ask.Since)
	}
	got, joined, err := c.making.Do(ctx, together, func(ctx context.Context) (found, error) {
		if v, ok := c.memory.Peek(key); ok && v.Serial >= ask.Since { // made between the look and the flight
			return found{v, Memory}, nil
		}
		if v := c.fromDisk(ask); v != nil {
			return found{c.hold(ask, v), Disk}, nil
		}
		v, there := c.fromStore(ctx, ask)
		if v != nil {
			return found{v, Store}, nil
		}
		release, v, err := c.lead(ctx, ask, there)
		if err != nil {
			return found{}, err
		}
		if v != nil {
			return found{v, Store}, nil
		}
		v, then, err := produce(ctx)
		if err != nil {
			release()
			return found{}, err
		}
		if then != nil {
			defer then()
		}
		v.Serial = ask.Since
		if v.Unshared {
			release()
			return found{v, Made}, nil
		}
		c.memory.Put(key, v)
		var once sync.Once
		let := func() { once.Do(release) }
		late := time.AfterFunc(heldFor, let)
		c.keep(key, v, func() { late.Stop(); let() })
		return found{v, Made}, nil
	})
	if err != nil {
		return nil, Made, err
	}
	if joined {
		return got.v, Joined, nil
	}
	return got.v, got.where, nil
}

// fnv1a is a hash of a key.
func fnv1a(key string) uint32 {
	h := uint32(2166136261)
	for i := range len(key) {
		h = (h ^ uint32(key[i])) * 16777619
	}
	return h
}

// lead waits for this node's turn to make a variant, or for the one that another node makes. there says that the store answers:
// otherwise nobody's variant would be found.
func (c *Cache) lead(ctx context.Context, ask Ask, there bool) (release func(), v *Variant, err error) {
	none := func() {}
	if c.leases == nil || !there || ask.Alone {
		return none, nil, nil
	}
	for begun := time.Now(); time.Since(begun) < leadLimit; {
		release, lead, err := c.leases.Lead(ctx, ask.Key)
		if err != nil {
			return nil, nil, err
		}
		// Another node may have made it since it was looked for.
		v, there := c.fromStore(ctx, ask)
		switch {
		case v != nil && lead:
			release()
			return nil, v, nil
		case v != nil:
			c.waited.Add(1)
			return nil, v, nil
		case lead:
			return release, nil, nil
		case !there:
			return none, nil, nil
		}
	}
	return none, nil, nil
}

// read makes a variant of what is kept, nil where it isn't one, or was purged; then gone forgets it.
func (c *Cache) read(ask Ask, head, body []byte, gone func()) *Variant {
	v, ok := readHead(head)
	if !ok || !sound(v) || v.Serial < ask.Since {
		gone()
		return nil
	}
	v.Body = body
	return v
}

// sound reports whether what an entry says of a variant may stand in an answer: a type that variants have, and a validator.
func sound(v *Variant) bool {
	kind, image := strings.CutPrefix(v.Type, "image/")
	image = image && kind != "" && strings.Trim(kind, "abcdefghijklmnopqrstuvwxyz+") == ""
	tag := len(v.ETag) == 18 && v.ETag[0] == '"' && v.ETag[17] == '"' && !strings.ContainsFunc(v.ETag[1:17], func(r rune) bool {
		return r != '-' && r != '_' && (r < '0' || r > '9') && (r < 'A' || r > 'Z') && (r < 'a' || r > 'z')
	})
	return (image || v.Type == "application/json") && tag
}

func (c *Cache) fromDisk(ask Ask) *Variant {
	if c.disk == nil {
		return nil
	}
	head, body, ok := c.disk.Get(ask.Key)
	if !ok {
		return nil
	}
	return c.read(ask, head, body, func() { c.disk.Remove(ask.Key) })
}

// fromStore looks where all nodes keep theirs, and keeps what is there at hand. there says that the store answers.
func (c *Cache) fromStore(ctx context.Context, ask Ask) (v *Variant, there bool) {
	if c.store == nil || ask.Alone {
		return nil, false
	}
	type entryOf struct {
		name       string
		head, body []byte
		err        error
	}
	get := func(kind string) (e entryOf) {
		e.name = shared.Name(kind, ask.Key)
		e.head, e.body, e.err = c.store.Get(ctx, e.name)
		return e
	}
	// Both at once: a variant that there isn't costs one round trip, not two.
	provisional := make(chan entryOf, 1)
	go func() { provisional <- get(shared.Provisional) }()
	for _, e := range []entryOf{get(shared.Variants), <-provisional} {
		if errors.Is(e.err, fs.ErrNotExist) || errors.Is(e.err, entry.ErrBroken) || errors.Is(e.err, entry.ErrOld) {
			continue
		}
		if e.err != nil {
			return nil, false
		}
		if v := c.read(ask, e.head, e.body, func() { c.store.Delete(ctx, e.name) }); v != nil {
			if have := c.hold(ask, v); have != v {
				return have, true
			}
			if c.disk != nil {
				c.disk.Put(ask.Key, e.head, e.body, nil)
			}
			return v, true
		}
	}
	return nil, true
}

// Refined drops what is provisional here of variants that another node has searched for since.
func (c *Cache) Refined(keys []string) {
	for _, key := range keys {
		if v, there := c.memory.Peek(key); there && !v.Provisional {
			continue
		}
		c.memory.Remove(key)
		if c.disk != nil {
			c.disk.Remove(key)
		}
	}
}

// Unsure drops all from memory that is provisional: another node may have searched for it unheard.
func (c *Cache) Unsure() {
	for _, key := range c.memory.Keys() {
		if v, there := c.memory.Peek(key); there && v.Provisional {
			c.memory.Remove(key)
			if c.disk != nil {
				c.disk.Remove(key)
			}
		}
	}
}

// Sweep drops from memory and disk what gone says of a variant's key, address and serial, while ctx lasts. It reads what each
// file says of itself, and leaves the disk to others in between.
func (c *Cache) Sweep(ctx context.Context, gone func(key string, of Address, serial uint64) bool) (n int) {
	for _, key := range c.memory.Keys() {
		if v, there := c.memory.Peek(key); there && gone(key, v.Of, v.Serial) {
			c.memory.Remove(key)
		}
	}
	if c.disk == nil {
		return 0
	}
	return c.disk.Sweep(ctx, func(key string, head []byte) bool {
		v, ok := readHead(head)
		return ok && gone(key, v.Of, v.Serial)
	})
}

// Forget drops variants from memory and disk.
func (c *Cache) Forget(keys []string) {
	for _, key := range keys {
		c.memory.Remove(key)
		if c.disk != nil {
			c.disk.Remove(key)
		}
	}
}

// ForgetShared drops variants from the store.
func (c *Cache) ForgetShared(ctx context.Context, keys []string) error {
	const atOnce = 16
	work, ctx := errgroup.WithContext(ctx)
	work.SetLimit(atOnce)
	for _, key := range keys {
		for _, kind := range []string{shared.Variants, shared.Provisional} {
			work.Go(func() error { return c.store.Delete(ctx, shared.Name(kind, key)) })
		}
	}
	if err := work.Wait(); err != nil {
		return fmt.Errorf("remove a variant from the store: %w", err)
	}
	return nil
}

// Shared reports whether there is a store that nodes share.
func (c *Cache) Shared() bool { return c.store != nil }

// Stats are what the tiers hold.
type Stats struct {
	MemoryEntries int
	MemoryBytes   int64
	MemoryEvicted int64
	DiskBytes     int64
	DiskFiles     int
	DiskEvicted   int64
	Disk          guard.State
	Store         guard.State
	StoreLost     int64 // entries that the store didn't take
	Waited        int64 // variants that another node made
}

// Stats counts. Memory figures are estimates while entries come and go.
func (c *Cache) Stats() Stats {
	m := c.memory.Stats()
	s := Stats{MemoryEntries: m.Entries, MemoryBytes: m.Bytes, MemoryEvicted: m.Evicted, Waited: c.waited.Load()}
	if c.disk != nil {
		s.DiskBytes, s.DiskFiles, s.DiskEvicted, s.Disk = c.disk.Bytes(), c.disk.Files(), c.disk.Evicted(), c.disk.State()
	}
	if c.store != nil {
		s.Store, s.StoreLost = c.store.State(), c.store.Lost()
	}
	return s
}

// Close waits for what is still being written to disk. The store is its opener's to close.
func (c *Cache) Close() {
	c.closing.Do(func() { close(c.stopped) })
	c.ended.Wait()
	if c.disk != nil {
		c.disk.Close()
	}
}
