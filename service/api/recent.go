package api

import (
	"context"
	"sync"
	"time"

	"echolane/service/flight"
)

// recent holds what a costly reading came to for a moment, so that it is read once for all who ask. Its zero value is ready.
type recent[V any] struct {
	flights flight.Group[V]
	mu      sync.Mutex
	held    map[string]heldFor[V]
}

type heldFor[V any] struct {
	value V
	at    time.Time
}

const (
	recentFor  = 3 * time.Second
	mostRecent = 200 // readings that are held
)

func (r *recent[V]) do(ctx context.Context, key string, read func(context.Context) (V, error)) (V, error) {
	r.mu.Lock()
	h, there := r.held[key]
	r.mu.Unlock()
	if there && time.Since(h.at) < recentFor {
		return h.value, nil
	}
	v, _, err := r.flights.Do(ctx, key, func(ctx context.Context) (V, error) {
		v, err := read(ctx)
		if err != nil {
			return v, err
		}
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.held == nil || len(r.held) >= mostRecent {
			r.held = map[string]heldFor[V]{}
		}
		r.held[key] = heldFor[V]{v, time.Now()}
		return v, nil
	})
	return v, err
}
