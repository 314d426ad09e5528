package weighing

import (
	"context"
	"errors"
	"strings"
	"sync/atomic"

	"github.com/chromedp/cdproto/inspector"
	"github.com/chromedp/chromedp"
)

// tabTries is how often a page is opened whose process ends.
const tabTries = 3

var errTabEnded = errors.New("the browser's process for the page ended each time: it crashed, or took more memory than there is")

// inTab does something in a tab of its own, and closes it. It is done again in another tab where the tab's process ends meanwhile:
// Chromium itself ends one now and then, while it changes from a page to the next. Where that comes early, all that is heard of it
// is that the page's opening was aborted, as that of a download is.
func inTab[T any](b *browser, do func(ctx context.Context, t *traffic) (T, error)) (out T, err error) {
	for range tabTries {
		var ended bool
		if out, ended, err = inOneTab(b, do); b.ctx.Err() != nil || !ended && !wasAborted(err) {
			return out, err
		}
		if ended {
			err = errTabEnded
		}
	}
	return out, err
}

// wasAborted reports whether Chromium gave up opening a page.
func wasAborted(err error) bool {
	return err != nil && strings.Contains(err.Error(), "net::ERR_ABORTED")
}

// inOneTab also reports whether the tab's process ended: its context is done from then on.
func inOneTab[T any](b *browser, do func(ctx context.Context, t *traffic) (T, error)) (out T, ended bool, err error) {
	ctx, closeTab := chromedp.NewContext(b.ctx, chromedp.WithNewBrowserContext())
	defer closeTab()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	t := newTraffic()
	var crashed atomic.Bool
	if err := chromedp.Listen(ctx, func(ev any) {
		if _, ok := ev.(*inspector.EventTargetCrashed); ok {
			crashed.Store(true)
			cancel()
			return
		}
		t.see(ev)
	}); err != nil {
		return out, false, err
	}
	out, err = do(ctx, t)
	return out, crashed.Load(), err
}
