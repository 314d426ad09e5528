package flight

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"echolane/service/panics"
)

func waitFor(t *testing.T, what string, ok func() bool) {
	t.Helper()
	for end := time.Now().Add(10 * time.Second); !ok(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			t.Fatal(what)
		}
	}
}

func (g *Group[V]) waiters(key string) int {
	g.mu.Lock()
	defer g.mu.Unlock()
	if f := g.flights[key]; f != nil {
		return f.waiting
	}
	return 0
}

func TestEqualWorkIsDoneOnce(t *testing.T) {
	var g Group[int]
	var ran atomic.Int64
	hold := make(chan struct{})
	var all sync.WaitGroup
	var joins atomic.Int64
	for range 20 {
		all.Go(func() {
			v, joined, err := g.Do(context.Background(), "k", func(context.Context) (int, error) { ran.Add(1); <-hold; return 7, nil })
			if v != 7 || err != nil {
				t.Errorf("%d, %v", v, err)
			}
			if joined {
				joins.Add(1)
			}
		})
	}
	waitFor(t, "not all wait", func() bool { return g.waiters("k") == 20 })
	close(hold)
	all.Wait()
	if ran.Load() != 1 || joins.Load() != 19 || g.Len() != 0 {
		t.Errorf("ran %d times, %d joined, %d left", ran.Load(), joins.Load(), g.Len())
	}
}

func TestTheFirstMayLeaveAndTheLastEndsIt(t *testing.T) {
	var g Group[int]
	ended := make(chan error, 1)
	hold := make(chan struct{})
	work := func(ctx context.Context) (int, error) {
		select {
		case <-ctx.Done():
			ended <- ctx.Err()
			return 0, ctx.Err()
		case <-hold:
			return 1, nil
		}
	}
	first, leave := context.WithCancel(context.Background())
	second, leaveToo := context.WithCancel(context.Background())
	got := make(chan error, 2)
	go func() { _, _, err := g.Do(first, "k", work); got <- err }()
	waitFor(t, "the first waits", func() bool { return g.waiters("k") == 1 })
	go func() { _, _, err := g.Do(second, "k", work); got <- err }()
	waitFor(t, "both wait", func() bool { return g.waiters("k") == 2 })
	leave()
	if err := <-got; !errors.Is(err, context.Canceled) {
		t.Errorf("the first: %v", err)
	}
	select {
	case err := <-ended:
		t.Fatalf("the work ended with the first: %v", err)
	default:
	}
	leaveToo()
	if err := <-ended; !errors.Is(err, context.Canceled) {
		t.Errorf("the work: %v", err)
	}
	<-got
	if v, joined, err := g.Do(context.Background(), "k", func(context.Context) (int, error) { return 2, nil }); v != 2 || joined || err != nil {
		t.Errorf("after it: %d %v %v", v, joined, err)
	}
	close(hold)
}

func TestFailuresPanicsAndDeadlinesAreEverybodys(t *testing.T) {
	caught := &panics.Catcher{}
	g := Group[int]{Limit: 20 * time.Millisecond, Panics: caught}
	oh := errors.New("oh")
	if _, _, err := g.Do(context.Background(), "a", func(context.Context) (int, error) { return 0, oh }); err != oh {
		t.Errorf("%v", err)
	}
	var p *panics.Error
	if _, _, err := g.Do(context.Background(), "b", func(context.Context) (int, error) { panic("oh") }); !errors.As(err, &p) || caught.Count() != 1 {
		t.Errorf("%v", err)
	}
	if _, _, err := g.Do(context.Background(), "c", func(ctx context.Context) (int, error) { <-ctx.Done(); return 0, ctx.Err() }); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("%v", err)
	}
	gone, leave := context.WithCancel(context.Background())
	leave()
	if _, _, err := g.Do(gone, "d", func(context.Context) (int, error) { t.Error("begun for nobody"); return 0, nil }); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}
