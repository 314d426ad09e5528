package weighing

import (
	"context"
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
		// First answers may weigh more than what is kept: that has the time to come, and is what visitors get.
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

// refined waits until none of the page's pictures is a first answer any more, or for as long as that is waited for. It reports whether
// there were any.
func (w *Weigher) refined(ctx context.Context, p *proxy, a *Ask, r *weighin.Report, progress Progress) bool {
	first := map[string]bool{}
	for i := range r.Views {
		for _, x := range r.Views[i].Pictures {
			if _, own := a.own(x.URL); own && w.isFirst(x.Cache) {
				first[x.URL] = true
			}
		}
	}
	if len(first) == 0 {
		return false
	}
	all, until := len(first), time.Now().Add(refineTime)
	for len(first) > 0 && time.Now().Before(until) && ctx.Err() == nil {
		progress(all-len(first), all, "waiting for the pictures that are searched for")
		select {
		case <-time.After(time.Second):
		case <-ctx.Done():
		}
		for u := range first {
			if _, header, err := p.get(ctx, u, mostBody); err != nil || !w.isFirst(header.Get("Cache-Control")) {
				delete(first, u)
			}
		}
	}
	return true
}
