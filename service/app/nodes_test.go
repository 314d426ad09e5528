package app

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
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
	t.Parallel()
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
	turned := make([]bool, len(all))
	testbed.Eventually(t, "all have turned", func() (err error) {
		for i, r := range all {
			switch a := r.get(path); {
			case !provisional(a) && a.Header.Get("ETag") == kept:
				turned[i] = true
			case turned[i]:
				t.Fatalf("node %d answers %s, %s after it had %s", i, a.Header.Get("ETag"), a.Header.Get("Cache-Control"), kept)
			default:
				err = fmt.Errorf("node %d answers %s, %s", i, a.Header.Get("ETag"), a.Header.Get("Cache-Control"))
			}
		}
		return err
	})
	for range 5 {
		for i, r := range all {
			if a := r.get(path); provisional(a) || a.Header.Get("ETag") != kept {
				t.Errorf("node %d answers %s, %s after all had %s", i, a.Header.Get("ETag"), a.Header.Get("Cache-Control"), kept)
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
	t.Parallel()
	dir := t.TempDir()
	const path = "/kestrel/f/kite.png?width=800&format=avif" // whose search takes its time
	const provisional = "public, max-age=5"
	for _, place := range []shared.Place{{}, folderStore(t)} {
		r := start(t, func(o *Options) { o.CacheDir, o.SearchAtOnce, o.Store = dir, false, place }, nil)
		r.put("kite.png", picture(t, 900, 700))
		first := r.get(path)
		if first.Header.Get("Cache-Control") != provisional {
			t.Errorf("the first answer is kept: %s", first.Header)
		}
		testbed.Eventually(t, "it is written", func() error {
			if s := r.cache.Stats(); s.DiskFiles == 0 || r.shared.Waiting() > 0 {
				return fmt.Errorf("%+v", s)
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
		got := again.get(path)
		if s := got.Header.Get("Cache-Status"); !strings.Contains(s, "hit; detail=") || !bytes.Equal(got.body, first.body) {
			t.Errorf("after a restart: %s", s)
		}
		testbed.Eventually(t, "it is searched for", func() error {
			if a := again.get(path); a.StatusCode != 200 || a.Header.Get("Cache-Control") == provisional { // what is found may be what was predicted
				return fmt.Errorf("%s", a.Header)
			}
			return nil
		})
		dir = t.TempDir()
	}
}
