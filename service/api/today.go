package api

import (
	"context"
	"encoding/json"
	"slices"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/core/wording"
	"echolane/service/records"
	"echolane/service/source"
)

// Today is what is going on: what was answered lately, and how the nodes are.
type Today struct {
	Span   string                 `json:"span" words:"hour day month"`
	From   time.Time              `json:"from"`
	StepS  int                    `json:"step_s"` // of the points
	Points []records.TrafficPoint `json:"points"`
	Hits   Times                  `json:"hits"`   // of what was kept
	Misses Times                  `json:"misses"` // of what had to be made
	Tiers  []TierTimes            `json:"tiers"`  // by where the answer came from; those that gave none aren't in it
	Nodes  []NodeState            `json:"nodes"`
}

// TierTimes are the times of answers from one place.
type TierTimes struct {
	Kind     string `json:"kind" words:"memory disk store made joined original refused"`
	Requests int64  `json:"requests"`
	Times
}

// Times are quantiles of the time to an answer, in seconds; 0: nothing was answered.
type Times struct {
	P50 float64 `json:"p50"`
	P95 float64 `json:"p95"`
	P99 float64 `json:"p99"`
}

// NodeState is what a node says of itself.
type NodeState struct {
	ID          string          `json:"id"`
	SeenAt      time.Time       `json:"seen_at"`
	BegunAt     time.Time       `json:"begun_at"`
	Listen      string          `json:"listen"`
	Workers     int             `json:"workers"`
	Waiting     int             `json:"waiting"`      // renders
	WorkersLost int64           `json:"workers_lost"` // that died or were ended
	MemoryBytes int64           `json:"memory_bytes"` // of variants
	MemoryLimit int64           `json:"memory_limit"`
	DiskBytes   int64           `json:"disk_bytes"`
	DiskLimit   int64           `json:"disk_limit"` // 0: nothing is kept on disk
	Disk        string          `json:"disk,omitempty"`
	Store       string          `json:"store,omitempty"`
	StoreAt     string          `json:"store_at,omitempty"` // "": there is none
	Origins     []source.Origin `json:"origins"`
}

// lately is what was answered, as it was read.
type lately struct {
	points []records.TrafficPoint
	times  []records.TrafficTime
}

// spans are how far back Today looks, and in which steps.
var spans = map[string]struct {
	back, step time.Duration
	hours      bool
}{"hour": {time.Hour, time.Minute, false}, "day": {24 * time.Hour, 15 * time.Minute, false}, "month": {30 * 24 * time.Hour, 12 * time.Hour, true}}

func (a *API) today(c fiber.Ctx) error {
	site := c.Query("site")
	if no := a.may(c, records.MayRead, site); no != nil {
		return refuse(c, no)
	}
	name := c.Query("span", "hour")
	span, ok := spans[name]
	if !ok {
		return refuse(c, badRequest("span", wording.Cut(name, 40), "there is no such span", "hour, day or month"))
	}
	from := time.Now().UTC().Add(-span.back).Truncate(span.step).Add(span.step)
	// Many consoles look at the same: one reads for all, and for a moment.
	read, err := a.lately.do(c.Context(), name+" "+site, func(ctx context.Context) (out lately, err error) {
		out.points, out.times, err = a.Store.Traffic(ctx, site, from, span.step, span.hours)
		return out, err
	})
	if err != nil {
		return refuse(c, failed(err, site))
	}
	points, times := read.points, read.times
	out := Today{Span: name, From: from, StepS: int(span.step / time.Second), Points: points, Nodes: []NodeState{}}
	of := func(kinds ...string) Times {
		return Times{records.Quantile(0.5, times, kinds...), records.Quantile(0.95, times, kinds...), records.Quantile(0.99, times, kinds...)}
	}
	out.Hits, out.Misses = of("memory", "disk", "store"), of("made", "joined")
	out.Tiers = []TierTimes{}
	for _, kind := range records.TrafficKinds {
		one := TierTimes{Kind: kind, Times: of(kind)}
		for _, p := range points {
			if p.Kind == kind {
				one.Requests += p.Requests
			}
		}
		if one.Requests > 0 {
			out.Tiers = append(out.Tiers, one)
		}
	}
	nodes, err := a.Store.Nodes(c.Context())
	if err != nil {
		return refuse(c, failed(err, site))
	}
	all := a.may(c, records.MayRead, "") == nil
	for _, n := range nodes {
		var s NodeState
		if json.Unmarshal(n.State, &s) != nil {
			continue // a node of another version
		}
		s.ID, s.SeenAt = n.ID, n.SeenAt
		s.Origins = slices.DeleteFunc(s.Origins, func(o source.Origin) bool {
			return site != "" && o.Site != site || a.may(c, records.MayRead, o.Site) != nil
		})
		if s.Origins == nil {
			s.Origins = []source.Origin{}
		}
		if !all { // how the machines are is for who may look at everything
			s = NodeState{ID: s.ID, SeenAt: s.SeenAt, BegunAt: s.BegunAt, Workers: s.Workers, Waiting: s.Waiting, Origins: s.Origins}
		}
		out.Nodes = append(out.Nodes, s)
	}
	return c.JSON(out)
}
