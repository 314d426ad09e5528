package markup

import (
	"strings"
	"testing"

	"echolane/core/declare"
)

// Who wants less motion is given the still, before anything that moves, whatever the viewport and the format.
func TestAMovingPictureHasAStillBesideIt(t *testing.T) {
	slot, err := ParseSlot("width: 100vw; aspect-ratio: 21/9; @media (width < 600px) { aspect-ratio: 1 }")
	if err != nil {
		t.Fatal(err)
	}
	alt := "A red kite"
	moving := Options{
		Base: "/kestrel", Source: "catalogue/delta-red.jpg", Slot: slot, Alt: &alt, First: true, Facts: Facts{Width: 6000, Height: 4000},
		Formats: []declare.Format{declare.AVIF, declare.WebP}, Over: declare.Declarations{DeliveryValues: declare.DeliveryValues{Class: "hero"}},
	}
	moving.Site.Animation = "toward 6s infinite"
	m, err := Make(moving)
	if err != nil {
		t.Fatal(err)
	}
	if len(m.Sources) != 7 {
		t.Fatalf("%d sources: %s", len(m.Sources), m.HTML())
	}
	for i, s := range m.Sources {
		stands, still := i < 4, strings.Contains(s.Media, "prefers-reduced-motion: reduce")
		if stands != still || strings.Contains(s.Srcset[0].URL, "animation=none") != stands {
			t.Errorf("source %d: %s %s", i, s.Media, s.Srcset[0].URL)
		}
	}
	if s := m.Sources[0]; s.Media != "(prefers-reduced-motion: reduce) and (min-width: 600px)" || s.Type != "image/avif" {
		t.Errorf("%+v", s)
	}
	if strings.Contains(m.Src, "animation") || !strings.Contains(m.Src, "class=hero") {
		t.Errorf("%s", m.Src)
	}
	preload := m.Preload()
	if strings.Contains(preload, "animation=none") || strings.Count(preload, "prefers-reduced-motion: no-preference") != strings.Count(preload, "<link") || strings.Contains(preload, "and \"") {
		t.Errorf("%s", preload)
	}
	moving.Site.Animation = declare.AnimationNone
	if m, err = Make(moving); err != nil || len(m.Sources) != 3 || strings.Contains(m.HTML(), "motion") {
		t.Errorf("%v %s", err, m.HTML())
	}
}
