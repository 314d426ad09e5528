package main

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"echolane/testbed/browser"
)

// page is a browser that fails the test at the caller's line.
type page struct {
	*browser.Browser
	t *testing.T
}

func openPage(t *testing.T) page {
	t.Helper()
	b, err := browser.Start()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.Close)
	return page{b, t}
}

func (p page) must(err error) {
	p.t.Helper()
	if err != nil {
		p.t.Fatal(err)
	}
}

func (p page) until(expression string) {
	p.t.Helper()
	if err := p.Until(expression); err != nil {
		words, _ := browser.Run(p.Browser, chromedp.Evaluate[string]("location.href + '\\n' + document.body.innerText"))
		p.t.Fatalf("%v; the page is at %s", err, words)
	}
}

func (p page) text(expression string) string {
	p.t.Helper()
	v, err := browser.Run(p.Browser, chromedp.Evaluate[string](expression))
	p.must(err)
	return v
}

func (p page) query() url.Values {
	p.t.Helper()
	u, err := url.Parse(p.text("location.href"))
	p.must(err)
	return u.Query()
}

const saving = `document.querySelector("[data-testid=saving]")`

// variantPixels is the text under the variant, such as 300 × 200.
const variantPixels = `document.querySelector("section[aria-label=Variant] dd").textContent`

func TestEaselFromLaneToCopiedURL(t *testing.T) {
	s := bed.Kestrel(t)
	p := openPage(t)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/"))
	p.until(`location.pathname === "/-/console/easel/kestrel/catalogue"`)
	p.until(`document.querySelectorAll("ul[aria-label=Sources] img").length >= 14`)
	p.until(`[...document.querySelectorAll("ul[aria-label=Sources] img")].slice(0, 6).every(i => i.complete && i.naturalWidth === 208)`)

	// By keyboard: to the filter, a word, to the first thumbnail, chosen.
	p.must(p.Do(chromedp.SendKeys(chromedp.CSS("input[type=search]"), "sled")))
	p.until(`document.querySelectorAll("ul[aria-label=Sources] li").length === 1`)
	p.must(p.Do(chromedp.KeyEvent("\t"), chromedp.KeyEvent("\r")))
	p.until(`location.pathname.endsWith("/catalogue/sled-blue.jpg")`)
	p.until(saving)

	// A width, typed: the picture, the figures and the address bar follow.
	p.must(p.Do(chromedp.Focus(chromedp.CSS("input[inputmode=numeric]")), chromedp.SendKeys(chromedp.CSS("input[inputmode=numeric]"), "300")))
	p.until(variantPixels + ` === "300 × 188"`)
	if got := p.query().Get("width"); got != "300" {
		t.Errorf("the address bar says width=%q", got)
	}
	facts := p.text(`document.querySelector("section[aria-label=Variant]").innerText`)
	for _, want := range []string{"kB", "image/webp", "ms"} {
		if !strings.Contains(facts, want) {
			t.Errorf("under the variant stands %q, without %q", facts, want)
		}
	}
	same := `(() => { const [a, b] = document.querySelectorAll("section img"); const r = a.getBoundingClientRect(), s = b.getBoundingClientRect(); return Math.abs(r.width - s.width) < 1 && Math.abs(r.height - s.height) < 1 && r.width > 100 })()`
	p.until(same)

	// The slider moves by arrow keys.
	p.must(p.Do(chromedp.Focus(chromedp.CSS("[role=slider][aria-label=Width]")), chromedp.KeyEvent("\u0303"))) // arrow right
	p.until(`new URLSearchParams(location.search).get("width") === "301"`)

	// Fit and format by their buttons.
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("[aria-label=Format] button")].find(b => b.textContent === "png").click()`)))
	p.until(`document.querySelector("section[aria-label=Variant]").innerText.includes("image/png")`)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("[aria-label=Fit] button")].find(b => b.textContent === "contain").click()`)))
	p.until(`new URLSearchParams(location.search).get("object-fit") === "contain"`)

	// The shown URL is the image's, and copying says so.
	shown := p.text(`document.querySelector("[data-testid=address]").textContent`)
	path := strings.TrimPrefix(shown, s.Base)
	if a := s.Get(t, path); a.StatusCode != 200 || a.Header.Get("Content-Type") != "image/png" {
		t.Errorf("the shown URL %s answers %d %s", shown, a.StatusCode, a.Header.Get("Content-Type"))
	}
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`navigator.clipboard.writeText = t => { window.copied = t; return Promise.resolve() }; [...document.querySelectorAll("button")].find(b => b.textContent === "Copy URL").click()`)))
	p.until(`window.copied === document.querySelector("[data-testid=address]").textContent && document.body.innerText.includes("Copied")`)
}

func TestEaselAddressHoldsTheWholeState(t *testing.T) {
	s := bed.Kestrel(t)
	p := openPage(t)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/dragon-tail.jpg?width=200&aspect-ratio=1%2F1&object-fit=fill&format=jpeg&quality=35"))
	p.until(saving)
	p.until(variantPixels + ` === "200 × 200"`)
	state := p.text(`[...document.querySelectorAll("[data-state=on]")].map(b => b.textContent).join(" ")`)
	for _, want := range []string{"fill", "jpeg"} {
		if !strings.Contains(state, want) {
			t.Errorf("chosen are %q, not %s", state, want)
		}
	}
	if got := p.text(`[...document.querySelectorAll("input[inputmode=numeric]")].map(i => i.value).join(" ")`); got != "200  35" {
		t.Errorf("the fields say %q", got)
	}
	// Another source, and back.
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`document.querySelector("button[aria-pressed=false]").click()`)))
	p.until(`!location.pathname.includes("dragon-tail")`)
	p.must(p.Do(chromedp.NavigateBack()))
	p.until(`location.pathname.endsWith("dragon-tail.jpg") && document.querySelector("button[aria-pressed=true]").textContent.includes("dragon-tail")`)
}

func TestEaselShowsRefusalsInTheServicesWords(t *testing.T) {
	s := bed.Kestrel(t)
	p := openPage(t)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/nothing.jpg"))
	p.until(`document.querySelector("[role=alert]")?.innerText.includes("No such source")`)
	p.must(p.Open(s.Base + "/-/console/elsewhere"))
	p.until(`document.body.innerText.includes("There is no such place")`)
	empty := bed.Serve(t)
	p.must(p.Open(empty.Base + "/-/console/"))
	p.until(`document.body.innerText.includes("echolane lane add")`)
}

func TestConsoleInTheDarkAndOnAPhone(t *testing.T) {
	s := bed.Kestrel(t)
	p := openPage(t)
	ground := `getComputedStyle(document.body).backgroundColor`
	p.must(p.Look(1280, 800, "dark"))
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/mark.png?width=200"))
	p.until(`document.documentElement.dataset.theme === "dark"`)
	p.until(saving)
	dark := p.text(ground)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("[aria-label='Light or dark'] button")].find(b => b.textContent === "Light").click()`)))
	p.until(`document.documentElement.dataset.theme === "light"`)
	if light := p.text(ground); light == dark {
		t.Errorf("light and dark have the same ground %s", light)
	}
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/mark.png?width=200"))
	p.until(`document.documentElement.dataset.theme === "light"`) // the choice is kept
	for _, w := range []int64{1280, 390} {
		p.must(p.Look(w, 800, "light"))
		p.until(fmt.Sprintf(`innerWidth === %d && document.documentElement.scrollWidth <= innerWidth`, w))
	}
}

func TestEverythingInTheConsoleIsReachedByTab(t *testing.T) {
	s := bed.Kestrel(t)
	p := openPage(t)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/mark.png?width=200&height=100"))
	p.until(saving)
	seen := map[string]bool{}
	for range 60 {
		p.must(p.Do(chromedp.KeyEvent("\t")))
		seen[p.text(`(e => e.closest("[role=group],[role=radiogroup]")?.getAttribute("aria-label") || e.getAttribute("aria-label") || e.labels?.[0]?.textContent || e.textContent.trim())(document.activeElement)`)] = true
		if !strings.Contains(p.text(`getComputedStyle(document.activeElement).outlineStyle`), "solid") && p.text(`document.activeElement.tagName`) != "BODY" {
			t.Errorf("no focus ring on %s", p.text(`document.activeElement.outerHTML.slice(0, 120)`))
		}
	}
	for _, want := range []string{"Easel", "Light or dark", "Lane", "Find a source", "Copy URL", "Width", "Height", "Shape", "Shapes", "Fit", "Format", "Loss", "Quality"} {
		if !seen[want] {
			t.Errorf("Tab doesn't reach %s; it reaches %v", want, seen)
		}
	}
}
