package workshop

import (
	"context"
	"fmt"
	"math"
	"os"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"echolane/core/policy"
	"echolane/core/render"
)

// A crew is workers that take jobs from one line. Safe for concurrent use.
type crew struct {
	workers int           // that it is to have
	queue   int           // jobs of a kind that may wait
	wait    time.Duration // the longest that one does
	memory  int64         // bytes that jobs may take together
	beside  int           // jobs that nobody waits for (all but a Visitor's) that may run at a time

	mu      sync.Mutex
	line    line
	idle    []*worker
	held    int                // workers that it has
	running int                // jobs under way
	later   int                // of which nobody waits for
	taken   int64              // bytes that those under way are thought to take
	rates   map[string]float64 // seconds that a unit of work takes, by class
	closed  bool
	empty   sync.Cond // no worker has a job; closed
}

// firstRate is what a unit of work is thought to take before any has been done: seconds for a megapixel to decode.
const firstRate = 0.01

// unhurried is how many times as long a job waits for a worker when nobody waits for the job.
const unhurried = 20

// mostRates bounds the classes that are told apart.
const mostRates = 200

func newCrew(workers, queue int, wait time.Duration, memory int64, beside int) *crew {
	c := &crew{workers: workers, queue: queue, wait: wait, memory: memory, beside: beside, rates: map[string]float64{}}
	c.empty.L = &c.mu
	return c
}

// MachineMemory is how much memory this process may use, in bytes: the machine's, or its control group's where that is less.
func MachineMemory() int64 {
	most := int64(4 << 30)
	var m unix.Sysinfo_t
	if unix.Sysinfo(&m) == nil {
		most = int64(m.Totalram) * int64(m.Unit)
	}
	if text, err := os.ReadFile("/sys/fs/cgroup/memory.max"); err == nil {
		if n, err := strconv.ParseInt(strings.TrimSpace(string(text)), 10, 64); err == nil && n > 0 {
			most = min(most, n)
		}
	}
	return most
}

// add gives the crew a worker.
func (c *crew) add(one *worker) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed {
		one.end()
		return
	}
	c.held++
	c.idle = append(c.idle, one)
	c.hand()
}

// waiting is how many jobs wait.
func (c *crew) waiting() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.line.all()
}

// waitingOf is how many jobs of a kind wait.
func (c *crew) waitingOf(k Kind) int {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.line.waiting(k)
}

// room reports whether a job of a kind for a site would have a place, and may be in one.
func (c *crew) room(f For) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.line.waiting(f.Kind) < c.queue || c.line.crowd(&place{For: f}) != nil
}

// place waits for a worker. done gives it back.
// One that comes back led has no worker: another job of its source takes it along, and tells it what came of it.
func (c *crew) place(ctx context.Context, f For, job *render.Job) (*place, *worker, error) {
	if err := ctx.Err(); err != nil {
		return nil, nil, err
	}
	c.mu.Lock()
	if c.closed {
		c.mu.Unlock()
		return nil, nil, stopping()
	}
	p := &place{For: f, turn: make(chan *worker, 1), crowded: make(chan struct{}), job: job, ctx: ctx, outcome: make(chan outcome, 1)}
	p.seconds = f.Work * c.rate(f.Class)
	if c.line.waiting(f.Kind) >= c.queue {
		other := c.line.crowd(p)
		if other == nil {
			no := c.busy(f, fmt.Sprintf("%d variants are waiting to be made", c.line.waiting(f.Kind)))
			c.mu.Unlock()
			return nil, nil, no
		}
		c.line.leave(other)
		close(other.crowded)
	}
	c.line.join(p)
	c.hand()
	c.mu.Unlock()

	wait := c.wait
	if f.Kind != Visitor { // nobody waits for it
		wait *= unhurried
	}
	late := time.NewTimer(wait)
	defer late.Stop()
	var err error
	crowded := false
	select {
	case one := <-p.turn:
		return p, one, nil
	case <-ctx.Done():
		err = ctx.Err()
	case <-late.C:
	case <-p.crowded:
		crowded = true
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	select {
	case one := <-p.turn: // it came in time after all
		return p, one, nil
	default:
	}
	if !p.gone {
		c.line.leave(p)
		c.hand() // the next may need less memory
	}
	switch {
	case err != nil:
		return nil, nil, err
	case crowded:
		return nil, nil, c.busy(f, "others had waited for less than this site has")
	case c.closed:
		return nil, nil, stopping()
	}
	return nil, nil, c.busy(f, fmt.Sprintf("no worker came free within %v", wait))
}

// busy turns a job down, with an estimate of when it may have a turn. c.mu is held.
func (c *crew) busy(f For, detail string) *policy.Refusal {
	seconds := (c.line.ahead(f) + f.Work*c.rate(f.Class)) / float64(max(1, c.workers))
	return policy.No(policy.Refusal{
		Reason: policy.ReasonBusy, Detail: detail, Remedy: "try again in a moment", RetryIn: int(math.Ceil(min(max(seconds, 1), 60))),
	})
}

// hand gives workers to those whose turn it is. c.mu is held.
func (c *crew) hand() {
	for len(c.idle) > 0 && !c.closed {
		p := c.line.next(func(k Kind) bool { return k == Visitor || c.later < c.beside })
		if p == nil || c.running > 0 && c.taken+p.Memory > c.memory {
			return // one that needs much waits at the head of the line, so that it isn't passed by for ever
		}
		c.line.start(p)
		p.along = c.line.together(p, longestTogether*float64(c.workers))
		for _, q := range p.along {
			c.line.start(q)
			q.led = true
			p.Memory = max(p.Memory, q.Memory)
			q.turn <- nil
		}
		one := c.idle[len(c.idle)-1]
		c.idle = c.idle[:len(c.idle)-1]
		c.running++
		c.taken += p.Memory
		if p.Kind != Visitor {
			c.later++
		}
		p.turn <- one
	}
}

// done ends a job's turn. one is its worker; nil: it has gone.
func (c *crew) done(p *place, one *worker, took time.Duration) {
	c.mu.Lock()
	defer c.mu.Unlock()
	seconds := p.seconds
	for _, q := range p.along {
		seconds += q.seconds
	}
	part := func(q *place) float64 { // of the time that all took together
		if seconds == 0 {
			return 0
		}
		return took.Seconds() * q.seconds / seconds
	}
	for _, q := range p.along {
		c.line.end(q, part(q))
	}
	if len(p.along) > 0 {
		c.line.end(p, part(p))
	} else {
		c.line.end(p, took.Seconds())
	}
	if p.Work > 0 && one != nil && len(p.along) == 0 {
		c.learn(p.Class, took.Seconds()/p.Work)
	}
	c.running--
	c.taken -= p.Memory
	if p.Kind != Visitor {
		c.later--
	}
	switch {
	case one == nil:
		c.held--
	case c.closed:
		c.held--
		one.end()
	default:
		c.idle = append(c.idle, one)
	}
	if c.running == 0 {
		c.empty.Broadcast()
	}
	c.hand()
}

// procs is how many processors a job may use: those whose workers have nothing to do are free.
func (c *crew) procs() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.line.all() > 0 {
		return 1
	}
	return 1 + len(c.idle)
}

// rate is how long a unit of work of a class takes. c.mu is held.
func (c *crew) rate(class string) float64 {
	if r, ok := c.rates[class]; ok {
		return r
	}
	return firstRate
}

// learn puts a rate right. c.mu is held.
func (c *crew) learn(class string, rate float64) {
	old, ok := c.rates[class]
	switch {
	case ok:
		c.rates[class] = old + (rate-old)/8
	case len(c.rates) < mostRates:
		c.rates[class] = rate
	}
}

// close ends the workers, waiting for jobs under way.
func (c *crew) close() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.closed = true
	for _, one := range c.idle {
		c.held--
		one.end()
	}
	c.idle = nil
	for c.running > 0 {
		c.empty.Wait()
	}
}
