package records

import (
	"context"
	"fmt"
	"maps"
	"time"

	"echolane/core/policy"
	"echolane/core/wording"
)

// SetAside is a source that nothing is made of, since render workers died over its bytes. It is one until somebody clears it;
// a changed source is another.
type SetAside struct {
	Site    string    `db:"site" json:"site"`
	Digest  string    `db:"digest" json:"digest"`
	Lane    string    `db:"lane" json:"lane"`
	Path    string    `db:"path" json:"path"`
	At      time.Time `db:"at" json:"at"`
	Workers int       `db:"workers" json:"workers"`            // that died over it
	How     string    `db:"how" json:"how"`                    // how the last one ended
	Words   string    `db:"words" json:"words,omitempty"`      // what it said last
	Call    *int      `db:"call" json:"system_call,omitempty"` // the number of the system call that it was ended for
	Asked   string    `db:"asked" json:"asked"`                // the declarations that it worked on
}

// mostSetAside bounds the sources of a site that are set aside: beyond, the oldest is let go.
const mostSetAside = 500

// mostAside bounds those of all sites that a node knows of.
const mostAside = 20_000

// mostWords is how many bytes of a worker's last words are kept.
const mostWords = 2000

// SetAside keeps a source from being worked on, on every node.
func (s *Store) SetAside(ctx context.Context, a SetAside) error {
	_, err := s.db.ExecContext(ctx, `
		WITH old AS (DELETE FROM set_aside WHERE site = $1 AND digest IN (SELECT digest FROM set_aside WHERE site = $1 ORDER BY at DESC OFFSET $10))
		INSERT INTO set_aside (site, digest, lane, path, workers, how, words, call, asked) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9)
		ON CONFLICT (site, digest) DO NOTHING`,
		a.Site, a.Digest, a.Lane, wording.Text(a.Path, 2000), a.Workers, wording.Text(a.How, 200), wording.Text(a.Words, mostWords), a.Call, wording.Text(a.Asked, 2000), mostSetAside-1)
	return wrap("set a source aside", err)
}

// AllSetAside lists the sources of a site that are set aside, in the order of their digests.
func (s *Store) AllSetAside(ctx context.Context, site string) ([]SetAside, error) {
	list := []SetAside{}
	if err := s.db.SelectContext(ctx, &list, `SELECT * FROM set_aside WHERE site = $1 ORDER BY digest`, site); err != nil {
		return nil, fmt.Errorf("list sources that are set aside: %w", plain(err))
	}
	return list, nil
}

// Readmit has a source worked on again: those with this digest, or all of the site where digest is "". It says how many.
func (s *Store) Readmit(ctx context.Context, site, digest string) (int64, error) {
	r, err := s.db.ExecContext(ctx, `DELETE FROM set_aside WHERE site = $1 AND ($2 = '' OR digest = $2)`, site, digest)
	if err != nil {
		return 0, wrap("clear a source", err)
	}
	return r.RowsAffected()
}

type asideKey struct{ site, digest string }

// Aside is the record of a source that is set aside; nil: it isn't. It never waits.
func (w *Watcher) Aside(site, digest string) *SetAside {
	if all := w.aside.Load(); all != nil {
		if a, ok := (*all)[asideKey{site, digest}]; ok {
			return &a
		}
	}
	return nil
}

// HasAside reports whether sources of a site are set aside. It never waits.
func (w *Watcher) HasAside(site string) bool {
	if all := w.aside.Load(); all != nil {
		for k := range *all {
			if k.site == site {
				return true
			}
		}
	}
	return false
}

// SetAside keeps a source from being worked on: here at once, and on every node as soon as the database has it.
func (w *Watcher) SetAside(a SetAside) {
	a.At = time.Now()
	for { // without the lock of those who read: they may wait for a database that hangs
		all := w.aside.Load()
		next := map[asideKey]SetAside{}
		if all != nil {
			if len(*all) >= mostAside {
				return
			}
			next = maps.Clone(*all)
		}
		next[asideKey{a.Site, a.Digest}] = a
		if w.aside.CompareAndSwap(all, &next) {
			break
		}
	}
	w.o.Panics.Go(&w.ended, "set a source aside", func() {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		if err := w.o.Store.SetAside(ctx, a); err != nil {
			w.o.Log.Warn("a source is set aside on this node alone", "site", a.Site, "lane", a.Lane, "path", a.Path, "error", err)
		}
	})
}

// Short is the beginning of the digest, by which people name it.
func (a *SetAside) Short() string { return a.Digest[:min(len(a.Digest), 12)] }

// Refusal is what a request for something of the source is told. How the workers ended isn't among it: whoever made the file
// would learn from that.
func (a *SetAside) Refusal() *policy.Refusal {
	return policy.No(policy.Refusal{
		Reason: policy.ReasonSourceSetAside, Parameter: "path", Given: wording.Cut(a.Path, 120),
		Detail:  "render workers ended over this source: nothing new is made of it",
		Allowed: "sources that can be worked on",
		Remedy:  fmt.Sprintf("put a sound file in its place; or have it tried again with: echolane set-aside %s --clear=%s", a.Site, a.Short()),
	})
}
