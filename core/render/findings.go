package render

import (
	"container/list"
	"crypto/sha256"
	"fmt"
	"sync"

	"echolane/core/face"
)

// Findings keep what was last found in pictures, for the other sizes that are made of them: faces, what a hole is filled from, what
// is left of a cut-out. They depend on the source's bytes and on what was asked for, so that they are the same for every site. They are
// safe for concurrent use; nil keeps nothing.
type Findings struct {
	room int // bytes

	mu    sync.Mutex
	used  int
	byKey map[[sha256.Size]byte]*list.Element
	order list.List // of finding, the last used in front
}

type finding struct {
	key   [sha256.Size]byte
	value any
	bytes int
}

// NewFindings makes room for so many bytes of them.
func NewFindings(room int) *Findings {
	return &Findings{room: room, byKey: map[[sha256.Size]byte]*list.Element{}}
}

// Forget drops them all.
func (f *Findings) Forget() {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.byKey)
	f.order.Init()
	f.used = 0
}

// found gives what was found in a source before, or finds it. of tells apart everything that it depends on beside the source.
func found[T any](f *Findings, source []byte, of string, bytes func(T) int, find func() (T, error)) (T, error) {
	if f == nil {
		return find()
	}
	h := sha256.New()
	h.Write(source)
	fmt.Fprintf(h, "\x00%T %s", *new(T), of)
	key := [sha256.Size]byte(h.Sum(nil))
	f.mu.Lock()
	if e := f.byKey[key]; e != nil {
		f.order.MoveToFront(e)
		f.mu.Unlock()
		return e.Value.(finding).value.(T), nil
	}
	f.mu.Unlock()
	v, err := find()
	size := bytes(v)
	if err != nil || size > f.room/2 {
		return v, err
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.byKey[key] != nil {
		return v, nil
	}
	f.byKey[key] = f.order.PushFront(finding{key, v, size})
	for f.used += size; f.used > f.room; {
		last := f.order.Remove(f.order.Back()).(finding)
		delete(f.byKey, last.key)
		f.used -= last.bytes
	}
	return v, nil
}

func bytesOfFaces(list []face.Face) int { return 256 + 40*len(list) }
