package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/png"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"echolane/internal/testbed"
	"echolane/service/records"
)

// A lane is gone through once, and its sources are found by what is in them.
func TestSourcesAreFoundByWhatIsInThem(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	found := func(find string, more ...string) (paths []string) {
		t.Helper()
		var list []records.LookedAt
		out := bed.Must(t, s, append([]string{"lane", "list", "kestrel", "--json", "--find", find}, more...)...)
		if err := json.Unmarshal([]byte(out), &list); err != nil {
			t.Fatalf("%v: %s", err, out)
		}
		for _, l := range list {
			paths = append(paths, l.Path)
		}
		return paths
	}
	if out := bed.Must(t, s, "lane", "list", "kestrel", "--find", "faces:>0"); !strings.Contains(out, "echolane warm kestrel/LANE --facts") {
		t.Errorf("%s", out)
	}
	// What is asked for by the way is found, too.
	factsAbout(t, s, friends+"?as=facts")
	testbed.Eventually(t, "the one that was looked at", func() error {
		if got := found("faces:5"); len(got) != 1 || got[0] != "festival-friends.jpg" {
			return fmt.Errorf("%v", got)
		}
		return nil
	})
	if out := bed.Must(t, s, "warm", "kestrel/catalogue", "--facts", "--dry-run"); !strings.Contains(out, "would look at 18 sources") {
		t.Errorf("%s", out)
	}
	if out := bed.Must(t, s, "warm", "kestrel/catalogue", "--facts"); !strings.Contains(out, "facts of catalogue/, done") {
		t.Errorf("%s", out)
	}
	testbed.Eventually(t, "all of them", func() error {
		if n := len(found("")); n != 18 {
			return fmt.Errorf("%d", n)
		}
		return nil
	})
	for find, want := range map[string]string{
		"name:delta":                      "delta-red.jpg",
		"delta colour:red":                "delta-red.jpg",
		"DELTA color:Red":                 "delta-red.jpg",
		"delta colour:purple":             "",
		"faces:>=5 kind:photograph":       "festival-friends.jpg",
		"text:yes type:png width:>1 wind": "wind-chart.png",
		"frames:>1":                       "launch.gif",
		"bytes:>1GB":                      "",
		"name:%":                          "",
	} {
		if got := strings.Join(found(find), " "); got != want {
			t.Errorf("%s: %s, want %s", find, got, want)
		}
	}
	if got := found("", "--count", "3"); len(got) != 3 {
		t.Errorf("%v", got)
	}
	table := bed.Must(t, s, "lane", "list", "kestrel/catalogue", "--find", "faces:>0")
	if !strings.Contains(table, "catalogue/festival-friends.jpg") || !strings.Contains(table, "photograph") {
		t.Errorf("%s", table)
	}
	for find, says := range map[string]string{"colours:red": "did you mean colour", "faces:many": "faces:many: give a number", "colour:mauve": "one of black", "width:": "pixels", "a b c d e f g h i j k l m n o p q r s t u": "21 terms"} {
		if r := bed.Run(t, s, "lane", "list", "kestrel", "--find", find); r.Code != 2 || !strings.Contains(r.Err, says) {
			t.Errorf("%s: %d %s", find, r.Code, r.Err)
		}
	}
	if r := bed.Run(t, s, "lane", "list", "kestrel/catalogue"); r.Code != 2 || !strings.Contains(r.Err, "--find") {
		t.Errorf("%d %s", r.Code, r.Err)
	}
	for _, byte := range []string{"%00", "name:%ff", "x&behind=%00", "x&count=0"} {
		if a := s.Get(t, "/-/api/v1/sites/kestrel/found?find="+byte); a.StatusCode != 400 {
			t.Errorf("find=%s: %d", byte, a.StatusCode)
		}
	}
	if r := bed.Run(t, s, "warm", "kestrel/catalogue", "--facts", "--widths", "100"); r.Code != 2 {
		t.Errorf("%d %s", r.Code, r.Err)
	}
	// What is gone isn't found any more: at once where somebody asks about it, the others when the lane is gone through again.
	folder := filepath.Join(t.TempDir(), "gone")
	if err := os.MkdirAll(filepath.Join(folder, "by the sea"), 0o755); err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"one.png", "two.png", "by the sea/three & four.png"} {
		var file bytes.Buffer
		png.Encode(&file, image.NewGray(image.Rect(0, 0, 40, 30)))
		if err := os.WriteFile(filepath.Join(folder, name), file.Bytes(), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	bed.Must(t, s, "lane", "add", "kestrel/gone", "--folder", folder)
	bed.Must(t, s, "warm", "kestrel/gone", "--facts")
	gone := func(want string) {
		t.Helper()
		testbed.Eventually(t, "the sources that are found", func() error {
			var list []records.LookedAt
			if err := json.Unmarshal([]byte(bed.Must(t, s, "lane", "list", "kestrel/gone", "--json", "--find", "width:40")), &list); err != nil {
				return err
			}
			var paths []string
			for _, l := range list {
				paths = append(paths, l.Path)
			}
			if got := strings.Join(paths, "|"); got != want {
				return fmt.Errorf("%s, not %s", got, want)
			}
			return nil
		})
	}
	gone("by the sea/three & four.png|one.png|two.png")
	os.Remove(filepath.Join(folder, "one.png"))
	bed.Must(t, s, "warm", "kestrel/gone/by the sea/", "--facts")
	gone("by the sea/three & four.png|one.png|two.png")
	bed.Must(t, s, "warm", "kestrel/gone", "--facts")
	gone("by the sea/three & four.png|two.png")
	os.Remove(filepath.Join(folder, "two.png"))
	testbed.Eventually(t, "that it is gone", func() error {
		if a := s.Get(t, "/-/api/v1/sites/kestrel/lanes/gone/facts?path=two.png"); a.StatusCode != 404 {
			return fmt.Errorf("%d %s", a.StatusCode, a.Data)
		}
		return nil
	})
	gone("by the sea/three & four.png")
	bed.Must(t, s, "lane", "remove", "kestrel/gone", "--yes")
	// In the Easel, too.
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/easel/kestrel/catalogue"))
	p.until(`document.querySelectorAll("ul[aria-label=Sources] li").length === 18`)
	p.must(p.Do(setSearch("colour:red delta")))
	p.until(`document.querySelectorAll("ul[aria-label=Sources] li").length === 1`)
	p.says("delta-red.jpg")
	p.must(p.Do(setSearch("faces:lots")))
	p.says("faces:lots: give a number")
}

// setSearch writes into the search above the Easel's sources.
func setSearch(text string) chromedp.Action[chromedp.Void] {
	return chromedp.Evaluate[chromedp.Void](`(() => { const f = document.querySelector("[aria-label='Find a source']"); Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, "value").set.call(f, ` + strconv.Quote(text) + `); f.dispatchEvent(new Event("input", {bubbles: true})) })()`)
}
