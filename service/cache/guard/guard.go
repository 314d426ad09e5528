// Package guard stands before what may be slow or broken: a disk, a store. Work gets a budget of time, and what failed a few
// times isn't asked again for a while, so that a failure costs speed once and not with every request.
package guard

import (
	"context"
	"errors"
	"io/fs"
	"log/slog"
	"sync/atomic"
	"time"

	"github.com/sony/gobreaker/v2"

	"echolane/service/panics"
)

const (
	mostFailures = 5               // in a row, after which it isn't asked
	rest         = 5 * time.Second // for so long; then one tries
	mostAtOnce   = 256             // that wait for it; more than that, and it counts as slow
)

// A Guard stands before one thing. Safe for concurrent use.
type Guard struct {
	o        Options
	breaker  *gobreaker.TwoStepCircuitBreaker[struct{}]
	failures atomic.Int64
	waiting  atomic.Int64
	idle     chan func() // to a goroutine that has nothing to do
	last     atomic.Pointer[string]
	lastWord atomic.Int64
}

// Options say what it stands before.
type Options struct {
	Name   string
	Budget time.Duration // that who asks waits; 0: as long as it takes
	Log    *slog.Logger
	Words  string           // for the log, where it can't be used
	With   []any            // that the log says beside
	Minor  func(error) bool // of errors that are counted, and nothing to rest for; nil: none
	Panics *panics.Catcher
}

var (
	// ErrSlow: it didn't answer within its budget.
	ErrSlow = errors.New("it doesn't answer in time")
	// ErrResting: it failed a few times, and isn't asked for a while.
	ErrResting = errors.New("it failed a few times, and isn't asked for a while")
)

// harmless are the errors that say nothing of the thing itself.
func harmless(err error) bool {
	return err == nil || errors.Is(err, fs.ErrNotExist) || errors.Is(err, fs.ErrExist) || errors.Is(err, context.Canceled)
}

// New makes one.
func New(o Options) *Guard {
	return &Guard{o: o, idle: make(chan func()), breaker: gobreaker.NewTwoStepCircuitBreaker[struct{}](gobreaker.Settings{
		Name: o.Name, Timeout: rest, MaxRequests: 1,
		ReadyToTrip:  func(c gobreaker.Counts) bool { return c.ConsecutiveFailures >= mostFailures },
		IsSuccessful: func(err error) bool { return harmless(err) || o.Minor != nil && o.Minor(err) },
	})}
}

// Failed notes a failure of work that didn't go through Do or Allow.
func (g *Guard) Failed(what string, err error) {
	if harmless(err) {
		return
	}
	g.failures.Add(1)
	text := what + ": " + err.Error()
	g.last.Store(&text)
	now, last := time.Now().UnixNano(), g.lastWord.Load()
	if (last == 0 || now-last > int64(time.Minute)) && g.lastWord.CompareAndSwap(last, now) { // one word a minute
		g.o.Log.Warn(g.o.Words, append([]any{"doing", what, "error", err}, g.o.With...)...)
	}
}

// Allow asks whether work may be done now; end is then told how it went. It errs with ErrResting.
func (g *Guard) Allow() (end func(what string, err error), err error) {
	done, err := g.breaker.Allow()
	if err != nil {
		return nil, ErrResting
	}
	return func(what string, err error) {
		g.Failed(what, err)
		done(err)
	}, nil
}

// Do does work within the budget. What comes too late is given to drop, where that isn't nil. It errs with what the work errs
// with, ErrSlow or ErrResting.
func Do[V any](g *Guard, what string, work func() (V, error), drop func(V)) (v V, err error) {
	end, err := g.Allow()
	if err != nil {
		return v, err
	}
	if g.waiting.Add(1) > mostAtOnce {
		g.waiting.Add(-1)
		end(what, ErrSlow)
		return v, ErrSlow
	}
	type result struct {
		v   V
		err error
	}
	out := make(chan result, 1)
	g.run(func() {
		defer g.waiting.Add(-1)
		var r result
		r.err = g.o.Panics.Run(what, func() (err error) {
			r.v, err = work()
			return err
		})
		out <- r
	})
	var late <-chan time.Time
	if g.o.Budget > 0 {
		timer := time.NewTimer(g.o.Budget)
		defer timer.Stop()
		late = timer.C
	}
	select {
	case r := <-out:
		end(what, r.err)
		return r.v, r.err
	case <-late:
		end(what, ErrSlow)
		go func() {
			if r := <-out; r.err == nil && drop != nil {
				drop(r.v)
			}
		}()
		return v, ErrSlow
	}
}

// run does work on a goroutine that has done such work before, and so has a stack for it, where one is idle; else on a new one.
func (g *Guard) run(work func()) {
	select {
	case g.idle <- work:
	default:
		go func() {
			late := time.NewTimer(idleTime)
			for {
				work()
				late.Reset(idleTime)
				select {
				case work = <-g.idle:
				case <-late.C:
					return
				}
			}
		}()
	}
}

// idleTime is how long a goroutine waits for more work.
const idleTime = time.Second

// State is how the thing is.
type State struct {
	Resting  bool   // it isn't asked for now
	Failures int64  // that there were
	Last     string // the last of them, "" for none
}

// State says how it is.
func (g *Guard) State() State {
	s := State{Resting: g.breaker.State() == gobreaker.StateOpen, Failures: g.failures.Load()}
	if last := g.last.Load(); last != nil {
		s.Last = *last
	}
	return s
}

// Join is how a thing is that several guards stand before.
func Join(all ...State) (s State) {
	for _, one := range all {
		s.Resting = s.Resting || one.Resting
		s.Failures += one.Failures
		if one.Last != "" && (s.Last == "" || one.Resting) {
			s.Last = one.Last
		}
	}
	return s
}
