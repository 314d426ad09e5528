package subject

import "testing"

func TestColoursHaveTheNamesThatPeopleGiveThem(t *testing.T) {
	for name, colours := range map[string][]string{
		"black": {"#000000", "#101014", "#1c1c1c"}, "white": {"#ffffff", "#f7f5f2"}, "grey": {"#808080", "#b0b3b5", "#5a5f63"},
		"red": {"#ff0000", "#c1121f", "#8b0000", "#a83232"}, "orange": {"#ff8c00", "#e8731a", "#ffa500"}, "yellow": {"#ffd700", "#f4e04d", "#ffff00"},
		"green": {"#00ff00", "#2e7d32", "#6b8e23", "#5a8a5a"}, "cyan": {"#00ffff", "#1fb5ad", "#008b8b"}, "blue": {"#0000ff", "#1e3a8a", "#6fa8dc", "#87ceeb"},
		"purple": {"#800080", "#6a3d9a", "#8a2be2"}, "pink": {"#ffc0cb", "#ff69b4", "#f4a6b8"}, "brown": {"#8b4513", "#5c4033", "#7a5230"},
	} {
		for _, c := range colours {
			if got := ColourName(c); got != name {
				t.Errorf("%s is %s, want %s", c, got, name)
			}
		}
	}
	for _, bad := range []string{"", "#", "#12", "red", "#gggggg", "1234567"} {
		if got := ColourName(bad); got != "" {
			t.Errorf("%q is %s", bad, got)
		}
	}
}
