package jobs

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"github.com/riverqueue/river"
	"github.com/riverqueue/river/rivertype"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/records"
)

// Maker makes variants.
type Maker interface {
	// Warm has there be a variant for a request, behind all that visitors wait for. made says that there was none yet.
	Warm(ctx context.Context, uri, accept string) (bytes int, made bool, no *policy.Refusal)
}

// A warming is worked on in turns of a few seconds, each a job, so that jobs are spread over nodes, and one that a node left
// with its end is soon begun again. Where each stands is in the records alone.

const (
	warmQueue = "warm"
	turns     = 4                // jobs of one warming at a time
	turnTime  = 15 * time.Second // after which a job makes way for others
	together  = 16               // variants of a source that are asked for at once, so that they're made together
)

// warmArgs are a turn.
type warmArgs struct {
	Warming int64 `json:"warming"`
	Turn    int   `json:"turn"` // 0 to turns-1
}

func (warmArgs) Kind() string { return "warm" }

// InsertOpts: of a warming's turn there is one job that isn't done.
func (warmArgs) InsertOpts() river.InsertOpts {
	return river.InsertOpts{Queue: warmQueue, UniqueOpts: river.UniqueOpts{ByArgs: true, ByState: []rivertype.JobState{
		rivertype.JobStateAvailable, rivertype.JobStatePending, rivertype.JobStateRunning, rivertype.JobStateRetryable, rivertype.JobStateScheduled,
	}}}
}

type warmWorker struct {
	river.WorkerDefaults[warmArgs]
	jobs *Jobs
}

// Tell has this node look for what is to be done. It doesn't block.
func (j *Jobs) Tell() {
	select {
	case j.told <- struct{}{}:
	default:
	}
}

// lookForWarmings has turns of all warmings that run be there.
func (j *Jobs) lookForWarmings(ctx context.Context) {
	if !j.o.Ready() {
		return
	}
	ids, err := j.o.Store.RunningWarmings(ctx)
	if err != nil {
		return
	}
	var all []river.InsertManyParams
	for _, id := range ids {
		for turn := range turns {
			all = append(all, river.InsertManyParams{Args: warmArgs{id, turn}})
		}
	}
	if len(all) > 0 {
		if _, err := j.client.InsertMany(ctx, all); err != nil && ctx.Err() == nil {
			j.o.Log.Warn("warmings wait for the database", "error", err)
		}
	}
}

// recordTime is how long the records may take for what a node that ends has to write down.
const recordTime = 3 * time.Second

// Work does one turn.
func (w *warmWorker) Work(ctx context.Context, job *river.Job[warmArgs]) error {
	j, id := w.jobs, job.Args.Warming
	warming, err := j.o.Store.Warming(ctx, "", id)
	if err == records.ErrNoWarming {
		return nil
	}
	if err != nil {
		return err
	}
	for end := time.Now().Add(turnTime); time.Now().Before(end); {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		// What is taken is known to be, and what is ended is written down, also where the node ends meanwhile: else nobody would go on
		// with it until it is found out that this node has left it.
		taking, cancel := context.WithTimeout(context.WithoutCancel(ctx), recordTime)
		item, ok, err := j.o.Store.TakeWarmItem(taking, id)
		cancel()
		if err != nil {
			return err
		}
		if !ok {
			return nil
		}
		out := j.warm(ctx, warming, item)
		if ctx.Err() != nil { // the node ends, or the turn has taken too long: another goes on with it
			giving, cancel := context.WithTimeout(context.WithoutCancel(ctx), recordTime)
			defer cancel()
			j.o.Store.GiveBackWarmItem(giving, id, item.N)
			return ctx.Err()
		}
		ending, cancel := context.WithTimeout(context.WithoutCancel(ctx), recordTime)
		err = j.o.Store.EndWarmItem(ending, id, item.N, out)
		cancel()
		if err != nil {
			return err
		}
	}
	// Others have their turn; then this one goes on. While it isn't done, another of it can't be put in.
	time.AfterFunc(200*time.Millisecond, j.Tell)
	return nil
}

// warm makes all variants of one source.
func (j *Jobs) warm(ctx context.Context, w records.Warming, item records.WarmItem) (out records.Warmed) {
	queries := item.Queries
	if queries == "" {
		queries = w.Queries
	}
	var mu sync.Mutex
	var all sync.WaitGroup
	room := make(chan struct{}, together)
	for query := range strings.SplitSeq(queries, "\n") {
		for accept := range strings.SplitSeq(w.Accepts, "\n") {
			room <- struct{}{}
			all.Go(func() {
				defer func() { <-room }()
				uri := item.Source
				if query != "" {
					uri += "?" + query
				}
				n, made, no := j.warmOne(ctx, uri, accept)
				mu.Lock()
				defer mu.Unlock()
				switch {
				case no != nil:
					out.LeftOut++
					if out.Trouble == "" {
						out.Trouble = fmt.Sprintf("%s: %s", no.Reason, wording.Cut(no.Detail, 200))
					}
				case made:
					out.Made++
					out.Bytes += int64(n)
				default:
					out.Kept++
				}
			})
		}
	}
	all.Wait()
	return out
}

// warmOne makes one variant. A busy service is waited for: visitors go first.
func (j *Jobs) warmOne(ctx context.Context, uri, accept string) (bytes int, made bool, no *policy.Refusal) {
	for {
		bytes, made, no = j.o.Maker.Warm(ctx, uri, accept)
		if no == nil || no.Reason != policy.ReasonBusy || ctx.Err() != nil {
			return bytes, made, no
		}
		select {
		case <-ctx.Done():
			return bytes, made, no
		case <-time.After(time.Duration(max(no.RetryIn, 1)) * time.Second):
		}
	}
}

var _ river.Worker[warmArgs] = (*warmWorker)(nil)
