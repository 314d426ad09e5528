package sheet

import (
	"fmt"
	"strings"
	"testing"
)

// A sheet has at most 200 layers; one more is refused with the number, whatever they say.
func TestLayersAreBounded(t *testing.T) {
	of := func(n int) string {
		var b strings.Builder
		for i := range n {
			fmt.Fprintf(&b, ".a::layer(l%d) { content: \"x\" }\n", i)
		}
		return b.String()
	}
	if _, err := Parse(of(200)); err != nil {
		t.Errorf("200 layers: %v", err)
	}
	_, err := Parse(of(201))
	if err == nil || !strings.Contains(fmt.Sprintf("%+v", err), "201 layers") {
		t.Errorf("201 layers: %v", err)
	}
}
