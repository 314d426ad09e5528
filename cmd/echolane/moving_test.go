package main

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

// A still moves by a class for who takes frames, stays for who doesn't or wants less motion, and no cache mixes them up.
func TestStillsMoveByClass(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	sheet := filepath.Join(t.TempDir(), "kestrel.css")
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(sheet, []byte(text), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	write("@keyframes rise { from { xywh: subject 60% } to { xywh: percent:0,0,100,100 } }\n.rise { animation: rise 1s linear infinite; width: 120px }\n@media (prefers-reduced-motion: reduce) { .rise { animation: none } }\n.still, .titled { width: 120px }\n" +
		"@keyframes up { from { inset: auto 0 -30px 0; opacity: 0 } }\n.titled::layer(t) { content: \"Kites\"; inset: auto 0 4px 0; color: white; animation: up 0.5s both }\n@media (prefers-reduced-motion: reduce) { .titled::layer(t) { animation: none } }\n")
	bed.Must(t, s, "sheet", "publish", "kestrel", sheet, "--anyway")
	const address = "/kestrel/catalogue/delta-red.jpg?class=rise"
	framed := func(data []byte) bool { return strings.Contains(string(data[:min(len(data), 200)]), "ANIM") }
	moving := s.Get(t, address, "Accept", "image/webp")
	if moving.StatusCode != 200 || !framed(moving.Data) {
		t.Fatalf("%d %s", moving.StatusCode, moving.Header)
	}
	if v := moving.Header.Get("Vary"); !strings.Contains(v, "Sec-CH-Prefers-Reduced-Motion") || strings.Contains(v, "Save-Data") {
		t.Errorf("Vary: %s", v)
	}
	for range 2 { // also from the cache
		if a := s.Get(t, address, "Accept", "image/webp", "Sec-CH-Prefers-Reduced-Motion", `"reduce"`); a.StatusCode != 200 || framed(a.Data) {
			t.Error("who wants less motion gets it")
		}
		if a := s.Get(t, address, "Accept", "image/webp", "Sec-CH-Prefers-Reduced-Motion", `"no-preference"`); !framed(a.Data) {
			t.Error("who has no preference gets a still")
		}
		if a := s.Get(t, address+"&animation=none", "Accept", "image/webp"); a.StatusCode != 200 || framed(a.Data) {
			t.Error("animation=none moves")
		}
		if a := s.Get(t, address, "Accept", "image/jpeg"); a.Header.Get("Content-Type") != "image/jpeg" {
			t.Errorf("%s", a.Header)
		}
	}
	// A layer moves on a picture that stays, and stays for who wants less motion.
	if a := s.Get(t, "/kestrel/catalogue/delta-red.jpg?class=titled", "Accept", "image/webp"); !framed(a.Data) || !strings.Contains(a.Header.Get("Vary"), "Sec-CH-Prefers-Reduced-Motion") {
		t.Errorf("a moving layer: %d %s", a.StatusCode, a.Header)
	}
	for _, less := range [][]string{{"", "Sec-CH-Prefers-Reduced-Motion", `"reduce"`}, {"&animation=none", "Save-Data", "off"}} {
		if a := s.Get(t, "/kestrel/catalogue/delta-red.jpg?class=titled"+less[0], "Accept", "image/webp", less[1], less[2]); a.StatusCode != 200 || framed(a.Data) {
			t.Errorf("with %v it moves", less)
		}
	}
	if said := bed.Must(t, s, "explain", "kestrel/catalogue/delta-red.jpg?class=titled", "--accept", "image/webp"); !strings.Contains(said, "::layer(t) moves") {
		t.Errorf("explain: %s", said)
	}
	if said := bed.Must(t, s, "markup", "kestrel/catalogue/delta-red.jpg", "class=titled", "--slot", "width: 120px", "--decorative"); !strings.Contains(said, "animation=none") {
		t.Errorf("markup: %s", said)
	}
	if v := s.Get(t, "/kestrel/catalogue/delta-red.jpg?class=still").Header.Get("Vary"); strings.Contains(v, "Motion") {
		t.Errorf("a class that doesn't move varies by %s", v)
	}
	// The site's bound on frames changes what is made, at once.
	bed.Must(t, s, "site", "set", "kestrel", "--limit", "animation_frames=5")
	if a := s.Get(t, address, "Accept", "image/webp"); !framed(a.Data) || len(a.Data) >= len(moving.Data) {
		t.Errorf("%d bytes with 5 frames, %d with 20", len(a.Data), len(moving.Data))
	}
	// Other keyframes are another variant, though nothing else of the address or the class has changed.
	few := s.Get(t, address, "Accept", "image/webp").Data
	write("@keyframes rise { from { opacity: .3 } to { xywh: percent:0,0,100,100 } }\n.rise { animation: rise 1s linear infinite; width: 120px }\n")
	bed.Must(t, s, "sheet", "publish", "kestrel", sheet, "--anyway")
	if a := s.Get(t, address, "Accept", "image/webp"); string(a.Data) == string(few) {
		t.Error("other keyframes, and the same picture")
	}
	// A draft is drawn as it would move.
	write("@keyframes sway { to { object-position: 100% 0 } }\n.sway { animation: sway 1s infinite; width: 120px; height: 60px; object-fit: cover }\n")
	bed.Must(t, s, "sheet", "draft", "kestrel", sheet)
	a := s.Get(t, "/-/api/v1/sites/kestrel/sheet/preview?source=catalogue/delta-red.jpg&class=sway&draft=true", "Accept", "image/webp")
	if a.StatusCode != 200 || !framed(a.Data) {
		t.Errorf("%d %.200s", a.StatusCode, a.Data)
	}
	// What is wrong is said with its place.
	write(".rise { animation: rice 1s }\n@keyframes rise { to { width: 20px } }\n")
	r := bed.Run(t, s, "sheet", "check", sheet, "--site", "kestrel")
	if out := r.Out + r.Err; r.Code == 0 || !strings.Contains(out, "no @keyframes rice") || !strings.Contains(out, "did you mean rise") || !strings.Contains(out, "width isn't a property here") {
		t.Errorf("%d %s", r.Code, out)
	}
}
