// Package flight has equal work that is asked for at the same time done once.
//
// The work's context belongs to all that wait for it: it ends when the last of them has gone, or at the deadline, never
// because the one that came first has. A failure, and a panic too, is everybody's.
package flight

import (
	"context"
	"sync"
	"time"

	"echolane/service/panics"
)

// A Group does work by key. Its zero value, with a Limit, is ready. Safe for concurrent use.
type Group[V any] struct {
	Limit  time.Duration // the longest that one flight may take; 0: no bound
	Panics *panics.Catcher

	mu      sync.Mutex
	flights map[string]*flight[V]
}

type flight[V any] struct {
	done    chan struct{}
	value   V
	err     error
	waiting int
	cancel  context.CancelFunc
}

// Do gives what work gives, which runs once for all that ask for the key while it does. joined says that another's
// flight was joined. Where ctx ends first, its error comes back, and the work goes on for the others.
func (g *Group[V]) Do(ctx context.Context, key string, work func(context.Context) (V, error)) (v V, joined bool, err error) {
	if err := ctx.Err(); err != nil {
		return v, false, err
	}
	g.mu.Lock()
	f, joined := g.flights[key]
	if !joined {
		f = g.begin(ctx, key, work)
	}
	f.waiting++
	g.mu.Unlock()

	select {
	case <-f.done:
		return f.value, joined, f.err
	case <-ctx.Done():
	}
	g.mu.Lock()
	f.waiting--
	if f.waiting == 0 {
		f.cancel()
		if g.flights[key] == f { // who comes now begins anew
			delete(g.flights, key)
		}
	}
	g.mu.Unlock()
	select {
	case <-f.done: // it came in time after all
		return f.value, joined, f.err
	default:
		return v, joined, ctx.Err()
	}
}

// begin starts a flight; g.mu is held.
func (g *Group[V]) begin(ctx context.Context, key string, work func(context.Context) (V, error)) *flight[V] {
	f := &flight[V]{done: make(chan struct{})}
	own := context.WithoutCancel(ctx)
	if g.Limit > 0 {
		own, f.cancel = context.WithTimeout(own, g.Limit)
	} else {
		own, f.cancel = context.WithCancel(own)
	}
	if g.flights == nil {
		g.flights = map[string]*flight[V]{}
	}
	g.flights[key] = f
	go func() {
		defer f.cancel()
		err := g.Panics.Run("work that others wait for", func() (err error) {
			f.value, err = work(own)
			return err
		})
		f.err = err
		g.mu.Lock()
		if g.flights[key] == f {
			delete(g.flights, key)
		}
		g.mu.Unlock()
		close(f.done)
	}()
	return f
}

// Len is how many flights are under way.
func (g *Group[V]) Len() int {
	g.mu.Lock()
	defer g.mu.Unlock()
	return len(g.flights)
}
