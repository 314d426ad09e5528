package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/wording"
)

// Warming is a making of variants before somebody asks for them, and how far it is.
type Warming struct {
	ID       int64      `db:"id" json:"id"`
	Site     string     `db:"site" json:"site"`
	What     string     `db:"what" json:"what"` // in words
	State    string     `db:"state" json:"state" words:"running paused done stopped"`
	By       string     `db:"by" json:"by"`
	BegunAt  time.Time  `db:"begun_at" json:"begun_at"`
	EndedAt  *time.Time `db:"ended_at" json:"ended_at,omitempty"`
	Sources  int64      `db:"sources" json:"sources"`
	Variants int64      `db:"variants" json:"variants"` // in all
	Made     int64      `db:"made" json:"made"`
	Kept     int64      `db:"kept" json:"kept"`         // were there already
	LeftOut  int64      `db:"left_out" json:"left_out"` // were refused, or failed
	Bytes    int64      `db:"bytes" json:"bytes"`       // of those that were made
	ActiveS  float64    `db:"active_s" json:"active_s"` // seconds that it was worked on

	Queries string     `db:"queries" json:"-"` // a line each
	Accepts string     `db:"accepts" json:"-"` // a line each
	Worked  *time.Time `db:"worked_at" json:"-"`
}

// WarmItem is a source of a warming, with what is to be made of it.
type WarmItem struct {
	N       int    `db:"n"`
	Source  string `db:"source"`
	Queries string `db:"queries"` // a line each; "": those of the warming
}

// Warmed is what one item came to.
type Warmed struct {
	Made, Kept, LeftOut, Bytes int64
	Trouble                    string // why something was left out
}

// takenFor is how long an item that a node took is that node's: one that ended leaves it to others then.
const takenFor = 3 * time.Minute

// mostWarmings is how many warmings of a site may be under way, or paused, at a time.
const mostWarmings = 20

// ErrManyWarmings: as many are under way as may be.
var ErrManyWarmings = fmt.Errorf("%d warmings of the site haven't ended yet", mostWarmings)

// AddWarming writes a warming down. It isn't worked on before somebody does.
func (s *Store) AddWarming(ctx context.Context, w Warming, items []WarmItem) (Warming, error) {
	err := s.inTransaction(ctx, "write a warming down", func(tx *sqlx.Tx) error {
		// The site's row is locked, so that several at once don't come past the bound together.
		var open int
		if _, err := tx.ExecContext(ctx, `SELECT FROM sites WHERE name = $1 FOR UPDATE`, w.Site); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &open, `SELECT count(*) FROM warmings WHERE site = $1 AND state IN ('running', 'paused')`, w.Site); err != nil {
			return err
		}
		if open >= mostWarmings {
			return ErrManyWarmings
		}
		err := tx.GetContext(ctx, &w, `INSERT INTO warmings (site, what, state, by, queries, accepts, sources, variants) VALUES ($1, $2, 'running', $3, $4, $5, $6, $7) RETURNING *`,
			w.Site, wording.Text(w.What, 300), w.By, w.Queries, w.Accepts, len(items), w.Variants)
		if err != nil {
			return err
		}
		const step = 5000
		for from := 0; from < len(items); from += step {
			part := items[from:min(from+step, len(items))]
			sources, queries := make([]string, len(part)), make([]string, len(part))
			for i, item := range part {
				sources[i], queries[i] = item.Source, item.Queries
			}
			_, err := tx.ExecContext(ctx, `INSERT INTO warm_items (warming, n, source, queries) SELECT $1, $2 + i - 1, source, queries FROM unnest($3::text[], $4::text[]) WITH ORDINALITY AS t (source, queries, i)`,
				w.ID, from, sources, queries)
			if err != nil {
				return err
			}
		}
		return nil
	})
	return w, err
}

// ErrNoWarming: there is no such warming.
var ErrNoWarming = errors.New("there is no such warming")

// Warming gives one of a site.
func (s *Store) Warming(ctx context.Context, site string, id int64) (w Warming, err error) {
	err = s.db.GetContext(ctx, &w, `SELECT * FROM warmings WHERE id = $1 AND ($2 = '' OR site = $2)`, id, site)
	if errors.Is(err, sql.ErrNoRows) {
		return w, ErrNoWarming
	}
	return w, wrap("look for a warming", err)
}

// Warmings lists those of a site, newest first: those before the number, where it isn't 0.
func (s *Store) Warmings(ctx context.Context, site string, before int64, limit int) ([]Warming, error) {
	list := []Warming{}
	err := s.db.SelectContext(ctx, &list, `SELECT * FROM warmings WHERE site = $1 AND ($2 = 0 OR id < $2) ORDER BY id DESC LIMIT $3`, site, before, limit)
	if err != nil {
		return nil, fmt.Errorf("list the warmings of %s: %w", site, plain(err))
	}
	return list, nil
}

// RunningWarmings are the numbers of those that are to be worked on.
func (s *Store) RunningWarmings(ctx context.Context) (ids []int64, err error) {
	err = s.db.SelectContext(ctx, &ids, `SELECT id FROM warmings WHERE state = 'running' ORDER BY id`)
	return ids, wrap("list the warmings", err)
}

// WarmTroubles tells why something was left out of a warming, the commonest first.
func (s *Store) WarmTroubles(ctx context.Context, id int64) ([]WarmTrouble, error) {
	list := []WarmTrouble{}
	err := s.db.SelectContext(ctx, &list, `SELECT trouble, count(*) AS sources, min(source) AS sample FROM warm_items WHERE warming = $1 AND trouble <> '' GROUP BY trouble ORDER BY 2 DESC, 1 LIMIT 20`, id)
	return list, wrap("list what was left out", err)
}

// WarmTrouble is why something was left out.
type WarmTrouble struct {
	Trouble string `db:"trouble" json:"trouble"`
	Sources int64  `db:"sources" json:"sources"`
	Sample  string `db:"sample" json:"sample"` // one of them
}

// SetWarming has a warming paused, go on, or stopped. One that has ended stays so: changed is false then.
func (s *Store) SetWarming(ctx context.Context, id int64, state string) (changed bool, err error) {
	r, err := s.db.ExecContext(ctx, `UPDATE warmings SET state = $2, ended_at = CASE WHEN $2 = 'stopped' THEN now() END WHERE id = $1 AND state IN ('running', 'paused') AND state <> $2`, id, state)
	if err != nil {
		return false, wrap("change a warming", err)
	}
	n, _ := r.RowsAffected()
	return n > 0, nil
}

// TakeWarmItem gives an item that nobody works on; ok is false where there is none, or the warming isn't running.
func (s *Store) TakeWarmItem(ctx context.Context, id int64) (item WarmItem, ok bool, err error) {
	err = s.db.GetContext(ctx, &item, `UPDATE warm_items SET state = 'taken', taken_at = now() WHERE warming = $1 AND n = (
			SELECT n FROM warm_items WHERE warming = $1 AND (state = 'waiting' OR state = 'taken' AND taken_at < now() - $2 * interval '1 second')
				AND (SELECT state FROM warmings WHERE id = $1) = 'running'
			ORDER BY n LIMIT 1 FOR UPDATE SKIP LOCKED)
		RETURNING n, source, queries`, id, takenFor.Seconds())
	if errors.Is(err, sql.ErrNoRows) {
		return item, false, nil
	}
	return item, err == nil, wrap("take an item of a warming", err)
}

// EndWarmItem writes down what an item came to, and that the warming is done, where it was the last.
func (s *Store) EndWarmItem(ctx context.Context, id int64, n int, w Warmed) error {
	return s.inTransaction(ctx, "write down what was warmed", func(tx *sqlx.Tx) error {
		r, err := tx.ExecContext(ctx, `UPDATE warm_items SET state = 'done', trouble = $3 WHERE warming = $1 AND n = $2 AND state <> 'done'`, id, n, wording.Text(w.Trouble, 300))
		if err != nil {
			return err
		}
		if rows, _ := r.RowsAffected(); rows == 0 { // another node took it over, and was sooner
			return nil
		}
		// What lies between two items of a warming that is worked on is time that it took; what is longer is a pause.
		_, err = tx.ExecContext(ctx, `UPDATE warmings SET made = made + $2, kept = kept + $3, left_out = left_out + $4, bytes = bytes + $5,
				active_s = active_s + least(30, greatest(0, extract(epoch FROM clock_timestamp() - coalesce(worked_at, begun_at)))), worked_at = clock_timestamp()
			WHERE id = $1`, id, w.Made, w.Kept, w.LeftOut, w.Bytes)
		if err != nil {
			return err
		}
		_, err = tx.ExecContext(ctx, `UPDATE warmings SET state = 'done', ended_at = now() WHERE id = $1 AND state = 'running' AND NOT EXISTS (SELECT FROM warm_items WHERE warming = $1 AND state <> 'done')`, id)
		return err
	})
}

// GiveBackWarmItem has an item worked on by somebody else: this node ends.
func (s *Store) GiveBackWarmItem(ctx context.Context, id int64, n int) error {
	_, err := s.db.ExecContext(ctx, `UPDATE warm_items SET state = 'waiting' WHERE warming = $1 AND n = $2 AND state = 'taken'`, id, n)
	return wrap("give an item back", err)
}

// Yield is what variants of a format came to so far: means over those of a site, or of all sites where it has none.
type Yield struct {
	Format        string  `db:"format"`
	BytesPerPixel float64 `db:"bytes"`
	MSPerPixel    float64 `db:"ms"`
}

// Yields gives them.
func (s *Store) Yields(ctx context.Context, site string) (list []Yield, err error) {
	for _, of := range []string{site, ""} {
		err = s.db.SelectContext(ctx, &list, `SELECT format, sum(bytes)::float8 / sum(width::float8 * height) AS bytes, sum(render_ms)::float8 / sum(width::float8 * height) AS ms
			FROM made_variants WHERE ($1 = '' OR site = $1) AND width > 0 AND height > 0 GROUP BY format`, of)
		if err != nil || len(list) > 0 {
			break
		}
	}
	return list, wrap("count what variants came to", err)
}

// CountWarm says how many variants of sources there are already, in formats and about these widths.
func (s *Store) CountWarm(ctx context.Context, site, lane, prefix string, widths []int, formats []string) (n int64, err error) {
	err = s.db.GetContext(ctx, &n, `SELECT count(*) FROM made_variants WHERE site = $1 AND lane = $2 AND left(path, length($3)) = $3 AND width = ANY ($4) AND format = ANY ($5)`, site, lane, prefix, widths, formats)
	return n, wrap("count what is kept", err)
}
