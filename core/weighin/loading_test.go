package weighin

import (
	"bytes"
	"strings"
	"testing"
)

func TestLoadsAreSummarizedAsMedians(t *testing.T) {
	frame := func(n byte) []Frame { return []Frame{{AtMS: 500, Data: []byte{n}}} }
	three := []Load{
		{ContentMS: 3000, Shift: 0.2, LastImageMS: 5000, ImageBytes: 3, Frames: frame(3)},
		{ContentMS: 1000, Shift: 0, LastImageMS: 9000, ImageBytes: 1, Frames: frame(1)},
		{ContentMS: 2000, Shift: 0.1, LastImageMS: 4000, ImageBytes: 2, Frames: frame(2)},
	}
	s := Summarize("Slow 4G", "phone", 12000, three)
	if s.Content != (Spread{2000, 1000, 3000}) || s.LastImage != (Spread{5000, 4000, 9000}) || s.Shift != (Spread{0.1, 0, 0.2}) || s.Loads != 3 || s.Unfinished != 0 {
		t.Errorf("three loads are %+v", s)
	}
	if s.ImageBytes != 2 || !bytes.Equal(s.Frames[0].Data, []byte{2}) {
		t.Errorf("the frames are of another load than the one in the middle: %+v", s)
	}
	if got := s.Time(s.Content); got != "2.0 s (1.0–3.0)" {
		t.Errorf("the time reads %q", got)
	}
	// Two of three that were cut off: the page takes longer than that, whatever the third says.
	cut := []Load{{ContentMS: 0, Cut: true}, {ContentMS: 9000, LastImageMS: 8000, Cut: true}, {ContentMS: 2000, LastImageMS: 3000}}
	if s = Summarize("Slow 4G", "phone", 12000, cut); s.Unfinished != 2 || !s.Over(s.LastImage) || s.Content.Median != 9000 || s.Time(s.LastImage) != "over 12 s" {
		t.Errorf("loads that were cut off are %+v", s)
	}
	if s = Summarize("cable", "desktop", 12000, three[:2]); s.Content.Median != 2000 {
		t.Errorf("the median of two is %+v", s.Content)
	}
}

func TestTheReportShowsLoadsBesideTheRewrittenOnes(t *testing.T) {
	of := func(ms float64, shot int) *Report {
		r := &Report{Page: "https://shop.kestrel.test/", Views: []View{{Name: "phone", Width: 390, Height: 844, Density: 3, Shot: shot, ShotHeight: 844}}}
		l := Summarize("Slow 4G", "phone", 12000, []Load{{ContentMS: ms, LastImageMS: 2 * ms}})
		l.Frames = []Frame{{AtMS: 500}, {AtMS: 1000, Shot: shot + 1}}
		r.Loads = []Loading{l}
		return r
	}
	var b bytes.Buffer
	if err := WritePage(&b, of(4000, 1), of(1000, 3), [][]byte{{1}, {2}, {3}, {4}}); err != nil {
		t.Fatal(err)
	}
	page := b.String()
	for _, want := range []string{">4.0 s<", ">8.0 s<", ">1.0 s<", "Slow 4G: nothing after 0.5 s", "Slow 4G: the page after 1 s", "base64,AQ==", "base64,Ag==", "base64,Aw==", "base64,BA=="} {
		if !strings.Contains(page, want) {
			t.Errorf("the report lacks %q", want)
		}
	}
	b.Reset()
	if err := WritePage(&b, of(4000, 1), nil, nil); err != nil { // screenshots that aren't there leave no hole
		t.Fatal(err)
	}
	if strings.Contains(b.String(), "ZgotmplZ") {
		t.Error("the report without screenshots has an address that isn't one")
	}
}
