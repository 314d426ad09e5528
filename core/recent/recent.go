// Package recent keeps values by their keys within a bound of bytes: those that were used last.
package recent

import (
	"container/list"
	"sync"
)

// A Cache is safe for concurrent use; what is in it is only read. The zero value and nil keep nothing.
type Cache[K comparable, V any] struct {
	room, largest int

	mu    sync.Mutex
	used  int
	byKey map[K]*list.Element
	order list.List // of entry, the last used in front
}

type entry[K comparable, V any] struct {
	key   K
	value V
	bytes int
}

// New makes a cache with room for so many bytes. A value of more than largest bytes isn't kept; one that is larger than the room
// but not than largest is kept alone.
func New[K comparable, V any](room, largest int) *Cache[K, V] {
	return &Cache[K, V]{room: room, largest: largest, byKey: map[K]*list.Element{}}
}

// Get gives what is kept by a key.
func (c *Cache[K, V]) Get(key K) (value V, ok bool) {
	if c == nil {
		return value, false
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.byKey[key]
	if e == nil {
		return value, false
	}
	c.order.MoveToFront(e)
	return e.Value.(entry[K, V]).value, true
}

// Put keeps a value that takes so many bytes. Where one is kept by that key already, that one stays.
func (c *Cache[K, V]) Put(key K, value V, bytes int) {
	if c == nil || bytes > c.largest {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.byKey == nil || c.byKey[key] != nil {
		return
	}
	c.byKey[key] = c.order.PushFront(entry[K, V]{key, value, bytes})
	for c.used += bytes; c.used > c.room && c.order.Len() > 1; {
		last := c.order.Remove(c.order.Back()).(entry[K, V])
		delete(c.byKey, last.key)
		c.used -= last.bytes
	}
}

// Holds is how many values are kept, and their bytes.
func (c *Cache[K, V]) Holds() (values, bytes int) {
	if c == nil {
		return 0, 0
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return len(c.byKey), c.used
}

// Forget drops what is kept.
func (c *Cache[K, V]) Forget() {
	if c == nil {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	clear(c.byKey)
	c.order.Init()
	c.used = 0
}
