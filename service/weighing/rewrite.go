package weighing

import (
	"context"
	"errors"
	"fmt"
	"time"

	"echolane/core/weighin"
)

// rewrite writes the page as planned and weighs it. What weighs more or fails to load after all is taken back, until nothing does.
func (w *Weigher) rewrite(ctx context.Context, b *browser, p *proxy, a *Ask, kind string, plan *plan, before *weighin.Report, progress Progress) (*Fixed, *weighin.Report, error) {
	again := func(fixed *Fixed) (*weighin.Report, error) {
		b.overlay[a.Page] = file{kind, fixed.HTML}
		after, err := w.views(ctx, b, p, a, progress)
		if err != nil {
			return nil, fmt.Errorf("weigh the page again: %w", err)
		}
		return after, nil
	}
	for round := 0; ; round++ {
		fixed := plan.write(false)
		if fixed.Changed == 0 {
			return fixed, before, nil
		}
		after, err := again(fixed)
		if err != nil {
			return nil, nil, err
		}
		// First answers may weigh more than what is kept, and a busy service may answer late: what visitors get has the time to come.
		if round == 0 && w.refined(ctx, p, a, after, progress) {
			if after, err = again(fixed); err != nil {
				return nil, nil, err
			}
		}
		if !plan.takeBack(before, after, round == mostRounds-1) {
			return plan.write(true), after, nil
		}
	}
}

// refined waits until each of the site's own pictures on the page is there and no first answer any more, or for as long as that is
// waited for. It reports whether it waited for any.
func (w *Weigher) refined(ctx context.Context, p *proxy, a *Ask, r *weighin.Report, progress Progress) bool {
	awaited := map[string]bool{}
	for i := range r.Views {
		for _, x := range r.Views[i].Pictures {
			if _, own := a.own(x.URL); own && (w.isFirst(x.Cache) || x.Failed != "" || x.NaturalW == 0) {
				awaited[x.URL] = true
			}
		}
	}
	if len(awaited) == 0 {
		return false
	}
	all, until := len(awaited), time.Now().Add(refineTime)
	for len(awaited) > 0 && time.Now().Before(until) && ctx.Err() == nil {
		progress(all-len(awaited), all, "waiting for the pictures that are searched for")
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
		for u := range awaited {
			_, header, err := p.get(ctx, u, mostBody)
			var no answeredError
			switch {
			case err == nil && w.isFirst(header.Get("Cache-Control")):
			case err != nil && (!errors.As(err, &no) || no.busy()):
			default: // it's there, or won't be
				delete(awaited, u)
			}
		}
	}
	return true
}
