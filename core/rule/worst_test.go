package rule

import (
	"strings"
	"testing"
)

// Whatever fills the largest text is read or refused at once: a linear walk, no more items than are allowed.
func TestTheLargestTextsAreReadOrRefused(t *testing.T) {
	for _, piece := range []string{"a:b;", ".a{width:1px}", "{", "}", "(", "width:calc(", "clip-path:polygon(0 0,", "filter:blur(", "@media x{", "/*", "\"", "border:1px,", "background:url(a/b) ", "\\", "\x00", "width:1vw!important;"} {
		rules, err := Read(strings.Repeat(piece, MostBytes/len(piece)))
		if _, all := Taken(rules); err == nil && all > mostItems {
			t.Errorf("%q: %d declarations", piece, all)
		}
	}
}
