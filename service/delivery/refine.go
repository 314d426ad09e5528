package delivery

import (
	"context"
	"errors"
	"sync"
	"time"

	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/variants"
	"echolane/service/workshop"
)

// The first answer doesn't wait for the search for a quality: it takes the setting that the picture is thought to
// need, says that it's worth keeping for a few seconds only, and the searched variant takes its place. One at a time,
// so that requests keep the other workers; what there's no room to put off is searched at once. What waits holds no bytes:
// its sources are opened again when its turn comes.

const (
	mostRefinements = 256
	refineTries     = 20 // of a refinement that finds no worker, before what is there stays
	refinePause     = time.Second
)

// a refinement is a variant that is still to be searched for.
type refinement struct {
	key     string
	sources []*source.Located
	job     render.Job
	record  records.Variant
	first   *variants.Variant
}

type refiner struct {
	waiting chan refinement
	ended   sync.WaitGroup
}

// refine starts the one goroutine that does it; Close ends it.
func (s *Service) refine() {
	s.refiner.waiting = make(chan refinement, mostRefinements)
	s.refiner.ended.Go(func() {
		for {
			select {
			case <-s.base.Done():
				return
			case f := <-s.refiner.waiting:
				s.Panics.Run("search for a variant's quality", func() error { s.search(f); return nil })
			}
		}
	})
}

// later reports whether a variant may be searched for later.
func (s *Service) later() bool {
	return !s.SearchAtOnce && len(s.refiner.waiting) < mostRefinements
}

// putOff has a variant searched for; where that turns out not to be possible, the one that's there is as good as it
// gets until it is made anew.
func (s *Service) putOff(f refinement) {
	select {
	case s.refiner.waiting <- f:
	default:
		s.settle(f)
	}
}

// settle keeps a variant as it was predicted.
func (s *Service) settle(f refinement) {
	v := *f.first
	v.Provisional = false
	s.Cache.Replace(f.key, &v)
	s.Recorder.Made(f.record)
}

func (s *Service) search(f refinement) {
	f.job.Predict = false
	var result render.Result
	var err error
	for range refineTries {
		result, err = s.render(workshop.With(s.base, workshop.Refinement, f.record.Site, ""), f.sources, f.job)
		var no *policy.Refusal
		if !errors.As(err, &no) || no.Reason != policy.ReasonBusy || s.base.Err() != nil {
			break
		}
		select {
		case <-time.After(refinePause):
		case <-s.base.Done():
		}
	}
	switch {
	case errors.Is(err, source.ErrChanged): // what is asked for from now on is another variant
		s.Recorder.Made(f.record)
		return
	case errors.Is(err, context.Canceled):
		s.Recorder.Made(f.record)
		return
	case err != nil:
		s.Log.Warn("a variant stays as it was predicted", "lane", f.record.Lane, "path", f.record.Path, "error", err)
		s.settle(f)
		return
	}
	v := *f.first
	v.Body, v.ETag, v.Type, v.Encoding, v.Provisional = result.Data, variants.ETagOf(result.Data), result.Format.MediaType(), &result.How, false
	f.record.Bytes, f.record.Format = len(v.Body), result.Format.String()
	s.Cache.Replace(f.key, &v)
	s.Recorder.Made(f.record)
}
