package records

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/declare"
	"echolane/core/policy"
)

// Focus is where somebody has said that the subject of a source is.
type Focus struct {
	Site   string    `db:"site" json:"site"`
	Lane   string    `db:"lane" json:"lane"`
	Path   string    `db:"path" json:"path"`
	X      *float64  `db:"x" json:"x"` // of the box, in parts of the upright picture's sides; nil: it was taken back
	Y      *float64  `db:"y" json:"y"`
	Width  *float64  `db:"width" json:"width"` // 0, as the height: a point
	Height *float64  `db:"height" json:"height"`
	Serial int64     `db:"serial" json:"serial"` // counts up over all
	At     time.Time `db:"at" json:"at"`
	By     string    `db:"by" json:"by"`
}

// Place is the focus as declarations have it; not declared where it was taken back.
func (f *Focus) Place() declare.Focus {
	if f.X == nil || f.Y == nil || f.Width == nil || f.Height == nil {
		return declare.Focus{}
	}
	place, ok := declare.FocusOf(*f.X, *f.Y, *f.Width, *f.Height)
	if !ok {
		return declare.Focus{}
	}
	return place
}

// mostFocuses bounds those of a site, which every node knows.
const mostFocuses = 100_000

// ErrTooManyFocuses: the site has as many as nodes keep.
var ErrTooManyFocuses = fmt.Errorf("the site has %d already, which is the most", mostFocuses)

// SetFocus keeps where a source's subject is, in the place of what was said before; not declared, it is taken back. ErrNoSite where
// the site is gone.
func (s *Store) SetFocus(ctx context.Context, site, lane, path string, f declare.Focus, by string) (kept Focus, err error) {
	err = s.inTransaction(ctx, "keep a focus", func(tx *sqlx.Tx) error {
		// One at a time, so that serials become known in their order.
		if _, err := tx.ExecContext(ctx, `SELECT pg_advisory_xact_lock(hashtext('echolane focus'))`); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM focuses WHERE site = $1 AND x IS NULL AND at < now() - interval '1 day'`, site); err != nil {
			return err
		}
		var x, y, w, h *float64
		if f.Declared {
			x, y, w, h = &f.X, &f.Y, &f.W, &f.H
			var n int
			if err := tx.GetContext(ctx, &n, `SELECT count(*) FROM focuses WHERE site = $1 AND (lane, path) <> ($2, $3)`, site, lane, path); err != nil {
				return err
			}
			if n >= mostFocuses {
				return ErrTooManyFocuses
			}
		}
		return tx.GetContext(ctx, &kept, `
			INSERT INTO focuses (site, lane, path, x, y, width, height, serial, by) VALUES ($1, $2, $3, $4, $5, $6, $7, nextval('focus_serial'), $8)
			ON CONFLICT (site, lane, path) DO UPDATE SET x = excluded.x, y = excluded.y, width = excluded.width, height = excluded.height, serial = excluded.serial, at = now(), by = excluded.by
			RETURNING *`, site, lane, path, x, y, w, h, by)
	})
	if errors.Is(err, ErrTooManyFocuses) {
		return kept, ErrTooManyFocuses
	}
	return kept, err
}

// Focuses lists those of a lane in the order of their paths, behind a path, at most limit.
func (s *Store) Focuses(ctx context.Context, site, lane, after string, limit int) ([]Focus, error) {
	list := []Focus{}
	err := s.db.SelectContext(ctx, &list, `SELECT * FROM focuses WHERE site = $1 AND lane = $2 AND x IS NOT NULL AND path > $3 ORDER BY path LIMIT $4`, site, lane, after, limit)
	if err != nil {
		return nil, fmt.Errorf("list the focuses of %s/%s: %w", site, lane, plain(err))
	}
	return list, nil
}

// focuses are what a Watcher knows of them.
type focuses struct {
	serial int64
	of     map[string]siteFocuses
}

type siteFocuses struct {
	madeAt time.Time // when the site was made: another one of its name has none of these
	all    *policy.Focuses
}

// with is what is known when sites are as they were read, and more was said.
func (f focuses) with(sites []siteRow, more []Focus) focuses {
	next := focuses{f.serial, make(map[string]siteFocuses, len(sites))}
	changes := map[string][]policy.FocusChange{}
	for _, m := range more {
		next.serial = max(next.serial, m.Serial)
		changes[m.Site] = append(changes[m.Site], policy.FocusChange{Lane: m.Lane, Path: m.Path, Focus: m.Place()})
	}
	for _, row := range sites {
		known := f.of[row.Name]
		if !known.madeAt.Equal(row.MadeAt) {
			known = siteFocuses{madeAt: row.MadeAt}
		}
		if c := changes[row.Name]; len(c) > 0 {
			known.all = known.all.With(c)
		}
		next.of[row.Name] = known
	}
	return next
}

// newest is a list of focuses in which later ones take the place of earlier ones of the same source, and none is of those that were
// taken back.
func newest(list, more []Focus) []Focus {
	if len(more) == 0 {
		return list
	}
	type source struct{ site, lane, path string }
	later := make(map[source]bool, len(more))
	for _, f := range more {
		later[source{f.Site, f.Lane, f.Path}] = true
	}
	out := make([]Focus, 0, len(list)+len(more))
	for _, f := range list {
		if !later[source{f.Site, f.Lane, f.Path}] {
			out = append(out, f)
		}
	}
	for _, f := range more {
		if f.Place().Declared {
			out = append(out, f)
		}
	}
	return out
}
