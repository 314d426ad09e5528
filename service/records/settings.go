package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"

	"echolane/core/policy"
	"echolane/service/lane"
	"echolane/service/panics"
)

// Watcher holds the newest settings. It listens for the database to say that something changed, and reads everything
// again then, and after every reconnect, since what was said in between is lost. What it read last is kept in a file, with
// secrets still sealed, so that a node that starts while the database is away serves what it knew.
type Watcher struct {
	o          WatchOptions
	reading    sync.Mutex // one reading at a time, so that an older one never replaces a newer
	current    atomic.Pointer[policy.Settings]
	deployment atomic.Pointer[string]
	live       atomic.Bool
	aside      atomic.Pointer[map[asideKey]SetAside]
	known      atomic.Bool // settings were read, from the database or the file
	broken     string      // the secrets that couldn't be opened, as last said; guarded by reading
	focuses    focuses     // guarded by reading
	said       []Focus     // what focuses are of, for the file; guarded by reading
	stop       context.CancelFunc
	ended      sync.WaitGroup
}

// WatchOptions are what a Watcher works with.
type WatchOptions struct {
	Store  *Store
	Log    *slog.Logger
	Panics *panics.Catcher
	File   string // where the settings last read are kept; "": nowhere
	// Changed is called when there are other settings. It doesn't block; nil: nobody is told.
	Changed func()
}

// startLimit is how long a start waits for the database before it goes on without.
const startLimit = 5 * time.Second

// Watch reads the settings and starts listening. Where the database can't be reached, it goes on with the settings that
// were known last, or with none, and waits for it; what the database refuses (its password, its name, a schema that can't
// be brought up to date) is an error. Close ends it.
func Watch(ctx context.Context, o WatchOptions) (*Watcher, error) {
	w := &Watcher{o: o}
	empty, _ := policy.NewSettings(lane.Described, nil, nil)
	w.current.Store(empty)
	starting, cancel := context.WithTimeout(ctx, startLimit)
	defer cancel()
	err := w.begin(starting)
	switch {
	case err == nil:
		w.live.Store(true)
	case !isAway(err):
		return nil, err
	default:
		kept, at := w.fromFile()
		if kept {
			o.Log.Warn("the database is away: serving the settings that were known last, and waiting for it", "known_at", at.UTC().Format(time.RFC3339), "error", plain(err))
		} else {
			o.Log.Warn("the database is away, and no settings are known yet: waiting for it", "error", plain(err))
		}
	}
	running, stop := context.WithCancel(context.Background())
	w.stop = stop
	o.Panics.Go(&w.ended, "watch the settings", func() { w.run(running) })
	return w, nil
}

// begin brings the schema up to date and reads everything.
func (w *Watcher) begin(ctx context.Context) error {
	if err := w.o.Store.Prepare(ctx); err != nil {
		return err
	}
	w.reading.Lock()
	w.focuses, w.said = focuses{}, nil // the database may be another, or an older one that was brought back
	w.reading.Unlock()
	return w.read(ctx)
}

// Current is the newest settings. It never waits.
func (w *Watcher) Current() *policy.Settings { return w.current.Load() }

// Live reports whether the database could be heard when last tried, and answers.
func (w *Watcher) Live() bool { return w.live.Load() && !w.o.Store.db.Away() }

// Known reports whether there are settings at all, be it those that were known last.
func (w *Watcher) Known() bool { return w.known.Load() }

// Deployment is the name in CDN-Loop (RFC 8586) that all nodes of the database share, "" where it isn't known yet.
func (w *Watcher) Deployment() string {
	if d := w.deployment.Load(); d != nil {
		return *d
	}
	return ""
}

// Refresh reads the settings now: for a change made through this node, so that its author sees it at once.
func (w *Watcher) Refresh(ctx context.Context) error { return w.read(ctx) }

// Close stops listening and waits for it.
func (w *Watcher) Close() {
	w.stop()
	w.ended.Wait()
}

// lastKnown is the file of a node's last settings.
type lastKnown struct {
	At         time.Time   `json:"at"`
	Deployment string      `json:"deployment"`
	Sites      []siteRow   `json:"sites"`
	Secrets    []secretRow `json:"secrets"` // sealed
	Aside      []SetAside  `json:"set_aside,omitempty"`
	Purges     []PurgeRule `json:"purges,omitempty"`
	Focuses    []Focus     `json:"focuses,omitempty"`
}

func (w *Watcher) read(ctx context.Context) error {
	w.reading.Lock()
	defer w.reading.Unlock()
	k, err := w.o.Store.sites(ctx, w.focuses.serial)
	if err != nil {
		return err
	}
	deployment := strings.TrimPrefix(w.Deployment(), "echolane-")
	if deployment == "" {
		if deployment, err = w.o.Store.Deployment(ctx); err != nil {
			return err
		}
	}
	k.At, k.Deployment = time.Now(), deployment
	if err := w.take(k); err != nil {
		return err
	}
	k.Focuses = w.said
	w.keep(k)
	return nil
}

// Look reads the settings once, without changing anything, and names the secrets that can't be opened.
func (s *Store) Look(ctx context.Context) (all *policy.Settings, broken []string, err error) {
	if err := s.db.pool.PingContext(ctx); err != nil {
		return nil, nil, fmt.Errorf("reach the database: %w", plain(err))
	}
	k, err := s.sites(ctx, 0)
	if err != nil {
		return nil, nil, err
	}
	stored, _, broken, errs := s.stored(k, focuses{}.with(k.Sites, k.Focuses))
	all, more := policy.NewSettings(lane.Described, nil, stored)
	return all, broken, errors.Join(append(errs, more...)...)
}

// stored opens what is kept of sites. opened counts the secrets that could be, broken names those that couldn't.
func (s *Store) stored(k lastKnown, said focuses) (stored []policy.Stored, opened int, broken []string, errs []error) {
	bySite := map[string][]policy.Purge{}
	for _, r := range k.Purges {
		bySite[r.Site] = append(bySite[r.Site], policy.Purge{Serial: uint64(r.Serial), Lane: r.Lane, Path: r.Path, Class: r.Class, Keys: strings.Fields(r.Keys)})
	}
	for _, row := range k.Sites {
		in := policy.Stored{Purges: bySite[row.Name], Focuses: said.of[row.Name].all, Version: row.Version, MadeAt: row.MadeAt, ChangedAt: row.ChangedAt}
		if err := json.Unmarshal(row.Document, &in.Document); err != nil {
			errs = append(errs, fmt.Errorf("read the settings of site %s: %w", row.Name, err))
			in.Document = policy.Document{}
		}
		in.Document.Site = row.Name
		for _, sec := range k.Secrets {
			if sec.Site != row.Name {
				continue
			}
			value, err := s.open(sec)
			if err != nil {
				in.Broken = append(in.Broken, sec.Name)
				broken = append(broken, sec.Site+"/"+sec.Name)
				continue
			}
			opened++
			if in.Secrets == nil {
				in.Secrets = map[string]string{}
			}
			in.Secrets[sec.Name] = value
		}
		stored = append(stored, in)
	}
	return stored, opened, broken, errs
}

// ErrOtherKey: no secret can be opened with the key that the service has.
var ErrOtherKey = errors.New("the secrets in this database were kept under another key: start every node with the ECHOLANE_SECRET_KEY that they were kept under; if that is lost, start without one, remove them (echolane key remove, echolane lane secret … --remove) and keep them anew")

// take makes settings of what was read. w.reading is held, or nobody else reads yet.
func (w *Watcher) take(k lastKnown) error {
	before := w.current.Load()
	said := w.focuses.with(k.Sites, k.Focuses)
	stored, opened, broken, unread := w.o.Store.stored(k, said)
	if len(broken) > 0 && opened == 0 && w.o.Store.seal != nil && !w.known.Load() {
		return ErrOtherKey
	}
	if text := strings.Join(broken, ", "); text != w.broken {
		w.broken = text
		if text != "" {
			w.o.Log.Warn("secrets can't be opened with the key that this node has", "secrets", text, "remedy", "start every node with the ECHOLANE_SECRET_KEY that they were kept under, or keep them anew")
		}
	}
	next, errs := policy.NewSettings(lane.Described, before, stored)
	for _, err := range append(unread, errs...) {
		w.o.Log.Error("a site's settings can't be used", "error", err)
	}
	aside := make(map[asideKey]SetAside, len(k.Aside))
	for _, a := range k.Aside {
		aside[asideKey{a.Site, a.Digest}] = a
	}
	w.focuses, w.said = said, newest(w.said, k.Focuses)
	w.aside.Store(&aside)
	w.current.Store(next)
	name := "echolane-" + k.Deployment
	w.deployment.Store(&name)
	w.known.Store(true)
	if w.o.Changed != nil {
		w.o.Changed()
	}
	return nil
}

// keep writes the file of the last settings, whole or not at all.
func (w *Watcher) keep(k lastKnown) {
	if w.o.File == "" {
		return
	}
	err := func() error {
		text, err := json.Marshal(k)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(w.o.File), 0o700); err != nil {
			return err
		}
		f, err := os.CreateTemp(filepath.Dir(w.o.File), ".settings-")
		if err != nil {
			return err
		}
		_, err = f.Write(text)
		if e := f.Close(); err == nil {
			err = e
		}
		if err == nil {
			err = os.Rename(f.Name(), w.o.File)
		}
		if err != nil {
			os.Remove(f.Name())
		}
		return err
	}()
	if err != nil {
		w.o.Log.Warn("the settings aren't kept for a start without the database", "error", err)
	}
}

// fromFile takes the settings that were known last; false where there are none that can be used.
func (w *Watcher) fromFile() (bool, time.Time) {
	if w.o.File == "" {
		return false, time.Time{}
	}
	text, err := os.ReadFile(w.o.File)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			w.o.Log.Warn("the settings that were known last can't be read", "error", err)
		}
		return false, time.Time{}
	}
	var k lastKnown
	if err := json.Unmarshal(text, &k); err != nil {
		w.o.Log.Warn("the settings that were known last can't be read", "error", fmt.Errorf("read %s: %w", w.o.File, err))
		return false, time.Time{}
	}
	if err := w.take(k); err != nil {
		w.o.Log.Warn("the settings that were known last can't be used", "error", err)
		return false, time.Time{}
	}
	return true, k.At
}

func (w *Watcher) run(ctx context.Context) {
	pause := 100 * time.Millisecond
	for ctx.Err() == nil {
		err := w.listen(ctx, func() { pause = 100 * time.Millisecond })
		if ctx.Err() != nil {
			return
		}
		if w.live.Swap(false) {
			w.o.Log.Warn("the database is gone; images go on being served with the settings last read", "error", plain(err))
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, 2*time.Second)
	}
}

// listen holds one connection of its own until it breaks. ready is called once it hears.
func (w *Watcher) listen(ctx context.Context, ready func()) error {
	conn, err := connect(ctx, w.o.Store.url)
	if err != nil {
		return err
	}
	defer func() {
		closing, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		conn.Close(closing)
	}()
	if err := within(ctx, func(ctx context.Context) error {
		_, err := conn.Exec(ctx, "LISTEN echolane_settings")
		return err
	}); err != nil {
		return err
	}
	if err := within(ctx, w.begin); err != nil {
		return err
	}
	ready()
	if !w.live.Swap(true) {
		w.o.Log.Info("the database is back")
	}
	return hear(ctx, conn, w.read)
}

// A hearer is a connection that listens.
type hearer interface {
	WaitForNotification(ctx context.Context) (*pgconn.Notification, error)
	Ping(ctx context.Context) error
}

// hear reads whenever something is said, until the connection breaks or a reading fails.
func hear(ctx context.Context, conn hearer, read func(context.Context) error) error {
	for {
		// Waking now and then finds connections that broke without a word, and databases that stand still.
		wait, cancel := context.WithTimeout(ctx, pingEvery)
		_, err := conn.WaitForNotification(wait)
		idle := err != nil && wait.Err() != nil && ctx.Err() == nil // what came at the last moment came
		cancel()
		if err != nil && !idle {
			return err
		}
		if idle {
			if err := within(ctx, conn.Ping); err != nil {
				return err
			}
			continue
		}
		// What else is said within a moment is read with it: a thousand changes are a few readings.
		for gathering, cancel := context.WithTimeout(ctx, gather); ; {
			if _, err = conn.WaitForNotification(gathering); err != nil {
				idle = gathering.Err() != nil && ctx.Err() == nil
				cancel()
				break
			}
		}
		if !idle {
			return err
		}
		if err := within(ctx, read); err != nil {
			return err
		}
	}
}

const (
	gather    = 10 * time.Millisecond
	pingEvery = 2 * time.Second // that an idle connection is asked whether it is there
	pingLimit = 2 * time.Second // for its answer, and for a reading
)

// within runs one step of listening under a deadline.
func within(ctx context.Context, do func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, pingLimit)
	defer cancel()
	return do(ctx)
}

// connect makes a connection outside the pool, under a deadline.
func connect(ctx context.Context, url string) (*pgx.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, pingLimit)
	defer cancel()
	return pgx.Connect(ctx, url)
}
