package records

import (
	"context"
	"fmt"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"
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

// Meter counts what sites use. Requests only add to atomic counters; once a second the meter adds them to
// the database and learns what all nodes together have used, so a bound is overrun by at most what a second
// brings. While the database is away it goes on from what it knew.
type Meter struct {
	store *Store
	log   *slog.Logger
	sites sync.Map // name → *Count
	ticks int
	stop  chan struct{}
	done  chan struct{}
}

// Count is one site's counters.
type Count struct {
	requests, renders, served, stored             atomic.Int64 // not yet in the database
	allRequests, allRenders, allServed, allStored atomic.Int64 // of the month, over all nodes, when last heard
}

const (
	meterEvery = time.Second
	idleTicks  = 10 // a site that nobody asks for hears of other nodes' use this much more seldom
)

// NewMeter starts a meter. Close ends it.
func NewMeter(store *Store, log *slog.Logger) *Meter {
	m := &Meter{store: store, log: log, stop: make(chan struct{}), done: make(chan struct{})}
	go m.run()
	return m
}

// Of gives a site's counters.
func (m *Meter) Of(site string) *Count {
	if c, ok := m.sites.Load(site); ok {
		return c.(*Count)
	}
	c, _ := m.sites.LoadOrStore(site, &Count{})
	return c.(*Count)
}

// Served counts an answer.
func (c *Count) Served(bytes int) {
	c.requests.Add(1)
	c.served.Add(int64(bytes))
}

// Made counts a variant that was made and kept.
func (c *Count) Made(bytes int) {
	c.renders.Add(1)
	c.stored.Add(int64(bytes))
}

// Month is what was used in this month so far, as far as this node knows.
func (c *Count) Month() Usage {
	return Usage{
		Requests: c.allRequests.Load() + c.requests.Load(), Renders: c.allRenders.Load() + c.renders.Load(),
		BytesServed: c.allServed.Load() + c.served.Load(), BytesStored: c.allStored.Load() + c.stored.Load(),
	}
}

// Close writes down what is left, within a second.
func (m *Meter) Close() {
	close(m.stop)
	<-m.done
}

func (m *Meter) run() {
	defer close(m.done)
	tick := time.NewTicker(meterEvery)
	defer tick.Stop()
	for open := true; open; {
		select {
		case <-m.stop:
			open = false
		case <-tick.C:
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		m.Flush(ctx)
		cancel()
	}
}

// Flush adds what was counted to the database and takes the totals from it.
func (m *Meter) Flush(ctx context.Context) {
	now := time.Now().UTC()
	month := time.Date(now.Year(), now.Month(), 1, 0, 0, 0, 0, time.UTC)
	m.ticks++
	m.sites.Range(func(name, value any) bool {
		c := value.(*Count)
		if m.ticks%idleTicks != 0 && c.requests.Load()|c.renders.Load()|c.served.Load()|c.stored.Load() == 0 {
			return true
		}
		d := Usage{Site: name.(string), Month: month, Requests: c.requests.Load(), Renders: c.renders.Load(), BytesServed: c.served.Load(), BytesStored: c.stored.Load()}
		total, err := m.store.addUsage(ctx, d)
		if err != nil {
			m.log.Debug("usage waits to be recorded", "error", err)
			return ctx.Err() == nil
		}
		// First the totals, then what they now hold is taken off: in between both are counted, never neither.
		c.allRequests.Store(total.Requests)
		c.allRenders.Store(total.Renders)
		c.allServed.Store(total.BytesServed)
		c.allStored.Store(total.BytesStored)
		c.requests.Add(-d.Requests)
		c.renders.Add(-d.Renders)
		c.served.Add(-d.BytesServed)
		c.stored.Add(-d.BytesStored)
		return true
	})
}

func (s *Store) addUsage(ctx context.Context, d Usage) (Usage, error) {
	var total Usage
	err := s.db.GetContext(ctx, &total, `
		INSERT INTO usage (site, month, requests, renders, bytes_served, bytes_stored) VALUES ($1, $2, $3, $4, $5, $6)
		ON CONFLICT (site, month) DO UPDATE SET requests = usage.requests + excluded.requests, renders = usage.renders + excluded.renders,
			bytes_served = usage.bytes_served + excluded.bytes_served, bytes_stored = usage.bytes_stored + excluded.bytes_stored
		RETURNING *`, d.Site, d.Month, d.Requests, d.Renders, d.BytesServed, d.BytesStored)
	if err != nil {
		return total, fmt.Errorf("record usage: %w", plain(err))
	}
	return total, nil
}

// UsageOf lists a site's months, newest first, at most a dozen.
func (s *Store) UsageOf(ctx context.Context, site string) ([]Usage, error) {
	list := []Usage{}
	if err := s.db.SelectContext(ctx, &list, `SELECT * FROM usage WHERE site = $1 ORDER BY month DESC LIMIT 12`, site); err != nil {
		return nil, fmt.Errorf("read the usage of %s: %w", site, plain(err))
	}
	return list, nil
}
