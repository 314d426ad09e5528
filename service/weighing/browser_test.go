package weighing

import (
	"context"
	"image"
	"image/png"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

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
