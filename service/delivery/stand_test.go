package delivery

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/valyala/fasthttp"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/metadata"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/cache"
	"echolane/service/lane"
	"echolane/service/panics"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

// stand is the line with everything around it in memory: sites from documents, folders with small files that say what their
// header is, a workshop that makes words, a recorder that remembers.
type stand struct {
	*Service
	t        testing.TB
	dir      string
	settings *fakeSettings
	shop     *fakeShop
	recorder *fakeRecorder
	metrics  *fakeMetrics
	caught   *panics.Catcher
}

type fakeSettings struct {
	mu   sync.Mutex
	docs map[string]policy.Document
	now  atomic.Pointer[policy.Settings]
	keys map[string]string
	none bool

	aside map[string]*records.SetAside
}

func (f *fakeSettings) Current() *policy.Settings { return f.now.Load() }
func (f *fakeSettings) Known() bool               { return !f.none }
func (f *fakeSettings) Deployment() string        { return "echolane-test" }

func (f *fakeSettings) Aside(site, digest string) *records.SetAside {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.aside[site+" "+digest]
}

func (f *fakeSettings) HasAside(site string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	for key := range f.aside {
		if strings.HasPrefix(key, site+" ") {
			return true
		}
	}
	return false
}

func (f *fakeSettings) SetAside(a records.SetAside) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.aside == nil {
		f.aside = map[string]*records.SetAside{}
	}
	f.aside[a.Site+" "+a.Digest] = &a
}

// set compiles documents anew, as a change of settings does.
func (f *fakeSettings) set(t testing.TB, docs ...policy.Document) {
	t.Helper()
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.docs == nil {
		f.docs = map[string]policy.Document{}
	}
	for _, d := range docs {
		f.docs[d.Site] = d
	}
	before := f.now.Load()
	var stored []policy.Stored
	for _, d := range f.docs {
		version := int64(1)
		if old := before.Site(d.Site); old != nil {
			version = old.Version
			if len(policy.Diff(old.Document, complete(d))) > 0 {
				version++
			}
		}
		stored = append(stored, policy.Stored{Document: d, Version: version, Secrets: f.keys})
	}
	next, errs := policy.NewSettings(lane.Described, before, stored)
	for _, err := range errs {
		t.Fatal(err)
	}
	f.now.Store(next)
}

func complete(d policy.Document) policy.Document {
	d = d.Clone()
	d.Complete(lane.Described)
	return d
}

// fakeShop reads headers as files say them, in words, and makes variants that say what was asked.
type fakeShop struct {
	renders, headers, strips atomic.Int64
	full                     bool
	hold                     chan struct{} // renders wait for it
	provisional              bool
	headerFail               error
	fail                     error
	searches                 atomic.Pointer[error] // what searches fail with; nil: they don't
	panics                   bool
}

func read(c *held.Content) ([]byte, error) { return io.ReadAll(c.Reader()) }

func (f *fakeShop) Header(_ context.Context, c *held.Content) (codec.Header, error) {
	f.headers.Add(1)
	if f.headerFail != nil {
		return codec.Header{}, f.headerFail
	}
	data, err := read(c)
	if err != nil {
		return codec.Header{}, err
	}
	h := codec.Header{Type: "image/png", Orientation: 1, Frames: 1, Depth: 8}
	first, _, _ := strings.Cut(string(data), "\n")
	if strings.HasPrefix(first, "svg") {
		return codec.Header{Type: svgType, W: 10, H: 10, Orientation: 1, Frames: 1}, nil
	}
	if n, _ := fmt.Sscanf(first, "%dx%d %d", &h.W, &h.H, &h.Frames); n < 2 {
		return h, policy.NotRead("text/plain")
	}
	h.Frames = max(1, h.Frames)
	return h, nil
}

func (f *fakeShop) Strip(_ context.Context, c *held.Content) ([]metadata.Splice, error) {
	f.strips.Add(1)
	return []metadata.Splice{{N: c.Size() - 4}, {Put: []byte("END!")}}, nil
}

// onlyFirst has searches fail; nil: no more.
func (f *fakeShop) onlyFirst(err error) { f.searches.Store(&err) }

func (f *fakeShop) Full(workshop.For) bool { return f.full }

func (f *fakeShop) Render(ctx context.Context, _ workshop.For, open func(context.Context) ([]*held.Content, error), job render.Job) (render.Result, []held.Digest, error) {
	f.renders.Add(1)
	if f.panics {
		panic("a maker panics")
	}
	if f.hold != nil {
		select {
		case <-f.hold:
		case <-ctx.Done():
			return render.Result{}, nil, ctx.Err()
		}
	}
	contents, err := open(ctx)
	if err != nil {
		return render.Result{}, nil, err
	}
	var digests []held.Digest
	for _, c := range contents {
		data, err := read(c)
		c.Close()
		if err != nil {
			return render.Result{}, nil, err
		}
		digests = append(digests, held.DigestOf(data))
	}
	if f.fail != nil {
		return render.Result{}, digests, f.fail
	}
	if e := f.searches.Load(); e != nil && *e != nil && !job.Predict {
		return render.Result{}, digests, *e
	}
	r := render.Result{Data: fmt.Appendf(nil, "made of %v by %s floor %d predict %v", digests, job.Request.String(), job.Floor, job.Predict), Format: declare.WebP, Canvas: geometry.Size{W: 3, H: 2}, Natural: geometry.Size{W: 3, H: 2}}
	r.How.Provisional = f.provisional && job.Predict
	return r, digests, nil
}

type fakeRecorder struct {
	mu       sync.Mutex
	made     []records.Variant
	refused  []*policy.Refusal
	used     []string
	gone     []string // lane/path
	counts   map[string]*records.UsageCounter
	inAll    int
	census   func(context.Context) error
	counting atomic.Int64
}

func (f *fakeRecorder) LookedAt(records.LookedAt) {}

func (f *fakeRecorder) Gone(_ context.Context, _, lane, path string) error {
	f.gone = append(f.gone, lane+"/"+path)
	return nil
}

func (f *fakeRecorder) Made(v records.Variant) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.made = append(f.made, v)
}
func (f *fakeRecorder) Refused(_, _, _ string, no *policy.Refusal) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.refused = append(f.refused, no)
}
func (f *fakeRecorder) Used(_, classes, _ string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.used = append(f.used, classes)
}
func (f *fakeRecorder) Usage(site string) *records.UsageCounter {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.counts[site] == nil {
		f.counts[site] = &records.UsageCounter{}
	}
	return f.counts[site]
}
func (*fakeRecorder) Asked(context.Context, []records.Asked) error { return nil }

func (f *fakeRecorder) VariantsOf(ctx context.Context, _ records.Variant) (int, bool, error) {
	f.counting.Add(1)
	if f.census != nil {
		if err := f.census(ctx); err != nil {
			return 0, false, err
		}
	}
	return f.inAll, false, nil
}

type fakeMetrics struct {
	answered, refused atomic.Int64
	bytes             atomic.Int64
}

func (f *fakeMetrics) Answered(_ cache.Where, _, bytes int, _ time.Duration) {
	f.answered.Add(1)
	f.bytes.Add(int64(bytes))
}
func (f *fakeMetrics) Refused(policy.Reason, time.Duration) { f.refused.Add(1) }

func newStand(t testing.TB, docs ...policy.Document) *stand {
	t.Helper()
	s := &stand{t: t, dir: t.TempDir(), settings: &fakeSettings{}, shop: &fakeShop{}, recorder: &fakeRecorder{counts: map[string]*records.UsageCounter{}}, metrics: &fakeMetrics{}, caught: &panics.Catcher{}}
	quiet := slog.New(slog.NewTextHandler(io.Discard, nil))
	cache, err := cache.New(cache.Options{MemoryBytes: 1 << 20, Log: quiet, Panics: s.caught})
	if err != nil {
		t.Fatal(err)
	}
	lanes := &source.Lanes{Kinds: lane.Kinds, Keep: source.NewKeep(nil, 0), CDN: s.settings.Deployment}
	sources := source.NewTable(lanes, s.shop, s.caught)
	if s.Service, err = New(Options{
		Settings: s.settings, Sources: sources, Cache: cache, Workshop: s.shop, Recorder: s.recorder, Metrics: s.metrics, Log: quiet, Panics: s.caught,
		MayRead: func(_ context.Context, bearer, _ string) bool { return bearer == "good" },
	}); err != nil {
		t.Fatal(err)
	}
	sources.HeedAside(s.Service)
	t.Cleanup(s.Close)
	s.put("kite.png", "600x400\nkite")
	if len(docs) == 0 {
		docs = []policy.Document{s.site("kestrel", nil)}
	}
	s.settings.set(t, docs...)
	return s
}

// site is a document with one folder lane, f, on the stand's folder.
func (s *stand) site(name string, change func(*policy.Document)) policy.Document {
	d := policy.NewDocument(name)
	long := 3600
	d.Lanes = []policy.Lane{{Name: "f", Kind: "folder", Folder: s.dir, FreshS: &long, MaxAgeS: &long}}
	d.Complete(lane.Described)
	if change != nil {
		change(&d)
	}
	return d
}

func (s *stand) put(name, text string) {
	s.t.Helper()
	if err := os.WriteFile(filepath.Join(s.dir, name), []byte(text), 0o644); err != nil {
		s.t.Fatal(err)
	}
}

// ask sends a request along the line; fields come in pairs.
func (s *stand) ask(uri string, fields ...string) *fasthttp.RequestCtx {
	s.t.Helper()
	c := &fasthttp.RequestCtx{}
	var q fasthttp.Request
	q.SetRequestURI(uri)
	q.Header.SetHost("images.test")
	for i := 0; i+1 < len(fields); i += 2 {
		switch fields[i] {
		case "Host":
			q.Header.SetHost(fields[i+1])
		case "Method":
			q.Header.SetMethod(fields[i+1])
		default:
			q.Header.Add(fields[i], fields[i+1])
		}
	}
	handle(s.Service, c, &q)
	return c
}

// handle has a request answered as if it had come over a connection.
func handle(s *Service, c *fasthttp.RequestCtx, q *fasthttp.Request) Fields {
	var sent fasthttp.Request
	if err := sent.Header.Read(bufio.NewReader(strings.NewReader(q.Header.String()))); err != nil {
		panic(err)
	}
	c.Init(&sent, &net.TCPAddr{IP: net.IPv4(192, 0, 2, 1), Port: 1}, nil)
	fields := FieldsOf(&c.Request.Header)
	s.Handle(c, fields)
	return fields
}

func field(c *fasthttp.RequestCtx, name string) string { return string(c.Response.Header.Peek(name)) }

// outcome is the status and, of a refusal, its reason.
func outcome(c *fasthttp.RequestCtx) string {
	body := string(c.Response.Body())
	if _, rest, ok := strings.Cut(body, `"reason":"`); ok && c.Response.StatusCode() >= 400 {
		reason, _, _ := strings.Cut(rest, `"`)
		return fmt.Sprintf("%d %s", c.Response.StatusCode(), reason)
	}
	return fmt.Sprint(c.Response.StatusCode())
}
