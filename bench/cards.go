package main

import (
	"fmt"
	"strings"
	"time"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/text"
	"echolane/demo/pictures"
	"echolane/service/workshop"
)

// cards measures a card of three texts, two pictures and a gradient, and what is far too much: what its layers take beside what the picture
// under them takes, in a worker that has its fonts and pictures and in one that has nothing.
func cards(r *report) error {
	source, err := pictures.Load("delta-red.jpg")
	if err != nil {
		return err
	}
	photo, err := pictures.Load("rokkaku-studio.jpg")
	if err != nil {
		return err
	}
	mark, err := pictures.Load("mark.png")
	if err != nil {
		return err
	}
	const sheet = `* { object-fit: cover; quality: 72 }
.plain, .card { width: 1200px; height: 630px }
.card::layer(dusk) { inset: 0; background: linear-gradient(90deg, rgb(13 27 42 / 92%), transparent 85%) }
.card::layer(kind) { content: "Kestrel & Twine"; left: 6%; top: 10%; font: 600 26px sans-serif; color: gold }
.card::layer(title) { content: attr(data-title); left: 6%; top: 20%; width: 56%; height: 46%; font: bold fit(34px, 92px)/1.12 serif; color: white; text-wrap: balance }
.card::layer(line) { content: attr(data-line); left: 6%; bottom: 11%; width: 52%; font: 30px/1.35 sans-serif; color: white }
.card::layer(photo) { content: url(catalogue/rokkaku-studio.jpg); right: 6%; bottom: 10%; width: 230px; height: 230px; border: 7px solid white; border-radius: 50%; object-fit: cover }
.card::layer(mark) { content: url(catalogue/mark.png); right: 6%; top: 8%; width: 120px }
`
	var other time.Duration // of the picture under them, of all that was tried
	try := func(rules, query string, cache *text.Cache, layers *render.LayerCache) (took time.Duration, err error) {
		doc := policy.NewDocument("kites")
		doc.Sheet, doc.Cards.Values = rules, "open"
		site, _, err := policy.Compile(doc, nil)
		if err != nil {
			return 0, err
		}
		d, err := declare.Parse(query)
		if err != nil {
			return 0, err
		}
		asked, no := site.Decide(&policy.Ask{Lane: &policy.CompiledLane{}, Declared: d, Accepted: policy.AcceptsAll}, nil)
		if no != nil {
			return 0, no
		}
		job := render.Job{Request: asked, Limits: site.Limits, Pictures: map[string][]byte{"catalogue/rokkaku-studio.jpg": photo, "catalogue/mark.png": mark}, FontCache: cache, Layers: layers}
		if err := workshop.ReadFonts(&job); err != nil {
			return 0, err
		}
		start := time.Now()
		job.Clock, job.Predict = func() time.Duration { return time.Since(start) }, true
		made, err := render.Variant(source, job)
		for _, s := range made.Stages {
			if s.Name == "layers" || s.Name == "paint" {
				took += s.Took
			} else if s.Name != "encode" {
				other = max(other, 0) + s.Took
			}
		}
		return took, err
	}
	least := func(n int, do func(i int) (time.Duration, error)) (best time.Duration, err error) {
		for i := range n {
			t, err := do(i)
			if err != nil {
				return 0, err
			}
			if best == 0 || t < best {
				best = t
			}
		}
		return best, nil
	}
	const card = "class=card&format=jpeg&data-line=Sewn+by+hand+in+the+loft+above+the+harbour&data-title=Spring+sale+on+delta+number+%d"
	var plain time.Duration // its decoding and resampling
	for i := range 5 {
		other = 0
		if _, err := try(sheet, "class=plain&format=jpeg", nil, nil); err != nil {
			return err
		}
		if i == 0 || other < plain {
			plain = other
		}
	}
	cache, layers := text.NewCache(64<<20), render.NewLayerCache(16<<20)
	warm, err := least(6, func(i int) (time.Duration, error) { return try(sheet, fmt.Sprintf(card, i), cache, layers) })
	if err != nil {
		return err
	}
	cold, err := least(3, func(i int) (time.Duration, error) { return try(sheet, fmt.Sprintf(card, i), nil, nil) })
	if err != nil {
		return err
	}
	ms := func(d time.Duration) float64 { return float64(d) / 1e6 }
	r.say("a card of 3 texts, 2 pictures and a gradient, 1200 × 630: %.1f ms beside the picture's own %.1f (%.2f of it); %.1f where nothing is kept", ms(warm), ms(plain), float64(warm)/float64(plain), ms(cold))

	var many strings.Builder
	many.WriteString(sheet)
	for i := range 190 {
		fmt.Fprintf(&many, ".many::layer(l%d) { left: %d%%; top: %d%%; width: 30%%; height: 20%%; background: linear-gradient(red, transparent); opacity: .3; box-shadow: 0 4px 12px black }\n", i, i%70, i%80)
	}
	lots, err := least(2, func(int) (time.Duration, error) {
		return try(strings.ReplaceAll(many.String(), ".plain,", ".plain, .many,"), "class=many&format=jpeg", nil, nil)
	})
	if err != nil {
		return err
	}
	r.say("190 layers, each with a gradient and a shadow: %.0f ms, %.2f a layer", ms(lots), ms(lots)/190)
	for _, script := range []struct{ name, words, families string }{{"Latin", "kites above the harbour ", "sans-serif"}, {"Arabic", "طائرة فوق البحر ", "Noto Sans Arabic"}, {"Chinese", "红色的风筝在海面上", "Noto Sans CJK SC"}} {
		words := strings.Repeat(script.words, 10_000)
		words = string([]rune(words)[:10_000])
		rule := ".long { width: 1200px; height: 630px }\n.long::layer(t) { inset: 0; font: 8px " + script.families + "; content: \"" + words + "\" }\n"
		long, err := least(2, func(int) (time.Duration, error) { return try(sheet+rule, "class=long&format=jpeg", cache, nil) })
		if err != nil {
			return err
		}
		r.say("a text of 10,000 characters, %s: %.0f ms", script.name, ms(long))
	}
	return nil
}
