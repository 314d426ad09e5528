package records

import (
	"context"
	"errors"
	"testing"

	"github.com/jackc/pgx/v5/pgconn"
)

// late says something just when it isn't waited for any more, once, and then nothing.
type late struct {
	said  bool
	pings int
}

func (l *late) WaitForNotification(ctx context.Context) (*pgconn.Notification, error) {
	<-ctx.Done()
	if !l.said {
		l.said = true
		return &pgconn.Notification{Channel: "echolane_settings"}, nil
	}
	return nil, ctx.Err()
}

func (l *late) Ping(context.Context) error {
	l.pings++
	return nil
}

// A machine that stands still for a moment may hear of a change only when the wait for it is over: it is read all the same.
func TestAChangeThatIsSaidAtTheLastMomentIsRead(t *testing.T) {
	enough := errors.New("it was read")
	ctx, cancel := context.WithTimeout(t.Context(), 3*pingEvery)
	defer cancel()
	conn := &late{}
	if err := hear(ctx, conn, func(context.Context) error { return enough }); err != enough {
		t.Errorf("%v, after %d pings", err, conn.pings)
	}
}
