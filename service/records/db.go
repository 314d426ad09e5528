package records

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jmoiron/sqlx"
)

// ErrAway: the database didn't answer lately, and isn't asked again for a moment.
var ErrAway = errors.New("the database doesn't answer")

// database is a pool of connections whose statements have a deadline. Once the database doesn't answer in time, or can't
// be reached, the next ones fail at once, but for one a second that tries whether it is back: a frozen database costs
// nobody more than one deadline.
type database struct {
	pool *sqlx.DB
	away atomic.Int64 // when to try again, in nanoseconds since 1970; 0: it answers
}

const (
	statementLimit = 5 * time.Second // of one statement, and of a whole transaction
	retryAfter     = time.Second
)

// limited gives a context for one statement.
func (d *database) limited(ctx context.Context) (context.Context, error) {
	if until := d.away.Load(); until != 0 {
		now := time.Now().UnixNano()
		if now < until || !d.away.CompareAndSwap(until, now+int64(retryAfter)) {
			return nil, ErrAway
		}
	}
	ctx, cancel := context.WithTimeout(ctx, statementLimit)
	context.AfterFunc(ctx, cancel) // rows are read after the statement has returned, so its end alone ends it
	return ctx, nil
}

// met takes note of how a statement ended.
func (d *database) met(caller context.Context, err error) {
	switch {
	case err == nil, errors.Is(err, sql.ErrNoRows):
		d.away.Store(0)
	case isAway(err) && caller.Err() == nil:
		d.away.Store(time.Now().Add(retryAfter).UnixNano())
	}
}

// isAway reports whether an error says that the database can't be reached, or doesn't answer in time.
func isAway(err error) bool {
	var e *pgconn.PgError
	if errors.As(err, &e) {
		switch e.Code {
		case "57P01", "57P02", "57P03", "53300": // it ends, crashed, starts, has no connection left
			return true
		}
		return false
	}
	var network net.Error
	return errors.Is(err, context.DeadlineExceeded) || errors.Is(err, ErrAway) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) ||
		errors.Is(err, driver.ErrBadConn) || errors.As(err, &network)
}

// Away reports whether the database didn't answer when it was last asked.
func (d *database) Away() bool { return d.away.Load() != 0 }

func (d *database) GetContext(ctx context.Context, to any, query string, args ...any) error {
	limited, err := d.limited(ctx)
	if err == nil {
		err = d.pool.GetContext(limited, to, query, args...)
		d.met(ctx, err)
	}
	return err
}

func (d *database) SelectContext(ctx context.Context, to any, query string, args ...any) error {
	limited, err := d.limited(ctx)
	if err == nil {
		err = d.pool.SelectContext(limited, to, query, args...)
		d.met(ctx, err)
	}
	return err
}

func (d *database) ExecContext(ctx context.Context, query string, args ...any) (sql.Result, error) {
	limited, err := d.limited(ctx)
	if err != nil {
		return nil, err
	}
	r, err := d.pool.ExecContext(limited, query, args...)
	d.met(ctx, err)
	return r, err
}

func (d *database) QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error) {
	limited, err := d.limited(ctx)
	if err != nil {
		return nil, err
	}
	rows, err := d.pool.QueryContext(limited, query, args...)
	d.met(ctx, err)
	return rows, err
}

// row is a *sql.Row whose error may be known before it is scanned.
type row struct {
	*sql.Row
	d   *database
	ctx context.Context
	err error
}

// Scan is sql.Row's.
func (r row) Scan(to ...any) error {
	if r.err != nil {
		return r.err
	}
	err := r.Row.Scan(to...)
	r.d.met(r.ctx, err)
	return err
}

func (d *database) QueryRowContext(ctx context.Context, query string, args ...any) row {
	limited, err := d.limited(ctx)
	if err != nil {
		return row{err: err}
	}
	return row{Row: d.pool.QueryRowContext(limited, query, args...), d: d, ctx: ctx}
}

// BeginTxx starts a transaction that is rolled back at the deadline.
func (d *database) BeginTxx(ctx context.Context, o *sql.TxOptions) (*sqlx.Tx, error) {
	limited, err := d.limited(ctx)
	if err != nil {
		return nil, err
	}
	tx, err := d.pool.BeginTxx(limited, o)
	d.met(ctx, err)
	return tx, err
}

// PingContext asks whether the database answers, also while others don't ask it.
func (d *database) PingContext(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, retryAfter)
	defer cancel()
	err := d.pool.PingContext(ctx)
	d.met(context.Background(), err)
	return err
}

// snapshotRead makes several reads see one moment.
var snapshotRead = &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true}
