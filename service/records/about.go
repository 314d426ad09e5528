package records

import (
	"context"
	"fmt"
	"io/fs"
	"strconv"
	"strings"
	"time"
)

// About is what there is to know of the database before the service uses it.
type About struct {
	Version     string        // PostgreSQL's
	Schema      int64         // the newest migration that it has; 0: it is empty
	Wanted      int64         // the newest that this binary has
	Connections int           // that others hold now
	Most        int           // that it takes
	Ahead       time.Duration // of this machine's clock, to within Within
	Within      time.Duration
	Bytes       int64 // that the service's tables take
}

// About looks at the database, and changes nothing.
func (s *Store) About(ctx context.Context) (a About, err error) {
	if err := s.db.pool.PingContext(ctx); err != nil { // so that the clocks are compared over a connection that there is
		return a, fmt.Errorf("reach the database: %w", plain(err))
	}
	var row struct {
		Version string `db:"version"`
		Most    int    `db:"most"`
		Held    int    `db:"held"`
		There   bool   `db:"there"`
	}
	err = s.db.pool.GetContext(ctx, &row, `SELECT current_setting('server_version') AS version, current_setting('max_connections')::int AS most,
			(SELECT count(*) FROM pg_stat_activity WHERE backend_type = 'client backend' AND pid <> pg_backend_pid())::int AS held, to_regclass('goose_db_version') IS NOT NULL AS there`)
	if err != nil {
		return a, fmt.Errorf("look at the database: %w", plain(err))
	}
	a = About{Version: row.Version, Most: row.Most, Connections: row.Held}
	var now time.Time
	begun := time.Now()
	if err = s.db.pool.GetContext(ctx, &now, `SELECT clock_timestamp()`); err == nil {
		a.Within = time.Since(begun)
		a.Ahead = begun.Add(a.Within / 2).Sub(now)
	}
	if err == nil && row.There {
		err = s.db.pool.GetContext(ctx, &a.Schema, `SELECT coalesce(max(version_id), 0) FROM goose_db_version WHERE is_applied`)
	}
	if err == nil {
		err = s.db.pool.GetContext(ctx, &a.Bytes, `SELECT coalesce(sum(pg_total_relation_size(c.oid)), 0)::bigint FROM pg_class c WHERE c.relkind = 'r' AND c.relnamespace = current_schema()::regnamespace`)
	}
	if err != nil {
		return a, fmt.Errorf("look at the database: %w", plain(err))
	}
	names, err := fs.Glob(migrations, "migrations/*.sql")
	for _, name := range names {
		digits, _, _ := strings.Cut(strings.TrimPrefix(name, "migrations/"), "_")
		n, _ := strconv.ParseInt(digits, 10, 64)
		a.Wanted = max(a.Wanted, n)
	}
	return a, err
}
