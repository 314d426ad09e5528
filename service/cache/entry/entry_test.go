package entry

import (
	"bytes"
	"errors"
	"testing"
)

func TestWhatIsMadeIsReadAndDamageIsFound(t *testing.T) {
	whole, err := Make([]byte("head"), []byte("the body"))
	if err != nil {
		t.Fatal(err)
	}
	head, body, err := Parse(whole)
	if err != nil || string(head) != "head" || string(body) != "the body" {
		t.Fatalf("%q %q %v", head, body, err)
	}
	for i := range whole {
		for bit := range 8 {
			broken := bytes.Clone(whole)
			broken[i] ^= 1 << bit
			if _, _, err := Parse(broken); !errors.Is(err, ErrBroken) && !errors.Is(err, ErrOld) {
				t.Fatalf("bit %d of byte %d turned: %v", bit, i, err)
			}
		}
		if _, _, err := Parse(whole[:i]); err == nil {
			t.Fatalf("cut after %d bytes, and taken for whole", i)
		}
	}
	if _, err := Make(make([]byte, MostHeader+1), nil); err == nil {
		t.Error("a huge header is taken")
	}
}

func TestKeys(t *testing.T) {
	k := Key("a", "b")
	s, ok := Shorten(k)
	if !ok || s.String() != k || k == Key("a\x00b", "") || len(k) != 24 {
		t.Errorf("%s %v %v", k, s, ok)
	}
	for _, bad := range []string{"", "short", k + "x", k[:23] + "!"} {
		if _, ok := Shorten(bad); ok {
			t.Errorf("%q is taken for a key", bad)
		}
	}
}

func FuzzParse(f *testing.F) {
	whole, _ := Make([]byte(`{"type":"image/webp"}`), []byte("body"))
	f.Add(whole)
	f.Add([]byte(magic))
	f.Fuzz(func(t *testing.T, data []byte) {
		head, body, err := Parse(data)
		if err != nil {
			return
		}
		if again, err := Make(head, body); err != nil || !bytes.Equal(again, data) {
			t.Fatal("what is taken for whole isn't what would be written")
		}
	})
}
