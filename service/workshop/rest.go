package workshop

// #include <malloc.h>
import "C"

import (
	"runtime/debug"
	"sync"
	"time"
)

// A rester gives back the memory of the last jobs once its worker has had nothing to do for a while: what a large picture took is
// more than a worker needs while it waits.
type rester struct {
	mu    sync.Mutex // held by whoever works
	timer *time.Timer
	took  int64 // bytes of sources since memory was given back

	forget func() // drops what is kept only for jobs that follow soon
}

const (
	restAfter = 500 * time.Millisecond
	restWorth = 1 << 20 // bytes of sources after which there is something to give back
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
	if r.took >= restWorth {
		r.timer = time.AfterFunc(restAfter, r.rest)
	}
	r.mu.Unlock()
}

func (r *rester) rest() {
	if !r.mu.TryLock() { // there is another job
		return
	}
	defer r.mu.Unlock()
	r.took = 0
	r.forget()
	debug.FreeOSMemory()
	C.malloc_trim(0)
}
