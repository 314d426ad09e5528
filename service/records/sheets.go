package records

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"echolane/core/wording"

	"github.com/jmoiron/sqlx"
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
	return wrap("keep the draft of "+d.Site+"'s sheet", err)
}

// DropDraft forgets a draft.
func (s *Store) DropDraft(ctx context.Context, site string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM sheet_drafts WHERE site = $1`, site)
	return wrap("forget the draft of "+site+"'s sheet", err)
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

type classKey struct{ site, class, address string }

// newClassUses notes which addresses ask for classes, and writes that down once a second.
func newClassUses(o RecorderOptions) *batcher[classKey, classUse] {
	return newBatcher(batchOptions[classKey, classUse]{
		what: "uses of classes", every: time.Second, holds: 4096, begin: o.Store.begin, log: o.Log, panics: o.Panics,
		key: func(u *classUse) classKey { return u.classKey },
		clean: func(u *classUse) {
			u.site, u.class, u.address = wording.Text(u.site, 64), wording.Text(u.class, 200), wording.Text(u.address, 2000)
		},
		merge: func(have, more *classUse) { have.at = more.at },
		compare: func(a, b *classUse) int {
			return cmp.Or(cmp.Compare(a.site, b.site), cmp.Compare(a.class, b.class), cmp.Compare(a.address, b.address))
		},
		write: func(ctx context.Context, tx *sqlx.Tx, u *classUse) error {
			_, err := tx.ExecContext(ctx, `INSERT INTO class_uses (site, class, address, at) VALUES ($1, $2, $3, $4)
				ON CONFLICT (site, class, address) DO UPDATE SET at = greatest(class_uses.at, excluded.at)`, u.site, u.class, u.address, u.at)
			return err
		},
	})
}

type classUse struct {
	classKey
	at time.Time
}

// Used notes one request for classes, which are divided by spaces. It never waits for the database.
func (r *Recorder) Used(site, classes, address string) {
	now := time.Now()
	for name := range strings.SplitSeq(classes, " ") {
		r.classes.Add(classUse{classKey{site, name, address}, now})
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
