package weighing

import (
	"bytes"
	"context"
	"fmt"
	"image"
	"image/color"
	"image/jpeg"
	"io"
	"log/slog"
	"math"
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"path"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"golang.org/x/sync/errgroup"

	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/weighin"
	"echolane/service/lane"
)

// A corpus of pages as they are found: 12 shapes of HTML. %s is a picture of the shop.
type corpusPage struct {
	shape, name string
	changes     int // images that are rewritten, at the least
	html        string
}

func document(body string) string {
	return "<!doctype html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><meta name=\"viewport\" content=\"width=device-width, initial-scale=1\"><title>Kites</title><style>body{margin:0}img{display:block}</style></head>\n<body>\n" + body + "\n</body></html>\n"
}

const lazyScript = `<script>for (const e of document.querySelectorAll("img")) { const s = e.dataset.src || e.dataset.original || e.dataset.lazySrc; if (s) e.src = s; if (e.dataset.srcset) e.srcset = e.dataset.srcset; }</script>`

var corpus = []corpusPage{
	{"plain", "an image", 1, document(`<img src="pictures/photo.jpg" alt="A kite" style="width:300px;height:200px">`)},
	{"plain", "no quotes", 1, document(`<IMG SRC=pictures/photo.jpg WIDTH=300 HEIGHT=200 ALT=Kite>`)},
	{"plain", "single quotes and entities", 1, document(`<img src='pictures/photo.jpg?a=1&amp;b=2' alt='Twine &amp; kites' width='300'>`)},
	{"plain", "attributes over lines", 2, document("<img\n  src=\"pictures/photo.jpg\"\n  alt=\"a > b\"\n  width=\"320\"\n>\n<img src=\"pictures/wide.jpg\"\twidth=100%>")},

	{"srcset", "widths and sizes without a src", 1, document(`<img srcset="pictures/photo.jpg 1200w, pictures/photo.jpg?l 2400w" sizes="300px" alt="">`)},
	{"srcset", "densities", 1, document(`<img srcset="pictures/photo.jpg 1x, pictures/photo.jpg?2 2x" src="pictures/photo.jpg" width="300" height="200" alt="">`)},
	{"srcset", "sizes with conditions", 1, document(`<img src="pictures/photo.jpg" srcset="pictures/photo.jpg 1200w" sizes="(min-width: 800px) 400px, 100vw" style="width:100%" alt="">`)},

	{"picture", "formats", 1, document(`<picture><source type="image/webp" srcset="pictures/photo.jpg?w"><source srcset="pictures/photo.jpg?j" type="image/jpeg"><img src="pictures/photo.jpg" width="300" height="200" alt=""></picture>`)},
	{"picture", "another crop on phones is kept", 0, document(`<picture><source media="(max-width: 500px)" srcset="pictures/tall.jpg"><img src="pictures/wide.jpg" width="300" alt=""></picture>`)},
	{"picture", "an image that stays keeps its sources", 0, document(`<picture><source type="image/jpeg" srcset="pictures/light.jpg"><img src="pictures/light.jpg" width="240" height="160" alt=""></picture>`)},
	{"picture", "in a figure, with a script's own element beside", 2, document(`<figure><picture><img src="pictures/photo.jpg" width="300" alt=""></picture><figcaption>A <b>kite</figcaption></figure><x-zoom src="pictures/photo.jpg"></x-zoom><img src="pictures/tall.jpg" width="120" alt="">`)},

	{"lazy", "data-src", 1, document(`<img data-src="pictures/photo.jpg" class="late" width="300" height="200" alt="">` + lazyScript)},
	{"lazy", "a stand-in and data-original", 1, document(`<img src="data:image/gif;base64,R0lGODlhAQABAAAAACH5BAEKAAEALAAAAAABAAEAAAICTAEAOw==" data-original="pictures/photo.jpg" width="300" height="200" alt="">` + lazyScript)},
	{"lazy", "data-srcset and data-sizes", 1, document(`<img src="pictures/tiny.jpg" data-srcset="pictures/photo.jpg 1200w" data-sizes="auto" sizes="300px" width="300" height="200" alt="">` + lazyScript)},
	{"lazy", "a noscript twin", 1, document(`<img data-src="pictures/photo.jpg" width="300" height="200" alt=""><noscript><img src="pictures/photo.jpg" width="300" height="200" alt=""></noscript>` + lazyScript)},
	{"lazy", "a script that puts its own back", 0, document(`<img src="pictures/photo.jpg" id="k" width="300" height="200" alt=""><script>const k = document.querySelector("#k"); k.removeAttribute("srcset"); k.src = "pictures/photo.jpg?mine";</script>`)},

	{"islands", "hydration marks", 1, document(`<!--[--><div data-h-1f2e><!----><img data-h-1f2e src="pictures/photo.jpg" width="300" height="200" alt=""><!--]--></div><!--$--><script type="application/json">{"img":"<img src='no.jpg'>"}</script><!--/$-->`)},
	{"islands", "an absolute fill", 1, document(`<span style="position:relative;display:block;width:300px;height:200px"><img src="pictures/photo.jpg" style="position:absolute;inset:0;width:100%;height:100%;object-fit:cover" alt=""></span>`)},
	{"islands", "bound by a script", 0, document(`<div><img :src="picture" src="pictures/photo.jpg" width="300" height="200" alt=""></div>`)},
	{"islands", "a template element and slots", 1, document(`<template><img src="pictures/wide.jpg"></template><kite-card><img slot="media" src="pictures/photo.jpg" width="300" height="200" alt=""></kite-card>`)},

	{"editor", "aligned figures", 2, document(`<figure class="align-left"><img decoding="async" class="size-large" src="pictures/photo.jpg" srcset="pictures/photo.jpg 1200w, pictures/photo.jpg?s 300w" sizes="(max-width: 1200px) 100vw, 1200px" width="1200" height="800" style="max-width:100%;height:auto" alt=""></figure><p>Text<br /><img src="pictures/tall.jpg" style="max-width:100%;height:auto" alt=""></p>`)},
	{"editor", "a gallery with links", 3, document(`<ul>` + strings.Repeat(`<li><a href="pictures/photo.jpg"><img src="pictures/photo.jpg" width="150" height="100" alt=""></a></li>`, 3) + `</ul>`)},
	{"editor", "pasted from a word processor", 1, document(`<p class=MsoBody><o:p>&nbsp;</o:p><span style='mso-fareast-language:EN'><img width=300 height=200 id="Picture 1" src="pictures/photo.jpg" alt="A &quot;kite&quot;"></span></p>`)},

	{"newsletter", "tables", 1, document(`<table role="presentation" width="600" cellpadding="0"><tr><td bgcolor="#ffffff" background="pictures/tiny.jpg"><a href="#"><img src="pictures/wide.jpg" width="300" border="0" style="display:block" alt="Spring"></a></td></tr></table>`)},
	{"newsletter", "conditional comments", 1, document(`<!--[if mso]><table><tr><td><img src="pictures/wide.jpg" width="600"></td></tr></table><![endif]--><!--[if !mso]><!--><img src="pictures/photo.jpg" width="300" alt=""><!--<![endif]-->`)},
	{"newsletter", "a pixel that counts", 1, document(`<img src="pictures/photo.jpg" width="300" alt=""><img src="pictures/pixel.jpg?id=7" width="1" height="1" alt="">`)},

	{"broken", "unclosed and crossed", 2, document(`<p><b><img src="pictures/photo.jpg" width="300" alt=""><div><i></b><a href=#><img src="pictures/tall.jpg" width="100" alt=""></p></i><p>`)},
	{"broken", "an attribute twice", 1, document(`<img src="pictures/photo.jpg" src="pictures/wide.jpg" width="300" alt="one" alt="two">`)},
	{"broken", "stray tags", 1, document(`</picture></noscript><source srcset="pictures/wide.jpg"><img src="pictures/photo.jpg"width="300"height="200"alt=""/></img>`)},
	{"broken", "ends within a tag", 1, "<!doctype html><img src=pictures/photo.jpg width=300 height=200><p>x<img src=\"pictures/tall.jpg"},
	{"broken", "no head and a bare less-than", 1, "a < b && c <d> <<img src=pictures/photo.jpg width=300 height=200> 3<4"},

	{"template", "double braces", 1, document(`{{#each kites}}<img src="{{url}}" alt="{{{name}}}">{{/each}}<img src="pictures/photo.jpg" width="300" height="200" alt="{{ title }}">`)},
	{"template", "percent blocks", 1, document(`{% for k in kites %}<img src="{{ k.url|escape }}">{% endfor %}<img src="pictures/photo.jpg" {% if x %}class="a"{% endif %} width="300" height="200">`)},
	{"template", "angle percent", 1, document(`<% kites.each do |k| %><img src="<%= k.url %>"><% end %><img src="pictures/photo.jpg" width="300" height="200" alt="<%= name %>">`)},
	{"template", "processing instructions", 1, document(`<?php foreach ($kites as $k): ?><img src="<?= $k->url ?>"><?php endforeach ?><img src="pictures/photo.jpg" width="300" height="200">`)},
	{"template", "dollar braces", 1, document("<script>const card = (k) => `<img src=\"${k.url}\">`;</script><img src=\"pictures/photo.jpg\" alt=\"${name}\" width=\"300\" height=\"200\">")},

	{"xhtml", "closed tags", 2, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<!DOCTYPE html PUBLIC \"-//W3C//DTD XHTML 1.0 Strict//EN\" \"http://www.w3.org/TR/xhtml1/DTD/xhtml1-strict.dtd\">\n<html xmlns=\"http://www.w3.org/1999/xhtml\"><head><title>Kites</title></head><body><p><img src=\"pictures/photo.jpg\" width=\"300\" height=\"200\" alt=\"\" /><img src=\"pictures/tall.jpg\" width=\"100\" alt=\"\"/></p></body></html>"},
	{"xhtml", "sections of characters", 1, "<!DOCTYPE html><html><head><script>//<![CDATA[\nvar a = '<img src=x>';\n//]]></script></head><body><img src=\"pictures/photo.jpg\" width=\"300\" height=\"200\" alt=\"\" /><svg><![CDATA[<img src=no.jpg>]]></svg></body></html>"},
	{"xhtml", "a drawing that needs the same picture", 0, document(`<svg viewBox="0 0 10 10" width="10"><image href="pictures/photo.jpg" width="10" height="10"/></svg><img src="pictures/photo.jpg" width="300" height="200" alt=""/>`)},

	{"8-bit", "Latin-1", 1, "<!doctype html><meta charset=\"iso-8859-1\"><p>Drachen \xfcber M\xfcnchen<img src=\"pictures/photo.jpg\" width=\"300\" height=\"200\" alt=\"Gr\xfc\xdfe\">"},
	{"8-bit", "a picture's name in Latin-1", 1, "<!doctype html><meta http-equiv=\"Content-Type\" content=\"text/html; charset=windows-1252\"><img src=\"pictures/fen\xeatre.jpg\" width=\"300\" height=\"200\" alt=\"fen\xeatre\">"},
	{"8-bit", "Cyrillic", 1, "<!doctype html><meta charset=\"windows-1251\"><p>\xc7\xec\xe5\xe9<img src=\"pictures/photo.jpg\" width=\"300\" height=\"200\" alt=\"\xc7\xec\xe5\xe9\">"},
	{"8-bit", "carriage returns and a byte order mark", 1, "\ufeff<!doctype html>\r\n<title>x</title>\r\n<img src=\"pictures/photo.jpg\"\r\n width=\"300\" height=\"200\">\r\n"},

	{"light", "nothing would be won", 0, document(`<img src="pictures/light.jpg" width="240" height="160" alt="">`)},
	{"light", "one is heavy, one isn't", 1, document(`<img src="pictures/light.jpg" width="240" height="160" alt=""><img src="pictures/photo.jpg" width="300" height="200" alt="">`)},
}

// shopPictures are the pictures beside the pages.
var shopPictures = sync.OnceValue(func() map[string][]byte {
	noise := rand.New(rand.NewPCG(3, 4))
	draw := func(w, h, quality int, grain float64) []byte {
		m := image.NewRGBA(image.Rect(0, 0, w, h))
		for y := range h {
			for x := range w {
				v := func(p float64) uint8 {
					return uint8(math.Max(0, math.Min(255, 128+80*math.Sin(float64(x)/97*p)+40*math.Cos(float64(y)/61)+grain*noise.NormFloat64())))
				}
				m.SetRGBA(x, y, color.RGBA{v(1), v(1.3), v(0.7), 255})
			}
		}
		var b bytes.Buffer
		jpeg.Encode(&b, m, &jpeg.Options{Quality: quality})
		return b.Bytes()
	}
	photo := draw(1200, 800, 92, 9)
	return map[string][]byte{"photo.jpg": photo, "fenêtre.jpg": photo, "wide.jpg": draw(1600, 400, 90, 8), "tall.jpg": draw(500, 900, 90, 8), "light.jpg": draw(240, 160, 18, 0), "tiny.jpg": draw(16, 16, 60, 0), "pixel.jpg": draw(1, 1, 60, 0)}
})

// imageServer answers addresses of the site as the service would: at first with a quick encode of more bytes.
func imageServer(t *testing.T) *httptest.Server {
	var mu sync.Mutex
	asked := map[string]int{}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		d, err := declare.Parse(r.URL.RawQuery)
		source := shopPictures()[path.Base(r.URL.Path)]
		if err != nil || source == nil {
			http.Error(w, "no such picture", http.StatusNotFound)
			return
		}
		mu.Lock()
		asked[r.URL.String()]++
		first := asked[r.URL.String()] == 1
		mu.Unlock()
		if first && path.Base(r.URL.Path) == "tall.jpg" { // as if others were in the line before it
			w.Header().Set("Retry-After", "1")
			http.Error(w, "busy", http.StatusServiceUnavailable)
			return
		}
		v, err := render.Variant(source, render.Job{Request: d.Resolve(declare.Declarations{}, []declare.Format{declare.WebP}), Limits: policy.DefaultLimits, Predict: first})
		if err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			return
		}
		w.Header().Set("Content-Type", "image/webp")
		w.Write(v.Data)
		if path.Base(r.URL.Path) == "light.jpg" { // as if nothing could be won
			w.Write(make([]byte, len(source)))
		}
	}))
	t.Cleanup(s.Close)
	return s
}

// fixer is a weigher whose site has the shop's pictures in a lane.
func fixer(t *testing.T) *Weigher {
	server := imageServer(t)
	w := &Weigher{
		Workshop: direct{}, Listen: strings.TrimPrefix(server.URL, "http://"), Log: slog.New(slog.NewTextHandler(io.Discard, nil)),
		Browsers: &Browsers{Launcher: []string{os.Args[0], "page-browser"}, Log: slog.New(slog.NewTextHandler(io.Discard, nil)), Quiet: 120 * time.Millisecond},
	}
	w.MarkupFor = func(_ context.Context, _ *policy.SiteSettings, base, source, slot string, d declare.Declarations, first bool) (markup.Markup, *policy.Refusal) {
		at, err := markup.ParseSlot(slot)
		h, broke := render.Header(shopPictures()[path.Base(source)])
		if err != nil || broke != nil {
			return markup.Markup{}, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Detail: fmt.Sprint(slot, err, broke)})
		}
		m, err := markup.Make(markup.Options{Base: base + "/kestrel", Source: string(declare.AppendPath([]byte("catalogue"), strings.TrimPrefix(source, "catalogue/"), false)), Slot: at, Over: d, Decorative: true, First: first, Facts: markup.Facts{Width: h.W, Height: h.H}})
		if err != nil {
			return m, policy.No(policy.Refusal{Reason: policy.ReasonBadRequest, Detail: err.Error()})
		}
		return m, nil
	}
	return w
}

func askFor(t *testing.T, html string, screens ...Screen) Ask {
	d := policy.NewDocument("kestrel")
	d.Formats = []string{"webp", "jpeg", "png"}
	d.Complete(lane.Described)
	site, _, err := policy.Compile(d, lane.Described)
	if err != nil {
		t.Fatal(err)
	}
	a := Ask{Site: &policy.SiteSettings{Site: site, Document: d}, Page: "http://page.test/", HTML: []byte(html), File: "index.html", Fix: true, Own: []string{"http://img.test"}, Maps: []Map{{From: "http://page.test/pictures/", To: "catalogue"}}, Screens: screens}
	for name, data := range shopPictures() {
		for _, query := range []string{"", "?l", "?2", "?w", "?j", "?s", "?a=1&b=2", "?id=7", "?mine"} {
			a.Files = append(a.Files, File{URL: "http://page.test/pictures/" + url.PathEscape(name) + query, Type: "image/jpeg", Data: data})
		}
	}
	return a
}

func TestEveryShapeOfPageIsFixedAndUndone(t *testing.T) {
	if Chromium() == "" {
		t.Skip("there is no Chromium here")
	}
	shapes := map[string]int{}
	for _, p := range corpus {
		shapes[p.shape]++
	}
	if len(corpus) < 40 || len(shapes) < 12 {
		t.Fatalf("%d pages in %d shapes", len(corpus), len(shapes))
	}
	// Pages of eight shapes, others in every run; all of them with ECHOLANE_CORPUS=all (make corpus). Every third is fixed twice.
	seed := rand.Uint64()
	if given := os.Getenv("ECHOLANE_CORPUS_SEED"); given != "" {
		seed, _ = strconv.ParseUint(given, 10, 64)
	}
	t.Logf("ECHOLANE_CORPUS_SEED=%d", seed)
	draw := rand.New(rand.NewPCG(seed, 1))
	pages := slices.Clone(corpus)
	if os.Getenv("ECHOLANE_CORPUS") != "all" {
		draw.Shuffle(len(pages), func(i, j int) { pages[i], pages[j] = pages[j], pages[i] })
		drawn := map[string]bool{}
		pages = slices.DeleteFunc(pages, func(p corpusPage) bool {
			had := drawn[p.shape]
			drawn[p.shape] = true
			return had
		})[:8]
	}
	w := fixer(t)
	phone := Screen{"phone", 390, 844, 1}
	type result struct {
		out, second *Outcome
		err         error
	}
	results := make([]result, len(pages))
	var all errgroup.Group
	all.SetLimit(4)
	for i, p := range pages {
		r := &results[i]
		all.Go(func() error {
			if r.out, r.err = w.Weigh(t.Context(), askFor(t, p.html, phone), func(int, int, string) {}); r.err == nil && i%3 == 0 {
				r.second, r.err = w.Weigh(t.Context(), askFor(t, string(r.out.Fixed.HTML), phone), func(int, int, string) {})
			}
			return nil
		})
	}
	all.Wait()
	for i, p := range pages {
		t.Run(p.shape+": "+p.name, func(t *testing.T) {
			r := results[i]
			if r.err != nil {
				t.Fatal(r.err)
			}
			out := r.out
			if out.Fixed.Changed < p.changes || p.changes == 0 && out.Fixed.Changed > 0 {
				t.Errorf("%d images are rewritten, want %d; left: %+v", out.Fixed.Changed, p.changes, out.Fixed.Left)
			}
			if undone := markup.Restore(out.Fixed.HTML); string(undone) != p.html {
				t.Errorf("undone it is another page:\n%s", undone)
			}
			if out.Fixed.Changed == 0 && string(out.Fixed.HTML) != p.html {
				t.Errorf("nothing was rewritten, and it is another page:\n%s", out.Fixed.HTML)
			}
			holdsUp(t, &out.Report, out.After)
			if r.second != nil && !bytes.Equal(r.second.Fixed.HTML, out.Fixed.HTML) {
				t.Errorf("rewritten twice it is another page:\n%s\n%s", out.Fixed.HTML, r.second.Fixed.HTML)
			}
		})
	}
}

// holdsUp reports pictures that are heavier than before or no longer there.
func holdsUp(t *testing.T, before, after *weighin.Report) {
	t.Helper()
	for i := range after.Views {
		b, a := &before.Views[i], &after.Views[i]
		if a.Bytes > b.Bytes {
			t.Errorf("on the %s the page has %d bytes, and had %d", a.Name, a.Bytes, b.Bytes)
		}
		was := map[string]*weighin.Picture{}
		for j := range b.Pictures {
			was[placeName(b.Pictures[j].Key, b.Pictures[j].Nth)] = &b.Pictures[j]
		}
		for j := range a.Pictures {
			n := &a.Pictures[j]
			o := was[placeName(n.Key, n.Nth)]
			if o == nil || n.Kind != "img" && n.Kind != "picture" || o.Failed != "" {
				continue
			}
			if n.Failed != "" || o.NaturalW > 0 && n.NaturalW == 0 || o.Bytes > 0 && n.Bytes > o.Bytes {
				t.Errorf("on the %s %s: %q, %d × %d, %d bytes; it was %d × %d, %d bytes", a.Name, n.URL, n.Failed, n.NaturalW, n.NaturalH, n.Bytes, o.NaturalW, o.NaturalH, o.Bytes)
			}
		}
	}
}

func TestPicturesOfABusyServiceAreWaitedFor(t *testing.T) {
	if Chromium() == "" {
		t.Skip("there is no Chromium here")
	}
	page := document(`<img src="pictures/tall.jpg" width="100" alt="">`)
	out, err := fixer(t).Weigh(t.Context(), askFor(t, page, Screen{"phone", 390, 844, 1}), func(int, int, string) {})
	if err != nil {
		t.Fatal(err)
	}
	if out.Fixed.Changed != 1 {
		t.Fatalf("%d images are rewritten, want 1; left: %+v", out.Fixed.Changed, out.Fixed.Left)
	}
	holdsUp(t, &out.Report, out.After)
}
