package weighing

import (
	"context"
	"errors"

	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"
)

// box is an <img>'s at one width of the viewport, CSS pixels.
type box struct {
	Key string  `json:"key"`
	Nth int     `json:"nth"`
	W   float64 `json:"w"`
	H   float64 `json:"h"`
}

const boxScript = `(() => {
  const counts = {};
  return [...document.images].slice(0, 1000).map((e) => {
    const key = globalThis.__laneKey(e);
    counts[key] = (counts[key] ?? 0) + 1;
    const s = getComputedStyle(e);
    const px = (n) => parseFloat(s[n]) || 0;
    const r = e.getBoundingClientRect();
    return { key, nth: counts[key] - 1, w: r.width - px("paddingLeft") - px("paddingRight") - px("borderLeftWidth") - px("borderRightWidth"), h: r.height - px("paddingTop") - px("paddingBottom") - px("borderTopWidth") - px("borderBottomWidth") };
  });
})()`

// boxes opens the page once and measures its pictures in viewports of many widths.
func (b *browser) boxes(address string, widths []int) (map[int][]box, error) {
	return inTab(b, func(ctx context.Context, t *traffic) (map[int][]box, error) {
		return b.boxesIn(ctx, t, address, widths)
	})
}

func (b *browser) boxesIn(ctx context.Context, t *traffic, address string, widths []int) (map[int][]box, error) {
	if err := b.answerDialogs(ctx); err != nil {
		return nil, err
	}
	end, err := b.stand(ctx, t, nil)
	if err != nil {
		return nil, err
	}
	defer end()
	resize := func(w int) error {
		return chromedp.Do(ctx, chromedp.EmulateViewport(int64(w), 900))
	}
	if err := chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: observeScript})
		return err
	})); err != nil {
		return nil, err
	}
	if err := resize(widths[0]); err != nil {
		return nil, err
	}
	watch := b.watchScripts(ctx)
	defer watch.stop()
	loading, stop := context.WithTimeout(ctx, loadTime)
	err = chromedp.Do(loading, chromedp.Navigate(address))
	stop()
	if err != nil && !(errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil) {
		return nil, err
	}
	// Lazy ones get their natural size by being loaded.
	if _, err := evaluate[bool](ctx, watch, `(async () => { for (const e of document.images) e.loading = "eager"; const end = Date.now() + 8000; while (Date.now() < end && [...document.images].some((e) => !e.complete)) await new Promise((r) => setTimeout(r, 50)); return true; })()`, chromedp.EvalAwaitPromise); err != nil {
		return nil, err
	}
	out := map[int][]box{}
	for _, w := range widths {
		if err := resize(w); err != nil {
			return nil, err
		}
		list, err := evaluate[[]box](ctx, watch, boxScript)
		if err != nil {
			return nil, err
		}
		out[w] = list
	}
	return out, ctx.Err()
}
