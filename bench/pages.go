package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"golang.org/x/net/html"

	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/internal/testbed"
	"echolane/service/weighing"
)

// pages measures the rewriting of HTML, the making of markup, and a weigh-in.
func pages(r *report) error {
	page := catalogue(6000)
	change := &markup.Change{Set: []markup.Attribute{{Name: "src", Value: "https://img.kestrel.test/kestrel/catalogue/delta-red.jpg?width=640"}, {Name: "loading", Value: "lazy"}}}
	var out []byte
	times := alternate(9, func() { out = markup.Rewrite(page, func(*markup.Image) *markup.Change { return change }) }, func() { tokenize(page) })
	if bytes.Count(out, []byte(markup.Was)) != 1500 || !bytes.Equal(markup.Restore(out), page) {
		return fmt.Errorf("the page wasn't rewritten as it must be")
	}
	mb := float64(len(page)) / 1e6
	r.atLeast(fmt.Sprintf("rewriting a page of %.1f MB with an image in %d bytes", mb, len(page)/1500), mb/(median(times[0])/1e3), "MB/s", 50)
	r.say("that is %.2f× as fast as a general tokenizer walks over it", median(times[1])/median(times[0]))

	slot, err := markup.ParseSlot("(min-width: 900px) 33vw, 100vw")
	if err != nil {
		return err
	}
	alt := "A red delta kite"
	o := markup.Options{Base: "https://img.kestrel.test/kestrel", Source: "catalogue/delta-red.jpg", Slot: slot, Facts: markup.Facts{Width: 6000, Height: 4000}, Alt: &alt}
	o.Facts.Weights = map[declare.Declarations][]markup.Weight{}
	for _, a := range markup.Anchors(o) {
		o.Facts.Weights[a.Declared] = append(o.Facts.Weights[a.Declared], markup.Weight{Width: a.Width, Bytes: int(20000 * math.Pow(float64(a.Width)/640, 1.6))})
	}
	const rounds = 2000
	times = alternate(7, func() {
		for range rounds {
			m, err := markup.Make(o)
			if err != nil {
				panic(err)
			}
			m.HTML()
		}
	})
	r.atMost("markup for a source whose facts are known", median(times[0])*1000/rounds, "µs", 50)
	return weighShop(r)
}

// catalogue is a page of so many lines, a quarter of them with an image.
func catalogue(lines int) []byte {
	var b bytes.Buffer
	b.WriteString("<!doctype html><html><head><title>Kites</title></head><body>\n")
	for i := range lines {
		if i%4 == 0 {
			fmt.Fprintf(&b, `<figure class="card"><a href="/kites/%d"><img class="card__picture" src="pictures/delta-%d.jpg" alt="A kite" width="350"></a></figure>`+"\n", i, i)
			continue
		}
		b.WriteString(`<p class="card__text">The small delta, three metres of ripstop and a tail, sewn in our <em>workshop</em> by the harbour; flies from nine knots &amp; up, and folds into the bag that comes with it. Lines and spool are sold apart.</p>` + "\n")
	}
	b.WriteString("</body></html>\n")
	return b.Bytes()
}

func tokenize(page []byte) {
	z := html.NewTokenizer(bytes.NewReader(page))
	for z.Next() != html.ErrorToken {
		z.Raw()
	}
}

// weighShop weighs a page of 50 pictures, each with its own bytes, renders and all.
func weighShop(r *report) error {
	if weighing.Chromium() == "" {
		r.say("no Chromium: the weigh-in isn't measured")
		return nil
	}
	source, err := photograph()
	if err != nil {
		return err
	}
	return onTestBed(func(bed *testbed.Bed, t testing.TB) error {
		var page strings.Builder
		page.WriteString(`<!doctype html><meta name="viewport" content="width=device-width"><style>body { display: grid; grid-template-columns: repeat(auto-fill, minmax(280px, 1fr)); gap: 20px } img { width: 100% }</style>`)
		for i := range 50 {
			fmt.Fprintf(&page, `<img src="/%d.jpg" alt="Kite %d">`, i, i)
		}
		shop := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
			var n byte
			if q.URL.Path == "/" {
				fmt.Fprint(w, page.String())
			} else if _, err := fmt.Sscanf(q.URL.Path, "/%d.jpg", &n); err == nil {
				w.Header().Set("Content-Type", "image/jpeg")
				w.Write(append(source[:len(source):len(source)], n))
			}
		}))
		defer shop.Close()
		service := bed.Kestrel(t)
		bed.Must(t, service, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")
		start := time.Now()
		out := bed.Must(t, service, "weigh", shop.URL+"/", "--json")
		took := time.Since(start).Seconds()
		var w struct {
			Report struct {
				Views []struct {
					Pictures   []json.RawMessage
					Unmeasured int
				}
			}
		}
		if err := json.Unmarshal([]byte(out), &w); err != nil || len(w.Report.Views) != 3 || len(w.Report.Views[0].Pictures) != 50 || w.Report.Views[0].Unmeasured > 0 {
			return fmt.Errorf("the report has %d screens, %v", len(w.Report.Views), err)
		}
		r.atMost("a weigh-in of 50 pictures on three screens, every one made to fit", took, "s", 60)
		return nil
	})
}
