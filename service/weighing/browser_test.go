package weighing

import (
	"bytes"
	"context"
	"errors"
	"image"
	"image/png"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"strconv"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"golang.org/x/sys/unix"

	"echolane/service/panics"
)

// Taking a picture of the page, and trying what keeps its pictures' places, has Chromium look for sources again, some of which
// the page's visitors don't get.
func TestOnlyWhatThePageAsksForIsWeighed(t *testing.T) {
	network := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if strings.HasSuffix(r.URL.Path, ".png") {
			w.Header().Set("Content-Type", "image/png")
			png.Encode(w, image.NewRGBA(image.Rect(0, 0, 300, 200)))
			return
		}
		w.Header().Set("Content-Type", "text/html")
		w.Write([]byte(`<!doctype html><meta name="viewport" content="width=device-width"><link rel="icon" href="data:,"><picture><source media="(max-width: 600px)" srcset="narrow.png"><img src="wide.png" width="300" height="200" alt=""></picture>`))
	}))
	defer network.Close()
	bs := &Browsers{Quiet: 50 * time.Millisecond, Panics: &panics.Catcher{Log: slog.New(slog.DiscardHandler)}}
	b, err := bs.start(context.Background(), strings.TrimPrefix(network.URL, "http://"), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer b.stop()
	for range 6 {
		s, err := b.look("http://page.test/", Screen{"desktop", 1440, 900, 1}, nil)
		if err != nil {
			t.Fatal(err)
		}
		if s.view.Requests != 2 || len(s.bodies) != 1 || s.bodies["http://page.test/wide.png"] == nil {
			t.Errorf("%d requests, pictures %d", s.view.Requests, len(s.bodies))
		}
	}
}

// Chromium may end a page's process before it says that it opened the page, and then calls that aborted, as it does what is no page.
func TestAPageWhoseOpeningIsAborted(t *testing.T) {
	if Chromium() == "" {
		t.Skip("there is no Chromium here")
	}
	bs := &Browsers{Quiet: 50 * time.Millisecond, Panics: &panics.Catcher{Log: slog.New(slog.DiscardHandler)}}
	var left, opened atomic.Int32
	network := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if opened.Add(1); left.Add(-1) >= 0 {
			w.WriteHeader(http.StatusNoContent)
			return
		}
		w.Header().Set("Content-Type", "text/html")
		w.Write([]byte(`<!doctype html><link rel="icon" href="data:,"><p>Kites`))
	}))
	defer network.Close()
	b, err := bs.start(context.Background(), strings.TrimPrefix(network.URL, "http://"), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer b.stop()
	for _, aborted := range []int32{0, 1, 2, 9} {
		left.Store(aborted)
		opened.Store(0)
		_, err := b.look("http://page.test/", Screen{"desktop", 1440, 900, 1}, nil)
		if opens := opened.Load(); opens != min(aborted+1, tabTries) {
			t.Errorf("aborted %d times, it is opened %d times", aborted, opens)
		}
		if aborted < tabTries && err != nil || aborted > tabTries && (err == nil || !strings.Contains(err.Error(), "ERR_ABORTED")) {
			t.Errorf("aborted %d times: %v", aborted, err)
		}
	}
}

// A page whose process ends is opened again, thrice at most, and soon.
func TestAPageWhoseProcessEnds(t *testing.T) {
	if Chromium() == "" {
		t.Skip("there is no Chromium here")
	}
	bs := &Browsers{Quiet: 50 * time.Millisecond, Panics: &panics.Catcher{Log: slog.New(slog.DiscardHandler)}}
	var left, opened atomic.Int32
	network := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Path == "/last.png" {
			if opened.Add(1); left.Add(-1) >= 0 {
				endRenderers(t, bs.lastHome.Load().(string))
				<-r.Context().Done()
			}
			w.Header().Set("Content-Type", "image/png")
			png.Encode(w, image.NewRGBA(image.Rect(0, 0, 300, 200)))
			return
		}
		w.Header().Set("Content-Type", "text/html")
		w.Write([]byte(`<!doctype html><link rel="icon" href="data:,"><img src="last.png" width="300" height="200" alt="">`))
	}))
	defer network.Close()
	b, err := bs.start(context.Background(), strings.TrimPrefix(network.URL, "http://"), nil)
	if err != nil {
		t.Fatal(err)
	}
	defer b.stop()
	desktop := Screen{"desktop", 1440, 900, 1}
	for name, open := range map[string]func() error{
		"looked at": func() error {
			s, err := b.look("http://page.test/", desktop, nil)
			if err == nil && (s.view.Requests != 2 || s.bodies["http://page.test/last.png"] == nil || len(s.notes) > 0) {
				t.Errorf("%d requests, %d pictures, notes %q", s.view.Requests, len(s.bodies), s.notes)
			}
			return err
		},
		"measured": func() error {
			boxes, err := b.boxes("http://page.test/", []int{320, 640})
			if err == nil && (len(boxes[640]) != 1 || boxes[640][0].W != 300) {
				t.Errorf("its boxes are %+v", boxes)
			}
			return err
		},
		"loaded": func() error {
			load, err := b.load(context.Background(), "http://page.test/", desktop, throttled[1])
			if err == nil && (load.Cut || load.ImageBytes == 0) {
				t.Errorf("the load is %+v", load)
			}
			return err
		},
	} {
		for _, ends := range []int32{2, 9} {
			began := time.Now()
			left.Store(ends)
			opened.Store(0)
			err := open()
			if want := error(nil); ends == 9 {
				if want = errTabEnded; !errors.Is(err, want) {
					t.Errorf("%s: %v, want %v", name, err, want)
				}
			} else if err != nil {
				t.Errorf("%s: %v", name, err)
			}
			if n := opened.Load(); n != tabTries {
				t.Errorf("%s: it was opened %d times, want %d", name, n, tabTries)
			}
			if took := time.Since(began); took > loadCut {
				t.Errorf("%s: it took %v", name, took)
			}
		}
	}
}

// endRenderers ends the processes that show pages of the Chromium whose home a folder is.
func endRenderers(t *testing.T, home string) {
	for _, pid := range processes(t, groupOf(t, home)) {
		if command, err := os.ReadFile("/proc/" + pid + "/cmdline"); err == nil && bytes.Contains(command, []byte("--type=renderer")) {
			n, _ := strconv.Atoi(pid)
			unix.Kill(n, unix.SIGKILL)
		}
	}
}
