// Command report writes what the judge saw as one page, worst first: `make conformance-report`.
package main

import (
	"bytes"
	"encoding/base64"
	"fmt"
	"html/template"
	"image"
	"image/png"
	"math/rand/v2"
	"os"
	"path/filepath"

	"echolane/conformance"
)

func main() {
	to := filepath.Join("var", "conformance.html")
	if len(os.Args) > 1 {
		to = os.Args[1]
	}
	if err := run(to); err != nil {
		fmt.Fprintln(os.Stderr, "conformance-report:", err)
		os.Exit(1)
	}
}

type row struct {
	conformance.Result
	Ours, Theirs, Difference template.URL
}

func run(to string) error {
	sources, err := conformance.Sources()
	if err != nil {
		return err
	}
	judge, err := conformance.NewJudge(sources)
	if err != nil {
		return err
	}
	defer judge.Close()
	seed := rand.Uint64()
	cases := append(conformance.Fixed(sources), conformance.Random(sources, rand.New(rand.NewPCG(seed, 7)), 60)...)
	var results []conformance.Result
	for i, c := range cases {
		r, err := judge.Run(c, nil)
		if err != nil {
			return err
		}
		results = append(results, r)
		if i%20 == 0 {
			fmt.Fprintf(os.Stderr, "%d of %d\n", i, len(cases))
		}
	}
	conformance.WorstFirst(results)
	failed := 0
	var rows []row
	for _, r := range results {
		if len(r.Failures) > 0 {
			failed++
		}
		rows = append(rows, row{r, picture(r.Ours), picture(r.Theirs), picture(conformance.Difference(r.Ours, r.Theirs))})
	}
	var b bytes.Buffer
	err = page.Execute(&b, map[string]any{"Rows": rows, "Failed": failed, "Seed": seed, "Departures": departures})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
		return err
	}
	if err := os.WriteFile(to, b.Bytes(), 0o644); err != nil {
		return err
	}
	fmt.Printf("%s: %d cases, %d failed\n", to, len(results), failed)
	return nil
}

func picture(m image.Image) template.URL {
	var b bytes.Buffer
	if err := png.Encode(&b, m); err != nil {
		return ""
	}
	return template.URL("data:image/png;base64," + base64.StdEncoding.EncodeToString(b.Bytes()))
}

// departures are where the language isn't CSS's on purpose.
var departures = []string{
	"rotate turns the picture before it is fitted, so the slot holds for what is delivered; its cases go through a canvas first.",
	"contain and scale-down deliver the fitted picture alone, unless there is a ground to paint their bars with.",
	"blur extends the edge's colour where CSS fades it; the margins that this reaches are left out of its cases.",
	"drop-shadow doesn't grow the canvas.",
	"A picture isn't scaled above its natural pixels unless grow says so; slots that would are delivered smaller.",
	"Our kernel is sharper than the browser's on purpose: it is judged at four times the resolution.",
}

var page = template.Must(template.New("report").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><title>Conformance with a browser</title>
<style>
:root{color-scheme:light dark}body{font:14px/1.5 system-ui,sans-serif;margin:2rem;max-width:80rem}
h1{font-size:1.3rem}section{border-top:1px solid #8886;padding:.75rem 0;display:grid;grid-template-columns:22rem 1fr;gap:1rem}
code{font-family:ui-monospace,monospace;overflow-wrap:anywhere}figure{margin:0}figcaption{opacity:.7}
.row{display:flex;gap:1rem;flex-wrap:wrap}img{max-width:16rem;max-height:14rem;background:repeating-conic-gradient(#ccc 0% 25%,#eee 0% 50%) 0 0/16px 16px}
.bad{color:#b3261e;font-weight:600}dl{display:grid;grid-template-columns:max-content 1fr;gap:0 .75rem;margin:.25rem 0;font-variant-numeric:tabular-nums}dd{margin:0}
</style>
<h1>What Echo Lane makes, beside what a browser paints</h1>
<p>{{len .Rows}} cases, {{.Failed}} failed; the least convincing first. Seed of the random ones: {{.Seed}}.</p>
<p>Where the language departs from CSS on purpose:</p><ul>{{range .Departures}}<li>{{.}}</li>{{end}}</ul>
{{range .Rows}}<section>
<div><code>{{.Source.Name}}?{{.Query}}</code><br><code style="opacity:.7">{{.Style}}</code>
<dl><dt>kind</dt><dd>{{.Kind}}</dd><dt>PSNR</dt><dd>{{printf "%.1f" .Figures.PSNR}} dB</dd><dt>p99.9, max</dt><dd>{{printf "%.0f" .Figures.P999}}, {{.Figures.Max}} levels</dd>
{{if or .Place.TX .Place.TY}}<dt>shift, stretch</dt><dd>{{printf "%.3f, %.3f" .Place.Shift .Place.Stretch}} px</dd>{{end}}{{if .Alpha}}<dt>alpha</dt><dd>{{.Alpha}} levels</dd>{{end}}</dl>
{{range .Failures}}<p class="bad">{{.}}</p>{{end}}</div>
<div class="row"><figure><img src="{{.Ours}}" alt=""><figcaption>Echo Lane</figcaption></figure><figure><img src="{{.Theirs}}" alt=""><figcaption>browser</figcaption></figure><figure><img src="{{.Difference}}" alt=""><figcaption>difference × 8</figcaption></figure></div>
</section>
{{end}}</html>
`))
