package jobs

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"testing"

	"github.com/jmoiron/sqlx"

	"echolane/core/policy"
	"echolane/core/weighin"
	"echolane/internal/localpg"
	"echolane/internal/testbed"
	"echolane/service/panics"
	"echolane/service/records"
	"echolane/service/weighing"
)

// weigher is one that a test has the say of.
type weigher func(ctx context.Context, a weighing.Ask) (*weighing.Outcome, error)

func (w weigher) Weigh(ctx context.Context, a weighing.Ask, progress weighing.Progress) (*weighing.Outcome, error) {
	progress(1, 2, "opening "+a.Page)
	return w(ctx, a)
}

// A weigh-in outlives the nodes that are at it: those that are stopped give it back, those that are gone are found out, and a
// page that takes one node after the other with it is given up.
func TestAWeighInOutlivesItsNode(t *testing.T) {
	server, end, err := localpg.Passing(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(end)
	url, err := server.NewDatabase(context.Background(), "jobs")
	if err != nil {
		t.Fatal(err)
	}
	store, err := records.Open(url, nil)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { store.Close() })
	if err := store.Prepare(context.Background()); err != nil {
		t.Fatal(err)
	}
	if err := store.AddSite(context.Background(), policy.NewDocument("kestrel"), "test"); err != nil {
		t.Fatal(err)
	}
	db := sqlx.MustConnect("pgx", url)
	t.Cleanup(func() { db.Close() })
	site := &policy.SiteSettings{Site: &policy.Site{Name: "kestrel"}}
	node := func(w weigher) *Jobs {
		t.Helper()
		log := slog.New(slog.NewTextHandler(io.Discard, nil))
		j, err := New(Options{DatabaseURL: url, Store: store, Weigher: w, Ready: func() bool { return true }, Log: log, Panics: &panics.Catcher{Log: log},
			Sites: func(name string) *policy.SiteSettings {
				if name != "kestrel" {
					return nil
				}
				return site
			}})
		if err != nil {
			t.Fatal(err)
		}
		j.Start()
		t.Cleanup(j.Close)
		return j
	}
	begun := make(chan weighing.Ask, 10)
	hanging := func(ctx context.Context, a weighing.Ask) (*weighing.Outcome, error) {
		begun <- a
		<-ctx.Done()
		return nil, ctx.Err()
	}
	state := func(id int64, want string) *records.Weighing {
		t.Helper()
		var now *records.Weighing
		testbed.Eventually(t, fmt.Sprintf("weigh-in %d is %s", id, want), func() (err error) {
			if now, err = store.Weighing(context.Background(), "kestrel", id); err == nil && now.State != want {
				err = fmt.Errorf("%+v", *now)
			}
			return err
		})
		return now
	}

	first := node(hanging)
	ask := weighing.Ask{Site: site, Page: "http://shop.test/", HTML: []byte("<p>kites"), Files: []weighing.File{{URL: "http://shop.test/a.png", Type: "image/png", Data: bytes.Repeat([]byte{1, 2, 255}, 1000)}}}
	id, err := first.Weigh(context.Background(), ask, "test")
	if err != nil {
		t.Fatal(err)
	}
	<-begun
	lost, err := first.Weigh(context.Background(), ask, "test") // waits behind it
	if err != nil {
		t.Fatal(err)
	}
	stopped, err := first.Weigh(context.Background(), ask, "test")
	if err != nil {
		t.Fatal(err)
	}
	if ok, err := store.StopWeighing(context.Background(), "kestrel", stopped); !ok || err != nil {
		t.Fatal(ok, err)
	}
	first.Close()
	if now := state(id, "running"); now.Doing != "waiting for another node" || now.Done != 0 {
		t.Errorf("given back: %+v", *now)
	}
	// A node that takes the second and dies.
	for n := range mostLost {
		if _, _, ok, err := store.TakeWeighing(context.Background(), lost, n+1); !ok || err != nil {
			t.Fatal(ok, err)
		}
		if _, _, ok, _ := store.TakeWeighing(context.Background(), lost, n+1); ok {
			t.Error("two nodes have one turn")
		}
		if list, err := store.WaitingWeighings(context.Background()); err != nil || len(list) != 1 {
			t.Errorf("while a node is at it: %v, %v", list, err)
		}
		db.MustExec(`UPDATE weighings SET seen_at = now() - interval '11 seconds' WHERE id = $1`, lost)
		if _, err := store.WaitingWeighings(context.Background()); err != nil {
			t.Fatal(err)
		}
		if running, err := store.TellWeighing(context.Background(), lost, n+1, 1, 2, "late"); running || err != nil {
			t.Errorf("a node that was taken to have ended goes on: %v, %v", running, err)
		}
		if err := store.EndWeighing(context.Background(), lost, n+1, []byte(`{}`), ""); err != nil {
			t.Fatal(err)
		}
	}
	if now := state(lost, "failed"); now.Trouble != "nodes ended while they weighed the page, 3 times" {
		t.Errorf("given up: %+v", *now)
	}

	var got weighing.Ask
	second := node(func(ctx context.Context, a weighing.Ask) (*weighing.Outcome, error) {
		got = a
		return &weighing.Outcome{Report: weighin.Report{Page: a.Page}}, nil
	})
	if now := state(id, "done"); now.Trouble != "" || len(now.Outcome) == 0 {
		t.Errorf("done: %+v", *now)
	}
	if got.Site != site || string(got.HTML) != "<p>kites" || len(got.Files) != 1 || !bytes.Equal(got.Files[0].Data, ask.Files[0].Data) {
		t.Errorf("the other node was asked %+v", got)
	}
	state(stopped, "stopped")
	var kept int
	if err := db.Get(&kept, `SELECT count(*) FROM weighings WHERE ask IS NOT NULL`); err != nil || kept != 0 {
		t.Errorf("%d questions are kept of weigh-ins that have ended, %v", kept, err)
	}
	second.Close()

	// A bound for each site, and of a site's the first before others' second.
	node(hanging)
	if err := store.AddSite(context.Background(), policy.NewDocument("wharf"), "test"); err != nil {
		t.Fatal(err)
	}
	for range 8 {
		if _, err := second.Weigh(context.Background(), ask, "test"); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := second.Weigh(context.Background(), ask, "test"); err == nil || err.(*policy.Refusal).Reason != policy.ReasonBusy {
		t.Errorf("a ninth: %v", err)
	}
	other, err := store.AddWeighing(context.Background(), "wharf", "http://wharf.test/", "test", []byte("x"))
	if err != nil {
		t.Fatal(err)
	}
	list, err := store.WaitingWeighings(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range list {
		if w.ID == other && w.Ahead != 0 {
			t.Errorf("another site's first: %+v", w)
		}
	}
}

const mostLost = 3
