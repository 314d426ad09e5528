package delivery

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/cache"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

// The makers: a variant, a placeholder, facts, a drawing as it is.

// maker makes what a request has found no variant of. It outlives the request that began it as long as others wait, so it
// has its own share of the sources.
type maker struct {
	s         *Service
	r         *request
	kind      cache.Kind
	resolved  string
	key       string
	sources   []*source.Located
	looking   int64 // nanoseconds that the sources took to locate
	explained bool
	state     atomic.Int32 // whose the sources are to close: 0 not begun, 1 the making, 2 nobody's any more
}

func newMaker(s *Service, r *request, f *found, key string, looking int64) *maker {
	m := &maker{s: s, r: r, kind: f.key.Kind, resolved: f.key.Resolved, key: key, looking: looking, explained: r.declared.As == declare.Explain}
	for _, l := range f.sources {
		m.sources = append(m.sources, l.Share())
	}
	return m
}

// leave lets go of the sources where no making has begun.
func (m *maker) leave() {
	if m.state.CompareAndSwap(0, 2) {
		m.close()
	}
}

func (m *maker) close() {
	for _, l := range m.sources {
		l.Close()
	}
}

func (m *maker) own() *source.Located { return m.sources[0] }

func (m *maker) record() records.Variant {
	return records.Variant{
		Key: m.key, Site: m.r.site.Name, Lane: m.r.lane.Name, Path: m.r.path, Declarations: m.resolved,
		Class: m.r.declared.Class, SourceDigest: string(m.own().Known.Digest), SourceBytes: int(m.own().Known.Bytes),
	}
}

// produce makes it, within the site's bounds.
func (m *maker) produce(ctx context.Context) (v *cache.Variant, then func(), err error) {
	if !m.state.CompareAndSwap(0, 1) {
		return nil, nil, context.Canceled // who asked for it has gone
	}
	defer m.close()
	switch m.kind {
	case cache.Facts:
		v, err = m.facts(ctx)
	case cache.Drawing:
		v, err = m.drawing(ctx)
	default:
		record := m.record()
		ctx, stop := context.WithCancel(ctx)
		defer stop()
		done, counted, no := m.s.room(ctx, stop, m.r, m.own(), record)
		if no != nil {
			return nil, nil, no
		}
		made := -1
		defer func() { done(made) }()
		if v, then, err = m.picture(ctx, record, counted); err == nil {
			made = len(v.Body)
		}
	}
	if err == nil {
		v.Unshared = !keeps(m.r, m.sources)
		v.MadeAt = time.Now().Unix()
		v.Of = cache.Address{Site: m.r.site.Name, Lane: m.r.lane.Name, Path: m.r.path, Classes: m.r.declared.Class}
	}
	return v, then, err
}

// opener brings the sources when a worker is about to have them. Those that may have to be fetched first are here already.
func opener(ctx context.Context, sources []*source.Located) (open func(context.Context) ([]*held.Content, error), done func(), err error) {
	ready := make([]*held.Content, len(sources))
	done = func() {
		for _, c := range ready {
			c.Close()
		}
	}
	for i, l := range sources {
		if l.Lane.Near() {
			continue
		}
		if ready[i], err = l.Open(ctx); err != nil {
			done()
			return nil, nil, err
		}
	}
	return func(ctx context.Context) (all []*held.Content, err error) {
		for i, l := range sources {
			c := ready[i].Share()
			if c == nil {
				if c, err = l.Open(ctx); err != nil {
					for _, c := range all {
						c.Close()
					}
					return nil, err
				}
			}
			all = append(all, c)
		}
		return all, nil
	}, done, nil
}

// whom says for whom a job is done and what it is thought to take.
func (s *Service) whom(ctx context.Context, sources []*source.Located, job render.Job) workshop.For {
	heads := make([]codec.Header, len(sources))
	for i, l := range sources {
		heads[i] = l.Known.Header
	}
	f := workshop.From(ctx).Takes(job.Estimate(heads, sources[0].Known.Bytes))
	f.Group = string(sources[0].Known.Digest)
	return f
}

// mostDeaths is how many workers may die over a job before its source is set aside.
const mostDeaths = 2

// setAside keeps a source over which workers have died from being worked on. Of a picture with layers nobody can tell whose
// fault it was; it is taken to be the picture's own.
func (s *Service) setAside(site string, sources []*source.Located, job render.Job, d *workshop.Death) {
	own := sources[0]
	s.setAsideFor(d, records.SetAside{Site: site, Digest: string(own.Known.Digest), Lane: own.Name, Path: own.Path, Asked: job.Request.Declarations.AddressForm()})
}

// setAsideFor keeps a source from being worked on for the workers that died over it, if those are enough.
func (s *Service) setAsideFor(d *workshop.Death, a records.SetAside) {
	if a.Site == "" || d.Workers < mostDeaths || d.Memory {
		return
	}
	a.Workers, a.How, a.Words = d.Workers, d.How, d.Words
	if d.Call >= 0 {
		a.Call = &d.Call
	}
	s.Log.Warn("a source is set aside: workers died over it", "site", a.Site, "lane", a.Lane, "path", a.Path, "how", a.How)
	s.Settings.SetAside(a)
}

// HasAside reports whether sources of a site are set aside.
func (s *Service) HasAside(site string) bool { return s.Settings.HasAside(site) }

// RefuseAside is what is answered for a source that is set aside; nil: it isn't.
func (s *Service) RefuseAside(site string, digest held.Digest) *policy.Refusal {
	if a := s.Settings.Aside(site, string(digest)); a != nil {
		return a.Refusal()
	}
	return nil
}

// HeaderFailed sets a source aside whose header couldn't be read, where that is for workers that died over it.
func (s *Service) HeaderFailed(site, lane, path string, digest held.Digest, err error) {
	var death *workshop.Death
	if errors.As(err, &death) {
		s.setAsideFor(death, records.SetAside{Site: site, Digest: string(digest), Lane: lane, Path: path})
	}
}

// render has a variant made of the sources, and makes sure that it was made of them.
func (s *Service) render(ctx context.Context, sources []*source.Located, job render.Job) (render.Result, error) {
	site := workshop.From(ctx).Site
	for _, l := range sources {
		if no := s.RefuseAside(site, l.Known.Digest); no != nil {
			return render.Result{}, no
		}
	}
	whom := s.whom(ctx, sources, job)
	if s.Workshop.Full(whom) { // before anything is read for it
		return render.Result{}, policy.No(policy.Refusal{Reason: policy.ReasonBusy, Detail: "more variants are waiting to be made than there is room for", Remedy: "try again in a moment", RetryIn: 2})
	}
	open, done, err := opener(ctx, sources)
	if err != nil {
		return render.Result{}, err
	}
	defer done()
	result, digests, err := s.Workshop.Render(ctx, whom, open, job)
	var death *workshop.Death
	if errors.As(err, &death) {
		s.setAside(site, sources, job, death)
	}
	for i := range min(len(digests), len(sources)) {
		is, unknown := s.Sources.Is(ctx, sources[i], digests[i])
		switch {
		case unknown != nil && err == nil:
			err = unknown
		case unknown == nil && !is:
			sources[i].Mistaken()
			err = held.ErrChanged
		}
	}
	return result, err
}

// job is what the picture or its placeholder is made by.
func (m *maker) job() render.Job {
	job := render.Job{Request: m.r.resolved, Limits: m.r.lane.Limits, Floor: m.r.site.QualityFloor, Thorough: m.r.site.Effort == policy.Thorough, Tried: m.r.site.FormatsTried}
	if m.kind == cache.Placeholder {
		job.Placeholder = render.PlaceholderBytes
	}
	return job
}

// picture has the variant or its placeholder made; counted says then whether it may be had. then has it searched for, where it was
// predicted.
func (m *maker) picture(ctx context.Context, record records.Variant, counted func() *policy.Refusal) (v *cache.Variant, then func(), err error) {
	begin := source.Now()
	job := m.job()
	predicted := m.r.site.Effort == policy.Predicted
	job.Predict = predicted || !m.explained && !m.r.atOnce && keeps(m.r, m.sources) && m.s.later()
	result, err := m.s.render(ctx, m.sources, job)
	if err == nil || ctx.Err() != nil { // it may have been stopped for that
		if no := counted(); no != nil {
			err = no
		}
	}
	if err != nil {
		return nil, nil, err
	}
	result.How.Provisional = result.How.Provisional && !predicted
	v = &cache.Variant{
		Body: result.Data, ETag: cache.ETagOf(result.Data), Type: result.Format.MediaType(),
		Width: result.Canvas.W, Height: result.Canvas.H, NaturalWidth: result.Natural.W, NaturalHeight: result.Natural.H,
		SourceType: result.Source, SourceBytes: int(m.own().Known.Bytes), Encoding: &result.How, Layers: result.Layers,
	}
	v.Stages = append(v.Stages, cache.Stage{Name: "source", MS: ms(m.looking)})
	for _, st := range result.Stages {
		v.Stages = append(v.Stages, cache.Stage{Name: st.Name, MS: ms(int64(st.Took))})
	}
	record.Format, record.Width, record.Height, record.Bytes = result.Format.String(), v.Width, v.Height, len(v.Body)
	record.RenderMS = ms(source.Now() - begin)
	if v.Provisional = result.How.Provisional; v.Provisional {
		then = func() {
			m.s.putOff(refinement{key: m.key, sources: m.sources, job: job, record: record}, v)
		}
	} else {
		m.s.Recorder.Made(record)
	}
	c := &m.own().Source.Variants
	c.Lock()
	c.N++
	c.Unlock()
	m.s.Log.Info("variant made", "site", record.Site, "lane", record.Lane, "path", record.Path, "declarations", record.Declarations, "bytes", record.Bytes, "ms", record.RenderMS)
	return v, then, nil
}

// largestDrawing is how much of a drawing goes out untouched.
const largestDrawing = 8 << 20

// drawing reads the source as it is.
func (m *maker) drawing(ctx context.Context) (*cache.Variant, error) {
	if n := m.own().Known.Bytes; n > largestDrawing {
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonSourceTooManyBytes, Given: fmt.Sprint(n), Allowed: fmt.Sprintf("drawings of at most %d bytes", largestDrawing), Detail: fmt.Sprintf("the drawing has %d bytes", n), Remedy: "use a smaller drawing, or a picture made of it"})
	}
	content, err := m.own().Open(ctx)
	if err != nil {
		return nil, err
	}
	defer content.Close()
	data, err := io.ReadAll(content.Reader())
	if err == nil && !m.own().Known.Digest.IsOf(data) {
		m.own().Mistaken()
		err = held.ErrChanged
	}
	if err != nil {
		return nil, err
	}
	return &cache.Variant{
		Body: data, ETag: cache.ETagOf(data), Type: svgType, SourceType: svgType, SourceBytes: len(data),
		Encoding: &encode.Encoding{Kind: "drawing", Way: "source"}, Stages: []cache.Stage{{Name: "source", MS: ms(m.looking)}},
	}, nil
}

// placeholderPrefix begins a placeholder as a data URL.
const placeholderPrefix = "data:image/webp;base64,"

// PlaceholderJob makes a blurred picture that is at most 600 bytes as a data URL: see PlaceholderURL.
func PlaceholderJob(limits policy.Limits) render.Job {
	d := declare.Declarations{EncodingValues: declare.EncodingValues{Format: declare.WebP}}
	return render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: limits, Placeholder: (render.PlaceholderBytes - len(placeholderPrefix)) / 4 * 3}
}

// PlaceholderURL is what PlaceholderJob makes, to stand in a page until the real picture has come.
func PlaceholderURL(made []byte) string {
	return placeholderPrefix + base64.StdEncoding.EncodeToString(made)
}

// facts finds out what is known of the source, as JSON that is kept like a variant.
func (m *maker) facts(ctx context.Context) (*cache.Variant, error) {
	own, limits := m.sources[:1], m.r.lane.Limits
	h := m.own().Known.Header
	found, err := m.s.render(ctx, own, render.Job{Request: declare.Resolved{Formats: []declare.Format{declare.PNG}, Focus: m.r.resolved.Focus}, Limits: limits, Facts: true})
	if err != nil {
		return nil, err
	}
	tiny, err := m.s.render(ctx, own, PlaceholderJob(limits))
	if err != nil {
		return nil, err
	}
	f := source.FactsOf(m.own().Known.Version, h)
	f.Subject, f.Colour, f.Faces, f.Looks, f.Placeholder = found.Subject, found.Colour, found.Faces, found.Looks, PlaceholderURL(tiny.Data)
	body, err := json.Marshal(f)
	if err != nil {
		return nil, err
	}
	m.s.lookedAt(m.r.site.Name, m.r.lane.Name, m.r.path, body)
	return &cache.Variant{Body: body, ETag: cache.ETagOf(body), Type: "application/json", NaturalWidth: f.Width, NaturalHeight: f.Height, SourceType: f.Type, SourceBytes: int(f.Bytes)}, nil
}

// FactsOf are what as=facts says of the source at a path such as /kestrel/catalogue/delta-red.jpg, percent-encoded.
func (s *Service) FactsOf(ctx context.Context, path string) (f source.Facts, no *policy.Refusal) {
	v, no := s.Measure(ctx, path+"?as=facts", "")
	if no != nil {
		return f, no
	}
	if err := json.Unmarshal(v.Body, &f); err != nil {
		return f, s.refusalOf(err)
	}
	return f, nil
}
