package source

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/maypok86/otter/v2"

	"echolane/core/codec"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/flight"
	"echolane/service/panics"
	"echolane/service/source/held"
)

// Reader reads what sources' bytes say, in a process of its own.
type Reader interface {
	Header(context.Context, *held.Content) (codec.Header, error)
	Strip(context.Context, *held.Content) ([]metadata.Splice, error)
}

// Opener opens lanes.
type Opener interface {
	Of(*policy.SiteSettings, *policy.CompiledLane) (Lane, error)
}

// Table is what is known of sources: their versions, what their headers say, and which failed a moment ago. It knows a
// bounded number, and forgets those that were asked for longest ago. Those who ask for one source at once share one look
// at it, and its failure. Safe for concurrent use.
type Table struct {
	lanes  Opener
	reader Reader
	known  *otter.Cache[string, *Source]
	looks  flight.Group[looked]
	strips flight.Group[[]metadata.Splice]
	alsos  flight.Group[held.Digest]
	again  atomic.Int64 // looks that go on behind answers

	aside   Aside // nil: nothing is
	origins origins
	panics  *panics.Catcher
}

// Source is what is known of one source. It stays the same value as long as it is known.
type Source struct {
	until  atomic.Int64 // Now up to which known holds without another look
	known  atomic.Pointer[Known]
	latest atomic.Pointer[Version] // known's, as it was last validated
	failed atomic.Pointer[failure]
	again  atomic.Pointer[revalidation]

	// Variants is how many variants there are of it, for who counts them.
	Variants VariantCount
}

// Variants counts the variants of a source's present version.
type VariantCount struct {
	sync.Mutex
	At     int64 // Now of the last count; 0: never counted
	N      int
	Digest held.Digest
}

// Known is one version of a source with what its header says. It is never changed.
type Known struct {
	Version
	Header codec.Header
	no     *policy.Refusal // why its header can't be read
	splice atomic.Pointer[[]metadata.Splice]
	also   atomic.Pointer[held.Digest] // of the other kind than its digest, once somebody has asked for it
}

// flight is the key of what is found out of this version once, for all who ask for it at the same time. It isn't the digest: the same
// bytes on another site are another origin's, which may hang.
func (k *Known) flight() string { return fmt.Sprintf("%p", k) }

// failure is why a source couldn't be looked at, for a few seconds, as long as its lane's settings stay the same.
type failure struct {
	no     *policy.Refusal
	lane   *policy.CompiledLane
	serial uint64
	until  int64
}

type looked struct {
	known   *Known
	content *held.Content
}

// revalidation is a look at a source of which something is known already.
type revalidation struct {
	begun int64 // Now
	done  chan struct{}
	got   looked // once it is done
	err   error
}

// Located is a source in the version that a request is answered from.
type Located struct {
	Source *Source
	Known  *Known
	Lane   Lane
	Name   string // the lane's
	Path   string
	// Stale: whether there is another version isn't known yet, since its origin takes its time.
	Stale bool

	content *held.Content // of what can't be opened again
}

const (
	mostSources = 200_000
	lookLimit   = 25 * time.Second       // for one look at a source: a fetch and the reading of its header
	patience    = 150 * time.Millisecond // that requests wait for a look, where what is known may stand in
	mostAgain   = 512                    // looks that go on behind such answers
	handedOver  = time.Second            // that content which is kept nowhere waits for those who share the look
)

// NewTable makes one.
func NewTable(lanes Opener, reader Reader, catch *panics.Catcher) *Table {
	return &Table{
		lanes: lanes, reader: reader, known: otter.Must(&otter.Options[string, *Source]{MaximumSize: mostSources}),
		looks: flight.Group[looked]{Limit: lookLimit, Panics: catch}, strips: flight.Group[[]metadata.Splice]{Limit: lookLimit, Panics: catch},
		alsos:  flight.Group[held.Digest]{Limit: lookLimit, Panics: catch},
		panics: catch,
	}
}

var began = time.Now()

// Now is a clock that only goes forward, in nanoseconds.
func Now() int64 { return int64(time.Since(began)) }

// Holds reports whether k is still what is known of the source, at a moment of Now.
func (s *Source) Holds(k *Known, now int64) bool { return now < s.until.Load() && s.known.Load() == k }

// Doubt has the source looked at again.
func (s *Source) Doubt() { s.until.Store(0) }

// Len is about how many sources are known.
func (t *Table) Len() int { return t.known.EstimatedSize() }

// Locate finds out which version of a source there is, and what its header says. trace, where it isn't nil, is told of the
// lane's rules. Its error is a *policy.Refusal, or the context's.
func (t *Table) Locate(ctx context.Context, site *policy.SiteSettings, in *policy.CompiledLane, path string, trace *[]policy.Step) (*Located, error) {
	lane, err := t.lanes.Of(site, in)
	if err != nil {
		return nil, err
	}
	if _, no := lane.Check(path, trace); no != nil { // rules hold also for what is known
		return nil, no
	}
	address := strings.Join([]string{site.Name, in.Name, in.Place, in.Unshared, path}, "\x00")
	s, ok := t.known.GetIfPresent(address)
	if !ok {
		s, _ = t.known.SetIfAbsent(address, &Source{})
	}
	now, since := Now(), site.SourcePurged(in.Name, path)
	if no := s.failedStill(in, since); no != nil {
		return nil, no
	}
	out := &Located{Source: s, Lane: lane, Name: in.Name, Path: path}
	if out.Known = s.known.Load(); out.Known == nil || now >= s.until.Load() || out.Known.Serial < since {
		look := func(ctx context.Context) (looked, error) {
			got, _, err := t.looks.Do(ctx, flightOf(address, since), func(ctx context.Context) (looked, error) {
				return t.look(Under(ctx, since), s, in, lane, site.Name, path, since)
			})
			return got, err
		}
		var got looked
		if v := s.latest.Load(); out.Known != nil && out.Known.Serial >= since && v != nil && time.Now().Before(v.StaleUntil) {
			var stale bool
			if got, stale, err = t.revalidate(ctx, s, look); stale {
				out.Stale = true
				got = looked{known: out.Known}
			}
		} else {
			got, err = look(ctx)
		}
		if err != nil {
			if errors.Is(err, context.DeadlineExceeded) && ctx.Err() == nil {
				err = policy.No(policy.Refusal{Reason: policy.ReasonOriginSlow, Parameter: "path", Given: wording.Cut(path, 120), Detail: fmt.Sprintf("looking at the source took longer than %v", lookLimit), Remedy: "try again later", RetryIn: 10})
			}
			return nil, err
		}
		out.Known, out.content = got.known, got.content.Share()
	}
	if no := out.Known.no; no != nil {
		out.Close()
		clone := *no
		return nil, &clone
	}
	return out, nil
}

// revalidate looks at a source again, and waits for that for a moment only: one look goes on for all who ask meanwhile, and for
// nobody. stale says that it isn't done, so that what is known stands in.
func (t *Table) revalidate(ctx context.Context, s *Source, look func(context.Context) (looked, error)) (got looked, stale bool, err error) {
	r := s.again.Load()
	if r == nil {
		if t.again.Add(1) > mostAgain {
			t.again.Add(-1)
			return got, true, nil
		}
		r = &revalidation{begun: Now(), done: make(chan struct{})}
		if s.again.CompareAndSwap(nil, r) {
			go func() {
				defer t.again.Add(-1)
				own, cancel := context.WithTimeout(context.WithoutCancel(ctx), lookLimit)
				defer cancel()
				r.err = t.panics.Run("looking at a source again", func() (err error) {
					r.got, err = look(own)
					return err
				})
				s.again.Store(nil)
				close(r.done)
			}()
		} else {
			t.again.Add(-1)
			if r = s.again.Load(); r == nil { // it is done meanwhile
				got, err = look(ctx)
				return got, false, err
			}
		}
	}
	left := time.NewTimer(max(0, patience-time.Duration(Now()-r.begun)))
	defer left.Stop()
	select {
	case <-r.done:
		return r.got, false, r.err
	case <-left.C:
		return got, true, nil
	case <-ctx.Done():
		return got, false, ctx.Err()
	}
}

// flightOf names the looks that may be shared: who knows of a purge doesn't share one with who doesn't.
func flightOf(address string, since uint64) string {
	if since == 0 {
		return address
	}
	return fmt.Sprint(address, "\x00", since)
}

// failedStill is why a look failed a moment ago, as a copy; nil where none did, or it is time for another.
func (s *Source) failedStill(in *policy.CompiledLane, since uint64) error {
	f := s.failed.Load()
	if f == nil || Now() >= f.until || f.lane != in || f.serial != since {
		return nil
	}
	no := *f.no
	no.Problems = nil
	return &no
}

// look is the one look that all share.
func (t *Table) look(ctx context.Context, s *Source, in *policy.CompiledLane, lane Lane, site, path string, since uint64) (out looked, err error) {
	// Between the caller's own glance and this one, another look may have come to an end.
	if no := s.failedStill(in, since); no != nil {
		return out, no
	}
	if k := s.known.Load(); k != nil && k.Serial >= since && Now() < s.until.Load() {
		return looked{known: k}, nil
	}
	defer func() {
		var no *policy.Refusal
		if err != nil && errors.As(err, &no) {
			if d := rememberedFor(no, in); d > 0 {
				s.failed.Store(&failure{no, in, since, Now() + int64(d)})
			}
		} else if err == nil {
			s.failed.Store(nil)
		}
	}()
	have, version := s.known.Load(), s.latest.Load()
	if since > 0 && (version == nil || version.Serial < since) { // what was kept before the purge isn't asked about
		have, version = nil, nil
		lane.Forget(path, since)
	}
	begun := Now()
	for tries := 0; ; tries++ {
		asked := Now()
		v, content, err := lane.Stat(ctx, path, version)
		t.origins.note(lane, site, in.Name, time.Duration(Now()-asked), v.Stale, err)
		if err != nil {
			return out, err
		}
		v.Serial = max(v.Serial, since)
		k := &Known{Version: v}
		switch {
		case v.Digest == "":
			err = t.learn(ctx, k, have, lane, site, in.Name, path, content)
			content = nil // it can be opened again
		case have != nil && have.Digest == v.Digest:
			k.header(have)
		default:
			err = t.readSound(func() error { return t.read(ctx, k, lane, path, content.Share()) }, site, in.Name, path, v.Digest)
		}
		if errors.Is(err, held.ErrChanged) && tries < 3 {
			content.Close()
			version = nil
			continue
		}
		if err != nil {
			content.Close()
			if errors.Is(err, held.ErrChanged) {
				err = unsettled()
			}
			return out, err
		}
		v = k.Version
		if have != nil && same(have, k) {
			k = have // what hangs on it goes on
		}
		s.latest.Store(&v)
		s.known.Store(k)
		s.until.Store(begun + int64(v.Fresh))
		if content != nil {
			time.AfterFunc(handedOver, content.Close)
		}
		return looked{k, content}, nil
	}
}

// same reports whether two looks found the same, but for how long that is fresh.
func same(a, b *Known) bool {
	return a.Digest == b.Digest && a.Validator == b.Validator && a.Modified.Equal(b.Modified) && a.Sharing == b.Sharing && a.Stale == b.Stale
}

// unsettled is the refusal for a source that goes on changing.
func unsettled() *policy.Refusal {
	return policy.No(policy.Refusal{Reason: policy.ReasonSourceUnreadable, Detail: "the source goes on changing while it is read", Remedy: "try again when it has settled", RetryIn: 2})
}

// header takes over what another version of the same bytes says.
func (k *Known) header(of *Known) {
	k.Header, k.no = of.Header, of.no
	k.splice.Store(of.splice.Load())
}

// learn works out the digest of a version that wasn't read yet, and has its header read meanwhile: or afterwards, where it may be set
// aside. It closes the content.
func (t *Table) learn(ctx context.Context, k, have *Known, lane Lane, site, name, path string, content *held.Content) error {
	defer content.Close()
	careful := have == nil && t.aside != nil && t.aside.HasAside(site)
	var all sync.WaitGroup
	read := error(nil)
	if have == nil && !careful { // otherwise it is often the same again
		shared := content.Share()
		all.Go(func() {
			read = t.panics.Run("reading a header", func() error { return t.read(ctx, k, lane, path, shared) })
		})
	}
	sum, err := content.Digest(ctx, "")
	all.Wait()
	switch {
	case err != nil:
		if ctx.Err() != nil || errors.Is(err, held.ErrChanged) {
			return err
		}
		return Unreadable(path)
	case read != nil:
		t.headerFailed(site, name, path, sum, read)
		return read
	}
	k.Digest = sum
	if have != nil && have.Digest == sum {
		k.header(have)
	} else if have != nil || careful {
		if err := t.readSound(func() error { return t.read(ctx, k, lane, path, content.Share()) }, site, name, path, sum); err != nil {
			return err
		}
	}
	// Both are of one version only where it stayed the same all the while.
	again, err := lane.Open(ctx, path, k.Version)
	again.Close()
	return err
}

// read has the header read. That it can't be is known of the version from then on.
func (t *Table) read(ctx context.Context, k *Known, lane Lane, path string, content *held.Content) error {
	if content == nil {
		var err error
		if content, err = lane.Open(ctx, path, k.Version); err != nil {
			return err
		}
	}
	defer content.Close()
	h, err := t.reader.Header(ctx, content)
	var no *policy.Refusal
	if errors.As(err, &no) && (no.Reason == policy.ReasonNotAnImage || no.Reason == policy.ReasonSourceBroken || no.Reason == policy.ReasonSourceTruncated) {
		k.no = no
		return nil
	}
	k.Header = h
	return err
}

// rememberedFor is how long a failure is answered without another look.
func rememberedFor(no *policy.Refusal, in *policy.CompiledLane) time.Duration {
	switch no.Reason {
	case policy.ReasonBusy, policy.ReasonInternal:
		return 0
	case policy.ReasonWorkerDied, policy.ReasonRenderTooSlow: // its header ended a worker, or kept one
		return 30 * time.Second
	case policy.ReasonOriginFailed, policy.ReasonOriginSlow:
		if no.RetryIn > 10 { // the origin asks to be left alone
			return max(in.Failing, min(time.Duration(no.RetryIn)*time.Second, time.Minute))
		}
		return in.Failing
	}
	return in.Missing
}

// Open gives the source's content. Of a file, whoever reads it makes sure of the digest, and says Mistaken where it is
// another.
func (l *Located) Open(ctx context.Context) (*held.Content, error) {
	if l.content != nil {
		return l.content.Share(), nil
	}
	return l.Lane.Open(ctx, l.Path, l.Known.Version)
}

// Mistaken has what is kept of the source dropped and the source looked at again: its bytes weren't those that were known.
func (l *Located) Mistaken() {
	l.Lane.Forget(l.Path, 0)
	l.Source.Doubt()
}

// Share gives the located source to one more, who closes it too.
func (l *Located) Share() *Located {
	return &Located{Source: l.Source, Known: l.Known, Lane: l.Lane, Name: l.Name, Path: l.Path, Stale: l.Stale, content: l.content.Share()}
}

// Close lets go of what is held of the source.
func (l *Located) Close() { l.content.Close() }

// Is reports whether a digest of either kind is that of the source's version. For one of the other kind than that by which the version
// is known the source is read, once. held.ErrChanged where it isn't any more what it was.
func (t *Table) Is(ctx context.Context, l *Located, d held.Digest) (bool, error) {
	own := l.Known.Digest
	if d == own || d.Earlier() == own.Earlier() {
		return d == own, nil
	}
	if also := l.Known.also.Load(); also != nil {
		return d == *also, nil
	}
	also, _, err := t.alsos.Do(ctx, l.Known.flight(), func(ctx context.Context) (held.Digest, error) {
		content, err := l.Open(ctx)
		if err != nil {
			return "", err
		}
		defer content.Close()
		same, also, err := content.Digests(ctx)
		if err != nil {
			return "", err
		}
		if own.Earlier() {
			same, also = also, same
		}
		if same != own {
			l.Mistaken()
			return "", held.ErrChanged
		}
		l.Known.also.Store(&also)
		return also, nil
	})
	return err == nil && d == also, err
}

// Strip says how the source is put together without what it says of its making.
func (t *Table) Strip(ctx context.Context, l *Located) ([]metadata.Splice, error) {
	if s := l.Known.splice.Load(); s != nil {
		return *s, nil
	}
	all, _, err := t.strips.Do(ctx, l.Known.flight(), func(ctx context.Context) ([]metadata.Splice, error) {
		content, err := l.Open(ctx)
		if err != nil {
			return nil, err
		}
		defer content.Close()
		all, err := t.reader.Strip(ctx, content)
		if err == nil {
			l.Known.splice.Store(&all)
		}
		return all, err
	})
	return all, err
}
