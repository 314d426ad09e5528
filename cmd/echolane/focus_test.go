package main

import (
	"bytes"
	"strings"
	"testing"

	"github.com/chromedp/chromedp"

	"echolane/internal/testbed"
)

// What somebody says of a subject counts at once, for what is in the cache too, on every node, after a restart, and until it is taken
// back.
func TestAPersonsWordOnTheSubjectWins(t *testing.T) {
	t.Parallel()
	db := bed.Database(t)
	s, other := bed.ServeOn(t, db), bed.ServeOn(t, db)
	bed.Must(t, s, "site", "add", "kestrel", "--formats", "webp,jpeg,png", "--limit", "render_ms=60000")
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	const kite = "/kestrel/catalogue/festival-friends.jpg?width=60&height=200&format=png&object-fit=cover"
	get := func(query string) []byte {
		t.Helper()
		a := s.Get(t, kite+query)
		if a.StatusCode != 200 {
			t.Fatalf("%s: %d %s", query, a.StatusCode, a.Data)
		}
		return a.Data
	}
	found := get("&object-position=subject")
	faces := get("&object-position=faces")
	left, right := get("&object-position=0%25+50%25"), get("&object-position=100%25+50%25")
	if bytes.Equal(found, left) || bytes.Equal(found, right) {
		t.Fatal("the subject is found at the border: this says nothing")
	}
	if out := bed.Must(t, s, "lane", "focus", "kestrel/catalogue/festival-friends.jpg", "--at", "2% 50%"); !strings.Contains(out, "festival-friends.jpg is at 2% 50%") {
		t.Errorf("%s", out)
	}
	if !bytes.Equal(get("&object-position=subject"), left) {
		t.Error("what was said isn't in force")
	}
	if !bytes.Equal(get("&object-position=faces"), faces) {
		t.Error("faces are no longer found")
	}
	if f := factsAbout(t, s, "/kestrel/catalogue/festival-friends.jpg?as=facts"); f.Subject.By != "person" || f.Subject.X0 > 0.021 || f.Subject.X1 < 0.019 {
		t.Errorf("%+v", f.Subject)
	}
	if out := bed.Must(t, s, "explain", strings.TrimPrefix(kite, "/")+"&object-position=subject"); !strings.Contains(out, "somebody has said where the subject is: 2% 50%") {
		t.Errorf("%s", out)
	}
	// A box, in its place; a mirrored picture has it on the other side.
	bed.Must(t, s, "lane", "focus", "kestrel/catalogue/festival-friends.jpg", "--at", "percent:90,20,10,60")
	if !bytes.Equal(get("&object-position=subject"), right) {
		t.Error("the second word isn't in force")
	}
	if !bytes.Equal(get("&object-position=subject&scale=-1+1"), get("&object-position=0%25+50%25&scale=-1+1")) {
		t.Error("a mirrored picture has its subject where it was")
	}
	// Another node knows, and this one after a restart.
	if out := bed.Must(t, s, "lane", "focus", "kestrel/catalogue"); !strings.Contains(out, "percent:90,20,10,60") {
		t.Errorf("%s", out)
	}
	testbed.Eventually(t, "what was said on this node", func() error {
		if a := other.Get(t, kite+"&object-position=subject"); !bytes.Equal(a.Data, right) {
			return errNotYet
		}
		return nil
	})
	bed.Must(t, other, "lane", "focus", "kestrel/catalogue/festival-friends.jpg", "--at", "2% 50%")
	testbed.Eventually(t, "what was said on the other node", func() error {
		if !bytes.Equal(get("&object-position=subject"), left) {
			return errNotYet
		}
		return nil
	})
	bed.Must(t, s, "lane", "focus", "kestrel/catalogue/festival-friends.jpg", "--remove")
	if !bytes.Equal(get("&object-position=subject"), found) {
		t.Error("what was taken back is still in force")
	}
	for _, wrong := range [][2]string{
		{"kestrel/catalogue/no-such.jpg", "10% 10%"}, {"kestrel/catalogue/delta-red.jpg", "110% 10%"}, {"kestrel/catalogue/delta-red.jpg", "10px 10px"},
		{"kestrel/catalogue/../delta-red.jpg", "1% 1%"}, {"kestrel/catalogue", "1% 1%"}, {"kestrel/catalogue/delta-red.jpg", ""}, {"kestrel/catalogue/" + strings.Repeat("a/", 600) + "b.jpg", "1% 1%"},
	} {
		how := []string{"lane", "focus", wrong[0], "--at", wrong[1]}
		if wrong[1] == "" {
			how = []string{"lane", "focus", wrong[0], "--remove"}
		}
		if r := bed.Run(t, s, how...); r.Code == 0 || !strings.Contains(r.Err, ":") {
			t.Errorf("%.60q: %d %s%s", wrong, r.Code, r.Out, r.Err)
		}
	}
	// A site of the same name that is made anew knows nothing of what was said before, nor does a node that starts now.
	bed.Must(t, s, "lane", "focus", "kestrel/catalogue/festival-friends.jpg", "--at", "2% 50%")
	bed.Must(t, s, "site", "remove", "kestrel", "--yes")
	bed.Must(t, s, "site", "add", "kestrel", "--formats", "webp,jpeg,png", "--limit", "render_ms=60000")
	bed.Must(t, s, "lane", "add", "kestrel/catalogue", "--folder", bed.Pictures)
	for _, node := range []*testbed.Process{s, other, bed.ServeOn(t, db)} {
		testbed.Eventually(t, "the new site", func() error {
			if a := node.Get(t, kite+"&object-position=subject"); a.StatusCode != 200 || !bytes.Equal(a.Data, found) {
				return errNotYet
			}
			return nil
		})
	}
}

func TestAFocusIsPointedAtInTheEasel(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	p := enter(t, s)
	p.must(p.Open(s.Base + "/-/console/easel" + friends + "?width=200&view=places"))
	p.says("faces: 5")
	p.click("focus")
	p.says("Click where the subject is")
	p.must(p.Do(chromedp.Evaluate[chromedp.Void](`(() => {
		const g = document.querySelector("[role=group][aria-label^='The picture']"), r = g.getBoundingClientRect();
		g.setPointerCapture = () => {};
		const at = (type) => g.dispatchEvent(new PointerEvent(type, {bubbles: true, pointerId: 1, clientX: r.left + 0.25 * r.width, clientY: r.top + 0.5 * r.height}));
		at("pointerdown");
		requestAnimationFrame(() => at("pointerup"));
	})()`)))
	p.says("set by somebody")
	if out := bed.Must(t, s, "lane", "focus", "kestrel/catalogue"); !strings.Contains(out, "festival-friends.jpg  2") {
		t.Errorf("%s", out)
	}
	p.click("Remove the focus")
	p.until(`!document.body.innerText.includes("set by somebody")`)
	if out := bed.Must(t, s, "lane", "focus", "kestrel/catalogue"); !strings.Contains(out, "Nobody has said") {
		t.Errorf("%s", out)
	}
}
