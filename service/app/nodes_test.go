package app

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/core/policy"
	"echolane/internal/localstore"
	"echolane/internal/testbed"
	"echolane/service/cache/shared"
)

// nodes starts n services on one database and one store. The site kestrel has a lane w beside f and incoming, whose sources come
// from an origin that counts what it is asked.
func nodes(t *testing.T, n int, place shared.Place, keys shared.Credentials, change func(*Options)) (all []*running, asked *atomic.Int64) {
	t.Helper()
	asked = &atomic.Int64{}
	data := picture(t, 400, 300)
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		w.Header().Set("Cache-Control", "max-age=600")
		w.Header().Set("Content-Type", "image/png")
		w.Write(data)
	}))
	t.Cleanup(origin.Close)
	with := func(o *Options) {
		o.Store, o.StoreKeys, o.CacheDir, o.Workers = place, keys, t.TempDir(), 1
		o.WaitLimit = 30 * time.Second
		if change != nil {
			change(o)
		}
	}
	first := start(t, with, func(d *policy.Document) {
		d.Lanes = append(d.Lanes, policy.Lane{Name: "w", Kind: "web", Base: origin.URL + "/", Allow: []string{origin.URL + "/*"}, Private: []string{"127.0.0.1"}})
	})
	all = append(all, first)
	t.Cleanup(func() {
		if t.Failed() {
			t.Log(first.said)
		}
	})
	for range n - 1 {
		o := first.o
		o.Listen = "127.0.0.1:0"
		with(&o)
		a, err := Start(context.Background(), o)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(a.Stop)
		all = append(all, &running{App: a, t: t, dir: first.dir, base: "http://" + a.Addr(), said: first.said})
	}
	return all, asked
}

// made counts the variants that nodes made, or gave from their store.
func count(t *testing.T, all []*running, from string) (n int) {
	t.Helper()
	for _, r := range all {
		a := r.get("/-/metrics", "Authorization", "Bearer "+token)
		for line := range strings.Lines(string(a.body)) {
			if rest, ok := strings.CutPrefix(line, `echolane_answers_total{from="`+from+`"} `); ok {
				var v float64
				fmt.Sscan(rest, &v)
				n += int(v)
			}
		}
	}
	return n
}

func folderStore(t *testing.T) shared.Place {
	return shared.Place{Folder: filepath.Join(t.TempDir(), "store")}
}

func TestNodesFetchAndMakeOnce(t *testing.T) {
	real, err := localstore.Start(context.Background(), t.TempDir(), "kept")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(real.Stop)
	bucket, err := shared.ReadPlace("s3://kept/nodes?endpoint=" + real.Endpoint)
	if err != nil {
		t.Fatal(err)
	}
	for name, place := range map[string]shared.Place{"folder": folderStore(t), "bucket": bucket} {
		t.Run(name, func(t *testing.T) {
			all, asked := nodes(t, 3, place, shared.Credentials{AccessKey: real.AccessKey, SecretKey: real.SecretKey}, nil)
			const variants = 4
			var wait sync.WaitGroup
			bodies := make([][]byte, 36)
			for i := range bodies {
				wait.Go(func() {
					a := all[i%3].get(fmt.Sprintf("/kestrel/w/kite.png?width=%d&format=webp", 100+i%variants))
					if a.StatusCode != 200 {
						t.Errorf("%d %s", a.StatusCode, a.body)
					}
					bodies[i] = a.body
				})
			}
			wait.Wait()
			for i := range bodies {
				if !bytes.Equal(bodies[i], bodies[i%variants]) {
					t.Errorf("answer %d differs from others to the same request", i)
				}
			}
			if n := asked.Load(); n != 1 {
				t.Errorf("the origin was asked %d times", n)
			}
			if n := count(t, all, "made"); n != variants {
				t.Errorf("%d variants were made %d times", variants, n)
			}
			// A node that starts anew, with nothing of its own, finds everything there.
			o := all[0].o
			o.Listen, o.CacheDir = "127.0.0.1:0", t.TempDir()
			a, err := Start(context.Background(), o)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(a.Stop)
			fresh := &running{App: a, t: t, base: "http://" + a.Addr()}
			testbed.Eventually(t, "it is in the store", func() error {
				got := fresh.get("/kestrel/w/kite.png?width=101&format=webp")
				if !bytes.Equal(got.body, bodies[1]) || got.Header.Get("Cache-Status") == "Echo-Lane; fwd=miss; stored" {
					t.Fatalf("%d %s", got.StatusCode, got.Header)
				}
				return nil
			})
			if n := asked.Load(); n != 1 {
				t.Errorf("the origin was asked %d times", n)
			}
		})
	}
}

// Who has had what is kept isn't given what was provisional any more, by any node; and one node searches.
func TestNodesTurnToWhatIsKeptTogether(t *testing.T) {
	all, _ := nodes(t, 3, folderStore(t), shared.Credentials{}, func(o *Options) { o.SearchAtOnce = false })
	all[0].put("kite.png", picture(t, 900, 700))
	const path = "/kestrel/f/kite.png?width=640&format=webp"
	provisional := func(a answer) bool { return strings.Contains(a.Header.Get("Cache-Control"), "max-age=5") }
	first := all[0].get(path)
	for _, r := range all {
		if a := r.get(path); a.StatusCode != 200 || a.Header.Get("ETag") != first.Header.Get("ETag") && provisional(a) {
			t.Fatalf("%d %s", a.StatusCode, a.Header)
		}
	}
	kept := ""
	for end := time.Now().Add(30 * time.Second); kept == ""; time.Sleep(5 * time.Millisecond) {
		for _, r := range all {
			if a := r.get(path); !provisional(a) {
				kept = a.Header.Get("ETag")
			}
		}
		if time.Now().After(end) {
			t.Fatal("nobody searched")
		}
	}
	time.Sleep(50 * time.Millisecond) // for the word to go round
	for range 5 {
		for i, r := range all {
			if a := r.get(path); provisional(a) || a.Header.Get("ETag") != kept {
				t.Errorf("node %d answers %s, %s after others had %s", i, a.Header.Get("ETag"), a.Header.Get("Cache-Control"), kept)
			}
		}
	}
	if n := count(t, all, "made"); n != 1 {
		t.Errorf("made %d times", n)
	}
}

// A store that is away, stands still or gives other bytes costs speed only.
func TestAStoreThatFailsCostsSpeedOnly(t *testing.T) {
	real, err := localstore.Start(context.Background(), t.TempDir(), "kept")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(real.Stop)
	place, _ := shared.ReadPlace("s3://kept?endpoint=" + real.Endpoint)
	all, _ := nodes(t, 2, place, shared.Credentials{AccessKey: real.AccessKey, SecretKey: real.SecretKey}, nil)
	all[0].put("kite.png", picture(t, 300, 200))
	ask := func(r *running, width int) answer {
		t.Helper()
		a := r.get(fmt.Sprintf("/kestrel/f/kite.png?width=%d&format=webp", width))
		if a.StatusCode != 200 {
			t.Fatalf("width %d: %d %s", width, a.StatusCode, a.body)
		}
		return a
	}
	want := ask(all[0], 50)
	var objects []string
	testbed.Eventually(t, "it is in the store", func() error {
		objects = nil
		filepath.WalkDir(filepath.Join(real.Dir, "kept"), func(p string, e os.DirEntry, err error) error {
			if err == nil && e.Type().IsRegular() && strings.Contains(p, "/variants/") {
				objects = append(objects, p)
			}
			return nil
		})
		if len(objects) != 1 {
			return fmt.Errorf("%q", objects)
		}
		return nil
	})
	// An altered object is found, dropped, and made again.
	data, _ := os.ReadFile(objects[0])
	data[len(data)/2] ^= 1
	os.WriteFile(objects[0], data, 0o644)
	if a := ask(all[1], 50); !bytes.Equal(a.body, want.body) || !strings.Contains(a.Header.Get("Cache-Status"), "fwd=miss") {
		t.Errorf("of an altered object: %s", a.Header.Get("Cache-Status"))
	}
	// It stands still: the first few wait their time, then nobody does.
	real.Hold()
	var wait sync.WaitGroup
	for i := range 6 {
		wait.Go(func() { ask(all[0], 60+i) })
	}
	wait.Wait()
	begun := time.Now()
	for i := range 10 {
		ask(all[0], 70+i)
	}
	if took := time.Since(begun); took > 5*time.Second {
		t.Errorf("ten variants took %v without the store", took)
	}
	ready := all[0].get("/-/ready")
	if ready.StatusCode != 200 || !strings.Contains(string(ready.body), `"store":"failing"`) || !strings.Contains(string(ready.body), "degraded") {
		t.Errorf("%d %s", ready.StatusCode, ready.body)
	}
	real.Go()
	// It is away, and comes back.
	real.Stop()
	ask(all[1], 90)
	if err := real.Again(context.Background()); err != nil {
		t.Fatal(err)
	}
	testbed.Eventually(t, "the store is used again", func() error {
		if a := all[0].get("/-/ready"); !strings.Contains(string(a.body), `"store":"there"`) {
			ask(all[0], 100+int(time.Now().UnixNano()/1e7%900))
			return fmt.Errorf("%s", a.body)
		}
		return nil
	})
}

// What a node that has ended was at, another one does.
func TestANodeThatEndsHoldsNobodyUp(t *testing.T) {
	all, _ := nodes(t, 2, folderStore(t), shared.Credentials{}, nil)
	all[0].put("kite.png", picture(t, 300, 200))
	all[0].get("/kestrel/f/kite.png?width=40&format=webp")
	// The key of a variant is what a lease is on: one that nobody renews, for whatever is asked.
	conn, err := pgx.Connect(context.Background(), all[0].o.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	_, err = conn.Exec(context.Background(), `
		CREATE FUNCTION left_behind() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
			IF NOT EXISTS (SELECT FROM leases WHERE holder = 'gone') THEN NEW.holder := 'gone'; END IF;
			RETURN NEW;
		END $$;
		CREATE TRIGGER left_behind BEFORE INSERT ON leases FOR EACH ROW EXECUTE FUNCTION left_behind()`, pgx.QueryExecModeSimpleProtocol)
	if err != nil {
		t.Fatal(err)
	}
	begun := time.Now()
	a := all[1].get("/kestrel/f/kite.png?width=50&format=webp")
	if took := time.Since(begun); a.StatusCode != 200 || took < 2*time.Second || took > 12*time.Second {
		t.Errorf("%d after %v", a.StatusCode, took)
	}
}

// What is provisional outlives a node that ends at once.
func TestWhatIsProvisionalIsNotLostAtAStop(t *testing.T) {
	dir := t.TempDir()
	for _, place := range []shared.Place{{}, folderStore(t)} {
		r := start(t, func(o *Options) { o.CacheDir, o.SearchAtOnce, o.Store = dir, false, place }, nil)
		r.put("kite.png", picture(t, 900, 700))
		first := r.get("/kestrel/f/kite.png?width=640&format=webp")
		r.delivery.Close() // the search doesn't take place
		testbed.Eventually(t, "it is written", func() error {
			if a := r.get("/kestrel/f/kite.png?width=640&format=webp"); a.Header.Get("ETag") != first.Header.Get("ETag") {
				return fmt.Errorf("%s", a.Header)
			}
			if r.cache.Stats().DiskFiles == 0 {
				return fmt.Errorf("not on disk")
			}
			return nil
		})
		o := r.o
		r.Stop()
		if place.Folder != "" {
			o.CacheDir = t.TempDir()
		}
		o.Listen = "127.0.0.1:0"
		a, err := Start(context.Background(), o)
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(a.Stop)
		again := &running{App: a, t: t, base: "http://" + a.Addr()}
		got := again.get("/kestrel/f/kite.png?width=640&format=webp")
		if s := got.Header.Get("Cache-Status"); !strings.Contains(s, "hit; detail=") || !bytes.Equal(got.body, first.body) {
			t.Errorf("after a restart: %s", s)
		}
		testbed.Eventually(t, "it is searched for", func() error {
			if a := again.get("/kestrel/f/kite.png?width=640&format=webp"); strings.Contains(a.Header.Get("Cache-Control"), "max-age=5,") || a.Header.Get("ETag") == first.Header.Get("ETag") {
				return fmt.Errorf("%s", a.Header)
			}
			return nil
		})
		dir = t.TempDir()
	}
}

// A purge is in force on every node within a second, and what it concerns is made anew, of sources that are fetched anew.
func TestAPurgeIsInForceOnEveryNode(t *testing.T) {
	all, asked := nodes(t, 3, folderStore(t), shared.Credentials{}, nil)
	all[0].put("kite.png", picture(t, 200, 100))
	conn, err := pgx.Connect(context.Background(), all[0].o.DatabaseURL)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	all[0].put("other.png", picture(t, 120, 100))
	const fetched, kite, wide, other = "/kestrel/w/summer/kite.png?width=90&format=webp", "/kestrel/f/kite.png?width=90&format=webp", "/kestrel/f/kite.png?width=91", "/kestrel/f/other.png?width=90&format=webp"
	addresses := []string{fetched, kite, wide, other}
	fill := func() {
		t.Helper()
		for _, r := range all {
			for _, address := range addresses {
				if a := r.get(address); a.StatusCode != 200 {
					t.Fatalf("%d %s", a.StatusCode, a.body)
				}
			}
		}
		testbed.Eventually(t, "they are written down", func() error {
			var n int
			if err := conn.QueryRow(context.Background(), `SELECT count(*) FROM made_variants`).Scan(&n); err != nil || n != len(addresses) {
				return fmt.Errorf("%d, %v", n, err)
			}
			return nil
		})
	}
	purge := func(ask string) (did struct{ Variants, Serial int }) {
		t.Helper()
		a := all[1].do("POST", "/-/api/v1/sites/kestrel/purges", strings.NewReader(ask), "Authorization", "Bearer "+token, "Content-Type", "application/json")
		if err := json.Unmarshal(a.body, &did); err != nil || a.StatusCode != 200 {
			t.Fatalf("%d %s", a.StatusCode, a.body)
		}
		return did
	}
	for _, c := range []struct {
		ask  string
		gone []string
	}{
		{`{"lane":"f","path":"kite.png"}`, []string{kite, wide}},
		{`{"lane":"w","path":"summer/"}`, []string{fetched}},
		{`{"lane":"w","path":"winter/"}`, nil},
		{`{"lane":"f"}`, []string{kite, wide, other}},
		{`{"address":"/kestrel/f/kite.png?width=91"}`, []string{wide}},
		{`{"class":"nobody"}`, nil},
		{`{}`, addresses},
	} {
		fill()
		fetches, made := asked.Load(), count(t, all, "made")
		if would := purge(strings.Replace(c.ask, "}", map[bool]string{true: `"dry_run":true}`, false: `,"dry_run":true}`}[c.ask == "{}"], 1)); would.Variants != len(c.gone) || would.Serial != 0 {
			t.Errorf("%s would purge %+v", c.ask, would)
		}
		if a := all[2].get(kite); !strings.Contains(a.Header.Get("Cache-Status"), "hit") {
			t.Errorf("%s after a dry run: %s", c.ask, a.Header.Get("Cache-Status"))
		}
		if did := purge(c.ask); did.Variants != len(c.gone) || did.Serial == 0 {
			t.Errorf("%s purged %+v", c.ask, did)
		}
		// Every node hears of it well within a second.
		time.Sleep(300 * time.Millisecond)
		for _, address := range addresses {
			a := all[2].get(address)
			if hit := strings.Contains(a.Header.Get("Cache-Status"), "hit"); hit == slices.Contains(c.gone, address) {
				t.Errorf("%s: %s is answered with %s", c.ask, address, a.Header.Get("Cache-Status"))
			}
		}
		for _, r := range all {
			for _, address := range addresses {
				r.get(address)
			}
		}
		if n := count(t, all, "made") - made; n != len(c.gone) {
			t.Errorf("%s: %d variants were made %d times", c.ask, len(c.gone), n)
		}
		want := int64(0)
		if slices.Contains(c.gone, fetched) {
			want = 1
		}
		if n := asked.Load() - fetches; n != want {
			t.Errorf("%s: the origin was asked %d times, want %d", c.ask, n, want)
		}
	}
	testbed.Eventually(t, "all is cleared away", func() error {
		a := all[0].get("/-/api/v1/sites/kestrel/purges", "Authorization", "Bearer "+token)
		var list struct {
			Items []struct {
				DoneAt *time.Time `json:"done_at"`
			}
		}
		if err := json.Unmarshal(a.body, &list); err != nil || len(list.Items) != 7 {
			t.Fatalf("%s", a.body)
		}
		for _, p := range list.Items {
			if p.DoneAt == nil {
				return fmt.Errorf("%s; %s", a.body, all[0].said.String()[max(0, all[0].said.Len()-600):])
			}
		}
		return nil
	})
	for _, ask := range []string{`{"path":"kite.png"}`, `{"lane":"f","class":"x"}`, `{"lane":"nolane"}`, `{"address":"/other/f/kite.png?width=9"}`, `{"address":"/kestrel/f/none.png?width=9"}`, `{"colour":"red"}`} {
		if a := all[1].do("POST", "/-/api/v1/sites/kestrel/purges", strings.NewReader(ask), "Authorization", "Bearer "+token, "Content-Type", "application/json"); a.StatusCode < 400 || a.StatusCode >= 500 {
			t.Errorf("%s: %d %s", ask, a.StatusCode, a.body)
		}
	}
}

// What is made ahead goes on when a node ends, is left to visitors as if they had asked for it, and can be paused and stopped.
func TestAWarmingOutlivesANode(t *testing.T) {
	all, _ := nodes(t, 2, folderStore(t), shared.Credentials{}, func(o *Options) { o.SearchAtOnce = false })
	for i := range 12 {
		all[0].put(fmt.Sprintf("kite-%02d.png", i), picture(t, 240+i, 160))
	}
	all[0].put("broken.png", []byte("no picture"))
	call := func(r *running, method, path, body string, status int) (w struct {
		ID                            int
		State                         string
		Variants, Sources, Made, Kept int
		LeftOut                       int `json:"left_out"`
		Forecast                      struct{ Variants, Kept, Bytes int }
		Troubles                      []struct{ Trouble, Sample string }
	}) {
		t.Helper()
		var reader io.Reader
		if body != "" {
			reader = strings.NewReader(body)
		}
		a := r.do(method, "/-/api/v1/sites/kestrel/warmings"+path, reader, "Authorization", "Bearer "+token, "Content-Type", "application/json")
		if json.Unmarshal(a.body, &w); a.StatusCode != status {
			t.Fatalf("%s %s %s: %d %s", method, path, body, a.StatusCode, a.body)
		}
		return w
	}
	const ask = `{"lane":"f","below":"kite-","widths":[40,60,80],"formats":["webp","jpeg"]}`
	would := call(all[0], "POST", "", strings.Replace(ask, "{", `{"dry_run":true,`, 1), 200)
	if would.ID != 0 || would.Forecast.Variants != 72 || would.Forecast.Bytes == 0 {
		t.Errorf("%+v", would)
	}
	w := call(all[0], "POST", "", ask, 202)
	testbed.Eventually(t, "it has begun", func() error {
		if now := call(all[1], "GET", fmt.Sprint("/", w.ID), "", 200); now.Made == 0 {
			return fmt.Errorf("%+v", now)
		}
		return nil
	})
	all[0].Stop()
	testbed.Eventually(t, "it is done", func() error {
		if now := call(all[1], "GET", fmt.Sprint("/", w.ID), "", 200); now.State != "done" || now.Made+now.Kept != 72 || now.LeftOut != 0 {
			return fmt.Errorf("%+v", now)
		}
		return nil
	})
	for i := range 12 {
		for _, accept := range []string{"image/webp,*/*", "*/*"} {
			a := all[1].get(fmt.Sprintf("/kestrel/f/kite-%02d.png?width=60", i), "Accept", accept)
			if s := a.Header.Get("Cache-Status"); !strings.Contains(s, "hit") || strings.Contains(a.Header.Get("Cache-Control"), "max-age=5,") {
				t.Fatalf("for %s: %s, %s", accept, s, a.Header.Get("Cache-Control"))
			}
		}
	}
	// By addresses; what can't be made is told of; it can be paused, go on, and be stopped.
	w = call(all[1], "POST", "", `{"addresses":["/kestrel/f/kite-01.png?width=44","/kestrel/f/kite-01.png?width=45&format=webp","/kestrel/f/broken.png?width=9","/kestrel/f/none.png?width=9"],"formats":["webp"]}`, 202)
	testbed.Eventually(t, "it is done", func() error {
		if now := call(all[1], "GET", fmt.Sprint("/", w.ID), "", 200); now.State != "done" || now.Made != 2 || now.LeftOut != 2 || len(now.Troubles) != 2 {
			return fmt.Errorf("%+v", now)
		}
		return nil
	})
	w = call(all[1], "POST", "", `{"lane":"f","below":"kite-","widths":[101,102,103,104,105,106,107,108,109,110]}`, 202)
	if now := call(all[1], "PUT", fmt.Sprint("/", w.ID), `{"state":"paused"}`, 200); now.State != "paused" {
		t.Errorf("%+v", now)
	}
	time.Sleep(500 * time.Millisecond)
	before := call(all[1], "GET", fmt.Sprint("/", w.ID), "", 200)
	time.Sleep(300 * time.Millisecond)
	if after := call(all[1], "GET", fmt.Sprint("/", w.ID), "", 200); after.Made != before.Made || after.Made == after.Variants {
		t.Errorf("while it is paused, %d become %d", before.Made, after.Made)
	}
	call(all[1], "PUT", fmt.Sprint("/", w.ID), `{"state":"running"}`, 200)
	testbed.Eventually(t, "it goes on", func() error {
		if now := call(all[1], "GET", fmt.Sprint("/", w.ID), "", 200); now.Made == before.Made {
			return fmt.Errorf("%+v", now)
		}
		return nil
	})
	call(all[1], "PUT", fmt.Sprint("/", w.ID), `{"state":"stopped"}`, 200)
	for _, c := range []struct {
		method, path, body string
		status             int
	}{
		{"PUT", fmt.Sprint("/", w.ID), `{"state":"running"}`, 400}, {"PUT", "/999", `{"state":"running"}`, 404}, {"PUT", "/x", `{"state":"running"}`, 404},
		{"POST", "", `{}`, 400}, {"POST", "", `{"lane":"f"}`, 400}, {"POST", "", `{"lane":"none","widths":[9]}`, 404}, {"POST", "", `{"lane":"f","widths":[0]}`, 400},
		{"POST", "", `{"lane":"f","widths":[9],"formats":["bmp"]}`, 400}, {"POST", "", `{"addresses":["/other/f/x.png"]}`, 400}, {"POST", "", `{"lane":"f","widths":[9],"declarations":"colour=red"}`, 400},
	} {
		call(all[1], c.method, c.path, c.body, c.status)
	}
}
