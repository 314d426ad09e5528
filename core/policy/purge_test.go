package policy

import "testing"

func TestTheNewestPurgeThatConcernsSomethingCounts(t *testing.T) {
	s := &SiteSettings{purges: newPurges([]Purge{
		{Serial: 3}, {Serial: 5, Lane: "shop"}, {Serial: 4, Lane: "shop"}, {Serial: 7, Lane: "shop", Path: "red.jpg"},
		{Serial: 8, Lane: "shop", Path: "summer/"}, {Serial: 9, Lane: "archive", Path: "1962/a/"}, {Serial: 11, Class: "card"}, {Serial: 12, Keys: []string{"k1", "k2"}},
	})}
	for _, c := range []struct {
		lane, path string
		want       uint64
	}{
		{"other", "x.jpg", 3}, {"shop", "x.jpg", 5}, {"shop", "red.jpg", 7}, {"shop", "red.jpg/x", 5}, {"shop", "summer/x.jpg", 8}, {"shop", "summer/deep/x.jpg", 8},
		{"shop", "summer", 5}, {"shop", "summers/x.jpg", 5}, {"archive", "1962/x.jpg", 3}, {"archive", "1962/a/x.jpg", 9}, {"other", "summer/x.jpg", 3},
	} {
		if got := s.SourcePurged(c.lane, c.path); got != c.want {
			t.Errorf("%s/%s: %d, want %d", c.lane, c.path, got, c.want)
		}
	}
	for _, c := range []struct {
		key, classes string
		want         uint64
	}{{"k1", "", 12}, {"k3", "", 0}, {"k3", "hero card", 11}, {"k3", "cards", 0}, {"k2", "card", 12}} {
		if got := s.VariantPurged(c.key, c.classes); got != c.want {
			t.Errorf("%s %q: %d, want %d", c.key, c.classes, got, c.want)
		}
	}
	if none := (&SiteSettings{}); s.NewestPurge() != 12 || none.NewestPurge() != 0 || none.SourcePurged("a", "b") != 0 || none.VariantPurged("k", "c") != 0 {
		t.Error("a site without purges has some")
	}
}
