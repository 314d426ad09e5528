package records

import (
	"context"
	"fmt"
	"time"
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

// mostWeighings is how many of a site are kept.
const mostWeighings = 200

// AddWeighing notes that one begins.
func (s *Store) AddWeighing(ctx context.Context, site, page, by string) (int64, error) {
	var id int64
	if err := s.db.GetContext(ctx, &id, `INSERT INTO weighings (site, page, state, by) VALUES ($1, $2, 'running', $3) RETURNING id`, site, page, by); err != nil {
		return 0, wrap("note a weigh-in", err)
	}
	_, err := s.db.ExecContext(ctx, `DELETE FROM weighings WHERE site = $1 AND id <= (SELECT id FROM weighings WHERE site = $1 ORDER BY id DESC OFFSET $2 LIMIT 1)`, site, mostWeighings)
	return id, wrap("forget old weigh-ins", err)
}

// TellWeighing says how far one is. running is false where somebody stopped it.
func (s *Store) TellWeighing(ctx context.Context, id int64, done, of int, doing string) (running bool, err error) {
	r, err := s.db.ExecContext(ctx, `UPDATE weighings SET done = $2, of = $3, doing = $4, seen_at = now() WHERE id = $1 AND state = 'running'`, id, done, of, doing)
	if err != nil {
		return true, wrap("say how far a weigh-in is", err)
	}
	n, err := r.RowsAffected()
	return n > 0, err
}

// EndWeighing writes down what one came to: an outcome, or trouble.
func (s *Store) EndWeighing(ctx context.Context, id int64, outcome []byte, trouble string) error {
	state := "done"
	var value any = string(outcome)
	if trouble != "" {
		state, value = "failed", nil
	}
	_, err := s.db.ExecContext(ctx, `UPDATE weighings SET state = $2, outcome = $3, trouble = $4, seen_at = now(), doing = '' WHERE id = $1 AND state = 'running'`, id, state, value, trouble)
	return wrap("write a weigh-in down", err)
}

// StopWeighing ends one that is under way, and forgets one that isn't. It says whether there was one.
func (s *Store) StopWeighing(ctx context.Context, site string, id int64) (bool, error) {
	r, err := s.db.ExecContext(ctx, `UPDATE weighings SET state = 'stopped', doing = '' WHERE site = $1 AND id = $2 AND state = 'running'`, site, id)
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

// abandoned is after how long without a word a weigh-in was left by a node that ended.
const abandoned = "2 minutes"

// Weighings lists a site's, newest first, those before an id (0: all), without what they came to.
func (s *Store) Weighings(ctx context.Context, site string, before int64, limit int) ([]Weighing, error) {
	if err := s.dropAbandoned(ctx); err != nil {
		return nil, err
	}
	list := []Weighing{}
	err := s.db.SelectContext(ctx, &list, `SELECT id, site, page, state, by, begun_at, seen_at, done, of, doing, trouble FROM weighings WHERE site = $1 AND ($2 = 0 OR id < $2) ORDER BY id DESC LIMIT $3`, site, before, limit)
	if err != nil {
		return nil, fmt.Errorf("list the weigh-ins of %s: %w", site, plain(err))
	}
	return list, nil
}

// Weighing gives one, nil where there is none.
func (s *Store) Weighing(ctx context.Context, site string, id int64) (*Weighing, error) {
	if err := s.dropAbandoned(ctx); err != nil {
		return nil, err
	}
	var list []Weighing
	if err := s.db.SelectContext(ctx, &list, `SELECT * FROM weighings WHERE site = $1 AND id = $2`, site, id); err != nil {
		return nil, fmt.Errorf("read a weigh-in of %s: %w", site, plain(err))
	}
	if len(list) == 0 {
		return nil, nil
	}
	return &list[0], nil
}

func (s *Store) dropAbandoned(ctx context.Context) error {
	_, err := s.db.ExecContext(ctx, `UPDATE weighings SET state = 'failed', trouble = 'the node that weighed the page ended', doing = '' WHERE state = 'running' AND seen_at < now() - $1::interval`, abandoned)
	return wrap("look for weigh-ins that were left", err)
}
