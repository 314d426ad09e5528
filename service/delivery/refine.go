package delivery

import (
	"context"
	"errors"
	"sync"
	"time"

	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/cache"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

// The first answer doesn't wait for the search for a quality: it takes the setting that the picture is thought to
// need, says that it's worth keeping for a few seconds only, and the searched variant takes its place. What waits for its search
// holds no bytes: sources are opened again when its turn comes, and the first answer lies in memory. One that there is no room for,
// or that a stop cuts off, isn't lost: its first answer stays provisional, and whoever asks for that next has it searched for.
// Of nodes that share a store one searches, and the others hear of it.

const (
	mostRefinements = 4096 // that wait; beyond, the last of the site with the most goes
	refiners        = 4    // that are worked on at a time; the workshop says how many have a worker
	refinePause     = time.Second
	mostFailures    = 3 // after which the first answer is kept as it is
)

// A refinement is a variant that is still to be searched for.
type refinement struct {
	key      string
	sources  []*source.Located
	job      render.Job
	record   records.Variant
	first    cache.Variant // the first answer, without its bytes
	failures int
}

// A refiner holds refinements. Sites take turns.
type refiner struct {
	mu      sync.Mutex
	bySite  map[string][]*refinement
	order   []string        // of sites that have some, by whose turn it is
	known   map[string]bool // keys of those that wait or are worked on
	waiting int
	dropped int64         // that had no room, or failed
	more    chan struct{} // says that there may be some
	ended   sync.WaitGroup
}

// refine starts what works on refinements; Close ends it.
func (s *Service) refine() {
	r := &s.refiner
	r.bySite, r.known, r.more = map[string][]*refinement{}, map[string]bool{}, make(chan struct{}, refiners)
	for range refiners {
		r.ended.Go(func() {
			for s.base.Err() == nil {
				f := r.take()
				if f == nil {
					select {
					case <-s.base.Done():
					case <-r.more:
					}
					continue
				}
				if err := s.Panics.Run("search for a variant's quality", func() error { s.search(f); return nil }); err != nil {
					s.failed(f, err)
				}
			}
		})
	}
}

// pending reports whether a variant is to be searched for, or is being.
func (r *refiner) pending(key string) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.known[key]
}

// put has a variant searched for, unless it is to be already, or there's no room.
func (r *refiner) put(f *refinement) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known[f.key] {
		return
	}
	if r.waiting >= mostRefinements {
		most := f.record.Site
		for site, list := range r.bySite {
			if len(list) > len(r.bySite[most]) {
				most = site
			}
		}
		list := r.bySite[most]
		r.dropped++
		if most == f.record.Site || len(list) == 0 {
			return
		}
		last := list[len(list)-1]
		r.bySite[most] = list[:len(list)-1]
		delete(r.known, last.key)
		r.waiting--
	}
	r.known[f.key] = true
	r.add(f)
}

// again has one that was worked on wait once more.
func (r *refiner) again(f *refinement) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.add(f)
}

// add puts one into the line of its site. r.mu is held.
func (r *refiner) add(f *refinement) {
	site := f.record.Site
	if len(r.bySite[site]) == 0 {
		r.order = append(r.order, site)
	}
	r.bySite[site] = append(r.bySite[site], f)
	r.waiting++
	select {
	case r.more <- struct{}{}:
	default:
	}
}

// take gives the one whose turn it is; nil: none waits.
func (r *refiner) take() *refinement {
	r.mu.Lock()
	defer r.mu.Unlock()
	for len(r.order) > 0 {
		site := r.order[0]
		r.order = r.order[1:]
		list := r.bySite[site]
		if len(list) == 0 { // it had to make room
			delete(r.bySite, site)
			continue
		}
		f := list[0]
		if list = list[1:]; len(list) > 0 {
			r.bySite[site] = list
			r.order = append(r.order, site)
		} else {
			delete(r.bySite, site)
		}
		r.waiting--
		return f
	}
	return nil
}

// done forgets one that was worked on.
func (r *refiner) done(f *refinement) {
	r.mu.Lock()
	defer r.mu.Unlock()
	delete(r.known, f.key)
}

// Refinements tells how many variants wait to be searched for, and how many were given up: for want of room, until they are asked for
// again, or since their search failed.
func (s *Service) Refinements() (waiting int, dropped int64) {
	s.refiner.mu.Lock()
	defer s.refiner.mu.Unlock()
	return s.refiner.waiting, s.refiner.dropped
}

// later reports whether variants are searched for after they were answered.
func (s *Service) later() bool { return !s.SearchAtOnce }

// putOff has a variant searched for.
func (s *Service) putOff(f refinement, first *cache.Variant) {
	f.first = *first
	f.first.Body = nil
	f.job.Predict = false
	s.refiner.put(&f)
}

// settle keeps a variant as it was predicted.
func (s *Service) settle(f *refinement) {
	if kept, ok := s.Cache.InMemory(f.key, 0); ok && kept.Provisional {
		v := *kept
		v.Provisional, v.MadeAt = false, time.Now().Unix()
		s.Cache.Replace(f.key, &v, nil)
		s.Recorder.Made(f.record)
	}
}

// failed has a refinement tried once more, or its first answer kept.
func (s *Service) failed(f *refinement, err error) {
	if f.failures++; f.failures < mostFailures {
		s.pause()
		s.refiner.again(f)
		return
	}
	s.refiner.done(f)
	s.refiner.mu.Lock()
	s.refiner.dropped++
	s.refiner.mu.Unlock()
	s.Log.Warn("a variant stays as it was predicted", "lane", f.record.Lane, "path", f.record.Path, "error", err)
	s.settle(f)
}

func (s *Service) pause() {
	select {
	case <-time.After(refinePause):
	case <-s.base.Done():
	}
}

func (s *Service) search(f *refinement) {
	release := func() {}
	if s.Peers != nil {
		var lead bool
		if release, lead = s.Peers.TryLead(s.base, "refine/"+f.key); !lead { // another node does it, and says so when it's done
			s.refiner.done(f)
			return
		}
	}
	kept := false
	defer func() {
		if !kept {
			release()
		}
	}()
	result, err := s.render(workshop.With(s.base, workshop.Refinement, f.record.Site, ""), f.sources, f.job)
	var no *policy.Refusal
	switch {
	case errors.Is(err, held.ErrChanged), errors.Is(err, context.Canceled): // what is asked for from now on is another variant; or it ends
		s.refiner.done(f)
		s.Recorder.Made(f.record)
		return
	case errors.As(err, &no) && no.Reason == policy.ReasonBusy: // which is no failure
		s.pause()
		s.refiner.again(f)
		return
	case err != nil:
		s.failed(f, err)
		return
	}
	v := f.first
	v.Body, v.ETag, v.Type, v.Encoding, v.Provisional = result.Data, cache.ETagOf(result.Data), result.Format.MediaType(), &result.How, false
	v.MadeAt = time.Now().Unix()
	f.record.Bytes, f.record.Format = len(v.Body), result.Format.String()
	kept = true
	s.Cache.Replace(f.key, &v, func() {
		if s.Peers != nil {
			s.Peers.Refined(f.key)
		}
		release()
	})
	s.refiner.done(f)
	s.Recorder.Made(f.record)
}
