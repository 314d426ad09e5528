package main

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"math/rand"
	"net"
	"net/http"
	"os"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/internal/testbed"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

const (
	floodTime    = 20 * time.Second
	floodClients = 100
	deathsTime   = 60 * time.Second
	deathsEvery  = 200 * time.Millisecond
	leavers      = 1000
	leaveAfter   = 50 * time.Millisecond
)

// twoSites is a service with two sites on the demo's pictures.
func twoSites(bed *testbed.Bed, t testing.TB, args ...string) *testbed.Process {
	s := bed.Kestrel(t, args...)
	bed.Must(t, s, "site", "add", "gull", "--formats", "webp,jpeg,png", "--limit", "render_ms=60000")
	bed.Must(t, s, "lane", "add", "gull/f", "--folder", bed.Pictures)
	return s
}

// ask fetches an address, and gives the status, the bytes and how long that took.
func ask(client *http.Client, url string) (status int, data []byte, took time.Duration) {
	begin := time.Now()
	q, err := http.NewRequest("GET", url, nil)
	if err != nil {
		return 0, nil, 0
	}
	q.Header.Set("Accept", "image/webp")
	a, err := client.Do(q)
	if err != nil {
		return 0, nil, time.Since(begin)
	}
	defer a.Body.Close()
	if data, err = io.ReadAll(a.Body); err != nil {
		return 0, nil, time.Since(begin)
	}
	return a.StatusCode, data, time.Since(begin)
}

// turns floods one site and watches another: its first variants, and a cached picture.
func turns(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		s := twoSites(bed, t, "--search-at-once=false", "--wait-limit", "3s", "--workers", fmt.Sprint(max(1, runtime.NumCPU()-1)))
		client := &http.Client{Timeout: time.Minute, Transport: &http.Transport{MaxIdleConnsPerHost: 2 * floodClients}}
		hot := s.Base + "/gull/f/delta-red.jpg?width=320&format=webp"
		if status, _, _ := ask(client, hot); status != 200 {
			return fmt.Errorf("the hot picture: %d", status)
		}
		time.Sleep(2 * time.Second)
		width := atomic.Int64{}
		width.Store(300)
		quiet := func(longest time.Duration, ended <-chan struct{}) (took []time.Duration, refused int) {
			for end := time.Now().Add(longest); time.Now().Before(end); {
				select {
				case <-ended:
					return took, refused
				case <-time.After(100 * time.Millisecond):
				}
				status, _, d := ask(client, fmt.Sprintf("%s/gull/f/festival-dawn.jpg?width=%d&format=webp", s.Base, width.Add(1)))
				if status != 200 {
					refused++
				}
				took = append(took, d)
			}
			return took, refused
		}
		alone, failed := quiet(floodTime, nil)
		if failed > 0 {
			return fmt.Errorf("%d of the quiet site's variants failed before there was a flood", failed)
		}
		hotAlone, _ := paced(hot, floodTime, nil) // not afterwards, when the flood's variants are being refined
		ended := make(chan struct{})
		var flood sync.WaitGroup
		var n, sent, turnedDown atomic.Int64
		for i := range floodClients {
			flood.Go(func() {
				for {
					select {
					case <-ended:
						return
					default:
					}
					status, _, _ := ask(client, fmt.Sprintf("%s/kestrel/catalogue/festival-crowd.jpg?width=%d&format=webp", s.Base, 200+n.Add(1)%1700))
					sent.Add(1)
					if status == 503 {
						turnedDown.Add(1)
						time.Sleep(time.Duration(20+i) * time.Millisecond)
					}
				}
			})
		}
		time.AfterFunc(floodTime, func() { close(ended) })
		var hotUnder []time.Duration
		var watch sync.WaitGroup
		watch.Go(func() { hotUnder, _ = paced(hot, floodTime, ended) })
		under, refused := quiet(floodTime, ended)
		watch.Wait()
		flood.Wait()
		render := at(alone, .5)
		r.say("the quiet site's new variants: alone p50 %v, p99 %v; under the flood p50 %v, p99 %v, %d asked", render, at(alone, .99), at(under, .5), at(under, .99), len(under))
		r.say("the flood: %d requests, %d turned down; the cached picture p99 %v alone, %v under it", sent.Load(), turnedDown.Load(), at(hotAlone, .99), at(hotUnder, .99))
		r.atMost("the quiet site's p99 under the flood, of twice alone and one render", float64(at(under, .99))/float64(2*at(alone, .99)+render), "×", 1)
		r.atMost("its refusals", float64(refused), "", 0)
		r.atMost("the cached picture's p99 meanwhile, of what it is alone", float64(at(hotUnder, .99))/float64(at(hotAlone, .99)), "×", 3)
		return nil
	})
}

// deaths kills workers at random under load, and has clients leave.
func deaths(r *report) error {
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		s := twoSites(bed, t) // which searches at once: equal requests have equal bytes
		client := &http.Client{Timeout: time.Minute}
		names := []string{"delta-red.jpg", "mark.png", "festival-dawn.jpg", "box-kite-cliff.jpg"}
		address := func(i int) string {
			return fmt.Sprintf("/catalogue/%s?width=%d&format=%s", names[i%len(names)], 40+i/len(names)%300, []string{"webp", "jpeg", "png"}[i%3])
		}
		var want sync.Map // by address
		var wrong, failed, done atomic.Int64
		ended := make(chan struct{})
		time.AfterFunc(deathsTime, func() { close(ended) })
		var all sync.WaitGroup
		killed := 0
		all.Go(func() {
			for {
				select {
				case <-ended:
					return
				case <-time.After(deathsEvery):
				}
				if pids := testbed.WorkersOf(s.Cmd.Process.Pid); len(pids) > 0 {
					syscall.Kill(pids[rand.Intn(len(pids))], syscall.SIGKILL)
					killed++
				}
			}
		})
		var n atomic.Int64
		for range 3 {
			all.Go(func() {
				for {
					select {
					case <-ended:
						return
					default:
					}
					a := address(int(n.Add(1)))
					status, data, _ := ask(client, s.Base+"/kestrel"+a)
					done.Add(1)
					if status != 200 {
						failed.Add(1)
						if failed.Load() < 4 {
							r.say("%s: %d %.200s", a, status, data)
						}
					}
					want.Store(a, data)
				}
			})
		}
		all.Wait()
		if failed.Load() > 0 {
			for line := range strings.Lines(s.Said()) {
				if strings.Contains(line, "worker") && !strings.Contains(line, "signal: killed") {
					r.say("%.300s", strings.TrimSpace(line))
				}
			}
		}
		// The same from a service whose workers nobody kills.
		calm := twoSites(bed, t)
		checked := 0
		want.Range(func(a, data any) bool {
			status, again, _ := ask(client, calm.Base+"/kestrel"+a.(string))
			if status != 200 || !bytes.Equal(again, data.([]byte)) {
				wrong.Add(1)
			}
			checked++
			return checked < 400
		})
		r.say("%d workers killed in %v, %d variants asked for, %d held against those of a calm service", killed, deathsTime, done.Load(), checked)
		r.atMost("failed responses", float64(failed.Load()), "", 0)
		r.atMost("wrong bytes", float64(wrong.Load()), "", 0)

		// Clients that leave.
		before := strings.Count(calm.Said(), `msg="variant made"`)
		for i := range leavers {
			all.Go(func() {
				time.Sleep(time.Duration(i) * 2 * time.Millisecond)
				ctx, cancel := context.WithTimeout(context.Background(), leaveAfter)
				defer cancel()
				var d net.Dialer
				c, err := d.DialContext(ctx, "tcp", strings.TrimPrefix(calm.Base, "http://"))
				if err != nil {
					return
				}
				fmt.Fprintf(c, "GET /kestrel/catalogue/festival-crowd.jpg?width=%d&format=png HTTP/1.1\r\nHost: x\r\n\r\n", 700+i)
				<-ctx.Done()
				c.Close()
			})
		}
		all.Wait()
		time.Sleep(2 * time.Second)
		made := strings.Count(calm.Said(), `msg="variant made"`) - before
		r.atMost(fmt.Sprintf("of %d variants whose clients left after %v those made", leavers, leaveAfter), 100*float64(made)/leavers, "%", 5)
		return nil
	})
}

// workers measures what a worker costs beside its renders: to start, to rest, and for each job.
func workers(r *report) error {
	return onTestBed(func(bed *testbed.Bed, _ testing.TB) error {
		var mu sync.Mutex
		var starts, each []time.Duration
		o := workshop.Options{Workers: 4, Program: bed.Worker, Log: slog.New(slog.DiscardHandler), Started: func(d time.Duration) {
			mu.Lock()
			defer mu.Unlock()
			each = append(each, d)
		}}
		var first []time.Duration
		for range 10 {
			w, err := workshop.New(o)
			if err != nil {
				return err
			}
			time.Sleep(300 * time.Millisecond) // the others start, one after the other
			w.Close()
			mu.Lock()
			first, starts, each = append(first, each[0]), append(starts, each[1:]...), nil
			mu.Unlock()
		}
		r.say("a service's first worker, with loading the program: %.1f ms", float64(at(first, .5))/1e6)
		r.atMost("a worker's start", float64(at(starts, .5))/1e6, "ms", 10)
		o.Workers, o.Started = 1, nil
		w, err := workshop.New(o)
		if err != nil {
			return err
		}
		defer w.Close()
		time.Sleep(500 * time.Millisecond) // the others start
		rest := int64(0)
		for _, pid := range testbed.WorkersOf(os.Getpid()) {
			rest = max(rest, testbed.PrivateMemory(pid))
		}
		r.atMost("a resting worker's own memory, beside what all share of the program", float64(rest)/1e6, "MB", 25)
		var b bytes.Buffer
		small, err := noise(16, 16)
		if err != nil {
			return err
		}
		b.Write(small)
		j, err := jobOf("width=8&format=jpeg")
		if err != nil {
			return err
		}
		open := func(context.Context) ([]*held.Content, error) {
			return []*held.Content{held.InMemory(b.Bytes(), nil)}, nil
		}
		var through, alone []time.Duration
		for range 300 {
			begin := time.Now()
			if _, _, err := w.Render(context.Background(), workshop.For{}, open, j); err != nil {
				return err
			}
			through = append(through, time.Since(begin))
			begin = time.Now()
			if _, err := render.Variant(b.Bytes(), j); err != nil {
				return err
			}
			alone = append(alone, time.Since(begin))
		}
		r.atMost("a job's overhead through the socket", float64(at(through, .5)-at(alone, .5))/1e6, "ms", 0.5)
		return nil
	})
}

func jobOf(query string) (render.Job, error) {
	d, err := declare.Parse(query)
	return render.Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits}, err
}
