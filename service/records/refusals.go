package records

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/policy"
	"echolane/core/wording"
)

// Refusal is a kind of refusal and how often it came.
type Refusal struct {
	ID      int64         `db:"id"`
	Site    string        `db:"site"`
	Reason  policy.Reason `db:"reason"`
	Asked   string        `db:"asked"`
	Count   int64         `db:"count"`
	FirstAt time.Time     `db:"first_at"`
	LastAt  time.Time     `db:"last_at"`
	Sample  string        `db:"sample"`
	Refusal []byte        `db:"refusal"` // a policy.Refusal as JSON
}

// Whole is the latest refusal of the kind.
func (r Refusal) Whole() (no policy.Refusal) {
	json.Unmarshal(r.Refusal, &no) // what isn't readable is shown by its reason alone
	if no.Reason == "" {
		no.Reason = r.Reason
	}
	return no
}

type refusalKey struct {
	site   string
	reason policy.Reason
	asked  string
}

const (
	refusalsHeld = 2000 // kinds between two writings
	kindsPerPair = 200  // kinds that are told apart for one site and reason
	others       = "others"
	longestAsked = 200 // bytes
	longestWords = 1000
)

// newRefusals counts refusals in memory and writes them down once a second. What doesn't fit is counted under "others",
// so that nobody can fill the table.
func newRefusals(o RecorderOptions) *batcher[refusalKey, Refusal] {
	return newBatcher(batchOptions[refusalKey, Refusal]{
		what: "refusals", every: time.Second, holds: refusalsHeld, begin: o.Store.begin, log: o.Log, panics: o.Panics,
		key: func(r *Refusal) refusalKey { return refusalKey{r.Site, r.Reason, r.Asked} },
		clean: func(r *Refusal) {
			r.Site, r.Asked, r.Sample = wording.Text(r.Site, 64), wording.Text(r.Asked, longestAsked), wording.Text(r.Sample, longestWords)
		},
		merge: func(have, more *Refusal) {
			have.Count += more.Count
			have.LastAt, have.Sample, have.Refusal = more.LastAt, more.Sample, more.Refusal
		},
		crowded: func(r *Refusal) bool { r.Asked = others; return true },
		compare: func(a, b *Refusal) int {
			return cmp.Or(cmp.Compare(a.Site, b.Site), cmp.Compare(a.Reason, b.Reason), cmp.Compare(a.Asked, b.Asked))
		},
		write: addRefusal,
	})
}

// Refused counts one refusal: the site ("" where none was found), what was asked in few words, and the address as it was
// sent. It never waits for the database.
func (r *Recorder) Refused(site, asked, sample string, no *policy.Refusal) {
	short := *no
	for _, s := range []*string{&short.Detail, &short.Given, &short.Allowed, &short.Remedy} {
		*s = wording.Text(*s, longestWords)
	}
	short.Problems = nil
	text, err := json.Marshal(short)
	if err != nil {
		text = []byte("{}")
	}
	if site != "" {
		r.Usage(site).traffic.add(refusedKind, 0, 0, 0)
	}
	now := time.Now()
	r.refusals.Add(Refusal{Site: site, Reason: no.Reason, Asked: asked, Count: 1, FirstAt: now, LastAt: now, Sample: sample, Refusal: text})
}

// FlushRefusals writes down what was counted before the call.
func (r *Recorder) FlushRefusals(ctx context.Context) error { return r.refusals.Flush(ctx) }

// addRefusal counts up the row of its kind, or makes one where there is room for another kind.
func addRefusal(ctx context.Context, tx *sqlx.Tx, r *Refusal) error {
	_, err := tx.ExecContext(ctx, `
		WITH room AS (
			SELECT EXISTS (SELECT FROM refusals WHERE site = $1 AND reason = $2 AND asked = $3)
			    OR (SELECT count(*) FROM refusals WHERE site = $1 AND reason = $2) < $9 AS free)
		INSERT INTO refusals (site, reason, asked, count, first_at, last_at, sample, refusal)
		SELECT $1, $2, CASE WHEN free THEN $3 ELSE $10 END, $4, $5, $6, $7, $8 FROM room
		ON CONFLICT (site, reason, asked) DO UPDATE SET count = refusals.count + excluded.count,
			last_at = greatest(refusals.last_at, excluded.last_at), sample = excluded.sample, refusal = excluded.refusal`,
		r.Site, r.Reason, r.Asked, r.Count, r.FirstAt, r.LastAt, r.Sample, r.Refusal, kindsPerPair, others)
	return err
}

// Refusals lists kinds of refusals by how often they came, of one site or ("") of all, from the offset on.
func (s *Store) Refusals(ctx context.Context, site string, offset, limit int) ([]Refusal, error) {
	list := []Refusal{}
	err := s.db.SelectContext(ctx, &list, `SELECT * FROM refusals WHERE $1 = '' OR site = $1 ORDER BY count DESC, id LIMIT $2 OFFSET $3`, site, limit, offset)
	if err != nil {
		return nil, fmt.Errorf("list refusals: %w", plain(err))
	}
	return list, nil
}

// RefusalByID finds one kind of refusals; ok is false where it is gone.
func (s *Store) RefusalByID(ctx context.Context, id int64) (r Refusal, ok bool, err error) {
	var found []Refusal
	if err := s.db.SelectContext(ctx, &found, `SELECT * FROM refusals WHERE id = $1`, id); err != nil {
		return r, false, fmt.Errorf("read refusal %d: %w", id, plain(err))
	}
	if len(found) == 0 {
		return r, false, nil
	}
	return found[0], true, nil
}

// ForgetRefusal takes a kind of refusals off the list until it comes again.
func (s *Store) ForgetRefusal(ctx context.Context, id int64) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM refusals WHERE id = $1`, id)
	return wrap("forget a refusal", err)
}
