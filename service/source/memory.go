package source

import (
	"container/list"
	"context"
	"sync"
	"time"

	"echolane/core/policy"
	"echolane/service/source/held"
)

// memory is sources in memory, counted in bytes. Those in use stay; of the others those that were used last stay as long as
// there is room, so that equal readers share them. Who needs room waits for it.
type memory struct {
	mu      sync.Mutex
	total   int64
	used    int64
	entries map[string]*kept
	idle    list.List     // of *kept that nobody uses, oldest first
	wake    chan struct{} // closed when room may have come free
}

type kept struct {
	key    string
	digest held.Digest
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
			m.drop(m.idle.Front().Value.(*kept))
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
func (m *memory) drop(h *kept) {
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
func (m *memory) put(key string, digest held.Digest, data []byte, reserved int64) *held.Content {
	m.mu.Lock()
	defer m.mu.Unlock()
	h := &kept{key: key, digest: digest, data: data, bytes: reserved, users: 1}
	if key != "" {
		if old := m.entries[key]; old != nil && old.users == 0 {
			m.drop(old)
		}
		m.entries[key] = h
	}
	return m.content(h)
}

func (m *memory) content(h *kept) *held.Content {
	return held.InMemory(h.data, func() {
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

func (m *memory) get(key string, digest held.Digest) (*held.Content, bool) {
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
