package render

import (
	"strings"
	"testing"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/demo/pictures"
)

// What a URL may ask of grounds, borders and shapes stays within what its canvas takes, whatever it asks.
func TestGroundsBordersAndShapesAtTheirWorst(t *testing.T) {
	mark, err := pictures.Load("mark.png")
	if err != nil {
		t.Fatal(err)
	}
	points := strings.TrimSuffix(strings.Repeat("0 0, 100%25 100%25, 100%25 0, 0 100%25, ", 64), ", ")
	for _, css := range []string{
		"background-image=url(lane/mark.png)&background-size=1px&background-repeat=repeat", "background-image=url(lane/mark.png)&background-size=0.01px 0.01px&background-repeat=round",
		"background-image=url(lane/mark.png)&background-size=100000px&background-repeat=no-repeat", "background-image=url(lane/mark.png)&background-size=3px&background-repeat=space&background-position=-100000px 100000px",
		"border=1px dashed red&border-radius=50%25", "border=1px dotted red", "border=10000px solid red", "border=0.001px double red, none, 5px dashed blue, 9000px dotted green",
		"clip-path=polygon(evenodd, " + points + ")", "clip-path=circle(100000px at -100000px 100000px)", "clip-path=inset(60%25 70%25 round 100000px)", "clip-path=ellipse(0 0)",
		"padding=49%25&box-shadow=inset 10000px -10000px 10000px 10000px red, inset 0 0 10000px -10000px blue", "padding=100000px", "border-radius=calc(1px - 10%25)",
	} {
		d, err := declare.Parse("width=900&height=900&grow=yes&" + strings.ReplaceAll(css, " ", "+"))
		if err != nil {
			t.Errorf("%.60s: %.200v", css, err)
			continue
		}
		p, err := Paint(mark, Job{Request: d.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits, Pictures: map[string][]byte{"lane/mark.png": mark}})
		if no, refused := err.(*policy.Refusal); refused {
			if no.Reason != policy.ReasonVariantTooLarge {
				t.Errorf("%s: %v", css, no)
			}
			continue
		}
		if err != nil || p.W < 900 || p.H < 900 {
			t.Errorf("%s: %v", css, err)
		}
	}
}
