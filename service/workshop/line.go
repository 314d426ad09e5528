package workshop

import (
	"context"

	"echolane/core/render"
)

// The line of jobs that wait for a worker.
//
// Turns are taken by start-time fair queueing, at three levels: kinds of work, the sites within a kind, and the clients
// within a site. Each has a clock that runs on by the processor seconds that its jobs take; the one that is furthest behind is
// next. One that comes back after a while starts where the others are: nobody saves turns up.

// Kind is how soon a job is needed.
type Kind uint8

const (
	// Visitor is the first answer to somebody who waits for it.
	Visitor Kind = iota
	// Refinement is the search for the quality of a variant that has been sent already.
	Refinement
	// Ahead is what nobody waits for at a page: weigh-ins, uploads, variants made ahead.
	Ahead

	kinds
)

// share is what part of the workers each kind has while all have jobs.
var share = [kinds]float64{Visitor: 16, Refinement: 3, Ahead: 1}

// For says for whom a job is done, and what it is thought to take.
type For struct {
	Kind   Kind
	Class  string // jobs of one class take about as long for as much work, such as a format and an effort
	Site   string
	Client string  // an address; "" for the service itself
	Work   float64 // what it takes as megapixels decoded take: see render.Estimate
	Group  string  // jobs of a site with the same are of one source, and may be done together; "": it is done alone
	Memory int64   // bytes that the worker will need at most
}

type forKey struct{}

// With is a context of work that is done for somebody: see From.
func With(ctx context.Context, kind Kind, site, client string) context.Context {
	return context.WithValue(ctx, forKey{}, For{Kind: kind, Site: site, Client: client})
}

// From says for whom work is done, as With was told; else it is the service's own.
func From(ctx context.Context) For {
	f, _ := ctx.Value(forKey{}).(For)
	return f
}

// Takes is f with what a job is thought to take: see render.Estimate.
func (f For) Takes(e render.Estimate) For {
	f.Class, f.Work, f.Memory = e.Class, e.Work, e.Memory
	return f
}

// A place is a job's in the line. The crew's lock guards it.
type place struct {
	For
	seconds float64 // that it is thought to take
	turn    chan *worker
	crowded chan struct{} // closed when it has to make room
	gone    bool          // out of the line
	job     *render.Job   // what is to be done, where others may be done along with it
	ctx     context.Context
	along   []*place     // those that it takes along
	led     bool         // it is taken along
	outcome chan outcome // of one that is
	clocks  [3]*clock    // of its kind, site and client
}

// outcome is what became of a job that another took along.
type outcome struct {
	answer answer
	err    error
	alone  bool // nothing: it has to be done by itself
}

// tell tells one that is taken along what became of it, once.
func (p *place) tell(o outcome) {
	select {
	case p.outcome <- o:
	default: // it was told already
	}
}

// A clock is how much work one of a level has had.
type clock struct {
	name    string
	at      float64
	share   float64
	waiting int      // jobs of it in the line
	running int      // jobs of it that have a worker
	below   *level   // the clients of a site, the sites of a kind
	line    []*place // of a client
	seconds float64  // of the jobs that wait
}

// A level is clocks that take turns.
type level struct {
	clocks map[string]*clock
	now    float64 // the clock of whoever had the last turn
	sweep  int     // clocks at which those with nothing to do are looked for
}

const (
	fewClocks  = 64
	mostClocks = 8192 // beyond them, idle ones are forgotten whatever they have had
)

// of gives the clock with a name, and makes it.
func (l *level) of(name string, share float64) *clock {
	c := l.clocks[name]
	if c == nil {
		if l.clocks == nil {
			l.clocks = map[string]*clock{}
		}
		if len(l.clocks) >= max(l.sweep, fewClocks) {
			all := len(l.clocks) >= mostClocks
			for n, idle := range l.clocks {
				if idle.waiting+idle.running == 0 && (all || idle.at <= l.now) {
					delete(l.clocks, n)
				}
			}
			l.sweep = 2 * len(l.clocks)
		}
		c = &clock{name: name, share: share, below: &level{}}
		l.clocks[name] = c
	}
	if c.waiting+c.running == 0 {
		c.at = max(c.at, l.now)
	}
	return c
}

// drop forgets a clock that has nothing to do and is owed nothing.
func (l *level) drop(c *clock) {
	if c.waiting+c.running == 0 && c.at <= l.now {
		delete(l.clocks, c.name)
	}
}

// next is the clock whose turn it is, among those that may have one; nil: there is none.
func (l *level) next(may func(*clock) bool) (best *clock) {
	for _, c := range l.clocks {
		if c.waiting > 0 && (may == nil || may(c)) && (best == nil || c.at < best.at || c.at == best.at && c.name < best.name) {
			best = c
		}
	}
	return best
}

// most is the clock with the most jobs in the line.
func (l *level) most() (best *clock) {
	for _, c := range l.clocks {
		if best == nil || c.waiting > best.waiting || c.waiting == best.waiting && c.name < best.name {
			best = c
		}
	}
	return best
}

// A line is what waits. Its zero value is empty.
type line struct {
	kinds level
}

// String is the kind in a word.
func (k Kind) String() string { return [kinds]string{"visitor", "refinement", "ahead"}[k] }

// Kinds are all kinds of work.
func Kinds() []Kind { return []Kind{Visitor, Refinement, Ahead} }

var kindNames = [kinds]string{Visitor: "0", Refinement: "1", Ahead: "2"}

// kind is the clock of one.
func (l *line) kind(k Kind) *clock { return l.kinds.of(kindNames[k], share[k]) }

// waiting is how many jobs of a kind wait.
func (l *line) waiting(k Kind) int { return l.kind(k).waiting }

// all is how many jobs wait.
func (l *line) all() (n int) {
	for _, c := range l.kinds.clocks {
		n += c.waiting
	}
	return n
}

// join puts a job into the line.
func (l *line) join(p *place) {
	kind := l.kind(p.Kind)
	site := kind.below.of(p.Site, 1)
	client := site.below.of(p.Client, 1)
	p.clocks = [3]*clock{kind, site, client}
	client.line = append(client.line, p)
	for _, c := range p.clocks {
		c.waiting++
		c.seconds += p.seconds
	}
}

// next is the job whose turn it is; nil: none waits, or none of a kind that may have a worker now.
func (l *line) next(may func(Kind) bool) *place {
	kind := l.kinds.next(func(c *clock) bool { return may(Kind(c.name[0] - '0')) })
	if kind == nil {
		return nil
	}
	return kind.below.next(nil).below.next(nil).line[0]
}

// together are the jobs that p, whose turn it is, can take along: of its group, of its kind and site, that with it are thought to
// take so many seconds at the most, since whoever comes meanwhile waits for all of them.
func (l *line) together(p *place, longest float64) (all []*place) {
	if p.Group == "" {
		return nil
	}
	seconds := p.seconds
	site := p.clocks[1]
	for _, client := range site.below.clocks {
		for _, q := range client.line {
			if q != p && q.Group == p.Group && len(all) < mostAlong && seconds+q.seconds <= longest {
				all = append(all, q)
				seconds += q.seconds
			}
		}
	}
	return all
}

const (
	mostAlong = 31
	// longestTogether is how many seconds jobs done together may take for each worker that there is: the more there are, the sooner
	// another comes free for somebody else.
	longestTogether = 0.1
)

// leave takes a job out of the line.
func (l *line) leave(p *place) {
	client := p.clocks[2]
	for i, q := range client.line {
		if q == p {
			client.line = append(client.line[:i:i], client.line[i+1:]...)
			break
		}
	}
	p.gone = true
	for _, c := range p.clocks {
		c.waiting--
		c.seconds -= p.seconds
	}
	l.tidy(p)
}

// start takes a job out of the line to be done: the turn is its kind's, its site's and its client's.
func (l *line) start(p *place) {
	levels := [3]*level{&l.kinds, p.clocks[0].below, p.clocks[1].below}
	for i, c := range p.clocks {
		levels[i].now = max(levels[i].now, c.at)
		c.at += p.seconds / c.share
		c.running++
	}
	l.leave(p)
}

// end puts right what a job was thought to take.
func (l *line) end(p *place, took float64) {
	for _, c := range p.clocks {
		c.at += (took - p.seconds) / c.share
		c.running--
	}
	l.tidy(p)
}

// tidy forgets the client and the site of a job where nothing is left of them.
func (l *line) tidy(p *place) {
	p.clocks[1].below.drop(p.clocks[2])
	p.clocks[0].below.drop(p.clocks[1])
}

// crowd is the job that goes when there's no room for p: the last of the client with the most, of the site with the most.
// nil: that is p itself.
func (l *line) crowd(p *place) *place {
	sites := l.kind(p.Kind).below
	site := sites.most()
	if site == nil || site.waiting == 0 {
		return nil
	}
	if own := sites.clocks[p.Site]; own != nil && own.waiting+1 >= site.waiting {
		site = own
	} else if own == nil && site.waiting == 1 {
		return nil
	}
	client := site.below.most()
	if site.name == p.Site {
		own := 0
		if c := site.below.clocks[p.Client]; c != nil {
			own = c.waiting
		}
		if own+1 >= client.waiting {
			return nil
		}
	}
	return client.line[len(client.line)-1]
}

// ahead is how many processor seconds are done before a job that would join the line for a site now, at the least.
func (l *line) ahead(f For) float64 {
	sites := l.kind(f.Kind).below
	own := 0.0
	if c := sites.clocks[f.Site]; c != nil {
		own = c.seconds
	}
	sum := 0.0
	for _, c := range sites.clocks {
		if c.waiting > 0 && c.name != f.Site {
			sum += min(c.seconds, own) // as long as it has turns to take, every other has one
		}
	}
	return own + sum
}
