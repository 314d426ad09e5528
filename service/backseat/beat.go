package backseat

// #include "beat.h"
import "C"

import (
	"runtime"
	"sync"

	"golang.org/x/sys/unix"
)

var beating struct {
	start sync.Once
	on    bool
}

// Beat is called when so many threads begin to run that stand back, and end when they have ended. Where they keep at least half of
// the processors busy, so that what wakes up may find none that is free, each of them looks up every half millisecond.
//
// Where a thread of the service is pushed aside by another one, and that one then waits, Linux (6.6 and later) may go on with what
// stands back instead of the first, which has had more than its share by a few microseconds. It doesn't look again until
// somebody else wakes up there, or until the clock's next tick, up to 4 ms later. A thread that wakes up has it look.
//
// Where this process may not use all the processors that it can run on, nothing is done: others are free to take what waits.
func Beat(threads int) (end func()) {
	beating.start.Do(func() {
		var set unix.CPUSet
		if unix.SchedGetaffinity(0, &set) != nil || runtime.GOMAXPROCS(0) < set.Count() {
			return
		}
		var processors []C.int
		for i := range len(set) * 64 {
			if set.IsSet(i) {
				processors = append(processors, C.int(i))
			}
		}
		beating.on = len(processors) > 0 && C.beat_on(&processors[0], C.int(len(processors))) > 0
	})
	if !beating.on {
		return func() {}
	}
	C.beat_for(C.int(threads))
	return sync.OnceFunc(func() { C.beat_for(C.int(-threads)) })
}
