package app

import (
	"context"
	"encoding/json"
	"fmt"
	"testing"
	"time"

	"echolane/internal/testbed"
	"echolane/service/api"
	"echolane/service/records"
)

func TestTodayTellsWhatWasAnswered(t *testing.T) {
	r := start(t, func(o *Options) { o.CacheDir = t.TempDir() }, nil)
	r.put("kite.png", picture(t, 120, 80))
	const path = "/kestrel/f/kite.png?width=60&format=webp"
	first := r.get(path)
	for range 9 {
		r.get(path)
	}
	r.get(path, "If-None-Match", first.Header.Get("ETag"))
	r.get("/kestrel/f/none.png?width=9")
	if err := r.recorder.FlushTraffic(context.Background()); err != nil {
		t.Fatal(err)
	}
	if err := r.recorder.FlushTraffic(context.Background()); err != nil { // adds nothing
		t.Fatal(err)
	}
	for _, query := range []string{"", "?site=kestrel", "?span=day", "?site=kestrel&span=month"} {
		var got api.Today
		testbed.Eventually(t, "a node says how it is", func() error {
			got = api.Today{}
			a := r.get("/-/api/v1/today"+query, "Authorization", "Bearer "+token)
			if err := json.Unmarshal(a.body, &got); err != nil || len(got.Nodes) != 1 {
				return fmt.Errorf("%s", a.body)
			}
			return nil
		})
		sums := map[string]records.TrafficPoint{}
		for _, p := range got.Points {
			s := sums[p.Kind]
			s.Requests, s.Bytes, s.Unscaled = s.Requests+p.Requests, s.Bytes+p.Bytes, s.Unscaled+p.Unscaled
			sums[p.Kind] = s
			if p.At.Before(got.From) || p.At.Sub(got.From)%(time.Duration(got.StepS)*time.Second) != 0 {
				t.Errorf("%s: a point at %s of steps from %s", query, p.At, got.From)
			}
		}
		size, whole := int64(len(first.body)), int64(len(picture(t, 120, 80)))
		if m := sums["memory"]; m.Requests != 10 || m.Bytes != 9*size || m.Unscaled != 9*whole {
			t.Errorf("%s: from memory %+v, want 10 answers with %d bytes instead of %d", query, m, 9*size, 9*whole)
		}
		if m := sums["made"]; m.Requests != 1 || m.Bytes != size || sums["refused"].Requests != 1 || len(sums) != 3 {
			t.Errorf("%s: %+v", query, sums)
		}
		if h, m := got.Hits, got.Misses; h.P50 <= 0 || h.P50 > h.P95 || h.P95 > h.P99 || h.P50 > m.P50 || m.P50 > 5 {
			t.Errorf("%s: hits %+v, misses %+v", query, h, m)
		}
		if n := got.Nodes[0]; n.Workers != 2 || n.Listen != r.Addr() || n.DiskLimit == 0 || n.Disk != "" {
			t.Errorf("%+v", n)
		}
	}
	for _, query := range []string{"?span=year", "?site=none"} {
		if a := r.get("/-/api/v1/today"+query, "Authorization", "Bearer "+token); query == "?span=year" && a.StatusCode != 400 {
			t.Errorf("%s: %d", query, a.StatusCode)
		}
	}
	if a := r.get("/-/api/v1/today"); a.StatusCode != 401 && a.StatusCode != 403 {
		t.Errorf("a stranger: %d", a.StatusCode)
	}
}
