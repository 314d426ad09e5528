package guard

import (
	"errors"
	"io"
	"io/fs"
	"log/slog"
	"testing"
	"testing/synctest"
	"time"
)

func guardOf(budget time.Duration) *Guard {
	return New(Options{Name: "thing", Budget: budget, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Words: "it fails"})
}

func TestWhatFailsIsLeftAloneForAWhile(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		defer time.Sleep(2 * idleTime) // what has nothing to do ends
		g, asked := guardOf(time.Second), 0
		work := func(err error) func() (int, error) {
			return func() (int, error) { asked++; return 7, err }
		}
		for range 20 {
			Do(g, "read", work(fs.ErrNotExist), nil) // which is an answer
		}
		if v, err := Do(g, "read", work(nil), nil); v != 7 || err != nil {
			t.Fatalf("%d, %v", v, err)
		}
		asked = 0
		broken := errors.New("broken")
		for range 20 {
			if _, err := Do(g, "read", work(broken), nil); err == nil {
				t.Fatal("a failure is lost")
			}
		}
		if s := g.State(); asked != mostFailures || !s.Resting || s.Failures != mostFailures || s.Last != "read: broken" {
			t.Errorf("asked %d times, %+v", asked, s)
		}
		time.Sleep(rest + time.Second)
		if _, err := Do(g, "read", work(broken), nil); !errors.Is(err, broken) {
			t.Errorf("after a while: %v", err)
		}
		if _, err := Do(g, "read", work(nil), nil); !errors.Is(err, ErrResting) {
			t.Errorf("right after that: %v", err)
		}
		time.Sleep(rest + time.Second)
		if v, err := Do(g, "read", work(nil), nil); v != 7 || err != nil || g.State().Resting {
			t.Errorf("once it works: %d, %v", v, err)
		}
	})
}

func TestWhatIsSlowIsWaitedForWithinTheBudgetOnly(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		defer time.Sleep(2 * idleTime) // what has nothing to do ends
		g := guardOf(time.Second)
		dropped := make(chan int, 1)
		begun := time.Now()
		_, err := Do(g, "read", func() (int, error) { time.Sleep(time.Minute); return 3, nil }, func(v int) { dropped <- v })
		if took := time.Since(begun); !errors.Is(err, ErrSlow) || took > 1100*time.Millisecond {
			t.Errorf("%v after %v", err, took)
		}
		if v := <-dropped; v != 3 {
			t.Errorf("%d came late", v)
		}
		// What hangs for ever is waited for by a bounded number.
		hold := make(chan struct{})
		for range 3 * mostAtOnce {
			go Do(g, "read", func() (int, error) { <-hold; return 0, nil }, nil)
		}
		time.Sleep(2 * time.Second)
		if n := g.waiting.Load(); n > mostAtOnce {
			t.Errorf("%d wait", n)
		}
		close(hold)
	})
}

func TestAPanicIsAFailure(t *testing.T) {
	if _, err := Do(guardOf(0), "read", func() (int, error) { panic("no") }, nil); err == nil {
		t.Error("a panic is no failure")
	}
}
