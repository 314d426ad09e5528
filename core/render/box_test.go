package render

import (
	"fmt"
	"strings"
	"testing"

	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/policy"
)

func boxOf(t *testing.T, name, rule string) *declare.Box {
	t.Helper()
	b := &declare.Box{Name: name}
	for one := range strings.SplitSeq(rule, ";") {
		name, value, _ := strings.Cut(strings.TrimSpace(one), ":")
		if p := b.Set(name, strings.TrimSpace(value)); p != nil {
			t.Fatal(p)
		}
	}
	return b
}

// What is said of a layer is where it lies, what of its size follows from its content, and how its text is too large.
func TestWhereLayersLie(t *testing.T) {
	plan := geometry.Plan{Canvas: geometry.Size{W: 200, H: 100}, K: 1}
	for rule, want := range map[string]string{
		`left: 10%; top: 20px; width: 50%; height: 30px; background-color: red; rotate: 9deg`:             "{x 20 20 100 30 9 [] []}",
		`inset: 10px 20px; background-color: red`:                                                         "{x 20 10 160 80 0 [] []}",
		`left: 4px; top: 2px; width: 60px; content: "Kites over the meadow"; font: 12px Go`:               "{x 4 2 60 %h 0 [height] []}",
		`left: 4px; top: 2px; width: 60px; height: 20px; content: "Kites over the meadow"; font: 12px Go`: "{x 4 2 60 20 0 [] [higher]}",
		`width: 20px; content: "Rindfleisch"; font: 12px Go; white-space: nowrap; height: 40px`:           "{x 0 0 20 40 0 [] [wider]}",
		`width: 60px; content: "Kites over the meadow"; font: 12px Go; line-clamp: 1`:                     "{x 0 0 60 %h 0 [height] [cut]}",
		`width: 60px; height: 12px; writing-mode: vertical-rl; content: "Kites over"; font: 12px Go`:      "{x 0 0 60 12 0 [] [higher]}",
	} {
		l, err := Job{Limits: policy.DefaultLimits}.layer(boxOf(t, "x", rule), plan)
		if err != nil {
			t.Fatal(err)
		}
		if got := fmt.Sprint(l.laid); got != strings.Replace(want, "%h", fmt.Sprint(l.laid.Height), 1) {
			t.Errorf("%s: %s, not %s", rule, got, want)
		}
	}
}

// However far a layer reaches beyond the slot, what is held of it is no larger than the slot.
func TestLayersAreHeldNoLargerThanTheSlot(t *testing.T) {
	plan := geometry.Plan{Canvas: geometry.Size{W: 200, H: 100}, K: 1}
	job := Job{Limits: policy.DefaultLimits}
	for i, rule := range []string{
		"left: -500px; top: -500px; width: 3000px; height: 2000px; background-color: red", "left: 150px; top: 80px; width: 400px; height: 300px; background-color: red; rotate: 30deg",
		"left: 20px; top: 20px; width: 900px; height: 20px; background-color: red; filter: blur(200px); box-shadow: 0 0 900px 200px black", "left: 5000px; top: 0; width: 20px; height: 20px; background-color: red",
	} {
		l, err := job.layer(boxOf(t, fmt.Sprint("l", i), rule), plan)
		if err != nil {
			t.Fatal(err)
		}
		if l.pixels.W > 200 || l.pixels.H > 100 {
			t.Errorf("%s: %d × %d pixels are held", rule, l.pixels.W, l.pixels.H)
		}
	}
	far := declare.Box{Name: "far"}
	far.Set("width", "90000px")
	far.Set("background-color", "red")
	if _, err := job.layer(&far, plan); err == nil {
		t.Error("a layer of 90,000 pixels is made")
	}
}
