// Package weighing opens pages in Chromium, measures their pictures, makes them to fit, and rewrites the page.
package weighing

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net/netip"
	"net/url"
	"path"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/maypok86/otter/v2"

	"echolane/core/codec"
	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/sheet"
	"echolane/core/weighin"
	"echolane/service/cache"
	"echolane/service/panics"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

// Workshop makes variants and reads headers, as *workshop.Workshop does.
type Workshop interface {
	Render(ctx context.Context, whom workshop.For, open func(context.Context) ([]*held.Content, error), job render.Job) (render.Result, []held.Digest, error)
	Header(ctx context.Context, c *held.Content) (codec.Header, error)
}

// Sources find a site's sources by lane and path, as *source.Table does.
type Sources interface {
	Locate(ctx context.Context, site *policy.SiteSettings, in *policy.CompiledLane, path string, trace *[]policy.Step) (*source.Located, error)
}

// Weigher weighs pages. Safe for concurrent use.
type Weigher struct {
	Workshop Workshop
	Lanes    source.Opener
	Sources  Sources
	Browsers *Browsers
	Listen   string // where the service listens
	// MarkupFor writes markup for a source of a site in a slot. first: its picture is the page's largest in view.
	MarkupFor func(ctx context.Context, s *policy.SiteSettings, base, source, slot string, d declare.Declarations, first bool) (markup.Markup, *policy.Refusal)
	// IsFirst reports whether a Cache-Control of this service's says that a better answer follows; nil: none does.
	IsFirst func(cacheControl string) bool
	Log     *slog.Logger
	Panics  *panics.Catcher

	begun    sync.Once
	measured *otter.Cache[string, *weighin.Made] // by what they depend on: pages are weighed again and again
}

// mostMeasured is how many pictures that were made to fit are remembered, without their bytes.
const mostMeasured = 20000

func (w *Weigher) isFirst(cacheControl string) bool {
	return w.IsFirst != nil && w.IsFirst(cacheControl)
}

// A Map says that what lies below a URL lies in a lane too.
type Map struct {
	From string `json:"from"` // a URL, such as https://shop.test/pictures/
	To   string `json:"to"`   // lane, or lane/folder
}

// File stands for what an address answers.
type File struct {
	URL  string `json:"url"`
	Type string `json:"type"` // media type
	Data []byte `json:"data"` // in JSON base64
}

// Ask is what is to be weighed. Written as JSON it lacks its site.
type Ask struct {
	Site    *policy.SiteSettings `json:"-"`
	Page    string               `json:"page"`  // its URL
	Files   []File               `json:"files"` // stand for what other addresses answer
	HTML    []byte               `json:"html"`  // stands for what the page's address answers; nil: what it answers
	Screens []Screen             `json:"screens"`
	Maps    []Map                `json:"maps"`
	Own     []string             `json:"own"`   // base URLs under which this service is reached, such as http://127.0.0.1:8740
	Base    string               `json:"base"`  // what addresses in the rewritten page begin with; "": the first of Own
	Fix     bool                 `json:"fix"`   // rewrite the page too, and weigh that
	Loads   int                  `json:"loads"` // how often the page is loaded over each throttled line; 0: not at all
	File    string               `json:"file"`  // the file that the page lies in, as people know it; "": it is served
}

// Progress is told how far a weigh-in is: steps done, of how many, and the next one in words. It must not be nil.
type Progress func(done, all int, doing string)

const (
	mostRenders = 240 // distinct pictures that are made to fit
	leastBytes  = 700 // below, nothing is worth making
)

// Outcome is what a weigh-in came to. Fixed and After are nil where the page wasn't to be fixed.
type Outcome struct {
	Report weighin.Report  `json:"report"`
	Fixed  *Fixed          `json:"fixed"`
	After  *weighin.Report `json:"after"` // of the fixed page
	Shots  [][]byte        `json:"shots"` // JPEG; the report's numbers count from 1
}

// Weigh opens the page on each screen, measures its pictures, and makes each to fit to know what it could weigh; it loads the page over
// throttled lines, and where the page is to be fixed rewrites and weighs it again. It blocks until all of that is done, which may take
// minutes, or until ctx ends. progress is told of each step, on this goroutine. Its error is ctx's, or a *policy.Refusal where the page
// can't be weighed: its URL isn't one, it doesn't answer, or it is to be fixed and there is no Chromium. Without Chromium a page that is
// only weighed is weighed by its HTML alone.
func (w *Weigher) Weigh(ctx context.Context, a Ask, progress Progress) (*Outcome, error) {
	ctx = workshop.With(ctx, workshop.Ahead, a.Site.Name, "")
	u, err := url.Parse(a.Page)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "" {
		return nil, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "page", Given: a.Page, Detail: "that isn't a page's URL", Allowed: "a whole http or https URL", Remedy: "write it as https://shop.example.test/"})
	}
	if u.Fragment = ""; u.Path == "" { // as browsers ask for it
		u.Path = "/"
	}
	a.Page = u.String()
	if len(a.Screens) == 0 {
		a.Screens = Screens
	}
	if Chromium() == "" {
		if a.Fix {
			return nil, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Parameter: "fix", Detail: "there is no Chromium on the machine that the service runs on, which would measure the page's slots", Remedy: "install Chromium there, or rewrite pages by what their tags say: echolane markup --rewrite"})
		}
		report, err := w.static(ctx, &a, progress)
		if err != nil {
			return nil, err
		}
		return &Outcome{Report: *report}, nil
	}
	p, err := w.proxy(&a)
	if err != nil {
		return nil, err
	}
	defer p.close()
	overlay := map[string]file{}
	for _, f := range a.Files {
		overlay[f.URL] = file{f.Type, f.Data}
	}
	kind := contentType(a.HTML)
	if a.Fix {
		if a.HTML == nil {
			if a.HTML, kind, err = w.page(ctx, p, a.Page); err != nil {
				return nil, err
			}
		}
		a.HTML = markup.Restore(a.HTML) // a page that was written before is weighed as it was before that
	}
	if a.HTML != nil {
		overlay[a.Page] = file{kind, a.HTML}
	}
	b, err := w.Browsers.start(ctx, p.address, overlay)
	if err != nil {
		return nil, err
	}
	defer b.stop()
	out := &Outcome{}
	defer out.number()
	report, err := w.views(ctx, b, p, &a, progress)
	if err != nil {
		return nil, err
	}
	if report.Loads, err = w.loads(ctx, b, p, &a, "the page", progress); err != nil {
		return nil, err
	}
	out.Report = *report
	if !a.Fix {
		return out, nil
	}
	progress(0, 1, "rewriting the page")
	plan, err := w.plan(ctx, b, &a, kind, report)
	if err != nil {
		return nil, err
	}
	if out.Fixed, out.After, err = w.rewrite(ctx, b, p, &a, kind, plan, report, progress); err != nil || out.Fixed.Changed == 0 {
		return out, err
	}
	if out.After.Loads, err = w.loads(ctx, b, p, &a, "the rewritten page", progress); err != nil {
		return nil, err
	}
	return out, nil
}

// refineTime is how long kept variants are waited for where first answers came, or none.
const refineTime = 30 * time.Second

// mostRounds is how often a page is weighed again before all of it is taken back.
const mostRounds = 3

// proxy makes the way out for one weigh-in.
func (w *Weigher) proxy(a *Ask) (*proxy, error) {
	var private []netip.Prefix
	for _, l := range a.Site.Lanes {
		if len(l.Allow) > 0 { // what it fetches, the page may show
			private = append(private, l.Private...)
		}
	}
	self := map[string]string{}
	for _, own := range a.Own {
		if u, err := url.Parse(own); err == nil && u.Scheme == "http" {
			host := u.Host
			if u.Port() == "" {
				host += ":80"
			}
			self[host] = w.Listen
		}
	}
	return startProxy(a.Site.Name, private, self, w.Panics)
}

// views opens the page on every screen, and makes its pictures to fit.
func (w *Weigher) views(ctx context.Context, b *browser, p *proxy, a *Ask, progress Progress) (*weighin.Report, error) {
	begin := time.Now()
	report := &weighin.Report{Page: a.Page, At: begin.UTC(), Notes: []string{}}
	bodies, have := map[string][]byte{}, map[string]bool{}
	for i, s := range a.Screens {
		progress(i, len(a.Screens), "opening the page on the "+s.Name)
		v, err := b.look(a.Page, s, have)
		if err != nil {
			return nil, w.cantOpen(p, a, err)
		}
		for u, data := range v.bodies {
			bodies[u], have[u] = data, true
		}
		report.Notes = append(report.Notes, v.notes...)
		report.Views = append(report.Views, v.view)
		report.Title = v.title
	}
	p.mu.Lock()
	for host, why := range p.refused {
		report.Notes = append(report.Notes, fmt.Sprintf("nothing was taken from %s: %s", host, why))
	}
	p.mu.Unlock()
	for i := range report.Views {
		v := &report.Views[i]
		for j := range v.Pictures {
			w.find(a, &v.Pictures[j])
		}
	}
	if err := w.measureAll(ctx, a, report, bodies, progress); err != nil {
		return nil, err
	}
	report.Finish(time.Since(begin))
	return report, nil
}

func (w *Weigher) cantOpen(p *proxy, a *Ask, err error) error {
	u, _ := url.Parse(a.Page)
	p.mu.Lock()
	why := p.refused[u.Hostname()]
	p.mu.Unlock()
	if why != "" {
		return policy.No(policy.Refusal{
			Reason: policy.ReasonAddressNotPublic, Parameter: "page", Given: a.Page, Detail: why,
			Remedy: fmt.Sprintf("weigh a page on a public address, or list the address in a web lane of %s: echolane lane set %s/LANE --private ADDRESS", a.Site.Name, a.Site.Name),
		})
	}
	if errors.Is(err, context.Canceled) {
		return err
	}
	p.mu.Lock()
	if how := p.broken[u.Hostname()]; how != "" {
		err = errors.New(how)
	}
	p.mu.Unlock()
	if strings.Contains(err.Error(), "ERR_TOO_MANY_REDIRECTS") {
		err = errors.New("it redirects in circles")
	}
	if wasAborted(err) {
		err = errors.New("what comes is no page: a download, or nothing")
	}
	return policy.No(policy.Refusal{Reason: policy.ReasonOriginFailed, Parameter: "page", Given: a.Page, Detail: "the page can't be opened: " + err.Error(), Remedy: "see whether it opens in a browser on the machine that the service runs on"})
}

// page fetches a page's HTML as it is served, and what it is served as.
func (w *Weigher) page(ctx context.Context, p *proxy, address string) ([]byte, string, error) {
	data, header, err := p.get(ctx, address, mostHTML)
	return data, header.Get("Content-Type"), err
}

// contentType is what a page is served as that lies in a file: where it isn't UTF-8, it says itself what it is.
func contentType(page []byte) string {
	if utf8.Valid(page) {
		return "text/html; charset=utf-8"
	}
	return "text/html"
}

// find says which source of the site a picture is, or what would make it one.
func (w *Weigher) find(a *Ask, p *weighin.Picture) {
	if p.Inline || p.URL == "" {
		return
	}
	p.Source, p.Refused, p.Rule = "", "", ""
	if path, ok := a.own(p.URL); ok {
		p.Source = path
		return
	}
	if s := a.mapped(p.URL); s != "" {
		p.Source = s
		return
	}
	nearest := ""
	for _, l := range a.Site.Lanes {
		lane, err := w.Lanes.Of(a.Site, l)
		if err != nil {
			continue
		}
		finder, ok := lane.(source.Finder)
		if !ok {
			continue
		}
		nearest = l.Name
		if below, ok := finder.PathOf(p.URL); ok {
			p.Source = l.Name + "/" + below
			return
		}
	}
	u, err := url.Parse(p.URL)
	if err != nil {
		return
	}
	if page, err := url.Parse(a.Page); err == nil && a.File != "" && page.Host == u.Host && page.Scheme == u.Scheme {
		folder, name := path.Split(u.Path)
		if rest, ok := strings.CutPrefix(folder, page.Path[:strings.LastIndexByte(page.Path, '/')+1]); ok {
			folder = rest
		}
		p.Refused = fmt.Sprintf("%s%s lies beside the page, and no lane of %s is said to have it", folder, name, a.Site.Name)
		p.Rule = fmt.Sprintf("echolane weigh %s --map %s=LANE", a.File, cmp.Or(folder, "./"))
		return
	}
	p.Refused = fmt.Sprintf("no lane of %s has pictures from %s", a.Site.Name, u.Host)
	pattern := u.Scheme + "://" + u.Host + "/*"
	if p.Rule = fmt.Sprintf("echolane lane add %s/NAME --allow '%s'", a.Site.Name, pattern); nearest != "" {
		p.Rule = fmt.Sprintf("echolane lane set %s/%s --allow '%s'", a.Site.Name, nearest, pattern)
	}
}

// own is the source behind one of this service's own addresses.
func (a *Ask) own(address string) (string, bool) {
	for _, base := range a.Own {
		prefix := strings.TrimSuffix(base, "/") + "/"
		if u, err := url.Parse(base); err == nil && !slices.Contains(a.Site.Hosts, u.Hostname()) {
			prefix += a.Site.Name + "/"
		}
		if rest, ok := strings.CutPrefix(address, prefix); ok {
			path, _, _ := strings.Cut(rest, "?")
			if plain, err := url.PathUnescape(path); err == nil {
				return plain, true
			}
		}
	}
	return "", false
}

// mapped is the source that a rule leads to, "" where none does.
func (a *Ask) mapped(address string) string {
	for _, m := range a.Maps {
		rest, ok := strings.CutPrefix(address, m.From)
		if !ok {
			continue
		}
		if rest, _, _ = strings.Cut(rest, "?"); rest == "" {
			continue
		}
		if plain, err := url.PathUnescape(rest); err == nil {
			return strings.TrimSuffix(m.To, "/") + "/" + plain
		}
	}
	return ""
}

// measurement is one picture to be made, and who waits for it.
type measurement struct {
	digest   held.Digest // of what is opened
	open     func(context.Context) ([]*held.Content, error)
	declared declare.Declarations
	bytes    int64
	header   codec.Header
	waits    []waiting
}

type waiting struct{ view, picture int }

// measureAll makes every picture as it is shown, two at a time, the heaviest first.
func (w *Weigher) measureAll(ctx context.Context, a *Ask, report *weighin.Report, bodies map[string][]byte, progress Progress) error {
	orders, originals, headers := map[string]*measurement{}, map[string]*source.Located{}, map[string]codec.Header{}
	digests := map[string]held.Digest{}
	defer func() {
		for _, l := range originals {
			if l != nil {
				l.Close()
			}
		}
	}()
	header := func(address string) codec.Header {
		h, known := headers[address]
		if body := bodies[address]; !known && body != nil && ctx.Err() == nil {
			h, _ = w.Workshop.Header(ctx, held.InMemory(body, nil)) // what can't be read says nothing
		}
		headers[address] = h
		return h
	}
	for i := range report.Views {
		v := &report.Views[i]
		for j := range v.Pictures {
			p := &v.Pictures[j]
			body, h := bodies[p.URL], header(p.URL)
			if h.W > 0 { // browsers tell the size in CSS pixels, which srcset changes
				p.NaturalW, p.NaturalH = h.Upright()
			}
			if body == nil || p.Failed != "" || p.W < 1 || p.H < 1 || p.Bytes < leastBytes || h.Type == "image/svg+xml" {
				continue
			}
			d := p.Declared(v.Density)
			open := func(context.Context) ([]*held.Content, error) {
				return []*held.Content{held.InMemory(body, nil)}, nil
			}
			if path, ok := a.own(p.URL); ok { // made already: what it could be follows from its source, not from what was made
				l, known := originals[path]
				if !known {
					l = w.original(ctx, a, path)
					originals[path] = l
				}
				if l == nil {
					continue
				}
				open = func(ctx context.Context) ([]*held.Content, error) {
					c, err := l.Open(ctx)
					return []*held.Content{c}, err
				}
				d, h = inPlace(p.URL, d), l.Known.Header
				digests[p.URL] = l.Known.Digest
			} else if _, known := digests[p.URL]; !known {
				digests[p.URL] = held.DigestOf(body)
			}
			key := p.URL + "\n" + d.AddressForm()
			o := orders[key]
			if o == nil {
				o = &measurement{digest: digests[p.URL], open: open, declared: d, bytes: p.Bytes, header: h}
				orders[key] = o
			}
			o.waits = append(o.waits, waiting{i, j})
		}
	}
	list := make([]*measurement, 0, len(orders))
	for _, o := range orders {
		list = append(list, o)
	}
	sort.Slice(list, func(i, j int) bool {
		if list[i].bytes != list[j].bytes {
			return list[i].bytes > list[j].bytes
		}
		return list[i].declared.AddressForm() < list[j].declared.AddressForm()
	})
	if len(list) > mostRenders {
		report.Notes = append(report.Notes, fmt.Sprintf("the %d heaviest of %d pictures were made to fit; the others count as they are", mostRenders, len(list)))
		list = list[:mostRenders]
	}
	made := map[waiting]*weighin.Made{}
	var mu sync.Mutex
	var done int
	var all sync.WaitGroup
	next := make(chan *measurement)
	for range 2 {
		all.Add(1)
		go func() {
			defer all.Done()
			for o := range next {
				var m *weighin.Made
				w.Panics.Run("make a picture to fit", func() error { m = w.toMeasure(ctx, a, o); return nil })
				mu.Lock()
				done++
				progress(done, len(list), "making the pictures to fit")
				for _, at := range o.waits {
					made[at] = m
				}
				mu.Unlock()
			}
		}()
	}
	for _, o := range list {
		if ctx.Err() != nil {
			break
		}
		next <- o
	}
	close(next)
	all.Wait()
	for i := range report.Views {
		v := &report.Views[i]
		for j := range v.Pictures {
			v.Pictures[j].Remedies = []weighin.Remedy{}
		}
		v.Sum() // what is repeated is known before pictures are judged
		for j := range v.Pictures {
			v.Pictures[j].Assess(made[waiting{i, j}], v.Density)
		}
	}
	return ctx.Err()
}

// original finds a source of the site, nil where it can't be read.
func (w *Weigher) original(ctx context.Context, a *Ask, path string) *source.Located {
	name, rest, _ := strings.Cut(path, "/")
	l := a.Site.Lane(name)
	if l == nil {
		return nil
	}
	located, err := w.Sources.Locate(ctx, a.Site, l, rest, nil)
	if err != nil {
		return nil
	}
	return located
}

// inPlace are the declarations of one of the service's own addresses, for the place that its picture has.
func inPlace(address string, place declare.Declarations) declare.Declarations {
	_, query, _ := strings.Cut(address, "?")
	d, err := declare.Parse(query)
	if err != nil {
		return place
	}
	d.Width, d.Height, d.Resolution = place.Width, 0, place.Resolution
	if !place.Aspect.IsZero() {
		d.Aspect, d.Fit, d.Position = place.Aspect, place.Fit, place.Position
	}
	return d.WithoutDelivery()
}

// toMeasure makes one picture as a current browser would get it, and as a JPEG; nil where it can't be made.
func (w *Weigher) toMeasure(ctx context.Context, a *Ask, o *measurement) *weighin.Made {
	full := a.Site.Sheet.Over(o.declared, sheet.Client{})
	job := render.Job{Limits: a.Site.Limits, Thorough: a.Site.Effort == policy.Thorough, Predict: a.Site.Effort == policy.Predicted, Tried: a.Site.FormatsTried}
	full.Settle(a.Site.Offer(policy.AcceptsAll, full.Quality), &job.Request)
	key := cache.Key{Kind: cache.Picture, Resolved: job.Request.String(), Renderer: render.Version, Effort: uint8(a.Site.Effort), Tried: a.Site.FormatsTried, Sources: []string{string(o.digest)}}.String() + o.declared.AddressForm()
	w.begun.Do(func() { w.measured = otter.Must(&otter.Options[string, *weighin.Made]{MaximumSize: mostMeasured}) })
	if m, ok := w.measured.GetIfPresent(key); ok {
		return m
	}
	render1 := func() (render.Result, error) {
		r, _, err := w.Workshop.Render(ctx, workshop.From(ctx).Takes(job.Estimate([]codec.Header{o.header}, o.bytes)), o.open, job)
		return r, err
	}
	result, err := render1()
	if err != nil {
		return nil
	}
	m := &weighin.Made{After: weighin.After{
		Query: o.declared.AddressForm(), Bytes: int64(len(result.Data)), Type: result.Format.MediaType(), Width: result.Canvas.W, Height: result.Canvas.H,
		Likeness: result.How.Likeness, Quality: result.How.Quality,
	}}
	if result.Source == "image/jpeg" && result.Format != declare.JPEG {
		job.Request.Formats, job.Predict = []declare.Format{declare.JPEG}, true
		if alike, err := render1(); err == nil {
			m.Alike = int64(len(alike.Data))
		}
	} else if result.Source == "image/png" && result.Format != declare.PNG {
		job.Request.Formats, job.Predict = []declare.Format{declare.PNG}, true
		if alike, err := render1(); err == nil {
			m.Alike = int64(len(alike.Data))
		}
	}
	w.measured.Set(key, m)
	return m
}
