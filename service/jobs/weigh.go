package jobs

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"echolane/core/policy"
	"echolane/service/records"
	"echolane/service/weighing"
)

// Weigher weighs pages.
type Weigher interface {
	Weigh(ctx context.Context, a weighing.Ask, progress weighing.Progress) (*weighing.Outcome, error)
}

// A weigh-in is a job for each node that it is given to: one that ends gives it back, or is found to have ended, and another
// begins it anew. What was asked, where it stands and what it comes to are in the records.

const (
	weighQueue  = "weigh"
	weighAtOnce = 1 // pages that a node weighs: each has a browser of its own
	weighLimit  = 8 * time.Minute
	weighTold   = 500 * time.Millisecond // how often a node says how far it is, also while nothing changes
)

// weighArgs are a node's turn at a weigh-in.
type weighArgs struct {
	Weighing int64 `json:"weighing"`
	Turn     int   `json:"turn"`
}

func (weighArgs) Kind() string { return "weigh" }

// InsertOpts: of a turn there is one job.
func (weighArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: weighQueue, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable, rivertype.JobStateScheduled,
	}}}
}

type weighWorker struct {
	river.WorkerDefaults[weighArgs]
	jobs *Jobs
}

// Timeout is a little longer than a weigh-in may take, so that this one is what ends it.
func (*weighWorker) Timeout(*river.Job[weighArgs]) time.Duration { return weighLimit + 30*time.Second }

// Weigh has a page be weighed by one of the nodes, and gives the weigh-in's number.
func (j *Jobs) Weigh(ctx context.Context, a weighing.Ask, by string) (int64, error) {
	ask, err := pack(a)
	if err != nil {
		return 0, err
	}
	id, err := j.o.Store.AddWeighing(ctx, a.Site.Name, a.Page, by, ask)
	if errors.Is(err, records.ErrManyWeighings) {
		return 0, policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: err.Error(), Remedy: "try again when some of them are done", RetryIn: 30})
	}
	if err == nil {
		j.Tell()
	}
	return id, err
}

func pack(a weighing.Ask) ([]byte, error) {
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if err := json.NewEncoder(z).Encode(a); err != nil {
		return nil, fmt.Errorf("write a weigh-in's question: %w", err)
	}
	err := z.Close()
	return b.Bytes(), err
}

func unpack(data []byte) (a weighing.Ask, err error) {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err == nil {
		err = json.NewDecoder(z).Decode(&a)
	}
	return a, err
}

// lookForWeighings has a job be there for each weigh-in that waits for a node. Of a site's, the first come before others' second.
func (j *Jobs) lookForWeighings(ctx context.Context) {
	if !j.o.Ready() {
		return
	}
	list, err := j.o.Store.WaitingWeighings(ctx)
	if err != nil {
		return
	}
	var all []river.InsertManyParams
	for _, w := range list {
		all = append(all, river.InsertManyParams{Args: weighArgs{w.ID, w.Turn}, InsertOpts: &river.InsertOpts{Priority: 1 + min(w.Ahead, 3)}})
	}
	if len(all) > 0 {
		if _, err := j.client.InsertMany(ctx, all); err != nil && ctx.Err() == nil {
			j.o.Log.Warn("weigh-ins wait for the database", "error", err)
		}
	}
}

// Work weighs one page.
func (w *weighWorker) Work(ctx context.Context, job *river.Job[weighArgs]) error {
	j, id, turn := w.jobs, job.Args.Weighing, job.Args.Turn
	name, packed, ok, err := j.o.Store.TakeWeighing(ctx, id, turn)
	if err != nil || !ok {
		return err
	}
	ask, err := unpack(packed)
	if ask.Site = j.o.Sites(name); err == nil && ask.Site == nil {
		err = fmt.Errorf("site %s isn't there any more", name)
	}
	var outcome *weighing.Outcome
	if err == nil {
		outcome, err = j.weigh(ctx, id, turn, ask)
	}
	if ctx.Err() != nil { // this node ends: another begins anew
		giving, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		next, err := j.o.Store.LeaveWeighing(giving, id, turn)
		if err == nil && next > 0 {
			_, err = j.client.Insert(giving, weighArgs{id, next}, nil)
		}
		return err
	}
	var data []byte
	trouble := ""
	if err == nil {
		data, err = json.Marshal(outcome)
	}
	if err != nil {
		trouble = err.Error()
	}
	return j.o.Store.EndWeighing(ctx, id, turn, data, trouble)
}

// weigh weighs a page and tells how far it is, until it is done, somebody stops it, or it takes too long.
func (j *Jobs) weigh(ctx context.Context, id int64, turn int, ask weighing.Ask) (outcome *weighing.Outcome, err error) {
	limited, cancel := context.WithTimeout(ctx, weighLimit)
	defer cancel()
	var mu sync.Mutex
	done, of, doing := 0, 0, "beginning"
	ended := make(chan struct{})
	var telling sync.WaitGroup
	j.o.Panics.Go(&telling, "tell of a weigh-in", func() {
		tick := time.NewTicker(weighTold)
		defer tick.Stop()
		for {
			select {
			case <-ended:
				return
			case <-tick.C:
			}
			mu.Lock()
			d, o, what := done, of, doing
			mu.Unlock()
			saying, end := context.WithTimeout(limited, 2*time.Second)
			running, err := j.o.Store.TellWeighing(saying, id, turn, d, o, what)
			end()
			if err == nil && !running {
				cancel()
				return
			}
		}
	})
	if caught := j.o.Panics.Run("weigh a page", func() error {
		outcome, err = j.o.Weigher.Weigh(limited, ask, func(d, o int, what string) {
			mu.Lock()
			done, of, doing = d, o, what
			mu.Unlock()
		})
		return nil
	}); caught != nil {
		err = errors.New("the service met something that it wasn't made for")
	}
	if limited.Err() == context.DeadlineExceeded {
		err = errors.New("the page took more than eight minutes to weigh")
	}
	close(ended)
	telling.Wait()
	return outcome, err
}

var _ river.Worker[weighArgs] = (*weighWorker)(nil)
