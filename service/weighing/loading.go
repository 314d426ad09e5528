package weighing

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"echolane/core/weighin"
)

// line is a connection that Chromium emulates.
type line struct {
	name     string
	latency  time.Duration // of a request
	down, up float64       // bytes a second
	narrow   bool          // it is tried on the narrowest screen, otherwise on the widest
}

// Chromium adds latency to each request, where a network adds it to each round trip. Its own preset for slow 4G therefore has 3.75
// round trips of 150 ms, and 90 % of 1.6 and 0.75 Mbit/s. Cable is 5 and 1 Mbit/s with a round trip of 28 ms.
var throttled = []line{
	{"Slow 4G", 562500 * time.Microsecond, 0.9 * 1.6e6 / 8, 0.9 * 0.75e6 / 8, true},
	{"cable", 28 * time.Millisecond, 5e6 / 8, 1e6 / 8, false},
}

const (
	loadCut   = 12 * time.Second // when a load is cut off
	frameWide = 240              // device pixels
	frameHigh = 320

	// MostLoads is how often a page is loaded over one line, at most.
	MostLoads = 9
)

// loads opens the page over each throttled line as often as is asked for, over all lines at once.
func (w *Weigher) loads(ctx context.Context, b *browser, p *proxy, a *Ask, what string, progress Progress) ([]weighin.Loading, error) {
	if a.Loads == 0 {
		return nil, nil
	}
	p.stand(b.overlay)
	defer p.stand(nil)
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	out, failed := make([]weighin.Loading, len(throttled)), make([]error, len(throttled))
	var done atomic.Int64
	progress(0, len(throttled)*a.Loads, "loading "+what+" over throttled lines")
	var all sync.WaitGroup
	for n, l := range throttled {
		w.Panics.Go(&all, "load a page over a throttled line", func() {
			out[n], failed[n] = b.loadAgain(ctx, a, l, func() {
				progress(int(done.Add(1)), len(throttled)*a.Loads, "loading "+what+" over throttled lines")
			})
			if failed[n] != nil {
				cancel()
			}
		})
	}
	all.Wait()
	for _, err := range failed {
		if err != nil && !errors.Is(err, context.Canceled) {
			return nil, err
		}
	}
	return out, errors.Join(failed...)
}

// loadAgain opens the page over a line as often as is asked for. Once most loads were cut off, the medians are known.
func (b *browser) loadAgain(ctx context.Context, a *Ask, l line, did func()) (weighin.Loading, error) {
	screen := slices.MinFunc(a.Screens, func(x, y Screen) int {
		if l.narrow {
			return x.Width - y.Width
		}
		return y.Width - x.Width
	})
	var all []weighin.Load
	for cut := 0; len(all) < a.Loads && 2*cut <= a.Loads; did() {
		load, err := b.load(ctx, a.Page, screen, l)
		if ctx.Err() != nil {
			return weighin.Loading{}, ctx.Err()
		}
		if err != nil {
			return weighin.Loading{}, fmt.Errorf("load the page over %s: %w", l.name, err)
		}
		if load.Cut {
			cut++
		}
		all = append(all, load)
	}
	return weighin.Summarize(l.name, screen.Name, int(loadCut.Milliseconds()), all), nil
}

// seenFrame is one picture of a screencast.
type seenFrame struct {
	at   float64 // seconds since 1970
	data []byte
}

// load opens the page once over a line, without a cache, and watches it until all has come.
func (b *browser) load(parent context.Context, address string, s Screen, l line) (weighin.Load, error) {
	return inTab(b, func(ctx context.Context, t *traffic) (weighin.Load, error) {
		return b.loadIn(ctx, t, parent, address, s, l)
	})
}

func (b *browser) loadIn(ctx context.Context, t *traffic, parent context.Context, address string, s Screen, l line) (out weighin.Load, err error) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	defer context.AfterFunc(parent, cancel)()
	var mu sync.Mutex
	var frames []seenFrame
	acks := make(chan int64, 256)
	if err := chromedp.Listen(ctx, func(ev any) {
		if e, ok := ev.(*page.EventScreencastFrame); ok {
			mu.Lock()
			if e.Metadata != nil && len(frames) < 400 {
				frames = append(frames, seenFrame{e.Metadata.Timestamp.Float64(), e.Data})
			}
			mu.Unlock()
			select {
			case acks <- e.SessionID:
			default:
			}
		}
	}); err != nil {
		return out, err
	}
	call := func(do func(ctx context.Context) error) error {
		return chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error { return do(ctx) }))
	}
	quality := int64(70)
	if err := call(func(ctx context.Context) error {
		if _, err := chromedp.Call(ctx, network.Enable, network.EnableParams{}); err != nil {
			return err
		}
		if _, err := chromedp.Call(ctx, network.EmulateNetworkConditionsByRule, network.EmulateNetworkConditionsByRuleParams{
			MatchedNetworkConditions: []*network.Conditions{{Latency: float64(l.latency) / 1e6, DownloadThroughput: l.down, UploadThroughput: l.up}},
		}); err != nil {
			return err
		}
		if _, err := chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: observeScript}); err != nil {
			return err
		}
		if _, err := chromedp.Call(ctx, emulation.SetDeviceMetricsOverride, emulation.SetDeviceMetricsOverrideParams{
			Width: int64(s.Width), Height: int64(s.Height), DeviceScaleFactor: s.Density, Mobile: s.Width < 600,
		}); err != nil {
			return err
		}
		_, err := chromedp.Call(ctx, page.StartScreencast, page.StartScreencastParams{Format: "jpeg", Quality: &quality, MaxWidth: frameWide, MaxHeight: frameHigh, EveryNthFrame: 1})
		return err
	}); err != nil {
		return out, err
	}
	var acking sync.WaitGroup
	b.panics.Go(&acking, "watch a page load", func() {
		for {
			select {
			case id := <-acks:
				if call(func(ctx context.Context) error {
					_, err := chromedp.Call(ctx, page.ScreencastFrameAck, page.ScreencastFrameAckParams{SessionID: id})
					return err
				}) != nil {
					return
				}
			case <-ctx.Done():
				return
			}
		}
	})
	defer acking.Wait()
	defer cancel()
	stop, err := b.stand(ctx, t, &l)
	if err == nil {
		err = b.answerDialogs(ctx)
	}
	if err != nil {
		return out, err
	}
	defer stop()
	loading, cease := context.WithTimeout(ctx, loadCut)
	defer cease()
	if err := chromedp.Do(loading, chromedp.Navigate(address)); err != nil && !(errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil) {
		return out, err
	}
	for loading.Err() == nil && !t.quiet(b.quiet) {
		select {
		case <-time.After(50 * time.Millisecond):
		case <-loading.Done():
		}
	}
	out.Cut = loading.Err() != nil
	watch := b.watchScripts(ctx)
	defer watch.stop()
	if !out.Cut { // what has come is painted soon, but on a busy machine not at once
		if _, err := evaluate[bool](ctx, watch, paintedScript, chromedp.EvalAwaitPromise); err != nil && ctx.Err() != nil {
			return out, err
		}
	}
	seen, err := evaluate[struct {
		Origin    float64 `json:"origin"`
		FirstMS   float64 `json:"first_ms"` // first contentful paint
		ContentMS float64 `json:"content_ms"`
		Awaited   bool    `json:"awaited"` // a picture of the first screen hasn't come
		Shift     float64 `json:"shift"`
	}](ctx, watch, `(() => ({ origin: performance.timeOrigin, first_ms: performance.getEntriesByName("first-contentful-paint")[0]?.startTime ?? 1e9, content_ms: globalThis.__laneSeen?.content_ms ?? 0, awaited: [...document.images].some((e) => !e.complete && e.getBoundingClientRect().top < innerHeight), shift: globalThis.__laneSeen?.shift ?? 0 }))()`)
	if err != nil {
		if out.Cut && ctx.Err() == nil { // nothing of the page has come
			return out, nil
		}
		return out, err
	}
	out.Cut = out.Cut || watch.ended.Load() > 0
	if out.ContentMS, out.Shift = seen.ContentMS, seen.Shift; out.Cut && seen.Awaited {
		out.ContentMS = 0 // the largest paint so far may not be the page's
	}
	t.mu.Lock()
	for _, a := range t.order {
		if a.image && a.finished && a.failed == "" {
			out.ImageBytes += int64(math.Max(a.bytes, float64(len(b.overlay[a.url].data))))
			out.LastImageMS = math.Max(out.LastImageMS, a.ended*1000-seen.Origin)
		}
	}
	t.mu.Unlock()
	mu.Lock()
	defer mu.Unlock()
	out.Frames = framesAt(frames, seen.Origin/1000, seen.FirstMS/1000)
	return out, nil
}

// paintSlack is how much sooner than its first paint is noted a page may be seen, seconds.
const paintSlack = 0.05

// framesAt picks what was seen at each of the marks of a page that was asked for at origin and painted its first content at first
// seconds after that. What was seen before is blank.
func framesAt(frames []seenFrame, origin, first float64) []weighin.Frame {
	out := make([]weighin.Frame, len(weighin.Marks))
	for i, mark := range weighin.Marks {
		out[i].AtMS = mark
		for _, f := range frames {
			if f.at >= origin+first-paintSlack && f.at <= origin+float64(mark)/1000 {
				out[i].Data = f.data
			}
		}
	}
	return out
}

// sharedLine delays what is answered in the network's place as the line would.
type sharedLine struct {
	*line
	mu   sync.Mutex
	free time.Time // when what was sent before has come
}

// wait is until when n bytes have come that are asked for now.
func (s *sharedLine) wait(n int, now time.Time) time.Duration {
	s.mu.Lock()
	defer s.mu.Unlock()
	from := now.Add(s.latency)
	if s.free.After(from) {
		from = s.free
	}
	s.free = from.Add(time.Duration(float64(n) / s.down * 1e9))
	return s.free.Sub(now)
}
