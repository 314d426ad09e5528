package connections

import (
	"math"
	"sync"
	"sync/atomic"
	"time"
)

// A deadline is one that a server sets for every request, mostly to be replaced before anybody waits by it. It is brought into force
// where the one that is may not stand for it. The zero value is none. Safe for concurrent use.
type deadline struct {
	wanted, inForce atomic.Int64 // nanoseconds after began; 0: none
	early           atomic.Int64 // by how many nanoseconds the wanted one may come early
	moving          sync.Mutex
}

// A deadline may come early by coarse, and by no more than such a part of the time until then.
const (
	coarse     = int64(time.Second)
	coarsePart = 16
)

// want says what it is to be. It reports whether whoever waits already is to know.
func (d *deadline) want(t time.Time) (urgent bool) {
	var n int64
	if !t.IsZero() {
		n = max(int64(t.Sub(began)), math.MinInt64/2)
	}
	left := n - now()
	d.early.Store(min(coarse, left/coarsePart))
	d.wanted.Store(n)
	return left <= 0
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
	return want == have || have != 0 && want > have && want-have < d.early.Load()
}
