// Package workshop makes variants in worker processes of this same binary, and reads sources' headers in them: without
// files, network or privileges, under a ceiling of memory and a deadline. The serving process itself parses nothing that
// comes from outside. A hostile image can at worst cost one render.
//
// A worker does one job at a time, over a socket pair. If it is too slow, its job fails; if it dies, its job is tried once
// more; another worker takes its place. Headers have workers of their own, so that they don't wait for renders.
package workshop

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"echolane/core/codec"
	"echolane/core/codec/formats"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/source"
	"echolane/service/workshop/confine"
)

// Options say how many workers there are and what each may use.
type Options struct {
	Workers     int           // 0: one for each processor
	Queue       int           // jobs that may wait for a worker; 0: 32 for each worker
	Wait        time.Duration // the longest that a job waits for one; 0: 20 s
	MemoryBytes int64         // address space a worker may use beyond its start; 0: 2 GiB
	Program     string        // the worker's executable file; "": this program's own. Its main calls Work when IsWorker
	Log         *slog.Logger

	// RequireIsolation has New fail where a measure that confines workers isn't to be had.
	RequireIsolation bool
}

// IsWorker reports whether this process was started as a render worker.
func IsWorker() bool { return len(os.Args) > 1 && os.Args[1] == confine.Worker }

// Workshop hands jobs to workers. Safe for concurrent use.
type Workshop struct {
	o       Options
	renders pool
	headers pool
	lost    atomic.Int64
	closing sync.Once
	starter *starter
	// Measures are what confines the workers; they don't change.
	Measures []confine.Measure

	mu        sync.Mutex
	running   map[*worker]bool // workers that have a job
	abandoned bool
}

// A pool is workers for one kind of job.
type pool struct {
	idle    chan *worker // holds as many as there may be; nil stands for one to be started
	queue   int64
	waiting atomic.Int64
}

func (p *pool) init(workers, queue int) {
	p.idle, p.queue = make(chan *worker, workers), int64(queue)
	for range workers {
		p.idle <- nil
	}
}

const (
	jobsPerWorker = 2000            // after which a worker is replaced, so that what a C library may leak stays small
	headerTime    = 5 * time.Second // the longest that a header may take to read
	headersWait   = 1000            // headers that may wait to be read
)

// New starts the first worker, to see that it can, and the others when they're needed.
func New(o Options) (*Workshop, error) {
	if o.Workers == 0 {
		o.Workers = runtime.NumCPU()
	}
	if o.Queue == 0 {
		o.Queue = 32 * o.Workers
	}
	if o.Wait == 0 {
		o.Wait = 20 * time.Second
	}
	if o.MemoryBytes == 0 {
		o.MemoryBytes = 2 << 30
	}
	w := &Workshop{o: o, running: map[*worker]bool{}}
	w.renders.init(o.Workers, o.Queue)
	w.headers.init(max(1, o.Workers/2), headersWait)
	var first *worker
	var err error
	if w.starter, first, w.Measures, err = newStarter(o.Program, o.MemoryBytes); err != nil {
		return nil, err
	}
	var missing []string
	for _, m := range w.Measures {
		if !m.InForce {
			missing = append(missing, m.Name+": "+m.Why)
		}
	}
	if len(missing) > 0 {
		if o.RequireIsolation {
			first.end()
			w.starter.close()
			return nil, fmt.Errorf("render workers can't be isolated as --require-isolation wants: %s", strings.Join(missing, "; "))
		}
		o.Log.Warn("render workers are isolated less than they could be", "missing", strings.Join(missing, "; "))
	}
	<-w.renders.idle
	w.renders.idle <- first
	return w, nil
}

// Lost counts workers that died or were ended.
func (w *Workshop) Lost() int64 { return w.lost.Load() }

// Waiting counts renders that wait for a worker.
func (w *Workshop) Waiting() int64 { return w.renders.waiting.Load() }

// Full reports whether a render would be turned down now.
func (w *Workshop) Full() bool { return w.renders.waiting.Load() >= w.renders.queue }

// Abandon has jobs under way fail now: their workers are ended.
func (w *Workshop) Abandon() {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.abandoned = true
	for one := range w.running {
		one.kill()
	}
}

// Close ends all workers, waiting for jobs under way.
func (w *Workshop) Close() {
	w.closing.Do(func() {
		for _, p := range []*pool{&w.renders, &w.headers} {
			for range cap(p.idle) {
				if one := <-p.idle; one != nil {
					one.end()
				}
			}
		}
		w.starter.close()
	})
}

// Open brings a job's sources when a worker is about to have them: the picture's own first, then those of its layers, in
// the order in which the request names them. The workshop closes them.
type Open = func(context.Context) ([]*source.Content, error)

// Render makes one variant, and says what digests the sources had that it was made of. Its error is a *policy.Refusal,
// open's, or source.ErrChanged. A job whose ctx ends while it waits gives up its place.
func (w *Workshop) Render(ctx context.Context, open Open, job render.Job) (render.Result, []source.Digest, error) {
	o := message{Kind: toRender, Job: job, Inputs: make([]input, 1)}
	for _, name := range job.Request.Pictures() {
		o.Inputs = append(o.Inputs, input{Name: name})
	}
	a, err := w.do(ctx, &w.renders, o, open, job.Limits.RenderTime)
	return a.Result, a.Digests, err
}

// Header reads the header of a source.
func (w *Workshop) Header(ctx context.Context, c *source.Content) (codec.Header, error) {
	a, err := w.do(ctx, &w.headers, message{Kind: toHeader, Inputs: make([]input, 1)}, only(c), headerTime)
	return a.Header, err
}

// Strip finds how the source is put together without what it says of its making.
func (w *Workshop) Strip(ctx context.Context, c *source.Content) ([]metadata.Splice, error) {
	a, err := w.do(ctx, &w.headers, message{Kind: toStrip, Inputs: make([]input, 1)}, only(c), headerTime)
	return a.Splices, err
}

// only opens content that its owner closes.
func only(c *source.Content) Open {
	return func(context.Context) ([]*source.Content, error) {
		if f, from, ok := c.File(); ok {
			return []*source.Content{source.Borrowed(f, from, c.Size())}, nil
		}
		data, _ := c.Data()
		return []*source.Content{source.InMemory(data, nil)}, nil
	}
}

// place waits for a worker.
func (w *Workshop) place(ctx context.Context, p *pool) (*worker, error) {
	busy := func(detail string) error {
		return policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: detail, Remedy: "try again in a moment", RetryIn: 2})
	}
	if p.waiting.Add(1) > p.queue {
		p.waiting.Add(-1)
		return nil, busy(fmt.Sprintf("%d variants are waiting to be made", p.queue))
	}
	defer p.waiting.Add(-1)
	late := time.NewTimer(w.o.Wait)
	defer late.Stop()
	select {
	case one := <-p.idle:
		return one, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-late.C:
		return nil, busy("no worker came free in time")
	}
}

// do has a worker do what the order says.
func (w *Workshop) do(ctx context.Context, p *pool, o message, open Open, limit time.Duration) (a answer, err error) {
	one, err := w.place(ctx, p)
	if err != nil {
		return a, err
	}
	// From here on the place is held, and given back whatever comes.
	defer func() { p.idle <- one }()
	contents, err := open(ctx)
	if err != nil {
		return a, err
	}
	defer func() {
		for _, c := range contents {
			c.Close()
		}
	}()
	if len(contents) != len(o.Inputs) {
		return a, fmt.Errorf("a job for %d sources was given %d", len(o.Inputs), len(contents))
	}
	for try := 0; ; try++ {
		if one == nil {
			if one, _, err = w.starter.start(); err != nil {
				w.o.Log.Error("a render worker doesn't start", "error", err)
				return a, policy.No(policy.Refusal{Reason: policy.ReasonInternal, Detail: "a render worker doesn't start", Remedy: "tell whoever runs the service", RetryIn: 5})
			}
		}
		if !w.begin(one) {
			return a, policy.No(policy.Refusal{Reason: policy.ReasonStopping, Detail: "this node takes no more requests", Remedy: "ask again in a moment", RetryIn: 1})
		}
		a, err = one.do(o, contents, limit)
		w.ended(one)
		if err == nil {
			if one.done++; one.done >= jobsPerWorker {
				one.end()
				one = nil
			}
			switch {
			case a.Refusal != nil:
				return a, policy.No(*a.Refusal)
			case a.Changed:
				return a, source.ErrChanged
			}
			return a, nil
		}
		slow := errors.Is(err, os.ErrDeadlineExceeded)
		one.end()
		w.lost.Add(1)
		w.o.Log.Warn("a render worker was lost", "slow", slow, "error", err, "its last words", one.stderr.String())
		one = nil
		if slow {
			return answer{}, policy.No(policy.Refusal{
				Reason: policy.ReasonRenderTooSlow, Detail: fmt.Sprintf("the variant wasn't made within %v", limit),
				Allowed: fmt.Sprintf("at most %v", limit), Remedy: "use a smaller source, or raise the site's render_ms limit",
			})
		}
		if try > 0 {
			return answer{}, policy.No(policy.Refusal{
				Reason: policy.ReasonRenderTooMuch, Detail: "the worker that made the variant ended before it was done, twice", Remedy: "use a smaller source",
			})
		}
	}
}

// begin notes that a worker has a job; false where no job is begun any more.
func (w *Workshop) begin(one *worker) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.running[one] = true
	if w.abandoned {
		delete(w.running, one)
	}
	return !w.abandoned
}

func (w *Workshop) ended(one *worker) {
	w.mu.Lock()
	defer w.mu.Unlock()
	delete(w.running, one)
}

// stageName is what a stage of the work may be called: it goes into a header field.
var stageName = regexp.MustCompile(`^[a-z]{1,20}$`)

// check holds what a worker says against what it can be: it read foreign bytes.
func (a *answer) check(o *message) error {
	if a.Refusal != nil || a.Changed {
		return nil
	}
	if len(a.Digests) != len(o.Inputs) {
		return errors.New("the worker doesn't say what it read")
	}
	switch o.Kind {
	case toHeader:
		return a.Header.Check(formats.Types())
	case toStrip:
		if _, ok := metadata.CheckSplices(a.Splices, o.Inputs[0].Size); !ok {
			return errors.New("the worker's splices aren't of that source")
		}
		return nil
	}
	r := &a.Result
	for _, s := range r.Stages {
		if !stageName.MatchString(s.Name) || s.Took < 0 || s.Took > time.Hour {
			return fmt.Errorf("the worker tells of a stage %.40q", s.Name)
		}
	}
	if o.Job.Facts {
		return nil
	}
	if len(r.Data) == 0 || r.Format.MediaType() == "" || r.Canvas.W < 1 || r.Canvas.H < 1 || len(r.Stages) > 100 {
		return errors.New("the worker's variant isn't one")
	}
	return nil
}

// most is how many bytes the answer to an order may bring.
func (o *message) most() int64 {
	if o.Kind != toRender {
		return 0
	}
	source := int64(0)
	if len(o.Inputs) > 0 {
		source = o.Inputs[0].Size
	}
	frames := int64(max(1, o.Job.Limits.SourceFrames))
	return min(1<<31, 1<<20+2*source+8*min(o.Job.Limits.Pixels, 1<<28)*min(frames, 8))
}
