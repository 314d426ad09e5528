package records

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/internal/localpg"
	"echolane/internal/testbed"
)

var (
	quiet  = slog.New(slog.NewTextHandler(io.Discard, nil))
	server *localpg.Server
	serial int
)

func TestMain(m *testing.M) {
	var end func()
	var err error
	if server, end, err = localpg.Passing(context.Background()); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
	code := m.Run()
	end()
	os.Exit(code)
}

func newDatabase(t *testing.T) string {
	t.Helper()
	serial++
	url, err := server.NewDatabase(context.Background(), fmt.Sprintf("r%d", serial))
	if err != nil {
		t.Fatal(err)
	}
	return url
}

func open(t *testing.T, url string, key []byte) *Store {
	t.Helper()
	s, err := Open(url, key)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	if err := s.Prepare(context.Background()); err != nil {
		t.Fatal(err)
	}
	return s
}

func recorder(t *testing.T, s *Store) *Recorder {
	t.Helper()
	r := NewRecorder(RecorderOptions{Store: s, Log: quiet})
	t.Cleanup(r.Close)
	return r
}

func one[T any](t *testing.T, s *Store, query string, args ...any) T {
	t.Helper()
	var v T
	if err := s.db.GetContext(context.Background(), &v, query, args...); err != nil {
		t.Fatalf("%s: %v", query, err)
	}
	return v
}

// flush writes all that is held.
func (r *Recorder) flush(t *testing.T) {
	t.Helper()
	for _, f := range []func(context.Context) error{r.variants.Flush, r.refusals.Flush, r.classes.Flush, r.usage.Flush} {
		if err := f(context.Background()); err != nil {
			t.Fatal(err)
		}
	}
}

func TestTextIsMadeValid(t *testing.T) {
	for in, want := range map[string]string{
		"plain": "plain", "a\xffb": "a\ufffdb", "a\x00b": "a\u2400b", strings.Repeat("é", 6): "ééé", "aaaaa" + "€": "aaaaa", "\xc3": "\ufffd", "": "",
	} {
		if got := wording.Text(in, 7); got != want {
			t.Errorf("%q: %q, want %q", in, got, want)
		}
	}
}

// What a stranger can put into an address jams nothing, and what is counted beside it is counted.
func TestNoTextJamsTheRecords(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	r := recorder(t, s)
	no := policy.No(policy.Refusal{Reason: policy.ReasonNoSuchSource, Detail: "d\xff\x00", Given: strings.Repeat("é", 2000)})
	for i, asked := range []string{"raw \xff", "nul \x00", strings.Repeat("é", 101) + "x", strings.Repeat("€", 100), "plain"} {
		r.Refused("kestrel", asked, "/kestrel/f/\xff"+strings.Repeat("é", 600), no)
		r.Made(Variant{Key: fmt.Sprint("key", i), Site: "kestrel", Lane: "w", Path: asked + strings.Repeat("\xfe", 3000), Declarations: "a\x00"})
		r.Used("kestrel", "tile \xff", asked)
		r.Usage("kestrel").Answered(0, 10, 0, 0)
	}
	r.flush(t)
	if n := one[int](t, s, `SELECT count(*) FROM refusals`); n != 5 {
		t.Errorf("%d kinds of refusals are recorded, want 5", n)
	}
	if n := one[int](t, s, `SELECT count(*) FROM made_variants`); n != 5 {
		t.Errorf("%d variants are recorded, want 5", n)
	}
	if n := one[int](t, s, `SELECT count(*) FROM class_uses`); n != 10 {
		t.Errorf("%d uses of classes are recorded, want 10", n)
	}
	for what, n := range r.Dropped() {
		if n != 0 {
			t.Errorf("%d rows of %s were dropped", n, what)
		}
	}
}

// badRow is one that PostgreSQL refuses whatever is done to its text.
func TestABadRowIsDroppedAndTheOthersStay(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	r := recorder(t, s)
	for i := range 20 {
		v := Variant{Key: fmt.Sprint("key", i), Site: "kestrel", Lane: "f", Path: "a.jpg"}
		if i == 7 {
			v.Width = 1 << 40 // an integer column can't hold it
		}
		r.Made(v)
	}
	r.flush(t)
	if n := one[int](t, s, `SELECT count(*) FROM made_variants`); n != 19 || r.Dropped()["variants"] != 1 {
		t.Errorf("%d variants are recorded and %d dropped, want 19 and 1", n, r.Dropped()["variants"])
	}
	r.Made(Variant{Key: "later", Site: "kestrel", Lane: "f", Path: "a.jpg"})
	r.flush(t)
	if n := one[int](t, s, `SELECT count(*) FROM made_variants`); n != 20 {
		t.Errorf("after it %d", n)
	}
}

func TestRowsWaitForTheDatabaseWithinABound(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	stall, url := testbed.StallBefore(t, newDatabase(t))
	s := open(t, url, nil)
	r := recorder(t, s)
	r.Refused("kestrel", "before", "/", policy.No(policy.Refusal{Reason: policy.ReasonBusy}))
	r.flush(t)
	stall.Freeze()
	ctx, cancel := context.WithTimeout(context.Background(), 200*time.Millisecond)
	defer cancel()
	for i := range 3 * refusalsHeld {
		r.Refused("kestrel", fmt.Sprint(i), "/", policy.No(policy.Refusal{Reason: policy.ReasonBusy}))
	}
	if err := r.FlushRefusals(ctx); err == nil {
		t.Error("a frozen database takes rows")
	}
	if n := r.refusals.Held(); n > 2*refusalsHeld {
		t.Errorf("%d rows are held", n)
	}
	stall.Thaw()
	stall.Cut()
	testbed.Eventually(t, "rows are written once the database is back", func() error { return r.FlushRefusals(context.Background()) })
	if n := one[int](t, s, `SELECT sum(count) FROM refusals`); n != 1+3*refusalsHeld {
		t.Errorf("%d refusals are counted, want %d", n, 1+3*refusalsHeld)
	}
}

func TestAddingAfterTheEndBreaksNothing(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	r := NewRecorder(RecorderOptions{Store: s, Log: quiet})
	r.Made(Variant{Key: "k", Site: "kestrel", Lane: "f", Path: "a.jpg"})
	r.Usage("kestrel").Answered(0, 7, 0, 0)
	var all sync.WaitGroup
	for range 8 {
		all.Go(func() {
			for i := range 200 {
				r.Made(Variant{Key: fmt.Sprint(i), Site: "kestrel", Lane: "f", Path: "a.jpg"})
				r.Refused("kestrel", "x", "/", policy.No(policy.Refusal{Reason: policy.ReasonBusy}))
				r.Used("kestrel", "tile", "/x")
			}
		})
	}
	r.Close()
	all.Wait()
	r.Close()
	if n := one[int](t, s, `SELECT count(*) FROM made_variants WHERE key = 'k'`); n != 1 {
		t.Error("what was counted before the end is lost")
	}
	if n := one[int](t, s, `SELECT bytes_served FROM usage`); n != 7 {
		t.Errorf("%d bytes served", n)
	}
}

func TestTwoSitesCountTheVariantThatTheyShare(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	r := recorder(t, s)
	v := Variant{Key: "same", Site: "alpha", Lane: "f", Path: "a.jpg", SourceDigest: "d", Bytes: 10}
	r.Made(v)
	v.Site, v.Shared = "beta", true
	r.Made(v)
	v.Path = "b.jpg"
	r.Made(v)
	r.flush(t)
	for _, x := range []struct{ site, path string }{{"alpha", "a.jpg"}, {"beta", "a.jpg"}, {"beta", "b.jpg"}} {
		n, known, err := s.VariantsOf(context.Background(), Variant{Key: "same", Site: x.site, Lane: "f", Path: x.path, SourceDigest: "d"})
		if n != 1 || !known || err != nil {
			t.Errorf("%s %s: %d %v %v", x.site, x.path, n, known, err)
		}
	}
	if n := one[int](t, s, `SELECT sum(times_made) FROM made_variants`); n != 1 {
		t.Errorf("made %d times, want once", n)
	}
}

func TestTablesStayWithinBounds(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	if _, err := s.db.ExecContext(context.Background(), `INSERT INTO made_variants (site, lane, path, key, declarations, format, width, height, bytes, source_digest, source_bytes, render_ms, used_at)
		SELECT 'a', 'f', 'p' || i, 'k' || (i % 100), '', 'webp', 1, 1, 1, 'd', 1, 1, now() - i * interval '1 day' FROM generate_series(1, 300) i`); err != nil {
		t.Fatal(err)
	}
	gone, keys, more, err := s.Prune(context.Background(), Bounds{Age: 200 * 24 * time.Hour, Rows: 50})
	if err != nil || gone != 250 || more {
		t.Fatalf("%d rows went, more %v, %v", gone, more, err)
	}
	slices.Sort(keys)
	if len(keys) != 50 || slices.Contains(keys, "k1") || !slices.Contains(keys, "k51") { // 1 to 50 are named by the rows that stay
		t.Errorf("keys that nobody names: %q", keys)
	}
	if n := one[int](t, s, `SELECT count(*) FROM made_variants WHERE path = 'p1'`); n != 1 {
		t.Error("the newest went")
	}
	if gone, _, _, err := s.Prune(context.Background(), DefaultBounds); gone != 0 || err != nil {
		t.Errorf("again: %d, %v", gone, err)
	}
}

func TestABurstStaysWithinTheMonth(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	bound := policy.Month{Renders: 10}
	var nodes []*Recorder
	for range 3 {
		nodes = append(nodes, recorder(t, s))
	}
	var mu sync.Mutex
	made := 0
	var all sync.WaitGroup
	for i := range 50 { // on one node at once
		all.Go(func() {
			done, _, ok := nodes[0].Usage("kestrel").Reserve(bound)
			if !ok {
				return
			}
			if i%5 == 0 {
				done(-1) // it fails, and is given back
				return
			}
			done(100)
			mu.Lock()
			made++
			mu.Unlock()
		})
	}
	all.Wait()
	if made > 10 {
		t.Errorf("%d were made, 10 are allowed", made)
	}
	for nodes[0].Usage("kestrel").Month().Renders < 10 {
		done, _, ok := nodes[0].Usage("kestrel").Reserve(bound)
		if !ok {
			t.Fatal("what failed wasn't given back")
		}
		done(100)
	}
	nodes[0].flush(t)
	for _, n := range nodes[1:] { // the others know after one interval
		n.Usage("kestrel")
		n.flush(t)
		if _, over, ok := n.Usage("kestrel").Reserve(bound); ok || over.Renders != 10 {
			t.Errorf("another node makes an eleventh: %+v", over)
		}
	}
	if n := one[int](t, s, `SELECT renders FROM usage`); n != 10 {
		t.Errorf("%d renders are written", n)
	}
	if _, _, ok := nodes[0].Usage("other").Reserve(policy.Month{BytesStored: 100}); !ok {
		t.Error("the first of a site isn't allowed")
	}
}

func TestSigningInIsSlowedForWhoFailsAlone(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	ctx := context.Background()
	if _, err := s.AddPerson(ctx, "wren", "a long password", MayOwn, nil, "test"); err != nil {
		t.Fatal(err)
	}
	var looked, turned int
	var mu sync.Mutex
	var all sync.WaitGroup
	for range 60 {
		all.Go(func() {
			err := s.SignIn(ctx, "wren", "wrong", "192.0.2.1")
			var wait *TooManyTries
			mu.Lock()
			defer mu.Unlock()
			switch {
			case errors.Is(err, ErrWrong):
				looked++
			case errors.As(err, &wait):
				turned++
			case errors.Is(err, ErrBusy), errors.Is(err, ErrAway):
			default:
				t.Errorf("%v", err)
			}
		})
	}
	all.Wait()
	if looked > 4 || turned < 50 {
		t.Errorf("of 60 tries at once %d were looked at and %d turned away", looked, turned)
	}
	if err := s.SignIn(ctx, "wren", "a long password", "198.51.100.7"); err != nil {
		t.Errorf("another client is held up: %v", err)
	}
	if _, err := s.db.ExecContext(ctx, `UPDATE tries SET until = now() + interval '40 s' WHERE who = '192.0.2.1 wren'`); err != nil {
		t.Fatal(err)
	}
	var wait *TooManyTries
	if err := s.SignIn(ctx, "wren", "a long password", "192.0.2.1"); !errors.As(err, &wait) || wait.Wait < 20*time.Second {
		t.Errorf("the one that failed isn't: %v", err)
	}
	if err := s.SignIn(ctx, "nobody", "x", "198.51.100.7"); !errors.Is(err, ErrWrong) {
		t.Errorf("who isn't there: %v", err)
	}
}

func TestAFrozenDatabaseCostsOneDeadline(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	stall, url := testbed.StallBefore(t, newDatabase(t))
	s := open(t, url, nil)
	w, err := Watch(context.Background(), WatchOptions{Store: s, Log: quiet})
	if err != nil {
		t.Fatal(err)
	}
	defer w.Close()
	if !w.Live() {
		t.Fatal("it isn't live at the start")
	}
	stall.Freeze()
	testbed.Eventually(t, "it says that it isn't live", func() error {
		if w.Live() {
			return errors.New("still live")
		}
		return nil
	})
	// One tries and waits for its deadline; the others that come meanwhile fail at once.
	s.Deployment(context.Background())
	if !s.db.Away() {
		t.Error("nobody noticed")
	}
	fails := 0
	for range 50 {
		if _, err := s.Deployment(context.Background()); errors.Is(err, ErrAway) {
			fails++
		} else {
			break
		}
	}
	if fails < 40 {
		t.Errorf("%d of 50 failed at once", fails)
	}
	stall.Thaw()
	stall.Cut()
	testbed.Eventually(t, "it is live again", func() error {
		if !w.Live() {
			return errors.New("not live")
		}
		_, err := s.Deployment(context.Background())
		return err
	})
}

func TestANodeStartsWithoutTheDatabase(t *testing.T) {
	direct := newDatabase(t)
	stall, url := testbed.StallBefore(t, direct)
	key := make([]byte, 32)
	file := filepath.Join(t.TempDir(), "settings.json")
	first := open(t, url, key)
	d := policy.NewDocument("kestrel")
	if err := first.AddSite(context.Background(), d, "test"); err != nil {
		t.Fatal(err)
	}
	const secret = "what nobody may read in a file of a cache"
	if err := first.PutSecret(context.Background(), "kestrel", policy.KeySecret("spring"), secret, "test"); err != nil {
		t.Fatal(err)
	}
	w, err := Watch(context.Background(), WatchOptions{Store: first, Log: quiet, File: file})
	if err != nil {
		t.Fatal(err)
	}
	deployment := w.Deployment()
	w.Close()
	text, err := os.ReadFile(file)
	if err != nil || strings.Contains(string(text), secret) {
		t.Fatalf("the file: %v %s", err, text)
	}
	info, _ := os.Stat(file)
	if info.Mode().Perm() != 0o600 {
		t.Errorf("the file is %v", info.Mode())
	}
	stall.Close()

	s, err := Open(url, key)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	w, err = Watch(context.Background(), WatchOptions{Store: s, Log: quiet, File: file})
	if err != nil {
		t.Fatalf("it doesn't start: %v", err)
	}
	defer w.Close()
	site := w.Current().Site("kestrel")
	if !w.Known() || w.Live() || site == nil || string(site.Keys["spring"]) != secret || w.Deployment() != deployment || deployment == "" {
		t.Errorf("known %v, live %v, site %v, deployment %q", w.Known(), w.Live(), site, w.Deployment())
	}
	other, err := Open(url, key)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	empty, err := Watch(context.Background(), WatchOptions{Store: other, Log: quiet})
	if err != nil {
		t.Fatalf("without a file it doesn't start: %v", err)
	}
	defer empty.Close()
	if empty.Known() {
		t.Error("it says that it knows settings")
	}
	// The file's settings give way to the database's once that is there.
	u := regexp.MustCompile(`127\.0\.0\.1:\d+`).FindString(direct)
	s2, err := Open(strings.Replace(direct, u, u, 1), key)
	if err != nil {
		t.Fatal(err)
	}
	defer s2.Close()
	back, err := Watch(context.Background(), WatchOptions{Store: s2, Log: quiet, File: file})
	if err != nil || !back.Live() {
		t.Fatalf("%v", err)
	}
	back.Close()
}

func TestWhatTheDatabaseRefusesEndsTheStart(t *testing.T) {
	url := newDatabase(t)
	u := regexp.MustCompile(`/r\d+`).ReplaceAllString(url, "/there-is-none")
	s, err := Open(u, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	if _, err := Watch(context.Background(), WatchOptions{Store: s, Log: quiet}); err == nil || strings.Contains(err.Error(), "@") {
		t.Errorf("%v", err)
	}
}

func TestAnotherKeyIsNoticedAtTheStart(t *testing.T) {
	url := newDatabase(t)
	s := open(t, url, make([]byte, 32))
	if err := s.AddSite(context.Background(), policy.NewDocument("kestrel"), "test"); err != nil {
		t.Fatal(err)
	}
	if err := s.PutSecret(context.Background(), "kestrel", policy.KeySecret("spring"), "secret", "test"); err != nil {
		t.Fatal(err)
	}
	other := open(t, url, []byte(strings.Repeat("x", 32)))
	if _, err := Watch(context.Background(), WatchOptions{Store: other, Log: quiet}); !errors.Is(err, ErrOtherKey) || !strings.Contains(err.Error(), "ECHOLANE_SECRET_KEY") {
		t.Errorf("with another key: %v", err)
	}
	none := open(t, url, nil)
	w, err := Watch(context.Background(), WatchOptions{Store: none, Log: quiet})
	if err != nil {
		t.Fatalf("without a key, to mend it: %v", err)
	}
	w.Close()
}

// Migrations only ever add: a node of the version before starts and works beside a newer one.
func TestTheVersionBeforeGoesOnBesideANewerOne(t *testing.T) {
	url := newDatabase(t)
	newest := open(t, url, nil)
	names, err := migrations.ReadDir("migrations")
	if err != nil {
		t.Fatal(err)
	}
	last := int64(len(names))
	old, err := Open(url, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer old.Close()
	old.upTo = last - 1
	if err := old.Prepare(context.Background()); err != nil {
		t.Fatalf("the version before doesn't start: %v", err)
	}
	// What it writes, it can go on writing.
	err = old.inTransaction(context.Background(), "test", func(tx *sqlx.Tx) error {
		_, err := tx.Exec(`INSERT INTO variants (key, site, lane, path, declarations, format, width, height, bytes, source_digest, source_bytes, render_ms)
			VALUES ('k', 's', 'l', 'p', '', 'webp', 1, 1, 1, 'd', 1, 1) ON CONFLICT (key) DO UPDATE SET times_made = variants.times_made + 1`)
		return err
	})
	if err != nil {
		t.Errorf("the version before can't record a variant: %v", err)
	}
	if err := newest.db.PingContext(context.Background()); err != nil {
		t.Error(err)
	}
	// A database that is newer than this binary is used as it is.
	if _, err := newest.db.ExecContext(context.Background(), `INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, true)`); err != nil {
		t.Fatal(err)
	}
	again, err := Open(url, nil)
	if err != nil {
		t.Fatal(err)
	}
	defer again.Close()
	if err := again.Prepare(context.Background()); err != nil {
		t.Errorf("a database that is newer: %v", err)
	}
	forbidden := regexp.MustCompile(`(?i)\b(drop|rename|truncate|alter column|set not null)\b|\bdelete from\b`)
	for _, e := range names[1:] {
		text, err := migrations.ReadFile("migrations/" + e.Name())
		if err != nil {
			t.Fatal(err)
		}
		up, _, _ := strings.Cut(string(text), "-- +goose Down")
		for _, line := range strings.Split(up, "\n") {
			if code, _, _ := strings.Cut(line, "--"); forbidden.MatchString(code) {
				t.Errorf("%s takes something away: %s", e.Name(), line)
			}
		}
	}
}

func TestTheStockIsWhatTheRecordsSay(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	ctx := context.Background()
	if _, err := s.db.ExecContext(ctx, `INSERT INTO made_variants (site, lane, path, key, declarations, format, width, height, bytes, source_digest, source_bytes, render_ms)
		SELECT CASE WHEN i % 2 = 0 THEN 'alpha' ELSE 'beta' END, 'f', 'p' || i / 10, 'k' || i, 'width=' || i, CASE WHEN i % 4 < 2 THEN 'webp' ELSE 'avif' END, i, 1, 100 + i, 'd', 5000, 2 FROM generate_series(0, 99) i`); err != nil {
		t.Fatal(err)
	}
	if err := s.AddAsked(ctx, []Asked{{"alpha", "f", "p0", "k0", 5}, {"alpha", "f", "p0", "k2", 1}, {"alpha", "f", "none", "k2", 9}}); err != nil {
		t.Fatal(err)
	}
	for _, c := range []struct {
		site, by         string
		groups, variants int
		sources          int64
	}{{"", "site", 2, 100, 20}, {"alpha", "lane", 1, 50, 10}, {"alpha", "source", 10, 50, 10}, {"beta", "format", 2, 50, 10}, {"none", "lane", 0, 0, 0}} {
		all, groups, err := s.Stock(ctx, c.site, c.by, 100)
		if err != nil || int(all.Variants) != c.variants || len(groups) != c.groups || all.Sources != c.sources || all.SourceBytes != c.sources*5000 {
			t.Errorf("%s by %s: %+v, %d groups, %v", c.site, c.by, all, len(groups), err)
		}
		sum := int64(0)
		for i, g := range groups {
			sum += g.Bytes
			if i > 0 && g.Bytes > groups[i-1].Bytes {
				t.Errorf("%s by %s: %s isn't in its place", c.site, c.by, g.Name)
			}
		}
		if sum != all.Bytes {
			t.Errorf("%s by %s: the groups have %d bytes of %d", c.site, c.by, sum, all.Bytes)
		}
	}
	if all, _, err := s.Stock(ctx, "alpha", "lane", 1); err != nil || all.Asked != 6 || all.Served != 5*100+102 || all.Unscaled != 6*5000 || all.RenderMS != 100 {
		t.Errorf("%+v, %v", all, err)
	}
	if _, _, err := s.Stock(ctx, "", "colour", 1); err == nil {
		t.Error("it is grouped by colour")
	}
	for order, want := range map[string]string{"largest": "k98", "most-asked": "k0"} {
		if list, err := s.StockVariants(ctx, PurgeRule{Site: "alpha"}, order, 0, 3); err != nil || len(list) != 3 || list[0].Key != want {
			t.Errorf("%s: %+v, %v", order, list, err)
		}
	}
	if list, err := s.StockVariants(ctx, PurgeRule{Site: "alpha", Lane: "f", Path: "p0"}, "coldest", 0, 3); err != nil || len(list) != 3 || list[2].Asked != 0 && list[0].Asked != 0 {
		t.Errorf("%+v, %v", list, err)
	}
}

// Of nodes one leads; the others hear of its end, and wait no longer than the lease of one that is gone.
func TestPeersTakeTurns(t *testing.T) {
	url := newDatabase(t)
	peers := func() *Peers {
		s := open(t, url, nil)
		p := NewPeers(PeersOptions{Store: s, Log: slog.New(slog.DiscardHandler)})
		p.Hear(func([]string) {}, func() {})
		return p
	}
	a, b := peers(), peers()
	defer b.Close()
	ctx := context.Background()
	release, lead, err := a.Lead(ctx, "key")
	if !lead || err != nil {
		t.Fatal(lead, err)
	}
	if _, lead := b.TryLead(ctx, "key"); lead {
		t.Error("two lead")
	}
	time.AfterFunc(100*time.Millisecond, release)
	begun := time.Now()
	if _, lead, err := b.Lead(ctx, "key"); lead || err != nil || time.Since(begun) > 900*time.Millisecond {
		t.Errorf("it led %v, %v, after %v", lead, err, time.Since(begun))
	}
	release, lead, err = b.Lead(ctx, "key")
	if !lead || err != nil {
		t.Errorf("after the end of the first: %v, %v", lead, err)
	}
	release()
	short, cancel := context.WithTimeout(ctx, 200*time.Millisecond)
	defer cancel()
	if _, lead, _ := a.Lead(ctx, "held"); !lead {
		t.Fatal("it doesn't lead")
	}
	if _, _, err := b.Lead(short, "held"); !errors.Is(err, context.DeadlineExceeded) {
		t.Errorf("who has no time waits on: %v", err)
	}
	a.Close() // gives up what it has
	if _, lead := b.TryLead(ctx, "held"); !lead {
		t.Error("what a node that stopped was at is nobody's")
	}
}

func TestRefinedVariantsAreHeardOf(t *testing.T) {
	url := newDatabase(t)
	heard := make(chan []string, 100)
	a := NewPeers(PeersOptions{Store: open(t, url, nil), Log: slog.New(slog.DiscardHandler)})
	a.Hear(func([]string) { t.Error("a node hears itself") }, func() {})
	defer a.Close()
	b := NewPeers(PeersOptions{Store: open(t, url, nil), Log: slog.New(slog.DiscardHandler)})
	said := 0
	b.Hear(func(keys []string) {
		if said++; said == 1 {
			panic("which costs one notice, not the hearing")
		}
		heard <- keys
	}, func() {})
	defer b.Close()
	got := map[string]bool{}
	for end := time.Now().Add(10 * time.Second); len(got) < 600; {
		for i := range 600 {
			a.Refined(fmt.Sprintf("key-%020d", i))
		}
		for more := true; more; {
			select {
			case keys := <-heard:
				for _, k := range keys {
					got[k] = true
				}
			case <-time.After(300 * time.Millisecond):
				more = false
			}
		}
		if time.Now().After(end) {
			t.Fatalf("%d keys were heard of", len(got))
		}
	}
}

func TestASiteHasABoundOfWarmings(t *testing.T) {
	s := open(t, newDatabase(t), nil)
	if err := s.AddSite(context.Background(), policy.NewDocument("kestrel"), "test"); err != nil {
		t.Fatal(err)
	}
	w := Warming{Site: "kestrel", What: "f/", By: "test", Queries: "width=9", Accepts: "", Variants: 1}
	var all sync.WaitGroup
	var refused atomic.Int64
	for range 2 * mostWarmings {
		all.Go(func() {
			if _, err := s.AddWarming(context.Background(), w, []WarmItem{{Source: "/kestrel/f/a.jpg"}}); errors.Is(err, ErrManyWarmings) {
				refused.Add(1)
			} else if err != nil {
				t.Error(err)
			}
		})
	}
	all.Wait()
	if n := one[int](t, s, `SELECT count(*) FROM warmings`); n != mostWarmings || refused.Load() != mostWarmings {
		t.Errorf("%d are there, %d were refused", n, refused.Load())
	}
	s.db.ExecContext(context.Background(), `UPDATE warmings SET state = 'done', ended_at = now() - interval '8 days'`)
	if _, _, _, err := s.Prune(context.Background(), DefaultBounds); err != nil {
		t.Fatal(err)
	}
	if n := one[int](t, s, `SELECT count(*) FROM warm_items`); n != 0 {
		t.Errorf("%d items of warmings that ended long ago", n)
	}
}

// A node that starts without the database knows what was purged as the others do: some variants, not their whole site.
func TestPurgesAreKnownWithoutTheDatabase(t *testing.T) {
	file := filepath.Join(t.TempDir(), "settings.json")
	s := open(t, newDatabase(t), nil)
	if err := s.AddSite(context.Background(), policy.NewDocument("kestrel"), "test"); err != nil {
		t.Fatal(err)
	}
	for _, r := range []PurgeRule{{Site: "kestrel", Keys: "k1 k2"}, {Site: "kestrel", Lane: "f", Path: "summer/"}, {Site: "kestrel", Class: "card"}} {
		if _, err := s.AddPurge(context.Background(), Purge{PurgeRule: r, By: "test"}); err != nil {
			t.Fatal(err)
		}
	}
	quiet := slog.New(slog.DiscardHandler)
	first, err := Watch(context.Background(), WatchOptions{Store: s, Log: quiet, File: file})
	if err != nil {
		t.Fatal(err)
	}
	first.Close()
	away, err := Open("postgres://nobody@127.0.0.1:1/none", nil)
	if err != nil {
		t.Fatal(err)
	}
	defer away.Close()
	second, err := Watch(context.Background(), WatchOptions{Store: away, Log: quiet, File: file})
	if err != nil {
		t.Fatal(err)
	}
	defer second.Close()
	for name, w := range map[string]*Watcher{"with": first, "without": second} {
		site := w.Current().Site("kestrel")
		if site == nil {
			t.Fatalf("%s the database: no site", name)
		}
		got := []uint64{site.VariantPurged("k2", ""), site.VariantPurged("k3", "card"), site.SourcePurged("f", "summer/a.jpg"), site.SourcePurged("f", "a.jpg"), site.VariantPurged("k3", "")}
		if !slices.Equal(got, []uint64{1, 3, 2, 0, 0}) {
			t.Errorf("%s the database: %d", name, got)
		}
	}
}
