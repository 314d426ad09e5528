package workshop

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"echolane/core/policy"
	"echolane/core/render"
)

// asked is one of many jobs of a source.
type asked struct {
	job    render.Job
	cancel context.CancelFunc
	result render.Result
	err    error
}

// ask has many jobs of a source wait while the only worker is held, and gives it free when all wait.
func ask(t *testing.T, w *Workshop, data []byte, queries []string, meanwhile func([]*asked)) []*asked {
	t.Helper()
	release := hold(t, w)
	var all []*asked
	var wait sync.WaitGroup
	for i, q := range queries {
		a := &asked{job: job(t, q)}
		a.job.Predict = true
		var ctx context.Context
		ctx, a.cancel = context.WithCancel(With(context.Background(), Visitor, "kestrel", fmt.Sprint("client", i%3)))
		t.Cleanup(a.cancel)
		whom := From(ctx).Takes(a.job.Estimate(nil, int64(len(data))))
		whom.Group = "the same"
		all = append(all, a)
		before := w.Waiting()
		wait.Go(func() { a.result, _, a.err = w.Render(ctx, whom, bring(data), a.job) })
		for w.Waiting() == before {
			time.Sleep(time.Millisecond)
		}
	}
	release()
	if meanwhile != nil {
		meanwhile(all)
	}
	wait.Wait()
	return all
}

func underWay(w *Workshop) *worker {
	for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(time.Millisecond) {
		w.mu.Lock()
		for one := range w.running {
			w.mu.Unlock()
			return one
		}
		w.mu.Unlock()
	}
	return nil
}

func TestJobsOfOneSourceAreDoneTogether(t *testing.T) {
	w := workshop(t, Options{Workers: 1, Wait: time.Minute})
	data := picture(t, 500, 400)
	queries := []string{"width=90&format=webp", "width=90&format=jpeg", "width=200&format=webp", "width=64&aspect-ratio=1&format=png", "xywh=9000,0,5,5&format=png", "width=300&format=jpeg"}
	for i, a := range ask(t, w, data, queries, nil) {
		want, err := render.Variant(data, a.job)
		if i == 4 {
			var no *policy.Refusal
			if !errors.As(a.err, &no) || no.Reason != policy.ReasonNothingLeft {
				t.Errorf("%s: %v", queries[i], a.err)
			}
			continue
		}
		if a.err != nil || err != nil || !bytes.Equal(a.result.Data, want.Data) || len(a.result.Stages) == 0 {
			t.Errorf("%s: %v, %d bytes, want %d, %v", queries[i], a.err, len(a.result.Data), len(want.Data), err)
		}
	}
	c := w.renders
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.running != 0 || c.taken != 0 || c.line.all() != 0 || len(c.idle) != 1 || c.idle[0].done != len(queries) {
		t.Errorf("%d jobs run, %d bytes are taken, %d wait, %d workers are idle", c.running, c.taken, c.line.all(), len(c.idle))
	}
	for _, k := range c.line.kinds.clocks {
		if k.running != 0 || k.waiting != 0 {
			t.Errorf("%+v", k)
		}
	}
}

func TestWhoLeavesTakesNobodyAlong(t *testing.T) {
	w := workshop(t, Options{Workers: 1, Wait: time.Minute})
	all := ask(t, w, blank(t, 3000, 3000), []string{"width=900&format=webp", "width=200&format=webp", "width=300&format=jpeg"}, func(all []*asked) {
		underWay(w)
		all[0].cancel() // whose turn it was
	})
	for i, a := range all[1:] {
		if a.err != nil || len(a.result.Data) == 0 {
			t.Errorf("%d: %v", i+1, a.err)
		}
	}
	// When all have left, the worker ends.
	begin := time.Now()
	for _, a := range ask(t, w, blank(t, 6000, 6000), []string{"width=2900&format=png", "width=2800&format=png"}, func(all []*asked) {
		underWay(w)
		for _, a := range all {
			a.cancel()
		}
	}) {
		if !errors.Is(a.err, context.Canceled) {
			t.Errorf("%v after %v", a.err, time.Since(begin))
		}
	}
	if w.Lost() != 0 {
		t.Errorf("%d were lost", w.Lost())
	}
}

func TestWhenAWorkerDiesOverManyEachIsMadeAlone(t *testing.T) {
	w := workshop(t, Options{Workers: 1, Wait: time.Minute})
	for _, a := range ask(t, w, blank(t, 2500, 2500), []string{"width=900&format=webp", "width=200&format=webp", "width=300&format=jpeg"}, func([]*asked) {
		if one := underWay(w); one != nil {
			one.kill()
		}
	}) {
		if a.err != nil || len(a.result.Data) == 0 {
			t.Error(a.err)
		}
	}
	if w.Lost() != 1 {
		t.Errorf("%d were lost", w.Lost())
	}
}

func TestWhatGoesAlongIsOfOneSourceSiteAndKind(t *testing.T) {
	l := &line{}
	p := &place{For: For{Site: "a", Client: "1", Group: "g"}, seconds: 1}
	l.join(p)
	for i := range 40 {
		l.join(&place{For: For{Site: "a", Client: fmt.Sprint(i), Group: "g"}, seconds: 0.01})
	}
	l.join(&place{For: For{Site: "a", Client: "1", Group: "other"}, seconds: 0.01})
	l.join(&place{For: For{Site: "b", Client: "1", Group: "g"}, seconds: 0.01})
	l.join(&place{For: For{Site: "a", Client: "1", Group: "g", Kind: Ahead}, seconds: 0.01})
	l.start(p)
	all := l.together(p, 4)
	if len(all) != mostAlong {
		t.Errorf("%d go along", len(all))
	}
	if few := l.together(p, 1.055); len(few) != 5 {
		t.Errorf("%d go along for 55 ms", len(few))
	}
	for _, q := range all {
		if q.Site != "a" || q.Group != "g" || q.Kind != Visitor {
			t.Errorf("%+v", q.For)
		}
	}
}
