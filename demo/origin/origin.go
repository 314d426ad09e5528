// Package origin is the stand-in for the web server that Kestrel & Twine already has: its shop page, and the
// pictures as they lie there, full size.
package origin

import (
	"html/template"
	"net/http"
	"path/filepath"

	"echolane/demo/pictures"
)

// New serves the shop at /, the pictures in dir at /pictures/, and again for other sites at /press/. service is where
// Echo Lane is, such as http://127.0.0.1:8740: with it the shop is there twice more, as it is afterwards, at /markup by
// static markup and at /element by the element.
func New(dir, service string) http.Handler {
	mux := http.NewServeMux()
	mux.Handle("GET /pictures/", http.StripPrefix("/pictures/", http.FileServer(http.Dir(dir))))
	// What the shop gives to the press: the same pictures, with the fields that a careful server sends.
	mux.HandleFunc("GET /press/{path...}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Cache-Control", "public, max-age=60")
		http.ServeFile(w, r, filepath.Join(dir, filepath.Base(r.PathValue("path"))))
	})
	if service != "" {
		a := &after{dir: dir, images: service + "/kestrel", web: service + "/-/web"}
		mux.HandleFunc("GET /markup", func(w http.ResponseWriter, _ *http.Request) { a.serve(w, false) })
		mux.HandleFunc("GET /element", func(w http.ResponseWriter, _ *http.Request) { a.serve(w, true) })
	}
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		shop.Execute(w, pictures.Catalogue())
	})
	return mux
}

// The page is as such pages are: every picture straight from the camera, squeezed by the style sheet.
var shop = template.Must(template.New("shop").Parse(`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>Kestrel & Twine, kites by hand</title>
<style>
  body { margin: 0; font: 16px/1.5 system-ui, sans-serif; color: #1b2a3a; background: #fbfaf6; }
  header { display: flex; align-items: center; gap: 1rem; padding: 1rem 2rem; }
  header img { width: 64px; height: 64px; }
  h1 { font-size: 1.5rem; margin: 0; }
  .hero img { display: block; width: 100%; aspect-ratio: 3 / 1; object-fit: cover; }
  main { display: grid; grid-template-columns: repeat(auto-fill, minmax(280px, 1fr)); gap: 1.5rem; padding: 2rem; max-width: 1200px; margin: 0 auto; }
  figure { margin: 0; }
  figure img { display: block; width: 100%; aspect-ratio: 3 / 2; object-fit: cover; background: #e9e5da; }
  figcaption { padding-top: .5rem; }
</style>
</head>
<body>
<header><img src="pictures/mark.png" alt=""><h1>Kestrel & Twine</h1></header>
<div class="hero"><img src="pictures/festival-dawn.jpg" alt="Kites over the festival meadow at dawn"></div>
<main>
{{range .}}  <figure><img src="pictures/{{.File}}" alt="{{.Alt}}"><figcaption>{{.Alt}}</figcaption></figure>
{{end}}</main>
</body>
</html>
`))
