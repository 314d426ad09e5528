package origin

import (
	"fmt"
	"html/template"
	"net/http"
	"os"
	"path/filepath"

	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/core/render"
	"echolane/demo/pictures"
)

// after is the shop as it is with Echo Lane: by markup alone, or by the element.
type after struct {
	dir    string // where the pictures lie
	images string // what the addresses of the site's images begin with
	web    string // where the page's own modules are
}

// a tile is one picture of the page.
type tile struct {
	Alt  string
	HTML template.HTML
}

// where says how soon a picture is seen.
type where int

const (
	below where = iota // after scrolling
	above              // at once
	first              // at once, and it is what the page is waited for
)

// aboveTiles are seen without scrolling: the first row on a desktop.
const aboveTiles = 4

// Places of the page, as its style sheet has them.
const (
	heroSlot = "width: 100vw; aspect-ratio: 3/1; object-position: subject"
	tileSlot = "aspect-ratio: 3/2; object-position: subject; width: calc(100vw - 64px); @media (min-width: 680px) { width: calc(50vw - 44px) } @media (min-width: 960px) { width: calc(33.3vw - 37px) } @media (min-width: 1264px) { width: 282px }"
)

func (a *after) serve(w http.ResponseWriter, element bool) {
	page := struct {
		Web        string
		Element    bool
		Preload    template.HTML
		Mark, Hero template.HTML
		Tiles      []tile
	}{Web: a.web, Element: element}
	var err error
	one := func(file, alt, slot string, w where) (html, preload template.HTML) {
		if err != nil {
			return "", ""
		}
		html, preload, err = a.picture(file, alt, slot, w, element)
		return html, preload
	}
	page.Mark, _ = one("mark.png", "", "width: 64px; aspect-ratio: 1", above)
	page.Hero, page.Preload = one("festival-dawn.jpg", "Kites over the festival meadow at dawn", heroSlot, first)
	for i, p := range pictures.Catalogue() {
		w := below
		if i < aboveTiles {
			w = above
		}
		html, _ := one(p.File, p.Alt, tileSlot, w)
		page.Tiles = append(page.Tiles, tile{p.Alt, html})
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	afterPage.Execute(w, page)
}

func (a *after) picture(file, alt, slot string, at where, element bool) (html, preload template.HTML, err error) {
	source, err := os.ReadFile(filepath.Join(a.dir, file))
	if err != nil {
		return "", "", err
	}
	info, err := render.Probe(source)
	if err != nil {
		return "", "", err
	}
	w, h := info.Upright()
	o := markup.Options{Base: a.images, Source: "catalogue/" + file, Facts: markup.Facts{Width: w, Height: h, Alpha: info.Alpha}, Alt: &alt, Decorative: alt == "", First: at == first, Above: at == above, Site: declare.Declarations{GeometryValues: declare.GeometryValues{Fit: declare.Cover}}}
	if o.Slot, err = markup.ParseSlot(slot); err != nil {
		return "", "", err
	}
	m, err := markup.Make(o)
	if err != nil {
		return "", "", err
	}
	if !element {
		if at != first {
			return template.HTML(m.HTML()), "", nil
		}
		return template.HTML(m.HTML()), template.HTML(m.Preload()), nil
	}
	d := o.Declared()
	loading := ""
	if at != below {
		loading = ` loading="eager"`
	}
	plain := o.Address(d, min(w, 320))
	return template.HTML(fmt.Sprintf(`<lane-image base="%s" source="catalogue/%s" declarations="%s" natural="%d"%s><img src="%s" alt="%s" width="%d" height="%d" loading="lazy"></lane-image>`,
		markup.Escape(a.images), file, markup.Escape(d.AddressForm()), w, loading, markup.Escape(plain), markup.Escape(alt), m.Width, m.Height)), "", nil
}

var afterPage = template.Must(template.New("after").Parse(`<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>Kestrel & Twine, kites by hand</title>
{{.Preload}}{{if .Element}}<link rel="stylesheet" href="{{.Web}}/lane-image.css">
<script type="module" src="{{.Web}}/lane-image.js"></script>
{{end}}<style>
  body { margin: 0; font: 16px/1.5 system-ui, sans-serif; color: #1b2a3a; background: #fbfaf6; }
  header { display: flex; align-items: center; gap: 1rem; padding: 1rem 2rem; }
  header img, header lane-image { width: 64px; height: 64px; }
  h1 { font-size: 1.5rem; margin: 0; }
  .hero img { display: block; width: 100%; height: auto; aspect-ratio: 3 / 1; object-fit: cover; }
  main { display: grid; grid-template-columns: repeat(auto-fill, minmax(280px, 1fr)); gap: 1.5rem; padding: 2rem; max-width: 1200px; margin: 0 auto; }
  figure { margin: 0; }
  figure img { display: block; width: 100%; height: auto; aspect-ratio: 3 / 2; object-fit: cover; background: #e9e5da; }
  figcaption { padding-top: .5rem; }
</style>
</head>
<body>
<header>{{.Mark}}<h1>Kestrel & Twine</h1></header>
<div class="hero">{{.Hero}}</div>
<main>
{{range .Tiles}}  <figure>{{.HTML}}<figcaption>{{.Alt}}</figcaption></figure>
{{end}}</main>
</body>
</html>
`))
