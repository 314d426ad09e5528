package weighing

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"sync"
	"time"

	"echolane/core/policy"
	"echolane/service/panics"
)

// Records keep weigh-ins.
type Records interface {
	AddWeighing(ctx context.Context, site, page, by string) (int64, error)
	TellWeighing(ctx context.Context, id int64, done, of int, doing string) (bool, error)
	EndWeighing(ctx context.Context, id int64, outcome []byte, trouble string) error
}

// Runner weighs pages in the background, one after the other on this node.
type Runner struct {
	weigher *Weigher
	records Records
	log     *slog.Logger
	ctx     context.Context
	stop    context.CancelFunc
	turn    chan struct{}
	waiting chan struct{}
	all     sync.WaitGroup
	panics  *panics.Catcher
}

const (
	mostWaiting = 8
	longest     = 5 * time.Minute
)

// NewRunner makes one. Close ends what is under way.
func NewRunner(w *Weigher, r Records, log *slog.Logger, catch *panics.Catcher) *Runner {
	ctx, stop := context.WithCancel(context.Background())
	return &Runner{weigher: w, records: r, log: log, ctx: ctx, stop: stop, turn: make(chan struct{}, 1), waiting: make(chan struct{}, mostWaiting), panics: catch}
}

// Close ends it.
func (r *Runner) Close() {
	r.stop()
	r.all.Wait()
}

// Begin starts a weigh-in and gives its number.
func (r *Runner) Begin(ctx context.Context, a Ask, by string) (int64, error) {
	select {
	case r.waiting <- struct{}{}:
	default:
		return 0, policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "more pages are waiting to be weighed than there is room for", Remedy: "try again when some of them are done", RetryIn: 30})
	}
	id, err := r.records.AddWeighing(ctx, a.Site.Name, a.Page, by)
	if err != nil {
		<-r.waiting
		return 0, err
	}
	r.panics.Go(&r.all, "weigh a page", func() {
		defer func() { <-r.waiting }()
		r.run(id, a)
	})
	return id, nil
}

func (r *Runner) run(id int64, a Ask) {
	ctx, cancel := context.WithCancel(r.ctx)
	defer cancel()
	var mu sync.Mutex
	done, of, doing := 0, 0, "waiting for its turn"
	told := make(chan struct{})
	var telling sync.WaitGroup
	r.panics.Go(&telling, "tell of a weigh-in", func() { // every second, also while nothing changes: a node that says nothing is taken to have ended
		tick := time.NewTicker(500 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-told:
				return
			case <-tick.C:
			}
			mu.Lock()
			d, o, what := done, of, doing
			mu.Unlock()
			running, err := r.records.TellWeighing(r.ctx, id, d, o, what)
			if err == nil && !running {
				cancel()
				return
			}
		}
	})
	var outcome *Outcome
	var err error
	select {
	case r.turn <- struct{}{}:
		limited, end := context.WithTimeout(ctx, longest)
		caught := r.panics.Run("weigh a page", func() error {
			outcome, err = r.weigher.Weigh(limited, a, func(d, o int, what string) {
				mu.Lock()
				done, of, doing = d, o, what
				mu.Unlock()
			})
			return nil
		})
		if caught != nil {
			err = errors.New("the service met something that it wasn't made for")
		}
		if limited.Err() == context.DeadlineExceeded {
			err = errors.New("the page took more than five minutes to weigh")
		}
		end()
		<-r.turn
	case <-ctx.Done():
		err = ctx.Err()
	}
	close(told)
	telling.Wait()
	var data []byte
	trouble := ""
	if err == nil {
		data, err = json.Marshal(outcome)
	}
	if err != nil {
		trouble = err.Error()
		if r.ctx.Err() != nil {
			trouble = "the service was stopped"
		}
	}
	writing, end := context.WithTimeout(context.WithoutCancel(r.ctx), 5*time.Second)
	defer end()
	if err := r.records.EndWeighing(writing, id, data, trouble); err != nil {
		r.log.Error("a weigh-in can't be written down", "error", err)
	}
}
