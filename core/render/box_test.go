package render

import (
	"fmt"
	"strings"
	"testing"

	"echolane/core/declare"
	"echolane/core/geometry"
	"echolane/core/policy"
)

// However far a layer reaches beyond the slot, what is held of it is no larger than the slot.
func TestLayersAreHeldNoLargerThanTheSlot(t *testing.T) {
	plan := geometry.Plan{Canvas: geometry.Size{W: 200, H: 100}, K: 1}
	job := Job{Limits: policy.DefaultLimits}
	for i, rule := range []string{
		"left: -500px; top: -500px; width: 3000px; height: 2000px; background-color: red", "left: 150px; top: 80px; width: 400px; height: 300px; background-color: red; rotate: 30deg",
		"left: 20px; top: 20px; width: 900px; height: 20px; background-color: red; filter: blur(200px); box-shadow: 0 0 900px 200px black", "left: 5000px; top: 0; width: 20px; height: 20px; background-color: red",
	} {
		b := declare.Box{Name: fmt.Sprint("l", i)}
		for one := range strings.SplitSeq(rule, ";") {
			name, value, _ := strings.Cut(strings.TrimSpace(one), ":")
			if p := b.Set(name, strings.TrimSpace(value)); p != nil {
				t.Fatal(p)
			}
		}
		l, err := job.layer(&b, plan)
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
