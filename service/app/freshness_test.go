package app

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"echolane/core/policy"
)

// An origin that fails in the ways that origins do.
type origin struct {
	*httptest.Server
	asked   atomic.Int64
	control atomic.Pointer[string] // Cache-Control
	how     atomic.Int64           // what goes wrong
	data    atomic.Pointer[[]byte]
	hang    chan struct{}
}

const (
	fine = iota
	hangs
	fails
	isMissing
	lies  // about its length
	drips // a byte a second
	wrong // an error page with 200
)

func newOrigin(t *testing.T, control string) *origin {
	t.Helper()
	o := &origin{hang: make(chan struct{})}
	o.control.Store(&control)
	data := picture(t, 90, 60)
	o.data.Store(&data)
	o.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		o.asked.Add(1)
		data := *o.data.Load()
		w.Header().Set("Cache-Control", *o.control.Load())
		w.Header().Set("ETag", strconv.Quote(fmt.Sprint(len(data))))
		switch o.how.Load() {
		case hangs:
			select {
			case <-o.hang:
			case <-r.Context().Done():
			}
			return
		case fails:
			w.WriteHeader(503)
			return
		case isMissing:
			w.WriteHeader(404)
			return
		case lies:
			w.Header().Set("Content-Length", strconv.Itoa(len(data)+100))
			w.Write(data)
			return
		case drips:
			for i := range data {
				if _, err := w.Write(data[i : i+1]); err != nil {
					return
				}
				w.(http.Flusher).Flush()
				select {
				case <-o.hang:
					return
				case <-r.Context().Done():
					return
				case <-time.After(time.Second):
				}
			}
			return
		case wrong:
			w.Header().Set("Content-Type", "text/html")
			fmt.Fprint(w, "<!doctype html><title>Something went wrong</title>")
			return
		}
		if r.Header.Get("If-None-Match") == w.Header().Get("ETag") {
			w.WriteHeader(304)
			return
		}
		w.Write(data)
	}))
	t.Cleanup(func() { close(o.hang); o.Close() })
	return o
}

func startBefore(t *testing.T, o *origin) *running {
	return start(t, func(p *Options) { p.CacheDir = t.TempDir() }, func(d *policy.Document) {
		d.Lanes = append(d.Lanes, policy.Lane{Name: "w", Kind: "web", Base: o.URL + "/", Allow: []string{o.URL + "/*"}, Private: []string{"127.0.0.1"}})
	})
}

// What is known answers at once for an origin that takes its time, and says that it may be stale.
func TestAnOriginThatHangsHoldsNobodyUp(t *testing.T) {
	o := newOrigin(t, "max-age=1")
	r := startBefore(t, o)
	const path = "/kestrel/w/kite.png?width=40&format=webp"
	first := r.get(path)
	if first.StatusCode != 200 || first.Header.Get("Age") != "" {
		t.Fatalf("%d %s", first.StatusCode, first.Header)
	}
	time.Sleep(1100 * time.Millisecond)
	o.how.Store(hangs)
	before := o.asked.Load()
	var all sync.WaitGroup
	for range 40 {
		all.Go(func() {
			begun := time.Now()
			a := r.get(path)
			if took := time.Since(begun); a.StatusCode != 200 || !bytes.Equal(a.body, first.body) || took > 2*time.Second {
				t.Errorf("%d after %v", a.StatusCode, took)
			}
			age, err := strconv.Atoi(a.Header.Get("Age"))
			if err != nil || age < 1 || !strings.Contains(a.Header.Get("Cache-Status"), "fwd=stale") || a.Header.Get("Cache-Control") != "public, max-age=10" {
				t.Errorf("%s", a.Header)
			}
		})
	}
	all.Wait()
	begun := time.Now()
	for range 20 { // the look goes on; nobody waits for it any more
		r.get(path)
	}
	if took := time.Since(begun); took > time.Second {
		t.Errorf("twenty answers took %v", took)
	}
	if n := o.asked.Load() - before; n != 1 {
		t.Errorf("the origin was asked %d times", n)
	}
}

// A thousand requests for what isn't there ask the origin once, for as long as the lane says.
func TestWhatIsMissingIsRemembered(t *testing.T) {
	t.Parallel()
	o := newOrigin(t, "max-age=60")
	two := 2
	r := start(t, func(p *Options) { p.CacheDir = t.TempDir() }, func(d *policy.Document) {
		of := policy.Lane{Kind: "web", Base: o.URL + "/", Allow: []string{o.URL + "/*"}, Private: []string{"127.0.0.1"}}
		for name, missing := range map[string]*int{"w": nil, "short": &two} {
			of.Name, of.MissingS = name, missing
			d.Lanes = append(d.Lanes, of)
		}
	})
	for _, how := range []int64{isMissing, fails} {
		o.how.Store(how)
		first := map[string]time.Time{}
		for _, lane := range []string{"w", "short"} {
			path := fmt.Sprintf("/kestrel/%s/none-%d.png?width=40", lane, how)
			before := o.asked.Load()
			begun := time.Now()
			first[lane] = begun
			var all sync.WaitGroup
			for range 10 {
				all.Go(func() {
					for range 100 {
						if a := r.get(path); a.StatusCode < 400 {
							t.Errorf("%d", a.StatusCode)
						}
					}
				})
			}
			all.Wait()
			if n := o.asked.Load() - before; n != 1 && time.Since(begun) < 2*time.Second {
				t.Errorf("%s: the origin was asked %d times", path, n)
			}
		}
		time.Sleep(2100 * time.Millisecond)
		for lane, want := range map[string]int64{"w": 0, "short": 1} {
			before := o.asked.Load()
			r.get(fmt.Sprintf("/kestrel/%s/none-%d.png?width=40", lane, how))
			if n := o.asked.Load() - before; n != want && (want == 1 || time.Since(first[lane]) < 5*time.Second) { // a busy machine may take longer
				t.Errorf("%s, two seconds later: the origin was asked %d times", lane, n)
			}
		}
	}
}

// An origin that fails is stood in for, where it lets it; and nobody else.
func TestAnOriginThatFailsIsStoodInFor(t *testing.T) {
	t.Parallel()
	o := newOrigin(t, "max-age=1")
	r := startBefore(t, o)
	relaxed, must := "max-age=1", "max-age=1, must-revalidate"
	ways := []int64{fails, lies}
	at := func(name string, how int64) string {
		return fmt.Sprintf("/kestrel/w/%s-%d.png?width=40&format=webp", name, how)
	}
	var first answer
	for _, how := range ways {
		o.control.Store(&relaxed)
		first = r.get(at("kite", how))
		o.control.Store(&must)
		r.get(at("strict", how))
	}
	data := picture(t, 95, 60)
	o.data.Store(&data) // so that it isn't a 304
	time.Sleep(1100 * time.Millisecond)
	for _, how := range ways {
		o.how.Store(how)
		path, strict := at("kite", how), at("strict", how)
		a := r.get(path)
		if a.StatusCode != 200 || !bytes.Equal(a.body, first.body) || !strings.Contains(a.Header.Get("Cache-Status"), "fwd=stale") || a.Header.Get("Age") == "" {
			t.Errorf("way %d: %d %s", how, a.StatusCode, a.Header)
		}
		if a := r.get(strict); a.StatusCode != 502 {
			t.Errorf("way %d: what must be validated is answered %d", how, a.StatusCode)
		}
		if again := r.get(path); again.StatusCode != 200 || !strings.Contains(again.Header.Get("Cache-Status"), "fwd=stale") {
			t.Errorf("way %d, again: %d %s", how, again.StatusCode, again.Header)
		}
	}
}

// Whatever an origin does to a new source, the answer says it, others are served meanwhile, and it is left alone for a while.
func TestWhatOriginsDoIsSaid(t *testing.T) {
	t.Parallel()
	o := newOrigin(t, "max-age=60")
	r := startBefore(t, o)
	r.put("kite.png", picture(t, 60, 40))
	r.get("/kestrel/f/kite.png?width=20")
	for _, c := range []struct {
		how    int64
		reason string
	}{{fails, "502 origin-failed"}, {isMissing, "404 no-such-source"}, {lies, "502 origin-failed"}, {wrong, "422 not-an-image"}} {
		o.how.Store(c.how)
		before, begun := o.asked.Load(), time.Now()
		var all sync.WaitGroup
		for range 50 {
			all.Go(func() {
				for range 20 {
					if a := r.get(fmt.Sprintf("/kestrel/w/%d.png?width=20", c.how)); a.reason() != c.reason {
						t.Errorf("way %d: %s", c.how, a.reason())
						return
					}
				}
			})
		}
		all.Wait()
		const remembered = 5 * time.Second
		if n := o.asked.Load() - before; n < 1 || n > 1+int64(time.Since(begun)/remembered) {
			t.Errorf("way %d: for a thousand requests in %v the origin was asked %d times", c.how, time.Since(begun), n)
		}
	}
	o.how.Store(drips)
	dripping, stop := context.WithCancel(context.Background())
	defer stop()
	q, err := http.NewRequestWithContext(dripping, "GET", r.base+"/kestrel/w/drips.png?width=20", nil)
	if err != nil {
		t.Fatal(err)
	}
	go http.DefaultTransport.RoundTrip(q)
	begun := time.Now()
	for range 50 {
		if a := r.get("/kestrel/f/kite.png?width=20"); a.StatusCode != 200 {
			t.Errorf("another source: %d", a.StatusCode)
		}
	}
	if took := time.Since(begun); took > 2*time.Second {
		t.Errorf("fifty hits took %v beside an origin that drips", took)
	}
}
