// Command shots takes the pictures in docs/screenshots from a demo that runs: `make screenshots`. Names of files after the
// folder's are the only ones taken.
package main

import (
	"encoding/binary"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/chromedp/chromedp"

	"echolane/internal/browser"
)

const (
	places  = "http://127.0.0.1:8740/-/console/"
	console = places + "easel/kestrel/catalogue/"
)

// shot is one view: where, how wide, and what must be there before it is taken.
type shot struct {
	file  string
	url   string
	w, h  int64
	dark  bool
	ready string
	do    string // then, in the page
}

var shots = []shot{
	{file: "today.png", url: places + "today", w: 1280, h: 800, ready: "canvas"},
	{file: "stock.png", url: places + "stock/kestrel", w: 1280, h: 800, ready: "section[aria-label='Kept variants'] tbody tr"},
	{file: "easel-light.png", url: console + "delta-red.jpg?width=480&aspect-ratio=3/2", w: 1280, h: 800, ready: `[data-testid=saving]`},
	{file: "easel-places.png", url: console + "festival-friends.jpg?width=480&view=places&erase=percent:71,9,15,30&redact=percent:4,62,14,10", w: 1280, h: 800, ready: `[data-face="5"]`,
		do: `document.querySelector("ul[aria-label=Drawn] button").click()`},
	{file: "easel-sweep.png", url: console + "festival-crowd.jpg?width=480&view=sweep", w: 1280, h: 900, ready: `svg[aria-label="Likeness against bytes"] g:nth-of-type(9) circle:nth-of-type(12)`},
	{file: "easel-phone.png", url: console + "box-kite-cliff.jpg?width=300&aspect-ratio=1", w: 390, h: 1100, ready: `[data-testid=saving]`},
	{file: "markup.png", url: console + "delta-red.jpg?view=markup&aspect-ratio=3/2&alt=A+red+delta+kite+high+in+a+summer+sky", w: 1280, h: 800, ready: `[data-testid=markup]`},
	{file: "sheet.png", url: places + "sheet/kestrel?source=catalogue/delta-red.jpg", w: 1280, h: 800, ready: `img[alt*="with its layers"]`,
		do: `[...document.querySelectorAll("ul[aria-label=Layers] button")].find(b => b.textContent === "::layer(title)").click(); document.querySelector("ul[aria-label=Layers]").closest("fieldset").scrollIntoView({ block: "end" })`},
	{file: "lanes.png", url: places + "lanes/kestrel/press", w: 1280, h: 800, ready: `[aria-label="Test a source"]`},
	{file: "refusals.png", url: places + "refusals", w: 1280, h: 800, ready: "tbody tr"},
	{file: "keys.png", url: places + "keys", w: 1280, h: 800, dark: true, ready: "section[aria-label=Tokens] tbody tr"},
	{file: "refusal.png", url: "http://127.0.0.1:8740/kestrel/catalogue/delta-red.jpg?widht=640&quality=400", w: 1280, h: 800, ready: "h1"},
}

func main() {
	dir := "docs/screenshots"
	if len(os.Args) > 1 {
		dir = os.Args[1]
	}
	var only []string
	if len(os.Args) > 2 {
		only = os.Args[2:]
	}
	if err := run(dir, only); err != nil {
		fmt.Fprintln(os.Stderr, "shots:", err)
		os.Exit(1)
	}
}

func run(dir string, only []string) error {
	wanted := func(files ...string) bool {
		return len(only) == 0 || slices.ContainsFunc(files, func(f string) bool { return slices.Contains(only, f) })
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	b, err := browser.Start()
	if err != nil {
		return err
	}
	defer b.Close()
	if err := enter(b); err != nil {
		return fmt.Errorf("sign in: %w", err)
	}
	for _, s := range shots {
		if !wanted(s.file) {
			continue
		}
		png, err := take(b, s)
		if err != nil {
			return fmt.Errorf("%s: %w", s.file, err)
		}
		if err := os.WriteFile(filepath.Join(dir, s.file), png, 0o644); err != nil {
			return err
		}
		fmt.Println(filepath.Join(dir, s.file))
	}
	if wanted("before-after.png") {
		if err := pair(b, filepath.Join(dir, "before-after.png")); err != nil {
			return fmt.Errorf("before-after.png: %w", err)
		}
	}
	if wanted("sweep.png") {
		if err := sweep(b, filepath.Join(dir, "sweep.png")); err != nil {
			return fmt.Errorf("sweep.png: %w", err)
		}
	}
	if wanted("pages.png", "weigh.png") {
		if err := weigh(b, filepath.Join(dir, "pages.png"), filepath.Join(dir, "weigh.png")); err != nil {
			return fmt.Errorf("pages.png: %w", err)
		}
	}
	return terminals(dir, wanted)
}

// weigh weighs the shop, writes it again, and shows what came of it in the console and in a terminal.
func weigh(b *browser.Browser, page, shell string) error {
	const command = `bin/echolane weigh var/shop.html --at http://127.0.0.1:8741/ --map http://127.0.0.1:8741/pictures/=catalogue --fix`
	script := `curl -s http://127.0.0.1:8741/ > var/shop.html && ` + command + ` > var/weigh.txt 2>/dev/null`
	if says, err := exec.Command("sh", "-c", script).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, says)
	}
	out, err := exec.Command("sh", "-c", `curl -s -H "Authorization: Bearer $ECHOLANE_TOKEN" http://127.0.0.1:8740/-/api/v1/sites/kestrel/weighings`).Output()
	if err != nil {
		return err
	}
	var list struct {
		Items []struct{ ID int64 }
	}
	if err := json.Unmarshal(out, &list); err != nil || len(list.Items) == 0 {
		return fmt.Errorf("no weigh-in: %s", out)
	}
	png, err := take(b, shot{url: fmt.Sprintf(places+"pages/kestrel/%d", list.Items[0].ID), w: 1280, h: 800, ready: "table[aria-label=Pictures] tbody tr"})
	if err != nil {
		return err
	}
	if err := os.WriteFile(page, png, 0o644); err != nil {
		return err
	}
	return terminal(fmt.Sprintf("clear; echo '$ %s'; cat var/weigh.txt; sleep 20", command), shell)
}

// sweep shows the page that a sweep writes.
func sweep(b *browser.Browser, to string) error {
	page, err := filepath.Abs("var/sweep.html")
	if err != nil {
		return err
	}
	if says, err := exec.Command("bin/echolane", "sweep", "var/pictures/catalogue/festival-crowd.jpg", "width=640", "-o", page).CombinedOutput(); err != nil {
		return fmt.Errorf("%w: %s", err, says)
	}
	if err := b.Look(1280, 1300, "light"); err != nil {
		return err
	}
	if err := b.Open("file://" + page); err != nil {
		return err
	}
	png, err := b.Shot()
	if err != nil {
		return err
	}
	return os.WriteFile(to, png, 0o644)
}

// pair shows the same slot filled twice: with the source, and with the variant made for it.
func pair(b *browser.Browser, to string) error {
	const slot = `width:600px;aspect-ratio:3/2;object-fit:cover;display:block`
	html := `<!doctype html><style>body{font:16px system-ui,sans-serif;margin:32px;display:flex;gap:16px;background:#fbfaf8;color:#20282c}h2{font-size:18px}</style>`
	for _, side := range []struct{ title, url string }{
		{"Before: the source in its slot", "http://127.0.0.1:8740/-/api/v1/sites/kestrel/lanes/catalogue/original?path=delta-red.jpg"},
		{"After: width=600&amp;aspect-ratio=3/2", "http://127.0.0.1:8740/kestrel/catalogue/delta-red.jpg?width=600&aspect-ratio=3/2"},
	} {
		html += fmt.Sprintf(`<div><h2>%s</h2><img src="%s" style="%s"><p></p></div>`, side.title, side.url, slot)
	}
	if err := kept("http://127.0.0.1:8740/kestrel/catalogue/delta-red.jpg?width=600&aspect-ratio=3/2"); err != nil {
		return err
	}
	if err := b.Look(1280, 560, "light"); err != nil {
		return err
	}
	// On a page of the service itself, so that the original may be shown.
	if err := b.Open("http://127.0.0.1:8740/-/live"); err != nil {
		return err
	}
	fill := fmt.Sprintf(`document.documentElement.innerHTML = %q; 0`, html)
	if err := b.Do(chromedp.Evaluate[chromedp.Void](fill)); err != nil {
		return err
	}
	if err := b.Until(`document.images.length === 2 && [...document.images].every(i => i.complete && i.naturalWidth > 0)`); err != nil {
		return err
	}
	figures := `for (const i of document.images) { const e = performance.getEntriesByName(i.src)[0]; i.nextElementSibling.textContent = i.naturalWidth + " × " + i.naturalHeight + " pixels, " + (e.encodedBodySize / 1000).toLocaleString("en", {maximumFractionDigits: 1}) + " kB" }`
	if err := b.Do(chromedp.Evaluate[chromedp.Void](figures)); err != nil {
		return err
	}
	png, err := b.Shot()
	if err != nil {
		return err
	}
	return os.WriteFile(to, png, 0o644)
}

// kept waits until what a browser gets is no longer a first answer, which is good for a few seconds alone.
func kept(url string) error {
	const rounds, pause = 60, 500 * time.Millisecond
	for range rounds {
		ask, err := http.NewRequest("GET", url, nil)
		if err != nil {
			return err
		}
		ask.Header.Set("Accept", "image/avif,image/webp,image/*,*/*;q=0.8")
		answer, err := http.DefaultClient.Do(ask)
		if err != nil {
			return err
		}
		answer.Body.Close()
		if !strings.HasSuffix(answer.Header.Get("Cache-Control"), "max-age=5") {
			return nil
		}
		time.Sleep(pause)
	}
	return fmt.Errorf("%s: still a first answer", url)
}

// enter signs in by the link that the demo printed, and asks for some things that are refused.
func enter(b *browser.Browser) error {
	said, err := os.ReadFile("var/demo-says.txt")
	if err != nil {
		return err
	}
	link := regexp.MustCompile(`http\S+/-/console/enter\S+`).FindString(string(said))
	if err := b.Open(link); err != nil {
		return err
	}
	if err := b.Until(`document.querySelector("h1, nav a")`); err != nil {
		return err
	}
	for i, path := range []string{"press/http%3A%2F%2F127.0.0.1%3A8741%2Fpictures%2Fmark.png", "archive/1962/launch-day.jpg", "catalogue/delta-red.jpg?quality=101", "catalogue/delta-read.jpg"} {
		for range 5 - i {
			answer, err := http.Get("http://127.0.0.1:8740/kestrel/" + path)
			if err != nil {
				return err
			}
			answer.Body.Close()
		}
	}
	return nil
}

func take(b *browser.Browser, s shot) ([]byte, error) {
	scheme := "light"
	if s.dark {
		scheme = "dark"
	}
	if err := b.Look(s.w, s.h, scheme); err != nil {
		return nil, err
	}
	if err := b.Open(s.url); err != nil {
		return nil, err
	}
	// Every picture in view is there, and nothing is on its way.
	if err := b.Until(fmt.Sprintf(`document.querySelector(%q) && [...document.images].filter(i => i.getBoundingClientRect().top < innerHeight && i.getBoundingClientRect().left < innerWidth).every(i => i.complete && i.naturalWidth > 0) && !document.querySelector("h2 > span")`, s.ready)); err != nil {
		return nil, err
	}
	if s.do != "" {
		if err := b.Do(chromedp.Evaluate[chromedp.Void](s.do)); err != nil {
			return nil, err
		}
		time.Sleep(300 * time.Millisecond) // until it is painted
	}
	return b.Shot()
}

// terminals takes pictures of commands in a terminal window on a screen of its own.
func terminals(dir string, wanted func(...string) bool) error {
	for _, t := range []struct{ file, command string }{
		{"fetch.png", `bin/echolane css '.hero img { width: 20rem; border-radius: 12px 12px 0 0 / 8px; max-width: 100% }'; echo; echo "$ bin/echolane fetch 'kestrel/catalogue/delta-red.jpg?width=640'"; bin/echolane fetch 'kestrel/catalogue/delta-red.jpg?width=640'; echo; echo "$ bin/echolane fetch 'kestrel/catalogue/delta-red.jpg?widht=640'"; bin/echolane fetch 'kestrel/catalogue/delta-red.jpg?widht=640'`},
		{"rules.png", `bin/echolane lane test kestrel/press http://127.0.0.1:8741/pictures/mark.png; echo; echo "$ bin/echolane explain 'kestrel/catalogue/delta-red.jpg?width=350&aspect-ratio=3/2'"; bin/echolane explain 'kestrel/catalogue/delta-red.jpg?width=350&aspect-ratio=3/2'; echo; echo "$ bin/echolane refusals kestrel | head -6"; bin/echolane refusals kestrel | head -6`},
		{"demo.png", `cat var/demo-says.txt`},
	} {
		if !wanted(t.file) {
			continue
		}
		title := t.command
		if i := strings.Index(title, "; echo"); i > 0 {
			title = title[:i]
		}
		if t.file == "demo.png" {
			title = "make demo"
		}
		script := fmt.Sprintf("clear; echo \"$ %s\"; %s; sleep 20", strings.ReplaceAll(title, `"`, `\"`), t.command)
		out := filepath.Join(dir, t.file)
		if err := terminal(script, out); err != nil {
			return fmt.Errorf("%s: %w", t.file, err)
		}
		fmt.Println(out)
	}
	return nil
}

// terminal runs a script in a terminal window on a screen of its own, and writes down what stands there. The
// screen keeps its pixels in a file in the X window dump format.
func terminal(script, to string) error {
	dir, err := os.MkdirTemp("", "echolane-screen-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	run := exec.Command("xvfb-run", "-a", "-s", "-screen 0 1280x800x24 -fbdir "+dir, "sh", "-c",
		`xterm -fa 'DejaVu Sans Mono' -fs 11 -geometry 142x42+0+0 -bg '#fbfaf8' -fg '#20282c' -e sh -c "$0" & sleep 5; cp "$1"/Xvfb_screen0 "$1"/dump; kill $!`, script, dir)
	if said, err := run.CombinedOutput(); err != nil {
		return fmt.Errorf("%w\n%s", err, said)
	}
	dump, err := os.ReadFile(filepath.Join(dir, "dump"))
	if err != nil {
		return err
	}
	// The header's words (XWDFile.h): its own length, version, format, depth, width, height, …, bits a pixel,
	// bytes a line, …, and how many colours of twelve bytes follow it.
	word := func(i int) int { return int(binary.BigEndian.Uint32(dump[4*i:])) }
	w, h, line := word(4), word(5), word(12)
	pixels := dump[word(0)+12*word(19):]
	m := image.NewRGBA(image.Rect(0, 0, w, h))
	for y := range h {
		for x := range w {
			p := pixels[y*line+4*x:]
			copy(m.Pix[m.PixOffset(x, y):], []uint8{p[2], p[1], p[0], 255})
		}
	}
	file, err := os.Create(to)
	if err != nil {
		return err
	}
	if err := png.Encode(file, m); err != nil {
		return err
	}
	return file.Close()
}
