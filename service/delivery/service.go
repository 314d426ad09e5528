// Package delivery is the image path. One request goes one way, a file a step, none of them going back: read (site, lane,
// path, declarations), decide (what policy says of them), locate (the source's version and header), key, get (memory, disk,
// or make), answer. No settings are queried on it, and nothing is decided behind a look into a cache: what a site forbids
// now, it forbids for what is kept too.
//
// A request that was answered lately, word for word, is answered from a hot entry, which says what its text leads to and holds no
// bytes of pictures and no permission that could be taken back.
package delivery

import (
	"bytes"
	"context"
	"errors"
	"log/slog"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"github.com/maypok86/otter/v2"
	"github.com/valyala/fasthttp"

	"echolane/core/declare"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/sheet"
	"echolane/service/cache"
	"echolane/service/caller"
	"echolane/service/connections"
	"echolane/service/panics"
	"echolane/service/problem"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/trace"
	"echolane/service/workshop"
)

// Settings gives the newest settings. It doesn't block.
type Settings interface {
	Current() *policy.Settings // never nil
	Known() bool               // whether there are any yet
	Deployment() string        // this deployment's name in CDN-Loop (RFC 8586); "" before it is known
	// Aside is the record of a source of a site that is set aside, by its digest; nil: it isn't.
	Aside(site, digest string) *records.SetAside
	// HasAside reports whether a site has such sources.
	HasAside(site string) bool
	// SetAside has nothing made of a source any more.
	SetAside(records.SetAside)
}

// Sources finds sources. Its errors are *policy.Refusal, or those of a context that ended.
type Sources interface {
	// Locate returns the version of a source that there is. It may fetch. trace, where it isn't nil, is told of the lane's rules.
	// The caller closes what it gets.
	Locate(ctx context.Context, site *policy.SiteSettings, in *policy.CompiledLane, path string, trace *[]policy.Step) (*source.Located, error)
	// Is reports whether a digest is that of the source's version. It may read the source. held.ErrChanged where that has changed.
	Is(ctx context.Context, l *source.Located, d held.Digest) (bool, error)
	// Strip returns how the source's file is sent without its metadata. It waits for a worker.
	Strip(ctx context.Context, l *source.Located) ([]metadata.Splice, error)
}

// Workshop renders variants in worker processes. Its errors are *policy.Refusal, or those of a context that ended.
type Workshop interface {
	// Render waits for a worker and renders. It calls open, once, when a worker is free, and closes the contents. It also returns
	// the digests of what the worker has read.
	// Where ctx ends before it is done, its worker does too.
	Render(ctx context.Context, whom workshop.For, open func(context.Context) ([]*held.Content, error), job render.Job) (render.Result, []held.Digest, error)
	// Full reports whether a job would be refused now.
	Full(whom workshop.For) bool
}

// Recorder writes down what happens. Only Asked and VariantsOf block.
type Recorder interface {
	Made(records.Variant)
	Refused(site, asked, sample string, no *policy.Refusal)
	Used(site, classes, address string)
	LookedAt(records.LookedAt)
	// Gone has what was found in a source forgotten. It blocks for a bounded time.
	Gone(ctx context.Context, site, lane, path string) error
	Usage(site string) *records.UsageCounter // never nil
	// Asked counts answers by variant. It blocks for a bounded time.
	Asked(context.Context, []records.Asked) error
	// VariantsOf counts the variants of a source besides v. known says whether v is one of them.
	VariantsOf(ctx context.Context, v records.Variant) (n int, known bool, err error)
}

// Peers are the other nodes with which this one shares a store.
type Peers interface {
	// TryLead reports whether this node is the one to do what a key names now; release is called once that is done.
	TryLead(ctx context.Context, key string) (release func(), lead bool)
	// Refined tells the others that a variant was searched for. It doesn't block.
	Refined(key string)
}

// Metrics counts every answer. It doesn't block.
type Metrics interface {
	Answered(where cache.Where, status, bytes int, took time.Duration)
	Refused(reason policy.Reason, took time.Duration)
}

// Options are what a Service works with; all of them are needed, but for Peers, Proxies and Panics.
type Options struct {
	Settings Settings
	Sources  Sources
	Cache    *cache.Cache
	Workshop Workshop
	Peers    Peers
	Recorder Recorder
	Metrics  Metrics
	Log      *slog.Logger
	Panics   *panics.Catcher
	Proxies  []netip.Prefix // whose X-Forwarded-For is believed

	// MayRead reports whether a bearer token may look at a site; nil: none may.
	MayRead func(ctx context.Context, bearer, site string) bool

	// SearchAtOnce has the first answer wait for the search for its quality.
	SearchAtOnce bool
}

// Service answers image requests. Safe for concurrent use.
type Service struct {
	Options
	hot       *otter.Cache[string, *hotEntry]
	heads     heads
	clients   *caller.Limiter
	refiner   refiner
	counting  sync.WaitGroup
	uncounted atomic.Int64 // until when variants aren't counted in the database, which didn't answer in time
	base      context.Context
	cancel    context.CancelFunc
}

const (
	mostHot     = 50_000
	mostClients = 50_000
)

// New makes a Service. Close ends it.
func New(o Options) (*Service, error) {
	hot, err := otter.New(&otter.Options[string, *hotEntry]{MaximumSize: mostHot})
	if err != nil {
		return nil, err
	}
	s := &Service{Options: o, hot: hot, clients: caller.NewLimiter(mostClients)}
	s.base, s.cancel = context.WithCancel(context.Background())
	s.refine()
	s.counting.Go(s.countAsked)
	return s, nil
}

// Cancel ends the waiting of all requests under way.
func (s *Service) Cancel() { s.cancel() }

// Close ends what goes on beside requests. Variants that were still to be searched for stay as they are.
func (s *Service) Close() {
	s.cancel()
	s.counting.Wait()
	s.refiner.ended.Wait()
	for f := s.refiner.take(); f != nil; f = s.refiner.take() { // made, if not searched for
		s.Recorder.Made(f.record)
	}
}

// Handle answers one request, which has these fields.
func (s *Service) Handle(c *fasthttp.RequestCtx, fields Fields) {
	start := source.Now()
	if fields.has&hasLoop != 0 && s.looped(c) {
		s.refuse(c, "", "", policy.No(policy.Refusal{Reason: policy.ReasonLoop, Detail: "the request came through this service before: a lane leads back to it", Remedy: "point the lane at where the sources are, not at Echo Lane"}), start)
		return
	}
	// What a hit needs of the request is kept out of the heap: the request itself is a large value.
	all := s.Settings.Current()
	accepted, client := fields.accepts(&c.Request.Header), fields.client(&c.Request.Header)
	hosted := all.SiteByHost(text(c.Request.Header.Host()))
	uri := Target(c)

	var room [512]byte
	look := appendHotKey(room[:0], uri, accepted, client, hosted)
	if m, ok := s.hot.GetIfPresent(text(look)); ok && m.holds(all, start) {
		if v, where, ok := s.Cache.AtHand(cache.Ask{Key: m.key, Since: m.since}); ok && (!v.Provisional || s.refiner.pending(m.key)) {
			e, no := s.admit(c, m.site, nil)
			if no != nil {
				s.refuse(c, m.site.Name, "", no, start)
				return
			}
			how := ""
			if where != cache.Memory {
				how = text(appendTiming(make([]byte, 0, 96), v, where, start, start))
			}
			s.answer(c, fields, v, m, e, where, how, start)
			if v.Lent() {
				sendFirst(c, v)
			}
			return
		}
	}
	s.handle(c, &request{settings: all, fields: fields, accepted: accepted, client: client, hosted: hosted}, string(uri), string(look), start)
}

// sendFirst has a variant's memory used again once the answer is sent.
func sendFirst(c *fasthttp.RequestCtx, v *cache.Variant) {
	if conn, ok := c.Conn().(*connections.Conn); ok {
		conn.Lent(v)
		return
	}
	c.Response.SetBody(c.Response.Body()) // a copy
	v.Back()
}

// handle takes a request along the whole line.
func (s *Service) handle(c *fasthttp.RequestCtx, r *request, uri, look string, start int64) {
	if !s.Settings.Known() {
		s.refuse(c, "", "", policy.No(policy.Refusal{Reason: policy.ReasonDatabaseAway, Detail: "the service has started while the database is away, and knows no settings yet", Remedy: "try again when the database answers (/-/ready says when)", RetryIn: 5}), start)
		return
	}
	ctx, leave := s.waiting(c)
	defer leave()
	if p, ok := trace.Parse(text(c.Request.Header.Peek(trace.Field))); ok {
		ctx = trace.With(ctx, p)
	}
	no := s.read(r, uri)
	ctx = workshop.With(ctx, workshop.Visitor, r.siteName(), caller.Of(c, s.Proxies).String())
	if no == nil {
		no = s.decide(r)
	}
	var e policy.Embedding
	if no == nil {
		e, no = s.admit(c, r.site, r.trace)
	}
	var f *found
	if no == nil {
		f, no = s.find(ctx, r, start)
	}
	defer f.close()
	switch {
	case no != nil && ctx.Err() != nil && s.base.Err() == nil: // the client has gone: nothing was refused
		c.SetConnectionClose()
		problem.Write(c, no)
	case r.declared.As == declare.Explain:
		s.explain(c, r, f, no, start)
	case no != nil:
		s.refuse(c, r.siteName(), r.asked(), no, start)
	case f.original != nil:
		s.sendOriginal(c, r, f, e, start)
	default:
		if !f.variant.Unshared && !f.stale() {
			s.hot.Set(look, f.hot)
		}
		s.answer(c, r.fields, f.variant, f.hot, e, f.where, f.timing, start)
	}
}

// found is what the line comes to: a variant, or the source itself.
type found struct {
	hot      *hotEntry
	use      policy.Use
	sources  []*source.Located // the picture's own, then the layers'
	key      cache.Key
	variant  *cache.Variant
	where    cache.Where
	timing   string
	original *original
}

// stale reports whether a source is being looked at again, so that what is found holds for now only.
func (f *found) stale() bool {
	for _, l := range f.sources {
		if l.Stale {
			return true
		}
	}
	return false
}

// close lets go of the sources.
func (f *found) close() {
	if f != nil {
		for _, l := range f.sources {
			l.Close()
		}
		f.sources = nil
	}
}

// find takes a request that policy lets through on: to its sources, its key and its variant.
func (s *Service) find(ctx context.Context, r *request, start int64) (*found, *policy.Refusal) {
	f := &found{}
	// A source may change between a look at it and the reading of it; then the key changes too.
	for range 3 {
		if no := s.locate(ctx, r, f); no != nil {
			return f, no
		}
		if r.original() && f.use == policy.Render {
			return f, s.findOriginal(ctx, r, f)
		}
		f.key = keyOf(r, f)
		err := s.get(ctx, r, f, start)
		if err == nil {
			return f, nil
		}
		if !errors.Is(err, held.ErrChanged) {
			return f, s.refusalOf(err)
		}
		for _, l := range f.sources {
			l.Source.Doubt()
		}
		f.close()
	}
	return f, policy.No(policy.Refusal{Reason: policy.ReasonSourceUnreadable, Detail: "the source goes on changing while it is read", Remedy: "try again when it has settled", RetryIn: 2})
}

// looped reports whether the request came through this deployment before.
func (s *Service) looped(c *fasthttp.RequestCtx) bool {
	fields := c.Request.Header.PeekAll(loopField)
	own := s.Settings.Deployment()
	for _, field := range fields {
		for part := range bytes.SplitSeq(field, []byte(",")) {
			name, _, _ := bytes.Cut(part, []byte(";"))
			if own != "" && string(bytes.TrimSpace(name)) == own {
				return true
			}
		}
	}
	return false
}

// refusalOf is what a person is told of an error.
func (s *Service) refusalOf(err error) *policy.Refusal {
	var no *policy.Refusal
	var panicked *panics.Error
	switch {
	case errors.As(err, &no):
		return no
	case errors.Is(err, context.Canceled), errors.Is(err, context.DeadlineExceeded):
		return policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "the request was given up before its turn came", Remedy: "try again in a moment", RetryIn: 2})
	case errors.As(err, &panicked): // which is in the log already
	default:
		s.Log.Error("an image request broke", "error", err)
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonInternal, Detail: "the service met something that it wasn't made for", Remedy: "tell whoever runs the service"})
}

// Measure makes what a request for uri would be answered with, through the same cache, for callers within the service:
// no page, client or month is held against it, and nothing needs a signature. accept is the client's Accept field.
func (s *Service) Measure(ctx context.Context, uri, accept string) (*cache.Variant, *policy.Refusal) {
	v, _, no := s.ahead(ctx, uri, accept, false, nil)
	return v, no
}

// Preview is Measure under another sheet than the site's.
func (s *Service) Preview(ctx context.Context, uri, accept string, by *sheet.Sheet) (*cache.Variant, *policy.Refusal) {
	v, _, no := s.ahead(ctx, uri, accept, false, by)
	return v, no
}

// Warm has there be a variant for a request for uri, as Measure does, searched for at once. made says that there was none yet.
func (s *Service) Warm(ctx context.Context, uri, accept string) (bytes int, made bool, no *policy.Refusal) {
	v, where, no := s.ahead(ctx, uri, accept, true, nil)
	if no != nil {
		return 0, false, no
	}
	return len(v.Body), where == cache.Made, nil
}

// ahead makes a variant behind all that visitors wait for; by, where it isn't nil, is taken for the site's sheet.
func (s *Service) ahead(ctx context.Context, uri, accept string, atOnce bool, by *sheet.Sheet) (v *cache.Variant, where cache.Where, no *policy.Refusal) {
	start := source.Now()
	r := &request{settings: s.Settings.Current(), accepted: policy.ReadAccept(accept), trusted: true, atOnce: atOnce}
	err := s.Panics.Run("make "+uri, func() error {
		if no = s.read(r, uri); no == nil {
			if by != nil {
				settings, site := *r.site, *r.site.Site
				settings.Site, site.Sheet = &site, by
				r.site = &settings
			}
			no = s.decide(r)
		}
		if no != nil {
			return nil
		}
		ctx = workshop.With(ctx, workshop.Ahead, r.siteName(), "")
		var f *found
		f, no = s.find(ctx, r, start)
		defer f.close()
		switch {
		case no != nil && no.Reason == policy.ReasonNoSuchSource && r.declared.As == declare.Facts:
			if err := s.Recorder.Gone(ctx, r.site.Name, r.lane.Name, r.path); err != nil {
				s.Log.Warn("what was found in a source that is gone isn't forgotten", "site", r.site.Name, "lane", r.lane.Name, "path", r.path, "error", err)
			}
		case no != nil:
		case f.variant == nil: // the source itself is asked for
			no = policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "download", Detail: "nothing is made for a download of the source itself", Allowed: "what is made of a source", Remedy: "leave it out"})
		default:
			v, where = f.variant, f.where
			if atOnce && where != cache.Made && r.declared.As == declare.Facts { // made before anybody kept what was found
				s.lookedAt(r.site.Name, r.lane.Name, r.path, v.Body)
			}
		}
		return nil
	})
	if err != nil {
		return nil, where, s.refusalOf(err)
	}
	return v, where, no
}

// KeysOf gives the keys of the variants that a request for uri may be answered with now, in every format that the site delivers.
// Nothing is made for it.
func (s *Service) KeysOf(ctx context.Context, uri string) (keys []string, no *policy.Refusal) {
	err := s.Panics.Run("find the keys of "+uri, func() error {
		accepts := []policy.Accepted{0} // every set of those that a client has to name
		for _, f := range declare.Formats() {
			if f.Named() {
				for _, a := range accepts {
					accepts = append(accepts, a|policy.Accepts(f))
				}
			}
		}
		for _, a := range accepts {
			accepts = append(accepts, a|policy.NotJPEG, a|policy.NotPNG)
		}
		var ordered []policy.Accepted
		for _, a := range accepts {
			ordered = append(ordered, a.Orders()...)
		}
		for _, client := range []sheet.Client{{}, {Saves: true}, {Still: true}, {Saves: true, Still: true}} {
			for _, accepted := range ordered {
				r := &request{settings: s.Settings.Current(), accepted: accepted, client: client, trusted: true}
				if no = s.read(r, uri); no == nil {
					no = s.decide(r)
				}
				if no != nil {
					return nil
				}
				f := &found{}
				no = s.locate(workshop.With(ctx, workshop.Ahead, r.siteName(), ""), r, f)
				key := ""
				if no == nil {
					key = keyOf(r, f).String()
				}
				f.close()
				if no != nil {
					return nil
				}
				if !slices.Contains(keys, key) {
					keys = append(keys, key)
				}
			}
		}
		return nil
	})
	if err != nil {
		return nil, s.refusalOf(err)
	}
	return keys, no
}
