package main

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/chromedp/chromedp"
	"golang.org/x/crypto/argon2"

	"echolane/internal/browser"
	"echolane/internal/localpg"
	"echolane/internal/testbed"
	"echolane/service/api"
)

// page is a browser that fails the test at the caller's line.
type page struct {
	*browser.Browser
	t *testing.T
}

// chromium is the one browser of all tests here; TestMain ends it.
var chromium struct {
	start sync.Once
	*browser.Browser
	err error
}

// openPage opens a window that knows nothing of the other tests'.
func openPage(t *testing.T) page {
	t.Helper()
	chromium.start.Do(func() { chromium.Browser, chromium.err = browser.Start() })
	if chromium.err != nil {
		t.Fatal(chromium.err)
	}
	w, err := chromium.Window()
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(w.Close)
	return page{w, t}
}

// enter opens a page that is signed in as an owner of the service.
func enter(t *testing.T, s *testbed.Process) page {
	t.Helper()
	// A password that takes a thousandth of the time that others take.
	salt := []byte("of console tests")
	kept := fmt.Sprintf("$argon2id$v=19$m=64,t=1,p=1$%s$%s", base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(argon2.IDKey([]byte("kites in the wind"), salt, 1, 64, 1, 32)))
	if err := localpg.Exec(context.Background(), s.Database, "INSERT INTO people (name, password, may, made_by) VALUES ('wren', $1, 'own', 'test') ON CONFLICT DO NOTHING", kept); err != nil {
		t.Fatal(err)
	}
	p := openPage(t)
	p.must(p.Open(s.Base + "/-/live"))
	// A service that has much else to do may say that it is busy: whoever signs in tries again, as people do.
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`(async () => {
  for (window.status0 = 0; window.status0 !== 200; ) {
    const r = await fetch("/-/api/v1/session", {method: "POST", body: JSON.stringify({name: "wren", password: "kites in the wind"})}).catch((e) => ({ status: String(e) }));
    document.body.append(" signing in: " + (window.status0 = r.status));
    if (r.status !== 200) await new Promise((done) => setTimeout(done, 2000));
  }
})(); 0`)))
	p.until(`window.status0 === 200`)
	return p
}

func addOwner(t *testing.T, s *testbed.Process) {
	t.Helper()
	a := s.Ask(t, "POST", "/-/api/v1/people", strings.NewReader(`{"name": "wren", "password": "kites in the wind", "may": "own"}`))
	if a.StatusCode != 201 && a.StatusCode != 409 {
		t.Fatalf("add wren: %d %s", a.StatusCode, a.Data)
	}
}

// click presses the button that says so.
func (p page) click(text string) {
	p.t.Helper()
	p.until(`[...document.querySelectorAll("button, a")].some(b => b.textContent.trim() === ` + strconv.Quote(text) + ` && !b.disabled)`)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("button, a")].find(b => b.textContent.trim() === ` + strconv.Quote(text) + ` && !b.disabled).click()`)))
}

// fill types into the field with this label, as React hears it.
func (p page) fill(label, text string) {
	p.t.Helper()
	field := `(() => { const l = [...document.querySelectorAll("label")].find(l => l.textContent.trim() === ` + strconv.Quote(label) + `); return l && (l.control ?? l.querySelector("input")) })()`
	p.until(field)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`(() => { const f = ` + field + `; Object.getOwnPropertyDescriptor(Object.getPrototypeOf(f), "value").set.call(f, ` + strconv.Quote(text) + `); f.dispatchEvent(new Event("input", {bubbles: true})) })()`)))
}

// says waits until the page shows these words.
func (p page) says(words string) {
	p.t.Helper()
	p.until(`document.body.innerText.includes(` + strconv.Quote(words) + `)`)
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
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "site", "set", "kestrel", "--formats", "avif,webp,jpeg,png")
	p := enter(t, s)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/"))
	p.until(`location.pathname === "/-/console/today"`)
	p.click("Easel")
	p.until(`location.pathname === "/-/console/easel/kestrel/catalogue"`)
	p.until(`document.querySelectorAll("ul[aria-label=Sources] img").length >= 14`)
	p.until(`[...document.querySelectorAll("ul[aria-label=Sources] img")].slice(0, 6).every(i => i.complete && i.naturalWidth === 480)`)

	// By keyboard: to the filter, a word, to the first thumbnail, chosen.
	p.must(p.Do(chromedp.SendKeys(chromedp.CSS("input[type=search]"), "sled")))
	p.until(`document.querySelectorAll("ul[aria-label=Sources] li").length === 1`)
	p.must(p.Do(chromedp.KeyEvent("\t"), chromedp.KeyEvent("\r")))
	p.until(`location.pathname.endsWith("/catalogue/sled-blue.jpg")`)
	p.until(saving)

	// A width, typed: the picture, the figures and the address bar follow.
	if got := p.query().Get("width"); got != "960" {
		t.Errorf("a source opens at width=%q", got)
	}
	p.must(p.Do(chromedp.Focus(chromedp.CSS("input[inputmode=numeric]")), chromedp.Evaluate[chromedp.Void](`document.activeElement.select()`), chromedp.SendKeys(chromedp.CSS("input[inputmode=numeric]"), "300")))
	p.until(variantPixels + ` === "300 × 188"`)
	if got := p.query().Get("width"); got != "300" {
		t.Errorf("the address bar says width=%q", got)
	}
	facts := p.text(`document.querySelector("section[aria-label=Variant]").innerText`)
	for _, want := range []string{"kB", "image/avif", "ms"} {
		if !strings.Contains(facts, want) {
			t.Errorf("under the variant stands %q, without %q", facts, want)
		}
	}
	same := `(() => { const [a, b] = document.querySelectorAll("section img"); const r = a.getBoundingClientRect(), s = b.getBoundingClientRect(); return Math.abs(r.width - s.width) < 1 && Math.abs(r.height - s.height) < 1 && r.width > 100 })()`
	p.until(same)

	// The slider moves by arrow keys.
	p.must(p.Do(chromedp.Focus(chromedp.CSS("[role=slider][aria-label=Width]")), chromedp.KeyEvent("\u0303"))) // arrow right
	p.until(`new URLSearchParams(location.search).get("width") === "301"`)

	// Format and fit by their first letters.
	p.must(p.Do(chromedp.Focus(chromedp.CSS("button[aria-label=Format]")), chromedp.SendKeys(chromedp.CSS("button[aria-label=Format]"), "pn")))
	p.until(`document.querySelector("section[aria-label=Variant]").innerText.includes("image/png")`)
	p.must(p.Do(chromedp.Focus(chromedp.CSS("button[aria-label=Fit]")), chromedp.SendKeys(chromedp.CSS("button[aria-label=Fit]"), "con")))
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
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/dragon-tail.jpg?width=200&aspect-ratio=1%2F1&object-fit=fill&format=jpeg&quality=35"))
	p.until(saving)
	p.until(variantPixels + ` === "200 × 200"`)
	state := p.text(`[...document.querySelectorAll("[data-state=on], button[aria-label=Fit], button[aria-label=Format]")].map(b => b.textContent).join(" ")`)
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

func TestEaselPaints(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/dragon-tail.jpg?rotate=90deg&width=200&object-position=subject&filter=grayscale(1)"))
	p.until(saving)
	p.until(`document.querySelector("input[name=filter]").value === "grayscale(1)"`)
	if got := p.text(`[...document.querySelectorAll("[data-state=on]")].length + " " + document.querySelector("button[aria-label=Position]").textContent`); !strings.Contains(got, "subject") {
		t.Errorf("the position shows as %q", got)
	}
	// What is typed into a line is declared as it stands, in the language's order.
	p.must(p.Do(chromedp.SendKeys(chromedp.CSS(`input[name=border-radius]`), "12px")))
	p.until(`document.querySelector("[data-testid=address]").textContent.endsWith("?rotate=90deg&width=200&object-position=subject&border-radius=12px&filter=grayscale%281%29")`)
	shown := p.text(`document.querySelector("[data-testid=address]").textContent`)
	if a := s.Get(t, strings.TrimPrefix(shown, s.Base)); a.StatusCode != 200 {
		t.Errorf("%s answers %d", shown, a.StatusCode)
	}
	p.until(saving)
	// And what doesn't parse is told in the service's words, beside the control that it came from.
	p.must(p.Do(chromedp.SendKeys(chromedp.CSS(`input[name=opacity]`), "much")))
	p.until(`document.querySelector("[role=alert]")?.innerText.includes("opacity")`)
}

func TestEaselShowsRefusalsInTheServicesWords(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/nothing.jpg"))
	p.until(`document.querySelector("[role=alert]")?.innerText.includes("No such source")`)
	p.must(p.Open(s.Base + "/-/console/elsewhere"))
	p.until(`document.body.innerText.includes("There is no such place")`)
	empty := bed.Serve(t)
	p = enter(t, empty)
	p.must(p.Open(empty.Base + "/-/console/"))
	p.until(`document.body.innerText.includes("echolane lane add")`)
}

func TestConsoleInTheDarkAndOnAPhone(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
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
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/mark.png?width=200&height=100"))
	p.until(saving)
	seen := map[string]bool{}
	for range 70 {
		p.must(p.Do(chromedp.KeyEvent("\t")))
		seen[p.text(`(e => e.closest("[role=group],[role=radiogroup]")?.getAttribute("aria-label") || e.getAttribute("aria-label") || e.labels?.[0]?.textContent || e.textContent.trim())(document.activeElement)`)] = true
		if !strings.Contains(p.text(`getComputedStyle(document.activeElement).outlineStyle`), "solid") && p.text(`document.activeElement.tagName`) != "BODY" {
			t.Errorf("no focus ring on %s", p.text(`document.activeElement.outerHTML.slice(0, 120)`))
		}
	}
	for _, want := range []string{"Lanes", "Easel", "Refusals", "Keys", "Sign out", "Light or dark", "Lane", "Find a source", "Copy URL", "Width", "Height", "Shape", "Shapes", "Fit", "Format", "Loss", "Quality"} {
		if !seen[want] {
			t.Errorf("Tab doesn't reach %s; it reaches %v", want, seen)
		}
	}
}

func TestTheDoorOfTheConsole(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	link := firstLink(t, s)
	p := openPage(t)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue"))
	p.says("Open the link that it printed")
	if strings.Contains(p.text(`document.body.innerText`), "delta-red") {
		t.Error("sources are shown to nobody")
	}
	// The first owner, by the link that serve printed.
	p.must(p.Open(s.Base + link))
	p.says("Become the owner")
	p.fill("Name", "wren")
	p.fill("Password", "short")
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`document.querySelector("form").requestSubmit()`)))
	p.says("10 to 256 characters")
	p.fill("Password", "kites in the wind")
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`document.querySelector("form").requestSubmit()`)))
	p.until(`location.pathname === "/-/console/today"`)
	p.click("Easel")
	p.until(`location.pathname === "/-/console/easel/kestrel/catalogue"`)
	p.until(`document.querySelectorAll("ul[aria-label=Sources] img").length >= 14`)
	if cookie := p.text(`document.cookie`); cookie != "" {
		t.Errorf("a script can read the session: %s", cookie)
	}
	// Out, and in again by name.
	p.click("Sign out")
	p.says("Sign in")
	p.fill("Name", "wren")
	p.fill("Password", "kites in the rain")
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`document.querySelector("form").requestSubmit()`)))
	p.says("name and password don't go together")
	p.fill("Password", "kites in the wind")
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`document.querySelector("form").requestSubmit()`)))
	p.until(`document.querySelectorAll("ul[aria-label=Sources] img").length >= 14`)
	// The link was good once.
	p.click("Sign out")
	p.says("Sign in")
	p.must(p.Open(s.Base + link))
	p.says("the one-time link was used, or has ended")
}

func TestLanesAreDraftedShownAndMade(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/-/console/lanes"))
	p.until(`location.pathname === "/-/console/lanes/kestrel"`)

	// A web lane: drafted, refused for what is missing, mended, warned about, made.
	p.fill("Another lane", "press")
	p.click("web")
	p.click("Draft it")
	p.says("A draft: review and make the changes")
	p.click("Review changes…")
	p.says("without a rule no source is allowed")
	p.fill("Allow", "http://photos.kestrel.test/*\nhttps://*.kestrel.test/press/*")
	p.fill("Deny", "https://*.kestrel.test/press/private/*")
	p.click("Review changes…")
	p.says("lanes.press.allow")
	p.says("plain http")
	p.click("Make these changes")
	p.says("version 3")
	var site api.Site
	if err := json.Unmarshal([]byte(bed.Must(t, s, "site", "show", "kestrel", "--json")), &site); err != nil {
		t.Fatal(err)
	}
	if l := site.Document.Lane("press"); l == nil || len(l.Allow) != 2 || len(l.Deny) != 1 || *l.FreshS != 300 {
		t.Errorf("%+v", l)
	}
	// Its rules are walked on demand.
	p.fill("Would this source be allowed?", "https://a.kestrel.test/press/private/x.jpg")
	p.click("Test")
	p.until(`document.querySelector("table[aria-label=Steps]")?.innerText.includes("deny https://*.kestrel.test/press/private/*")`)
	// A secret goes in and doesn't come out.
	p.fill("Header", "Authorization")
	p.fill("Value", "Bearer of-kites")
	p.click("Keep")
	p.says("header/Authorization: kept")
	if strings.Contains(p.text(`document.documentElement.outerHTML`), "of-kites") {
		t.Error("the page goes on showing the secret")
	}
	// Limits, the ladder by proposal.
	p.click("Propose")
	p.fill("Quality, ceiling", "85")
	p.click("Review changes…")
	p.says("limits.quality_ceiling")
	p.click("Make these changes")
	p.says("version 4")
	if no := s.Get(t, "/kestrel/catalogue/mark.png?width=333").Problem(t); no.Reason != "no-such-rung" {
		t.Errorf("with the ladder in force: %+v", no)
	}
	// Somebody else's change in between isn't overwritten.
	p.fill("Quality, ceiling", "80")
	bed.Must(t, s, "site", "set", "kestrel", "--limit", "quality_floor=5")
	p.click("Review changes…")
	p.click("Make these changes")
	p.says("was changed since you read it")
	p.click("Undo")
	// Back to an earlier version.
	p.must(p.Open(s.Base + "/-/console/lanes/kestrel"))
	p.says("version 5")
	p.until(`[...document.querySelectorAll("section[aria-label=History] tr")].some(r => r.cells[0].textContent === "2")`)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("section[aria-label=History] tr")].find(r => r.cells[0].textContent === "2").querySelector("button").click()`)))
	p.says("Go back to version 2?")
	p.click("Go back")
	p.says("version 6")
	if out := bed.Must(t, s, "site", "history", "kestrel"); !strings.Contains(out, "restored version 2") || !strings.Contains(out, "wren") {
		t.Errorf("history:\n%s", out)
	}
}

func TestPicturesAreDroppedOnTheConsole(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/incoming", "--upload", "--folder", filepath.Join(t.TempDir(), "incoming"))
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/lanes/kestrel/incoming"))
	p.until(`document.querySelector("[data-testid=drop]")`)
	drop := func(name string, data []byte) {
		t.Helper()
		p.must(p.Do(chromedp.Evaluate[chromedp.Void](`(() => { const bytes = Uint8Array.from(atob(` + strconv.Quote(base64.StdEncoding.EncodeToString(data)) + `), c => c.charCodeAt(0)); const d = new DataTransfer(); d.items.add(new File([bytes], ` + strconv.Quote(name) + `)); document.querySelector("[data-testid=drop]").dispatchEvent(new DragEvent("drop", {dataTransfer: d, bubbles: true, cancelable: true})) })()`)))
	}
	mark, err := os.ReadFile(filepath.Join(bed.Pictures, "mark.png"))
	if err != nil {
		t.Fatal(err)
	}
	drop("mark.png", mark)
	p.says("version 1, 800 × 800")
	drop("note.png", []byte("no picture at all"))
	p.says("by its first bytes the source is text/plain")
	if a := s.Get(t, "/kestrel/incoming/mark.png?width=40"); a.StatusCode != 200 {
		t.Errorf("a variant of what was dropped: %d %s", a.StatusCode, a.Data)
	}
}

func TestRefusalsAreMendedInTheConsole(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "site", "set", "kestrel", "--rungs", "320,640")
	for range 3 {
		s.Get(t, "/kestrel/catalogue/mark.png?width=400")
	}
	s.Get(t, "/kestrel/catalogue/none<b>.png")
	p := enter(t, s)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/-/console/refusals/kestrel"))
	p.says("Not a width of the ladder")
	if first := p.text(`document.querySelector("tbody tr").innerText`); !strings.Contains(first, "3") || !strings.Contains(first, "--add-rung 400") {
		t.Errorf("the first row says %q", first)
	}
	p.click("Mend…")
	p.says("320,400,640")
	p.click("Make this change")
	p.until(`!document.body.innerText.includes("Not a width of the ladder")`)
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=400"); a.StatusCode != 200 {
		t.Errorf("after mending: %d", a.StatusCode)
	}
	p.click("Forget")
	p.says("No refusals yet")
}

func TestKeysAreMadeAndTakenBack(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/-/console/keys"))
	p.fill("What it is for", "build server")
	p.click("Make a token")
	p.until(`document.querySelector("[data-testid=secret]")`)
	token := p.text(`document.querySelector("[data-testid=secret]").textContent`)
	if a := s.Get(t, "/-/api/v1/sites", "Authorization", "Bearer "+token); a.StatusCode != 200 {
		t.Errorf("the new token opens with %d", a.StatusCode)
	}
	p.click("Done")
	p.until(`!document.querySelector("[data-testid=secret]")`)
	p.click("Revoke")
	p.says("refused at once")
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll("[role=alertdialog] button")].find(b => b.textContent === "Revoke").click()`)))
	p.says("No token yet")
	if a := s.Get(t, "/-/api/v1/sites", "Authorization", "Bearer "+token); a.StatusCode != 401 {
		t.Errorf("the revoked token opens with %d", a.StatusCode)
	}
	p.fill("Name of the key", "spring")
	p.click("Make a key")
	p.until(`document.querySelector("[data-testid=secret]")`)
	p.click("Done")
	p.says("spring")
	out := bed.Must(t, s, "link", "kestrel/catalogue/mark.png", "width=50", "--sign", "spring")
	if a := s.Get(t, strings.TrimPrefix(strings.TrimSpace(out), s.Base)); a.StatusCode != 200 {
		t.Errorf("%s: %d", out, a.StatusCode)
	}
}

// firstLink is the link that serve prints while nobody owns the service.
func firstLink(t *testing.T, s *testbed.Process) string {
	t.Helper()
	var link string
	testbed.Eventually(t, "the service prints a link for the first owner", func() error {
		_, rest, ok := strings.Cut(s.Said(), "at "+s.Base)
		if !ok {
			return errors.New("not yet")
		}
		link = strings.Fields(rest)[0]
		return nil
	})
	return link
}

// Where one arrives are the figures; what is kept is looked at, purged after it was said what that is, and made ahead.
func TestTodayAndStockInTheConsole(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	for range 4 {
		s.Get(t, "/kestrel/catalogue/mark.png?width=100&format=webp")
	}
	s.Get(t, "/kestrel/catalogue/delta-red.jpg?width=100&format=webp")
	s.Get(t, "/kestrel/catalogue/none.png")
	p := enter(t, s)
	p.must(p.Look(1280, 800, "light"))
	p.must(p.Open(s.Base + "/-/console/"))
	p.until(`location.pathname === "/-/console/today"`)
	p.until(`document.querySelector("dl")?.innerText.includes("Requests") && document.querySelector("dl").innerText.includes("60.0 %")`) // three hits of five answers
	p.until(`document.querySelectorAll(".chart canvas").length === 2`)
	if label := p.text(`document.querySelector("section[aria-label=Requests] .chart").ariaLabel`); !strings.Contains(label, "6 requests") || !strings.Contains(label, "from memory 3") || !strings.Contains(label, "refused 1") {
		t.Errorf("the chart says %q", label)
	}
	p.says("127.0.0.1:")
	p.must(p.Open(s.Base + "/-/console/stock/kestrel"))
	p.until(`document.querySelector("section[aria-label='Kept variants'] tbody")?.innerText.includes("catalogue")`)
	p.click("Sources")
	p.click("catalogue/delta-red.jpg")
	p.until(`location.pathname === "/-/console/stock/kestrel/catalogue/delta-red.jpg"`)
	p.says("100 × 67")
	p.click("Purge the source")
	p.says("1 variant, ")
	p.click("Purge")
	p.says("Nothing of it is kept")
	p.until(`document.querySelector("section[aria-label=Purges]")?.innerText.includes("delta-red.jpg")`)
	if a := s.Get(t, "/kestrel/catalogue/delta-red.jpg?width=100&format=webp"); !strings.Contains(a.Header.Get("Cache-Status"), "fwd=miss") {
		t.Errorf("after the purge: %s", a.Header.Get("Cache-Status"))
	}
	p.click("Make ahead…")
	p.fill("Below", "mark")
	p.fill("Widths", "40, 50")
	p.click("Forecast")
	p.says("variants of 1 source,")
	p.click("Begin")
	p.until(`document.querySelector("section[aria-label='Made ahead']")?.innerText.includes("done, begun")`)
	if a := s.Get(t, "/kestrel/catalogue/mark.png?width=50"); !strings.Contains(a.Header.Get("Cache-Status"), "hit") {
		t.Errorf("what was made ahead: %s", a.Header.Get("Cache-Status"))
	}
}
