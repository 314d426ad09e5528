package records

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"maps"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/core/policy"
)

// Settings are all sites and lanes at one moment, never changed after they are made.
type Settings struct {
	Generation uint64 // counts up with every reading
	Sites      []*Site
	byName     map[string]*Site
	byHost     map[string]*Site
}

// Site finds a site by name, nil where there is none.
func (s *Settings) Site(name string) *Site { return s.byName[name] }

// SiteByHost finds the site that a host name belongs to, nil where it is nobody's.
func (s *Settings) SiteByHost(host string) *Site {
	if len(s.byHost) == 0 {
		return nil
	}
	if h, _, ok := strings.Cut(host, ":"); ok {
		host = h
	}
	return s.byHost[strings.ToLower(host)]
}

// Watcher holds the newest Settings. It listens for the database to say that something changed, and reads
// everything again then, and after every reconnect, since what was said in between is lost.
type Watcher struct {
	store   *Store
	log     *slog.Logger
	reading sync.Mutex // one reading at a time, so that an older one never replaces a newer
	current atomic.Pointer[Settings]
	live    atomic.Bool
	stop    context.CancelFunc
	done    chan struct{}
}

// Watch reads the settings and starts listening. Close ends it.
func (s *Store) Watch(ctx context.Context, log *slog.Logger) (*Watcher, error) {
	w := &Watcher{store: s, log: log, done: make(chan struct{})}
	if err := w.read(ctx); err != nil {
		return nil, err
	}
	w.live.Store(true)
	ctx, w.stop = context.WithCancel(context.Background())
	go w.run(ctx)
	return w, nil
}

// Current is the newest settings. It never waits.
func (w *Watcher) Current() *Settings { return w.current.Load() }

// Live reports whether the database could be heard when last tried.
func (w *Watcher) Live() bool { return w.live.Load() }

// Refresh reads the settings now: for a change made through this node, so that its author sees it at once.
func (w *Watcher) Refresh(ctx context.Context) error { return w.read(ctx) }

// Close stops listening and waits for it.
func (w *Watcher) Close() {
	w.stop()
	<-w.done
}

func (w *Watcher) read(ctx context.Context) error {
	w.reading.Lock()
	defer w.reading.Unlock()
	rows, secrets, err := w.store.sites(ctx)
	if err != nil {
		return err
	}
	old := w.current.Load()
	next := &Settings{byName: make(map[string]*Site, len(rows)), byHost: map[string]*Site{}}
	if old != nil {
		next.Generation = old.Generation + 1
	}
	for _, row := range rows {
		site, err := w.store.site(row, secrets)
		if err != nil {
			// One site that can't be read keeps what was known of it, and holds no other up.
			w.log.Error("a site's settings can't be read", "site", row.Name, "error", err)
			if old == nil || old.byName[row.Name] == nil {
				continue
			}
			site = old.byName[row.Name]
		}
		if old != nil {
			// What didn't change stays the same value, so that nothing that hangs on it has to be worked out anew.
			if was := old.byName[row.Name]; was != nil && was.Version == site.Version && maps.Equal(was.Secrets, site.Secrets) && was.MadeAt.Equal(site.MadeAt) {
				site = was
			}
		}
		next.Sites = append(next.Sites, site)
		next.byName[site.Name] = site
		for _, h := range site.Hosts {
			if next.byHost[h] == nil {
				next.byHost[h] = site
			}
		}
	}
	w.current.Store(next)
	return nil
}

// site compiles what the database has of a site.
func (s *Store) site(row siteRow, secrets []secretRow) (*Site, error) {
	site := &Site{Version: row.Version, MadeAt: row.MadeAt, ChangedAt: row.ChangedAt}
	if err := json.Unmarshal(row.Document, &site.Document); err != nil {
		return nil, fmt.Errorf("read the document of %s: %w", row.Name, err)
	}
	site.Document.Complete()
	compiled, _, err := policy.Compile(site.Document)
	if err != nil {
		return nil, fmt.Errorf("compile the document of %s: %w", row.Name, err)
	}
	site.Site = compiled
	for _, sec := range secrets {
		if sec.Site != row.Name {
			continue
		}
		value, err := s.open(sec)
		if err != nil {
			site.Broken = append(site.Broken, sec.Name)
			continue
		}
		if site.Secrets == nil {
			site.Secrets = map[string]string{}
		}
		site.Secrets[sec.Name] = value
		if id, ok := strings.CutPrefix(sec.Name, KeySecret("")); ok {
			if compiled.Keys == nil {
				compiled.Keys = map[string][]byte{}
			}
			compiled.Keys[id] = []byte(value)
		}
	}
	return site, nil
}

func (w *Watcher) run(ctx context.Context) {
	defer close(w.done)
	pause := 100 * time.Millisecond
	for ctx.Err() == nil {
		err := w.listen(ctx, func() { pause = 100 * time.Millisecond })
		if ctx.Err() != nil {
			return
		}
		if w.live.Swap(false) {
			w.log.Warn("the database is gone; images go on being served with the settings last read", "error", plain(err))
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
	conn, err := pgx.Connect(ctx, w.store.url)
	if err != nil {
		return err
	}
	defer func() {
		closing, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		conn.Close(closing)
	}()
	if _, err := conn.Exec(ctx, "LISTEN echolane_settings"); err != nil {
		return err
	}
	if err := w.read(ctx); err != nil {
		return err
	}
	ready()
	if !w.live.Swap(true) {
		w.log.Info("the database is back")
	}
	for {
		// Waking now and then finds connections that broke without a word.
		wait, cancel := context.WithTimeout(ctx, 15*time.Second)
		_, err := conn.WaitForNotification(wait)
		idle := wait.Err() != nil && ctx.Err() == nil
		cancel()
		if err != nil && !idle {
			return err
		}
		if idle {
			if err := conn.Ping(ctx); err != nil {
				return err
			}
			continue
		}
		if err := w.read(ctx); err != nil {
			return err
		}
	}
}
