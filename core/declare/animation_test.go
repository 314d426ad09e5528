package declare

import (
	"fmt"
	"math"
	"strings"
	"testing"
)

func TestAnimationsAreWrittenOneWay(t *testing.T) {
	for given, want := range map[string]string{
		"none":                         "none",
		"4s drift":                     "drift 4s",
		"drift 4000ms ease 0s 1":       "drift 4s",
		"Drift 1.5s LINEAR":            "Drift 1.5s linear",
		"drift 2s -500ms infinite":     "drift 2s -0.5s infinite",
		"2s 1s drift both 2.5 reverse": "drift 2s 1s 2.5 reverse both",
		"drift 1s cubic-bezier(0.42, 0, 1, 1) alternate-reverse forwards": "drift 1s ease-in alternate-reverse forwards",
		"drift 1s steps(4, start) backwards":                              "drift 1s steps(4,jump-start) backwards",
		"drift 1s cubic-bezier(.1, -2, .3, 2)":                            "drift 1s cubic-bezier(0.1,-2,0.3,2)",
	} {
		var got string
		if reason := readAnimation(&got, given); reason != "" || got != want {
			t.Errorf("%s: %q %s; want %q", given, got, reason, want)
		}
		var again string
		if readAnimation(&again, want); again != want {
			t.Errorf("%s becomes %q", want, again)
		}
	}
	for _, bad := range []string{"drift", "4s", "drift 4s sway", "drift 0s", "drift 61s", "drift 1s 1s 1s", "drift 1s 0", "drift 1s -3", "drift 1s 1e9", "drift 1s NaN", "drift NaNs", "drift 1s infinite 2", "drift 1s 1s infinite", "drift 1s cubic-bezier(2,0,0,0)", "drift 1s steps(0)", "drift 1s steps(1, jump-none)", "1s 3drift"} {
		var got string
		if readAnimation(&got, bad) == "" {
			t.Errorf("%q is taken: %q", bad, got)
		}
	}
	// In a URL there is none but none.
	_, err := Parse("animation=drift+4s")
	if p, ok := err.(Problems); !ok || p[0].Allowed != AnimationNone || !strings.Contains(p[0].Remedy, "@keyframes") {
		t.Errorf("%+v", err)
	}
}

func TestEasings(t *testing.T) {
	for _, c := range []struct {
		easing string
		at     [4]float64 // of 0, 0.25, 0.5, 0.9
	}{ // the curves' values by their equations, solved elsewhere
		{"linear", [4]float64{0, 0.25, 0.5, 0.9}},
		{"ease-in-out", [4]float64{0, 0.1292, 0.5, 0.9798}},
		{"ease", [4]float64{0, 0.4085, 0.8024, 0.9942}},
		{"steps(4)", [4]float64{0, 0.25, 0.5, 0.75}},
		{"steps(4, jump-start)", [4]float64{0.25, 0.5, 0.75, 1}},
		{"steps(3, jump-none)", [4]float64{0, 0, 0.5, 1}},
		{"steps(1, jump-both)", [4]float64{0.5, 0.5, 0.5, 0.5}},
	} {
		e, ok := parseEasing(c.easing)
		for i, p := range []float64{0, 0.25, 0.5, 0.9} {
			if got := e.at(p); !ok || math.Abs(got-c.at[i]) > 5e-4 {
				t.Errorf("%s at %g: %.4f, want %g", c.easing, p, got, c.at[i])
			}
		}
	}
}

func TestMomentsOfAnAnimation(t *testing.T) {
	half := Declarations{}
	half.Opacity = Opacity{Declared: true, Value: 0.5}
	frames := []Keyframe{{At: 0, Set: half}, {At: 1}}
	frames[1].Set.Opacity = Opacity{Declared: true, Value: 1}
	for _, c := range []struct {
		animation string
		perSecond float64
		want      string
		plays     int
	}{
		{"a 1s linear infinite", 4, "0.5:0.25 0.625:0.25 0.75:0.25 0.875:0.25", 0},
		{"a 1s linear infinite alternate", 2, "0.5:0.5 0.75:0.5 1:0.5 0.75:0.5", 0},
		{"a 1s linear infinite reverse -0.5s", 2, "0.75:0.5 1:0.5", 0},
		{"a 1s linear forwards", 2, "0.5:0.5 0.75:0.5 1:0.5", 1},
		{"a 1s linear", 2, "0.5:0.5 0.75:0.5 -:0.5", 1},
		{"a 1s linear 1s", 1, "-:1 0.5:1 -:1", 1},
		{"a 1s linear 1s both", 1, "0.5:2 1:1", 1},
		{"a 1s linear 1.5 alternate forwards", 2, "0.5:0.5 0.75:0.5 1:0.5 0.75:0.5", 1},
		{"a 1s steps(2) infinite", 8, "0.5:0.5 0.75:0.5", 0},
	} {
		m := Motion{Animation: c.animation, Keyframes: frames, PerSecond: c.perSecond, Most: 100}
		list, plays := m.Moments(Declarations{}, 100)
		var got []string
		for _, one := range list {
			value := "-"
			if one.Opacity.Declared {
				value = fmt.Sprint(one.Opacity.Value)
			}
			got = append(got, fmt.Sprintf("%s:%g", value, tidy(one.Shown)))
		}
		if s := strings.Join(got, " "); s != c.want || plays != c.plays {
			t.Errorf("%s: %s, %d times; want %s, %d", c.animation, s, plays, c.want, c.plays)
		}
		if few, _ := m.Moments(Declarations{}, 2); len(few) > 2 {
			t.Errorf("%s: %d of at most 2", c.animation, len(few))
		}
	}
}

func TestFiltersAreMixed(t *testing.T) {
	for _, c := range [][3]string{
		{"blur(4px)", "blur(8px)", "blur(6px)"},
		{"", "sepia(1)", "sepia(0.5)"},
		{"brightness(2)", "", "brightness(1.5)"},
		{"blur(2px) sepia(1)", "blur(4px)", "blur(3px) sepia(0.5)"},
		{"hue-rotate(0deg)", "hue-rotate(-90deg)", "hue-rotate(-45deg)"},
	} {
		var d [2]Declarations
		for i := range d {
			if c[i] != "" {
				if p := d[i].SetInSheet("filter", c[i], ""); p != nil {
					t.Fatal(p)
				}
			}
		}
		if got := mixedFilters(d[0].Filters(), d[1].Filters(), 0.5); got != c[2] {
			t.Errorf("%v: %s", c, got)
		}
	}
}
