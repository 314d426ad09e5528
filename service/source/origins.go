package source

import (
	"cmp"
	"context"
	"errors"
	"slices"
	"sync"
	"time"

	"echolane/core/policy"
)

// Origin is how a lane's origin or store has answered lately.
type Origin struct {
	Site   string    `json:"site"`
	Lane   string    `json:"lane"`
	Looks  int64     `json:"looks"`  // in the last minutes
	Failed int64     `json:"failed"` // of them
	MeanMS float64   `json:"mean_ms"`
	Last   string    `json:"last,omitempty"` // how it failed last
	LastAt time.Time `json:"last_at,omitzero"`
}

const (
	originWindow = 5 * time.Minute
	mostOrigins  = 1000 // lanes that are told apart
)

// origins count how origins answer, in windows.
type origins struct {
	mu  sync.Mutex
	all map[[2]string]*originCount
	// observe is told of each look too; nil: nobody is.
	observe func(site, lane string, took time.Duration, failed bool)
}

type originCount struct {
	now, before originSums
	begun       time.Time // of the window
	last        string
	lastAt      time.Time
}

type originSums struct {
	looks, failed int64
	took          time.Duration
}

// note counts one look at a source that takes more than a look at a disk.
func (o *origins) note(lane Lane, site, name string, took time.Duration, stale bool, err error) {
	if lane.Near() || errors.Is(err, context.Canceled) {
		return
	}
	var no *policy.Refusal
	failed, how := stale, "it failed, and what is kept stands in"
	if errors.As(err, &no) && (no.Reason == policy.ReasonOriginFailed || no.Reason == policy.ReasonOriginSlow) {
		failed, how = true, no.Detail
	}
	if errors.Is(err, context.DeadlineExceeded) {
		failed, how = true, "it doesn't answer in time"
	}
	if o.observe != nil {
		o.observe(site, name, took, failed)
	}
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.all == nil {
		o.all = map[[2]string]*originCount{}
	}
	c := o.all[[2]string{site, name}]
	if c == nil {
		if len(o.all) >= mostOrigins {
			return
		}
		c = &originCount{begun: time.Now()}
		o.all[[2]string{site, name}] = c
	}
	c.turn(time.Now())
	c.now.looks++
	c.now.took += took
	if failed {
		c.now.failed++
		c.last, c.lastAt = how, time.Now()
	}
}

// turn begins a new window where the last one is over.
func (c *originCount) turn(now time.Time) {
	if age := now.Sub(c.begun); age >= originWindow {
		c.before = c.now
		if age >= 2*originWindow {
			c.before = originSums{}
		}
		c.now, c.begun = originSums{}, now
	}
}

// ObserveOrigins has f be told how long each look at an origin took, and whether it failed. It is called before the table is used.
func (t *Table) ObserveOrigins(f func(site, lane string, took time.Duration, failed bool)) {
	t.origins.observe = f
}

// Origins tells how origins have answered in the last five to ten minutes: those that failed most first.
func (t *Table) Origins() []Origin {
	o := &t.origins
	o.mu.Lock()
	defer o.mu.Unlock()
	list := []Origin{}
	for name, c := range o.all {
		c.turn(time.Now())
		looks := c.now.looks + c.before.looks
		if looks == 0 {
			delete(o.all, name)
			continue
		}
		list = append(list, Origin{
			Site: name[0], Lane: name[1], Looks: looks, Failed: c.now.failed + c.before.failed,
			MeanMS: float64(c.now.took+c.before.took) / float64(looks) / 1e6, Last: c.last, LastAt: c.lastAt,
		})
	}
	slices.SortFunc(list, func(a, b Origin) int {
		return cmp.Or(cmp.Compare(b.Failed, a.Failed), cmp.Compare(a.Site, b.Site), cmp.Compare(a.Lane, b.Lane))
	})
	return list
}
