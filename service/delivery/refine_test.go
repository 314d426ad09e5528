package delivery

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"echolane/core/policy"
	"echolane/service/records"
)

func lasting(s *stand, uri string) bool {
	return strings.Contains(field(s.ask(uri), "Cache-Control"), "max-age=3600")
}

func TestRefinementsOfSitesTakeTurns(t *testing.T) {
	r := &refiner{bySite: map[string][]*refinement{}, known: map[string]bool{}, more: make(chan struct{}, 1)}
	put := func(site string, n int) *refinement {
		f := &refinement{key: fmt.Sprint(site, n), record: records.Variant{Site: site}}
		r.put(f)
		return f
	}
	for n := range mostRefinements {
		put("flooded", n)
	}
	put("flooded", mostRefinements)
	put("quiet", 0)
	put("quiet", 0) // it is there already
	if r.waiting != mostRefinements || r.pending(fmt.Sprint("flooded", mostRefinements)) || r.pending(fmt.Sprint("flooded", mostRefinements-1)) || !r.pending("quiet0") {
		t.Errorf("%d wait", r.waiting)
	}
	got := []string{r.take().key, r.take().key, r.take().key}
	if strings.Join(got, " ") != "flooded0 quiet0 flooded1" {
		t.Errorf("%v", got)
	}
	n := 3
	for r.take() != nil {
		n++
	}
	if n != mostRefinements || r.waiting != 0 || len(r.bySite) != 0 {
		t.Errorf("%d, %d left, %v", n, r.waiting, r.bySite)
	}
}

func TestARefinementThatWasCutOffIsBegunAgainByWhoAsks(t *testing.T) {
	s := newStand(t)
	s.shop.provisional = true
	s.shop.onlyFirst(policy.No(policy.Refusal{Reason: policy.ReasonBusy}))
	const uri = "/kestrel/f/kite.png?width=60"
	if got := field(s.ask(uri), "Cache-Control"); got != "public, max-age=5" {
		t.Fatal(got)
	}
	eventually(t, "it is tried", func() bool { return s.shop.renders.Load() >= 2 })
	// As if there had been no room for it.
	key := ""
	eventually(t, "it is known", func() bool {
		s.refiner.mu.Lock()
		defer s.refiner.mu.Unlock()
		for key = range s.refiner.known {
			delete(s.refiner.known, key)
		}
		return key != ""
	})
	s.shop.onlyFirst(nil)
	eventually(t, "it is searched for", func() bool { return lasting(s, uri) })
}

func TestARefinementThatFailsEnds(t *testing.T) {
	s := newStand(t)
	s.shop.provisional = true
	s.shop.onlyFirst(errors.New("the search breaks"))
	const uri = "/kestrel/f/kite.png?width=60"
	if lasting(s, uri) {
		t.Fatal("it isn't provisional")
	}
	eventually(t, "the first answer is kept as it is", func() bool { return lasting(s, uri) })
	if n := s.shop.renders.Load(); n != 1+mostFailures {
		t.Errorf("made %d times", n)
	}
	s.recorder.mu.Lock()
	defer s.recorder.mu.Unlock()
	if len(s.recorder.made) != 1 {
		t.Errorf("written down %d times", len(s.recorder.made))
	}
}

func TestASiteOfPredictedEffortKeepsFirstAnswers(t *testing.T) {
	s := newStand(t)
	s.shop.provisional = true
	s.settings.set(t, s.site("kestrel", func(d *policy.Document) { d.Effort = "predicted" }))
	const uri = "/kestrel/f/kite.png?width=60"
	for range 2 {
		if !lasting(s, uri) {
			t.Error("the first answer isn't kept")
		}
	}
	if waiting, _ := s.Refinements(); waiting != 0 || s.shop.renders.Load() != 1 {
		t.Errorf("made %d times, %d searches wait", s.shop.renders.Load(), waiting)
	}
	s.recorder.mu.Lock()
	defer s.recorder.mu.Unlock()
	if len(s.recorder.made) != 1 {
		t.Errorf("written down %d times", len(s.recorder.made))
	}
}
