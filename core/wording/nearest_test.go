package wording

import "testing"

func TestNearestOffersWhatWasMeant(t *testing.T) {
	names := []string{"width", "height", "aspect-ratio", "object-fit", "format", "quality"}
	for given, want := range map[string]string{
		"widht":       "width",
		"Width":       "width",
		"w":           "width",
		"h":           "height",
		"q":           "quality",
		"fit":         "object-fit",
		"ratio":       "aspect-ratio",
		"aspectratio": "aspect-ratio",
		"objectfit":   "object-fit",
		"qualty":      "quality",
		"fromat":      "format",
		"zzz":         "",
		"":            "",
	} {
		if got := Nearest(given, names); got != want {
			t.Errorf("Nearest(%q) = %q, want %q", given, got, want)
		}
	}
}

func TestDistanceCountsATranspositionOnce(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want int
	}{{"widht", "width", 1}, {"", "abc", 3}, {"abc", "", 3}, {"jpeg", "jpg", 1}, {"same", "same", 0}} {
		if got := distance(c.a, c.b); got != c.want {
			t.Errorf("distance(%q, %q) = %d, want %d", c.a, c.b, got, c.want)
		}
	}
}
