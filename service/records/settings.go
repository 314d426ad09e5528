package records

import (
	"context"
	"log/slog"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
)

// Settings are all sites and lanes at one moment, never changed after they are made.
type Settings struct {
	Generation uint64 // counts up with every reading
	Sites      []Site
	byName     map[string]*Site
}

// Site finds a site by name, nil where there is none.
func (s *Settings) Site(name string) *Site { return s.byName[name] }

// Lane finds a lane of the site by name, nil where there is none.
func (s *Site) Lane(name string) *Lane {
	for i := range s.Lanes {
		if s.Lanes[i].Name == name {
			return &s.Lanes[i]
		}
	}
	return nil
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
	sites, err := w.store.Sites(ctx)
	if err != nil {
		return err
	}
	next := &Settings{Sites: sites, byName: make(map[string]*Site, len(sites))}
	for i := range sites {
		next.byName[sites[i].Name] = &sites[i]
	}
	if old := w.current.Load(); old != nil {
		next.Generation = old.Generation + 1
	}
	w.current.Store(next)
	return nil
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
