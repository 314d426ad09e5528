package workshop

import (
	"maps"
	"strings"
	"sync"

	"echolane/core/policy"
	"echolane/service/workshop/confine"
)

// A Death is a job whose workers have died under it. It is no fault of whoever asked.
type Death struct {
	*policy.Refusal
	Workers int    // that crashed; one that was killed from outside isn't among them
	How     string // the last one's end, such as "signal: segmentation fault"
	Words   string // its last words
	Call    int    // the system call that it was ended for; -1: none
	Memory  bool   // it asked for more memory than a worker may have: the request's size may be why, not the source
}

// Unwrap gives what the client is told.
func (d *Death) Unwrap() error { return d.Refusal }

// died makes the error of a job whose workers died. one is the last of them; nil: no other was to be had in time.
func died(o message, one *worker, workers int) error {
	d := &Death{Workers: workers, Call: -1}
	d.Refusal = policy.No(policy.Refusal{
		Reason: policy.ReasonWorkerDied, Detail: "the worker that made the variant ended before it was done", Remedy: "ask again in a moment; if it comes again, tell whoever runs the service", RetryIn: 3,
	})
	if o.Kind != toRender {
		d.Refusal.Detail = "the worker that read the source ended before it was done"
	}
	if one == nil {
		return d
	}
	d.How, d.Words = one.ending(), one.stderr.String()
	if n, ok := confine.ForbiddenCall(d.Words); ok {
		d.Call = n
	}
	if o.Kind == toRender && strings.Contains(d.Words, "out of memory") {
		d.Memory = true
		d.Refusal = policy.No(policy.Refusal{
			Reason: policy.ReasonRenderTooMuch, Detail: "making the variant takes more memory than a worker may have", Remedy: "use a smaller source, or ask for a smaller variant",
		})
	}
	return d
}

// callCounts counts system calls that workers were ended for.
type callCounts struct {
	mu sync.Mutex
	n  map[int]int64
}

func (c *callCounts) note(words string) {
	n, ok := confine.ForbiddenCall(words)
	if !ok {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.n == nil {
		c.n = map[int]int64{}
	}
	c.n[n]++
}

func (c *callCounts) all() map[int]int64 {
	c.mu.Lock()
	defer c.mu.Unlock()
	return maps.Clone(c.n)
}
