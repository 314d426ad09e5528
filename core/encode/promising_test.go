package encode

import (
	"bytes"
	"slices"
	"testing"

	"echolane/core/declare"
)

func TestPromisingFormatsComeFirst(t *testing.T) {
	all := []declare.Format{declare.AVIF, declare.JXL, declare.WebP, declare.JPEG, declare.PNG, declare.GIF}
	for _, c := range []struct {
		offered []declare.Format
		kind    string
		quality declare.Quality
		most    int
		want    []declare.Format
	}{
		{all, "photograph", 72, 5, []declare.Format{declare.AVIF}},
		{all, "photograph", 0, 5, []declare.Format{declare.AVIF}},
		{all, "photograph", 90, 5, []declare.Format{declare.AVIF, declare.JXL}},
		{all, "photograph", 90, 1, []declare.Format{declare.AVIF}},
		{[]declare.Format{declare.JPEG, declare.WebP, declare.AVIF}, "photograph", 50, 1, []declare.Format{declare.AVIF}}, // whatever the site's order
		{[]declare.Format{declare.WebP, declare.JPEG, declare.PNG}, "photograph", 50, 2, []declare.Format{declare.WebP}},
		{[]declare.Format{declare.WebP, declare.JPEG, declare.PNG}, "photograph", 90, 2, []declare.Format{declare.WebP, declare.JPEG}},
		{[]declare.Format{declare.WebP, declare.JPEG, declare.PNG}, "graphic", 90, 3, []declare.Format{declare.WebP, declare.PNG}},
		{[]declare.Format{declare.JXL, declare.WebP}, "photograph", 72, 2, []declare.Format{declare.WebP, declare.JXL}},
		{all, "photograph", declare.Lossless, 2, []declare.Format{declare.JXL, declare.WebP}},
		{[]declare.Format{declare.GIF}, "photograph", 72, 3, []declare.Format{declare.GIF}},
		{[]declare.Format{declare.JPEG, declare.PNG, declare.GIF}, "photograph", 72, 3, []declare.Format{declare.JPEG}},
	} {
		if got := Promising(c.offered, c.kind, c.quality, c.most); !slices.Equal(got, c.want) {
			t.Errorf("of %v, a %s at %v, at most %d: %v, want %v", c.offered, c.kind, c.quality, c.most, got, c.want)
		}
	}
}

// The smallest is what is sent, and what each weighs is said; formats of like weight go by the order that is asked for.
func TestTheSmallestFormatIsTaken(t *testing.T) {
	order := []declare.Format{declare.JPEG, declare.WebP, declare.AVIF}
	p := &Picture{Pixels: meadow(160, 120, false), Quality: 72}
	defer p.Free()
	data, format, how, err := p.Smallest(order, order)
	if err != nil {
		t.Fatal(err)
	}
	if len(how.Weighed) != 3 {
		t.Fatalf("it was weighed as %+v", how.Weighed)
	}
	for _, w := range how.Weighed {
		if float64(w.Bytes)*like < float64(len(data)) {
			t.Errorf("%s has %d bytes, and %v with %d was taken", w.Format, w.Bytes, format, len(data))
		}
		other := &Picture{Pixels: p.Pixels, Quality: 72}
		alone, _, err := other.Encode(declare.ParseFormat(w.Format))
		if err != nil || len(alone) != w.Bytes {
			t.Errorf("%s alone has %d bytes, among others %d: %v", w.Format, len(alone), w.Bytes, err)
		}
		other.Pixels = nil
		other.Free()
	}
	same := &Picture{Pixels: meadow(64, 48, false), Quality: 72}
	defer same.Free()
	one, _, how, err := same.Smallest(order[:1], order)
	if err != nil || how.Weighed != nil {
		t.Errorf("one format alone was weighed: %+v, %v", how.Weighed, err)
	}
	if again, _, _, err := same.Smallest(order[:1], order); err != nil || !bytes.Equal(one, again) {
		t.Errorf("a second time it differs: %v", err)
	}
	lossless := &Picture{Pixels: meadow(64, 48, false), Quality: declare.Lossless}
	defer lossless.Free()
	if _, format, _, err := lossless.Smallest(order, order); err != nil || format == declare.JPEG {
		t.Errorf("lossless it went as %v: %v", format, err)
	}
}
