package disk

import (
	"sync"

	"echolane/service/cache/entry"
)

// index is what lies on the disk, in the order of use, in about 80 bytes an entry.
type index struct {
	mu    sync.Mutex
	find  map[entry.Short]int32
	slots []slot
	free  int32 // first of those that are empty, linked by next; 0: none
	bytes int64
}

// A slot is one entry. Slot 0 is both ends of the line: its next is what was used last, its before what was used longest ago.
type slot struct {
	key          entry.Short
	size         uint32
	touched      uint32 // seconds since 1970 of the file's time
	before, next int32
}

func newIndex() *index {
	return &index{find: map[entry.Short]int32{}, slots: make([]slot, 1)}
}

func (x *index) unlink(i int32) {
	s := &x.slots[i]
	x.slots[s.before].next, x.slots[s.next].before = s.next, s.before
}

// link puts a slot behind another one.
func (x *index) link(i, behind int32) {
	next := x.slots[behind].next
	x.slots[i].before, x.slots[i].next = behind, next
	x.slots[behind].next, x.slots[next].before = i, i
}

// put notes an entry as used now, or, where old, as used before all others, if it isn't known. It gives what is to be added to
// the bytes.
func (x *index) put(k entry.Short, size int64, touched int64, old bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	i, known := x.find[k]
	if known && old {
		return
	}
	if known {
		x.unlink(i)
		x.bytes -= int64(x.slots[i].size)
	} else {
		if i = x.free; i != 0 {
			x.free = x.slots[i].next
		} else {
			x.slots = append(x.slots, slot{})
			i = int32(len(x.slots) - 1)
		}
		x.find[k] = i
	}
	x.slots[i].key, x.slots[i].size, x.slots[i].touched = k, uint32(min(size, 1<<32-1)), uint32(touched)
	x.bytes += int64(x.slots[i].size)
	behind := int32(0)
	if old {
		behind = x.slots[0].before
	}
	x.link(i, behind)
}

// use notes that an entry is used. stale says that its file's time is older than that by a while, so that it should be set.
func (x *index) use(k entry.Short, now int64) (stale bool) {
	const while = 300
	x.mu.Lock()
	defer x.mu.Unlock()
	i, known := x.find[k]
	if !known {
		return false
	}
	x.unlink(i)
	x.link(i, 0)
	if now-int64(x.slots[i].touched) < while {
		return false
	}
	x.slots[i].touched = uint32(now)
	return true
}

// remove forgets an entry.
func (x *index) remove(k entry.Short) {
	x.mu.Lock()
	defer x.mu.Unlock()
	i, known := x.find[k]
	if !known {
		return
	}
	x.unlink(i)
	x.bytes -= int64(x.slots[i].size)
	delete(x.find, k)
	x.slots[i] = slot{next: x.free}
	x.free = i
}

// oldest gives what was used longest ago.
func (x *index) oldest() (k entry.Short, ok bool) {
	x.mu.Lock()
	defer x.mu.Unlock()
	i := x.slots[0].before
	return x.slots[i].key, i != 0
}

// sizes are what there is.
func (x *index) sizes() (files int, bytes int64) {
	x.mu.Lock()
	defer x.mu.Unlock()
	return len(x.find), x.bytes
}

// all gives the keys of all entries, those used longest ago first.
func (x *index) all() []entry.Short {
	x.mu.Lock()
	defer x.mu.Unlock()
	keys := make([]entry.Short, 0, len(x.find))
	for i := x.slots[0].before; i != 0; i = x.slots[i].before {
		keys = append(keys, x.slots[i].key)
	}
	return keys
}
