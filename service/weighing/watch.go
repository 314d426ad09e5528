package weighing

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto"
	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

const (
	scriptTime = 8 * time.Second // Browsers.Busy, where that is 0
	againTime  = time.Second     // the same, once one was ended
	askEvery   = time.Second

	ownTime  = 20 * time.Second // that what we ask of a page may take, with what the page does meanwhile
	ownTries = 3                // how often it is asked, where the watch ended it
)

// clearTimersScript stops what begins again by itself.
const clearTimersScript = `(() => { for (let n = setTimeout(() => {}); n > 0; n--) clearTimeout(n) })()`

// watch keeps a tab from standing still, until it is stopped: it ends scripts that keep it busy for too long.
type watch struct {
	ended atomic.Int32 // scripts of the page
	own   atomic.Bool  // one of ours was ended, and is run again
	stop  func()
}

// patience is how long a script may keep the tab busy.
func (w *watch) patience(usual time.Duration) time.Duration {
	switch {
	case w.own.Load():
		return ownTime / 2
	case w.ended.Load() > 0:
		return min(usual, againTime)
	}
	return usual
}

// evaluate runs a script of ours on a page that is watched. The watch can't know whose script keeps the tab busy: where it ended
// ours, that is run again, with more time.
func evaluate[T any](ctx context.Context, w *watch, script string, options ...chromedp.EvaluateOption) (out T, err error) {
	for range ownTries {
		before := w.ended.Load()
		limited, cancel := context.WithTimeout(ctx, ownTime)
		out, err = chromedp.Run(limited, chromedp.Evaluate[T](script, options...))
		cancel()
		var broke *cdproto.Error
		if !errors.As(err, &broke) || w.ended.Load() == before {
			break
		}
		w.ended.Add(-1)
		w.own.Store(true)
	}
	w.own.Store(false)
	return out, err
}

// answerDialogs closes what a page asks whoever sees it: nothing of the page goes on before that.
func (b *browser) answerDialogs(ctx context.Context) error {
	var all sync.WaitGroup // they end with the tab
	return chromedp.Listen(ctx, func(ev any) {
		if _, ok := ev.(*page.EventJavascriptDialogOpening); ok {
			b.panics.Go(&all, "close a page's dialog", func() {
				chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
					_, err := chromedp.Call(ctx, page.HandleJavaScriptDialog, page.HandleJavaScriptDialogParams{Accept: true})
					return err
				}))
			})
		}
	})
}

// watchScripts begins a watch of a tab. Stop it before the tab is closed.
func (b *browser) watchScripts(ctx context.Context) *watch {
	w := &watch{}
	ctx, cancel := context.WithCancel(ctx)
	var all sync.WaitGroup
	w.stop = sync.OnceFunc(func() { cancel(); all.Wait() })
	b.panics.Go(&all, "watch a page's scripts", func() {
		for ctx.Err() == nil {
			script := "0"
			if w.ended.Load() > 1 {
				script = clearTimersScript
			}
			asked, done := context.WithTimeout(ctx, w.patience(b.busy))
			_, err := chromedp.Run(asked, chromedp.Evaluate[any](script))
			done()
			if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
				w.ended.Add(1)
				chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
					_, err := chromedp.Call(ctx, runtime.TerminateExecution, cdp.Empty{})
					return err
				}))
				continue
			}
			select {
			case <-time.After(askEvery):
			case <-ctx.Done():
			}
		}
	})
	return w
}
