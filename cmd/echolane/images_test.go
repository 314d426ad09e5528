package main

import (
	"bytes"
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/core/render"
	"echolane/internal/testbed"
)

const browserAccept = "image/avif,image/webp,image/apng,image/svg+xml,image/*,*/*;q=0.8"

func TestEveryPictureOfTheCatalogueIsDelivered(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	files, err := os.ReadDir(bed.Pictures)
	if err != nil {
		t.Fatal(err)
	}
	seen := 0
	for _, f := range files {
		if strings.HasPrefix(f.Name(), ".") {
			continue
		}
		seen++
		for _, c := range []struct{ accept, photo, others, moving string }{ // of drawings it depends on the drawing which is smallest
			{browserAccept, "image/avif", "image/avif image/webp image/png", "image/avif"},
			{"image/webp,*/*", "image/webp", "image/webp image/png", "image/webp"},
			{"image/png,image/*;q=0.5", "image/jpeg", "image/jpeg image/png", "image/gif"},
		} {
			a := s.Get(t, "/kestrel/catalogue/"+f.Name()+"?width=120&aspect-ratio=3/2", "Accept", c.accept)
			want := a.Header.Get("Content-Type")
			switch {
			case f.Name() == "launch.gif":
				want = c.moving
			case f.Name() == "mark.png" && (want == "image/jpeg" || want == "image/avif"):
				want = "one that shows transparency"
			case f.Name() == "delta-red.jpg":
				want = c.photo
			case !slices.Contains(strings.Fields(c.others), want):
				want = c.others
			}
			if a.StatusCode != 200 || a.Header.Get("Content-Type") != want {
				t.Errorf("%s for %q: %d %s, want 200 %s; %.200s", f.Name(), c.accept, a.StatusCode, a.Header.Get("Content-Type"), want, a.Data)
				continue
			}
			info, err := render.Probe(a.Data)
			if err != nil || info.W != 120 || info.H != 80 || info.Type != want {
				t.Errorf("%s: %+v, %v; want 120×80 %s", f.Name(), info, err, want)
			}
			source, _ := f.Info()
			if int64(len(a.Data)) > source.Size() {
				t.Errorf("%s: %d bytes of %d", f.Name(), len(a.Data), source.Size())
			}
		}
	}
	if seen < 14 {
		t.Errorf("the catalogue has %d pictures, want at least 14", seen)
	}
}

func TestHeadersSayWhatHappened(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	const path = "/kestrel/catalogue/sled-blue.jpg?WIDTH=200px&quality=80"
	first := s.Get(t, path, "Accept", browserAccept)
	if got := first.Header.Get("Cache-Status"); got != "Echo-Lane; fwd=miss; stored" {
		t.Errorf("Cache-Status of the first answer: %q", got)
	}
	for _, stage := range []string{"source;dur=", "decode;dur=", "resample;dur=", "encode;dur=", "total;dur="} {
		if !strings.Contains(first.Header.Get("Server-Timing"), stage) {
			t.Errorf("Server-Timing %q lacks %s", first.Header.Get("Server-Timing"), stage)
		}
	}
	second := s.Get(t, path, "Accept", browserAccept)
	for name, want := range map[string]string{
		"Cache-Status": "Echo-Lane; hit; detail=memory", "Server-Timing": `cache;desc="memory"`, "Vary": "Accept",
		"Content-Location": "/kestrel/catalogue/sled-blue.jpg?width=200&quality=80", "X-Content-Type-Options": "nosniff",
		"Cache-Control": "public, max-age=3600, stale-while-revalidate=86400", "Content-Type": "image/avif", "Content-Length": fmt.Sprint(len(first.Data)),
	} {
		if got := second.Header.Get(name); got != want {
			t.Errorf("%s: %q, want %q", name, got, want)
		}
	}
	if !bytes.Equal(first.Data, second.Data) || first.Header.Get("ETag") != second.Header.Get("ETag") {
		t.Error("the second answer isn't the first")
	}
	if v := s.Get(t, "/kestrel/catalogue/sled-blue.jpg?width=200&format=webp").Header.Get("Vary"); v != "" {
		t.Errorf("Vary: %q where nothing was negotiated", v)
	}

	// Another spelling is the same variant.
	other := s.Get(t, "/kestrel/catalogue/sled-blue.jpg?quality=80&object-fit=COVER&width=200", "Accept", browserAccept)
	if got := other.Header.Get("Cache-Status"); got != "Echo-Lane; hit; detail=memory" {
		t.Errorf("another spelling: Cache-Status %q", got)
	}
}

func TestConditionalRequestsAndHead(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	const path = "/kestrel/catalogue/wind-chart.png?width=100"
	whole := s.Get(t, path)
	tag := whole.Header.Get("ETag")
	for _, field := range []string{tag, "W/" + tag, `"other", ` + tag, "*"} {
		a := s.Get(t, path, "If-None-Match", field)
		if a.StatusCode != 304 || len(a.Data) != 0 || a.Header.Get("ETag") != tag || a.Header.Get("Cache-Control") == "" || a.Header.Get("Vary") == "" {
			t.Errorf("If-None-Match %s: %d with %d bytes, headers %v", field, a.StatusCode, len(a.Data), a.Header)
		}
	}
	if a := s.Get(t, path, "If-None-Match", `"other"`); a.StatusCode != 200 {
		t.Errorf("another tag: %d", a.StatusCode)
	}
	head := s.Ask(t, "HEAD", path, nil)
	if head.StatusCode != 200 || len(head.Data) != 0 || head.Header.Get("Content-Length") != fmt.Sprint(len(whole.Data)) || head.Header.Get("ETag") != tag {
		t.Errorf("HEAD: %d, %v", head.StatusCode, head.Header)
	}
}

func TestEqualRequestsAtOnceAreMadeOnce(t *testing.T) {
	s := bed.Kestrel(t)
	var all sync.WaitGroup
	answers := make([]testbed.Answer, 24)
	for i := range answers {
		all.Go(func() { answers[i] = s.Get(t, "/kestrel/catalogue/delta-red.jpg?width=777", "Accept", browserAccept) })
	}
	all.Wait()
	made := 0
	for _, a := range answers {
		if a.StatusCode != 200 || !bytes.Equal(a.Data, answers[0].Data) {
			t.Fatalf("%d, %d bytes; the first had %d", a.StatusCode, len(a.Data), len(answers[0].Data))
		}
		if a.Header.Get("Cache-Status") == "Echo-Lane; fwd=miss; stored" {
			made++
		}
	}
	if made != 1 {
		t.Errorf("made %d times, want once", made)
	}
	metrics := string(s.Get(t, "/-/metrics").Data)
	if !strings.Contains(metrics, `echolane_answers_total{from="made"} 1`) {
		t.Error("the metrics don't count one variant made")
	}
}

func TestVariantsOutliveARestartOnDisk(t *testing.T) {
	t.Parallel()
	cache, database := t.TempDir(), bed.Database(t)
	s := bed.ServeOn(t, database, "--cache-dir", cache)
	bed.Must(t, s, "site", "add", "kestrel")
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	const path = "/kestrel/catalogue/mark.png?width=64"
	first := s.Get(t, path)
	s.Stop()
	s = bed.ServeOn(t, database, "--cache-dir", cache)
	again := s.Get(t, path)
	if got := again.Header.Get("Cache-Status"); got != "Echo-Lane; hit; detail=disk" || !bytes.Equal(first.Data, again.Data) {
		t.Errorf("after a restart: Cache-Status %q, %d bytes of %d", got, len(again.Data), len(first.Data))
	}
	s.Stop()

	// A file that was damaged meanwhile is made again, not delivered.
	err := filepath.WalkDir(cache, func(p string, d os.DirEntry, err error) error {
		if err != nil || d.IsDir() {
			return err
		}
		data, err := os.ReadFile(p)
		if err != nil {
			return err
		}
		data[len(data)-3] ^= 1
		return os.WriteFile(p, data, 0o600)
	})
	if err != nil {
		t.Fatal(err)
	}
	s = bed.ServeOn(t, database, "--cache-dir", cache)
	mended := s.Get(t, path)
	if got := mended.Header.Get("Cache-Status"); got != "Echo-Lane; fwd=miss; stored" || !bytes.Equal(first.Data, mended.Data) {
		t.Errorf("after damage: Cache-Status %q, same bytes: %v", got, bytes.Equal(first.Data, mended.Data))
	}
}

func TestAChangedSourceIsNeverAnsweredWithTheOldPicture(t *testing.T) {
	t.Parallel()
	folder := t.TempDir()
	put := func(from string) {
		data, err := os.ReadFile(filepath.Join(bed.Pictures, from))
		if err != nil {
			t.Fatal(err)
		}
		next := filepath.Join(folder, ".next")
		if err := os.WriteFile(next, data, 0o644); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(next, filepath.Join(folder, "today.png")); err != nil {
			t.Fatal(err)
		}
	}
	put("mark.png")
	s := bed.Serve(t)
	bed.Must(t, s, "site", "add", "kestrel")
	bed.Must(t, s, "lane", "add", "kestrel/today", "--folder", folder)
	before := s.Get(t, "/kestrel/today/today.png?width=80")
	put("wind-chart.png")
	testbed.Eventually(t, "the new picture is delivered", func() error {
		if after := s.Get(t, "/kestrel/today/today.png?width=80"); after.StatusCode != 200 || after.Header.Get("ETag") == before.Header.Get("ETag") {
			return fmt.Errorf("%d, still %s", after.StatusCode, after.Header.Get("ETag"))
		}
		return nil
	})
}

func TestVariantsAreRecorded(t *testing.T) {
	t.Parallel()
	database := bed.Database(t)
	s := bed.ServeOn(t, database)
	bed.Must(t, s, "site", "add", "kestrel")
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	a := s.Get(t, "/kestrel/catalogue/mark.png?width=90", "Accept", browserAccept)
	ctx := context.Background()
	db, err := pgx.Connect(ctx, database)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close(ctx)
	testbed.Eventually(t, "the variant is recorded", func() error {
		var declarations, format string
		var width, size int
		err := db.QueryRow(ctx, "SELECT declarations, format, width, bytes FROM made_variants WHERE site = 'kestrel' AND lane = 'catalogue' AND path = 'mark.png'").Scan(&declarations, &format, &width, &size)
		if err == nil && (declarations != "width=90&object-fit=cover&quality=72&format=avif,webp,jpeg,png,gif,own" || format != "webp" || width != 90 || size != len(a.Data)) {
			t.Fatalf("recorded %s %s %d %d", declarations, format, width, size)
		}
		return err
	})
}

func TestSettingsReachEveryNodeAtOnce(t *testing.T) {
	t.Parallel()
	database := bed.Database(t)
	one, two := bed.ServeOn(t, database), bed.ServeOn(t, database)
	bed.Must(t, one, "site", "add", "kestrel")
	bed.Must(t, one, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	if a := one.Get(t, "/kestrel/catalogue/mark.png?width=20"); a.StatusCode != 200 {
		t.Errorf("the node that was told: %d", a.StatusCode)
	}
	start := time.Now()
	testbed.Eventually(t, "the other node delivers too", func() error {
		if a := two.Get(t, "/kestrel/catalogue/mark.png?width=20"); a.StatusCode != 200 {
			return fmt.Errorf("%d", a.StatusCode)
		}
		return nil
	})
	t.Logf("in force on the other node after %v", time.Since(start))
}

func TestAbsoluteFormOfTheRequestTarget(t *testing.T) {
	t.Parallel()
	s := bed.KestrelWhole(t)
	host := strings.TrimPrefix(s.Base, "http://")
	c, err := net.Dial("tcp", host)
	if err != nil {
		t.Fatal(err)
	}
	defer c.Close()
	fmt.Fprintf(c, "GET http://%s/kestrel/catalogue/mark.png?width=10 HTTP/1.1\r\nHost: %s\r\nConnection: close\r\n\r\n", host, host)
	c.SetReadDeadline(time.Now().Add(20 * time.Second))
	answer := make([]byte, 64)
	if _, err := c.Read(answer); err != nil || !strings.HasPrefix(string(answer), "HTTP/1.1 200") {
		t.Errorf("%q, %v", answer, err)
	}
}
