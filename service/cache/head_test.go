package cache

import (
	"encoding/json"
	"reflect"
	"strings"
	"testing"

	"echolane/core/encode"
	"echolane/core/render"
)

func written(t testing.TB, v *Variant) []byte {
	t.Helper()
	head, err := json.Marshal(v)
	if err != nil {
		t.Fatal(err)
	}
	return head
}

func TestAHeadIsReadAsFarAsAnAnswerNeedsIt(t *testing.T) {
	made := Variant{
		ETag: `"0123456789abcdef"`, Type: "image/svg+xml", Width: 640, Height: 1, SourceBytes: 1 << 40, MadeAt: 1796000000, Provisional: true,
		Of: Address{"kestrel", "catalogue", "festival/a b é.jpg", "card wide"}, Serial: 1 << 55, NaturalWidth: 3, NaturalHeight: 2, SourceType: "image/jpeg",
		Stages: []Stage{{"encode", 1.5}}, Encoding: &encode.Encoding{Kind: "photograph"}, Layers: []render.Laid{{Name: "after"}},
	}
	for name, c := range map[string]struct {
		change func(v *Variant)
		whole  bool // it is taken apart at once
	}{
		"all":                 {func(*Variant) {}, false},
		"nothing that may go": {func(v *Variant) { v.MadeAt, v.Provisional, v.Serial, v.Of.Classes = 0, false, 0, "" }, false},
		"a quote in a path":   {func(v *Variant) { v.Of.Path = `a"b.jpg` }, true},
		"a backslash":         {func(v *Variant) { v.Of.Path = `a\b.jpg` }, true},
		"an ampersand":        {func(v *Variant) { v.Of.Path = "a&b.jpg" }, true},
		"a serial too long":   {func(v *Variant) { v.Serial = 1<<64 - 1 }, true},
		"a negative size":     {func(v *Variant) { v.Width = -1 }, true},
		"no validator":        {func(v *Variant) { v.ETag = "" }, true},
		"a lone quote":        {func(v *Variant) { v.ETag = `"` }, true},
		"a bare validator":    {func(v *Variant) { v.ETag = "0123" }, true},
		"a weak validator":    {func(v *Variant) { v.ETag = `W/"0123"` }, true},
	} {
		v := made
		c.change(&v)
		head := written(t, &v)
		got, ok := readHead(head)
		if !ok {
			t.Errorf("%s: it isn't read: %s", name, head)
			continue
		}
		if (got.head == nil) != c.whole {
			t.Errorf("%s: taken apart at once: %v", name, got.head == nil)
		}
		lean := Variant{ETag: v.ETag, Type: v.Type, Width: v.Width, Height: v.Height, SourceBytes: v.SourceBytes, MadeAt: v.MadeAt, Provisional: v.Provisional, Of: v.Of, Serial: v.Serial, head: head}
		if got.head != nil && !reflect.DeepEqual(*got, lean) {
			t.Errorf("%s: read as %+v", name, *got)
		}
		if whole := got.Whole(); !reflect.DeepEqual(*whole, v) {
			t.Errorf("%s: whole it is %+v, was %+v", name, *whole, v)
		}
	}
	// As versions before this one wrote it, and with what is none of ours.
	head := string(written(t, &made))
	other := `{"natural_width":3,` + strings.Replace(head[1:], `,"natural_width":3`, "", 1)
	if got, ok := readHead([]byte(other)); !ok || !reflect.DeepEqual(*got, made) {
		t.Errorf("in another order it is %+v", got)
	}
	for _, text := range []string{"", "{", "null x", head[:len(head)/4], strings.Replace(head, "640", "6.5", 1), strings.Replace(head, "640", `"640"`, 1), strings.Replace(head, `"of"`, `"of":1,"of"`, 1)} {
		if got, ok := readHead([]byte(text)); ok {
			t.Errorf("%q is read as %+v", text, got)
		}
	}
	bare := written(t, &Variant{ETag: made.ETag, Type: made.Type, Of: made.Of})
	if n := testing.AllocsPerRun(100, func() { readHead(bare) }); n > 2 {
		t.Errorf("%v allocations", n)
	}
}

func FuzzHead(f *testing.F) {
	f.Add(written(f, &Variant{ETag: `"0123456789abcdef"`, Type: "image/webp", Stages: []Stage{{"encode", 1}}}))
	f.Fuzz(func(t *testing.T, head []byte) {
		var want Variant
		whole := json.Unmarshal(head, &want) == nil
		got, ok := readHead(head)
		if whole && (!ok || got.Of != want.Of || got.ETag != want.ETag || got.Type != want.Type || got.Serial != want.Serial || got.Provisional != want.Provisional) && json.Valid(head) && !twice(head) {
			t.Errorf("%q: %+v, %v, want %+v", head, got, ok, want)
		}
	})
}

// twice reports whether a member may be there more than once, of which encoding/json takes the last.
func twice(head []byte) bool {
	for _, name := range []string{"etag", "type", "of", "serial", "provisional", "site", "lane", "path", "classes"} {
		if strings.Count(strings.ToLower(string(head)), name) > 1 {
			return true
		}
	}
	return strings.Contains(string(head), `\u`)
}
