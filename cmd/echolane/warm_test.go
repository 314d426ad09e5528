package main

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
)

func TestASrcsetIsReadAsTheStandardSays(t *testing.T) {
	for text, want := range map[string][]string{
		"":                           nil,
		"a.jpg":                      {"a.jpg"},
		"a.jpg 1x, b.jpg 2x":         {"a.jpg", "b.jpg"},
		" a.jpg 320w,b.jpg 640w , ":  {"a.jpg", "b.jpg"},
		"a,b.jpg 1x,c.jpg, d.jpg":    {"a,b.jpg", "c.jpg", "d.jpg"},
		"/k/c/a.jpg?crop=1,2 1x, /b": {"/k/c/a.jpg?crop=1,2", "/b"},
		"a.jpg foo(1,2) 3w, b.jpg":   {"a.jpg", "b.jpg"},
	} {
		if got := srcset(text); !slices.Equal(got, want) {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}

func TestTheImagesOfASiteAreFoundInPages(t *testing.T) {
	own := ownAddresses{site: "kestrel", server: "127.0.0.1:8740", hosts: []string{"img.kestrel.test"}}
	const page = `<link rel=preload as=image imagesrcset="http://127.0.0.1:8740/kestrel/catalogue/a.jpg?width=320 320w">
		<img src="/kestrel/catalogue/b.jpg" srcset="https://img.kestrel.test/catalogue/c%20d.jpg?width=1&amp;dpr=2 2x, //img.kestrel.test/catalogue/e.jpg 1x">
		<video poster=http://127.0.0.1:8740/kestrel/catalogue/f.jpg></video><a href="https://elsewhere.test/kestrel/catalogue/g.jpg">x</a>
		<img src="http://127.0.0.1:8740/other/catalogue/h.jpg"><img src="http://127.0.0.1:8740/kestrel/"><!-- <img src="/kestrel/catalogue/i.jpg"> -->`
	got, err := own.in("http://127.0.0.1:8740/x/", []byte(page))
	want := []string{"/kestrel/catalogue/a.jpg?width=320", "/kestrel/catalogue/b.jpg", "/kestrel/catalogue/c%20d.jpg?width=1&dpr=2", "/kestrel/catalogue/e.jpg", "/kestrel/catalogue/f.jpg"}
	if err != nil || !slices.Equal(got, want) {
		t.Errorf("%q, %v, want %q", got, err, want)
	}
}

func TestSiteMapsNamePages(t *testing.T) {
	var s *httptest.Server
	s = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		switch r.URL.Path {
		case "/all.xml":
			fmt.Fprintf(w, `<?xml version="1.0"?><sitemapindex xmlns="http://www.sitemaps.org/schemas/sitemap/0.9"><sitemap><loc> %s/one.xml </loc></sitemap><sitemap><loc>%s/all.xml</loc></sitemap></sitemapindex>`, s.URL, s.URL)
		case "/one.xml":
			fmt.Fprint(w, `<urlset xmlns="http://www.sitemaps.org/schemas/sitemap/0.9">`, strings.Repeat(`<url><loc>https://shop.test/a</loc></url>`, 3), `<url><loc>https://shop.test/b</loc></url></urlset>`)
		case "/none.xml":
			fmt.Fprint(w, `<urlset></urlset>`)
		case "/broken.xml":
			fmt.Fprint(w, `<urlset><url>`)
		default:
			w.WriteHeader(404)
		}
	}))
	defer s.Close()
	if got, err := siteMap(context.Background(), s.URL+"/all.xml", 10); err != nil || !slices.Equal(got, []string{"https://shop.test/a", "https://shop.test/b"}) {
		t.Errorf("%q, %v", got, err)
	}
	if got, err := siteMap(context.Background(), s.URL+"/one.xml", 1); err != nil || len(got) != 1 {
		t.Errorf("%q, %v", got, err)
	}
	for _, name := range []string{"none", "broken", "missing"} {
		if _, err := siteMap(context.Background(), s.URL+"/"+name+".xml", 10); err == nil || !strings.Contains(err.Error(), name+".xml") {
			t.Errorf("%s: %v", name, err)
		}
	}
}
