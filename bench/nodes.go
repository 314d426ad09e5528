package main

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"echolane/internal/localstore"
	"echolane/internal/testbed"
)

// painted is an origin whose sources are of one colour each, which says which source it is and how often it has changed.
type painted struct {
	*httptest.Server
	generation [paintedSources]atomic.Int64
}

const paintedSources = 8

func newPainted() *painted {
	p := &painted{}
	p.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		var n int
		if _, err := fmt.Sscanf(r.URL.Path, "/s%d.png", &n); err != nil || n >= paintedSources {
			http.NotFound(w, r)
			return
		}
		generation := p.generation[n].Load()
		w.Header().Set("Cache-Control", "max-age=1")
		w.Header().Set("ETag", fmt.Sprintf(`"%d-%d"`, n, generation))
		if r.Header.Get("If-None-Match") == w.Header().Get("ETag") {
			w.WriteHeader(http.StatusNotModified)
			return
		}
		w.Header().Set("Content-Type", "image/png")
		w.Write(paint(n, generation))
	}))
	return p
}

// paint draws a source.
func paint(n int, generation int64) []byte {
	m := image.NewRGBA(image.Rect(0, 0, 320, 200))
	c := color.RGBA{uint8(n*16 + 8), uint8(generation%16*16 + 8), 128, 255}
	for y := range 200 {
		for x := range 320 {
			m.SetRGBA(x, y, c)
		}
	}
	var b bytes.Buffer
	png.Encode(&b, m)
	return b.Bytes()
}

// readPaint says which source and generation (modulo 16) a picture is of, and how wide it is.
func readPaint(data []byte) (n int, generation int64, width int, err error) {
	m, err := png.Decode(bytes.NewReader(data))
	if err != nil {
		return 0, 0, 0, err
	}
	b := m.Bounds()
	r, g, _, _ := m.At(b.Dx()/2, b.Dy()/2).RGBA()
	for _, at := range []image.Point{{0, 0}, {b.Dx() - 1, b.Dy() - 1}} {
		if r2, g2, _, _ := m.At(at.X, at.Y).RGBA(); r2 != r || g2 != g {
			return 0, 0, 0, errors.New("it is of several colours")
		}
	}
	return int(r >> 12), int64(g >> 12), b.Dx(), nil
}

// history is a value that changes, with when it did.
type history[T comparable] struct {
	mu   sync.Mutex
	at   []time.Time
	what []T
}

func (h *history[T]) set(v T) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.at, h.what = append(h.at, time.Now()), append(h.what, v)
}

// could reports whether it was v at some time between two.
func (h *history[T]) could(v T, from, to time.Time) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	for i := range h.at {
		if h.what[i] == v && h.at[i].Before(to) && (i+1 == len(h.at) || h.at[i+1].After(from)) {
			return true
		}
	}
	return false
}

var madeLine = regexp.MustCompile(`msg="variant made".* path=(\S+) declarations=(\S+)`)

// together has three nodes behind nginx lose one, purge, change sources and settings, all under load.
func together(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		store, err := localstore.Start(context.Background(), filepath.Join(bed.Dir, "store"), "kept")
		if err != nil {
			return err
		}
		defer store.Stop()
		os.Setenv("AWS_ACCESS_KEY_ID", store.AccessKey)
		os.Setenv("AWS_SECRET_ACCESS_KEY", store.SecretKey)
		origin := newPainted()
		defer origin.Close()
		database := bed.Database(t)
		var addresses []string
		for range 3 {
			a, err := freeAddress()
			if err != nil {
				return err
			}
			addresses = append(addresses, a)
		}
		var everyNode []*testbed.Process // also those that were killed
		begin := func(i int) *testbed.Process {
			p := bed.ServeOn(t, database, "--listen", addresses[i], "--cache-dir", filepath.Join(bed.Dir, fmt.Sprint("node", i)), "--store", "s3://kept/v?endpoint="+store.Endpoint, "--workers", "1", "--private-network", "127.0.0.0/8")
			everyNode = append(everyNode, p)
			return p
		}
		nodes := []*testbed.Process{begin(0), begin(1), begin(2)}
		sheet := func(width int) {
			file := filepath.Join(bed.Dir, "sheet.css")
			os.WriteFile(file, fmt.Appendf(nil, ".card { width: %dpx }\n", width), 0o644)
			bed.Must(t, nodes[0], "site", "set", "kestrel", "--sheet", file)
		}
		bed.Must(t, nodes[0], "site", "add", "kestrel", "--formats", "png")
		bed.Must(t, nodes[0], "lane", "add", "kestrel/w", "--base", origin.URL+"/", "--allow", origin.URL+"/*", "--private", "127.0.0.1", "--missing", "0")
		var generations [paintedSources]history[int64]
		for n := range generations {
			generations[n].set(0)
		}
		var card history[int]
		card.set(100)
		sheet(100)
		front, end, err := balance(bed.Dir, addresses)
		if err != nil {
			return err
		}
		defer end()

		const (
			sourceLag  = 3 * time.Second // a source is taken to be unchanged for 1 s, looked at on its next use, and that takes a moment
			settingLag = time.Second
		)
		var mu sync.Mutex
		answered, wrong := 0, 0
		var failures []string
		var kills history[int]
		inFlight := func(from, to time.Time) bool { // was a node killed meanwhile?
			kills.mu.Lock()
			defer kills.mu.Unlock()
			return slices.ContainsFunc(kills.at, func(at time.Time) bool { return at.After(from) && at.Before(to) })
		}
		lost := 0
		one := func(random *rand.Rand, client *http.Client, widths int) {
			n, width := random.IntN(paintedSources), 20+random.IntN(widths)
			path := fmt.Sprintf("/kestrel/w/s%d.png?width=%d&format=png", n, width)
			if random.IntN(8) == 0 {
				path, width = fmt.Sprintf("/kestrel/w/s%d.png?class=card&format=png", n), 0
			}
			from := time.Now()
			var body []byte
			a, err := client.Get(front + path)
			if err == nil {
				body, err = io.ReadAll(a.Body)
				a.Body.Close()
				if err == nil && a.StatusCode != 200 {
					err = fmt.Errorf("%s %.200s", a.Status, body)
				}
			}
			to := time.Now()
			var which int
			var generation int64
			var wide int
			if err == nil {
				which, generation, wide, err = readPaint(body)
			}
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err != nil && inFlight(from, to):
				lost++
				return
			case err != nil:
				failures = append(failures, fmt.Sprintf("%s after %v: %v", path, to.Sub(from).Round(time.Millisecond), err))
				return
			}
			answered++
			current := false
			for g := generation; g < 200; g += 16 {
				current = current || generations[n].could(g, from.Add(-sourceLag), to)
			}
			if which != n || !current || width > 0 && wide != width || width == 0 && !card.could(wide, from.Add(-settingLag), to) {
				wrong++
				failures = append(failures, fmt.Sprintf("wrong: %s gives source %d of generation %d, %d wide", path, which, generation, wide))
			}
		}
		under := func(clients, widths int, what func()) {
			stop := make(chan struct{})
			var all sync.WaitGroup
			for k := range clients {
				all.Go(func() {
					random := rand.New(rand.NewPCG(uint64(k), uint64(len(everyNode))))
					client := &http.Client{Timeout: 30 * time.Second}
					for {
						select {
						case <-stop:
							return
						default:
							one(random, client, widths)
						}
					}
				})
			}
			what()
			close(stop)
			all.Wait()
		}
		lose := func(i int) {
			kills.set(i)
			nodes[i].Cmd.Process.Kill()
			<-nodes[i].Ended()
			time.Sleep(1500 * time.Millisecond)
			nodes[i] = begin(i)
		}
		makes := func() map[string]int {
			all := map[string]int{}
			for _, p := range everyNode {
				for _, m := range madeLine.FindAllStringSubmatch(p.Said(), -1) {
					all[m[1]+" "+m[2]]++
				}
			}
			return all
		}
		most := func(all map[string]int) (n int) {
			for _, k := range all {
				n = max(n, k)
			}
			return n
		}

		// A node is lost, and nothing else changes: each variant is made once.
		under(12, 60, func() {
			time.Sleep(time.Second)
			lose(1)
			time.Sleep(time.Second)
		})
		quiet := makes()
		r.say("%d answers of %d variants by three nodes behind nginx, one of which was killed", answered, len(quiet))
		r.atMost("makes of a variant, at the most", float64(most(quiet)), "", 1)

		// Everything at once.
		changes := 0
		under(12, 12, func() {
			random := rand.New(rand.NewPCG(5, 6))
			for round := range 12 {
				n := random.IntN(paintedSources)
				g := origin.generation[n].Add(1)
				generations[n].set(g)
				changes++
				time.Sleep(400 * time.Millisecond)
				bed.Must(t, nodes[0], "purge", "kestrel/w")
				changes++
				time.Sleep(300 * time.Millisecond)
				width := 100 + 10*(round%3)
				card.set(width)
				sheet(width)
				if round%4 == 3 {
					lose(1 + round/4%2)
				}
			}
		})
		r.say("%d answers in all; 12 changes of a source, 12 purges of the lane, 12 changes of the settings, 4 losses of a node", answered)
		r.atMost("wrong pictures", float64(wrong), "", 0)
		r.atMost("requests that failed, beside those under way as a node was killed", float64(len(failures)-wrong), "", 0)
		r.say("%-62s %7d", "those under way as a node was killed that failed", lost)
		r.atMost("makes of a variant since, over the changes that ask for them", float64(most(makes()))/float64(1+changes), "×", 1)
		slices.SortFunc(failures, cmp.Compare)
		for _, f := range failures[:min(len(failures), 8)] {
			r.say("%s", f)
		}
		return nil
	})
}

// balance starts nginx in front of nodes, as deploy/nginx has it but without its cache, which purges don't reach.
func balance(dir string, nodes []string) (string, func(), error) {
	address, err := freeAddress()
	if err != nil {
		return "", nil, err
	}
	conf, err := os.ReadFile("deploy/nginx/echolane.conf")
	if err != nil {
		return "", nil, err
	}
	dir = filepath.Join(dir, "nginx")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", nil, err
	}
	servers := ""
	for _, n := range nodes {
		servers += "server " + n + " max_fails=2 fail_timeout=5s;\n"
	}
	text := regexp.MustCompile(`server 127\.0\.0\.1:8740 [^;]*;`).ReplaceAllString(string(conf), servers)
	text = regexp.MustCompile(`(?m)^\s*proxy_cache.*\n`).ReplaceAllString(text, "")
	text = strings.ReplaceAll(text, "listen 80;", "listen "+address+";")
	user := ""
	if os.Geteuid() == 0 {
		user = "user root;"
	}
	text = fmt.Sprintf(`daemon off; pid %[1]s/pid; error_log %[1]s/error.log; worker_processes 1; %[2]s
events { worker_connections 1024; }
http { access_log off; client_body_temp_path %[1]s/b; proxy_temp_path %[1]s/p; fastcgi_temp_path %[1]s/f; uwsgi_temp_path %[1]s/u; scgi_temp_path %[1]s/s;
%[3]s }`, dir, user, text)
	if err := write(dir, "nginx.conf", []byte(text)); err != nil {
		return "", nil, err
	}
	end, err := start(address, "/usr/sbin/nginx", "-e", filepath.Join(dir, "error.log"), "-p", dir, "-c", filepath.Join(dir, "nginx.conf"))
	return "http://" + address, end, err
}

// bad is how an origin doesn't behave.
type bad int

const (
	away bad = iota
	drips
	liesOfLength
	anotherPicture
	errorPage
)

func (b bad) String() string {
	return [...]string{"that is taken away", "that sends a byte a second", "that lies of its length", "that gives another picture", "that gives an error page with 200"}[b]
}

// origins has one site's origin misbehave, and looks at what others' requests take.
func origins(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		good := newPainted()
		defer good.Close()
		var how, fetches atomic.Int64
		data := paint(1, 0) // drawn once: the origin is to take no processor from whom it is next to
		stop := make(chan struct{})
		badOrigin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			fetches.Add(1)
			switch bad(how.Load()) {
			case drips:
				w.Header().Set("Content-Type", "image/png")
				for i := range data {
					w.Write(data[i : i+1])
					w.(http.Flusher).Flush()
					select {
					case <-time.After(time.Second):
					case <-q.Context().Done():
						return
					case <-stop:
						return
					}
				}
			case liesOfLength:
				w.Header().Set("Content-Length", fmt.Sprint(len(data)+500))
				w.Write(data)
			case errorPage:
				w.Header().Set("Content-Type", "text/html")
				io.WriteString(w, "<!doctype html><title>Oh dear</title>")
			default:
				w.Header().Set("Content-Type", "image/png")
				w.Write(data)
			}
		}))
		defer func() { close(stop); badOrigin.Close() }()
		gone, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		nobody := "http://" + gone.Addr().String()
		gone.Close()
		s := bed.Serve(t, "--private-network", "127.0.0.0/8", "--cache-dir", filepath.Join(bed.Dir, "origins"))
		for site, base := range map[string]string{"kestrel": good.URL, "wharf": badOrigin.URL, "ghost": nobody} {
			bed.Must(t, s, "site", "add", site, "--formats", "png", "--limit", "variants_per_source=100000")
			bed.Must(t, s, "lane", "add", site+"/w", "--base", base+"/", "--allow", base+"/*", "--private", "127.0.0.1")
		}
		serial := 0
		// others measures a site of its own: new variants, of sources that are looked at every second, and kept ones.
		others := func() (p99 float64, err error) {
			var times []float64
			for end := time.Now().Add(4 * time.Second); time.Now().Before(end); {
				serial++
				path := fmt.Sprintf("/kestrel/w/s%d.png?width=%d&format=png", serial%paintedSources, 20+serial%300)
				if serial%4 == 0 {
					path += fmt.Sprintf("&background-color=%%23%06x", serial)
				}
				begun := time.Now()
				if _, _, err := get(s.Base + path); err != nil {
					return 0, err
				}
				times = append(times, time.Since(begun).Seconds())
				time.Sleep(2 * time.Millisecond)
			}
			slices.Sort(times)
			return times[len(times)*99/100], nil
		}
		if _, err := others(); err != nil { // all is made once
			return err
		}
		for _, b := range []bad{away, drips, liesOfLength, anotherPicture, errorPage} {
			how.Store(int64(b))
			site := "wharf"
			if b == away {
				site = "ghost"
			}
			rightly := func(a *http.Response, body []byte, err error) bool {
				if b == anotherPicture {
					_, _, _, no := readPaint(body)
					return err == nil && a.StatusCode == 200 && no == nil
				}
				return err == nil && (a.StatusCode == 502 || a.StatusCode == 504 || a.StatusCode == 422 || a.StatusCode == 503) && a.Header.Get("Content-Type") != "image/png"
			}
			var ratios []float64
			var asked, wrong atomic.Int64
			if b == drips { // those below are gone before they are answered
				a, body, err := get(fmt.Sprintf("%s/%s/w/first.png?width=40&format=png", s.Base, site))
				if a == nil || a.StatusCode != 504 {
					return fmt.Errorf("an origin %s: %v %.200s %v", b, a, body, err)
				}
			}
			for range 3 {
				quiet, err := others()
				if err != nil {
					return err
				}
				ctx, cancel := context.WithCancel(context.Background())
				var all sync.WaitGroup
				for k := range 20 {
					all.Go(func() {
						time.Sleep(time.Duration(k) * 10 * time.Millisecond) // visitors don't come all at once
						for n := 0; ctx.Err() == nil; n++ {
							q, _ := http.NewRequestWithContext(ctx, "GET", fmt.Sprintf("%s/%s/w/p%d-%d-%d.png?width=40&format=png", s.Base, site, b, k, n), nil)
							a, err := http.DefaultClient.Do(q)
							var body []byte
							if err == nil {
								body, err = io.ReadAll(a.Body)
								a.Body.Close()
							}
							if ctx.Err() != nil {
								return
							}
							asked.Add(1)
							if !rightly(a, body, err) {
								wrong.Add(1)
							}
							select {
							case <-ctx.Done():
							case <-time.After(200 * time.Millisecond):
							}
						}
					})
				}
				time.Sleep(300 * time.Millisecond)
				busy, err := others()
				cancel()
				all.Wait()
				if err != nil {
					return err
				}
				ratios = append(ratios, busy/quiet)
			}
			r.atMost(fmt.Sprintf("others' p99 beside an origin %s", b), median(ratios), "×", 1.5)
			r.atMost(fmt.Sprintf("wrong answers of it, of %d, for which it was asked %d times", asked.Load(), fetches.Swap(0)), float64(wrong.Load()), "", 0)
		}
		return nil
	})
}
