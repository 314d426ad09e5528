// Package delivery is the image path: from a request to declarations, policy, cache, render and response. No
// query runs on it. A request that was answered lately, word for word, is answered from a memo of what its
// text leads to; the memo holds no bytes of pictures.
package delivery

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"
	"unsafe"

	"github.com/maypok86/otter/v2"
	"github.com/valyala/fasthttp"

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

// Counters are told of every answer.
type Counters interface {
	Answered(where variants.Where, status, bytes int, took time.Duration)
	Refused(reason string)
}

// Options are what a Service works with; all of them are needed.
type Options struct {
	Settings Settings
	Cache    *variants.Cache
	Renderer Renderer
	Journal  Journal
	Counters Counters
	Log      *slog.Logger
}

// Service answers image requests. Safe for concurrent use.
type Service struct {
	Options
	memo    *otter.Cache[string, *memo]
	sources sync.Map // source address → *state
}

const (
	memoEntries = 50_000
	maxSources  = 200_000

	// recheck is how long a source's file is taken to be unchanged without another look.
	recheck = time.Second

	cacheControl = "public, max-age=3600, stale-while-revalidate=86400"
)

// New makes a Service.
func New(o Options) (*Service, error) {
	m, err := otter.New(&otter.Options[string, *memo]{MaximumSize: memoEntries})
	if err != nil {
		return nil, err
	}
	return &Service{Options: o, memo: m}, nil
}

// state is what is known of a source.
type state struct {
	mu      sync.Mutex
	checked atomic.Int64 // monotonic nanoseconds of the last look
	known   atomic.Pointer[version]
}

type version struct {
	stamp  source.Stamp
	digest source.Digest
}

// memo is where a request's text leads, as long as the settings and the source stay what they are.
type memo struct {
	settings *records.Settings
	source   *state
	version  *version
	key      string
	location []byte
	vary     bool
}

var began = time.Now()

func now() int64 { return int64(time.Since(began)) }

// Handle answers one request.
func (s *Service) Handle(c *fasthttp.RequestCtx) {
	start := now()
	accepted := policy.ReadAccept(text(c.Request.Header.Peek("Accept")))
	uri := Target(c)

	var room [512]byte
	look := append(append(room[:0], uri...), byte('0'+accepted))
	if m, ok := s.memo.GetIfPresent(text(look)); ok && m.settings == s.Settings.Current() &&
		start-m.source.checked.Load() < int64(recheck) && m.source.known.Load() == m.version {
		if v, ok := s.Cache.InMemory(m.key); ok {
			s.answer(c, v, m, variants.Memory, "", start)
			return
		}
	}

	m, v, where, timing, refusal := s.work(string(uri), accepted, start)
	if refusal != nil {
		s.Refuse(c, refusal)
		return
	}
	s.memo.Set(string(look), m)
	s.answer(c, v, m, where, timing, start)
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

var (
	hNosniff      = []byte("nosniff")
	hAccept       = []byte("Accept")
	hCacheControl = []byte(cacheControl)
	hHit          = []byte("Echo-Lane; hit; detail=memory")
	hHitTiming    = []byte(`cache;desc="memory"`)
)

func (s *Service) answer(c *fasthttp.RequestCtx, v *variants.Variant, m *memo, where variants.Where, timing string, start int64) {
	h := &c.Response.Header
	h.SetContentType(v.Type)
	h.Set("ETag", v.ETag)
	h.SetBytesV("Cache-Control", hCacheControl)
	h.SetBytesV("Content-Location", m.location)
	h.SetBytesV("X-Content-Type-Options", hNosniff)
	if m.vary {
		h.SetBytesV("Vary", hAccept)
	}
	switch where {
	case variants.Memory:
		h.SetBytesV("Cache-Status", hHit)
		h.SetBytesV("Server-Timing", hHitTiming)
	case variants.Disk:
		h.Set("Cache-Status", "Echo-Lane; hit; detail=disk")
		h.Set("Server-Timing", timing)
	case variants.Joined:
		h.Set("Cache-Status", "Echo-Lane; fwd=miss; collapsed")
		h.Set("Server-Timing", timing)
	default:
		h.Set("Cache-Status", "Echo-Lane; fwd=miss; stored")
		h.Set("Server-Timing", timing)
	}
	sent := len(v.Body)
	if known := c.Request.Header.Peek("If-None-Match"); len(known) > 0 && matches(known, v.ETag) {
		c.Response.SetStatusCode(fasthttp.StatusNotModified)
		h.Del("Content-Type")
		sent = 0
	} else {
		c.Response.SetBodyRaw(v.Body)
		if c.IsHead() {
			sent = 0
		}
	}
	s.Counters.Answered(where, c.Response.StatusCode(), sent, time.Duration(now()-start))
}

// matches compares weakly against a list of validators (RFC 9110, section 13.1.2).
func matches(field []byte, etag string) bool {
	for part := range bytes.SplitSeq(field, []byte(",")) {
		part = bytes.TrimPrefix(bytes.TrimSpace(part), []byte("W/"))
		if string(part) == etag || string(part) == "*" {
			return true
		}
	}
	return false
}

// request is one image request as far as its text and the settings go.
type request struct {
	settings *records.Settings
	site     *records.Site
	lane     *records.Lane
	path     string
	declared declare.Declarations
	resolved declare.Resolved
}

// read takes the request's text apart and puts it to policy.
func (s *Service) read(uri string, accepted policy.Accepted) (request, *policy.Refusal) {
	r := request{settings: s.Settings.Current()}
	path, query, _ := strings.Cut(uri, "?")
	siteName, rest, _ := strings.Cut(strings.TrimPrefix(path, "/"), "/")
	laneName, sourcePath, _ := strings.Cut(rest, "/")
	if r.site = r.settings.Site(siteName); r.site == nil {
		return r, s.noSite(r.settings, siteName)
	}
	if r.lane = r.site.Lane(laneName); r.lane == nil {
		return r, NoLane(r.site, laneName)
	}
	decoded, err := url.PathUnescape(sourcePath)
	if err != nil {
		return r, policy.No(policy.Refusal{
			Reason: "bad-path", Detail: "the path isn't percent-encoded as it must be", Parameter: "path", Given: sourcePath,
			Allowed: "percent-encoded UTF-8", Remedy: "write % itself as %25",
		})
	}
	if no := source.CheckPath(decoded); no != nil {
		return r, no
	}
	r.path = decoded
	declared, err := declare.Parse(query)
	if err != nil {
		return r, policy.BadDeclarations(err.(declare.Problems))
	}
	r.declared = declared
	full := declared.Over(r.site.Defaults)
	r.resolved = declared.Resolve(r.site.Defaults, r.site.Offer(accepted, full.Quality))
	if no := policy.CheckLossless(r.resolved); no != nil {
		return r, no
	}
	return r, nil
}

func (s *Service) noSite(all *records.Settings, name string) *policy.Refusal {
	names := make([]string, len(all.Sites))
	for i := range all.Sites {
		names[i] = all.Sites[i].Name
	}
	no := policy.Refusal{Reason: "no-such-site", Parameter: "site", Given: clip(name), Detail: fmt.Sprintf("there is no site %q", clip(name)),
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
	no := policy.Refusal{Reason: "no-such-lane", Parameter: "lane", Given: clip(name), Allowed: strings.Join(names, ", "),
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
func (s *Service) work(uri string, accepted policy.Accepted, start int64) (*memo, *variants.Variant, variants.Where, string, *policy.Refusal) {
	r, no := s.read(uri, accepted)
	if no != nil {
		return nil, nil, 0, "", no
	}
	folder := source.Folder{Name: r.site.Name + "/" + r.lane.Name, Dir: r.lane.Folder}
	m := &memo{settings: r.settings, location: location(r), vary: r.declared.Format == declare.FormatUnset}
	resolved := r.resolved.String()

	// The source may change between a look at it and the reading of it; then the key changes too.
	for range 3 {
		data, err := s.look(r, folder, m)
		if err != nil {
			return nil, nil, 0, "", s.refusalOf(err)
		}
		m.key = variants.Key(resolved, string(m.version.digest), render.Version)
		looked := now()
		v, where, err := s.Cache.Get(m.key, func() (*variants.Variant, error) { return s.make(r, folder, m, data, resolved, looked-start) })
		if errors.Is(err, errChanged) {
			m.source.checked.Store(-int64(recheck)) // look again
			continue
		}
		if err != nil {
			return nil, nil, 0, "", s.refusalOf(err)
		}
		return m, v, where, timing(v, where, start, looked), nil
	}
	return nil, nil, 0, "", policy.No(policy.Refusal{Reason: "source-unreadable", Detail: "the source goes on changing while it is read", Remedy: "try again when it has settled", RetryIn: 2})
}

var errChanged = errors.New("the source has changed")

// look finds out which version of the source there is. Where it had to be read for that, its bytes come back.
func (s *Service) look(r request, folder source.Folder, m *memo) ([]byte, error) {
	address := folder.Name + "/" + folder.Dir + "/" + r.path
	kept, ok := s.sources.Load(address)
	if !ok {
		if s.crowded() {
			s.sources.Clear()
		}
		fresh := &state{}
		fresh.checked.Store(-int64(recheck))
		kept, _ = s.sources.LoadOrStore(address, fresh)
	}
	m.source = kept.(*state)
	m.source.mu.Lock()
	defer m.source.mu.Unlock()
	have := m.source.known.Load()
	if have != nil && now()-m.source.checked.Load() < int64(recheck) {
		m.version = have
		return nil, nil
	}
	stamp, err := folder.Stat(r.path)
	if err != nil {
		s.sources.Delete(address)
		return nil, err
	}
	if have != nil && have.stamp == stamp {
		m.source.checked.Store(now())
		m.version = have
		return nil, nil
	}
	data, stamp, err := folder.Read(r.path, r.site.Limits)
	if err != nil {
		return nil, err
	}
	m.version = &version{stamp, source.DigestOf(data)}
	m.source.known.Store(m.version)
	m.source.checked.Store(now())
	return data, nil
}

// crowded says, now and then, whether too many sources are known.
func (s *Service) crowded() bool {
	n := 0
	s.sources.Range(func(any, any) bool { n++; return n < maxSources })
	return n >= maxSources
}

// make renders. data may be nil: then the source is read first.
func (s *Service) make(r request, folder source.Folder, m *memo, data []byte, resolved string, looking int64) (*variants.Variant, error) {
	begin := now()
	if data == nil {
		var err error
		if data, _, err = folder.Read(r.path, r.site.Limits); err != nil {
			return nil, err
		}
		if source.DigestOf(data) != m.version.digest {
			return nil, errChanged
		}
	}
	read := now()
	// Others may be waiting for this variant: it is made even if the one who asked first goes away.
	result, err := s.Renderer.Render(context.Background(), data, render.Job{Request: r.resolved, Limits: r.site.Limits})
	if err != nil {
		return nil, err
	}
	v := &variants.Variant{
		Body: result.Data, ETag: variants.ETagOf(result.Data), Type: result.Format.MediaType(),
		Width: result.Canvas.W, Height: result.Canvas.H, NaturalWidth: result.Natural.W, NaturalHeight: result.Natural.H,
		SourceType: result.Source, SourceBytes: len(data),
	}
	v.Stages = append(v.Stages, variants.Stage{Name: "source", MS: ms(looking + read - begin)})
	for _, st := range result.Stages {
		v.Stages = append(v.Stages, variants.Stage{Name: st.Name, MS: ms(int64(st.Took))})
	}
	took := ms(now() - read)
	s.Journal.Add(records.Variant{
		Key: m.key, Site: r.site.Name, Lane: r.lane.Name, Path: r.path, Declarations: resolved, Format: result.Format.String(),
		Width: v.Width, Height: v.Height, Bytes: len(v.Body), SourceDigest: string(m.version.digest), SourceBytes: len(data), RenderMS: took,
	})
	s.Log.Info("variant made", "site", r.site.Name, "lane", r.lane.Name, "path", r.path, "declarations", resolved, "bytes", len(v.Body), "ms", took)
	return v, nil
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

// location is the request's address form.
func location(r request) []byte {
	b := []byte("/" + r.site.Name + "/" + r.lane.Name)
	for element := range strings.SplitSeq(r.path, "/") {
		b = append(b, '/')
		b = append(b, url.PathEscape(element)...)
	}
	if r.declared != (declare.Declarations{}) {
		b = append(b, '?')
		b = r.declared.AppendAddressForm(b)
	}
	return b
}

func (s *Service) refusalOf(err error) *policy.Refusal {
	var no *policy.Refusal
	if errors.As(err, &no) {
		return no
	}
	s.Log.Error("an image request broke", "error", err)
	return policy.No(policy.Refusal{Reason: "internal", Detail: "the service met something that it wasn't made for", Remedy: "tell whoever runs the service"})
}
