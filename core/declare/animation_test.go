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
		list, plays := m.Moments(Declarations{}, nil, 100)
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
		if few, _ := m.Moments(Declarations{}, nil, 2); len(few) > 2 {
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

func TestLayersMoveByTheirOwn(t *testing.T) {
	box := func(name string, rule ...string) Box {
		b := Box{Name: name}
		for i := 0; i+1 < len(rule); i += 2 {
			if p := b.Set(rule[i], rule[i+1]); p != nil {
				t.Fatal(p)
			}
		}
		return b
	}
	frame := func(at float64, rule ...string) (k Keyframe) {
		k.At = at
		for i := 0; i+1 < len(rule); i += 2 {
			if p := k.SetInKeyframe(rule[i], rule[i+1]); p != nil {
				t.Fatal(p)
			}
		}
		return k
	}
	title := box("title", "inset", "auto 5% 10px 5%", "rotate", "-8deg", "opacity", ".5", "animation", "rise 1s linear both")
	mark := box("mark", "left", "0", "animation", "turn 2s linear infinite")
	rise := []Keyframe{frame(0, "bottom", "-20px", "opacity", "0"), frame(1, "rotate", "352deg", "bottom", "10%")}
	turn := []Keyframe{frame(1, "rotate", "360deg", "right", "4px")}
	for _, c := range []struct {
		about  string
		motion Motion
		want   string
		plays  int
	}{
		{"once, from keyframes and from what it is", Motion{Layers: []LayerMotion{{"title", title.Said["animation"], rise}}, PerSecond: 2}, "title{top:auto;right:5%;bottom:-20px;left:5%;rotate:-8deg 0 for 0.5, title{top:auto;right:5%;bottom:calc(5% - 10px);left:5%;rotate:172deg 0.25 for 0.5, title{top:auto;right:5%;bottom:10%;left:5%;rotate:352deg 0.5 for 0.5", 1},
		{"round and round, an edge halfway", Motion{Layers: []LayerMotion{{"mark", mark.Said["animation"], turn}}, PerSecond: 2}, "mark{right:auto;left:0px;rotate:0deg 1 for 0.5, mark{right:auto;left:0px;rotate:90deg 1 for 0.5, mark{right:4px;left:0px;rotate:180deg 1 for 0.5, mark{right:4px;left:0px;rotate:270deg 1 for 0.5", 0},
		{"one that isn't there", Motion{Layers: []LayerMotion{{"gone", "turn 2s infinite", turn}}, PerSecond: 2}, "", 0},
	} {
		c.motion.Most = 50
		list, plays := c.motion.Moments(Declarations{}, []Box{mark, title}, 50)
		var got []string
		for _, m := range list {
			for _, b := range m.Layers {
				delete(b.Said, "animation")
				opacity := 1.0
				if b.Paint.Opacity.Declared {
					opacity = b.Paint.Opacity.Value
				}
				b.Paint.Opacity = Opacity{}
				got = append(got, fmt.Sprintf("%s %g for %g", strings.TrimSuffix(string(b.append(nil)), ";}"), opacity, m.Shown))
			}
		}
		if s := strings.Join(got, ", "); s != c.want || plays != c.plays {
			t.Errorf("%s: %s, %d times; want %s", c.about, s, plays, c.want)
		}
		if n := c.motion.Frames([]Box{mark, title}); c.want != "" && n != len(list) {
			t.Errorf("%s: %d frames are expected, %d come", c.about, n, len(list))
		}
	}
	if title.Said["bottom"] != "10px" || mark.Said["rotate"] != "" {
		t.Errorf("the layers themselves were moved: %v %v", title, mark)
	}
}

func TestAllStandAsAtTheBeginningWhenTheyBeginAnew(t *testing.T) {
	for _, c := range []struct {
		animations string
		seconds    float64
		forEver    bool
	}{
		{"a 2s infinite", 2, true},
		{"a 2s infinite alternate", 4, true},
		{"a 2s infinite, a 3s infinite", 6, true},
		{"a 1.5s infinite, a 1s infinite alternate", 6, true},
		{"a 59.9s infinite, a 60s infinite", 60, true}, // it would be an hour
		{"a 0.1s infinite, a 0.15s infinite", 0.3, true},
		{"a 2s infinite, a 1s 3", 3, false},
		{"a 2s 1s, a 5s infinite alternate", 10, false},
		{"a 2s -1s", 1, false},
		{"a 2s -3s", 0, false},
	} {
		var runs []run
		for one := range strings.SplitSeq(c.animations, ", ") {
			a, ok, _ := parseAnimation(one)
			if !ok {
				t.Fatal(one)
			}
			runs = append(runs, run{Animation: a})
		}
		if s, ever := lengthOf(runs); math.Abs(s-c.seconds) > 1e-9 || ever != c.forEver {
			t.Errorf("%s: %g s, for ever: %v; want %g, %v", c.animations, s, ever, c.seconds, c.forEver)
		}
	}
	// What was over before it began is its end.
	m := Motion{Animation: "a 2s -3s forwards", Keyframes: []Keyframe{{At: 1, Set: Declarations{PaintValues: PaintValues{Opacity: Opacity{true, 0.5}}}}}, PerSecond: 10, Most: 50}
	if list, _ := m.Moments(Declarations{}, nil, 50); len(list) != 1 || list[0].Opacity.Value != 0.5 {
		t.Errorf("%+v", list)
	}
}
