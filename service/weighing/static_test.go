package weighing

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"sync/atomic"
	"testing"

	"echolane/core/codec"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/weighin"
	"echolane/demo/pictures"
	"echolane/service/lane"
	"echolane/service/source"
	"echolane/service/source/held"
	"echolane/service/workshop"
)

// direct does a workshop's work in this process.
type direct struct{}

func read(ctx context.Context, open func(context.Context) ([]*held.Content, error)) ([]byte, error) {
	contents, err := open(ctx)
	if err != nil {
		return nil, err
	}
	defer contents[0].Close()
	return io.ReadAll(contents[0].Reader())
}

func (direct) Render(ctx context.Context, _ workshop.For, open func(context.Context) ([]*held.Content, error), job render.Job) (render.Result, []held.Digest, error) {
	data, err := read(ctx, open)
	if err != nil {
		return render.Result{}, nil, err
	}
	r, err := render.Variant(data, job)
	return r, nil, err
}

func (direct) Header(ctx context.Context, c *held.Content) (codec.Header, error) {
	data, err := io.ReadAll(c.Reader())
	if err != nil {
		return codec.Header{}, err
	}
	return render.Header(data)
}

// stand is a weigher and an origin with a picture, which the site's lane may reach.
func stand(t *testing.T, page string) (*Weigher, Ask) {
	t.Helper()
	data, err := pictures.Load("mark.png")
	if err != nil {
		t.Fatal(err)
	}
	mux := http.NewServeMux()
	mux.HandleFunc("/{$}", func(w http.ResponseWriter, _ *http.Request) { fmt.Fprint(w, page) })
	mux.HandleFunc("/mark.png", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "image/png")
		w.Header().Set("Cache-Control", "max-age=60")
		w.Write(data)
	})
	s := httptest.NewServer(mux)
	t.Cleanup(s.Close)
	d := policy.NewDocument("kestrel")
	d.Formats, d.Effort = []string{"webp", "jpeg", "png"}, "predicted" // AVIF and a search take the longest by far
	d.Lanes = []policy.Lane{{Name: "press", Kind: "web", Allow: []string{s.URL + "/mark.png"}, Private: []string{"127.0.0.1"}}}
	d.Complete(lane.Described)
	site, _, err := policy.Compile(d, lane.Described)
	if err != nil {
		t.Fatal(err)
	}
	w := &Weigher{Workshop: direct{}, Lanes: &source.Lanes{Kinds: lane.Kinds, Keep: source.NewKeep(nil, 0), CDN: func() string { return "" }}, Log: slog.New(slog.DiscardHandler)}
	return w, Ask{Site: &policy.SiteSettings{Site: site, Document: d}, Page: s.URL + "/", Screens: []Screen{{"phone", 390, 844, 2}}}
}

func TestAPageIsWeighedByItsHTMLAlone(t *testing.T) {
	w, a := stand(t, `<!doctype html><title>The mark</title><base href="/"><img src="mark.png" width="64" height="64" alt="The mark" loading="lazy"><picture><img src="mark.png"></picture><img src="gone.png"><img src="data:image/gif;base64,R0"><img>`)
	r, err := w.static(context.Background(), &a, func(int, int, string) {})
	if err != nil {
		t.Fatal(err)
	}
	if !r.Static || len(r.Notes) < 2 || !strings.Contains(r.Notes[1], "not known") || r.Title != "The mark" || len(r.Views) != 1 || len(r.Views[0].Pictures) != 5 {
		t.Fatalf("%+v", r)
	}
	found := 0
	for _, p := range r.Views[0].Pictures {
		switch {
		case p.Kind == "picture":
			found++
			if p.W != 390 || p.NaturalW != 800 || p.After == nil || p.Source == "" {
				t.Errorf("%+v", p)
			}
		case strings.HasSuffix(p.URL, "mark.png"):
			found++
			if p.W != 64 || !p.Lazy || !p.Sized || p.After == nil || p.After.Width != 128 || p.Cache != "max-age=60" || p.Type != "image/png" {
				t.Errorf("%+v %+v", p, p.After)
			}
		case strings.HasSuffix(p.URL, "gone.png"):
			found++
			if !strings.Contains(p.Failed, "404") || p.Refused == "" || !strings.Contains(p.Rule, "lane set kestrel/press --allow") {
				t.Errorf("%+v", p)
			}
		}
	}
	if found != 3 {
		t.Errorf("%+v", r.Views[0].Pictures)
	}
}

func TestTheWayOutIsGuarded(t *testing.T) {
	w, a := stand(t, "<p>")
	p, err := w.proxy(&a)
	if err != nil {
		t.Fatal(err)
	}
	defer p.close()
	for _, address := range []string{"http://169.254.169.254/", "http://10.0.0.1/", "http://[::1]:1/", "http://0.0.0.0/"} {
		_, _, err := p.get(context.Background(), address, 100)
		var no *policy.Refusal
		if !errors.As(err, &no) || no.Reason != "address-not-public" {
			t.Errorf("%s: %v", address, err)
		}
	}
	if data, _, err := p.get(context.Background(), a.Page, 100); err != nil || string(data) != "<p>" {
		t.Errorf("%q, %v", data, err)
	}
	if _, _, err := p.get(context.Background(), a.Page+"mark.png", 100); err == nil || !strings.Contains(err.Error(), "100 bytes") {
		t.Errorf("%v", err)
	}
	// The same through the proxy as a browser asks it, by name and by tunnel.
	for _, target := range []string{"http://10.0.0.1/x", "https://10.0.0.1/x"} {
		proxied := &http.Client{Transport: &http.Transport{Proxy: func(*http.Request) (*url.URL, error) { return url.Parse("http://" + p.address) }}}
		answer, err := proxied.Get(target)
		if err == nil {
			answer.Body.Close()
			if answer.StatusCode != http.StatusBadGateway {
				t.Errorf("%s: %d", target, answer.StatusCode)
			}
		}
	}
	if p.refused["10.0.0.1"] == "" {
		t.Errorf("%v", p.refused)
	}
}

func TestTagsAreToldApartByWhatTheyHave(t *testing.T) {
	long := strings.Repeat("ä😀x", 2000)
	short := brief(long)
	if len(short) > 8000 || brief("a.jpg") != "a.jpg" || brief(long) == brief(long+"y") {
		t.Errorf("%d", len(short))
	}
}

func TestSlotsAreStraightLinesThroughWhatWasMeasured(t *testing.T) {
	sizes := map[int][]box{}
	for _, v := range measured() {
		w := float64(v) - 64
		switch {
		case v >= 1264:
			w = 282
		case v >= 680:
			w = float64(v)/2 - 44
		}
		sizes[v] = []box{{Key: "a", W: w, H: w / 1.5}, {Key: "b", W: 320, H: 200}, {Key: "c", W: float64(v), H: 300}, {Key: "d", W: 0, H: 0}}
	}
	p := place{key: "a", shapes: [2]float64{1.5, 1.5}}
	if css, shape := p.slot(sizes); css != "(min-width: 1280px) 282px, (min-width: 680px) calc(50vw - 44px), calc(100vw - 64px)" || shape < 1.49 || shape > 1.51 {
		t.Errorf("%s, %v", css, shape)
	}
	p = place{key: "b", shapes: [2]float64{1.6, 1.6}}
	if css, _ := p.slot(sizes); css != "width: 320px" {
		t.Errorf("%s", css)
	}
	p = place{key: "d"}
	if css, _ := p.slot(sizes); css != "" {
		t.Errorf("%s", css)
	}
}

// counting is direct, and counts what is made.
type counting struct {
	direct
	renders *atomic.Int64
}

func (c counting) Render(ctx context.Context, whom workshop.For, open func(context.Context) ([]*held.Content, error), job render.Job) (render.Result, []held.Digest, error) {
	c.renders.Add(1)
	return c.direct.Render(ctx, whom, open, job)
}

// A picture that was made to fit isn't made once more for another weigh-in, unless it or the site's rules for encoding changed.
func TestAPageThatIsWeighedAgainIsMadeOnce(t *testing.T) {
	w, a := stand(t, `<!doctype html><base href="/"><img src="mark.png" width="64" height="64" alt="">`)
	shop := counting{renders: &atomic.Int64{}}
	w.Workshop = shop
	weigh := func() weighin.Picture {
		r, err := w.static(context.Background(), &a, func(int, int, string) {})
		if err != nil {
			t.Fatal(err)
		}
		return r.Views[0].Pictures[0]
	}
	first := weigh()
	n := shop.renders.Load()
	if again := weigh(); n == 0 || shop.renders.Load() != n || again.After == nil || *again.After != *first.After {
		t.Errorf("made %d times, then %d; %+v, then %+v", n, shop.renders.Load()-n, first.After, again.After)
	}
	changed := *a.Site.Site
	changed.Effort = policy.Thorough
	a.Site = &policy.SiteSettings{Site: &changed, Document: a.Site.Document}
	if weigh(); shop.renders.Load() == n {
		t.Error("with another effort it isn't made anew")
	}
}
