package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"echolane/service/panics"
)

// A batcher carries rows to the database, off the request path. All that this package writes while requests run goes
// through one.
//
// It holds rows by key, at most a bounded number; rows of one key become one. Text is made valid before a row is held. A
// batch is one transaction. Where that fails because the database is away, the rows wait for it; where it fails because of
// a row, each row is tried by itself, and the bad one is dropped, counted and said in the log. So no row can hold up
// another, and what there is no room for is counted too.
type batcher[K comparable, R any] struct {
	o       batchOptions[K, R]
	away    bool // the last writing met no database
	dropped atomic.Int64

	flushing sync.Mutex // one writing at a time
	mu       sync.Mutex // guards held and closed
	held     map[K]*R
	closed   bool
	full     chan struct{} // a batch is full: don't wait for the tick
	stop     chan struct{}
	ended    sync.WaitGroup
}

type batchOptions[K comparable, R any] struct {
	what  string        // what the rows are, for words
	every time.Duration // between two writings
	holds int           // rows that may wait
	begin func(context.Context) (*sqlx.Tx, error)
	log   *slog.Logger

	panics *panics.Catcher

	key     func(*R) K
	clean   func(*R)                                  // makes all text valid and short enough
	merge   func(have, more *R)                       // adds a row to one of its key
	crowded func(*R) bool                             // changes a row that there's no room for so that it joins others; false drops it. nil: dropped
	compare func(a, b *R) int                         // the order of writing, so that nodes don't wait for each other in a circle
	collect func(add func(R))                         // brings what is counted elsewhere; nil: nothing
	write   func(context.Context, *sqlx.Tx, *R) error // one row
	wrote   func(*R)                                  // wrap of each row that is written for good; nil: nobody
	after   func(context.Context, *sqlx.Tx) error     // runs with each writing, behind its rows; nil: nothing
}

const (
	batchRows  = 256             // rows in one transaction
	batchLimit = 2 * time.Second // for one transaction, and for the last writing
)

func newBatcher[K comparable, R any](o batchOptions[K, R]) *batcher[K, R] {
	b := &batcher[K, R]{o: o, held: map[K]*R{}, full: make(chan struct{}, 1), stop: make(chan struct{})}
	b.ended.Go(b.run)
	return b
}

// Add holds one row. It never waits for the database. A row that comes after Close is dropped and counted.
func (b *batcher[K, R]) Add(r R) {
	b.o.clean(&r)
	b.mu.Lock()
	defer b.mu.Unlock()
	b.add(&r)
	if len(b.held) >= batchRows {
		select {
		case b.full <- struct{}{}:
		default:
		}
	}
}

// add holds a row; b.mu is held.
func (b *batcher[K, R]) add(r *R) {
	if b.closed {
		b.dropped.Add(1)
		return
	}
	k := b.o.key(r)
	have := b.held[k]
	if have == nil && len(b.held) >= b.o.holds {
		if b.o.crowded == nil || !b.o.crowded(r) {
			b.dropped.Add(1)
			return
		}
		k = b.o.key(r)
		if have = b.held[k]; have == nil && len(b.held) >= 2*b.o.holds {
			b.dropped.Add(1)
			return
		}
	}
	if have == nil {
		b.held[k] = r
		return
	}
	b.o.merge(have, r)
}

// Drop lets go of a row that waits, once no writing is under way any more, or at the latest when ctx is done.
func (b *batcher[K, R]) Drop(ctx context.Context, k K) {
	for ctx.Err() == nil {
		if b.flushing.TryLock() {
			defer b.flushing.Unlock()
			break
		}
		time.Sleep(5 * time.Millisecond)
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	delete(b.held, k)
}

// Dropped counts rows that were given up.
func (b *batcher[K, R]) Dropped() int64 { return b.dropped.Load() }

// Held counts rows that wait.
func (b *batcher[K, R]) Held() int {
	b.mu.Lock()
	defer b.mu.Unlock()
	return len(b.held)
}

// Flush writes what was added before the call; it waits for a writing that is under way.
func (b *batcher[K, R]) Flush(ctx context.Context) error {
	b.flushing.Lock()
	defer b.flushing.Unlock()
	if b.o.collect != nil {
		b.o.collect(b.Add)
	}
	b.mu.Lock()
	batch := make([]*R, 0, len(b.held))
	for _, r := range b.held {
		batch = append(batch, r)
	}
	b.held = map[K]*R{}
	b.mu.Unlock()
	if len(batch) == 0 && b.o.after == nil {
		return nil
	}
	slices.SortFunc(batch, b.o.compare)
	for first := true; first || len(batch) > 0; first = false {
		part := batch[:min(len(batch), batchRows)]
		batch = batch[len(part):]
		err := b.writeAll(ctx, part)
		if err != nil && isRowsFault(err) {
			part, err = b.writeEach(ctx, part)
		}
		if err != nil {
			b.putBack(part)
			b.putBack(batch)
			b.say(err)
			return fmt.Errorf("record %s: %w", b.o.what, plain(err))
		}
	}
	b.say(nil)
	return nil
}

// writeEach writes each row by itself and drops those that are at fault. Where the database goes away meanwhile, the rows
// that still wait come back.
func (b *batcher[K, R]) writeEach(ctx context.Context, rows []*R) (left []*R, err error) {
	for i, r := range rows {
		err := b.writeAll(ctx, rows[i:i+1])
		if err == nil {
			continue
		}
		if !isRowsFault(err) {
			return rows[i:], err
		}
		b.dropped.Add(1)
		b.o.log.Warn("a row can't be recorded and is dropped", "what", b.o.what, "row", fmt.Sprintf("%.300v", *r), "error", err)
	}
	return nil, nil
}

func (b *batcher[K, R]) putBack(rows []*R) {
	b.mu.Lock()
	defer b.mu.Unlock()
	for _, r := range rows {
		if newer := b.held[b.o.key(r)]; newer != nil {
			b.o.merge(r, newer) // what came later counts as later
			b.held[b.o.key(r)] = r
			continue
		}
		b.add(r)
	}
}

// say tells of the database's going and coming, once each.
func (b *batcher[K, R]) say(err error) {
	if away := err != nil; away != b.away {
		b.away = away
		if away {
			b.o.log.Warn("records wait for the database", "what", b.o.what, "error", plain(err))
		} else {
			b.o.log.Info("records reach the database again", "what", b.o.what)
		}
	}
}

func (b *batcher[K, R]) run() {
	tick := time.NewTicker(b.o.every)
	defer tick.Stop()
	for open := true; open; {
		select {
		case <-tick.C:
		case <-b.full:
		case <-b.stop:
			open = false
		}
		b.o.panics.Run("record "+b.o.what, func() error {
			ctx, cancel := context.WithTimeout(context.Background(), batchLimit)
			defer cancel()
			return b.Flush(ctx)
		})
	}
}

// Close writes what is held, within two seconds, and waits for that. What can't be written is counted as dropped.
func (b *batcher[K, R]) Close() {
	b.mu.Lock()
	again := b.closed
	b.mu.Unlock()
	if again {
		return
	}
	close(b.stop)
	b.ended.Wait()
	b.mu.Lock()
	b.closed = true
	left := len(b.held)
	b.mu.Unlock()
	if left > 0 {
		b.dropped.Add(int64(left))
		b.o.log.Warn("records are lost: the database didn't take them before the end", "what", b.o.what, "rows", left)
	}
}

// writeAll writes rows in one transaction.
func (b *batcher[K, R]) writeAll(ctx context.Context, rows []*R) error {
	ctx, cancel := context.WithTimeout(ctx, batchLimit)
	defer cancel()
	tx, err := b.o.begin(ctx)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, r := range rows {
		if err := b.o.write(ctx, tx, r); err != nil {
			return err
		}
	}
	if b.o.after != nil {
		if err := b.o.after(ctx, tx); err != nil {
			return err
		}
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	if b.o.wrote != nil {
		for _, r := range rows {
			b.o.wrote(r)
		}
	}
	return nil
}

// isRowsFault reports whether a writing failed because of what was to be written, not because of the state that the
// database is in: connections (class 08), rolled back transactions (25, 40), resources (53), operators (57) and the
// system (58) (PostgreSQL, appendix A).
func isRowsFault(err error) bool {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		switch e.Code[:2] {
		case "08", "25", "40", "53", "57", "58", "XX":
			return false
		}
		return true
	}
	return !isAway(err) && !errors.Is(err, context.Canceled) && !errors.Is(err, sql.ErrTxDone) && !errors.Is(err, sql.ErrConnDone)
}
