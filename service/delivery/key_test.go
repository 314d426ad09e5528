package delivery

import (
	"testing"

	"echolane/core/policy"
	"echolane/core/render"
	"echolane/service/cache"
)

func TestRequestsShareAVariantWhereNothingTellsThemApart(t *testing.T) {
	styled := func(d *policy.Document) { d.Sheet = ".tile { width: 50px }" }
	const avif, webp = "image/avif,image/webp", "image/webp"
	for _, c := range []struct {
		a, accept, b, accept2 string
		same                  bool
	}{
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60", "", true},
		{"/one/f/kite.png?width=60&height=40", "", "/one/f/kite.png?height=40&width=60", "", true},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60px", "", true},
		{"/one/f/kite.png?width=60", "", "/one/f/%6bite.png?width=60", "", true},
		{"/one/f/kite.png?width=60", "", "/two/f/kite.png?width=60", "", true},
		{"/one/f/kite.png?width=60", "", "/one/f/same.png?width=60", "", true},
		{"/one/f/kite.png?width=60", avif, "/one/f/kite.png?width=60", "image/webp, image/avif", true},
		{"/one/f/kite.png?width=60&format=webp", avif, "/one/f/kite.png?width=60&format=webp", "", true},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&download=kite", "", true},
		{"/one/f/kite.png?width=60&quality=72", "", "/floor/f/kite.png?width=60&quality=72", "", true},
		{"/one/f/kite.png?class=tile", "", "/one/f/kite.png?width=50", "", true},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=61", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?height=60", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&resolution=2x", "", false},
		{"/one/f/kite.png?width=60&height=60&object-fit=cover", "", "/one/f/kite.png?width=60&height=60&object-fit=contain", "", false},
		{"/one/f/kite.png?width=60&height=60&object-fit=cover", "", "/one/f/kite.png?width=60&height=60&object-fit=cover&object-position=left", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&rotate=90deg", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&xywh=0,0,100,100", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&filter=sepia(1)", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&border-radius=4px", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&quality=40", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&retain=rights", "", false},
		{"/one/f/kite.png?width=60", avif, "/one/f/kite.png?width=60", webp, false},
		{"/one/f/kite.png?width=60&format=webp", "", "/one/f/kite.png?width=60&format=jpeg", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/other.png?width=60", "", false},
		{"/one/f/kite.png?width=60", "", "/one/f/kite.png?width=60&as=placeholder", "", false},
		{"/one/f/kite.png?width=60", "", "/slow/f/kite.png?width=60", "", false},
		{"/one/f/kite.png?width=60&budget=2kB", "", "/one/f/kite.png?width=60&budget=3kB", "", false},
		{"/one/f/kite.png?width=60&budget=2kB", "", "/floor/f/kite.png?width=60&budget=2kB", "", false},
		{"/one/f/kite.png?width=60&after-content=url(f/kite.png)", "", "/one/f/kite.png?width=60&after-content=url(f/other.png)", "", false},
	} {
		s := newStand(t)
		s.put("same.png", "600x400\nkite")
		s.put("other.png", "600x400\nother")
		s.settings.set(t,
			s.site("one", styled), s.site("two", styled),
			s.site("floor", func(d *policy.Document) { styled(d); d.Limits.QualityFloor = 50 }),
			s.site("slow", func(d *policy.Document) { styled(d); d.Effort = "thorough" }))
		if got := outcome(s.ask(c.a, "Accept", c.accept)); got != "200" {
			t.Errorf("%s: %s", c.a, got)
			continue
		}
		made := s.shop.renders.Load()
		if got := outcome(s.ask(c.b, "Accept", c.accept2)); got != "200" {
			t.Errorf("%s: %s", c.b, got)
		}
		if same := s.shop.renders.Load() == made; same != c.same {
			t.Errorf("%s (%s) and %s (%s) share a variant: %v, want %v", c.a, c.accept, c.b, c.accept2, same, c.same)
		}
	}
}

// Each field of a key tells keys apart, and none runs into the next.
func TestAKeyHoldsEveryField(t *testing.T) {
	base := func() cache.Key {
		return cache.Key{Resolved: "width=60", Sources: []string{"ab", "c"}, Renderer: render.Version}
	}
	seen := map[string]string{base().String(): "the key itself"}
	for name, change := range map[string]func(*cache.Key){
		"kind":               func(k *cache.Key) { k.Kind = cache.Placeholder },
		"facts":              func(k *cache.Key) { k.Kind = cache.Facts },
		"drawing":            func(k *cache.Key) { k.Kind = cache.Drawing },
		"resolved":           func(k *cache.Key) { k.Resolved = "width=61" },
		"renderer":           func(k *cache.Key) { k.Renderer += "1" },
		"effort":             func(k *cache.Key) { k.Effort = 1 },
		"floor":              func(k *cache.Key) { k.Floor = 40 },
		"another source":     func(k *cache.Key) { k.Sources[0] = "ad" },
		"order of sources":   func(k *cache.Key) { k.Sources = []string{"c", "ab"} },
		"where sources part": func(k *cache.Key) { k.Sources = []string{"a", "bc"} },
		"sources in one":     func(k *cache.Key) { k.Sources = []string{"abc"} },
		"fields in one":      func(k *cache.Key) { k.Resolved, k.Sources = "width=60ab", []string{"c"} },
	} {
		k := base()
		change(&k)
		if other, ok := seen[k.String()]; ok {
			t.Errorf("%s: the same key as %s", name, other)
		}
		seen[k.String()] = name
	}
	if again := base(); again.String() != base().String() {
		t.Error("equal keys have two names")
	}
}
