package records

import (
	"context"
	"fmt"
	"strings"
	"testing"
	"time"

	"echolane/core/policy"
)

// What was found in sources that are gone is forgotten, of the lane and the folder that were gone through alone, also where there are
// very many; a database that doesn't answer holds nobody up for long.
func TestWhatIsGoneIsForgotten(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	ctx := context.Background()
	if err := s.AddSite(ctx, policy.NewDocument("kestrel"), "test"); err != nil {
		t.Fatal(err)
	}
	r := recorder(t, s)
	add := func(lane, path string) {
		_, err := s.db.ExecContext(ctx, `INSERT INTO looked_at (site, lane, path, digest, type, width, height, bytes, frames, faces, kind, sharpness, lettered, colours)
			VALUES ('kestrel', $1, $2, '', '', 1, 1, 1, 1, 0, 'photograph', 1, false, '')`, lane, path)
		if err != nil {
			t.Fatal(err)
		}
	}
	for _, path := range []string{"a.jpg", "by/b.jpg", "by/c.jpg", "by%/d_.jpg"} {
		add("f", path)
	}
	add("g", "by/c.jpg")
	known := func() string {
		list, err := s.Find(ctx, "kestrel", "", Find{}, "", "", 100)
		if err != nil {
			t.Fatal(err)
		}
		var paths []string
		for _, l := range list {
			paths = append(paths, l.Lane+"/"+l.Path)
		}
		return strings.Join(paths, " ")
	}
	if err := s.ForgetOthers(ctx, "kestrel", "f", "by/", []string{"by/b.jpg", "no\x00name", "bad\xff"}); err != nil {
		t.Fatal(err)
	}
	if got := known(); got != "f/a.jpg f/by%/d_.jpg f/by/b.jpg g/by/c.jpg" {
		t.Errorf("below a path: %s", got)
	}
	many := make([]string, 100_000)
	for i := range many {
		many[i] = fmt.Sprintf("x/%d.jpg", i)
	}
	if err := s.ForgetOthers(ctx, "kestrel", "f", "", append(many, "a.jpg")); err != nil {
		t.Fatal(err)
	}
	if got := known(); got != "f/a.jpg g/by/c.jpg" {
		t.Errorf("of a lane: %s", got)
	}
	r.LookedAt(LookedAt{Site: "kestrel", Lane: "f", Path: "a.jpg"}) // a moment before
	for _, path := range []string{"a.jpg", "none.jpg", "no\x00name", "bad\xff"} {
		if err := r.Gone(ctx, "kestrel", "f", path); err != nil {
			t.Errorf("%q: %v", path, err)
		}
	}
	if err := r.FlushLookedAt(ctx); err != nil {
		t.Fatal(err)
	}
	if got := known(); got != "g/by/c.jpg" {
		t.Errorf("one by one: %s", got)
	}
	frozen, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer frozen.Rollback()
	if _, err := frozen.ExecContext(ctx, `LOCK TABLE looked_at`); err != nil {
		t.Fatal(err)
	}
	done := make(chan error, 1)
	go func() { done <- r.Gone(ctx, "kestrel", "g", "by/c.jpg") }()
	select {
	case err := <-done:
		if err == nil {
			t.Error("it says that it was forgotten")
		}
	case <-time.After(20 * time.Second):
		t.Error("it waits for a database that doesn't answer")
	}
}
