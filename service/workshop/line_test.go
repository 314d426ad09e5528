package workshop

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"
)

func anyKind(Kind) bool { return true }

// serve has workers take turns for so many seconds and gives what each name had.
func serve(l *line, seconds float64, refill func(l *line), name func(For) string) map[string]float64 {
	had := map[string]float64{}
	for done := 0.0; done < seconds; {
		refill(l)
		p := l.next(anyKind)
		l.start(p)
		l.end(p, p.seconds)
		had[name(p.For)] += p.seconds
		done += p.seconds
	}
	return had
}

func TestSitesShareByWorkNotByRequests(t *testing.T) {
	l := &line{}
	// One asks for many cheap variants, the other for few that cost fifty times as much.
	refill := func(l *line) {
		for l.kind(Visitor).waiting < 20 {
			l.join(&place{For: For{Site: "cheap", Client: fmt.Sprint(rand.IntN(9))}, seconds: 0.01})
			l.join(&place{For: For{Site: "dear", Client: "one"}, seconds: 0.5})
		}
	}
	had := serve(l, 200, refill, func(f For) string { return f.Site })
	// The line is refilled by requests, so the dear ones run out of nothing: each has half, within a few jobs.
	if r := had["dear"] / (had["dear"] + had["cheap"]); had["cheap"] > 0 && (r < 0.45 || r > 0.99) {
		t.Errorf("%v", had)
	}
	l = &line{}
	both := func(l *line) {
		sites := l.kind(Visitor).below
		for _, s := range []struct {
			name    string
			seconds float64
		}{{"cheap", 0.01}, {"dear", 0.5}} {
			for c := sites.clocks[s.name]; c == nil || c.waiting < 5; c = sites.clocks[s.name] {
				l.join(&place{For: For{Site: s.name}, seconds: s.seconds})
			}
		}
	}
	had = serve(l, 100, both, func(f For) string { return f.Site })
	if math.Abs(had["cheap"]-had["dear"]) > 1 {
		t.Errorf("both always ask: %v", had)
	}
}

func TestClientsOfASiteShareItsTurns(t *testing.T) {
	l := &line{}
	refill := func(l *line) {
		for l.kind(Visitor).waiting < 60 {
			l.join(&place{For: For{Site: "a", Client: "flood"}, seconds: 0.1})
		}
	}
	refill(l)
	quiet := &place{For: For{Site: "a", Client: "quiet"}, seconds: 0.1}
	l.join(quiet)
	for turn := 1; !quiet.gone; turn++ {
		if turn > 2 {
			t.Fatal("one request waits for more than a turn of the flood")
		}
		p := l.next(anyKind)
		l.start(p)
		l.end(p, p.seconds)
	}
}

func TestKindsHaveTheirShares(t *testing.T) {
	l := &line{}
	refill := func(l *line) {
		for k := range kinds {
			for l.waiting(k) < 3 {
				l.join(&place{For: For{Kind: k, Site: "a"}, seconds: 0.1})
			}
		}
	}
	had := serve(l, 400, refill, func(f For) string { return kindNames[f.Kind] })
	for k, want := range map[Kind]float64{Visitor: 320, Refinement: 60, Ahead: 20} {
		if math.Abs(had[kindNames[k]]-want) > 2 {
			t.Errorf("kind %d had %.1f s of 400, want %.0f", k, had[kindNames[k]], want)
		}
	}
	// What may not have a worker now is passed over.
	if p := l.next(func(k Kind) bool { return k == Ahead }); p == nil || p.Kind != Ahead {
		t.Errorf("%+v", p)
	}
}

func TestNobodySavesTurnsUp(t *testing.T) {
	l := &line{}
	ask := func(site string) *place {
		p := &place{For: For{Site: site}, seconds: 1}
		l.join(p)
		return p
	}
	for range 50 { // alone for long
		ask("a")
		p := l.next(anyKind)
		l.start(p)
		l.end(p, 1)
	}
	var turns []string
	for range 6 {
		ask("a")
		ask("b") // comes back, or comes first
	}
	for range 6 {
		p := l.next(anyKind)
		l.start(p)
		l.end(p, 1)
		turns = append(turns, p.Site)
	}
	n := 0
	for _, s := range turns {
		if s == "b" {
			n++
		}
	}
	if n < 2 || n > 4 {
		t.Errorf("%v", turns)
	}
}

func TestWhatTookLongerIsPaidForLater(t *testing.T) {
	l := &line{}
	for range 40 {
		l.join(&place{For: For{Site: "liar"}, seconds: 0.1})
		l.join(&place{For: For{Site: "honest"}, seconds: 0.1})
	}
	had := map[string]float64{}
	for range 30 {
		p := l.next(anyKind)
		l.start(p)
		took := 0.1
		if p.Site == "liar" {
			took = 1
		}
		l.end(p, took)
		had[p.Site] += took
	}
	if math.Abs(had["liar"]-had["honest"]) > 1.1 {
		t.Errorf("%v", had)
	}
}

func TestAFloodCrowdsItselfOut(t *testing.T) {
	l := &line{}
	join := func(site, client string) *place {
		p := &place{For: For{Site: site, Client: client}, seconds: 0.1}
		l.join(p)
		return p
	}
	var last *place
	for i := range 10 {
		last = join("flooded", fmt.Sprint(i%2))
	}
	join("flooded", "0")
	join("other", "x")
	if p := l.crowd(&place{For: For{Site: "flooded", Client: "0"}}); p != nil {
		t.Errorf("the client with the most has %+v go for it", p.For)
	}
	if p := l.crowd(&place{For: For{Site: "third", Client: "y"}}); p == nil || p.Site != "flooded" || p.Client != "0" {
		t.Errorf("a site with nothing: %+v goes", p)
	}
	if p := l.crowd(&place{For: For{Site: "flooded", Client: "new"}}); p == nil || p.Client != "0" {
		t.Errorf("another client of the flooded site: %+v goes", p)
	}
	l.leave(last)
	if !last.gone || l.waiting(Visitor) != 11 {
		t.Errorf("%+v, %d wait", last, l.waiting(Visitor))
	}
}

func TestTheLineForgets(t *testing.T) {
	l := &line{}
	for i := range 50_000 {
		p := &place{For: For{Site: fmt.Sprint(i % 50), Client: fmt.Sprint(i)}, seconds: rand.Float64()}
		l.join(p)
		if i%3 == 0 {
			l.leave(p)
			continue
		}
		l.start(p)
		l.end(p, rand.Float64())
	}
	sites := l.kind(Visitor).below
	clients := 0
	for _, s := range sites.clocks {
		clients += len(s.below.clocks)
	}
	if len(sites.clocks) > fewClocks || clients > 20_000 || l.all() != 0 {
		t.Errorf("%d sites, %d clients, %d wait", len(sites.clocks), clients, l.all())
	}
}

func TestWhatIsAheadOfASite(t *testing.T) {
	l := &line{}
	for range 100 {
		l.join(&place{For: For{Site: "flooded"}, seconds: 1})
	}
	l.join(&place{For: For{Site: "quiet"}, seconds: 1})
	if a := l.ahead(For{Site: "quiet"}); a != 2 { // its own, and one turn of the other's
		t.Errorf("%v", a)
	}
	if a := l.ahead(For{Site: "flooded"}); a != 101 {
		t.Errorf("%v", a)
	}
	if a := l.ahead(For{Site: "new"}); a != 0 {
		t.Errorf("%v", a)
	}
}
