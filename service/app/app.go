// Package app wires the service together: start, ready, drain, stop.
package app

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/valyala/fasthttp"

	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/core/policy"
	"echolane/service/api"
	"echolane/service/cache"
	"echolane/service/cache/disk"
	"echolane/service/cache/shared"
	"echolane/service/caller"
	"echolane/service/connections"
	"echolane/service/delivery"
	"echolane/service/jobs"
	"echolane/service/lane"
	"echolane/service/panics"
	"echolane/service/records"
	"echolane/service/source"
	"echolane/service/weighing"
	"echolane/service/workshop"
)

// Options are the settings of the service itself.
type Options struct {
	Listen        string // host:port
	MetricsListen string // host:port for metrics alone; "": beside the rest, for tokens
	DatabaseURL   string
	CacheDir      string       // "" keeps nothing on disk
	MemoryBytes   int64        // of variants in memory
	DiskBytes     int64        // of variants and sources on disk
	DiskFiles     int          // on disk; 0: a million
	Store         shared.Place // that all nodes share; zero: none
	StoreKeys     shared.Credentials
	Workers       int           // render processes; 0: one for each processor
	WaitLimit     time.Duration // the longest that a variant waits for one; 0: what workshop has
	RenderMemory  int64         // bytes that renders may take together; 0: half of the machine's
	Token         string        // opens the whole API; "" for none
	SecretKey     []byte        // 32 bytes that secrets are kept under; nil: none can be kept
	Proxies       []netip.Prefix
	Worker        string   // the render worker's program; "": this one
	Browser       []string // this program, as it starts Chromium under limits
	Hasher        []string // this program, as it hashes passwords; nil: the service does it itself

	// Ground is what of the machine those who edit sites may point lanes at.
	Ground api.Ground

	// DrainDelay is how long the service goes on as before when it is told to end, while /-/ready says so; DrainLimit is
	// how long requests under way may take after that.
	DrainDelay, DrainLimit time.Duration
	// Connections is how many connections are held; 0: what connections.Bound has.
	Connections int
	// ReadTime is how long a request may take to come, without its body, and how long the next part of that; 0: 30 s.
	ReadTime time.Duration

	LogRequests bool // a line for each

	RequireIsolation bool // a start fails where render workers can't be isolated by all measures

	SearchAtOnce bool // the first answer waits for the search for its quality
	Log          *slog.Logger
}

// App is a running service.
type App struct {
	o         Options
	panics    *panics.Catcher
	store     *records.Store
	settings  *records.Watcher
	recorder  *records.Recorder
	jobs      *jobs.Jobs
	browsers  *weighing.Browsers
	kept      *disk.Disk
	keep      *source.Keep
	lanes     *source.Lanes
	shared    *shared.Store
	peers     *records.Peers
	evicted   chan string   // keys of variants that made room; nil where there is a store
	changed   chan struct{} // says that there are other settings
	beside    context.CancelFunc
	working   sync.WaitGroup // what goes on beside requests
	sources   *source.Table
	cache     *cache.Cache
	workshop  *workshop.Workshop
	delivery  *delivery.Service
	api       *api.API
	metrics   *metrics
	listener  net.Listener
	clients   *connections.Listener
	scraped   net.Listener
	scrapes   *http.Server
	routes    *fiber.App
	handler   fasthttp.RequestHandler
	server    *fasthttp.Server
	served    chan error
	serving   sync.WaitGroup
	under     atomic.Int64 // requests under way
	draining  atomic.Bool  // /-/ready says so
	refusing  atomic.Bool  // requests that come now aren't begun
	stopping  sync.Once
	exhausted atomic.Bool // the drain's limit was reached
}

// Start brings everything up; when it returns, requests are answered.
func Start(ctx context.Context, o Options) (*App, error) {
	a := &App{o: o, panics: &panics.Catcher{Log: o.Log}, served: make(chan error, 1)}
	if err := a.start(ctx); err != nil {
		a.release()
		return nil, err
	}
	return a, nil
}

func listen(address, option string) (net.Listener, error) {
	l, err := net.Listen("tcp", address)
	if errors.Is(err, syscall.EADDRINUSE) {
		return nil, fmt.Errorf("%s is in use by another program: end that one, or choose another address with %s", address, option)
	}
	if err != nil {
		return nil, fmt.Errorf("listen on %s: %w", address, err)
	}
	return l, nil
}

func (a *App) start(ctx context.Context) error {
	var err error
	// The address first: whoever is already there is the commonest trouble and costs nothing to find.
	if a.listener, err = listen(a.o.Listen, "--listen"); err != nil {
		return err
	}
	if a.o.MetricsListen != "" {
		if a.scraped, err = listen(a.o.MetricsListen, "--metrics-listen"); err != nil {
			return err
		}
	}
	if len(a.o.SecretKey) == 0 {
		a.o.Log.Warn("the service has no key to keep secrets under: signing keys and lanes' credentials can't be kept", "remedy", "start every node with the same ECHOLANE_SECRET_KEY; make one with: openssl rand -base64 32")
	}
	if a.store, err = records.Open(a.o.DatabaseURL, a.o.SecretKey); err != nil {
		return err
	}
	a.store.HashIn(a.o.Hasher)
	a.changed = make(chan struct{}, 1)
	watching := records.WatchOptions{Store: a.store, Log: a.o.Log, Panics: a.panics, Changed: func() {
		select {
		case a.changed <- struct{}{}:
		default:
		}
	}}
	if a.o.CacheDir != "" {
		watching.File = filepath.Join(a.o.CacheDir, "settings.json")
	}
	if a.settings, err = records.Watch(ctx, watching); err != nil {
		return err
	}
	if a.shared, err = openStore(a.o, a.panics); err != nil {
		return err
	}
	var leases cache.Leases
	var peers delivery.Peers
	if a.shared != nil {
		a.peers = records.NewPeers(records.PeersOptions{Store: a.store, Log: a.o.Log, Panics: a.panics})
		leases, peers = a.peers, a.peers
	}
	variantDir, bytes := "", a.o.DiskBytes
	if a.o.CacheDir != "" {
		// A fifth for the sources that lanes fetch.
		variantDir = filepath.Join(a.o.CacheDir, "variants")
		a.kept = disk.Open(disk.Options{Dir: filepath.Join(a.o.CacheDir, "sources"), Bytes: bytes / 5, Files: a.o.DiskFiles / 5, Log: a.o.Log, Panics: a.panics})
		bytes -= bytes / 5
	}
	a.keep = source.NewKeep(a.kept, 0)
	a.keep.Share(a.shared, leases)
	a.lanes = &source.Lanes{Kinds: lane.Kinds, CDN: a.settings.Deployment, Keep: a.keep}
	var evicted func(string)
	if a.shared == nil { // otherwise it is kept in the store
		a.evicted = make(chan string, mostEvicted)
		evicted = func(key string) {
			select {
			case a.evicted <- key:
			default:
			}
		}
	}
	if a.cache, err = cache.New(cache.Options{MemoryBytes: a.o.MemoryBytes, Dir: variantDir, DiskBytes: bytes, DiskFiles: a.o.DiskFiles - a.o.DiskFiles/5, Store: a.shared, Leases: leases, Evicted: evicted, Log: a.o.Log, Panics: a.panics}); err != nil {
		return fmt.Errorf("open the variant cache: %w", err)
	}
	if a.peers != nil {
		a.peers.Hear(a.cache.Refined, a.cache.Unsure)
	}
	a.metrics = newMetrics(a)
	if a.workshop, err = workshop.New(workshop.Options{Workers: a.o.Workers, Wait: a.o.WaitLimit, AllMemory: a.o.RenderMemory, Program: a.o.Worker, RequireIsolation: a.o.RequireIsolation, Log: a.o.Log,
		Waited:  func(k workshop.Kind, d time.Duration) { a.metrics.waited[k].Observe(d.Seconds()) },
		Started: func(d time.Duration) { a.metrics.started.Observe(d.Seconds()) }}); err != nil {
		return err
	}
	a.sources = source.NewTable(a.lanes, a.workshop, a.panics)
	a.sources.ObserveOrigins(a.metrics.origins.observe)
	a.recorder = records.NewRecorder(records.RecorderOptions{Store: a.store, Log: a.o.Log, Panics: a.panics, Pruned: a.pruned})
	a.api = &api.API{
		Store: a.store, Settings: a.settings, Lanes: a.lanes, Sources: a.sources, Recorder: a.recorder, Workshop: a.workshop, Isolation: a.workshop.Measures, Ground: a.o.Ground, Token: a.o.Token, Proxies: a.o.Proxies,
		SignIns: caller.NewLimiter(10_000),
	}
	if a.delivery, err = delivery.New(delivery.Options{
		Settings: a.settings, Sources: a.sources, Cache: a.cache, Workshop: a.workshop, Peers: peers, Recorder: a.recorder, Metrics: a.metrics, Log: a.o.Log, Panics: a.panics,
		Proxies: a.o.Proxies, SearchAtOnce: a.o.SearchAtOnce, MayRead: a.api.MayRead,
	}); err != nil {
		return fmt.Errorf("open the image path: %w", err)
	}
	a.sources.HeedAside(a.delivery)
	a.api.Maker = a.delivery
	a.browsers = &weighing.Browsers{Launcher: a.o.Browser, Log: a.o.Log, Panics: a.panics}
	weigher := &weighing.Weigher{Workshop: a.workshop, Lanes: a.lanes, Sources: a.sources, Browsers: a.browsers, Listen: a.listener.Addr().String(), IsFirst: delivery.IsFirst, Log: a.o.Log, Panics: a.panics}
	weigher.MarkupFor = func(ctx context.Context, s *policy.SiteSettings, base, source, slot string, d declare.Declarations, first bool) (markup.Markup, *policy.Refusal) {
		m, no := api.MarkupFor(ctx, a.delivery, s, api.AskMarkup{Source: source, Slot: slot, Decorative: true, Declarations: d.AddressForm(), First: first, Base: base, Modelled: true})
		return m.Markup, no
	}
	if a.jobs, err = jobs.New(jobs.Options{
		DatabaseURL: a.o.DatabaseURL, Store: a.store, Maker: a.delivery, Weigher: weigher, Ready: a.settings.Live, Log: a.o.Log, Panics: a.panics,
		Sites: func(name string) *policy.SiteSettings { return a.settings.Current().Site(name) },
	}); err != nil {
		return err
	}
	a.api.Jobs = a.jobs
	a.jobs.Start()
	beside, stop := context.WithCancel(context.Background())
	a.beside = stop
	a.panics.Go(&a.working, "carry out purges", func() { a.purge(beside) })
	a.panics.Go(&a.working, "forget what made room", func() { a.forgetEvicted(beside) })
	a.panics.Go(&a.working, "say how this node is", func() { a.tell(beside) })
	a.serve()
	a.o.Log.Info("serving", "listen", a.Addr(), "sites", len(a.settings.Current().Sites))
	return nil
}

const (
	longestHead = 16 << 10         // of a request's line and fields
	atOnce      = 2 << 10          // of an answer is put together: its head and a little of its body, which goes out with the rest
	writeTime   = 60 * time.Second // for an answer that lies ready
	readTime    = 30 * time.Second
	bodyTime    = time.Hour
	idleTime    = 120 * time.Second
)

// serve starts answering.
func (a *App) serve() {
	a.routes = fiber.New(fiber.Config{AppName: "Echo Lane", StrictRouting: true, CaseSensitive: true, ErrorHandler: a.broke, StreamRequestBody: true, Immutable: true}) // what handlers keep of a request is theirs
	a.route()
	a.handler = a.routes.Handler()
	a.server = &fasthttp.Server{
		Name: "", NoDefaultServerHeader: true, Handler: a.door, ErrorHandler: a.malformed, Logger: quiet{}, StreamRequestBody: true, DisablePreParseMultipartForm: true,
		MaxRequestBodySize: longestBody, ReadBufferSize: longestHead, WriteBufferSize: atOnce, ReadTimeout: cmp.Or(a.o.ReadTime, readTime), WriteTimeout: writeTime, IdleTimeout: idleTime, CloseOnShutdown: true,
	}
	a.clients = connections.Bound(a.listener, connections.Options{Most: a.o.Connections, Full: a.full(), Log: a.o.Log, BodyPause: cmp.Or(a.o.ReadTime, readTime), BodyTime: bodyTime})
	a.panics.Go(&a.serving, "serve", func() { a.served <- a.server.Serve(a.clients) })
	if a.scraped != nil {
		a.scrapes = &http.Server{Handler: a.metrics.handler(), ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 30 * time.Second}
		a.panics.Go(&a.serving, "serve metrics", func() { a.scrapes.Serve(a.scraped) })
	}
}

// longestBody is what the server itself reads of a body into memory; what is longer comes as a stream.
const longestBody = 1 << 20

// Addr is the address that is listened on.
func (a *App) Addr() string { return a.listener.Addr().String() }

// MetricsAddr is the address that metrics are at, "" where they have none of their own.
func (a *App) MetricsAddr() string {
	if a.scraped == nil {
		return ""
	}
	return a.scraped.Addr().String()
}

// Wait gives the error that ended the serving, or nil when ctx is done.
func (a *App) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-a.served:
		return fmt.Errorf("serve %s: %w", a.o.Listen, err)
	}
}

// Stop ends the service in one order: /-/ready says that it drains, while it serves as before, so that balancers turn away;
// then no connection is taken and no request begun any more; those under way may end, up to a limit; then what was counted
// is written down and everything ends.
func (a *App) Stop() {
	a.stopping.Do(func() {
		a.draining.Store(true)
		a.o.Log.Info("stopping", "drain_delay", a.o.DrainDelay.String(), "drain_limit", a.o.DrainLimit.String(), "under_way", a.under.Load())
		time.Sleep(a.o.DrainDelay)
		a.refusing.Store(true)
		if a.server != nil {
			ctx, cancel := context.WithTimeout(context.Background(), a.o.DrainLimit)
			err := a.server.ShutdownWithContext(ctx)
			cancel()
			if err != nil || a.under.Load() > 0 {
				a.exhausted.Store(true)
				a.o.Log.Warn("requests under way are given up", "after", a.o.DrainLimit.String(), "requests", a.under.Load())
				a.delivery.Cancel()
				a.workshop.Abandon()
				for end := time.Now().Add(5 * time.Second); a.under.Load() > 0 && time.Now().Before(end); {
					time.Sleep(10 * time.Millisecond)
				}
			}
		}
		a.release()
	})
}

// release ends what was started, users before what they use.
func (a *App) release() {
	if a.scrapes != nil {
		a.scrapes.Close()
	}
	if a.beside != nil {
		a.beside()
		a.working.Wait()
	}
	if a.jobs != nil {
		a.jobs.Close()
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
	a.shared.Close() // what is still being written makes others find it
	if a.peers != nil {
		a.peers.Close()
	}
	if a.recorder != nil {
		a.recorder.Close()
	}
	if a.lanes != nil {
		a.lanes.Close()
	}
	if a.kept != nil {
		a.kept.Close()
	}
	if a.settings != nil {
		a.settings.Close()
	}
	if a.store != nil {
		a.store.Close()
	}
	for _, l := range []net.Listener{a.listener, a.scraped} {
		if l != nil {
			l.Close()
		}
	}
	a.serving.Wait()
}

// Store is the service's database, for the demo's own set-up.
func (a *App) Store() *records.Store { return a.store }

// Refresh reads the settings now, without waiting for the database's notice of what was done to Store.
func (a *App) Refresh(ctx context.Context) error { return a.settings.Refresh(ctx) }

// FirstLink is the path of a one-time link that makes the first owner, "" where there is one already, or nobody knows.
func (a *App) FirstLink(ctx context.Context) (string, error) {
	if !a.settings.Live() {
		return "", nil
	}
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

// quiet is a logger for what clients get wrong: they are told, and nobody else.
type quiet struct{}

func (quiet) Printf(string, ...any) {}
