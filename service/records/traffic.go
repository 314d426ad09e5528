package records

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"sync/atomic"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/wording"
)

// TrafficKinds are where answers come from.
var TrafficKinds = []string{"memory", "disk", "store", "made", "joined", "original", "refused"}

// Refused is the kind of what was turned down.
const refusedKind = 6

// TimeBounds are the upper bounds of the times by which answers are counted; those that took longer are behind the last.
var TimeBounds = [...]time.Duration{
	50 * time.Microsecond, 100 * time.Microsecond, 250 * time.Microsecond, 500 * time.Microsecond, time.Millisecond, 2500 * time.Microsecond, 5 * time.Millisecond, 10 * time.Millisecond,
	25 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond, 250 * time.Millisecond, 500 * time.Millisecond, time.Second, 2500 * time.Millisecond, 5 * time.Second,
}

// trafficCount is what a node has answered of one kind, and not yet handed over.
type trafficCount struct {
	requests, bytes, unscaled atomic.Int64
	times                     [len(TimeBounds) + 1]atomic.Int64
	past                      struct{ requests, bytes int64 } // that were handed over; the counter's lock guards them
}

// traffic are a site's counts by kind.
type traffic [refusedKind + 1]trafficCount

func (t *traffic) add(kind int, bytes, unscaled int64, took time.Duration) {
	c := &t[kind]
	c.requests.Add(1)
	c.bytes.Add(bytes)
	c.unscaled.Add(unscaled)
	i := 0
	for i < len(TimeBounds) && took > TimeBounds[i] {
		i++
	}
	c.times[i].Add(1)
}

type trafficKey struct {
	site string
	step int
	at   time.Time
	kind string
}

type trafficRow struct {
	trafficKey
	requests, bytes, unscaled int64
	times                     []int64
}

// trafficEvery is how often traffic is written down.
const trafficEvery = 5 * time.Second

func newTraffic(o RecorderOptions, r *Recorder) *batcher[trafficKey, trafficRow] {
	return newBatcher(batchOptions[trafficKey, trafficRow]{
		what: "traffic", every: trafficEvery, holds: 20_000, begin: o.Store.begin, log: o.Log, panics: o.Panics,
		key:   func(t *trafficRow) trafficKey { return t.trafficKey },
		clean: func(t *trafficRow) { t.site = wording.Text(t.site, 64) },
		merge: func(have, more *trafficRow) {
			have.requests, have.bytes, have.unscaled = have.requests+more.requests, have.bytes+more.bytes, have.unscaled+more.unscaled
			for i, n := range more.times {
				have.times[i] += n
			}
		},
		compare: func(a, b *trafficRow) int {
			return cmp.Or(cmp.Compare(a.step, b.step), a.at.Compare(b.at), cmp.Compare(a.site, b.site), cmp.Compare(a.kind, b.kind))
		},
		collect: r.collectTraffic,
		write: func(ctx context.Context, tx *sqlx.Tx, t *trafficRow) error {
			_, err := tx.ExecContext(ctx, `INSERT INTO traffic (site, step, at, kind, requests, bytes, unscaled, times) VALUES ($1, $2, $3, $4, $5, $6, $7, $8)
				ON CONFLICT (step, at, site, kind) DO UPDATE SET requests = traffic.requests + excluded.requests, bytes = traffic.bytes + excluded.bytes, unscaled = traffic.unscaled + excluded.unscaled,
					times = ARRAY(SELECT coalesce(a, 0) + coalesce(b, 0) FROM unnest(traffic.times, excluded.times) WITH ORDINALITY AS t (a, b, i) ORDER BY i)`,
				t.site, t.step, t.at, t.kind, t.requests, t.bytes, t.unscaled, t.times)
			return err
		},
	})
}

// SiteTotals are what this node has answered for a site since it began.
type SiteTotals struct {
	Site    string
	Answers [refusedKind + 1]int64 // by their kind's place in TrafficKinds
	Bytes   int64                  // that went out
}

// Totals tells what this node has answered for each site.
func (r *Recorder) Totals() (all []SiteTotals) {
	r.sites.Range(func(name, value any) bool {
		c := value.(*UsageCounter)
		c.mu.Lock()
		defer c.mu.Unlock()
		t := SiteTotals{Site: name.(string)}
		for kind := range c.traffic {
			one := &c.traffic[kind]
			t.Answers[kind] = one.past.requests + one.requests.Load()
			t.Bytes += one.past.bytes + one.bytes.Load()
		}
		all = append(all, t)
		return true
	})
	return all
}

// collectTraffic hands over what was counted since the last time, once for its minute and once for its hour.
func (r *Recorder) collectTraffic(add func(trafficRow)) {
	now := time.Now().UTC()
	r.sites.Range(func(name, value any) bool {
		counter := value.(*UsageCounter)
		counter.mu.Lock()
		defer counter.mu.Unlock()
		t := &counter.traffic
		for kind := range t {
			c := &t[kind]
			n := c.requests.Swap(0)
			if n == 0 {
				continue
			}
			row := trafficRow{requests: n, bytes: c.bytes.Swap(0), unscaled: c.unscaled.Swap(0)}
			c.past.requests += row.requests
			c.past.bytes += row.bytes
			times := make([]int64, len(c.times))
			for i := range c.times {
				times[i] = c.times[i].Swap(0)
			}
			for _, step := range []time.Duration{time.Minute, time.Hour} {
				row.trafficKey = trafficKey{name.(string), int(step / time.Minute), now.Truncate(step), TrafficKinds[kind]}
				row.times = append([]int64(nil), times...)
				add(row)
			}
		}
		return true
	})
}

// Answered counts an answer of a kind, by its place in TrafficKinds: the bytes that went out, those that the source would have been,
// and how long it took.
func (c *UsageCounter) Answered(kind, sent int, unscaled int64, took time.Duration) {
	c.requests.Add(1)
	c.served.Add(int64(sent))
	c.traffic.add(kind, int64(sent), unscaled, took)
}

// TrafficPoint is what was answered of one kind in one step.
type TrafficPoint struct {
	At       time.Time `db:"at" json:"at"`
	Kind     string    `db:"kind" json:"kind" words:"memory disk store made joined original refused"`
	Requests int64     `db:"requests" json:"requests"`
	Bytes    int64     `db:"bytes" json:"bytes"`
	Unscaled int64     `db:"unscaled" json:"unscaled_bytes"` // of the sources themselves
}

// TrafficTime counts the answers of one kind that took at most a bound, and more than the one before.
type TrafficTime struct {
	Kind  string `db:"kind"`
	Bound int    `db:"i"` // place in TimeBounds, from 1 on; one more is beyond the last
	N     int64  `db:"n"`
}

// Traffic reads what was answered from a time on, of a site or of all, in steps: rows are those of minutes, or of hours.
func (s *Store) Traffic(ctx context.Context, site string, from time.Time, step time.Duration, hours bool) (points []TrafficPoint, times []TrafficTime, err error) {
	rows := 1
	if hours {
		rows = 60
	}
	points, times = []TrafficPoint{}, []TrafficTime{}
	err = s.db.SelectContext(ctx, &points, `SELECT date_bin($4 * interval '1 second', at, $3) AS at, kind, sum(requests)::bigint AS requests, sum(bytes)::bigint AS bytes, sum(unscaled)::bigint AS unscaled
		FROM traffic WHERE step = $2 AND at >= $3 AND ($1 = '' OR site = $1) GROUP BY 1, 2 ORDER BY 1, 2`, site, rows, from, step.Seconds())
	if err == nil {
		err = s.db.SelectContext(ctx, &times, `SELECT kind, i, sum(n)::bigint AS n FROM traffic, unnest(times) WITH ORDINALITY AS t (n, i)
			WHERE step = $2 AND at >= $3 AND ($1 = '' OR site = $1) AND n > 0 GROUP BY 1, 2 ORDER BY 1, 2`, site, rows, from)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("read what was answered: %w", plain(err))
	}
	return points, times, nil
}

// Quantile gives the time that a share of the answers took at most, in seconds, from their counts; 0: there are none.
func Quantile(share float64, times []TrafficTime, kinds ...string) float64 {
	var counts [len(TimeBounds) + 1]int64
	sum := int64(0)
	for _, t := range times {
		for _, k := range kinds {
			if t.Kind == k && t.Bound >= 1 && t.Bound <= len(counts) {
				counts[t.Bound-1] += t.N
				sum += t.N
			}
		}
	}
	if sum == 0 {
		return 0
	}
	want, before := share*float64(sum), 0.0
	for i, n := range counts {
		if n == 0 || before+float64(n) < want {
			before += float64(n)
			continue
		}
		if i == len(TimeBounds) {
			return TimeBounds[i-1].Seconds() // at least
		}
		low := 0.0
		if i > 0 {
			low = TimeBounds[i-1].Seconds()
		}
		return low + (TimeBounds[i].Seconds()-low)*(want-before)/float64(n)
	}
	return TimeBounds[len(TimeBounds)-1].Seconds()
}

// Node is one that there is.
type Node struct {
	ID     string          `db:"id"`
	SeenAt time.Time       `db:"seen_at"`
	State  json.RawMessage `db:"state"`
}

// nodeGone is how long a node that says nothing is taken to be there.
const nodeGone = 20 * time.Second

// TellNode says how this node is.
func (s *Store) TellNode(ctx context.Context, id string, state any) error {
	text, err := json.Marshal(state)
	if err != nil {
		return fmt.Errorf("say how this node is: %w", err)
	}
	_, err = s.db.ExecContext(ctx, `WITH gone AS (DELETE FROM nodes WHERE seen_at < now() - interval '1 hour')
		INSERT INTO nodes (id, seen_at, state) VALUES ($1, now(), $2) ON CONFLICT (id) DO UPDATE SET seen_at = now(), state = excluded.state`, id, string(text))
	return wrap("say how this node is", err)
}

// ForgetNode says that this node ends.
func (s *Store) ForgetNode(ctx context.Context, id string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM nodes WHERE id = $1`, id)
	return wrap("say that this node ends", err)
}

// Nodes lists those that have said something lately.
func (s *Store) Nodes(ctx context.Context) ([]Node, error) {
	list := []Node{}
	err := s.db.SelectContext(ctx, &list, `SELECT * FROM nodes WHERE seen_at > now() - $1 * interval '1 second' ORDER BY id`, nodeGone.Seconds())
	return list, wrap("list the nodes", err)
}
