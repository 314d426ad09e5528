package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"

	"echolane/core/policy"
	"echolane/service/lane"
)

// Change is one change of a site.
type Change struct {
	Site     string    `db:"site" json:"site"`
	Version  int64     `db:"version" json:"version"`
	At       time.Time `db:"at" json:"at"`
	By       string    `db:"by" json:"by"`
	What     string    `db:"what" json:"what"`
	Document []byte    `db:"document" json:"-"`
}

type siteRow struct {
	Name      string    `db:"name"`
	Version   int64     `db:"version"`
	Document  []byte    `db:"document"`
	MadeAt    time.Time `db:"made_at"`
	ChangedAt time.Time `db:"changed_at"`
}

// AddSite records a site. ErrExists where the name is taken. The document must compile.
func (s *Store) AddSite(ctx context.Context, d policy.Document, by string) error {
	doing := "add site " + d.Site
	return s.inTransaction(ctx, doing, func(tx *sqlx.Tx) error {
		text, err := json.Marshal(d)
		if err != nil {
			return err
		}
		var version int64
		if err := tx.GetContext(ctx, &version, `SELECT coalesce(max(version), 0) + 1 FROM site_changes WHERE site = $1`, d.Site); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `INSERT INTO sites (name, version, document) VALUES ($1, $2, $3)`, d.Site, version, text); err != nil {
			return err
		}
		return noteChange(ctx, tx, d.Site, version, by, "added", text)
	})
}

// ChangeSite gives a site another document. from is the version that was read: ErrChanged where there is a
// newer one, ErrNoSite where the site is gone.
func (s *Store) ChangeSite(ctx context.Context, d policy.Document, from int64, by, what string) (int64, error) {
	err := s.inTransaction(ctx, "change site "+d.Site, func(tx *sqlx.Tx) error {
		text, err := json.Marshal(d)
		if err != nil {
			return err
		}
		if err := lockVersion(ctx, tx, d.Site, from); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `UPDATE sites SET version = $2, document = $3, changed_at = now() WHERE name = $1`, d.Site, from+1, text); err != nil {
			return err
		}
		return noteChange(ctx, tx, d.Site, from+1, by, what, text)
	})
	return from + 1, err
}

// RemoveSite forgets a site and its secrets. Its history stays.
func (s *Store) RemoveSite(ctx context.Context, site string, from int64, by string) error {
	return s.inTransaction(ctx, "remove site "+site, func(tx *sqlx.Tx) error {
		if err := lockVersion(ctx, tx, site, from); err != nil {
			return err
		}
		if _, err := tx.ExecContext(ctx, `DELETE FROM sites WHERE name = $1`, site); err != nil {
			return err
		}
		return noteChange(ctx, tx, site, from+1, by, "removed", nil)
	})
}

// lockVersion holds the site's row and sees to it that it is still the version that was read.
func lockVersion(ctx context.Context, tx *sqlx.Tx, site string, from int64) error {
	var versions []int64
	if err := tx.SelectContext(ctx, &versions, `SELECT version FROM sites WHERE name = $1 FOR UPDATE`, site); err != nil {
		return err
	}
	switch {
	case len(versions) == 0:
		return ErrNoSite
	case versions[0] != from:
		return ErrChanged
	}
	return nil
}

func noteChange(ctx context.Context, tx *sqlx.Tx, site string, version int64, by, what string, document []byte) error {
	_, err := tx.ExecContext(ctx, `INSERT INTO site_changes (site, version, by, what, document) VALUES ($1, $2, $3, $4, $5)`, site, version, by, what, document)
	return err
}

// History lists a site's changes, newest first, those before a version (0: all), at most limit.
func (s *Store) History(ctx context.Context, site string, before int64, limit int) ([]Change, error) {
	changes := []Change{}
	err := s.db.SelectContext(ctx, &changes, `SELECT site, version, at, by, what FROM site_changes WHERE site = $1 AND ($2 = 0 OR version < $2) ORDER BY version DESC LIMIT $3`, site, before, limit)
	if err != nil {
		return nil, fmt.Errorf("read the history of %s: %w", site, plain(err))
	}
	return changes, nil
}

// DocumentAt is a site's document as a version had it. ErrNoSite where there is no such version, or it removed
// the site.
func (s *Store) DocumentAt(ctx context.Context, site string, version int64) (policy.Document, error) {
	var found [][]byte
	if err := s.db.SelectContext(ctx, &found, `SELECT document FROM site_changes WHERE site = $1 AND version = $2 AND document IS NOT NULL`, site, version); err != nil {
		return policy.Document{}, fmt.Errorf("read version %d of %s: %w", version, site, plain(err))
	}
	if len(found) == 0 {
		return policy.Document{}, ErrNoSite
	}
	var d policy.Document
	if err := json.Unmarshal(found[0], &d); err != nil {
		return d, fmt.Errorf("read version %d of %s: %w", version, site, err)
	}
	d.Complete(lane.Described)
	return d, nil
}

// sites reads every site with its secrets, what is set aside, what was purged, and what was said of subjects behind a serial, as they
// are at one moment.
func (s *Store) sites(ctx context.Context, behind int64) (k lastKnown, err error) {
	tx, err := s.db.BeginTxx(ctx, snapshotRead)
	if err != nil {
		return k, fmt.Errorf("read the settings: %w", plain(err))
	}
	defer tx.Rollback()
	if err := tx.SelectContext(ctx, &k.Sites, `SELECT * FROM sites ORDER BY name`); err != nil {
		return k, fmt.Errorf("read the sites: %w", plain(err))
	}
	if err := tx.SelectContext(ctx, &k.Secrets, `SELECT site, name, sealed FROM secrets ORDER BY site, name`); err != nil {
		return k, fmt.Errorf("read the secrets: %w", plain(err))
	}
	if err := tx.SelectContext(ctx, &k.Aside, `SELECT * FROM set_aside ORDER BY at DESC LIMIT $1`, mostAside); err != nil {
		return k, fmt.Errorf("read what is set aside: %w", plain(err))
	}
	if err := tx.SelectContext(ctx, &k.Purges, `SELECT site, serial, lane, path, class, keys FROM purges ORDER BY serial DESC LIMIT $1`, mostPurges); err != nil {
		return k, fmt.Errorf("read the purges: %w", plain(err))
	}
	if err := tx.SelectContext(ctx, &k.Focuses, `SELECT * FROM focuses WHERE serial > $1 ORDER BY serial`, behind); err != nil {
		return k, fmt.Errorf("read the focuses: %w", plain(err))
	}
	return k, nil
}

func (s *Store) inTransaction(ctx context.Context, doing string, do func(*sqlx.Tx) error) error {
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return wrap(doing, err)
	}
	defer tx.Rollback()
	if err := do(tx); err != nil {
		return wrap(doing, err)
	}
	return wrap(doing, tx.Commit())
}

func wrap(what string, err error) error {
	if err == nil {
		return nil
	}
	var e *pgconn.PgError
	if errors.As(err, &e) {
		switch e.Code {
		case "23505": // unique_violation
			err = ErrExists
		case "23503": // foreign_key_violation
			err = ErrNoSite
		}
	}
	return fmt.Errorf("%s: %w", what, plain(err))
}
