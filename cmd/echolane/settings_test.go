package main

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/internal/testbed"
)

func TestASiteAsAFile(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	dir := t.TempDir()
	file := filepath.Join(dir, "kestrel.toml")
	first := bed.Must(t, s, "export", "kestrel")
	if err := os.WriteFile(file, []byte(first), 0o644); err != nil {
		t.Fatal(err)
	}
	if out := bed.Must(t, s, "apply", file); !strings.Contains(out, "nothing changes") {
		t.Errorf("applying what was exported: %s", out)
	}
	if again := bed.Must(t, s, "export", "kestrel"); again != first {
		t.Errorf("exported again it differs:\n%s", again)
	}
	changed := strings.Replace(first, "rungs = []", "rungs = [320, 640]", 1)
	if err := os.WriteFile(file, []byte(changed), 0o644); err != nil {
		t.Fatal(err)
	}
	if out := bed.Must(t, s, "apply", file, "--dry-run"); !strings.Contains(out, "would change") || !strings.Contains(out, "ladder.rungs: none → 320,640") {
		t.Errorf("dry run: %s", out)
	}
	if again := bed.Must(t, s, "export", "kestrel"); again != first {
		t.Error("a dry run changes something")
	}
	if out := bed.Must(t, s, "apply", file); !strings.Contains(out, "kestrel: changed") {
		t.Errorf("apply: %s", out)
	}
	if again := bed.Must(t, s, "export", "kestrel"); again != changed {
		t.Errorf("applied and exported it differs:\n%s", again)
	}
	// Another site, from nothing but a file.
	other := filepath.Join(dir, "archive.toml")
	if err := os.WriteFile(other, []byte("site = 'archive'\nformats = ['jpeg']\n"), 0o644); err != nil {
		t.Fatal(err)
	}
	if out := bed.Must(t, s, "apply", other); !strings.Contains(out, "archive: added") {
		t.Errorf("apply: %s", out)
	}
	for _, c := range []struct{ file, says string }{
		{"site = 'kestrel'\nformts = ['webp']\n", "line 2, column 1: formts: there is no setting \"formts\" here; did you mean formats?"},
		{"site = 'kestrel'\n[limits]\nwidth = 'wide'\n", "line 3, column 9"},
		{"site = 'kestrel'\n[signing]\nunsigned = 'ladder'\n", "line 3, column 1: signing.unsigned"},
		{"site = ", "line 1"},
	} {
		if err := os.WriteFile(other, []byte(c.file), 0o644); err != nil {
			t.Fatal(err)
		}
		if r := bed.Run(t, s, "apply", other); r.Code != 1 || !strings.Contains(r.Err, c.says) || !strings.Contains(r.Err, "nothing was changed") {
			t.Errorf("%q: %d %s, want %q", c.file, r.Code, r.Err, c.says)
		}
	}
}

func TestEveryChangeIsKeptAndCanBeTakenBack(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "site", "set", "kestrel", "--limit", "width=500")
	if no := s.Get(t, "/kestrel/catalogue/delta-red.jpg?width=600").Problem(t); no.Reason != "variant-too-large" {
		t.Errorf("%+v", no)
	}
	out := bed.Must(t, s, "site", "history", "kestrel")
	for _, want := range []string{"added", "added lane catalogue", "limits.width: 8192 → 500", "the service's own token"} {
		if !strings.Contains(out, want) {
			t.Errorf("the history doesn't say %q:\n%s", want, out)
		}
	}
	if out := bed.Must(t, s, "site", "restore", "kestrel", "2", "--dry-run"); !strings.Contains(out, "500 → 8192") {
		t.Errorf("restore --dry-run: %s", out)
	}
	bed.Must(t, s, "site", "restore", "kestrel", "2")
	if a := s.Get(t, "/kestrel/catalogue/delta-red.jpg?width=600"); a.StatusCode != 200 {
		t.Errorf("restored: %d", a.StatusCode)
	}
	if r := bed.Run(t, s, "site", "restore", "kestrel", "99"); r.Code != 1 || !strings.Contains(r.Err, "no-such-thing") {
		t.Errorf("a version that isn't there: %d %s", r.Code, r.Err)
	}
	if r := bed.Run(t, s, "site", "remove", "kestrel"); r.Code != 2 || !strings.Contains(r.Err, "1 lanes") {
		t.Errorf("removing without being sure: %d %s", r.Code, r.Err)
	}
	bed.Must(t, s, "site", "remove", "kestrel", "--yes")
	if a := s.Get(t, "/kestrel/catalogue/mark.png"); a.StatusCode != 404 {
		t.Errorf("removed: %d", a.StatusCode)
	}
	if out := bed.Must(t, s, "site", "history", "kestrel"); !strings.Contains(out, "removed") {
		t.Errorf("the history of a removed site:\n%s", out)
	}
}

// A change through one process is in force in the other within a second, under load, with no request failing
// and none seeing half of it: the lane's folder and the site's format change together, and every answer is
// wholly of one state or the other.
func TestAChangeIsInForceEverywhereWithinASecond(t *testing.T) {
	t.Parallel()
	database := bed.Database(t)
	one, two := bed.ServeOn(t, database), bed.ServeOn(t, database)
	folders := [2]string{t.TempDir(), t.TempDir()}
	for i, file := range []string{"mark.png", "wind-chart.png"} { // 800 × 800, and another shape
		data, err := os.ReadFile(filepath.Join(bed.Pictures, file))
		if err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(filepath.Join(folders[i], "a.png"), data, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	bed.Must(t, one, "site", "add", "kestrel", "--formats", "png")
	bed.Must(t, one, "lane", "add", "kestrel/catalogue", "--folder", folders[0])
	states := [2]string{}
	files := [2]string{}
	for i, format := range []string{"png", "jpeg"} {
		files[i] = filepath.Join(t.TempDir(), "state.toml")
		text := bed.Must(t, one, "export", "kestrel")
		text = strings.Replace(text, "formats = ['png']", "formats = ['"+format+"']", 1)
		text = strings.Replace(text, folders[0], folders[i], 1)
		if err := os.WriteFile(files[i], []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
		bed.Must(t, one, "apply", files[i])
	}
	testbed.Eventually(t, "the other process has the second state", func() error {
		a := two.Get(t, "/kestrel/catalogue/a.png?width=64")
		if a.Header.Get("Content-Type") != "image/jpeg" {
			return errNotYet
		}
		return nil
	})
	state := func(a testbed.Answer) string { return a.Header.Get("Content-Type") + " " + a.Header.Get("ETag") }
	states[1] = state(two.Get(t, "/kestrel/catalogue/a.png?width=64"))
	bed.Must(t, one, "apply", files[0])
	testbed.Eventually(t, "the other process has the first state", func() error {
		if a := two.Get(t, "/kestrel/catalogue/a.png?width=64"); a.Header.Get("Content-Type") != "image/png" {
			return errNotYet
		}
		return nil
	})
	states[0] = state(two.Get(t, "/kestrel/catalogue/a.png?width=64"))
	if states[0] == states[1] {
		t.Fatalf("both states answer %s", states[0])
	}

	stop := make(chan struct{})
	var requests atomic.Int64
	var load sync.WaitGroup
	for range 4 {
		load.Go(func() {
			client := &http.Client{}
			for {
				select {
				case <-stop:
					return
				default:
				}
				r, err := client.Get(two.Base + "/kestrel/catalogue/a.png?width=64")
				if err != nil {
					t.Errorf("a request failed: %v", err)
					return
				}
				got := r.Header.Get("Content-Type") + " " + r.Header.Get("ETag")
				r.Body.Close()
				requests.Add(1)
				if r.StatusCode != 200 || got != states[0] && got != states[1] {
					t.Errorf("%d %s is neither %s nor %s", r.StatusCode, got, states[0], states[1])
					return
				}
			}
		})
	}
	for i := range 6 {
		want := states[(i+1)%2]
		bed.Must(t, one, "apply", files[(i+1)%2])
		changed := time.Now()
		for state(two.Get(t, "/kestrel/catalogue/a.png?width=64")) != want {
			if time.Since(changed) > time.Second {
				t.Errorf("change %d isn't in force in the other process after a second", i)
				break
			}
		}
	}
	close(stop)
	load.Wait()
	if requests.Load() < 200 {
		t.Errorf("only %d requests were made meanwhile", requests.Load())
	}
}

func TestSecretsAreSealedAndNeverShown(t *testing.T) {
	t.Parallel()
	database := bed.Database(t)
	s := bed.ServeOn(t, database)
	bed.Must(t, s, "site", "add", "kestrel")
	bed.Must(t, s, "lane", "add", "kestrel/archive", "--bucket", "kites", "--endpoint", "https://store.kestrel.test")
	bed.Must(t, s, "lane", "secret", "kestrel/archive", "--access-key", "AKITE", "--secret-key", "the-string-of-the-kite")
	key := strings.TrimSpace(bed.Must(t, s, "key", "add", "kestrel", "k1"))
	for _, args := range [][]string{{"site", "show", "kestrel", "--json"}, {"site", "history", "kestrel"}, {"export", "kestrel"}, {"lane", "list", "--json"}, {"lane", "show", "kestrel/archive"}, {"lane", "show", "kestrel/archive", "--json"}, {"key", "list", "kestrel", "--json"}} {
		if out := bed.Must(t, s, args...); strings.Contains(out, "the-string-of-the-kite") || strings.Contains(out, "AKITE") || strings.Contains(out, key) {
			t.Errorf("%v shows a secret:\n%s", args, out)
		}
	}
	shown := bed.Must(t, s, "lane", "show", "kestrel/archive")
	for _, want := range []string{"https://store.kestrel.test/kites", "credentials", "at most 67.11 MB"} {
		if !strings.Contains(shown, want) {
			t.Errorf("lane show doesn't say %q:\n%s", want, shown)
		}
	}
	if out := bed.Run(t, s, "lane", "show", "kestrel/archiv"); out.Code == 0 || !strings.Contains(out.Err, "it has archive") {
		t.Errorf("a lane that isn't there is shown: %+v", out)
	}
	if strings.Contains(s.Said(), "the-string-of-the-kite") {
		t.Error("a secret stands in the log")
	}
	ctx := context.Background()
	db, err := pgx.Connect(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	rows, err := db.Query(ctx, "SELECT name, sealed FROM secrets")
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	for rows.Next() {
		var name string
		var sealed []byte
		if err := rows.Scan(&name, &sealed); err != nil {
			t.Fatal(err)
		}
		n++
		if bytes.Contains(sealed, []byte("kite")) {
			t.Errorf("%s lies open in the database", name)
		}
	}
	if n != 2 {
		t.Errorf("%d secrets are kept", n)
	}
	// Without the key a service starts and serves what needs no secret, and says what is missing.
	bare := testbed.Start(t, bed.Binary, []string{"serve", "--listen", "127.0.0.1:0"}, []string{"ECHOLANE_DATABASE_URL=" + database, "ECHOLANE_TOKEN=" + testbed.Token})
	testbed.Eventually(t, "the service serves", func() error {
		if _, rest, ok := strings.Cut(bare.Said(), "msg=serving listen="); ok {
			bare.Base = "http://" + strings.Fields(rest)[0]
			return nil
		}
		return errNotYet
	})
	if no := bare.Get(t, "/kestrel/archive/a.jpg").Problem(t); no.Reason != "secret-missing" || !strings.Contains(no.Remedy, "ECHOLANE_SECRET_KEY") {
		t.Errorf("%+v", no)
	}
	if r := bed.Run(t, bare, "key", "add", "kestrel", "k2"); r.Code != 1 || !strings.Contains(r.Err, "ECHOLANE_SECRET_KEY") {
		t.Errorf("%d %s", r.Code, r.Err)
	}
}

func TestNodesCountAMonthTogether(t *testing.T) {
	t.Parallel()
	database := bed.Database(t)
	one, two := bed.ServeOn(t, database), bed.ServeOn(t, database)
	bed.Must(t, one, "site", "add", "kestrel", "--month", "renders=4")
	bed.Must(t, one, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	testbed.Eventually(t, "the other node has the lane", func() error {
		if a := two.Get(t, "/kestrel/catalogue/mark.png?width=10"); a.StatusCode != 200 {
			return fmt.Errorf("%d", a.StatusCode)
		}
		return nil
	})
	for w := 11; w < 14; w++ {
		if a := one.Get(t, fmt.Sprintf("/kestrel/catalogue/mark.png?width=%d", w)); a.StatusCode != 200 {
			t.Fatalf("width %d: %d %s", w, a.StatusCode, a.Data)
		}
	}
	for i, s := range []*testbed.Process{one, two} { // each made less than four itself
		w := 20
		testbed.Eventually(t, fmt.Sprintf("node %d knows that the month is used up", i), func() error {
			w++
			a := s.Get(t, fmt.Sprintf("/kestrel/catalogue/mark.png?width=%d", w))
			if a.StatusCode != 429 {
				if w > 40 {
					t.Fatalf("%d more were made", w-20)
				}
				time.Sleep(300 * time.Millisecond)
				return fmt.Errorf("%d", a.StatusCode)
			}
			if no := a.Problem(t); no.Reason != "month-used-up" || a.Header.Get("Retry-After") == "" {
				t.Errorf("%+v", no)
			}
			return nil
		})
		if a := s.Get(t, "/kestrel/catalogue/mark.png?width=10"); i == 1 && a.StatusCode != 200 {
			t.Errorf("what is made already goes on being served: %d", a.StatusCode)
		}
	}
	if out := bed.Must(t, one, "usage", "kestrel"); !strings.Contains(out, "renders") {
		t.Errorf("usage: %s", out)
	}
}
