package wording

import (
	"strings"
	"testing"
	"unicode/utf8"
)

func TestTextIsCutBetweenCharacters(t *testing.T) {
	for _, c := range []struct {
		s         string
		most      int
		text, cut string
	}{
		{"kite", 10, "kite", "kite"},
		{"kite", 4, "kite", "kite"},
		{"kites over the meadow", 10, "kites over", "kites o…"},
		{"éééééé", 7, "ééé", "éé…"},
		{"a\xffb", 10, "a\ufffdb", "a\ufffdb"},
		{"a\x00b", 10, "a\u2400b", "a\u2400b"},
		{"\xff\xff\xff\xff", 6, "\ufffd", "\ufffd"},
		{"\x80\x80\x80\x80\x80\x80\x80\x80", 4, "\ufffd", "…"},
		{"", 5, "", ""},
	} {
		if got := Text(c.s, c.most); got != c.text {
			t.Errorf("Text(%q, %d) = %q, want %q", c.s, c.most, got, c.text)
		}
		if got := Cut(c.s, c.most); got != c.cut {
			t.Errorf("Cut(%q, %d) = %q, want %q", c.s, c.most, got, c.cut)
		}
	}
}

func FuzzCut(f *testing.F) {
	f.Add("kites \xff\x00 é over", 9)
	f.Fuzz(func(t *testing.T, s string, most int) {
		most = 3 + (most&0xff)%100
		for _, got := range []string{Text(s, most), Cut(s, most)} {
			if len(got) > most || !utf8.ValidString(got) || strings.IndexByte(got, 0) >= 0 {
				t.Errorf("%q within %d bytes became %q", s, most, got)
			}
		}
	})
}

func TestASizeIsCutFromItsUnit(t *testing.T) {
	for text, want := range map[string]struct {
		number string
		bytes  float64
	}{"61440": {"61440", 1}, "60kB": {"60", 1e3}, "1.5 MiB": {"1.5", 1 << 20}, "2GiB": {"2", 1 << 30}, "7b": {"7", 1}, "": {"", 1}, "ten": {"ten", 1}} {
		if number, bytes := CutUnit(text); number != want.number || bytes != want.bytes {
			t.Errorf("%q is %q times %.0f, want %q times %.0f", text, number, bytes, want.number, want.bytes)
		}
	}
}
