package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"
)

// write puts a text into the sheet's editor as typing would.
func (p page) write(text string) {
	p.t.Helper()
	p.until(`document.querySelector(".cm-content")`)
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`(() => { const v = document.querySelector(".cm-content"); v.focus(); document.execCommand("selectAll"); document.execCommand("insertText", false, ` + "`" + text + "`" + `) })()`)))
}

func TestTheSheetIsEditedWithWhatItDoesInView(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/sheet/kestrel?source=catalogue/box-kite-cliff.jpg"))
	p.says("published, version 2")
	// What is wrong is marked at its place, kept, and can't be published.
	p.write("* { object-fit: cover; quality: 72 }\n.tile { widht: 120px }\n")
	p.says("1 problem: it can't be published")
	p.says("did you mean width?")
	p.until(`document.querySelector(".cm-lintRange-error")?.textContent === "widht"`)
	p.until(`[...document.querySelectorAll("button")].find(b => b.textContent === "Publish").disabled`)
	p.must(p.Open(s.Base + "/-/console/sheet/kestrel?source=catalogue/box-kite-cliff.jpg"))
	p.says("did you mean width?") // the draft is still there
	// Put right, it is drawn beside what is published.
	p.write("* { object-fit: cover; quality: 72 }\n.tile { width: 120px; aspect-ratio: 1 }\n")
	p.says("new: tile")
	p.until(`[...document.querySelectorAll("img")].some(i => i.alt === ".tile, catalogue/box-kite-cliff.jpg, draft" && i.naturalWidth === 120 && i.naturalHeight === 120)`)
	p.click("Publish")
	p.says("published, version 3")
	if out := bed.Must(t, s, "sheet", "show", "kestrel"); !strings.Contains(out, ".tile") {
		t.Errorf("published: %s", out)
	}
	// A class that is in use asks first.
	if a := s.Get(t, "/kestrel/catalogue/mark.png?class=tile"); a.StatusCode != 200 {
		t.Fatalf("%d %s", a.StatusCode, a.Data)
	}
	p.write("* { object-fit: cover; quality: 72 }\n")
	p.says("gone: tile")
	p.click("Publish")
	p.says("Classes are in use")
	p.says("/kestrel/catalogue/mark.png?class=tile")
	p.click("Keep them")
	p.click("Publish")
	p.click("Publish anyway")
	p.says("published, version 4")
	// A card is drawn with what is typed.
	p.write("* { object-fit: cover; quality: 72 }\n.card { width: 200px; height: 100px }\n.card::layer(title) { content: attr(data-title, \"Kites\"); inset: 10px; font: 20px serif; color: red }\n")
	p.says("What cards show")
	p.until(`[...document.querySelectorAll("input")].some(i => i.placeholder === "Kites")`)
	p.fill("data-title", "Twine")
	p.until(`[...document.querySelectorAll("img")].some(i => i.alt === ".card, catalogue/box-kite-cliff.jpg, draft" && decodeURIComponent(i.src).includes("data-title=Twine") && i.naturalWidth === 200)`)
}

// A draft that is kept late comes before what is published after it, and brings nothing back.
func TestASlowDraftBringsNothingBack(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/sheet/kestrel?source=catalogue/mark.png"))
	p.says("published, version 2")
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`(() => {
		const own = window.fetch;
		window.late = 0;
		window.fetch = (to, how) => {
			const draft = (how?.method ?? to.method) === "PUT" && String(to.url ?? to).endsWith("/sheet/draft");
			if (!draft) return own(to, how);
			window.late++;
			return new Promise(go => setTimeout(go, window.late === 1 ? 2500 : 1500)).then(() => own(to, how)).finally(() => window.late += 100);
		};
	})()`)))
	p.write("* { quality: 71 }\n")
	p.until(`window.late === 1`)
	const last = "* { quality: 71 }\n.card { width: 90px }\n"
	p.write(last)
	p.until(`!document.querySelector("section[aria-label=Editor]").innerText.includes("published, version")`)
	p.click("Publish")
	p.says("published, version 3")
	p.until(`window.late === 202`) // both came to their end
	p.says("published, version 3")
	var kept struct {
		Text    string
		Version int
		Draft   *struct{ Text string }
	}
	if err := json.Unmarshal(s.Ask(t, "GET", "/-/api/v1/sites/kestrel/sheet", nil).Data, &kept); err != nil {
		t.Fatal(err)
	}
	if kept.Text != last || kept.Version != 3 || kept.Draft != nil {
		t.Errorf("%+v", kept)
	}
}

// What is moved and sized on the picture is written into the sheet, and a text that is too large for its box is said.
func TestLayersAreMovedOnThePicture(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/sheet/kestrel?source=catalogue/delta-red.jpg"))
	p.says("published, version 2")
	p.write(`* { object-fit: cover; quality: 72 }
.card { width: 400px; height: 200px }
.card::layer(title) {
  content: attr(data-title, "Kites"); /* the name */
  left: 10%; top: 10%; width: 40%; height: 30%;
  font: 24px/1.2 sans-serif; color: white
}
.card::layer(price) { content: "49"; right: 5%; bottom: 5%; background: gold }
`)
	p.until(`document.querySelector('img[alt*="with its layers"]')?.naturalWidth === 400`)
	p.until(`[...document.querySelectorAll('ul[aria-label=Layers] button')].map(b => b.textContent).join() === "::layer(title),::layer(price)"`)
	// drag presses at one place of the picture, in parts of it, and lets go at another.
	drag := func(x0, y0, x1, y1 float64) {
		t.Helper()
		p.must(p.Do(chromedp.Evaluate[chromedp.Void](fmt.Sprintf(`(() => {
			const i = document.querySelector('img[alt*="with its layers"]'); i.scrollIntoView({ block: "center" });
			const r = i.getBoundingClientRect();
			const at = (type, x, y, on) => on.dispatchEvent(new PointerEvent(type, { bubbles: true, pointerId: 1, clientX: r.left + x * r.width, clientY: r.top + y * r.height }));
			at("pointerdown", %[1]g, %[2]g, document.elementFromPoint(r.left + %[1]g * r.width, r.top + %[2]g * r.height));
			setTimeout(() => { at("pointermove", %[3]g, %[4]g, i.parentElement); setTimeout(() => at("pointerup", %[3]g, %[4]g, i.parentElement), 50); }, 50);
		})()`, x0, y0, x1, y1))))
	}
	text := `document.querySelector(".cm-content").innerText`
	drag(0.3, 0.2, 0.4, 0.4)
	p.until(text + `.includes("inset: 30% auto auto 20%")`)
	p.until(`!/left: 10%|top: 10%/.test(` + text + `) && /the name/.test(` + text + `) && /width: 40%/.test(` + text + `)`)
	p.until(`document.querySelector('ul[aria-label=Layers] button[aria-pressed=true]').getAttribute("aria-label") === "::layer(title): 20 %, 30 %, 40 % × 30 %"`)
	// By a handle it gets smaller, until its text doesn't fit any more.
	drag(0.6, 0.6, 0.3, 0.35)
	p.until(text + `.includes("width: 10%") && ` + text + `.includes("height: 5%")`)
	p.says("The text of ::layer(title) is wider than its box and is higher than its box.")
	// What follows from the text goes on to; the arrows move by a hundredth.
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('ul[aria-label=Layers] button')][1].focus()`), chromedp.KeyEvent(kb.ArrowLeft)))
	p.until(`/price\) \{ content: "49"; background: gold; inset: [\d.]+% auto auto [\d.]+%; \}/.test(` + text + `)`)
	// Whoever presses faster than the service draws loses no step.
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`[...document.querySelectorAll('ul[aria-label=Layers] button')][0].focus()`)))
	for range 6 {
		p.must(p.Do(chromedp.KeyEvent(kb.ArrowRight)))
	}
	p.until(text + `.includes("inset: 30% auto auto 26%")`)
	p.until(`document.querySelector('ul[aria-label=Layers] button[aria-pressed=true]').getAttribute("aria-label") === "::layer(title): 26 %, 30 %, 10 % × 5 %"`)
	p.click("Publish")
	p.says("published, version 3")
	explained := bed.Must(t, s, "explain", s.Base+"/kestrel/catalogue/delta-red.jpg?class=card")
	if !strings.Contains(explained, "the text of ::layer(title) is wider than its box") {
		t.Errorf("explained: %s", explained)
	}
}

func TestMarkupIsWrittenInTheEasel(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue/delta-red.jpg?view=markup"))
	p.says("alt is never invented")
	p.fill("Alt", "A red kite")
	p.fill("Slot", "width: 320px; aspect-ratio: 3/2")
	p.until(`document.querySelector("[data-testid=markup]")?.textContent.includes('resolution=3x 3x" width="320" height="213" alt="A red kite"')`)
	p.until(`[...document.querySelectorAll("section[aria-label=Markup] tbody tr")].some(r => r.innerText.replace(/\s+/g, " ").startsWith("390 3× 320 960"))`)
	p.click("jsx")
	p.until(`document.querySelector("[data-testid=markup]").textContent.includes("srcSet={")`)
	p.fill("Slot", "wdith: 320px")
	p.says("did you mean width")
}

func TestPagesAreWeighedInTheConsole(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "https://photos.kestrel.test/*", "--private", "127.0.0.1")
	at := shop(t, `<!doctype html><meta charset="utf-8"><title>Shop</title><img src="pictures/mark.png" width="100" height="100" alt="The mark"><img src="pictures/sled-blue.jpg" alt="A sled" style="width:200px">`)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/pages/kestrel"))
	p.says("No page was weighed yet")
	p.fill("Page", at)
	p.click("Weigh")
	p.until(`document.querySelector("[role=status] [role=progressbar]")`)
	p.until(`document.querySelectorAll("table[aria-label=Pictures] tbody tr").length === 2`)
	p.says("sled-blue.jpg")
	p.says("instead of JPEG")
	p.says("echolane lane set kestrel/press --allow '" + strings.TrimSuffix(at, "/") + "/*'")
	if n := p.text(`String(document.querySelectorAll("table[aria-label='In short'] tbody tr").length)`); n != "3" {
		t.Errorf("%s screens", n)
	}
	p.says("How it loads")
	p.until(`document.querySelectorAll("section[aria-label='How it loads'] li").length === 8 && document.querySelector("section[aria-label='How it loads'] img").naturalWidth > 0`)
	// Two side by side.
	bed.Must(t, s, "weigh", at, "--loads", "0", "--screens", "phone 390x844@3")
	list := p.text("location.href")
	p.must(p.Open(list + "?beside=2"))
	p.says("beside: pictures")
}
