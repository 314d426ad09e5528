package records

import (
	"context"
	"log/slog"
	"time"
)

// Journal writes variants down in batches, off the request path. While the database is away it holds what it
// can and then drops the newest, since the record is for people and the caches don't need it.
type Journal struct {
	store   *Store
	log     *slog.Logger
	queue   chan Variant
	done    chan struct{}
	Dropped func(n int) // told how many were dropped; never nil
}

const (
	journalHolds = 4096
	journalBatch = 256
	journalEvery = 250 * time.Millisecond
)

// NewJournal starts a journal. Close ends it.
func NewJournal(store *Store, log *slog.Logger, dropped func(n int)) *Journal {
	j := &Journal{store: store, log: log, queue: make(chan Variant, journalHolds), done: make(chan struct{}), Dropped: dropped}
	go j.run()
	return j
}

// Add notes one variant. It never waits.
func (j *Journal) Add(v Variant) {
	select {
	case j.queue <- v:
	default:
		j.Dropped(1)
	}
}

// Close writes what is left, within two seconds, and waits for that.
func (j *Journal) Close() {
	close(j.queue)
	<-j.done
}

func (j *Journal) run() {
	defer close(j.done)
	var batch []Variant
	tick := time.NewTicker(journalEvery)
	defer tick.Stop()
	open := true
	for open {
		select {
		case v, ok := <-j.queue:
			if !ok {
				open = false
				break
			}
			batch = append(batch, v)
			if len(batch) < journalBatch {
				continue
			}
		case <-tick.C:
		}
		if len(batch) == 0 {
			continue
		}
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		err := j.store.AddVariants(ctx, batch)
		cancel()
		switch {
		case err == nil:
			batch = batch[:0]
		case !open || len(batch) >= journalHolds:
			j.log.Warn("variants were not recorded", "count", len(batch), "error", err)
			j.Dropped(len(batch))
			batch = batch[:0]
		}
	}
}
