package records

import (
	"context"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/wording"
)

// PurgeRule says what was purged.
type PurgeRule struct {
	Site   string `db:"site" json:"site"`
	Serial int64  `db:"serial" json:"serial"`
	Lane   string `db:"lane" json:"lane,omitempty"`
	Path   string `db:"path" json:"path,omitempty"` // of a source, or of all below it where it ends in a slash
	Class  string `db:"class" json:"class,omitempty"`
	Keys   string `db:"keys" json:"keys,omitempty"` // of variants, separated by spaces
}

// Purge is a purge as it was ordered, and how far it is.
type Purge struct {
	PurgeRule
	Address  string     `db:"address" json:"address,omitempty"` // of the image whose variants were purged
	At       time.Time  `db:"at" json:"at"`
	By       string     `db:"by" json:"by"`
	Variants int64      `db:"variants" json:"variants"` // that were kept then
	Bytes    int64      `db:"bytes" json:"bytes"`
	Cleared  int64      `db:"cleared" json:"cleared"`           // that were cleared away since
	DoneAt   *time.Time `db:"done_at" json:"done_at,omitempty"` // when all were
}

// mostPurges bounds the rules that nodes know: beyond, the oldest are let go, which have been carried out by then.
const mostPurges = 20_000

// scope is the condition for a rule's rows in made_variants, with its arguments from $1 on.
func (r *PurgeRule) scope() (where string, args []any) {
	switch {
	case r.Keys != "":
		return `site = $1 AND key = ANY (string_to_array($2, ' '))`, []any{r.Site, r.Keys}
	case r.Class != "":
		return `site = $1 AND $2 = ANY (string_to_array(class, ' '))`, []any{r.Site, r.Class}
	case r.Path != "" && r.Path[len(r.Path)-1] == '/':
		return `site = $1 AND lane = $2 AND path >= $3 AND left(path, length($3)) = $3`, []any{r.Site, r.Lane, r.Path}
	case r.Path != "":
		return `site = $1 AND lane = $2 AND path = $3`, []any{r.Site, r.Lane, wording.Text(r.Path, longestPath)}
	case r.Lane != "":
		return `site = $1 AND lane = $2`, []any{r.Site, r.Lane}
	}
	return `site = $1`, []any{r.Site}
}

// CountPurge says what a purge would concern.
func (s *Store) CountPurge(ctx context.Context, r PurgeRule) (variants, bytes int64, err error) {
	where, args := r.scope()
	err = s.db.QueryRowContext(ctx, `SELECT count(*), coalesce(sum(bytes), 0) FROM made_variants WHERE `+where, args...).Scan(&variants, &bytes)
	if err != nil {
		return 0, 0, fmt.Errorf("count the variants of %s: %w", r.Site, plain(err))
	}
	return variants, bytes, nil
}

// AddPurge orders a purge, which is in force as soon as nodes hear of it. What it concerns is still to be cleared away.
func (s *Store) AddPurge(ctx context.Context, p Purge) (Purge, error) {
	err := s.db.GetContext(ctx, &p, `INSERT INTO purges (site, lane, path, class, keys, address, by, variants, bytes) VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING *`,
		p.Site, p.Lane, p.Path, p.Class, p.Keys, wording.Text(p.Address, 4000), p.By, p.Variants, p.Bytes)
	return p, wrap("purge", err)
}

// Purges lists the purges of a site, newest first: those before the serial, where it isn't 0.
func (s *Store) Purges(ctx context.Context, site string, before int64, limit int) ([]Purge, error) {
	list := []Purge{}
	err := s.db.SelectContext(ctx, &list, `SELECT * FROM purges WHERE site = $1 AND ($2 = 0 OR serial < $2) ORDER BY serial DESC LIMIT $3`, site, before, limit)
	if err != nil {
		return nil, fmt.Errorf("list the purges of %s: %w", site, plain(err))
	}
	return list, nil
}

// UnfinishedPurges lists those that are still to be cleared away, oldest first.
func (s *Store) UnfinishedPurges(ctx context.Context) ([]Purge, error) {
	list := []Purge{}
	err := s.db.SelectContext(ctx, &list, `SELECT * FROM purges WHERE done_at IS NULL ORDER BY serial LIMIT 100`)
	if err != nil {
		return nil, fmt.Errorf("list the purges: %w", plain(err))
	}
	return list, nil
}

// clearStep is how many rows are cleared away at a time.
const clearStep = 10_000

// ClearedUpTo is how far a purge's clearing has come: what was cleared isn't looked for again.
type ClearedUpTo struct {
	Lane string `db:"lane"`
	Path string `db:"path"`
	Key  string `db:"key"`
}

// ClearPurge clears away some of what a purge concerns, made before it, behind from, and says how far it came. Where named, it gives
// the keys that nobody else has: those are to be removed from the store. more says that there may be others. One node does it at a
// time: where another is at it, busy is true.
func (s *Store) ClearPurge(ctx context.Context, p Purge, from ClearedUpTo, named bool) (keys []string, to ClearedUpTo, more, busy bool, err error) {
	where, args := p.scope()
	// Rows are gone through in the order of the primary key from where the last step ended. An equality beside that would have the
	// index begin at the first of its rows each time, which are dead by then; a bound at the end says the same.
	switch {
	case p.Keys != "" || p.Path != "":
	case p.Lane != "":
		where = `(site, lane) <= ($1, $2)`
		if from.Lane == "" {
			from.Lane = p.Lane
		}
	case p.Class != "":
		where = `site <= $1 AND $2 = ANY (string_to_array(class, ' '))`
	default:
		where = `site <= $1`
	}
	to = from
	err = s.inTransaction(ctx, "clear a purge away", func(tx *sqlx.Tx) error {
		var mine bool
		if err := tx.GetContext(ctx, &mine, `SELECT pg_try_advisory_xact_lock(hashtext($1))`, fmt.Sprint("echolane purge ", p.Serial)); err != nil || !mine {
			busy = err == nil
			return err
		}
		n := len(args)
		step := fmt.Sprintf(`WITH batch AS MATERIALIZED (
				SELECT ctid, lane, path, key FROM made_variants WHERE %s AND made_at <= $%d AND (site, lane, path, key) > ($1, $%d, $%d, $%d) ORDER BY site, lane, path, key LIMIT $%d)
			, gone AS (DELETE FROM made_variants WHERE ctid = ANY (ARRAY(SELECT ctid FROM batch)))
			SELECT lane, path, key, (SELECT count(*) FROM batch) AS gone FROM batch ORDER BY lane DESC, path DESC, key DESC`, where, n+1, n+2, n+3, n+4, n+5)
		if !named {
			step += ` LIMIT 1` // nobody asks which they were
		}
		var last []struct {
			ClearedUpTo
			Gone int `db:"gone"`
		}
		if err := tx.SelectContext(ctx, &last, step, append(args, p.At, from.Lane, from.Path, from.Key, clearStep)...); err != nil {
			return err
		}
		gone := 0
		if len(last) > 0 {
			to, gone = last[0].ClearedUpTo, last[0].Gone
		}
		more = gone == clearStep
		if named && gone > 0 {
			all := make([]string, len(last))
			for i, g := range last {
				all[i] = g.Key
			}
			if err := tx.SelectContext(ctx, &keys, `SELECT unnest($1::text[]) EXCEPT SELECT key FROM made_variants WHERE key = ANY ($1)`, all); err != nil {
				return err
			}
		}
		done := ``
		if !more {
			done = `, done_at = now()`
		}
		_, err = tx.ExecContext(ctx, `UPDATE purges SET cleared = cleared + $2`+done+` WHERE serial = $1`, p.Serial, gone)
		return err
	})
	return keys, to, more, busy, err
}
