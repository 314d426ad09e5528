package workshop

// #include <malloc.h>
import "C"

import (
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
	"time"
)

// A rester gives back the memory of the last jobs once its worker has had nothing to do for a while: what a large picture took is
// more than a worker needs while it waits.
type rester struct {
	mu    sync.Mutex // held by whoever works
	timer *time.Timer
	took  int64 // bytes of sources since memory was given back
	held  [2]metrics.Sample

	forget func() // drops what is kept only for jobs that follow soon
}

const (
	restAfter = 500 * time.Millisecond
	restWorth = 1 << 20 // bytes of sources after which there is something to give back
	heldWorth = 8 << 20 // bytes of memory, of which the source of a large picture tells nothing
)

// work is called before a job.
func (r *rester) work() {
	r.mu.Lock()
	if r.timer != nil {
		r.timer.Stop()
	}
}

// done is called after it.
func (r *rester) done(sources [][]byte) {
	for _, s := range sources {
		r.took += int64(len(s))
	}
	if r.took >= restWorth || r.holds() >= heldWorth {
		r.timer = time.AfterFunc(restAfter, r.rest)
	}
	r.mu.Unlock()
}

// holds is how many bytes could be given back, at the most: of Go's heap, and of what C's allocator has free.
func (r *rester) holds() uint64 {
	r.held[0].Name, r.held[1].Name = "/memory/classes/heap/objects:bytes", "/memory/classes/heap/free:bytes"
	metrics.Read(r.held[:])
	return r.held[0].Value.Uint64() + r.held[1].Value.Uint64() + uint64(C.mallinfo2().fordblks)
}

func (r *rester) rest() {
	if !r.mu.TryLock() { // there is another job
		return
	}
	defer r.mu.Unlock()
	r.took = 0
	r.forget()
	runtime.GC() // pools of rooms give up what they have at the second one
	debug.FreeOSMemory()
	C.malloc_trim(0)
}
