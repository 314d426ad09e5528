package records

import (
	"cmp"
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/policy"
	"echolane/core/wording"
)

// Usage is what a site used in a month.
type Usage struct {
	Site        string    `db:"site" json:"site"`
	Month       time.Time `db:"month" json:"month"`
	Requests    int64     `db:"requests" json:"requests"`
	Renders     int64     `db:"renders" json:"renders"`
	BytesServed int64     `db:"bytes_served" json:"bytes_served"`
	BytesStored int64     `db:"bytes_stored" json:"bytes_stored"`
}

// A UsageCounter is one site's counters on this node. Requests only add to them; once a second what was added goes to the
// database, from which comes what all nodes together have used. So the bounds of a month hold over all nodes but for what
// the others do within one such interval. While the database is away the counters go on from what they knew.
//
// A render is reserved before it begins, and given back where it fails: on one node none is made beyond the bound.
type UsageCounter struct {
	requests, renders, served, stored atomic.Int64 // not yet handed over
	traffic                           traffic
	pending, all                      usageSums  // handed over, not yet written; of the month over all nodes, when last heard
	mu                                sync.Mutex // guards reserved, handing over, and what was
	reserved                          int64      // renders under way
	month                             time.Time  // that all belongs to
}

// usageSums are what Usage counts.
type usageSums struct{ requests, renders, served, stored atomic.Int64 }

func (s *usageSums) add(u Usage, sign int64) {
	s.requests.Add(sign * u.Requests)
	s.renders.Add(sign * u.Renders)
	s.served.Add(sign * u.BytesServed)
	s.stored.Add(sign * u.BytesStored)
}

func (s *usageSums) set(u Usage) {
	s.requests.Store(u.Requests)
	s.renders.Store(u.Renders)
	s.served.Store(u.BytesServed)
	s.stored.Store(u.BytesStored)
}

type usageKey struct {
	site  string
	month time.Time
}

// usageRow is what a site used since it was last written down; behind the writing, what all nodes have.
type usageRow struct {
	Usage
	total Usage
}

// usageEvery is how often nodes hear of each other's use.
const usageEvery = time.Second

func newUsage(o RecorderOptions, r *Recorder) *batcher[usageKey, usageRow] {
	return newBatcher(batchOptions[usageKey, usageRow]{
		what: "usage", every: usageEvery, holds: 100_000, begin: o.Store.begin, log: o.Log, panics: o.Panics,
		key:   func(u *usageRow) usageKey { return usageKey{u.Site, u.Month} },
		clean: func(u *usageRow) { u.Site = wording.Text(u.Site, 64) },
		merge: func(have, more *usageRow) {
			have.Requests += more.Requests
			have.Renders += more.Renders
			have.BytesServed += more.BytesServed
			have.BytesStored += more.BytesStored
		},
		compare: func(a, b *usageRow) int { return cmp.Or(cmp.Compare(a.Site, b.Site), a.Month.Compare(b.Month)) },
		collect: r.collectUsage,
		write: func(ctx context.Context, tx *sqlx.Tx, u *usageRow) error {
			return tx.GetContext(ctx, &u.total, `
				INSERT INTO usage (site, month, requests, renders, bytes_served, bytes_stored) VALUES ($1, $2, $3, $4, $5, $6)
				ON CONFLICT (site, month) DO UPDATE SET requests = usage.requests + excluded.requests, renders = usage.renders + excluded.renders,
					bytes_served = usage.bytes_served + excluded.bytes_served, bytes_stored = usage.bytes_stored + excluded.bytes_stored
				RETURNING *`, u.Site, u.Month, u.Requests, u.Renders, u.BytesServed, u.BytesStored)
		},
		wrote: func(u *usageRow) {
			c := r.Usage(u.Site)
			// First the totals, then what they now hold is taken off: in between both are counted, never neither.
			if u.Month.Equal(monthOf(time.Now())) {
				c.all.set(u.total)
			}
			c.pending.add(u.Usage, -1)
		},
		after: r.hearUsage,
	})
}

func monthOf(t time.Time) time.Time {
	t = t.UTC()
	return time.Date(t.Year(), t.Month(), 1, 0, 0, 0, 0, time.UTC)
}

// collectUsage hands over what was counted since the last time.
func (r *Recorder) collectUsage(add func(usageRow)) {
	month := monthOf(time.Now())
	r.sites.Range(func(name, value any) bool {
		c := value.(*UsageCounter)
		c.mu.Lock()
		defer c.mu.Unlock()
		if !c.month.Equal(month) {
			if !c.month.IsZero() { // a new month begins with nothing
				c.all.set(Usage{})
			}
			c.month = month
		}
		u := Usage{Site: name.(string), Month: month, Requests: c.requests.Load(), Renders: c.renders.Load(), BytesServed: c.served.Load(), BytesStored: c.stored.Load()}
		if u.Requests|u.Renders|u.BytesServed|u.BytesStored == 0 {
			return true
		}
		c.pending.add(u, 1) // before it is taken off, so that it's never uncounted
		c.requests.Add(-u.Requests)
		c.renders.Add(-u.Renders)
		c.served.Add(-u.BytesServed)
		c.stored.Add(-u.BytesStored)
		add(usageRow{Usage: u})
		return true
	})
}

// hearUsage reads what all nodes have used, for the sites that this one knows.
func (r *Recorder) hearUsage(ctx context.Context, tx *sqlx.Tx) error {
	var names []string
	r.sites.Range(func(name, _ any) bool {
		names = append(names, name.(string))
		return len(names) < 10_000
	})
	if len(names) == 0 {
		return nil
	}
	var rows []Usage
	if err := tx.SelectContext(ctx, &rows, `SELECT * FROM usage WHERE month = $1 AND site = ANY ($2)`, monthOf(time.Now()), names); err != nil {
		return err
	}
	for _, u := range rows {
		// What this node wrote in this very transaction is in it, and still pending: wrote takes it off in a moment.
		r.Usage(u.Site).all.set(u)
	}
	return nil
}

// Usage gives a site's counters.
func (r *Recorder) Usage(site string) *UsageCounter {
	if c, ok := r.sites.Load(site); ok {
		return c.(*UsageCounter)
	}
	c, _ := r.sites.LoadOrStore(site, &UsageCounter{})
	return c.(*UsageCounter)
}

// Month is what was used in this month so far, as far as this node knows. Renders under way count.
func (c *UsageCounter) Month() Usage {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.sum()
}

func (c *UsageCounter) sum() Usage {
	return Usage{
		Requests: c.all.requests.Load() + c.pending.requests.Load() + c.requests.Load(), Renders: c.all.renders.Load() + c.pending.renders.Load() + c.renders.Load() + c.reserved,
		BytesServed: c.all.served.Load() + c.pending.served.Load() + c.served.Load(), BytesStored: c.all.stored.Load() + c.pending.stored.Load() + c.stored.Load(),
	}
}

// ServedBytes is Month's BytesServed, without waiting for anybody.
func (c *UsageCounter) ServedBytes() int64 {
	return c.all.served.Load() + c.pending.served.Load() + c.served.Load()
}

// Reserve takes one render out of the month's bounds before it begins; ok is false, and over what was used, where there
// is none left. done says how it went: the bytes that were made and are kept, or -1 where nothing was.
func (c *UsageCounter) Reserve(bounds policy.Month) (done func(bytes int), over Usage, ok bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	u := c.sum()
	// What is under way is thought to come out as large as what was made so far.
	mean := int64(16 << 10)
	if made := u.Renders - c.reserved; made > 0 {
		mean = max(1, u.BytesStored/made)
	}
	if bounds.Renders > 0 && u.Renders >= bounds.Renders || bounds.BytesStored > 0 && u.BytesStored+c.reserved*mean >= bounds.BytesStored {
		return nil, u, false
	}
	c.reserved++
	var once sync.Once
	return func(bytes int) {
		once.Do(func() {
			c.mu.Lock()
			defer c.mu.Unlock()
			c.reserved--
			if bytes >= 0 {
				c.renders.Add(1)
				c.stored.Add(int64(bytes))
			}
		})
	}, u, true
}

// UsageOf lists a site's months, newest first, at most a dozen.
func (s *Store) UsageOf(ctx context.Context, site string) ([]Usage, error) {
	list := []Usage{}
	if err := s.db.SelectContext(ctx, &list, `SELECT * FROM usage WHERE site = $1 ORDER BY month DESC LIMIT 12`, site); err != nil {
		return nil, fmt.Errorf("read the usage of %s: %w", site, plain(err))
	}
	return list, nil
}
