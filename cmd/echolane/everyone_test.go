package main

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"echolane/internal/browser"
)

// Every place of the console, light and dark and on a phone: axe-core finds nothing, nothing is wider than the screen, and there
// is something to see.
func TestEveryPlaceIsForEveryone(t *testing.T) {
	t.Parallel()
	axe, err := os.ReadFile("../../console/node_modules/axe-core/axe.min.js")
	if err != nil {
		t.Fatalf("%v: make console installs it", err)
	}
	s := bed.Kestrel(t)
	p := enter(t, s)
	s.Get(t, "/kestrel/catalogue/mark.png?widht=1")
	s.Get(t, "/kestrel/catalogue/mark.png?width=64")
	places := []struct{ path, until string }{
		{"today", `document.querySelector("main h1")`},
		{"lanes/kestrel", `document.body.innerText.includes("catalogue")`},
		{"easel/kestrel/catalogue", `[...document.querySelectorAll("ul[aria-label=Sources] img")].some(i => i.naturalWidth === 480)`},
		{"easel/kestrel/catalogue/mark.png?width=200", saving},
		{"easel/kestrel/catalogue/mark.png?width=200&view=sweep", `document.body.innerText.includes("weep")`},
		{"easel/kestrel/catalogue/mark.png?width=200&view=markup&alt=Mark", `document.querySelector("section[aria-label=Markup] pre")`},
		{"sheet/kestrel", `document.querySelector("section[aria-label='What the classes do'] img")?.naturalWidth > 0`},
		{"pages/kestrel", `document.body.innerText.includes("Weigh")`},
		{"stock/kestrel", `document.querySelector("main h1")`},
		{"refusals", `document.body.innerText.includes("widht")`},
		{"keys", `document.body.innerText.includes("oken")`},
	}
	looks := []struct {
		width, height int64
		theme         string
		only          string // what axe-core is to look at
	}{
		{1280, 800, "light", ""},
		{1280, 800, "dark", `, runOnly: ["color-contrast", "link-in-text-block"]`}, // the same elements in other colours
		{390, 844, "light", `, rules: {"color-contrast": {enabled: false}}`},       // other places in the same colours
	}
	for _, place := range places {
		for i, look := range looks {
			p.must(p.Look(look.width, look.height, look.theme))
			if i == 0 {
				p.must(p.Open(s.Base + "/-/console/" + place.path))
				p.until(place.until)
				p.must(p.Do(chromedp.Evaluate[chromedp.Void](string(axe))))
			}
			p.until(place.until)
			p.until(`document.getAnimations().every(a => a.playState !== "running" || a.effect.getTiming().iterations === Infinity)`)
			at := fmt.Sprintf("%s, %d wide, %s", place.path, look.width, look.theme)
			if wide := p.text(`String(document.documentElement.scrollWidth)`); wide != fmt.Sprint(look.width) {
				t.Errorf("%s: the page is %s pixels wide", at, wide)
			}
			if dark := p.text(`String(matchMedia("(prefers-color-scheme: dark)").matches)`); dark != fmt.Sprint(look.theme == "dark") {
				t.Errorf("%s: dark colours are preferred: %s", at, dark)
			}
			found, err := browser.Run(p.Browser, chromedp.Evaluate[string](`axe.run(document, {resultTypes: ["violations"]`+look.only+`}).then(r => r.violations.map(v => v.id + ": " + v.help + ": " + v.nodes.slice(0, 3).map(n => n.html.slice(0, 160) + " (" + (n.any[0]?.message ?? n.all[0]?.message ?? n.none[0]?.message ?? "") + ")").join(" | ")).join("\n"))`, chromedp.EvalAwaitPromise))
			p.must(err)
			for line := range strings.SplitSeq(found, "\n") {
				if line != "" {
					t.Errorf("%s: %s", at, line)
				}
			}
		}
	}
}
