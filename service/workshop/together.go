package workshop

import (
	"context"
	"errors"
	"os"
	"sync/atomic"
	"time"

	"echolane/core/policy"
	"echolane/service/source/held"
)

// together has a worker make p's variant and those that it takes along. told says that p's own came of it; otherwise it is made
// alone, as those are that nothing came of: then *one may have gone.
func (w *Workshop) together(ctx context.Context, p *place, one **worker, o message, contents []*held.Content, limit time.Duration) (own answer, told bool, err error) {
	worker := *one
	if !w.begin(worker) {
		return own, true, stopping()
	}
	var left atomic.Int64 // of those who wait
	left.Store(int64(1 + len(p.along)))
	leave := func() {
		if left.Add(-1) == 0 {
			worker.kill()
		}
	}
	stays := []func() bool{context.AfterFunc(ctx, leave)}
	for _, q := range p.along {
		o.More = append(o.More, *q.job)
		stays = append(stays, context.AfterFunc(q.ctx, leave))
	}
	err = worker.doMany(o, contents, limit, func(a answer) {
		err := error(nil)
		switch {
		case a.Changed:
			err = held.ErrChanged
		case a.Refusal != nil:
			err = policy.No(*a.Refusal)
		}
		if a.Index == 0 || a.Changed {
			own, told = a, true
		}
		for i, q := range p.along {
			if a.Index == i+1 || a.Changed {
				q.tell(outcome{answer: a, err: err})
			}
		}
	})
	for _, stay := range stays {
		stay()
	}
	w.ended(worker)
	if worker.done += 1 + len(p.along); err != nil || left.Load() == 0 || worker.worn() {
		worker.end()
		*one = nil
	}
	if err != nil {
		if left.Load() > 0 {
			w.lost.Add(1)
			if !errors.Is(err, os.ErrDeadlineExceeded) && !worker.killed() {
				w.starter.renew()
			}
			w.calls.note(worker.stderr.String())
			w.o.Log.Warn("a render worker was lost over several variants of a source, which are now made one by one", "error", err, "how", worker.ending(), "words", worker.stderr.String())
		} else {
			return own, true, context.Cause(ctx)
		}
	}
	switch {
	case !told:
		return own, false, nil
	case own.Changed:
		return own, true, held.ErrChanged
	case own.Refusal != nil:
		return own, true, policy.No(*own.Refusal)
	}
	return own, true, nil
}
