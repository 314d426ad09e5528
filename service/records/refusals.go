package records

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/policy"
)

// Refusal is a kind of refusal and how often it came.
type Refusal struct {
	ID      int64         `db:"id"`
	Site    string        `db:"site"`
	Reason  policy.Reason `db:"reason"`
	Asked   string        `db:"asked"`
	Count   int64         `db:"count"`
	FirstAt time.Time     `db:"first_at"`
	LastAt  time.Time     `db:"last_at"`
	Sample  string        `db:"sample"`
	Refusal []byte        `db:"refusal"` // a policy.Refusal as JSON
}

// Whole is the latest refusal of the kind.
func (r Refusal) Whole() (no policy.Refusal) {
	json.Unmarshal(r.Refusal, &no) // what isn't readable is shown by its reason alone
	if no.Reason == "" {
		no.Reason = r.Reason
	}
	return no
}

// Ledger counts refusals in memory and writes them down once a second, off the request path. It is bounded:
// what doesn't fit is counted under "others", so that nobody can fill the table.
type Ledger struct {
	store *Store
	log   *slog.Logger

	flushing sync.Mutex // one writing at a time
	mu       sync.Mutex // guards open
	open     map[ledgerKey]*Refusal

	stop chan struct{}
	done chan struct{}
}

type ledgerKey struct {
	site   string
	reason policy.Reason
	asked  string
}

const (
	ledgerHolds  = 2000 // kinds between two writings
	kindsPerPair = 200  // kinds that are told apart for one site and reason
	others       = "others"
	ledgerEvery  = time.Second
)

// NewLedger starts a ledger. Close ends it.
func NewLedger(store *Store, log *slog.Logger) *Ledger {
	l := &Ledger{store: store, log: log, open: map[ledgerKey]*Refusal{}, stop: make(chan struct{}), done: make(chan struct{})}
	go l.run()
	return l
}

// Add counts one refusal. It never waits for the database.
func (l *Ledger) Add(site, asked, sample string, no *policy.Refusal) {
	key := ledgerKey{site, no.Reason, clip(asked, 200)}
	now := time.Now()
	l.mu.Lock()
	defer l.mu.Unlock()
	r := l.open[key]
	if r == nil {
		if len(l.open) >= ledgerHolds {
			key.asked = others
			if r = l.open[key]; r == nil && len(l.open) >= 2*ledgerHolds {
				return // as many sites and reasons as that can't be told apart
			}
		}
		if r == nil {
			r = &Refusal{Site: key.site, Reason: key.reason, Asked: key.asked, FirstAt: now}
			l.open[key] = r
		}
	}
	r.Count++
	r.LastAt = now
	if r.Count == 1 || r.Count%64 == 0 {
		r.Sample = clip(sample, 1000)
		r.Refusal, _ = json.Marshal(no)
	}
}

func clip(s string, n int) string {
	if len(s) > n {
		return s[:n]
	}
	return s
}

// Flush writes down what was counted before the call; it waits for a writing that is under way.
func (l *Ledger) Flush(ctx context.Context) error {
	l.flushing.Lock()
	defer l.flushing.Unlock()
	l.mu.Lock()
	batch := l.open
	l.open = map[ledgerKey]*Refusal{}
	l.mu.Unlock()
	if len(batch) == 0 {
		return nil
	}
	err := l.store.inTransaction(ctx, "record refusals", func(tx *sqlx.Tx) error {
		for _, r := range inOrder(batch) {
			if err := addRefusal(ctx, tx, r); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		l.putBack(batch)
	}
	return err
}

// inOrder keeps nodes that write at the same time from waiting for each other in a circle.
func inOrder(batch map[ledgerKey]*Refusal) []*Refusal {
	list := slices.Collect(maps.Values(batch))
	slices.SortFunc(list, func(a, b *Refusal) int {
		return cmp.Or(cmp.Compare(a.Site, b.Site), cmp.Compare(a.Reason, b.Reason), cmp.Compare(a.Asked, b.Asked))
	})
	return list
}

func (l *Ledger) putBack(batch map[ledgerKey]*Refusal) {
	l.mu.Lock()
	defer l.mu.Unlock()
	for key, r := range batch {
		if newer := l.open[key]; newer != nil {
			newer.Count += r.Count
			newer.FirstAt = r.FirstAt
		} else if len(l.open) < ledgerHolds {
			l.open[key] = r
		}
	}
}

// Close writes what is left, within a second.
func (l *Ledger) Close() {
	close(l.stop)
	<-l.done
}

func (l *Ledger) run() {
	defer close(l.done)
	tick := time.NewTicker(ledgerEvery)
	defer tick.Stop()
	for open := true; open; {
		select {
		case <-l.stop:
			open = false
		case <-tick.C:
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		if err := l.Flush(ctx); err != nil {
			l.log.Debug("refusals wait to be recorded", "error", err)
		}
		cancel()
	}
}

// addRefusal counts up the row of its kind, or makes one where there is room for another kind.
func addRefusal(ctx context.Context, tx *sqlx.Tx, r *Refusal) error {
	_, err := tx.ExecContext(ctx, `
		WITH room AS (
			SELECT EXISTS (SELECT FROM refusals WHERE site = $1 AND reason = $2 AND asked = $3)
			    OR (SELECT count(*) FROM refusals WHERE site = $1 AND reason = $2) < $9 AS free)
		INSERT INTO refusals (site, reason, asked, count, first_at, last_at, sample, refusal)
		SELECT $1, $2, CASE WHEN free THEN $3 ELSE $10 END, $4, $5, $6, $7, $8 FROM room
		ON CONFLICT (site, reason, asked) DO UPDATE SET count = refusals.count + excluded.count,
			last_at = greatest(refusals.last_at, excluded.last_at), sample = excluded.sample, refusal = excluded.refusal`,
		r.Site, r.Reason, r.Asked, r.Count, r.FirstAt, r.LastAt, r.Sample, r.Refusal, kindsPerPair, others)
	return err
}

// Refusals lists kinds of refusals by how often they came, of one site or ("") of all, from the offset on.
func (s *Store) Refusals(ctx context.Context, site string, offset, limit int) ([]Refusal, error) {
	list := []Refusal{}
	err := s.db.SelectContext(ctx, &list, `SELECT * FROM refusals WHERE $1 = '' OR site = $1 ORDER BY count DESC, id LIMIT $2 OFFSET $3`, site, limit, offset)
	if err != nil {
		return nil, fmt.Errorf("list refusals: %w", plain(err))
	}
	return list, nil
}

// RefusalByID finds one kind of refusals; ok is false where it is gone.
func (s *Store) RefusalByID(ctx context.Context, id int64) (r Refusal, ok bool, err error) {
	var found []Refusal
	if err := s.db.SelectContext(ctx, &found, `SELECT * FROM refusals WHERE id = $1`, id); err != nil {
		return r, false, fmt.Errorf("read refusal %d: %w", id, plain(err))
	}
	if len(found) == 0 {
		return r, false, nil
	}
	return found[0], true, nil
}

// ForgetRefusal takes a kind of refusals off the list until it comes again.
func (s *Store) ForgetRefusal(ctx context.Context, id int64) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM refusals WHERE id = $1`, id)
	return told("forget a refusal", err)
}
