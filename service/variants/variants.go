// Package variants keeps the variants that were made: in memory, bounded by bytes, and on disk, bounded too;
// and sees to it that equal requests at once are made once.
//
// A key names its variant for good: it holds the digest of the source, so nothing here ever turns stale. A
// disk that is full or read-only costs only what it would have kept.
package variants

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"log/slog"

	"github.com/maypok86/otter/v2"

	"echolane/core/encode"
	"echolane/service/diskcache"
	"echolane/service/flight"
	"echolane/service/panics"
)

// A Variant is an image ready to be sent. It is never changed after it is made.
type Variant struct {
	Body          []byte  `json:"-"`
	ETag          string  `json:"etag"` // with its quotes
	Type          string  `json:"type"` // media type
	Width         int     `json:"width"`
	Height        int     `json:"height"`
	NaturalWidth  int     `json:"natural_width"`
	NaturalHeight int     `json:"natural_height"`
	SourceType    string  `json:"source_type"`
	SourceBytes   int     `json:"source_bytes"`
	Stages        []Stage `json:"stages"` // how it was made

	Encoding *encode.Encoding `json:"encoding,omitempty"` // how its bytes came about

	// Provisional variants are replaced soon: their quality was predicted, and the search for it is still to come.
	Provisional bool `json:"provisional,omitempty"`

	// Unshared variants come from a source that its origin lets nobody keep: they are answered, and forgotten.
	Unshared bool `json:"-"`
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
	Made
	Joined   // made by another request that came first
	Original // no variant: the source itself
)

func (w Where) String() string {
	return [...]string{"", "memory", "disk", "made", "joined", "original"}[w]
}

// Cache is all of this node's caches. Safe for concurrent use.
type Cache struct {
	memory *otter.Cache[string, *Variant]
	disk   *diskcache.Disk
	making flight.Group[found]
}

// Options bound the cache.
type Options struct {
	MemoryBytes int64
	Dir         string // "" keeps nothing on disk
	DiskBytes   int64
	Log         *slog.Logger
	Panics      *panics.Catcher
}

// overhead is what an entry weighs beside its body.
const overhead = 512

// New opens the cache. A directory that can't be used is not an error: it is said in the log and counted.
func New(o Options) (*Cache, error) {
	memory, err := otter.New(&otter.Options[string, *Variant]{
		MaximumWeight: uint64(o.MemoryBytes),
		Weigher:       func(_ string, v *Variant) uint32 { return uint32(len(v.Body) + overhead) },
	})
	if err != nil {
		return nil, err
	}
	c := &Cache{memory: memory, making: flight.Group[found]{Panics: o.Panics}}
	if o.Dir != "" {
		c.disk = diskcache.Open(o.Dir, o.DiskBytes, o.Log, o.Panics)
	}
	return c, nil
}

// InMemory gives a variant only if memory has it.
func (c *Cache) InMemory(key string) (*Variant, bool) { return c.memory.GetIfPresent(key) }

// Replace keeps a variant in place of the one that is there.
func (c *Cache) Replace(key string, v *Variant) {
	c.memory.Set(key, v)
	c.toDisk(key, v)
}

func (c *Cache) toDisk(key string, v *Variant) {
	if c.disk == nil {
		return
	}
	if head, err := json.Marshal(v); err == nil {
		c.disk.Put(key, head, v.Body)
	}
}

type found struct {
	v     *Variant
	where Where
}

// Get returns the variant from memory, from disk, or from produce, which runs once for all who ask for the key at the same time.
// It blocks until then or until ctx ends. produce's context ends when nobody waits any more. The function that produce
// returns as then, where it isn't nil, is called once the variant is kept.
func (c *Cache) Get(ctx context.Context, key string, produce func(context.Context) (v *Variant, then func(), err error)) (*Variant, Where, error) {
	if v, ok := c.memory.GetIfPresent(key); ok {
		return v, Memory, nil
	}
	got, joined, err := c.making.Do(ctx, key, func(ctx context.Context) (found, error) {
		if v, ok := c.memory.GetIfPresent(key); ok { // made between the look and the flight
			return found{v, Memory}, nil
		}
		if c.disk != nil {
			if v := c.fromDisk(key); v != nil {
				c.memory.Set(key, v)
				return found{v, Disk}, nil
			}
		}
		v, then, err := produce(ctx)
		if err != nil {
			return found{}, err
		}
		if then != nil {
			defer then()
		}
		if !v.Unshared {
			c.memory.Set(key, v)
			if !v.Provisional { // of which the disk keeps nothing: after a restart it is made anew, and searched for
				c.toDisk(key, v)
			}
		}
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

// Stats are what the caches hold.
type Stats struct {
	MemoryEntries int
	MemoryBytes   int64
	DiskBytes     int64
	DiskFailures  int64
}

// Stats counts. Memory figures are estimates while entries come and go.
func (c *Cache) Stats() Stats {
	s := Stats{MemoryEntries: c.memory.EstimatedSize(), MemoryBytes: int64(c.memory.WeightedSize())}
	if c.disk != nil {
		s.DiskBytes = c.disk.Bytes()
		s.DiskFailures = c.disk.Failures()
	}
	return s
}

// Close waits for what is still being written.
func (c *Cache) Close() {
	if c.disk != nil {
		c.disk.Close()
	}
}

func (c *Cache) fromDisk(key string) *Variant {
	head, body, ok := c.disk.Get(key)
	if !ok {
		return nil
	}
	v := &Variant{Body: body}
	if json.Unmarshal(head, v) != nil {
		return nil
	}
	return v
}
