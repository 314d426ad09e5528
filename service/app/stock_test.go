package app

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/internal/testbed"
	"echolane/service/cache/shared"
)

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
			if s := a.Header.Get("Cache-Status"); !strings.Contains(s, "hit") || a.Header.Get("Cache-Control") == "public, max-age=5" {
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
