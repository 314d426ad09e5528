package main

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/internal/testbed"
	"echolane/service/cache"
	"echolane/service/cache/entry"
)

// zipf asks for a million variants as people ask for pictures, and counts what memory for one in a hundred answers.
func zipf(r *report) error {
	const (
		variants = 1_000_000
		asked    = 4_000_000
		size     = 8 << 10
		weight   = size + 512 // what an entry is taken to weigh
	)
	most := int64(variants / 100 * weight)
	c, err := cache.New(cache.Options{MemoryBytes: most})
	if err != nil {
		return err
	}
	defer c.Close()
	body := make([]byte, size)
	keys := make([]string, variants)
	for i := range keys {
		keys[i] = entry.Key(fmt.Sprint(i))
	}
	// Zipf with an exponent below 1, which rand.Zipf doesn't have: by the inverse of its sums.
	const exponent = 0.9
	sums := make([]float64, variants)
	sum := 0.0
	for i := range sums {
		sum += 1 / math.Pow(float64(i+1), exponent)
		sums[i] = sum
	}
	random := rand.New(rand.NewPCG(1, 2))
	trace := make([]int32, asked)
	for i := range trace {
		at, _ := slices.BinarySearch(sums, random.Float64()*sum)
		trace[i] = int32(min(at, variants-1))
	}
	hits, warm := 0, asked/4
	var peak int64
	for i, n := range trace {
		_, where, err := c.Get(context.Background(), cache.Ask{Key: keys[n]}, func(context.Context) (*cache.Variant, func(), error) {
			return &cache.Variant{Body: body}, nil, nil
		})
		if err != nil {
			return err
		}
		if i >= warm && where == cache.Memory {
			hits++
		}
		if i%10_000 == 0 {
			peak = max(peak, c.Stats().MemoryBytes)
		}
	}
	// What is asked for most often, known beforehand, and kept from the start to the end.
	counts := make([]int32, variants)
	for _, n := range trace[warm:] {
		counts[n]++
	}
	slices.SortFunc(counts, func(a, b int32) int { return int(b - a) })
	best := 0
	for _, n := range counts[:variants/100] {
		best += int(n)
	}
	ours, ideal := 100*float64(hits)/float64(asked-warm), 100*float64(best)/float64(asked-warm)
	r.say("%d variants asked for %d times with exponent %g, memory for %d", variants, asked, exponent, variants/100)
	r.say("%-62s %7.2f%%", "answered from memory", ours)
	r.say("%-62s %7.2f%%", "by whoever knew the most frequent, and kept them throughout", ideal)
	r.atMost("points below that", ideal-ours, "", 2)
	r.atMost("memory against its bound", float64(peak)/float64(most), "×", 1.1)
	return nil
}

// started starts a node whose disk cache has a hundred thousand files, and asks it for one of them and for one that it has to make.
func started(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		const files = 100_000
		url, dir := bed.Database(t), filepath.Join(bed.Dir, "full")
		s := bed.ServeOn(t, url, "--cache-dir", dir)
		bed.Must(t, s, "site", "add", "kestrel", "--formats", "webp,jpeg")
		bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
		const kept, fresh = "/kestrel/catalogue/delta-red.jpg?width=320", "/kestrel/catalogue/delta-red.jpg?width=330"
		if _, _, err := get(s.Base + kept); err != nil {
			return err
		}
		settled(s, t)
		s.Stop()
		for i := range files {
			key := entry.Key("file", fmt.Sprint(i))
			whole, err := entry.Make([]byte("{}"), []byte(key))
			if err != nil {
				return err
			}
			sub := filepath.Join(dir, key[:2])
			if err := errors.Join(os.MkdirAll(sub, 0o700), write(sub, key, whole)); err != nil {
				return err
			}
		}
		var times []float64
		for range 5 {
			begun := time.Now()
			s = bed.ServeOn(t, url, "--cache-dir", dir)
			answer, _, err := get(s.Base + kept)
			if err != nil {
				return err
			}
			times = append(times, time.Since(begun).Seconds())
			if from := answer.Header.Get("Cache-Status"); !strings.Contains(from, "detail=disk") {
				return fmt.Errorf("what was kept is answered with %q", from)
			}
			if _, _, err := get(s.Base + fresh); err != nil {
				return err
			}
			s.Stop()
		}
		r.atMost(fmt.Sprintf("from its start to a picture from its disk, beside %d files", files), median(times), "s", 1)
		return nil
	})
}

// stocked asks for the stock of a million variants, and purges a lane of them.
func stocked(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		url := bed.Database(t)
		s := bed.ServeOn(t, url)
		bed.Must(t, s, "site", "add", "kestrel")
		bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
		conn, err := pgx.Connect(context.Background(), url)
		if err != nil {
			return err
		}
		defer conn.Close(context.Background())
		const rows = 1_000_000
		if _, err := conn.Exec(context.Background(), `INSERT INTO made_variants (site, lane, path, key, declarations, format, width, height, bytes, source_digest, source_bytes, render_ms, asked)
			SELECT 'kestrel', CASE WHEN i % 10 = 0 THEN 'other' ELSE 'catalogue' END, 'p' || i / 20 || '.jpg', substr(md5(i::text) || md5('x' || i), 1, 24), 'width=' || i % 20, CASE i % 3 WHEN 0 THEN 'avif' WHEN 1 THEN 'webp' ELSE 'jpeg' END,
				100 + i % 1000, 100, 1000 + i % 50000, 'd', 3000000, 20, i % 7 FROM generate_series(1, $1::int) i`, rows); err != nil {
			return err
		}
		if _, err := conn.Exec(context.Background(), `VACUUM ANALYZE made_variants`); err != nil {
			return err
		}
		call := func(method, path, body string) ([]byte, time.Duration, error) {
			begun := time.Now()
			a := s.Ask(t, method, "/-/api/v1/sites/kestrel/"+path, strings.NewReader(body))
			if a.StatusCode != 200 {
				return nil, 0, fmt.Errorf("%s %s: %d %s", method, path, a.StatusCode, a.Data)
			}
			return a.Data, time.Since(begun), nil
		}
		for _, what := range []string{"stock?by=lane", "stock?by=format", "stock?by=source&count=20", "variants?order=largest&count=20", "variants?order=coldest&count=20", "variants?order=most-asked&count=20"} {
			var times []float64
			for range 3 {
				_, took, err := call("GET", what, "")
				if err != nil {
					return err
				}
				times = append(times, took.Seconds())
			}
			r.atMost(what+" of a million", median(times), "s", 1)
		}
		begun := time.Now()
		data, took, err := call("POST", "purges", `{"lane":"catalogue"}`)
		if err != nil {
			return err
		}
		r.say("%-62s %7.2fs", "purge of a lane with nine tenths of them: in force after", took.Seconds())
		var p struct{ Variants int64 }
		json.Unmarshal(data, &p)
		if p.Variants != rows*9/10 {
			return fmt.Errorf("it purged %d", p.Variants)
		}
		for left := int64(1); left > 0; time.Sleep(20 * time.Millisecond) {
			if err := conn.QueryRow(context.Background(), `SELECT count(*) FROM purges WHERE done_at IS NULL`).Scan(&left); err != nil {
				return err
			}
			if time.Since(begun) > time.Minute {
				return errors.New("it isn't cleared away in a minute")
			}
		}
		r.atMost("and all cleared away after", time.Since(begun).Seconds(), "s", 5)
		return nil
	})
}

// killed ends two nodes on one store at random under writes, and reads everything back.
func killed(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		const times, widths = 50, 400
		store := filepath.Join(bed.Dir, "store")
		database := bed.Database(t)
		dirs := []string{filepath.Join(bed.Dir, "one"), filepath.Join(bed.Dir, "two")}
		begin := func(i int) *testbed.Process {
			return bed.ServeOn(t, database, "--cache-dir", dirs[i], "--store", store, "--memory-cache", "1MiB", "--workers", "1")
		}
		nodes := []*testbed.Process{begin(0), begin(1)}
		bed.Must(t, nodes[0], "site", "add", "kestrel", "--formats", "webp,jpeg,png")
		bed.Must(t, nodes[0], "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
		var mu sync.Mutex
		got := map[string][]byte{} // what each address was answered with
		wrong, answered := 0, 0
		var bases atomic.Pointer[[2]string]
		bases.Store(&[2]string{nodes[0].Base, nodes[1].Base})
		stop := make(chan struct{})
		var all sync.WaitGroup
		ask := func(base, path string) ([]byte, error) {
			c := http.Client{Timeout: 20 * time.Second}
			a, err := c.Get(base + path)
			if err != nil {
				return nil, err
			}
			defer a.Body.Close()
			body, err := io.ReadAll(a.Body)
			if err == nil && a.StatusCode != 200 {
				err = errors.New(a.Status)
			}
			return body, err
		}
		for k := range 6 {
			all.Go(func() {
				random := rand.New(rand.NewPCG(uint64(k), 9))
				for {
					select {
					case <-stop:
						return
					default:
					}
					path := fmt.Sprintf("/kestrel/catalogue/mark.png?width=%d&format=webp", 20+random.IntN(widths))
					body, err := ask(bases.Load()[random.IntN(2)], path)
					if err != nil { // the node was killed
						time.Sleep(20 * time.Millisecond)
						continue
					}
					mu.Lock()
					answered++
					if before, known := got[path]; known && !bytes.Equal(before, body) {
						wrong++
					}
					got[path] = body
					mu.Unlock()
				}
			})
		}
		for i := range times {
			time.Sleep(time.Duration(100+rand.IntN(400)) * time.Millisecond)
			n := i % 2
			nodes[n].Cmd.Process.Kill()
			<-nodes[n].Ended()
			nodes[n] = begin(n)
			next := *bases.Load()
			next[n] = nodes[n].Base
			bases.Store(&next)
		}
		close(stop)
		all.Wait()
		torn := 0
		for _, dir := range append(dirs, store) {
			filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
				if err != nil || e.IsDir() || len(e.Name()) != 24 {
					return nil
				}
				data, err := os.ReadFile(path)
				if err != nil {
					return nil
				}
				if _, _, err := entry.Parse(data); err != nil {
					torn++
				}
				return nil
			})
		}
		// What the records say is kept lies in the store.
		time.Sleep(time.Second)
		conn, err := pgx.Connect(context.Background(), database)
		if err != nil {
			return err
		}
		defer conn.Close(context.Background())
		rows, err := conn.Query(context.Background(), `SELECT key FROM made_variants`)
		if err != nil {
			return err
		}
		keys, err := pgx.CollectRows(rows, pgx.RowTo[string])
		if err != nil {
			return err
		}
		lost := 0
		for _, key := range keys {
			if _, err := os.Stat(filepath.Join(store, "variants", key[:2], key)); err != nil {
				lost++
			}
		}
		different := 0
		for path, want := range got {
			for _, base := range bases.Load() {
				if body, err := ask(base, path); err != nil || !bytes.Equal(body, want) {
					different++
				}
			}
		}
		r.say("%d answers of %d variants by two nodes, each killed %d times", answered, len(got), times/2)
		r.atMost("torn files", float64(torn), "", 0)
		r.atMost("wrong answers, then and when all is read back", float64(wrong+different), "", 0)
		r.atMost(fmt.Sprintf("lost, of %d that the records say are kept", len(keys)), float64(lost), "", 0)
		return nil
	})
}
