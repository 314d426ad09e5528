package weighing

import (
	"context"
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto/cdp"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/cdproto/runtime"
	"github.com/chromedp/chromedp"
)

const (
	scriptTime = 8 * time.Second // Browsers.Busy, where that is 0
	againTime  = time.Second     // the same, once one was ended
	askEvery   = time.Second
)

// clearTimersScript stops what begins again by itself.
const clearTimersScript = `(() => { for (let n = setTimeout(() => {}); n > 0; n--) clearTimeout(n) })()`

// watch keeps a tab from standing still, until it is stopped: it ends scripts that keep it busy for too long.
type watch struct {
	ended atomic.Int32 // scripts
	stop  func()
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
		for patience := b.busy; ctx.Err() == nil; {
			script := "0"
			if w.ended.Load() > 1 {
				script = clearTimersScript
			}
			asked, done := context.WithTimeout(ctx, patience)
			_, err := chromedp.Run(asked, chromedp.Evaluate[any](script))
			done()
			if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
				chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
					_, err := chromedp.Call(ctx, runtime.TerminateExecution, cdp.Empty{})
					return err
				}))
				w.ended.Add(1)
				patience = min(patience, againTime)
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
