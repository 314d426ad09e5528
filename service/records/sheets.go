package records

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"sync"
	"time"
)

// Draft is a sheet that somebody is working on.
type Draft struct {
	Site      string    `db:"site" json:"-"`
	Text      string    `db:"text" json:"text"`
	Base      int64     `db:"base" json:"base"` // the site's version that it was begun from
	By        string    `db:"by" json:"by"`
	ChangedAt time.Time `db:"changed_at" json:"changed_at"`
}

// Draft gives a site's draft, nil where there is none.
func (s *Store) Draft(ctx context.Context, site string) (*Draft, error) {
	var found []Draft
	if err := s.db.SelectContext(ctx, &found, `SELECT * FROM sheet_drafts WHERE site = $1`, site); err != nil {
		return nil, fmt.Errorf("read the draft of %s's sheet: %w", site, plain(err))
	}
	if len(found) == 0 {
		return nil, nil
	}
	return &found[0], nil
}

// PutDraft keeps a draft in place of the one before.
func (s *Store) PutDraft(ctx context.Context, d Draft) error {
	_, err := s.db.ExecContext(ctx, `INSERT INTO sheet_drafts (site, text, base, by) VALUES ($1, $2, $3, $4)
		ON CONFLICT (site) DO UPDATE SET text = $2, base = $3, by = $4, changed_at = now()`, d.Site, d.Text, d.Base, d.By)
	return told("keep the draft of "+d.Site+"'s sheet", err)
}

// DropDraft forgets a draft.
func (s *Store) DropDraft(ctx context.Context, site string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sheet_drafts WHERE site = $1`, site)
	return told("forget the draft of "+site+"'s sheet", err)
}

// ClassUse says which address asked for a class, and when it did last.
type ClassUse struct {
	Class   string    `db:"class" json:"class"`
	Address string    `db:"address" json:"address"`
	At      time.Time `db:"at" json:"at"`
}

// ClassUses lists the latest requests for any of these classes, newest first, five of each class.
func (s *Store) ClassUses(ctx context.Context, site string, classes []string, since time.Time) ([]ClassUse, error) {
	uses := []ClassUse{}
	err := s.db.SelectContext(ctx, &uses, `SELECT class, address, at FROM (
			SELECT class, address, at, row_number() OVER (PARTITION BY class ORDER BY at DESC) AS n FROM class_uses WHERE site = $1 AND class = ANY($2) AND at >= $3
		) latest WHERE n <= 5 ORDER BY at DESC`, site, classes, since)
	if err != nil {
		return nil, fmt.Errorf("read who uses %s's classes: %w", site, plain(err))
	}
	return uses, nil
}

// Classes notes which addresses ask for classes, off the request path. It holds a bounded number, and writes them every
// second; while the database is away it drops the newest.
type Classes struct {
	store *Store
	log   *slog.Logger
	mu    sync.Mutex
	held  map[classKey]time.Time
	stop  chan struct{}
	done  chan struct{}
}

type classKey struct{ site, class, address string }

const mostClassesHeld = 4096

// NewClasses starts it. Close ends it.
func NewClasses(store *Store, log *slog.Logger) *Classes {
	c := &Classes{store: store, log: log, held: map[classKey]time.Time{}, stop: make(chan struct{}), done: make(chan struct{})}
	go c.run()
	return c
}

// Used notes one request; classes are divided by spaces. It never waits for the database.
func (c *Classes) Used(site, classes, address string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for name := range strings.SplitSeq(classes, " ") {
		key := classKey{site, name, address}
		if _, ok := c.held[key]; ok || len(c.held) < mostClassesHeld {
			c.held[key] = time.Now()
		}
	}
}

// Flush writes what is held.
func (c *Classes) Flush(ctx context.Context) error {
	c.mu.Lock()
	held := c.held
	c.held = map[classKey]time.Time{}
	c.mu.Unlock()
	if len(held) == 0 {
		return nil
	}
	var sites, classes, addresses []string
	var at []time.Time
	for k, t := range held {
		sites, classes, addresses, at = append(sites, k.site), append(classes, k.class), append(addresses, k.address), append(at, t)
	}
	_, err := c.store.db.ExecContext(ctx, `INSERT INTO class_uses (site, class, address, at) SELECT * FROM unnest($1::text[], $2::text[], $3::text[], $4::timestamptz[])
		ON CONFLICT (site, class, address) DO UPDATE SET at = greatest(class_uses.at, excluded.at)`, sites, classes, addresses, at)
	if err != nil {
		return fmt.Errorf("note the use of classes: %w", plain(err))
	}
	_, err = c.store.db.ExecContext(ctx, `DELETE FROM class_uses WHERE at < now() - interval '90 days'`)
	return err
}

// Close writes what is left, within two seconds.
func (c *Classes) Close() {
	close(c.stop)
	<-c.done
}

func (c *Classes) run() {
	defer close(c.done)
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for open := true; open; {
		select {
		case <-tick.C:
		case <-c.stop:
			open = false
		}
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		if err := c.Flush(ctx); err != nil {
			c.log.Warn("the use of classes was not noted", "error", err)
		}
		cancel()
	}
}

// SheetHistory lists the changes of a site in which its sheet changed, newest first, at most 200.
func (s *Store) SheetHistory(ctx context.Context, site string) ([]Change, error) {
	changes := []Change{}
	err := s.db.SelectContext(ctx, &changes, `SELECT site, version, at, by, what FROM (
			SELECT site, version, at, by, what, document->>'sheet' AS text, lag(document->>'sheet') OVER (ORDER BY version) AS before FROM site_changes WHERE site = $1 AND document IS NOT NULL
		) all_of_them WHERE text IS DISTINCT FROM before ORDER BY version DESC LIMIT 200`, site)
	if err != nil {
		return nil, fmt.Errorf("read the history of %s's sheet: %w", site, plain(err))
	}
	return changes, nil
}
