package testbed

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/internal/localpg"
)

// Databases gives each test one of its own, that a service has been started on before: a copy, since bringing an empty one up
// to date takes a good part of a second.
type Databases struct {
	Server *localpg.Server
	Serve  func(t testing.TB, url string) (stop func()) // starts a service on an empty database
	once   sync.Once
	made   bool
	serial atomic.Int64
}

const template = "prepared"

// New makes one and gives its URL.
func (d *Databases) New(t testing.TB) string {
	t.Helper()
	d.once.Do(func() { d.prepare(t); d.made = true })
	if !d.made {
		t.Fatal("no database could be prepared for copies")
	}
	ctx := context.Background()
	name := fmt.Sprintf("c%d", d.serial.Add(1))
	url, err := d.Server.CopyDatabase(ctx, name, template)
	if err == nil {
		err = localpg.Exec(ctx, url, "UPDATE deployment SET id = $1", name)
	}
	if err != nil {
		t.Fatal(err)
	}
	return url
}

func (d *Databases) prepare(t testing.TB) {
	t.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	url, err := d.Server.NewDatabase(ctx, template)
	if err != nil {
		t.Fatal(err)
	}
	stop := d.Serve(t, url)
	conn, err := pgx.Connect(ctx, url)
	if err != nil {
		t.Fatal(err)
	}
	Eventually(t, "jobs are worked on", func() error { // their tables come after the others
		var n int
		if err := conn.QueryRow(ctx, "SELECT count(*) FROM river_queue").Scan(&n); err != nil || n == 0 {
			return fmt.Errorf("%d queues: %v", n, err)
		}
		return nil
	})
	stop()
	// What a service says of itself at its first start is each copy's own.
	if _, err = conn.Exec(ctx, "TRUNCATE links, nodes, river_queue, river_leader"); err == nil {
		err = conn.Close(ctx)
	}
	if err == nil {
		err = d.Server.Freeze(ctx, template)
	}
	if err != nil {
		t.Fatal(err)
	}
}
