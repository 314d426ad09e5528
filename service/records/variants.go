package records

import (
	"cmp"
	"context"
	"fmt"
	"time"

	"echolane/core/wording"

	"github.com/jmoiron/sqlx"
)

// Variant is one variant that was made for a site's path. Two sites with the same bytes may share one; each has a row of
// its own.
type Variant struct {
	Key          string  `db:"key"`
	Site         string  `db:"site"`
	Lane         string  `db:"lane"`
	Path         string  `db:"path"`
	Declarations string  `db:"declarations"`
	Format       string  `db:"format"`
	Width        int     `db:"width"`
	Height       int     `db:"height"`
	Bytes        int     `db:"bytes"`
	SourceDigest string  `db:"source_digest"`
	SourceBytes  int     `db:"source_bytes"`
	RenderMS     float64 `db:"render_ms"`
	Class        string  `db:"class"`      // the classes that its request named, separated by spaces
	Times        int     `db:"times_made"` // how often it was made
	Shared       bool    `db:"-"`          // it wasn't made for this path now, but is what this path was answered with
}

type variantKey struct{ site, lane, path, key string }

// newVariants writes variants down once in a quarter of a second.
func newVariants(o RecorderOptions) *batcher[variantKey, Variant] {
	return newBatcher(batchOptions[variantKey, Variant]{
		what: "variants", every: 250 * time.Millisecond, holds: 4096, begin: o.Store.begin, log: o.Log, panics: o.Panics,
		key: func(v *Variant) variantKey { return variantKey{v.Site, v.Lane, v.Path, v.Key} },
		clean: func(v *Variant) {
			v.Site, v.Lane, v.Key, v.Format = wording.Text(v.Site, 64), wording.Text(v.Lane, 64), wording.Text(v.Key, 64), wording.Text(v.Format, 20)
			v.Path, v.Declarations, v.SourceDigest, v.Class = wording.Text(v.Path, longestPath), wording.Text(v.Declarations, 4000), wording.Text(v.SourceDigest, 64), wording.Text(v.Class, 500)
			if v.Times == 0 && !v.Shared {
				v.Times = 1
			}
		},
		merge: func(have, more *Variant) {
			times := have.Times + more.Times
			if !more.Shared {
				*have = *more
			}
			have.Times = times
		},
		compare: func(a, b *Variant) int {
			return cmp.Or(cmp.Compare(a.Site, b.Site), cmp.Compare(a.Lane, b.Lane), cmp.Compare(a.Path, b.Path), cmp.Compare(a.Key, b.Key))
		},
		write: addVariant,
	})
}

// longestPath is what an index of PostgreSQL can hold beside the other columns of its key.
const longestPath = 2000

func addVariant(ctx context.Context, tx *sqlx.Tx, v *Variant) error {
	_, err := tx.NamedExecContext(ctx, `
		INSERT INTO made_variants (key, site, lane, path, declarations, format, width, height, bytes, source_digest, source_bytes, render_ms, class, times_made)
		VALUES (:key, :site, :lane, :path, :declarations, :format, :width, :height, :bytes, :source_digest, :source_bytes, :render_ms, :class, :times_made)
		ON CONFLICT (site, lane, path, key) DO UPDATE SET times_made = made_variants.times_made + excluded.times_made, made_at = now(), used_at = now(), class = excluded.class,
			render_ms = greatest(excluded.render_ms, made_variants.render_ms), bytes = excluded.bytes, format = excluded.format, width = excluded.width, height = excluded.height`, v)
	return err
}

// Made notes a variant that was made, or that another site's making gave to this path. It never waits for the database.
func (r *Recorder) Made(v Variant) { r.variants.Add(v) }

// VariantsOf counts the variants that were made of v's source in v's version, and says whether v is one of them.
func (s *Store) VariantsOf(ctx context.Context, v Variant) (n int, known bool, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT count(*), coalesce(bool_or(key = $5), false) FROM made_variants WHERE site = $1 AND lane = $2 AND path = $3 AND source_digest = $4`,
		v.Site, v.Lane, wording.Text(v.Path, longestPath), v.SourceDigest, v.Key).Scan(&n, &known)
	if err != nil {
		return 0, false, fmt.Errorf("count the variants of %s/%s/%s: %w", v.Site, v.Lane, v.Path, plain(err))
	}
	return n, known, nil
}

// PathsOf lists the sources of a lane that variants were made of: what is known of a lane that can't be listed.
func (s *Store) PathsOf(ctx context.Context, site, lane, after string, limit int) ([]Variant, error) {
	list := []Variant{}
	err := s.db.SelectContext(ctx, &list, `SELECT DISTINCT ON (path) path, source_bytes FROM made_variants WHERE site = $1 AND lane = $2 AND path > $3 ORDER BY path, made_at DESC LIMIT $4`, site, lane, wording.Text(after, longestPath), limit)
	if err != nil {
		return nil, fmt.Errorf("list the sources of %s/%s: %w", site, lane, plain(err))
	}
	return list, nil
}

// Bounds keep the tables that requests write to from growing without end.
type Bounds struct {
	Age  time.Duration // rows that weren't touched for so long go
	Rows int64         // of a table; beyond, the oldest go
}

// DefaultBounds are the service's.
var DefaultBounds = Bounds{Age: 90 * 24 * time.Hour, Rows: 10_000_000}

// Prune brings the tables of variants, uses of classes, refusals, tries and what is set aside within bounds, in steps that hold nobody up. It
// says how many rows went, and gives the keys of variants that no row names any more. One node does it at a time; the others find
// it done. more says that there is more to do.
func (s *Store) Prune(ctx context.Context, b Bounds) (gone int64, keys []string, more bool, err error) {
	err = s.inTransaction(ctx, "prune", func(tx *sqlx.Tx) error {
		var mine bool
		if err := tx.GetContext(ctx, &mine, `SELECT pg_try_advisory_xact_lock(hashtext('echolane prune'))`); err != nil || !mine {
			return err
		}
		const step = 5_000
		for _, t := range []struct{ table, at, key string }{
			{"made_variants", "used_at", "key"}, {"variants", "made_at", "''"}, {"class_uses", "at", "''"}, {"refusals", "last_at", "''"}, {"tries", "until", "''"}, {"set_aside", "at", "''"}, {"purges", "at", "''"},
		} {
			for _, which := range []struct {
				where string
				args  []any
			}{
				{`WHERE ` + t.at + ` < $1 ORDER BY ` + t.at + ` LIMIT $2`, []any{time.Now().Add(-b.Age), step}},
				{`ORDER BY ` + t.at + ` LIMIT least($2::bigint, greatest(0, (SELECT count(*) FROM ` + t.table + `) - $1))`, []any{b.Rows, step}},
			} {
				var went []string
				if err := tx.SelectContext(ctx, &went, `DELETE FROM `+t.table+` WHERE ctid = ANY (ARRAY(SELECT ctid FROM `+t.table+` `+which.where+`)) RETURNING `+t.key, which.args...); err != nil {
					return fmt.Errorf("%s: %w", t.table, err)
				}
				gone += int64(len(went))
				more = more || len(went) == step
				if t.table == "made_variants" {
					keys = append(keys, went...)
				}
			}
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM warm_items WHERE warming IN (SELECT id FROM warmings WHERE ended_at < now() - interval '7 days')`); err != nil {
			return fmt.Errorf("what was warmed: %w", err)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM warmings WHERE ended_at < $1`, time.Now().Add(-b.Age)); err != nil {
			return fmt.Errorf("warmings: %w", err)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM traffic WHERE step = 1 AND at < now() - interval '2 days' OR step = 60 AND at < now() - interval '62 days'`); err != nil {
			return fmt.Errorf("traffic: %w", err)
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM looked_at WHERE ctid = ANY (ARRAY(SELECT ctid FROM looked_at ORDER BY at LIMIT least($2::bigint, greatest(0, (SELECT count(*) FROM looked_at) - $1))))`, mostLookedAt, step); err != nil {
			return fmt.Errorf("looked_at: %w", err)
		}
		if len(keys) == 0 {
			return nil
		}
		went := keys
		keys = nil
		return tx.SelectContext(ctx, &keys, `SELECT unnest($1::text[]) EXCEPT SELECT key FROM made_variants WHERE key = ANY ($1)`, went)
	})
	return gone, keys, more, err
}
