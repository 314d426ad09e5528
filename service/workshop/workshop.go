// Package workshop makes variants in worker processes of this same binary, and reads sources' headers in them: without
// files, network or privileges, under a ceiling of memory and a deadline. The serving process itself parses nothing that
// comes from outside. A hostile image can at worst cost one render.
//
// A worker does one job at a time, over a socket pair. Jobs wait in a line in which sites take turns (line.go). If a job is too
// slow, it fails; if its worker dies, it is tried once more; another worker, started beforehand, takes the place of one that has
// gone. Headers have workers of their own, so that they don't wait for renders.
package workshop

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/backseat"
	"echolane/service/source/held"
	"echolane/service/workshop/confine"
)

// Options say how many workers there are and what each may use.
type Options struct {
	Workers     int           // 0: one for each processor
	Queue       int           // jobs of a kind that may wait for a worker; 0: 128 for each worker
	Wait        time.Duration // the longest that a job waits for one; 0: 3 s
	MemoryBytes int64         // address space a worker may use beyond its start; 0: 2 GiB
	AllMemory   int64         // bytes that renders may take together, by what they are thought to take; 0: half of the machine's
	Program     string        // the worker's executable file; "": the one built with this program, or this one. Its main calls Work when IsWorker
	Log         *slog.Logger

	// Waited is told how long each render has waited for its worker, without those that were turned away; nil: nobody is. It doesn't block.
	Waited func(kind Kind, d time.Duration)

	// Started is told how long each worker took from its start until it was ready; nil: nobody is. It doesn't block.
	Started func(d time.Duration)

	// RequireIsolation has New fail where a measure that confines workers isn't to be had.
	RequireIsolation bool
}

// IsWorker reports whether this process was started as a render worker.
func IsWorker() bool { return len(os.Args) > 1 && os.Args[1] == confine.Worker }

// Workshop hands jobs to workers. Safe for concurrent use.
type Workshop struct {
	count   int // of render workers
	o       Options
	starter *starter
	renders *crew
	headers *crew
	spare   chan *worker // one that is ready
	lost    atomic.Int64
	calls   callCounts
	closing sync.Once
	closed  chan struct{}
	starts  sync.WaitGroup

	// NotOwn says why workers don't run the program of their own that was built with the service; nil: they do, or none was.
	NotOwn error

	// Measures are what confines the workers; they don't change.
	Measures []confine.Measure

	mu        sync.Mutex
	running   map[*worker]bool // workers that have a job
	abandoned bool
}

const (
	jobsPerWorker = 2000            // after which a worker is replaced, so that what a C library may leak stays small
	headerTime    = 5 * time.Second // the longest that a header may take to read
	headersWait   = 1000            // headers that may wait to be read
	headerMemory  = 8 << 20         // that reading one is thought to take
	mostCrashes   = 2               // of workers over one job
	mostTries     = 30              // as long as its deadline allows, of a job whose workers are killed from outside, by a person or for want of memory
)

// New starts the first worker, to see that it can; the others follow in the background.
func New(o Options) (*Workshop, error) {
	if o.Workers == 0 {
		o.Workers = runtime.NumCPU()
	}
	if o.Queue == 0 {
		o.Queue = 128 * o.Workers
	}
	if o.Wait == 0 {
		o.Wait = 3 * time.Second
	}
	if o.MemoryBytes == 0 {
		o.MemoryBytes = 2 << 30
	}
	if o.AllMemory == 0 {
		o.AllMemory = MachineMemory() / 2
	}
	w := &Workshop{o: o, running: map[*worker]bool{}, spare: make(chan *worker), closed: make(chan struct{})}
	file, err := w.openProgram()
	if err != nil {
		return nil, fmt.Errorf("open the render workers' program: %w", err)
	}
	var first *worker
	if w.starter, first, w.Measures, err = newStarter(file, o.MemoryBytes, o.Started); err != nil {
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
	w.count = o.Workers
	w.renders = newCrew(o.Workers, o.Queue, o.Wait, o.AllMemory, max(1, o.Workers/2))
	w.headers = newCrew(max(1, o.Workers/2), headersWait, o.Wait, o.AllMemory, 1)
	w.renders.add(first)
	w.starts.Go(w.keepSpare)
	w.starts.Go(func() {
		for i := 1; i < o.Workers; i++ {
			w.fill(w.renders)
		}
		for range w.headers.workers {
			w.fill(w.headers)
		}
	})
	return w, nil
}

// openProgram opens the workers' program, and says so where it isn't the one that was built for it.
func (w *Workshop) openProgram() (file *os.File, err error) {
	if w.o.Program != "" {
		file, err = os.Open(w.o.Program)
	} else {
		service, _ := os.Executable()
		file, w.NotOwn, err = openProgram(service, workerSum)
	}
	if err != nil {
		return nil, err
	}
	if w.NotOwn != nil {
		w.o.Log.Warn("render workers run the service's program, not their own: they start more slowly", "error", w.NotOwn)
	}
	return file, nil
}

// keepSpare has a worker ready before it is needed.
func (w *Workshop) keepSpare() {
	const first, longest = 50 * time.Millisecond, 5 * time.Second
	pause := first
	for {
		one, _, err := w.starter.start()
		if err != nil {
			w.o.Log.Error("a render worker doesn't start", "error", err, "tried again in", pause)
			select {
			case <-time.After(pause):
			case <-w.closed:
				return
			}
			pause = min(2*pause, longest)
			continue
		}
		pause = first
		select {
		case w.spare <- one:
		case <-one.stale:
			one.end()
		case <-w.closed:
			one.end()
			return
		}
	}
}

// fill gives a crew the worker that it lacks, as soon as one is ready.
func (w *Workshop) fill(c *crew) {
	select {
	case one := <-w.spare:
		c.add(one)
	case <-w.closed:
	}
}

// replace does the same without waiting for it.
func (w *Workshop) replace(c *crew) {
	select {
	case <-w.closed:
	default:
		w.starts.Go(func() { w.fill(c) })
	}
}

// Lost counts workers that died or were ended for being slow.
func (w *Workshop) Lost() int64 { return w.lost.Load() }

// Workers is how many renders are done at a time.
func (w *Workshop) Workers() int { return w.count }

// Waiting counts renders that wait for a worker.
func (w *Workshop) Waiting() int64 { return int64(w.renders.waiting()) }

// WaitingOf counts those of a kind.
func (w *Workshop) WaitingOf(k Kind) int64 { return int64(w.renders.waitingOf(k)) }

// ForbiddenCalls counts workers that were ended for a system call, by its number.
func (w *Workshop) ForbiddenCalls() map[int]int64 { return w.calls.all() }

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
		close(w.closed)
		w.starts.Wait()
		w.renders.close()
		w.headers.close()
		w.starter.close()
	})
}

// Open brings a job's sources when a worker is about to have them: the picture's own first, then those of its layers, in
// the order in which the request names them. The workshop closes them.
type Open = func(context.Context) ([]*held.Content, error)

// Render makes one variant, and says what digests the sources had that it was made of. Its error is a *policy.Refusal,
// a *Death, open's, held.ErrChanged, or ctx's. A job whose ctx ends leaves the line, or its worker, which ends.
func (w *Workshop) Render(ctx context.Context, whom For, open Open, job render.Job) (render.Result, []held.Digest, error) {
	o := message{Kind: toRender, Job: job, Inputs: make([]input, 1)}
	for _, name := range job.Request.Pictures() {
		o.Inputs = append(o.Inputs, input{Name: name})
	}
	named := len(o.Inputs)
	open, fonts := withFonts(open, &job)
	for _, name := range fonts {
		o.Inputs = append(o.Inputs, input{Name: fontPrefix + name})
	}
	own := func(digests []held.Digest) []held.Digest { return digests[:min(len(digests), named)] }
	if len(o.Inputs) > 1 || job.Facts || job.Placeholder > 0 || job.Limits.RenderTime == 0 {
		whom.Group = ""
	}
	for {
		joined := time.Now()
		p, one, err := w.renders.place(ctx, whom, &job)
		if err != nil {
			return render.Result{}, nil, err
		}
		if w.o.Waited != nil {
			w.o.Waited(whom.Kind, time.Since(joined))
		}
		if !p.led {
			a, err := w.work(ctx, w.renders, p, one, o, open, job.Limits.RenderTime)
			return a.Result, own(a.Digests), err
		}
		select {
		case got := <-p.outcome:
			if !got.alone {
				return got.answer.Result, own(got.answer.Digests), got.err
			}
			whom.Group = ""
		case <-ctx.Done():
			return render.Result{}, nil, ctx.Err()
		}
	}
}

// Full reports whether a render for a site would be turned down now.
func (w *Workshop) Full(whom For) bool { return !w.renders.room(whom) }

// Header reads the header of a source.
func (w *Workshop) Header(ctx context.Context, c *held.Content) (codec.Header, error) {
	a, err := w.do(ctx, w.headers, header(ctx), message{Kind: toHeader, Inputs: make([]input, 1)}, only(c), headerTime)
	return a.Header, err
}

// Strip finds how the source is put together without what it says of its making.
func (w *Workshop) Strip(ctx context.Context, c *held.Content) ([]metadata.Splice, error) {
	a, err := w.do(ctx, w.headers, header(ctx), message{Kind: toStrip, Inputs: make([]input, 1)}, only(c), headerTime)
	return a.Splices, err
}

// header says for whom a header is read, and what it takes.
func header(ctx context.Context) For {
	whom := From(ctx)
	whom.Class, whom.Work, whom.Memory = "header", 1, headerMemory
	return whom
}

// only opens content that its owner closes.
func only(c *held.Content) Open {
	return func(context.Context) ([]*held.Content, error) {
		if f, from, ok := c.File(); ok {
			return []*held.Content{held.Borrowed(f, from, c.Size())}, nil
		}
		data, _ := c.Data()
		return []*held.Content{held.InMemory(data, nil)}, nil
	}
}

// do waits for a worker and has it do what the order says.
func (w *Workshop) do(ctx context.Context, c *crew, whom For, o message, open Open, limit time.Duration) (a answer, err error) {
	p, one, err := c.place(ctx, whom, nil)
	if err != nil {
		return a, err
	}
	return w.work(ctx, c, p, one, o, open, limit)
}

// work has a worker do what the order says, and what p takes along.
func (w *Workshop) work(ctx context.Context, c *crew, p *place, one *worker, o message, open Open, limit time.Duration) (a answer, err error) {
	began := time.Now()
	defer func() { // whom nobody has told anything is done alone
		for _, q := range p.along {
			q.tell(outcome{alone: true})
		}
	}()
	// From here on the turn is held, and given back whatever comes.
	defer func() {
		if one == nil {
			w.replace(c)
		}
		c.done(p, one, time.Since(began))
	}()
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
	o.Procs = c.procs()
	if c == w.renders { // a header is read before a beat is over
		defer backseat.Beat(o.Procs)()
	}
	if len(p.along) > 0 {
		var told bool
		if a, told, err = w.together(ctx, p, &one, o, contents, limit); told {
			return a, err
		}
	}
	deadline := time.Now().Add(limit)
	crashes := 0 // of workers that nobody else ended
	for try := 1; ; try++ {
		if err := ctx.Err(); err != nil {
			return a, err
		}
		if one == nil { // the one before has died
			select {
			case one = <-w.spare:
			case <-ctx.Done():
				return a, ctx.Err()
			case <-time.After(time.Until(deadline)):
				return a, died(o, nil, crashes)
			case <-w.closed:
				return a, stopping()
			}
		}
		if !w.begin(one) {
			return a, stopping()
		}
		stay := context.AfterFunc(ctx, one.kill) // nobody waits for it any more
		a, err = one.do(o, contents, time.Until(deadline))
		left := !stay()
		w.ended(one)
		if err == nil && !left {
			if one.done++; one.worn() {
				one.end()
				one = nil
			}
		} else {
			one.end()
		}
		if err == nil {
			if left {
				one = nil
			}
			switch {
			case a.Refusal != nil:
				return a, policy.No(*a.Refusal)
			case a.Changed:
				return a, held.ErrChanged
			}
			return a, nil
		}
		dead := one
		one = nil
		if left {
			return answer{}, ctx.Err()
		}
		slow := errors.Is(err, os.ErrDeadlineExceeded)
		w.lost.Add(1)
		w.calls.note(dead.stderr.String())
		w.o.Log.Warn("a render worker was lost", "slow", slow, "error", err, "how", dead.ending(), "words", dead.stderr.String())
		if !slow && !dead.killed() {
			crashes++
			w.starter.renew()
		}
		if slow && try == 1 {
			return answer{}, policy.No(policy.Refusal{
				Reason: policy.ReasonRenderTooSlow, Detail: fmt.Sprintf("the variant wasn't made within %v", limit),
				Allowed: fmt.Sprintf("at most %v", limit), Remedy: "use a smaller source, or raise the site's render_ms limit",
			})
		}
		if slow || crashes >= mostCrashes || try >= mostTries {
			return answer{}, died(o, dead, crashes)
		}
	}
}

func stopping() *policy.Refusal {
	return policy.No(policy.Refusal{Reason: policy.ReasonStopping, Detail: "this node takes no more requests", Remedy: "ask again in a moment", RetryIn: 1})
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
