package main

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/demo/origin"
	"echolane/demo/pictures"
	"echolane/demo/store"
	"echolane/internal/localpg"
	"echolane/service/app"
	"echolane/service/lane"
	"echolane/service/lane/objects"
	"echolane/service/records"
)

const (
	demoSite   = "kestrel"
	demoPort   = 8742 // PostgreSQL's, where it is free
	demoPerson = "wren"
	demoKey    = "demo"
	demoBucket = "kites"

	demoMetrics = "127.0.0.1:8744"
)

func demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "start PostgreSQL, a made-up site, its origin and object store, and the service",
		Description: `Everything it makes is below --data; nothing outside is touched. Ctrl-C ends all of it.

Examples:
  echolane demo
  echolane demo --listen 127.0.0.1:9000 --origin 127.0.0.1:9001`,
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "origin", Usage: "address of the made-up shop", Value: "127.0.0.1:8741", Sources: cli.EnvVars("ECHOLANE_ORIGIN")},
			&cli.StringFlag{Name: "bucket-listen", Usage: "address of the made-up object store", Value: "127.0.0.1:8743", Sources: cli.EnvVars("ECHOLANE_BUCKET_LISTEN")},
			&cli.StringFlag{Name: "data", Usage: "directory for pictures, database and cache", Value: "var", Sources: cli.EnvVars("ECHOLANE_DATA")},
		),
		Action: runDemo,
	}
}

func runDemo(ctx context.Context, c *cli.Command) error {
	if c.Args().Len() > 0 {
		return badUsage("demo takes no arguments, and was given %q", c.Args().First())
	}
	o, err := serviceOptions(c)
	if err != nil {
		return err
	}
	if !c.IsSet("log-level") { // the list of what to try shouldn't scroll away
		o.Log = slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelWarn}))
	}
	data, err := filepath.Abs(c.String("data"))
	if err != nil {
		return fmt.Errorf("find the data directory: %w", err)
	}
	folder := filepath.Join(data, "pictures", "catalogue")
	if err := drawPictures(folder); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return nil
	}
	if o.Token == "" {
		if o.Token, err = keptRandom(filepath.Join(data, "token")); err != nil {
			return err
		}
	}
	if o.SecretKey == nil {
		text, err := keptRandom(filepath.Join(data, "secret-key"))
		if err != nil {
			return err
		}
		sum := sha256.Sum256([]byte(text))
		o.SecretKey = sum[:]
	}
	d := demo{folder: folder, data: data}
	var closeShop, closeStore func()
	if d.shop, closeShop, err = standIn(c, "origin", origin.New(folder, "http://"+o.Listen)); err != nil {
		return err
	}
	defer closeShop()
	storeKey, err := keptRandom(filepath.Join(data, "store-key"))
	if err != nil {
		return err
	}
	d.credentials = objects.Credentials{AccessKey: "kestrel", SecretKey: storeKey}
	objects := &store.Store{Dir: filepath.Join(data, "store"), AccessKey: d.credentials.AccessKey, SecretKey: storeKey}
	if err := fillStore(objects.Dir, folder); err != nil {
		return err
	}
	if d.store, closeStore, err = standIn(c, "bucket-listen", objects); err != nil {
		return err
	}
	defer closeStore()

	say("starting PostgreSQL")
	db, err := localpg.Start(ctx, localpg.Options{Dir: filepath.Join(data, "postgres"), Port: demoPort})
	if err != nil {
		return err
	}
	defer db.Stop()
	if !strings.HasPrefix(db.Dir, data) {
		say("PostgreSQL's user may not enter %s, so its data is in %s", data, db.Dir)
	}

	if !c.IsSet("drain-delay") {
		o.DrainDelay = 0
	}
	if !c.IsSet("metrics-listen") {
		o.MetricsListen = demoMetrics
	}
	o.Ground.Roots = append(o.Ground.Roots, data)
	o.Ground.Networks = append(o.Ground.Networks, netip.MustParsePrefix("127.0.0.0/8"))
	o.DatabaseURL, o.CacheDir = db.URL, filepath.Join(data, "cache")
	a, err := app.Start(ctx, o)
	if err != nil {
		return err
	}
	defer a.Stop()
	if err := d.setUp(ctx, a.Store()); err != nil {
		return err
	}
	if err := a.Refresh(ctx); err != nil {
		return err
	}
	link, err := a.SignInLink(ctx, demoPerson)
	if err != nil {
		return err
	}
	d.printWhatToTry(a.Addr(), a.MetricsAddr(), link, o.Token, db)

	ended, stop := context.WithCancel(ctx)
	defer stop()
	go func() {
		select {
		case <-db.Exited():
			say("PostgreSQL has ended; images go on being served. Start the demo again to have it back.")
		case <-ended.Done():
		}
	}()
	if err := a.Wait(ctx); err != nil {
		return err
	}
	say("ending")
	return nil
}

func say(format string, args ...any) { fmt.Fprintf(stderr(), format+"\n", args...) }

// drawPictures draws the demo's pictures where they aren't there yet.
func drawPictures(folder string) error {
	var bar *progressbar.ProgressBar
	terminal := term.IsTerminal(int(os.Stderr.Fd()))
	err := pictures.Write(folder, func(done, all int, file string) {
		if !terminal {
			say("drew %d of %d: %s", done, all, file)
			return
		}
		if bar == nil {
			bar = progressbar.NewOptions(all, progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetDescription("drawing the pictures"),
				progressbar.OptionSetWidth(40), progressbar.OptionClearOnFinish())
		}
		bar.Set(done)
	})
	return err
}

// keptRandom is what a file says; where there is none, it is made and says something random.
func keptRandom(path string) (string, error) {
	if text, err := os.ReadFile(path); err == nil && len(text) > 0 {
		return string(text), nil
	}
	text := rand.Text() + rand.Text()
	if err := os.WriteFile(path, []byte(text), 0o600); err != nil {
		return "", fmt.Errorf("keep a secret of the demo: %w", err)
	}
	return text, nil
}

// standIn serves one of the stand-ins at the address that its flag says.
func standIn(c *cli.Command, flag string, h http.Handler) (address string, end func(), err error) {
	l, err := net.Listen("tcp", c.String(flag))
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return "", nil, fmt.Errorf("%s is in use by another program: end that one, or choose another address with --%s", c.String(flag), flag)
		}
		return "", nil, fmt.Errorf("listen on %s: %w", c.String(flag), err)
	}
	server := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(l)
	return l.Addr().String(), func() { server.Close() }, nil
}

// fillStore puts the archive's pictures into the object store.
func fillStore(dir, folder string) error {
	for key, file := range map[string]string{"1962/launch-day.jpg": "archive-1962.jpg", "1998/press-poster.jpg": "poster-press.jpg", "2026/festival-crowd.jpg": "festival-crowd.jpg"} {
		to := filepath.Join(dir, demoBucket, "archive", key)
		if _, err := os.Stat(to); err == nil {
			continue
		}
		data, err := os.ReadFile(filepath.Join(folder, file))
		if err == nil {
			err = os.MkdirAll(filepath.Dir(to), 0o755)
		}
		if err == nil {
			err = os.WriteFile(to, data, 0o644)
		}
		if err != nil {
			return fmt.Errorf("fill the object store: %w", err)
		}
	}
	return nil
}

// demoSheet names the treatments that the workshop uses.
const demoSheet = `/* Kestrel & Twine */
* { object-fit: cover; quality: 72 }

.tile { width: 320px; aspect-ratio: 1; object-position: subject }
.banner { aspect-ratio: 21 / 9; object-position: subject }
.stamped::after { content: url(catalogue/mark.png); width: 18%; inset: auto 4% 4% auto; opacity: .7 }
.archive { filter: sepia(.5) contrast(1.05) }

@keyframes aloft { from { xywh: percent:0,0,100,100 } to { xywh: subject 65% } }
.aloft { animation: aloft 5s ease-in-out infinite alternate }
@media (prefers-reduced-motion: reduce) { .aloft { animation: none } }

/* Cards: 1200 by 630, square, and for a telephone held upright. */
.card { width: 1200px; aspect-ratio: 40 / 21; object-position: subject }
.card.square { aspect-ratio: 1 }
.card.tall { width: 1080px; aspect-ratio: 9 / 16 }
.card::layer(dusk) { inset: 0; background: linear-gradient(90deg, rgb(13 27 42 / 92%), rgb(13 27 42 / 70%) 45%, rgb(13 27 42 / 5%) 85%) }
.card.tall::layer(dusk) { background: linear-gradient(rgb(13 27 42 / 5%) 30%, rgb(13 27 42 / 92%) 75%) }
.card::layer(ribbon) { inset: 0 auto 0 0; width: 16px; background: linear-gradient(#1b7f79 33.3%, #f4c95d 33.3% 66.6%, #c8372d 66.6%) }
.card::layer(kind) { content: attr(data-kind, "Kestrel & Twine"); left: 6%; top: 10%; font: 600 26px sans-serif; letter-spacing: .1em; text-transform: uppercase; color: #f4c95d }
.card::layer(title) { content: attr(data-title, "Kites by hand"); left: 6%; top: 20%; width: 56%; height: 46%; font: bold fit(34px, 92px)/1.12 serif; color: white; text-wrap: balance; align-content: center }
.card.tall::layer(title) { top: 58%; width: 88%; height: 24% }
.card::layer(line) { content: attr(data-line); left: 6%; bottom: 11%; width: 52%; font: 30px/1.35 sans-serif; color: #dbe4ee; line-clamp: 2 }
.card.tall::layer(line) { bottom: 6%; width: 88%; font-size: 38px }
.card::layer(photo) { content: url(attr(data-photo)); right: 6%; bottom: 10%; width: 230px; height: 230px; border: 7px solid white; border-radius: 50%; object-fit: cover; object-position: subject; box-shadow: 0 8px 26px rgb(0 0 0 / 55%) }
.card.tall::layer(photo) { bottom: auto; top: 17% }
.card::layer(price) { content: attr(data-price type(<number>)) " €"; right: 5%; top: 9%; padding: 8px 28px; border-radius: 999px; background: linear-gradient(100deg, #c8372d, #ef7d22); color: white; font: bold 46px sans-serif; rotate: 4deg; box-shadow: 0 6px 18px rgb(0 0 0 / 45%) }

@media (prefers-reduced-data: reduce) { * { quality: 50 } }
`

// demo is what the made-up site stands on.
type demo struct {
	folder, data, shop, store string
	credentials               objects.Credentials
}

// lanes are the site's four, as they must be where this demo runs.
func (d demo) lanes() []policy.Lane {
	return []policy.Lane{
		{Name: "catalogue", Kind: "folder", Folder: d.folder},
		{Name: "press", Kind: "web", Allow: []string{"http://" + d.shop + "/press/*"}, Deny: []string{"http://" + d.shop + "/press/private/*"}, Private: []string{"127.0.0.1"}},
		{Name: "archive", Kind: "bucket", Bucket: demoBucket, Prefix: "archive", Endpoint: "http://" + d.store, Private: []string{"127.0.0.1"}, Visibility: "signed", Original: "download"},
		{Name: "incoming", Kind: "upload", Folder: filepath.Join(d.data, "incoming")},
	}
}

// setUp makes the site with its lanes, secrets and person where they are missing, and mends the lanes where
// the checkout or an address has moved. What was changed by hand otherwise stays.
func (d demo) setUp(ctx context.Context, s *records.Store) error {
	w, err := records.Watch(ctx, records.WatchOptions{Store: s, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer w.Close()
	const by = "the demo"
	site := w.Current().Site(demoSite)
	if site == nil {
		doc := policy.NewDocument(demoSite)
		doc.Cards.Values = "open" // a demo that anybody on this machine may try
		doc.Lanes, doc.Sheet = d.lanes(), demoSheet
		doc.Complete(lane.Described)
		if err := s.AddSite(ctx, doc, by); err != nil {
			return err
		}
	} else {
		doc := site.Document.Clone()
		for _, want := range d.lanes() {
			if have := doc.Lane(want.Name); have != nil {
				have.Folder, have.Endpoint = want.Folder, want.Endpoint
				if len(have.Allow) > 0 {
					have.Allow[0] = want.Allow[0]
				}
				if len(have.Deny) > 0 {
					have.Deny[0] = want.Deny[0]
				}
			}
		}
		if changes := policy.Diff(site.Document, doc); len(changes) > 0 {
			if _, err := s.ChangeSite(ctx, doc, site.Version, by, policy.Summary(changes)); err != nil {
				return err
			}
		}
	}
	text, err := json.Marshal(d.credentials)
	if err != nil {
		return err
	}
	if err := s.PutSecret(ctx, demoSite, policy.CredentialsSecret("archive"), string(text), by); err != nil {
		return err
	}
	if keys, err := s.Secrets(ctx, demoSite, policy.KeySecret(demoKey)); err != nil {
		return err
	} else if len(keys) == 0 {
		if err := s.PutSecret(ctx, demoSite, policy.KeySecret(demoKey), rand.Text()+rand.Text(), by); err != nil {
			return err
		}
	}
	if _, err := s.AddPerson(ctx, demoPerson, rand.Text(), records.MayOwn, nil, by); err != nil && !errors.Is(err, records.ErrExists) {
		return err
	}
	return nil
}

func (d demo) printWhatToTry(service, metrics, link, token string, db *localpg.Server) {
	base := "http://" + service
	command := os.Args[0]
	server := ""
	if base != defaultServer {
		server = " ECHOLANE_SERVER=" + base
	}
	press := string(declare.AppendSegment(nil, "http://"+d.shop+"/press/sled-blue.jpg"))
	fmt.Printf(`
Echo Lane is ready. Open:

  http://%[2]s/
      the shop as it is: every picture full size; at /markup and /element as it is with Echo Lane
  %[1]s%[6]s
      the console; this link signs you in as %[7]s, once
  %[1]s/kestrel/catalogue/delta-red.jpg?width=640
      24 megapixels as 640 pixels
  %[1]s/kestrel/catalogue/coast-panorama.jpg?width=350&aspect-ratio=3/2
      a panorama cut to a tile
  %[1]s/kestrel/catalogue/box-kite-cliff.jpg?width=640&aspect-ratio=1&object-position=subject&border-radius=32px
      cut around its subject, with round corners
  %[1]s/kestrel/press/%[8]s?width=640
      from the shop's own host, by a rule
  %[1]s/kestrel/catalogue/delta-red.jpg?widht=640
      a mistake, and what it answers
  http://%[11]s/metrics
      what is counted, for Prometheus

In another terminal:

  export ECHOLANE_TOKEN=%[5]s%[9]s
  %[3]s fetch 'kestrel/catalogue/delta-red.jpg?width=640'
  %[3]s link kestrel/archive/1962/launch-day.jpg width=800 --sign demo --lasts 24h
  %[3]s explain 'kestrel/catalogue/delta-red.jpg?width=350&aspect-ratio=3/2'
  %[3]s sheet show kestrel
  %[3]s markup kestrel/catalogue/delta-red.jpg --slot '(min-width: 900px) 33vw, 100vw' --alt 'A red delta kite'
  %[3]s weigh http://%[2]s/ --map http://%[2]s/pictures/=catalogue
  %[3]s lane test kestrel/press http://%[2]s/press/sled-blue.jpg
  %[3]s upload put %[10]s/mark.png kestrel/incoming
  %[3]s site set kestrel --rungs 320,640,960 --dry-run
  %[3]s warm kestrel/catalogue --widths 320,640 --formats webp --dry-run
  %[3]s stock kestrel --by source
  %[3]s purge kestrel/catalogue/delta-red.jpg --dry-run
  %[3]s refusals kestrel
  %[3]s export kestrel
  psql '%[4]s' \
    -c 'select path, bytes, render_ms from made_variants'

Ctrl-C ends all of it.
`, base, d.shop, command, db.URL, token, link, demoPerson, press, server, d.folder, metrics)
}
