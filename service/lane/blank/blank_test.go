package blank

import (
	"strings"
	"testing"
)

func TestColoursAreSources(t *testing.T) {
	l := Lane{Name: "kestrel/plain"}
	for path, want := range map[string]string{"navy": `fill="#000080" fill-opacity="1"`, "0d1b2a": "#0d1b2a", "ff000080": `fill-opacity="0.502"`, "rgb(1 2 3)": "#010203"} {
		if _, no := l.Check(path, nil); no != nil {
			t.Errorf("%s: %v", path, no)
		}
		v, content, err := l.Stat(t.Context(), path, nil)
		if err != nil {
			t.Fatal(err)
		}
		if data, _ := content.Data(); !strings.Contains(string(data), want) || v.Bytes != int64(len(data)) {
			t.Errorf("%s: %s", path, data)
		}
		// It never changes.
		if again, content, err := l.Stat(t.Context(), path, &v); err != nil || content != nil || again.Validator != v.Validator {
			t.Errorf("%s: %+v %v", path, again, err)
		}
	}
	for _, path := range []string{"", "a/b", "kite.jpg", `"/><script>`, "0d1b2"} {
		if _, no := l.Check(path, nil); no == nil {
			t.Errorf("%q is taken", path)
		}
		if _, _, err := l.Stat(t.Context(), path, nil); err == nil {
			t.Errorf("%q is drawn", path)
		}
	}
}
