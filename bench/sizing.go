package main

import (
	"bytes"
	"container/heap"
	"context"
	"fmt"
	"io"
	"log/slog"
	"math"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"echolane/core/policy"
	"echolane/internal/localstore"
	"echolane/internal/testbed"
	"echolane/service/panics"
	"echolane/service/records"
)

// costs are what one new variant costs, measured.
type costs struct {
	first, whole     float64 // processor seconds until it is answered, and with the search for its quality
	statements, rows float64 // of the database
	puts, gets       float64 // of the store
	bytes, entry     float64 // of a variant; as the store has it
	row              float64 // bytes that a kept variant takes in the database
	leases, writes   float64 // a second, that the database here manages: leases taken and given back; rows of variants
}

// sizing measures what a new variant costs a node, its database and its store, and works out what sites of several sizes need.
func sizing(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		c, err := measureCosts(r, bed, t)
		if err != nil {
			return err
		}
		r.say("")
		r.say("what a site needs: nodes of 8 processors, of which new variants have 7; a tenth of a second's wait for 99 in 100")
		r.say("%12s %8s %12s %14s %14s", "new/s", "nodes", "processors", "leases/s", "store puts/s")
		last := 0
		for _, rate := range []float64{10, 1000, 100_000} {
			n := nodesFor(rate, c)
			if n < last {
				return fmt.Errorf("%g a second need fewer nodes than less: %d", rate, n)
			}
			last = n
			r.say("%12.0f %8d %12.0f %14.0f %14.0f", rate, n, float64(n*8), rate, rate*c.puts)
		}
		r.say("%12s %14s %14s", "kept", "store", "database")
		for _, kept := range []float64{1e6, 1e7, 1e8, 1e9} {
			r.say("%12.0e %11.2f TB %11.1f GB", kept, kept*c.entry/1e12, kept*c.row/1e9)
		}
		r.say("one database like this one's (two processors, beside everything else) takes %.0f leases and %.0f rows a second", c.leases, c.writes)
		r.say("so it serves up to %.0f new variants a second; beyond, sites are parted over several databases", min(c.leases, c.writes))
		// What docs/operations.md says holds as long as these do.
		r.atMost("processor seconds of a new variant with its search", c.whole, "s", 1.6)
		r.atMost("statements of the database for a new variant", c.statements, "", 10)
		r.atMost("rows written for one", c.rows, "", 12)
		r.atMost("puts into the store for one", c.puts, "", 2.2)
		r.atMost("bytes of the database for a kept one", c.row, "", 1000)
		r.atLeast("leases a second", c.leases, "", 300)
		return nil
	})
}

func measureCosts(r *report, bed *testbed.Bed, t testing.TB) (c costs, err error) {
	store, err := localstore.Start(context.Background(), filepath.Join(bed.Dir, "store"), "kept")
	if err != nil {
		return c, err
	}
	defer store.Stop()
	os.Setenv("AWS_ACCESS_KEY_ID", store.AccessKey)
	os.Setenv("AWS_SECRET_ACCESS_KEY", store.SecretKey)
	behind, err := url.Parse(store.Endpoint)
	if err != nil {
		return c, err
	}
	var puts, gets, stored atomic.Int64
	pass := &httputil.ReverseProxy{Rewrite: func(p *httputil.ProxyRequest) {
		p.Out.URL.Scheme, p.Out.URL.Host, p.Out.Host = behind.Scheme, behind.Host, p.In.Host
	}}
	counting := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		switch q.Method {
		case "PUT":
			puts.Add(1)
			stored.Add(q.ContentLength)
		case "GET", "HEAD":
			gets.Add(1)
		}
		pass.ServeHTTP(w, q)
	}))
	defer counting.Close()
	database := bed.Database(t)
	s := bed.ServeOn(t, database, "--search-at-once=false", "--cache-dir", filepath.Join(bed.Dir, "sizing"), "--store", "s3://kept/v?endpoint="+counting.URL)
	bed.Must(t, s, "site", "add", "kestrel", "--limit", "variants_per_source=100000")
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	conn, err := pgx.Connect(context.Background(), database)
	if err != nil {
		return c, err
	}
	defer conn.Close(context.Background())
	counts := func() (statements, rows float64) {
		time.Sleep(1500 * time.Millisecond) // the database tells of what was done a second ago
		conn.Exec(context.Background(), `SELECT pg_stat_clear_snapshot()`)
		conn.QueryRow(context.Background(), `SELECT xact_commit + xact_rollback, tup_inserted + tup_updated + tup_deleted FROM pg_stat_database WHERE datname = current_database()`).Scan(&statements, &rows)
		return statements, rows
	}
	photos, err := filepath.Glob(filepath.Join(bed.Pictures, "*.jpg"))
	if err != nil || len(photos) == 0 {
		return c, fmt.Errorf("no photographs: %w", err)
	}
	ask := func(n int) (size int, err error) {
		q, _ := http.NewRequest("GET", fmt.Sprintf("%s/kestrel/catalogue/%s?width=%d", s.Base, filepath.Base(photos[n%len(photos)]), 320+n*7%960), nil)
		q.Header.Set("Accept", []string{"image/avif,image/webp,*/*", "image/avif,image/webp,*/*", "image/webp,*/*", "*/*"}[n/len(photos)%4])
		a, err := http.DefaultClient.Do(q)
		if err != nil {
			return 0, err
		}
		defer a.Body.Close()
		body, err := io.ReadAll(a.Body)
		if err == nil && a.StatusCode != 200 {
			err = fmt.Errorf("%s %.200s", a.Status, body)
		}
		return len(body), err
	}
	for n := range 4 * len(photos) { // sources are met, workers warm
		if _, err := ask(n); err != nil {
			return c, err
		}
	}
	settled(s, t)
	// What goes on anyway is taken off.
	idleBegun := time.Now()
	s0, r0 := counts()
	time.Sleep(4 * time.Second)
	s1, r1 := counts()
	idle := time.Since(idleBegun).Seconds()
	const variants = 120
	cpu, p0, g0, b0 := processorTime(s.Cmd.Process.Pid), puts.Load(), gets.Load(), stored.Load()
	begun := time.Now()
	var all sync.WaitGroup
	var next, sum, failed atomic.Int64
	for range 4 {
		all.Go(func() {
			for n := next.Add(1); n <= variants; n = next.Add(1) {
				size, err := ask(int(n) + 1000)
				if err != nil {
					failed.Add(1)
				}
				sum.Add(int64(size))
			}
		})
	}
	all.Wait()
	if n := failed.Load(); n > 0 {
		return c, fmt.Errorf("%d of %d variants failed", n, variants)
	}
	c.first = (processorTime(s.Cmd.Process.Pid) - cpu).Seconds() / variants
	settled(s, t)
	c.whole = (processorTime(s.Cmd.Process.Pid) - cpu).Seconds() / variants
	s2, r2 := counts()
	took := time.Since(begun).Seconds()
	c.statements = ((s2 - s1) - (s1-s0)/idle*took) / variants
	c.rows = ((r2 - r1) - (r1-r0)/idle*took) / variants
	c.puts, c.gets = float64(puts.Load()-p0)/variants, float64(gets.Load()-g0)/variants
	c.bytes, c.entry = float64(sum.Load())/variants, float64(stored.Load()-b0)/float64(puts.Load()-p0)
	if c.row, c.leases, c.writes, err = databaseCosts(bed, t); err != nil {
		return c, err
	}
	r.say("%d new variants of the demo's photographs, 320 to 1279 wide; half AVIF, a quarter each WebP and JPEG", variants)
	r.say("%-62s %7.3f s", "processor time until one is answered, with the searches beside", c.first)
	r.say("%-62s %7.3f s", "and with all searches", c.whole)
	r.say("%-62s %7.0f", "bytes of one", c.bytes)
	r.say("%-62s %7.1f / %.1f", "statements / rows of the database for one", c.statements, c.rows)
	r.say("%-62s %7.1f / %.1f", "puts / gets of the store for one", c.puts, c.gets)
	r.say("%-62s %7.0f", "bytes of the database for a kept one", c.row)
	return c, nil
}

// databaseCosts measures how many leases and rows a second the database here takes, and how much a row is.
func databaseCosts(bed *testbed.Bed, t testing.TB) (row, leases, writes float64, err error) {
	database := bed.Database(t)
	store, err := records.Open(database, nil)
	if err != nil {
		return 0, 0, 0, err
	}
	defer store.Close()
	if err := store.Prepare(context.Background()); err != nil {
		return 0, 0, 0, err
	}
	log := slog.New(slog.DiscardHandler)
	catch := &panics.Catcher{Log: log}
	peers := records.NewPeers(records.PeersOptions{Store: store, Log: log, Panics: catch})
	var taken atomic.Int64
	var all sync.WaitGroup
	begun := time.Now()
	for k := range 8 {
		all.Go(func() {
			for n := 0; time.Since(begun) < 3*time.Second; n++ {
				release, lead, err := peers.Lead(context.Background(), fmt.Sprintf("key-%d-%d", k, n))
				if err == nil && lead {
					taken.Add(1)
				}
				if release != nil {
					release()
				}
			}
		})
	}
	all.Wait()
	leases = float64(taken.Load()) / time.Since(begun).Seconds()
	peers.Close()
	conn, err := pgx.Connect(context.Background(), database)
	if err != nil {
		return 0, 0, 0, err
	}
	defer conn.Close(context.Background())
	if err := store.AddSite(context.Background(), policy.NewDocument("kestrel"), "bench"); err != nil {
		return 0, 0, 0, err
	}
	rec := records.NewRecorder(records.RecorderOptions{Store: store, Log: log, Panics: catch})
	const rows = 40_000
	begun = time.Now()
	written := 0
	for i := 0; i < rows; i++ {
		rec.Made(records.Variant{Key: fmt.Sprintf("%024x", i), Site: "kestrel", Lane: "catalogue", Path: fmt.Sprintf("2026/summer/kite-%d.jpg", i/20), Declarations: fmt.Sprintf("width=%d&object-fit=cover", 320+i%20*48), Format: "avif", Width: 640, Height: 400, Bytes: 30_000, SourceDigest: strings.Repeat("d", 43), SourceBytes: 3_000_000, RenderMS: 40})
		for i-written > 3000 { // as many as may wait
			time.Sleep(5 * time.Millisecond)
			conn.QueryRow(context.Background(), `SELECT count(*) FROM made_variants`).Scan(&written)
		}
	}
	for written < rows && time.Since(begun) < 2*time.Minute {
		time.Sleep(20 * time.Millisecond)
		conn.QueryRow(context.Background(), `SELECT count(*) FROM made_variants`).Scan(&written)
	}
	writes = float64(written) / time.Since(begun).Seconds()
	rec.Close()
	var size float64
	err = conn.QueryRow(context.Background(), `SELECT pg_total_relation_size('made_variants')::float8`).Scan(&size)
	return size / rows, leases, writes, err
}

// processorTime is what a process and all below it have used, those that have ended included.
func processorTime(pid int) time.Duration {
	const tick = time.Second / 100
	files, _ := filepath.Glob("/proc/[0-9]*/stat")
	parents, used := map[int]int{}, map[int]int64{}
	for _, f := range files {
		data, err := os.ReadFile(f)
		if err != nil {
			continue
		}
		fields := strings.Fields(string(data[bytes.LastIndexByte(data, ')')+1:]))
		id, _ := strconv.Atoi(filepath.Base(filepath.Dir(f)))
		parents[id], _ = strconv.Atoi(fields[1])
		for _, n := range []int{11, 12, 13, 14} { // user, system; of children that have ended
			v, _ := strconv.ParseInt(fields[n], 10, 64)
			used[id] += v
		}
	}
	var sum int64
	for id := range used {
		for at := id; at > 1; at = parents[at] {
			if at == pid {
				sum += used[id]
				break
			}
		}
	}
	return time.Duration(sum) * tick
}

// nodesFor is the least number of nodes of 8 processors on which new variants that come at random, so many a second, wait at most
// a tenth of a second in 99 of 100 cases, and there is time for all searches.
func nodesFor(rate float64, c costs) int {
	const workers = 7
	n := max(1, int(math.Ceil(rate*c.whole/workers)))
	for ; waits(rate, n*workers, c) > 0.1; n += max(1, n/50) {
	}
	return n
}

// waits simulates a line with so many workers: arrivals at random, times exponential about their mean, the search of each variant
// behind its answer as if visitors had to wait for it too, though they go before it. It gives the 99th percentile of the wait in
// seconds.
func waits(rate float64, servers int, c costs) float64 {
	random := rand.New(rand.NewPCG(uint64(servers), 7))
	const arrivals = 60_000
	free := make(ends, servers)
	busy := rate * c.whole / float64(servers)
	for i := range free {
		if random.Float64() < busy {
			free[i] = random.ExpFloat64() * c.whole
		}
	}
	heap.Init(&free)
	var list []float64
	now := 0.0
	for range arrivals {
		now += random.ExpFloat64() / rate
		begin := max(now, free[0])
		list = append(list, begin-now)
		free[0] = begin + random.ExpFloat64()*c.whole
		heap.Fix(&free, 0)
	}
	slices.Sort(list)
	return list[len(list)*99/100]
}

// ends are when servers come free, the next first.
type ends []float64

func (e ends) Len() int           { return len(e) }
func (e ends) Less(i, j int) bool { return e[i] < e[j] }
func (e ends) Swap(i, j int)      { e[i], e[j] = e[j], e[i] }
func (e *ends) Push(any)          {}
func (e *ends) Pop() any          { return nil }
