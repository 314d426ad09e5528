// Package app wires the service together: start, ready, drain, stop.
package app

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"mime"
	"net"
	"net/netip"
	"net/url"
	"path"
	"path/filepath"
	"strings"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"echolane/console"
	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/core/policy"
	"echolane/service/api"
	"echolane/service/delivery"
	"echolane/service/diskcache"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/variants"
	"echolane/service/weighing"
	"echolane/service/workshop"
	"echolane/web"
)

// Options are the settings of the service itself.
type Options struct {
	Listen      string // host:port
	DatabaseURL string
	CacheDir    string // "" keeps nothing on disk
	MemoryBytes int64  // of variants in memory
	DiskBytes   int64  // of variants on disk
	Workers     int    // render processes; 0: one for each processor
	Token       string // opens the whole API; "" for none
	SecretKey   []byte // 32 bytes that secrets are kept under; nil: none can be kept
	Proxies     []netip.Prefix
	Worker      []string

	SearchAtOnce bool // the first answer waits for the search for its quality
	Log          *slog.Logger
}

// App is a running service.
type App struct {
	o        Options
	store    *records.Store
	settings *records.Watcher
	journal  *records.Journal
	ledger   *records.Ledger
	meter    *records.Meter
	classes  *records.Classes
	weighing *weighing.Runner
	sources  *diskcache.Disk
	lanes    *source.Lanes
	cache    *variants.Cache
	workshop *workshop.Workshop
	delivery *delivery.Service
	metrics  *metrics
	listener net.Listener
	server   *fiber.App
	served   chan error
	draining atomic.Bool
}

// Start brings everything up; when it returns, requests are answered.
func Start(ctx context.Context, o Options) (*App, error) {
	a := &App{o: o, served: make(chan error, 1)}
	if err := a.start(ctx); err != nil {
		a.release()
		return nil, err
	}
	return a, nil
}

func (a *App) start(ctx context.Context) error {
	var err error
	// The address first: whoever is already there is the commonest trouble and costs nothing to find.
	if a.listener, err = net.Listen("tcp", a.o.Listen); err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%s is in use by another program: end that one, or choose another address with --listen", a.o.Listen)
		}
		return fmt.Errorf("listen on %s: %w", a.o.Listen, err)
	}
	if a.store, err = records.Open(ctx, a.o.DatabaseURL, a.o.SecretKey); err != nil {
		return err
	}
	if a.settings, err = a.store.Watch(ctx, a.o.Log); err != nil {
		return err
	}
	deployment, err := a.store.Deployment(ctx)
	if err != nil {
		return err
	}
	cdn := "echolane-" + deployment
	a.lanes = &source.Lanes{CDN: cdn}
	variantDir := ""
	if a.o.CacheDir != "" {
		// A fifth for the sources that web lanes fetch.
		variantDir = filepath.Join(a.o.CacheDir, "variants")
		a.sources = diskcache.Open(filepath.Join(a.o.CacheDir, "sources"), a.o.DiskBytes/5, a.o.Log)
		a.lanes.Keep = a.sources
		a.o.DiskBytes -= a.o.DiskBytes / 5
	}
	if a.cache, err = variants.New(variants.Options{MemoryBytes: a.o.MemoryBytes, Dir: variantDir, DiskBytes: a.o.DiskBytes, Log: a.o.Log}); err != nil {
		return fmt.Errorf("open the variant cache: %w", err)
	}
	if a.workshop, err = workshop.New(workshop.Options{Workers: a.o.Workers, Command: a.o.Worker, Log: a.o.Log}); err != nil {
		return err
	}
	a.metrics = newMetrics(a.cache, a.workshop.Lost, a.workshop.Waiting, a.settings.Live)
	a.journal = records.NewJournal(a.store, a.o.Log, func(n int) { a.metrics.dropped.Add(float64(n)) })
	a.ledger = records.NewLedger(a.store, a.o.Log)
	a.meter = records.NewMeter(a.store, a.o.Log)
	a.classes = records.NewClasses(a.store, a.o.Log)
	if a.delivery, err = delivery.New(delivery.Options{
		Settings: a.settings, Lanes: a.lanes, Cache: a.cache, Renderer: a.workshop, Journal: a.journal, Ledger: a.ledger, Meter: a.meter,
		Classes: a.classes, Census: a.store, Counters: a.metrics, Log: a.o.Log, CDN: cdn, Proxies: a.o.Proxies, SearchAtOnce: a.o.SearchAtOnce,
	}); err != nil {
		return fmt.Errorf("open the image path: %w", err)
	}
	weigher := &weighing.Weigher{Renderer: a.workshop, Lanes: a.lanes, Listen: a.listener.Addr().String(), Log: a.o.Log}
	weigher.MarkupFor = func(s *records.Site, base, source, slot string, d declare.Declarations, first bool) (markup.Markup, *policy.Refusal) {
		m, no := api.MarkupFor(a.delivery, s, api.AskMarkup{Source: source, Slot: slot, Decorative: true, Declarations: d.AddressForm(), First: first, Base: base})
		return m.Markup, no
	}
	a.weighing = weighing.NewRunner(weigher, a.store, a.o.Log)
	a.server = fiber.New(fiber.Config{
		AppName: "Echo Lane", BodyLimit: 1 << 20, ReadTimeout: 30 * time.Second, IdleTimeout: 120 * time.Second,
		ReadBufferSize: 16 << 10, StreamRequestBody: true, StrictRouting: true, CaseSensitive: true, ErrorHandler: a.broke,
	})
	a.routes()
	go func() {
		a.served <- a.server.Listener(a.listener, fiber.ListenConfig{DisableStartupMessage: true})
	}()
	a.o.Log.Info("serving", "listen", a.Addr(), "sites", len(a.settings.Current().Sites))
	return nil
}

// Addr is the address that is listened on.
func (a *App) Addr() string { return a.listener.Addr().String() }

// Wait gives the error that ended the serving, or nil when ctx is done.
func (a *App) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-a.served:
		return fmt.Errorf("serve %s: %w", a.o.Listen, err)
	}
}

// Stop finishes the requests under way, for at most grace, and ends everything.
func (a *App) Stop(grace time.Duration) {
	a.draining.Store(true)
	a.o.Log.Info("stopping")
	if err := a.server.ShutdownWithTimeout(grace); err != nil {
		a.o.Log.Warn("requests were cut off", "after", grace.String(), "error", err)
	}
	a.release()
}

// release ends what was started, users before what they use.
func (a *App) release() {
	if a.weighing != nil {
		a.weighing.Close()
	}
	if a.delivery != nil {
		a.delivery.Close()
	}
	if a.workshop != nil {
		a.workshop.Close()
	}
	if a.cache != nil {
		a.cache.Close()
	}
	if a.journal != nil {
		a.journal.Close()
	}
	if a.ledger != nil {
		a.ledger.Close()
	}
	if a.meter != nil {
		a.meter.Close()
	}
	if a.classes != nil {
		a.classes.Close()
	}
	if a.lanes != nil {
		a.lanes.Close()
	}
	if a.sources != nil {
		a.sources.Close()
	}
	if a.settings != nil {
		a.settings.Close()
	}
	if a.store != nil {
		a.store.Close()
	}
	if a.listener != nil {
		a.listener.Close()
	}
}

// Store is the service's database, for the demo's own set-up.
func (a *App) Store() *records.Store { return a.store }

// Refresh reads the settings now, without waiting for the database's notice of what was done to Store.
func (a *App) Refresh(ctx context.Context) error { return a.settings.Refresh(ctx) }

func (a *App) routes() {
	// Images are everything outside /-/; they pass by all routing.
	a.server.Use(func(c fiber.Ctx) error {
		r := c.RequestCtx()
		uri := delivery.Target(r)
		if len(uri) >= 3 && uri[1] == '-' && uri[2] == '/' || len(uri) <= 1 {
			return c.Next()
		}
		if !r.IsGet() && !r.IsHead() {
			r.Response.Header.Set("Allow", "GET, HEAD")
			a.delivery.Refuse(r, policy.No(policy.Refusal{
				Reason: policy.ReasonMethodNotAllowed, Given: string(r.Method()), Allowed: "GET, HEAD", Detail: "images are only read", Remedy: "use GET or HEAD",
			}))
			return nil
		}
		a.delivery.Handle(r)
		return nil
	})
	a.server.Get("/", func(c fiber.Ctx) error { return c.Redirect().Status(fiber.StatusFound).To("/-/console/") })
	a.server.Get("/-/live", func(c fiber.Ctx) error { return c.JSON(fiber.Map{"status": "live"}) })
	a.server.Get("/-/ready", a.ready)
	a.server.Get("/-/metrics", adaptor.HTTPHandler(promhttp.HandlerFor(a.metrics.registry, promhttp.HandlerOpts{})))
	a.server.Get("/-/problems", func(c fiber.Ctx) error { delivery.Problems(c.RequestCtx()); return nil })
	a.server.Get("/-/api/openapi.json", func(c fiber.Ctx) error {
		c.Set("Content-Type", "application/json")
		return c.Send(api.Description)
	})
	calls := &api.API{Store: a.store, Settings: a.settings, Lanes: a.lanes, Ledger: a.ledger, Meter: a.meter, Classes: a.classes, Renderer: a.workshop, Maker: a.delivery, Weighings: a.weighing, Token: a.o.Token, Proxies: a.o.Proxies}
	calls.Mount(a.server.Group("/-/api/v1", calls.Guard))
	a.server.Get("/-/console", func(c fiber.Ctx) error { return c.Redirect().Status(fiber.StatusMovedPermanently).To("/-/console/") })
	a.server.Get("/-/console/*", a.console)
	a.server.Get("/-/web/*", a.web)
	a.server.Use(func(c fiber.Ctx) error {
		delivery.WriteProblem(c.RequestCtx(), policy.No(policy.Refusal{
			Reason: policy.ReasonNoSuchPage, Given: string(c.RequestCtx().Path()), Detail: "the service has nothing at this address", Remedy: "images are at /site/lane/path, the console at /-/console/, the API's description at /-/api/openapi.json",
		}))
		return nil
	})
}

// ready says whether requests are answered as they should be. A service that has lost its database still
// answers images, so it stays in the balance and says that it is degraded.
func (a *App) ready(c fiber.Ctx) error {
	c.Set("Cache-Control", "no-store")
	switch {
	case a.draining.Load():
		return c.Status(503).JSON(fiber.Map{"status": "draining"})
	case !a.settings.Live():
		return c.JSON(fiber.Map{"status": "degraded", "database": "away", "detail": "images are served with the settings last read; settings can't be changed"})
	}
	return c.JSON(fiber.Map{"status": "ready", "database": "there"})
}

// FirstLink is the path of a one-time link that makes the first owner, "" where there is one already.
func (a *App) FirstLink(ctx context.Context) (string, error) {
	owned, err := a.store.HasOwner(ctx)
	if err != nil || owned {
		return "", err
	}
	return a.link(ctx, "")
}

// SignInLink is the path of a one-time link that signs a person in.
func (a *App) SignInLink(ctx context.Context, person string) (string, error) {
	return a.link(ctx, person)
}

func (a *App) link(ctx context.Context, person string) (string, error) {
	secret, err := a.store.OneTimeLink(ctx, person, 24*time.Hour)
	return "/-/console/enter?link=" + secret, err
}

// console serves the built console. Every address in it that isn't a file is one of its views.
func (a *App) console(c fiber.Ctx) error {
	name, err := url.PathUnescape(c.Params("*"))
	if err != nil || name == "" || !fs.ValidPath(name) {
		name = "index.html"
	}
	data, err := console.Files.ReadFile("dist/" + name)
	if err != nil {
		name = "index.html"
		if data, err = console.Files.ReadFile("dist/index.html"); err != nil {
			return c.Status(404).SendString("This binary was built without its console: build it with `make build`.")
		}
	}
	c.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
	c.Set("X-Content-Type-Options", "nosniff")
	if strings.HasPrefix(name, "assets/") {
		c.Set("Cache-Control", "public, max-age=31536000, immutable") // their names change with their content
	} else {
		c.Set("Cache-Control", "no-cache")
		c.Set("Content-Security-Policy", "default-src 'self'; img-src 'self' data: blob:; style-src 'self' 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'; form-action 'none'")
		c.Set("Referrer-Policy", "no-referrer")
	}
	return c.Send(data)
}

// web answers what sites' own pages load: from every origin, and kept for an hour.
func (a *App) web(c fiber.Ctx) error {
	name := c.Params("*")
	data, err := web.Files.ReadFile(name)
	if err != nil || !fs.ValidPath(name) {
		return c.Next()
	}
	tag := variants.ETagOf(data)
	c.Set("Content-Type", mime.TypeByExtension(path.Ext(name)))
	if strings.HasSuffix(name, ".ts") { // of which there is no registered type
		c.Set("Content-Type", "text/plain; charset=utf-8")
	}
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Access-Control-Allow-Origin", "*")
	c.Set("Cross-Origin-Resource-Policy", "cross-origin")
	c.Set("Timing-Allow-Origin", "*")
	c.Set("Cache-Control", "public, max-age=3600, stale-while-revalidate=86400")
	c.Set("ETag", tag)
	if strings.Contains(c.Get("If-None-Match"), tag) {
		return c.SendStatus(304)
	}
	if strings.Contains(c.Get("Accept-Encoding"), "gzip") {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		z.Write(data)
		z.Close()
		data = b.Bytes()
		c.Set("Content-Encoding", "gzip")
	}
	c.Set("Vary", "Accept-Encoding")
	return c.Send(data)
}

func (a *App) broke(c fiber.Ctx, err error) error {
	no := policy.Refusal{Reason: policy.ReasonInternal, Detail: "the service met something that it wasn't made for", Remedy: "tell whoever runs the service"}
	var e *fiber.Error
	if errors.As(err, &e) {
		switch {
		case e.Code == 405:
			no = policy.Refusal{Reason: policy.ReasonMethodNotAllowed, Given: c.Method(), Detail: "this address takes other methods", Remedy: "see /-/api/openapi.json"}
		case e.Code < 500:
			no = policy.Refusal{Reason: policy.ReasonBadRequest, Detail: e.Message, Remedy: "see /-/api/openapi.json"}
		}
	}
	if no.Reason == policy.ReasonInternal {
		a.o.Log.Error("a request broke", "path", c.Path(), "error", err)
	}
	delivery.WriteProblem(c.RequestCtx(), policy.No(no))
	return nil
}
