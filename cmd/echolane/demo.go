package main

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"echolane/demo/origin"
	"echolane/demo/pictures"
	"echolane/service/app"
	"echolane/service/localpg"
	"echolane/service/records"
)

const (
	demoSite = "kestrel"
	demoLane = "catalogue"
	demoPort = 8742 // PostgreSQL's, where it is free
)

func demoCommand() *cli.Command {
	return &cli.Command{
		Name:  "demo",
		Usage: "start PostgreSQL, a made-up site, its origin and the service",
		Description: `Everything it makes is below --data; nothing outside is touched. Ctrl-C ends all of it.

Examples:
  echolane demo
  echolane demo --listen 127.0.0.1:9000 --origin 127.0.0.1:9001`,
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "origin", Usage: "address of the made-up shop", Value: "127.0.0.1:8741", Sources: cli.EnvVars("ECHOLANE_ORIGIN")},
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
	folder := filepath.Join(data, "pictures", demoLane)
	if err := drawPictures(folder); err != nil {
		return err
	}
	if ctx.Err() != nil {
		return nil
	}

	shop, err := net.Listen("tcp", c.String("origin"))
	if err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%s is in use by another program: end that one, or choose another address with --origin", c.String("origin"))
		}
		return fmt.Errorf("listen on %s: %w", c.String("origin"), err)
	}
	server := &http.Server{Handler: origin.New(folder), ReadHeaderTimeout: 10 * time.Second}
	go server.Serve(shop)
	defer server.Close()

	say("starting PostgreSQL")
	db, err := localpg.Start(ctx, localpg.Options{Dir: filepath.Join(data, "postgres"), Port: demoPort})
	if err != nil {
		return err
	}
	defer db.Stop()
	if !strings.HasPrefix(db.Dir, data) {
		say("PostgreSQL's user may not enter %s, so its data is in %s", data, db.Dir)
	}

	o.DatabaseURL, o.CacheDir = db.URL, filepath.Join(data, "cache")
	a, err := app.Start(ctx, o)
	if err != nil {
		return err
	}
	defer a.Stop(grace)
	if err := setUp(ctx, a.Store(), folder); err != nil {
		return err
	}
	if err := a.Refresh(ctx); err != nil {
		return err
	}
	printWhatToTry(a.Addr(), shop.Addr().String(), db)

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

func say(format string, args ...any) { fmt.Fprintf(os.Stderr, format+"\n", args...) }

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

// setUp makes the site and its lane where they are missing, and mends the lane where the checkout has moved.
func setUp(ctx context.Context, store *records.Store, folder string) error {
	if err := store.AddSite(ctx, records.NewSite(demoSite)); err != nil && !errors.Is(err, records.ErrExists) {
		return err
	}
	err := store.AddLane(ctx, records.Lane{Site: demoSite, Name: demoLane, Kind: "folder", Folder: folder})
	if errors.Is(err, records.ErrExists) {
		return store.MoveLane(ctx, demoSite, demoLane, folder)
	}
	return err
}

func printWhatToTry(service, shop string, db *localpg.Server) {
	base := "http://" + service
	command := os.Args[0]
	if base != defaultServer {
		command = "ECHOLANE_SERVER=" + base + " " + command
	}
	fmt.Printf(`
Echo Lane is ready. Open:

  http://%[2]s/
      the shop as it is: every picture full size
  %[1]s/-/console/
      the Easel: set a slot, see the variant beside its original
  %[1]s/kestrel/catalogue/delta-red.jpg?width=640
      24 megapixels as 640 pixels
  %[1]s/kestrel/catalogue/coast-panorama.jpg?width=350&aspect-ratio=3/2
      a panorama cut to a tile
  %[1]s/kestrel/catalogue/delta-red.jpg?widht=640
      a mistake, and what it answers

In another terminal:

  %[3]s fetch 'kestrel/catalogue/delta-red.jpg?width=640'
  %[3]s link kestrel/catalogue/festival-dawn.jpg width=350 aspect-ratio=3/2
  %[3]s site show kestrel
  psql '%[4]s' -c 'select path, declarations, bytes, render_ms from variants'

Ctrl-C ends all of it.
`, base, shop, command, db.URL)
}
