package api

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"
)

func TestACostlyReadingIsDoneOnceForAMoment(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var r recent[int64]
		var reads atomic.Int64
		read := func(context.Context) (int64, error) { time.Sleep(time.Second); return reads.Add(1), nil }
		var all sync.WaitGroup
		for range 1000 {
			all.Go(func() {
				if v, err := r.do(t.Context(), "a", read); v != 1 || err != nil {
					t.Errorf("%d, %v", v, err)
				}
			})
		}
		all.Wait()
		if v, _ := r.do(t.Context(), "b", read); v != 2 {
			t.Errorf("another: %d", v)
		}
		time.Sleep(recentFor)
		if v, _ := r.do(t.Context(), "a", read); v != 3 {
			t.Errorf("after a while: %d", v)
		}
		if _, err := r.do(t.Context(), "c", func(context.Context) (int64, error) { return 0, errors.New("no") }); err == nil {
			t.Error("a failure is lost")
		}
		if v, err := r.do(t.Context(), "c", read); v != 4 || err != nil {
			t.Errorf("a failure is held: %d, %v", v, err)
		}
		for i := range 3 * mostRecent {
			r.do(t.Context(), fmt.Sprint(i), func(context.Context) (int64, error) { return 0, nil })
		}
		if len(r.held) > mostRecent {
			t.Errorf("%d are held", len(r.held))
		}
	})
}
