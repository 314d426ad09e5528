package records

import (
	"database/sql"
	"io/fs"

	"github.com/pressly/goose/v3/lock"
)

func fsSub() (fs.FS, error) { return fs.Sub(migrations, "migrations") }

func newLocker() (lock.SessionLocker, error) { return lock.NewPostgresSessionLocker() }

// snapshotRead makes several reads see one moment.
var snapshotRead = &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true}
