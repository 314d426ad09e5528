package weighing

import (
	"context"
	_ "embed"
	"errors"
	"fmt"
	"math"
	"os/exec"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/cdproto/fetch"
	"github.com/chromedp/cdproto/network"
	"github.com/chromedp/cdproto/page"
	"github.com/chromedp/chromedp"

	"echolane/core/weighin"
	"echolane/core/wording"
	"echolane/service/panics"
)

var (
	//go:embed measure.js
	measureScript string
	//go:embed sizing.js
	sizingScript string
	//go:embed observe.js
	observeScript string
)

// Screen is one that a page is weighed on.
type Screen struct {
	Name    string  `json:"name"`
	Width   int     `json:"width"`   // CSS pixels
	Height  int     `json:"height"`  // CSS pixels
	Density float64 `json:"density"` // device pixels to one of CSS
}

// Screens are those that pages are weighed on where no others are named.
var Screens = []Screen{{"phone", 390, 844, 3}, {"tablet", 820, 1180, 2}, {"desktop", 1440, 900, 1}}

// bounds on what one page may take.
const (
	loadTime   = 25 * time.Second // until its load event, or what has come by then is weighed
	quietTime  = 500 * time.Millisecond
	settleTime = 6 * time.Second
	mostScroll = 40 // screens
	mostBody   = 64 << 20
	mostHeld   = 192 << 20 // of all pictures of a page
)

// Chromium finds the browser, "" where there is none. The one that can't open windows comes first, by its program: it shows
// pages alike in a third of the time, and Debian's command for it stays behind where it is ended.
func Chromium() string {
	for _, name := range []string{"/usr/lib/chromium/chromium-headless-shell", "chromium", "chromium-browser"} {
		if path, err := exec.LookPath(name); err == nil {
			return path
		}
	}
	return ""
}

// browser is one Chromium that sees the network through a proxy alone.
type browser struct {
	ctx     context.Context
	close   []func()
	overlay map[string]file // by URL, instead of what the network has
	held    int64           // bytes of pictures that were brought
	quiet   time.Duration
	busy    time.Duration
	panics  *panics.Catcher
}

type file struct {
	kind string
	data []byte
}

func (b *browser) stop() {
	for i := len(b.close) - 1; i >= 0; i-- {
		b.close[i]()
	}
}

// found is what measure.js gives.
type found struct {
	Title     string  `json:"title"`
	Base      string  `json:"base"`
	Height    int     `json:"height"`
	Truncated bool    `json:"truncated"`
	Load      float64 `json:"load"`
	Images    []struct {
		Kind     string  `json:"kind"`
		URL      string  `json:"url"`
		Chars    int64   `json:"chars"` // of the address
		Element  string  `json:"element"`
		Key      string  `json:"key"`
		Nth      int     `json:"nth"`
		X        float64 `json:"x"`
		Y        float64 `json:"y"`
		W        float64 `json:"w"`
		H        float64 `json:"h"`
		NaturalW int     `json:"natural_w"`
		NaturalH int     `json:"natural_h"`
		Fit      string  `json:"fit"`
		Position string  `json:"position"`
		Src      string  `json:"src"`
		Srcset   string  `json:"srcset"`
		Sizes    string  `json:"sizes"`
		Alt      *string `json:"alt"`
		Lazy     bool    `json:"lazy"`
		Visible  bool    `json:"visible"`
	} `json:"images"`
	Lane *struct {
		ContentMS  float64            `json:"content_ms"`
		Content    string             `json:"content"`
		ContentURL string             `json:"content_url"`
		Shift      float64            `json:"shift"`
		Shifts     map[string]float64 `json:"shifts"`
	} `json:"lane"`
}

type sized struct {
	Sized  bool   `json:"sized"`
	Sizing string `json:"sizing"`
}

// seen is a view with what isn't told of it.
type seen struct {
	view   weighin.View
	bodies map[string][]byte // of pictures, by URL
	notes  []string
	base   string
	title  string
}

// look opens the page on a screen. bodies that are in have needn't be brought again.
func (b *browser) look(address string, s Screen, have map[string]bool) (*seen, error) {
	return inTab(b, func(ctx context.Context, t *traffic) (*seen, error) { return b.lookIn(ctx, t, address, s, have) })
}

func (b *browser) lookIn(ctx context.Context, t *traffic, address string, s Screen, have map[string]bool) (*seen, error) {
	if err := b.answerDialogs(ctx); err != nil {
		return nil, err
	}
	call := func(do func(ctx context.Context) error) error {
		return chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error { return do(ctx) }))
	}
	err := call(func(ctx context.Context) error {
		large := int64(256 << 20)
		most := int64(mostBody)
		if _, err := chromedp.Call(ctx, network.Enable, network.EnableParams{MaxTotalBufferSize: &large, MaxResourceBufferSize: &most}); err != nil {
			return err
		}
		if _, err := chromedp.Call(ctx, network.SetCacheDisabled, network.SetCacheDisabledParams{CacheDisabled: true}); err != nil {
			return err
		}
		if _, err := chromedp.Call(ctx, page.AddScriptToEvaluateOnNewDocument, page.AddScriptToEvaluateOnNewDocumentParams{Source: observeScript}); err != nil {
			return err
		}
		_, err := chromedp.Call(ctx, emulation.SetDeviceMetricsOverride, emulation.SetDeviceMetricsOverrideParams{
			Width: int64(s.Width), Height: int64(s.Height), DeviceScaleFactor: s.Density, Mobile: s.Width < 600,
		})
		return err
	})
	if err != nil {
		return nil, err
	}
	stop, err := b.stand(ctx, t, nil)
	if err != nil {
		return nil, err
	}
	defer stop()
	watch := b.watchScripts(ctx)
	defer watch.stop()
	out := &seen{view: weighin.View{Name: s.Name, Width: s.Width, Height: s.Height, Density: s.Density}, bodies: map[string][]byte{}}
	loading, cease := context.WithTimeout(ctx, loadTime)
	answer, err := chromedp.Run(loading, chromedp.NavigateResponse(address))
	cease()
	switch {
	case err != nil && errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil:
		out.notes = append(out.notes, fmt.Sprintf("on the %s the page didn't finish loading within %v: what had come by then was weighed", s.Name, loadTime))
	case err != nil:
		return nil, err
	case answer != nil && answer.Status >= 400:
		return nil, fmt.Errorf("the page answered %d", answer.Status)
	}
	settle := func() {
		until := time.Now().Add(settleTime)
		for time.Now().Before(until) && !t.quiet(b.quiet) && ctx.Err() == nil {
			time.Sleep(50 * time.Millisecond)
		}
	}
	settle()
	// What is seen first is painted before anything moves: scrolling ends the watch for the largest paint.
	if _, err := evaluate[bool](ctx, watch, paintedScript, chromedp.EvalAwaitPromise); err != nil {
		return nil, err
	}
	first, err := evaluate[found](ctx, watch, measureScript)
	if err != nil {
		return nil, err
	}
	for i := 1; i <= mostScroll && i*s.Height < first.Height+s.Height; i++ { // what comes with scrolling, comes
		if _, err := evaluate[bool](ctx, watch, fmt.Sprintf(scrolledScript, i*s.Height), chromedp.EvalAwaitPromise); err != nil {
			return nil, err
		}
	}
	settle()
	if _, err := evaluate[bool](ctx, watch, "scrollTo({top: 0, behavior: 'instant'}), true"); err != nil {
		return nil, err
	}
	all, err := evaluate[found](ctx, watch, measureScript)
	if err != nil {
		return nil, err
	}
	t.close() // what follows has the browser look for sources again
	out.view.ShotHeight = min(max(all.Height, s.Height), mostShotHigh)
	out.view.ShotData = shoot(ctx, s, out.view.ShotHeight)
	sizes, err := evaluate[[]sized](ctx, watch, sizingScript)
	if err != nil {
		out.notes = append(out.notes, "on the "+s.Name+" it couldn't be tried which pictures make the page jump")
	}
	watch.stop()
	if watch.ended.Load() > 0 {
		out.notes = append(out.notes, fmt.Sprintf("on the %s a script of the page didn't end within %v: it was stopped, and what had come by then was weighed", s.Name, b.busy))
	}
	t.mu.Lock()
	for _, a := range t.order { // what was put in the network's place weighs what it has
		if f, ok := b.overlay[a.url]; ok && a.bytes < float64(len(f.data)) {
			a.bytes = float64(len(f.data))
		}
	}
	t.mu.Unlock()
	out.take(all, sizes, t, s)
	out.view.LoadMS = all.Load
	// The pictures' bytes, to make them to fit.
	for _, a := range t.order {
		if !a.image || !a.finished || a.failed != "" || have[a.url] || out.bodies[a.url] != nil || a.bytes > mostBody {
			continue
		}
		if b.held += int64(a.bytes); b.held > mostHeld {
			out.notes = append(out.notes, fmt.Sprintf("the pictures on the %s have more bytes than are held to be made anew: the rest count as they are", s.Name))
			break
		}
		call(func(ctx context.Context) error {
			body, err := chromedp.Call(ctx, network.GetResponseBody, network.GetResponseBodyParams{RequestID: a.id})
			if err == nil {
				out.bodies[a.url] = body.Body
			}
			return nil
		})
	}
	return out, ctx.Err()
}

const (
	shotWide     = 720              // device pixels, at most
	shotArea     = 1600000          // device pixels, at most
	mostShotHigh = 9000             // CSS pixels
	shotTime     = 20 * time.Second // a busy machine paints late
)

// shoot takes a picture of the page down to a height in CSS pixels; nil where that can't be had.
func shoot(ctx context.Context, s Screen, high int) []byte {
	ctx, cancel := context.WithTimeout(ctx, shotTime)
	defer cancel()
	quality, beyond := int64(65), true
	scale := math.Min(1, shotWide/float64(s.Width))
	scale = math.Min(scale, math.Sqrt(shotArea/(float64(s.Width)*float64(high))))
	var data []byte
	chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		shot, err := chromedp.Call(ctx, page.CaptureScreenshot, page.CaptureScreenshotParams{
			Format: "jpeg", Quality: &quality, CaptureBeyondViewport: &beyond, Clip: &page.Viewport{Width: float64(s.Width), Height: float64(high), Scale: scale / s.Density},
		})
		if err == nil {
			data = shot.Data
		}
		return err
	}))
	return data
}

// stand answers, in a tab, the requests that files stand for, until it is stopped. Over a line, plain HTTP is left to the proxy, so that
// the browser throttles it as it does everything else.
func (b *browser) stand(ctx context.Context, t *traffic, over *line) (stop func(), err error) {
	call := func(do func(ctx context.Context) error) error {
		return chromedp.Do(ctx, chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error { return do(ctx) }))
	}
	var patterns []*fetch.RequestPattern
	for u := range b.overlay {
		if over != nil && strings.HasPrefix(u, "http://") {
			continue
		}
		patterns = append(patterns, &fetch.RequestPattern{URLPattern: strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`).Replace(u)})
	}
	if len(patterns) == 0 {
		return func() {}, nil
	}
	var shared *sharedLine
	if over != nil {
		shared = &sharedLine{line: over}
	}
	if err := call(func(ctx context.Context) error {
		_, err := chromedp.Call(ctx, fetch.Enable, fetch.EnableParams{Patterns: patterns})
		return err
	}); err != nil {
		return nil, err
	}
	ended, end := context.WithCancel(ctx)
	var serving sync.WaitGroup
	serving.Go(func() {
		for {
			select {
			case e := <-t.paused:
				answer := func() {
					b.panics.Run("answer a page's request", func() error { return call(func(ctx context.Context) error { return b.fulfil(ctx, e) }) })
				}
				if shared == nil {
					answer()
					continue
				}
				wait := shared.wait(len(b.overlay[e.Request.URL].data), time.Now())
				serving.Go(func() {
					select {
					case <-time.After(wait):
						answer()
					case <-ended.Done():
					}
				})
			case <-ended.Done():
				return
			}
		}
	})
	return func() { end(); serving.Wait() }, nil
}

// paintedScript waits until what is on the first screen is decoded and the largest of it painted: on a busy machine that takes a while.
const paintedScript = `(async () => {
  const wait = (ms) => new Promise((r) => setTimeout(r, ms));
  const area = (e) => {
    const r = e.getBoundingClientRect();
    const w = Math.min(r.right, innerWidth) - Math.max(r.left, 0);
    const h = Math.min(r.bottom, innerHeight) - Math.max(r.top, 0);
    return w > 0 && h > 0 ? Math.min(w * h, e.naturalWidth * e.naturalHeight) : 0;
  };
  const seen = [...document.images].filter((e) => e.complete && e.naturalWidth && area(e)).slice(0, 50);
  await Promise.race([Promise.all(seen.map((e) => e.decode().catch(() => 0))), wait(12000)]);
  const largest = Math.max(0, ...seen.map(area));
  const end = Date.now() + 3000;
  do {
    await Promise.race([new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))), wait(1000)]);
    await wait(250);
  } while (globalThis.__laneSeen?.content_area < 0.9 * largest && Date.now() < end);
  return true;
})()`

// scrolledScript scrolls to a number of CSS pixels and waits until what that brings into view has been asked for.
const scrolledScript = `(async () => {
  const wait = (ms) => new Promise((r) => setTimeout(r, ms));
  scrollTo({top: %d, behavior: "instant"});
  await Promise.race([new Promise((r) => requestAnimationFrame(() => requestAnimationFrame(r))), wait(2000)]);
  const entered = (e) => e.loading === "lazy" && !e.currentSrc && e.getBoundingClientRect().width && e.getBoundingClientRect().top < innerHeight && e.getBoundingClientRect().bottom > 0;
  const end = Date.now() + 3000;
  do await wait(120);
  while ([...document.images].some(entered) && Date.now() < end);
  return true;
})()`

func (b *browser) fulfil(ctx context.Context, e *fetch.EventRequestPaused) error {
	f, ok := b.overlay[e.Request.URL]
	if !ok {
		_, err := chromedp.Call(ctx, fetch.ContinueRequest, fetch.ContinueRequestParams{RequestID: e.RequestID})
		return err
	}
	_, err := chromedp.Call(ctx, fetch.FulfillRequest, fetch.FulfillRequestParams{
		RequestID: e.RequestID, ResponseCode: 200, Body: f.data, ResponseHeaders: []*fetch.HeaderEntry{{Name: "Content-Type", Value: f.kind}},
	})
	return err
}

// take makes a view of what was found.
func (s *seen) take(f found, sizes []sized, t *traffic, screen Screen) {
	t.mu.Lock()
	defer t.mu.Unlock()
	v := &s.view
	s.base = f.Base
	v.PageHeight = f.Height
	s.title = f.Title
	if f.Truncated {
		s.notes = append(s.notes, "the page has more elements than are looked at")
	}
	loaded := map[string]*asked{}
	for _, a := range t.order {
		v.Requests++
		v.Bytes += int64(a.bytes)
		if had := loaded[a.url]; had == nil || had.failed != "" {
			loaded[a.url] = a
		}
	}
	if f.Lane != nil {
		v.ContentMS, v.Content, v.ContentURL, v.Shift = f.Lane.ContentMS, f.Lane.Content, f.Lane.ContentURL, f.Lane.Shift
		for name, score := range f.Lane.Shifts {
			v.Shifts = append(v.Shifts, weighin.Shift{Element: name, Score: score})
		}
		sort.Slice(v.Shifts, func(i, j int) bool { return v.Shifts[i].Score > v.Shifts[j].Score })
	}
	img := -1
	for _, i := range f.Images {
		tag := i.Kind == "img" || i.Kind == "picture"
		if tag {
			img++
		}
		if !i.Visible && i.URL == "" {
			continue
		}
		p := weighin.Picture{
			URL: i.URL, Kind: i.Kind, Element: i.Element, Alt: i.Alt, X: i.X, Y: i.Y, W: i.W, H: i.H, NaturalW: i.NaturalW, NaturalH: i.NaturalH,
			Fit: i.Fit, Position: i.Position, Srcset: i.Srcset, Sizes: i.Sizes, Src: i.Src, Lazy: i.Lazy, Sized: true,
			Key: i.Key, Nth: i.Nth,
			Above: i.Visible && i.Y < float64(screen.Height) && i.Y+i.H > 0, Inline: strings.HasPrefix(i.URL, "data:"),
		}
		p.First = v.ContentURL != "" && p.URL == v.ContentURL
		if tag && img < len(sizes) {
			p.Sized, p.Sizing = sizes[img].Sized, sizes[img].Sizing
		}
		switch a := loaded[p.URL]; {
		case p.Inline:
			p.URL, p.Bytes = shortened(i.URL), i.Chars
			p.Type, _, _ = strings.Cut(strings.TrimPrefix(i.URL, "data:"), ";")
		case a == nil:
			if p.URL != "" && !p.Lazy {
				p.Failed = "the browser never asked for it"
			}
		case a.failed != "":
			p.Failed = a.failed
		case a.status >= 400:
			p.Failed, p.Bytes = fmt.Sprintf("it answered %d", a.status), int64(a.bytes)
		default:
			p.Bytes, p.Type, p.Cache = int64(a.bytes), a.kind, a.cache
		}
		v.Pictures = append(v.Pictures, p)
	}
	v.Name = screen.Name
}

// shortened is an inline picture's address without its data.
func shortened(u string) string {
	return wording.Cut(u, 64)
}
