package main

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/chromedp/cdproto/emulation"
	"github.com/chromedp/chromedp"

	"echolane/internal/browser"
	"echolane/internal/testbed"
	"echolane/web"
)

// node runs a script against the module and gives what it prints.
func node(t *testing.T, script string) string {
	t.Helper()
	dir, err := filepath.Abs("../../web")
	if err != nil {
		t.Fatal(err)
	}
	c := exec.Command("node", "--input-type=module", "-e", script)
	c.Dir = dir
	var stderr bytes.Buffer
	c.Stderr = &stderr
	out, err := c.Output()
	if err != nil {
		t.Fatalf("node: %v\n%s", err, &stderr)
	}
	return string(out)
}

func TestTheModuleWritesAndSignsAddressesAsTheServiceDoes(t *testing.T) {
	t.Parallel()
	data, err := os.ReadFile("../../docs/signing-vectors.json")
	if err != nil {
		t.Fatal(err)
	}
	var vectors []struct{ Name, Secret, Path, Query, AddressForm, Signature string }
	if err := json.Unmarshal(data, &vectors); err != nil || len(vectors) < 8 {
		t.Fatalf("%d vectors, %v", len(vectors), err)
	}
	script := `import { sign, query } from "./lane.js"; import { readFileSync } from "node:fs";
const out = [];
for (const v of JSON.parse(readFileSync("../docs/signing-vectors.json"))) {
  const path = v.addressForm.split("?")[0];
  const secret = Buffer.from(v.secret).toString("base64url");
  out.push({ form: path + "?" + query(v.query), as_is: await sign("https://img.test" + path + "?" + v.query.replace(/&?keyid=[^&]*/, ""), { keyid: new URLSearchParams(v.query).get("keyid"), secret }) });
}
console.log(JSON.stringify(out));`
	var got []struct {
		Form string `json:"form"`
		AsIs string `json:"as_is"`
	}
	if err := json.Unmarshal([]byte(node(t, script)), &got); err != nil {
		t.Fatal(err)
	}
	for i, v := range vectors {
		if got[i].Form != v.AddressForm {
			t.Errorf("%s: %s, want %s", v.Name, got[i].Form, v.AddressForm)
		}
		if want := "https://img.test" + v.AddressForm + "&signature=" + v.Signature; got[i].AsIs != want {
			t.Errorf("%s: %s, want %s", v.Name, got[i].AsIs, want)
		}
	}
}

func TestTheModuleMakesSetsAndAddresses(t *testing.T) {
	t.Parallel()
	out := node(t, `import { set, addresses, image, steps, query } from "./lane.js";
const say = (v) => console.log(JSON.stringify(v));
const base = "https://img.test/kestrel";
say(set(base, "catalogue/a.jpg", 320, { natural: 700, declarations: "aspect-ratio=6/4" }));
say(set(base, "catalogue/a.jpg", "100vw", { natural: 700, widths: [320, 640, 960] }));
say(addresses(base, { class: "tile" })("/catalogue/a b.jpg", 640, 72));
say(addresses(base, "class=tile")(["press", "https://press.test/a.jpg"], 64));
say(image(base, ["press", "https://photos.test/a.jpg?id=7"], { resolution: "2.0x", opacity: "50%" }));
say(steps(100, 300, 1.5));
for (const d of [{ widht: 1 }, { width: "wide" }, { width: NaN }, { height: "" }, { "aspect-ratio": "4:3" }, { resolution: "2y" }, { quality: "high" }, { opacity: "half" }]) try { say(image(base, "a/b.jpg", d)); } catch (e) { say(e.message); }
say(query({ quality: "Lossless", "aspect-ratio": "16 / 9", resolution: "2dppx" }));`)
	want := `{"src":"https://img.test/kestrel/catalogue/a.jpg?width=320&aspect-ratio=3/2","srcset":"https://img.test/kestrel/catalogue/a.jpg?width=320&aspect-ratio=3/2 1x, https://img.test/kestrel/catalogue/a.jpg?width=320&aspect-ratio=3/2&resolution=2x 2x"}
{"src":"https://img.test/kestrel/catalogue/a.jpg?width=640","srcset":"https://img.test/kestrel/catalogue/a.jpg?width=320 320w, https://img.test/kestrel/catalogue/a.jpg?width=640 640w","sizes":"100vw"}
"https://img.test/kestrel/catalogue/a%20b.jpg?width=640&quality=72&class=tile"
"https://img.test/kestrel/press/https%3A%2F%2Fpress.test%2Fa.jpg?width=64&class=tile"
"https://img.test/kestrel/press/https%3A%2F%2Fphotos.test%2Fa.jpg%3Fid%3D7?resolution=2x&opacity=0.5"
[112,160,240,300]
"there is no declaration named widht"
"width: wide isn't a number"
"width: NaN isn't a number"
"height:  isn't a number"
"aspect-ratio: 4:3 isn't a number"
"resolution: 2y isn't a number"
"quality: high isn't a number"
"opacity: half isn't a number"
"aspect-ratio=16/9&resolution=2x&quality=lossless"
`
	if out != want {
		t.Errorf("%s\nwant\n%s", out, want)
	}
}

func TestTheElementIsSmall(t *testing.T) {
	t.Parallel()
	var b bytes.Buffer
	z, _ := gzip.NewWriterLevel(&b, gzip.BestCompression)
	for _, name := range []string{"address.js", "lane-image.js"} {
		data, err := web.Files.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		z.Write(data)
	}
	z.Close()
	if b.Len() > 4000 {
		t.Errorf("%d bytes compressed, at most 4000 are promised", b.Len())
	}
}

// elementPage is a page with two elements; %s is where the service is.
const elementPage = `<!doctype html><html><head><meta charset="utf-8"><meta name="viewport" content="width=device-width, initial-scale=1">
<link rel="stylesheet" href="%[1]s/-/web/lane-image.css">
<script>
if (location.search === "?save") Object.defineProperty(navigator, "connection", { value: { saveData: true } });
globalThis.shift = 0;
new PerformanceObserver((l) => l.getEntries().forEach((e) => (shift += e.value))).observe({ type: "layout-shift", buffered: true });
</script>
<script type="module" src="%[1]s/-/web/lane-image.js"></script>
<style>body { margin: 0 } .gap { height: 3000px }</style></head><body>
<lane-image id="a" loading="eager" base="%[1]s/kestrel" source="catalogue/delta-red.jpg" declarations="aspect-ratio=3/2" rungs="320,640,960,1280" placeholder="data:image/gif;base64,R0lGODlhAQABAAAAACH5BAEKAAEALAAAAAABAAEAAAICTAEAOw==">
<img src="%[1]s/kestrel/catalogue/delta-red.jpg?width=160&amp;aspect-ratio=3/2" alt="A red kite" width="640" height="427" loading="lazy"></lane-image>
<p>Text</p><div class="gap"></div>
<lane-image id="b" base="%[1]s/kestrel" source="catalogue/mark.png" natural="800"><img alt="The mark" width="800" height="800" loading="lazy" src="%[1]s/kestrel/catalogue/mark.png?width=64"></lane-image>
</body></html>`

func TestTheElementAsksForWhatFits(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	origin := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		fmt.Fprintf(w, elementPage, s.Base)
	}))
	defer origin.Close()
	b := openPage(t).Browser
	do := func(steps ...chromedp.Action[chromedp.Void]) {
		t.Helper()
		if err := b.Do(steps...); err != nil {
			t.Fatal(err)
		}
	}
	until := func(expression string) {
		t.Helper()
		if err := b.Until(expression); err != nil {
			state, _ := browser.Run(b, chromedp.Evaluate[string](`JSON.stringify([...document.images].map((e) => [e.currentSrc, e.naturalWidth, e.complete]).concat([[innerWidth, devicePixelRatio, scrollY]]))`))
			t.Fatalf("%v\n%s", err, state)
		}
	}
	asked := func() string {
		t.Helper()
		list, err := browser.Run(b, chromedp.Evaluate[[]string](`performance.getEntriesByType("resource").filter((e) => e.initiatorType === "img").map((e) => e.name.replace(/.*catalogue./, ""))`))
		if err != nil {
			t.Fatal(err)
		}
		return strings.Join(list, " ")
	}

	do(chromedp.EmulateViewport(400, 700, chromedp.EmulateScale(2)), chromedp.Navigate(origin.URL))
	until(`document.querySelector("#a img").naturalWidth === 960 && document.querySelector("#a").hasAttribute("loaded")`)
	until(`!document.querySelector("#a").style.getPropertyValue("--lane-placeholder")`)
	if got := asked(); !strings.Contains(got, "delta-red.jpg?width=960&aspect-ratio=3/2") || strings.Contains(got, "mark.png") {
		t.Errorf("asked for %s", got)
	}
	if alt, _ := browser.Run(b, chromedp.Evaluate[string](`document.querySelector("#a img").alt`)); alt != "A red kite" {
		t.Errorf("alt %q", alt)
	}
	if shift, err := browser.Run(b, chromedp.Evaluate[float64]("shift")); err != nil || shift > 0.001 {
		t.Errorf("the page jumped by %v, %v", shift, err)
	}
	// A picture that is there before the element is needs no placeholder.
	if there, err := browser.Run(b, chromedp.Evaluate[bool](`(async () => {
		const e = document.createElement("lane-image"), i = new Image(); e.setAttribute("placeholder", "data:,")
		i.src = "data:image/gif;base64,R0lGODlhAQABAAAAACH5BAEKAAEALAAAAAABAAEAAAICTAEAOw=="; await i.decode(); e.append(i); document.body.append(e)
		const there = e.hasAttribute("loaded") && !e.style.getPropertyValue("--lane-placeholder"); e.remove(); return there })()`, chromedp.EvalAwaitPromise)); err != nil || !there {
		t.Errorf("a picture that is there is taken for one that isn't: %v", err)
	}
	// It follows resizing to larger boxes, by rungs and not by pixels, and never to smaller ones.
	for _, w := range []int64{410, 420, 440, 380, 320} {
		do(chromedp.EmulateViewport(w, 700, chromedp.EmulateScale(2)))
	}
	do(chromedp.EmulateViewport(600, 700, chromedp.EmulateScale(2)))
	until(`document.querySelector("#a img").naturalWidth === 1280`)
	if got := asked(); strings.Count(got, "delta-red.jpg") > 3 {
		t.Errorf("asked for %s", got)
	}
	// What is further down comes with scrolling, and no larger than the source.
	do(chromedp.EmulateViewport(600, 700, chromedp.EmulateScale(3)))
	if _, err := browser.Run(b, chromedp.Evaluate[bool]("scrollTo(0, 2600), true")); err != nil {
		t.Fatal(err)
	}
	until(`document.querySelector("#b img").naturalWidth === 800`)

	// Who saves data gets one device pixel to a pixel of CSS.
	do(chromedp.EmulateViewport(400, 700, chromedp.EmulateScale(3)), chromedp.Navigate(origin.URL+"/?save"))
	until(`document.querySelector("#a img").naturalWidth === 640`)

	// Without scripts the image inside is all there is.
	off := emulation.SetScriptExecutionDisabledParams{Value: true}
	do(chromedp.EmulateViewport(400, 700), chromedp.Func(func(ctx context.Context, _ *chromedp.Target) error {
		_, err := chromedp.Call(ctx, emulation.SetScriptExecutionDisabled, off)
		return err
	}), chromedp.Navigate(origin.URL))
	testbed.Eventually(t, "the plain image is there", func() error {
		w, err := browser.Run(b, chromedp.Evaluate[int](`document.querySelector("#a img").naturalWidth`))
		if err != nil || w != 160 {
			return fmt.Errorf("%d, %v", w, err)
		}
		return nil
	})
	if box, err := browser.Run(b, chromedp.Evaluate[string](`(() => { const r = document.querySelector("#a img").getBoundingClientRect(); return Math.round(r.width) + "x" + Math.round(r.height) })()`)); err != nil || box != "400x267" && box != "400x268" {
		t.Errorf("without scripts the image is %s, %v", box, err)
	}
}

func TestThePagesModulesAreServedToEveryOrigin(t *testing.T) {
	t.Parallel()
	s := bed.Serve(t)
	for name, kind := range map[string]string{"lane.js": "text/javascript", "address.js": "text/javascript", "lane-image.js": "text/javascript", "lane-image.css": "text/css"} {
		a := s.Get(t, "/-/web/"+name, "Origin", "https://shop.kestrel.test")
		if a.StatusCode != 200 || !strings.HasPrefix(a.Header.Get("Content-Type"), kind) || a.Header.Get("Access-Control-Allow-Origin") != "*" || a.Header.Get("ETag") == "" || !strings.Contains(a.Header.Get("Cache-Control"), "max-age=3600") {
			t.Errorf("%s: %d %v", name, a.StatusCode, a.Header)
		}
		if b := s.Get(t, "/-/web/"+name, "If-None-Match", a.Header.Get("ETag")); b.StatusCode != 304 {
			t.Errorf("%s again: %d", name, b.StatusCode)
		}
	}
	for _, name := range []string{"", "gone.js", "../web.go", "web.go"} {
		if a := s.Get(t, "/-/web/"+name); a.StatusCode != 404 {
			t.Errorf("%q: %d", name, a.StatusCode)
		}
	}
}

func TestTheElementShowsItsPlaceholderWhileTheNetworkIsSlow(t *testing.T) {
	s := bed.Kestrel(t)
	data, err := os.ReadFile(filepath.Join(bed.Pictures, "mark.png"))
	if err != nil {
		t.Fatal(err)
	}
	come := make(chan struct{})
	mux := http.NewServeMux()
	mux.HandleFunc("/{$}", func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		fmt.Fprintf(w, `<!doctype html><link rel="stylesheet" href="%[1]s/-/web/lane-image.css"><script type="module" src="%[1]s/-/web/lane-image.js"></script>
<lane-image style="width:200px" base="http://%[2]s/slow" source="catalogue/mark.png" loading="eager" placeholder="data:image/gif;base64,R0lGODlhAQABAAAAACH5BAEKAAEALAAAAAABAAEAAAICTAEAOw=="><img alt="The mark" width="200" height="200"></lane-image><p>Text`, s.Base, r.Host)
	})
	mux.HandleFunc("/slow/", func(w http.ResponseWriter, r *http.Request) {
		select {
		case <-come:
		case <-r.Context().Done():
		}
		w.Header().Set("Content-Type", "image/png")
		w.Write(data)
	})
	origin := httptest.NewServer(mux)
	defer origin.Close()
	p := openPage(t)
	p.must(p.Do(chromedp.EmulateViewport(400, 700), chromedp.Evaluate[chromedp.Void]("0")))
	go p.Open(origin.URL) // its load event waits for the picture
	p.until(`document.querySelector("lane-image")?.style.getPropertyValue("--lane-placeholder")`)
	const shown = `getComputedStyle(document.querySelector("lane-image"), "::before").opacity`
	if before, box := p.text(shown), p.text(`String(document.querySelector("p").getBoundingClientRect().top)`); before != "1" || !strings.HasPrefix(box, "2") {
		t.Errorf("while it is waited for: opacity %s, the text at %s", before, box)
	}
	close(come)
	p.until(`document.querySelector("lane-image").hasAttribute("loaded")`)
	p.until(shown + ` === "0"`)
	p.until(`!document.querySelector("lane-image").style.getPropertyValue("--lane-placeholder")`)
}
