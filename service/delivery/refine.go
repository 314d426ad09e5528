package delivery

import (
	"context"
	"sync"
	"sync/atomic"

	"echolane/core/render"
	"echolane/service/records"
	"echolane/service/variants"
)

// The first answer doesn't wait for the search for a quality: it takes the setting that the picture is thought to
// need, says that it's worth keeping for a few seconds only, and the searched variant takes its place. One at a time,
// so that requests keep the other workers; what there's no room to put off is searched at once.

const (
	refinementsWaiting = 256
	refinementBytes    = 256 << 20 // of sources that wait
)

// provisional is the Cache-Control of an answer that another will follow.
var provisional = []byte("public, max-age=5")

// a refinement is a variant that is still to be searched for.
type refinement struct {
	key    string
	source []byte
	job    render.Job
	record records.Variant
	first  *variants.Variant
}

type refiner struct {
	waiting chan refinement
	bytes   atomic.Int64
	ctx     context.Context
	cancel  context.CancelFunc
	ended   sync.WaitGroup
}

// refine starts the one goroutine that does it; Close ends it.
func (s *Service) refine() {
	s.refiner.waiting = make(chan refinement, refinementsWaiting)
	s.refiner.ctx, s.refiner.cancel = context.WithCancel(context.Background())
	s.refiner.ended.Go(func() {
		for {
			select {
			case <-s.refiner.ctx.Done():
				return
			case f := <-s.refiner.waiting:
				s.search(f)
			}
		}
	})
}

// Close ends what goes on beside requests. Variants that were still to be searched for stay as they are.
func (s *Service) Close() {
	s.refiner.cancel()
	s.refiner.ended.Wait()
}

// later reports whether a variant of a source of so many bytes may be searched for later.
func (s *Service) later(n int) bool {
	return !s.SearchAtOnce && len(s.refiner.waiting) < refinementsWaiting && s.refiner.bytes.Load()+int64(n) <= refinementBytes
}

// putOff has a variant searched for; where that turns out not to be possible, the one that's there is as good as it
// gets until it is made anew.
func (s *Service) putOff(f refinement) {
	s.refiner.bytes.Add(int64(len(f.source)))
	select {
	case s.refiner.waiting <- f:
	default:
		s.refiner.bytes.Add(-int64(len(f.source)))
		s.Journal.Add(f.record)
	}
}

func (s *Service) search(f refinement) {
	defer s.refiner.bytes.Add(-int64(len(f.source)))
	defer func() { s.Journal.Add(f.record) }()
	f.job.Predict = false
	result, err := s.Renderer.Render(s.refiner.ctx, f.source, f.job)
	if err != nil {
		if s.refiner.ctx.Err() == nil {
			s.Log.Warn("a variant stays as it was predicted", "lane", f.record.Lane, "path", f.record.Path, "error", err)
		}
		return
	}
	v := *f.first
	v.Body, v.ETag, v.Type, v.Encoding, v.Provisional = result.Data, variants.ETagOf(result.Data), result.Format.MediaType(), &result.How, false
	f.record.Bytes, f.record.Format = len(v.Body), result.Format.String()
	s.Cache.Replace(f.key, &v)
}
