package records

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"
)

// Weighing is one weigh-in of a page, under way or done.
type Weighing struct {
	ID      int64     `db:"id" json:"id"`
	Site    string    `db:"site" json:"site"`
	Page    string    `db:"page" json:"page"`
	State   string    `db:"state" json:"state" words:"running done failed stopped"` // running, done, failed, stopped
	By      string    `db:"by" json:"by"`
	BegunAt time.Time `db:"begun_at" json:"begun_at"`
	SeenAt  time.Time `db:"seen_at" json:"seen_at"`
	Done    int       `db:"done" json:"done"`
	Of      int       `db:"of" json:"of"`
	Doing   string    `db:"doing" json:"doing"`
	Trouble string    `db:"trouble" json:"trouble"`
	Outcome []byte    `db:"outcome" json:"-"`
}

// weighingFields are those that a list gives.
const weighingFields = `id, site, page, state, by, begun_at, seen_at, done, of, doing, trouble`

// WeighingTurn is a weigh-in that waits for a node.
type WeighingTurn struct {
	ID    int64 `db:"id"`
	Turn  int   `db:"turn"`  // which node of it this will be, from 1
	Ahead int   `db:"ahead"` // weigh-ins of the same site that come before it
}

const (
	mostWeighings = 200          // of a site that are kept
	openWeighings = 8            // of a site that may be under way, or wait
	leftAfter     = "10 seconds" // without a word, a node is taken to have ended
	mostLosses    = 3            // nodes that end at a page before it is given up
)

// ErrManyWeighings: as many pages of the site are being weighed, or wait, as may.
var ErrManyWeighings = fmt.Errorf("%d pages of the site are being weighed, or wait to be", openWeighings)

// AddWeighing writes down what is to be weighed. It waits for a node then.
func (s *Store) AddWeighing(ctx context.Context, site, page, by string, ask []byte) (id int64, err error) {
	err = s.inTransaction(ctx, "note a weigh-in", func(tx *sqlx.Tx) error {
		// The site's row is locked, so that several at once don't come past the bound together.
		var open int
		if _, err := tx.ExecContext(ctx, `SELECT FROM sites WHERE name = $1 FOR UPDATE`, site); err != nil {
			return err
		}
		if err := tx.GetContext(ctx, &open, `SELECT count(*) FROM weighings WHERE site = $1 AND state = 'running'`, site); err != nil {
			return err
		}
		if open >= openWeighings {
			return ErrManyWeighings
		}
		if err := tx.GetContext(ctx, &id, `INSERT INTO weighings (site, page, state, by, ask, doing) VALUES ($1, $2, 'running', $3, $4, 'waiting for its turn') RETURNING id`, site, page, by, ask); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, `DELETE FROM weighings WHERE site = $1 AND state <> 'running' AND id <= (SELECT id FROM weighings WHERE site = $1 ORDER BY id DESC OFFSET $2 LIMIT 1)`, site, mostWeighings)
		return err
	})
	return id, err
}

// WaitingWeighings lists the weigh-ins that no node is at. One whose node has ended is among them again, unless it has cost too
// many of them.
func (s *Store) WaitingWeighings(ctx context.Context) (list []WeighingTurn, err error) {
	_, err = s.db.ExecContext(ctx, `UPDATE weighings SET held = false, turn = turn + 1, losses = losses + 1, done = 0, of = 0, doing = 'waiting for another node', seen_at = now(),
			state = CASE WHEN losses + 1 < $2 THEN state ELSE 'failed' END, ask = CASE WHEN losses + 1 < $2 THEN ask END,
			trouble = CASE WHEN losses + 1 < $2 THEN trouble ELSE 'nodes ended while they weighed the page, ' || $2 || ' times' END
		WHERE state = 'running' AND held AND seen_at < now() - $1::interval`, leftAfter, mostLosses)
	if err != nil {
		return nil, wrap("look for weigh-ins that were left", err)
	}
	// Those of a node of an older version, which keeps what it was asked to itself.
	if _, err = s.db.ExecContext(ctx, `UPDATE weighings SET state = 'failed', trouble = 'the node that weighed the page ended', doing = '' WHERE state = 'running' AND ask IS NULL AND seen_at < now() - interval '2 minutes'`); err != nil {
		return nil, wrap("look for weigh-ins that were left", err)
	}
	err = s.db.SelectContext(ctx, &list, `SELECT id, turn, ahead FROM (SELECT id, turn, held, ask IS NOT NULL AS known, (row_number() OVER (PARTITION BY site ORDER BY id) - 1)::int AS ahead FROM weighings WHERE state = 'running') AS w WHERE NOT held AND known ORDER BY id`)
	return list, wrap("look for weigh-ins that wait", err)
}

// TakeWeighing takes one that waits: this node is at it. ok is false where it isn't for this turn any more.
func (s *Store) TakeWeighing(ctx context.Context, id int64, turn int) (site string, ask []byte, ok bool, err error) {
	var row struct {
		Site string `db:"site"`
		Ask  []byte `db:"ask"`
	}
	err = s.db.GetContext(ctx, &row, `UPDATE weighings SET held = true, seen_at = now() WHERE id = $1 AND turn = $2 AND state = 'running' AND NOT held AND ask IS NOT NULL RETURNING site, ask`, id, turn)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil, false, nil
	}
	return row.Site, row.Ask, err == nil, wrap("take a weigh-in", err)
}

// LeaveWeighing gives one back that this node can't end, and says which turn it waits for; 0: it waits for none.
func (s *Store) LeaveWeighing(ctx context.Context, id int64, turn int) (next int, err error) {
	err = s.db.GetContext(ctx, &next, `UPDATE weighings SET held = false, turn = turn + 1, done = 0, of = 0, doing = 'waiting for another node', seen_at = now() WHERE id = $1 AND turn = $2 AND state = 'running' RETURNING turn`, id, turn)
	if errors.Is(err, sql.ErrNoRows) {
		return 0, nil
	}
	return next, wrap("give a weigh-in back", err)
}

// TellWeighing says how far one is. running is false where somebody stopped it, or another node is at it.
func (s *Store) TellWeighing(ctx context.Context, id int64, turn, done, of int, doing string) (running bool, err error) {
	r, err := s.db.ExecContext(ctx, `UPDATE weighings SET done = $3, of = $4, doing = $5, seen_at = now() WHERE id = $1 AND turn = $2 AND state = 'running'`, id, turn, done, of, doing)
	if err != nil {
		return true, wrap("say how far a weigh-in is", err)
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// EndWeighing writes down what one came to: an outcome, or trouble.
func (s *Store) EndWeighing(ctx context.Context, id int64, turn int, outcome []byte, trouble string) error {
	state := "done"
	var value any = string(outcome)
	if trouble != "" {
		state, value = "failed", nil
	}
	_, err := s.db.ExecContext(ctx, `UPDATE weighings SET state = $3, outcome = $4, trouble = $5, seen_at = now(), doing = '', held = false, ask = NULL WHERE id = $1 AND turn = $2 AND state = 'running'`, id, turn, state, value, trouble)
	return wrap("write a weigh-in down", err)
}

// StopWeighing ends one that is under way, and forgets one that isn't. It says whether there was one.
func (s *Store) StopWeighing(ctx context.Context, site string, id int64) (bool, error) {
	r, err := s.db.ExecContext(ctx, `UPDATE weighings SET state = 'stopped', doing = '', held = false, ask = NULL WHERE site = $1 AND id = $2 AND state = 'running'`, site, id)
	if err != nil {
		return false, wrap("stop a weigh-in", err)
	}
	if n, _ := r.RowsAffected(); n > 0 {
		return true, nil
	}
	if r, err = s.db.ExecContext(ctx, `DELETE FROM weighings WHERE site = $1 AND id = $2`, site, id); err != nil {
		return false, wrap("forget a weigh-in", err)
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// Weighings lists a site's, newest first, those before an id (0: all), without what they came to.
func (s *Store) Weighings(ctx context.Context, site string, before int64, limit int) ([]Weighing, error) {
	list := []Weighing{}
	err := s.db.SelectContext(ctx, &list, `SELECT `+weighingFields+` FROM weighings WHERE site = $1 AND ($2 = 0 OR id < $2) ORDER BY id DESC LIMIT $3`, site, before, limit)
	if err != nil {
		return nil, fmt.Errorf("list the weigh-ins of %s: %w", site, plain(err))
	}
	return list, nil
}

// Weighing gives one, nil where there is none.
func (s *Store) Weighing(ctx context.Context, site string, id int64) (*Weighing, error) {
	var w Weighing
	err := s.db.GetContext(ctx, &w, `SELECT `+weighingFields+`, outcome FROM weighings WHERE site = $1 AND id = $2`, site, id)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("read a weigh-in of %s: %w", site, plain(err))
	}
	return &w, nil
}
