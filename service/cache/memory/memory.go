// Package memory keeps values in memory, bounded in bytes: those that are asked for most often for what they weigh.
//
// What is new passes through a window of a sixty-fourth of the memory, where what was used last stays. What leaves the window takes
// the place of others only if it was asked for more often than all of them together. How often is counted in a sketch (Cormode and
// Muthukrishnan, "An improved data stream summary", 2005, with conservative update) over the last two hundred requests for each value
// that there is room for, also of what isn't kept: admission by such a history is due to Einziger, Friedman and Manes ("TinyLFU",
// 2017). Those that make room are the least of a few drawn by lot.
package memory

import (
	"hash/maphash"
	"math/bits"
	"math/rand/v2"
	"sync"
)

const (
	window = 64 // of the memory, one part is for what is new
	drawn  = 12 // values, of which one may make room
	asIf   = 4  // that are drawn where it's only a question of whether one would

	// shardBytes is what a part of the memory with its own lock has at least; mostShards is how many there are at most.
	shardBytes = 32 << 20
	mostShards = 64
)

// Cache keeps values by their keys. Safe for concurrent use.
type Cache[V any] struct {
	weigh  func(V) int64
	seed   maphash.Seed
	shards []shard[V]
}

// New makes a cache of at most so many bytes, as weigh counts them. What weighs more by itself isn't kept. weigh gives the same for
// the same value, at least 1.
func New[V any](bytes int64, weigh func(V) int64) *Cache[V] {
	n := min(mostShards, 1<<max(0, bits.Len64(uint64(max(bytes, 0)/shardBytes))-1))
	c := &Cache[V]{weigh: weigh, seed: maphash.MakeSeed(), shards: make([]shard[V], n)}
	for i := range c.shards {
		c.shards[i] = shard[V]{bytes: bytes / int64(n), entries: map[string]*entry[V]{}, asked: newSketch(leastEntries)}
		c.shards[i].newest.before, c.shards[i].newest.after = &c.shards[i].newest, &c.shards[i].newest
	}
	return c
}

// Get gives a value, and counts that it was asked for, whether or not it's there.
func (c *Cache[V]) Get(key string) (v V, ok bool) {
	s, hash := c.shard(key)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked.add(hash)
	e, ok := s.entries[key]
	if !ok {
		return v, false
	}
	if e.place < 0 {
		e.leave()
		s.enter(e)
	}
	return e.value, true
}

// Peek gives a value, and counts nothing.
func (c *Cache[V]) Peek(key string) (v V, ok bool) {
	s, _ := c.shard(key)
	s.mu.Lock()
	defer s.mu.Unlock()
	if e, ok := s.entries[key]; ok {
		return e.value, true
	}
	return v, false
}

// Put keeps a value in the place of the one that is there.
func (c *Cache[V]) Put(key string, v V) {
	s, hash := c.shard(key)
	weight := c.weigh(v)
	s.mu.Lock()
	defer s.mu.Unlock()
	s.put(key, hash, v, weight)
}

// PutIfAbsent keeps a value unless there is one. It gives the one that is there, or v.
func (c *Cache[V]) PutIfAbsent(key string, v V) (have V, put bool) {
	s, hash := c.shard(key)
	weight := c.weigh(v)
	s.mu.Lock()
	defer s.mu.Unlock()
	if e, ok := s.entries[key]; ok {
		return e.value, false
	}
	s.put(key, hash, v, weight)
	return v, true
}

// Wants reports whether a value of such a weight would probably stay when it leaves the window, by how often it was asked for.
func (c *Cache[V]) Wants(key string, weight int64) bool {
	s, hash := c.shard(key)
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.used+weight <= s.bytes {
		return true
	}
	least := s.coldest(asIf)
	if least == nil || weight > s.bytes {
		return weight <= s.bytes
	}
	others := (weight + least.weight - 1) / least.weight // that would make room, as settle counts them
	return int64(s.asked.of(hash)) > others*int64(s.asked.of(least.hash))
}

// Remove forgets a value.
func (c *Cache[V]) Remove(key string) {
	s, _ := c.shard(key)
	s.mu.Lock()
	defer s.mu.Unlock()
	if e, ok := s.entries[key]; ok {
		s.drop(e)
	}
}

// Keys gives the keys of all that there is.
func (c *Cache[V]) Keys() (keys []string) {
	for i := range c.shards {
		s := &c.shards[i]
		s.mu.Lock()
		for key := range s.entries {
			keys = append(keys, key)
		}
		s.mu.Unlock()
	}
	return keys
}

// Stats are what it holds.
type Stats struct {
	Entries int
	Bytes   int64
	Evicted int64 // values that made room, since the beginning
}

// Stats counts what it holds.
func (c *Cache[V]) Stats() (all Stats) {
	for i := range c.shards {
		s := &c.shards[i]
		s.mu.Lock()
		all.Entries += len(s.entries)
		all.Bytes += s.used
		all.Evicted += s.evicted
		s.mu.Unlock()
	}
	return all
}

func (c *Cache[V]) shard(key string) (s *shard[V], hash uint64) {
	hash = maphash.String(c.seed, key)
	return &c.shards[hash>>32&uint64(len(c.shards)-1)], hash
}

// A shard is a part with its own lock.
type shard[V any] struct {
	mu      sync.Mutex
	bytes   int64 // at most
	used    int64
	fresh   int64 // bytes of those in the window
	entries map[string]*entry[V]
	newest  entry[V]    // of the window: the ring's beginning
	main    []*entry[V] // in no order
	asked   *sketch
	evicted int64
}

// An entry is in the window or in main.
type entry[V any] struct {
	key           string
	hash          uint64
	value         V
	weight        int64
	place         int // in main; -1: in the window
	before, after *entry[V]
}

func (e *entry[V]) leave() {
	e.before.after, e.after.before = e.after, e.before
	e.before, e.after = nil, nil
}

// enter puts an entry at the window's beginning.
func (s *shard[V]) enter(e *entry[V]) {
	e.before, e.after = &s.newest, s.newest.after
	e.before.after, e.after.before = e, e
}

func (s *shard[V]) put(key string, hash uint64, v V, weight int64) {
	e, ok := s.entries[key]
	switch {
	case weight > s.bytes:
		if ok {
			s.drop(e)
		}
		return
	case ok:
		s.used += weight - e.weight
		if e.place < 0 {
			s.fresh += weight - e.weight
			e.leave()
			s.enter(e)
		}
		e.value, e.weight = v, weight
	default:
		e = &entry[V]{key: key, hash: hash, value: v, weight: weight, place: -1}
		s.entries[key] = e
		s.used, s.fresh = s.used+weight, s.fresh+weight
		s.enter(e)
		s.asked.fit(len(s.entries))
	}
	// The newest stays until another comes, however large it is.
	for s.fresh > s.bytes/window && s.newest.before != s.newest.after {
		s.settle(s.newest.before)
	}
	for s.used > s.bytes {
		least := s.coldest(drawn)
		if least == e && len(s.main) > 1 {
			continue // another draw
		}
		if least == nil || least == e {
			least = s.newest.before
		}
		s.evicted++
		s.drop(least)
	}
}

// settle moves an entry from the window to main, or drops it where those that would make room were asked for as often.
func (s *shard[V]) settle(e *entry[V]) {
	heat, taken := uint32(s.asked.of(e.hash)), uint32(0)
	var out []*entry[V]
	for freed := int64(0); s.used-freed > s.bytes; {
		least := s.coldest(drawn)
		if least != nil {
			taken += uint32(s.asked.of(least.hash))
		}
		if least == nil || taken >= heat {
			for _, o := range out {
				s.keep(o)
			}
			s.evicted++
			s.drop(e)
			return
		}
		s.unkeep(least)
		freed += least.weight
		out = append(out, least)
	}
	for _, o := range out {
		s.evicted++
		s.used -= o.weight
		delete(s.entries, o.key)
	}
	e.leave()
	s.fresh -= e.weight
	s.keep(e)
}

// coldest draws some of main and gives the one that was asked for least for what it weighs; nil where there is none.
func (s *shard[V]) coldest(drawn int) (least *entry[V]) {
	if len(s.main) == 0 {
		return nil
	}
	var heat uint64
	for range drawn {
		e := s.main[rand.IntN(len(s.main))]
		if h := uint64(s.asked.of(e.hash)); least == nil || h*uint64(least.weight) < heat*uint64(e.weight) {
			least, heat = e, h
		}
	}
	return least
}

// keep puts an entry that is in no part into main; unkeep takes one out of it.
func (s *shard[V]) keep(e *entry[V]) {
	e.place = len(s.main)
	s.main = append(s.main, e)
}

func (s *shard[V]) unkeep(e *entry[V]) {
	last := s.main[len(s.main)-1]
	last.place = e.place
	s.main[e.place] = last
	s.main[len(s.main)-1] = nil
	s.main = s.main[:len(s.main)-1]
}

// drop forgets an entry.
func (s *shard[V]) drop(e *entry[V]) {
	if e.place < 0 {
		e.leave()
		s.fresh -= e.weight
	} else {
		s.unkeep(e)
	}
	s.used -= e.weight
	delete(s.entries, e.key)
}
