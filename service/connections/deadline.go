package connections

import (
	"math"
	"sync"
	"sync/atomic"
	"time"
)

// A deadline is one that a server sets for every request, mostly to be replaced before anybody waits by it. It is brought into force
// where it differs by more than coarse from the one that is. The zero value is none. Safe for concurrent use.
type deadline struct {
	wanted, inForce atomic.Int64 // nanoseconds after began; 0: none
	moving          sync.Mutex
}

// coarse is by how much a deadline may come early.
const coarse = int64(time.Second)

// want says what it is to be. It reports whether whoever waits already is to know.
func (d *deadline) want(t time.Time) (urgent bool) {
	var n int64
	if !t.IsZero() {
		n = max(int64(t.Sub(began)), math.MinInt64/2)
	}
	d.wanted.Store(n)
	return n <= now()
}

// settle brings into force what is wanted.
func (d *deadline) settle(move func(time.Time) error) error {
	if d.settled() {
		return nil
	}
	d.moving.Lock()
	defer d.moving.Unlock()
	if d.settled() {
		return nil
	}
	want := d.wanted.Load()
	d.inForce.Store(want)
	if want == 0 {
		return move(time.Time{})
	}
	return move(began.Add(time.Duration(want)))
}

func (d *deadline) settled() bool {
	want, have := d.wanted.Load(), d.inForce.Load()
	return want == have || have != 0 && want > have && want-have < coarse
}
