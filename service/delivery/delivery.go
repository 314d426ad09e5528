// Package delivery is the image path: from a request to declarations, policy, cache, render and response. No
// settings are queried on it. A request that was answered lately, word for word, is answered from a memo of
// what its text leads to; the memo holds no bytes of pictures.
package delivery

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"github.com/maypok86/otter/v2"
	"github.com/valyala/fasthttp"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/spelling"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/variants"
)

// Settings gives the newest settings.
type Settings interface{ Current() *records.Settings }

// Renderer makes variants.
type Renderer interface {
	Render(ctx context.Context, source []byte, job render.Job) (render.Result, error)
}

// Journal notes variants that were made.
type Journal interface{ Add(records.Variant) }

// Ledger counts refusals.
type Ledger interface {
	Add(site, asked, sample string, no *policy.Refusal)
}

// Meter counts what sites use.
type Meter interface {
	Of(site string) *records.Count
}

// Lanes opens lanes.
type Lanes interface {
	Of(*records.Site, *policy.CompiledLane) (source.Lane, error)
}

// Census knows how many variants of a source's present version were made, and whether one of them is key.
type Census interface {
	VariantsOf(ctx context.Context, v records.Variant) (n int, known bool, err error)
}

// Classes are told of every request that names classes of a sheet.
type Classes interface {
	Used(site, classes, address string)
}

// Counters are told of every answer.
type Counters interface {
	Answered(where variants.Where, status, bytes int, took time.Duration)
	Refused(reason string)
}

// Options are what a Service works with; all of them are needed, but for Proxies.
type Options struct {
	Settings Settings
	Lanes    Lanes
	Cache    *variants.Cache
	Renderer Renderer
	Journal  Journal
	Ledger   Ledger
	Meter    Meter
	Classes  Classes
	Census   Census
	Counters Counters
	Log      *slog.Logger
	CDN      string         // this deployment's name in CDN-Loop (RFC 8586)
	Proxies  []netip.Prefix // whose X-Forwarded-For is believed

	// SearchAtOnce has the first answer wait for the search for its quality.
	SearchAtOnce bool
}

// Service answers image requests. Safe for concurrent use.
type Service struct {
	Options
	memo    *otter.Cache[string, *memo]
	sources sync.Map // source address → *state
	clients clients
	refiner refiner
}

const (
	memoEntries = 50_000
	maxSources  = 200_000
)

// New makes a Service.
func New(o Options) (*Service, error) {
	m, err := otter.New(&otter.Options[string, *memo]{MaximumSize: memoEntries})
	if err != nil {
		return nil, err
	}
	s := &Service{Options: o, memo: m}
	s.refine()
	return s, nil
}

// state is what is known of a source.
type state struct {
	mu      sync.Mutex
	until   atomic.Int64 // monotonic nanoseconds until which known holds without another look
	known   atomic.Pointer[source.Version]
	counted struct { // how many variants there are of it, as far as this node knows
		sync.Mutex
		at     int64
		n      int
		digest source.Digest
	}
}

// memo is where a request's text leads, as long as the site's settings and the source stay what they are.
type memo struct {
	generation atomic.Uint64 // of the settings in which site was last seen to be the newest
	site       *records.Site
	lane       *policy.CompiledLane
	source     *state
	version    *source.Version
	layers     []layer // the other sources that it is made of
	key        string
	location   []byte
	control    []byte // Cache-Control, where nothing else bears on it
	classes    string // that the request names
	attach     string // Content-Disposition, "" for none
	expires    int64  // seconds since 1970, 0 for never
	vary       string // the fields of the request that the answer depends on, "" for none
}

var began = time.Now()

func now() int64 { return int64(time.Since(began)) }

// fresh reports whether the memo still leads to the right variant.
func (m *memo) fresh(all *records.Settings, start int64) bool {
	if m.generation.Load() != all.Generation {
		if all.Site(m.site.Name) != m.site {
			return false
		}
		m.generation.Store(all.Generation)
	}
	for i := range m.layers {
		if l := &m.layers[i]; start >= l.source.until.Load() || l.source.known.Load() != l.version {
			return false
		}
	}
	return start < m.source.until.Load() && m.source.known.Load() == m.version && (m.expires == 0 || time.Now().Unix() < m.expires)
}

// Handle answers one request.
func (s *Service) Handle(c *fasthttp.RequestCtx) {
	start := now()
	all := s.Settings.Current()
	accepted := policy.ReadAccept(text(c.Request.Header.Peek("Accept")))
	saves := text(c.Request.Header.Peek("Save-Data")) == "on"
	uri := Target(c)
	hosted := all.SiteByHost(text(c.Request.Header.Host()))

	var room [512]byte
	look := append(append(room[:0], uri...), byte('0'+accepted))
	if saves {
		look = append(look, 's')
	}
	if hosted != nil {
		look = append(append(look, ' '), hosted.Name...)
	}
	if m, ok := s.memo.GetIfPresent(text(look)); ok && m.fresh(all, start) {
		if v, ok := s.Cache.InMemory(m.key); ok {
			e, no := s.admit(c, m.site, nil)
			if no != nil {
				s.refuse(c, m.site.Name, "", no)
				return
			}
			s.answer(c, v, m, e, variants.Memory, "", start)
			return
		}
	}

	r := &request{all: all, uri: string(uri), accepted: accepted, saves: saves, hosted: hosted}
	if s.looped(c) {
		s.refuse(c, "", "", policy.No(policy.Refusal{Reason: policy.ReasonLoop, Detail: "the request came through this service before: a lane leads back to it", Remedy: "point the lane at where the sources are, not at Echo Lane"}))
		return
	}
	no := s.read(r)
	if r.declared.As == declare.Explain {
		s.explain(c, r, no, start)
		return
	}
	var e policy.Embedding
	if no == nil {
		e, no = s.admit(c, r.site, nil)
	}
	if no == nil && r.original() {
		s.sendOriginal(c, r, e)
		return
	}
	var m *memo
	var v *variants.Variant
	var where variants.Where
	var timing string
	if no == nil {
		m, v, where, timing, no = s.work(r, start)
	}
	if no != nil {
		s.refuse(c, r.siteName(), r.asked(), no)
		return
	}
	s.memo.Set(string(look), m)
	s.answer(c, v, m, e, where, timing, start)
}

// looped reports whether the request came through this deployment before.
func (s *Service) looped(c *fasthttp.RequestCtx) bool {
	for _, field := range c.Request.Header.PeekAll("CDN-Loop") {
		for part := range bytes.SplitSeq(field, []byte(",")) {
			name, _, _ := bytes.Cut(part, []byte(";"))
			if string(bytes.TrimSpace(name)) == s.CDN {
				return true
			}
		}
	}
	return false
}

// admit holds what a request says beside its address against the site: its page, its client, the month.
func (s *Service) admit(c *fasthttp.RequestCtx, site *records.Site, trace *[]policy.Step) (e policy.Embedding, no *policy.Refusal) {
	if len(site.Pages) > 0 || trace != nil {
		h := &c.Request.Header
		if e, no = site.CheckPage(policy.Page{Site: string(h.Peek("Sec-Fetch-Site")), Origin: string(h.Peek("Origin")), Referer: string(h.Peek("Referer"))}, trace); no != nil {
			return e, no
		}
	}
	if site.RequestsPerSecond > 0 && !s.clients.allow(site.Name, s.client(c), site.RequestsPerSecond) {
		return e, policy.No(policy.Refusal{
			Reason: policy.ReasonTooManyRequests, Detail: fmt.Sprintf("site %s answers one client at most %g times a second", site.Name, site.RequestsPerSecond),
			Allowed: fmt.Sprintf("%g requests a second", site.RequestsPerSecond), Remedy: "ask again in a second, or raise the site's requests_per_second limit", RetryIn: 1,
		})
	}
	if most := site.Month.BytesServed; most > 0 {
		if used := s.Meter.Of(site.Name).Month().BytesServed; used >= most {
			return e, monthOver(site.Name, "bytes_served", used, most)
		}
	}
	return e, nil
}

func monthOver(site, what string, used, most int64) *policy.Refusal {
	t := time.Now().UTC()
	next := time.Date(t.Year(), t.Month()+1, 1, 0, 0, 0, 0, time.UTC)
	return policy.No(policy.Refusal{
		Reason: policy.ReasonMonthUsedUp, Parameter: "month." + what, Given: strconv.FormatInt(used, 10), Detail: fmt.Sprintf("site %s has used its %s of this month", site, strings.ReplaceAll(what, "_", " ")),
		Allowed: fmt.Sprintf("%d a month", most), Remedy: fmt.Sprintf("wait for %s, or raise the site's month.%s", next.Format("2 January"), what), RetryIn: int(next.Sub(t).Seconds()) + 1,
	})
}

// Target is the request's path and query as they were sent, also where a client sends the absolute form
// (RFC 9112, section 3.2.2).
func Target(c *fasthttp.RequestCtx) []byte {
	uri := c.RequestURI()
	if len(uri) > 0 && uri[0] != '/' {
		if _, rest, ok := bytes.Cut(uri, []byte("://")); ok {
			if i := bytes.IndexByte(rest, '/'); i >= 0 {
				return rest[i:]
			}
			return []byte("/")
		}
	}
	return uri
}

// text is b as a string without a copy, for looking up and reading only.
func text(b []byte) string { return unsafe.String(unsafe.SliceData(b), len(b)) }

// layer is a source that the declarations name beside the picture itself.
type layer struct {
	name    string // lane/path
	lane    source.Lane
	path    string
	data    []byte // where looking at it brought it
	source  *state
	version *source.Version
}

// request is one image request as far as its text and the settings go.
type request struct {
	all      *records.Settings
	uri      string
	accepted policy.Accepted
	saves    bool
	trusted  bool
	hosted   *records.Site // the site whose host name was asked, nil for a site in the path
	site     *records.Site
	lane     *policy.CompiledLane
	path     string
	declared declare.Declarations
	resolved declare.Resolved
	trace    *[]policy.Step
}

// varies names the fields of the request that the answer depends on.
func (r *request) varies() string {
	byAccept, bySaving := r.declared.Format == declare.FormatUnset, r.site.Sheet.AsksForData()
	switch {
	case byAccept && bySaving:
		return vAccept + ", Save-Data"
	case byAccept:
		return vAccept
	case bySaving:
		return "Save-Data"
	}
	return ""
}

func (r *request) siteName() string {
	if r.site == nil {
		return ""
	}
	return r.site.Name
}

// asked is what was asked for, in few words: where the refusal itself doesn't say.
func (r *request) asked() string {
	if r.lane == nil {
		return ""
	}
	return r.lane.Name + "/" + r.path
}

// original reports whether the source itself is asked for: as a download, with nothing declared beside it, of
// a lane that gives it.
func (r *request) original() bool {
	return r.declared.Download.Declared && r.lane.Original == "download" && r.declared.WithoutDelivery() == declare.Declarations{}
}

// read takes the request's text apart and puts it to policy.
func (s *Service) read(r *request) *policy.Refusal {
	path, query, _ := strings.Cut(r.uri, "?")
	rest := strings.TrimPrefix(path, "/")
	if r.site = r.hosted; r.site == nil {
		var name string
		name, rest, _ = strings.Cut(rest, "/")
		if r.site = r.all.Site(name); r.site == nil {
			return s.noSite(r.all, name)
		}
	}
	laneName, sourcePath, _ := strings.Cut(rest, "/")
	if r.lane = r.site.Lane(laneName); r.lane == nil {
		return NoLane(r.site, laneName)
	}
	var no *policy.Refusal
	if r.path, no = SourcePath(r.lane, sourcePath); no != nil {
		return no
	}
	declared, err := declare.Parse(query)
	if err != nil {
		if strings.Contains(query, "as=explain") {
			r.declared.As = declare.Explain // what is wrong is explained too
		}
		return policy.BadDeclarations(err.(declare.Problems))
	}
	r.declared = declared
	if declared.As == declare.Explain {
		r.trace = &[]policy.Step{}
	}
	ask := policy.Ask{Lane: r.lane, Declared: declared, Accepted: r.accepted, Saves: r.saves, Trusted: r.trusted, Now: time.Now().Unix(), Form: func() string {
		signed := r.declared
		signed.Signature, signed.As = "", declare.AsUnset
		return string(r.form(signed))
	}}
	r.resolved, no = r.site.Decide(&ask, r.trace)
	return no
}

// SourcePath is what the rest of an address, as it was sent, names in the lane.
func SourcePath(lane *policy.CompiledLane, sent string) (string, *policy.Refusal) {
	decoded, err := url.PathUnescape(sent)
	if err != nil {
		return "", policy.No(policy.Refusal{
			Reason: policy.ReasonBadPath, Detail: "the path isn't percent-encoded as it must be", Parameter: "path", Given: clip(sent),
			Allowed: "percent-encoded UTF-8", Remedy: "write % itself as %25",
		})
	}
	if lane.Kind == "web" && lane.BaseURL == "" {
		if strings.Contains(sent, "/") {
			return "", policy.No(policy.Refusal{
				Reason: policy.ReasonBadSourceURL, Parameter: "source", Given: clip(sent), Detail: "the lane takes the source's whole URL as one element of the path",
				Allowed: "the URL as encodeURIComponent writes it", Remedy: "write it as " + string(declare.AppendSegment(nil, clip(decoded))),
			})
		}
		return decoded, nil
	}
	return decoded, source.CheckPath(decoded)
}

func (s *Service) noSite(all *records.Settings, name string) *policy.Refusal {
	names := make([]string, len(all.Sites))
	for i := range all.Sites {
		names[i] = all.Sites[i].Name
	}
	no := policy.Refusal{Reason: policy.ReasonNoSuchSite, Parameter: "site", Given: clip(name), Detail: fmt.Sprintf("there is no site %q", clip(name)),
		Remedy: "begin the path with a site's name: /site/lane/path"}
	if near := spelling.Nearest(name, names); near != "" {
		no.Remedy = fmt.Sprintf("write %s instead of %s", near, clip(name))
	}
	return policy.No(no)
}

// NoLane is the refusal for a lane that the site doesn't have.
func NoLane(site *records.Site, name string) *policy.Refusal {
	names := make([]string, len(site.Lanes))
	for i := range site.Lanes {
		names[i] = site.Lanes[i].Name
	}
	no := policy.Refusal{Reason: policy.ReasonNoSuchLane, Parameter: "lane", Given: clip(name), Allowed: strings.Join(names, ", "),
		Detail: fmt.Sprintf("site %s has no lane %q", site.Name, clip(name)),
		Remedy: fmt.Sprintf("use one of its lanes, or add one: echolane lane add %s/NAME --folder DIR", site.Name)}
	if near := spelling.Nearest(name, names); near != "" {
		no.Remedy = fmt.Sprintf("write %s instead of %s", near, clip(name))
	}
	return policy.No(no)
}

func clip(s string) string {
	if len(s) > 60 {
		s = s[:57] + "…"
	}
	return strings.ToValidUTF8(s, "�")
}

// work answers a request that the memo couldn't.
func (s *Service) work(r *request, start int64) (*memo, *variants.Variant, variants.Where, string, *policy.Refusal) {
	lane, err := s.Lanes.Of(r.site, r.lane)
	if err != nil {
		return nil, nil, 0, "", s.refusalOf(err)
	}
	m := &memo{site: r.site, lane: r.lane, location: r.form(r.declared), vary: r.varies(), classes: r.declared.Class, expires: r.declared.Expires}
	m.generation.Store(r.all.Generation)
	resolved := r.resolved.String()
	make := s.make
	if r.declared.As == declare.Facts {
		resolved, m.vary = "as=facts", ""
		make = func(r *request, lane source.Lane, m *memo, data []byte, _ string, _ int64) (*variants.Variant, error) {
			return s.makeFacts(r, lane, m, data)
		}
	}

	if r.declared.As == declare.Placeholder {
		resolved = "as=placeholder&" + resolved
	}

	// The source may change between a look at it and the reading of it; then the key changes too.
	for range 3 {
		data, err := s.look(r, lane, m)
		if err != nil {
			return nil, nil, 0, "", s.refusalOf(err)
		}
		if err := s.lookAtLayers(r, m); err != nil {
			return nil, nil, 0, "", s.refusalOf(err)
		}
		digests := string(m.version.Digest)
		for _, l := range m.layers {
			digests += " " + string(l.version.Digest)
		}
		m.key = variants.Key(resolved, digests, version(r.site))
		looked := now()
		v, where, err := s.Cache.Get(m.key, func() (*variants.Variant, error) { return make(r, lane, m, data, resolved, looked-start) })
		if errors.Is(err, source.ErrChanged) {
			m.source.until.Store(0) // look again
			for _, l := range m.layers {
				l.source.until.Store(0)
			}
			continue
		}
		if err == nil && v.Provisional && r.declared.As == declare.Explain { // what is kept is explained, not what is for now
			if v, err = make(r, lane, m, data, resolved, looked-start); err == nil {
				s.Cache.Replace(m.key, v)
			}
		}
		if err != nil {
			return nil, nil, 0, "", s.refusalOf(err)
		}
		for i := range m.layers {
			m.layers[i].data = nil // a hit leaves them over
		}
		m.control = cacheControl(m)
		if r.declared.Download.Declared {
			m.attach = attachment(r, v.Type)
		}
		return m, v, where, timing(v, where, start, looked), nil
	}
	return nil, nil, 0, "", policy.No(policy.Refusal{Reason: policy.ReasonSourceUnreadable, Detail: "the source goes on changing while it is read", Remedy: "try again when it has settled", RetryIn: 2})
}

// version is the renderer's, and the site's effort: another effort makes other bytes.
func version(site *records.Site) string {
	if site.Thorough {
		return render.Version + "t"
	}
	return render.Version
}

// look finds out which version of the source there is. Where it had to be read for that, its bytes come back.
func (s *Service) look(r *request, lane source.Lane, m *memo) (data []byte, err error) {
	m.source, m.version, data, err = s.lookAt(r.site, r.lane, lane, r.path)
	return data, err
}

func (s *Service) lookAt(site *records.Site, in *policy.CompiledLane, lane source.Lane, path string) (*state, *source.Version, []byte, error) {
	l := &in.Lane
	address := strings.Join([]string{site.Name, l.Name, l.Kind, l.Folder, l.Base, l.Endpoint, l.Bucket, l.Prefix, path}, "\x00")
	kept, ok := s.sources.Load(address)
	if !ok {
		if s.crowded() {
			s.sources.Clear()
		}
		kept, _ = s.sources.LoadOrStore(address, &state{})
	}
	st := kept.(*state)
	st.mu.Lock()
	defer st.mu.Unlock()
	have := st.known.Load()
	if have != nil && now() < st.until.Load() {
		if w, ok := lane.(*source.Web); ok { // rules hold also for what is known
			if _, no := w.Check(path, nil); no != nil {
				return nil, nil, nil, no
			}
		}
		return st, have, nil, nil
	}
	next, data, err := lane.Look(context.Background(), path, have)
	if err != nil {
		s.sources.Delete(address)
		return nil, nil, nil, err
	}
	if have == nil || next.Digest != have.Digest || next.Stamp != have.Stamp {
		st.known.Store(&next)
	}
	st.until.Store(now() + int64(next.Fresh))
	return st, st.known.Load(), data, nil
}

// lookAtLayers finds the other sources that the declarations name, each under its own lane's rules.
func (s *Service) lookAtLayers(r *request, m *memo) error {
	m.layers = m.layers[:0]
	for _, name := range r.resolved.Pictures() {
		laneName, path, _ := strings.Cut(name, "/")
		in := r.site.Lane(laneName)
		if in == nil {
			return NoLane(r.site, laneName)
		}
		if in.Signed && r.declared.Signature == "" && !r.trusted {
			return policy.No(policy.Refusal{Reason: policy.ReasonSignatureNeeded, Parameter: "signature", Given: name, Detail: "the layer comes from a lane that answers signed links only", Remedy: "sign the link: echolane link … --sign KEY"})
		}
		if in.Kind != "web" || in.BaseURL != "" {
			if no := source.CheckPath(path); no != nil {
				return no
			}
		}
		lane, err := s.Lanes.Of(r.site, in)
		if err != nil {
			return err
		}
		l := layer{name: name, lane: lane, path: path}
		if l.source, l.version, l.data, err = s.lookAt(r.site, in, lane, path); err != nil {
			return err
		}
		m.layers = append(m.layers, l)
	}
	return nil
}

// crowded says whether too many sources are known.
func (s *Service) crowded() bool {
	n := 0
	s.sources.Range(func(any, any) bool { n++; return n < maxSources })
	return n >= maxSources
}

// make renders. data may be nil: then the source is read first.
func (s *Service) make(r *request, lane source.Lane, m *memo, data []byte, resolved string, looking int64) (*variants.Variant, error) {
	begin := now()
	record := records.Variant{Key: m.key, Site: r.site.Name, Lane: r.lane.Name, Path: r.path, Declarations: resolved, SourceDigest: string(m.version.Digest)}
	if no := s.room(r, m, record); no != nil {
		return nil, no
	}
	if data == nil {
		var err error
		if data, err = lane.Read(context.Background(), r.path, *m.version); err != nil {
			return nil, err
		}
	}
	if r.lane.SVG == "untouched" && codec.Sniff(data) == svgType {
		return &variants.Variant{
			Body: data, ETag: variants.ETagOf(data), Type: svgType, SourceType: svgType, SourceBytes: len(data),
			Encoding: &render.Encoding{Kind: "drawing", Way: "source"}, Stages: []variants.Stage{{Name: "source", MS: ms(looking + now() - begin)}},
		}, nil
	}
	layers := map[string][]byte{}
	for i := range m.layers {
		l := &m.layers[i]
		if l.data == nil {
			var err error
			if l.data, err = l.lane.Read(context.Background(), l.path, *l.version); err != nil {
				return nil, err
			}
		}
		layers[l.name] = l.data
		l.data = nil // the memo keeps no bytes
	}
	read := now()
	// Others may be waiting for this variant: it is made even if the one who asked first goes away.
	job := render.Job{Request: r.resolved, Limits: r.lane.Limits, Floor: r.site.QualityFloor, Pictures: layers, Thorough: r.site.Thorough}
	if r.declared.As == declare.Placeholder {
		job.Placeholder = render.PlaceholderBytes
	}
	job.Predict = r.declared.As != declare.Explain && s.later(len(data))
	result, err := s.Renderer.Render(context.Background(), data, job)
	if err != nil {
		return nil, err
	}
	v := &variants.Variant{
		Body: result.Data, ETag: variants.ETagOf(result.Data), Type: result.Format.MediaType(),
		Width: result.Canvas.W, Height: result.Canvas.H, NaturalWidth: result.Natural.W, NaturalHeight: result.Natural.H,
		SourceType: result.Source, SourceBytes: len(data), Encoding: &result.How,
	}
	v.Stages = append(v.Stages, variants.Stage{Name: "source", MS: ms(looking + read - begin)})
	for _, st := range result.Stages {
		v.Stages = append(v.Stages, variants.Stage{Name: st.Name, MS: ms(int64(st.Took))})
	}
	record.Format, record.Width, record.Height, record.Bytes = result.Format.String(), v.Width, v.Height, len(v.Body)
	record.SourceBytes, record.RenderMS = len(data), ms(now()-read)
	if v.Provisional = result.How.Provisional; v.Provisional {
		s.putOff(refinement{key: m.key, source: data, job: job, record: record, first: v})
	} else {
		s.Journal.Add(record)
	}
	s.Meter.Of(r.site.Name).Made(len(v.Body))
	m.source.counted.Lock()
	m.source.counted.n++
	m.source.counted.Unlock()
	s.Log.Info("variant made", "site", r.site.Name, "lane", r.lane.Name, "path", r.path, "declarations", resolved, "bytes", len(v.Body), "ms", record.RenderMS)
	return v, nil
}

// countHolds is how long a count of a source's variants is taken to be right but for this node's own.
const countHolds = int64(time.Minute)

// room says whether another variant may be made: within the month, and within the source's number.
func (s *Service) room(r *request, m *memo, record records.Variant) *policy.Refusal {
	month := &r.site.Month
	if month.Renders > 0 || month.BytesStored > 0 {
		used := s.Meter.Of(r.site.Name).Month()
		if month.Renders > 0 && used.Renders >= month.Renders {
			return monthOver(r.site.Name, "renders", used.Renders, month.Renders)
		}
		if month.BytesStored > 0 && used.BytesStored >= month.BytesStored {
			return monthOver(r.site.Name, "bytes_stored", used.BytesStored, month.BytesStored)
		}
	}
	most := r.site.VariantsPerSource
	if most == 0 {
		return nil
	}
	c := &m.source.counted
	c.Lock()
	defer c.Unlock()
	if c.at != 0 && now()-c.at < countHolds && c.digest == m.version.Digest && c.n < most {
		return nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), 500*time.Millisecond)
	defer cancel()
	n, known, err := s.Census.VariantsOf(ctx, record)
	if err != nil {
		return nil // without the database nobody can count; images go on being served
	}
	if c.digest == m.version.Digest && c.at != 0 && now()-c.at < countHolds {
		n = max(n, c.n) // what was made a moment ago isn't written down yet
	} else {
		c.at = now()
	}
	c.n, c.digest = n, m.version.Digest
	if n < most || known {
		return nil
	}
	return policy.Mended(r.site.Name, policy.Refusal{
		Reason: policy.ReasonTooManyVariants, Given: strconv.Itoa(n), Detail: fmt.Sprintf("there are %d variants of %s/%s already", n, r.lane.Name, clip(r.path)),
		Allowed: fmt.Sprintf("at most %d", most), Remedy: "ask for a variant that is there",
		Mend: &policy.Mend{Action: "set-limit", Value: fmt.Sprintf("variants_per_source=%d", 2*most)},
	})
}

func ms(n int64) float64 { return float64(n) / 1e6 }

// timing is the Server-Timing of an answer that took work.
func timing(v *variants.Variant, where variants.Where, start, looked int64) string {
	var b []byte
	add := func(name string, d float64) {
		if len(b) > 0 {
			b = append(b, ", "...)
		}
		b = append(b, name...)
		b = append(b, ";dur="...)
		b = strconv.AppendFloat(b, d, 'f', 2, 64)
	}
	switch where {
	case variants.Made:
		for _, s := range v.Stages {
			add(s.Name, s.MS)
		}
	case variants.Joined:
		add("joined", ms(now()-looked))
	default:
		b = append(b, `cache;desc="`+where.String()+`";dur=`...)
		b = strconv.AppendFloat(b, ms(now()-looked), 'f', 2, 64)
	}
	add("total", ms(now()-start))
	return string(b)
}

// form is the request's address form with the given declarations.
func (r *request) form(d declare.Declarations) []byte {
	var b []byte
	if r.hosted == nil {
		b = append(append(b, '/'), r.site.Name...)
	}
	b = append(append(b, '/'), r.lane.Name...)
	if r.lane.Kind == "web" && r.lane.BaseURL == "" {
		b = declare.AppendSegment(append(b, '/'), r.path)
	} else {
		for element := range strings.SplitSeq(r.path, "/") {
			b = declare.AppendSegment(append(b, '/'), element)
		}
	}
	if d != (declare.Declarations{}) {
		b = d.AppendAddressForm(append(b, '?'))
	}
	return b
}

func (s *Service) refusalOf(err error) *policy.Refusal {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	s.Log.Error("an image request broke", "error", err)
	return policy.No(policy.Refusal{Reason: policy.ReasonInternal, Detail: "the service met something that it wasn't made for", Remedy: "tell whoever runs the service"})
}
