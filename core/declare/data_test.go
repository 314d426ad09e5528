package declare

import (
	"strings"
	"testing"
)

// Whatever stands in an address as data-…, it is read whole, written one way, or refused with its name.
func TestWhatAnAddressGivesToCards(t *testing.T) {
	d, err := Parse("data-title=Spring+sale%2C+50%25&DATA-Price=49&width=300&class=card")
	if err != nil {
		t.Fatal(err)
	}
	const want = "width=300&class=card&data-price=49&data-title=Spring%20sale,%2050%25"
	if got := d.AddressForm(); got != want {
		t.Errorf("%s", got)
	}
	if again, err := Parse(want); err != nil || again != d {
		t.Errorf("%v", err)
	}
	var many []string
	for i := range mostData + 1 {
		many = append(many, "data-x"+strings.Repeat("a", i)+"=1")
	}
	for query, reason := range map[string]string{
		"data-=x": "unparsable", "data-*=x": "unparsable", "data-a%20b=x": "unparsable", "data-9=x": "unparsable", "data-t=%00": "unparsable", "data-t=%ff": "unparsable", "data-t=%zz": "not-decodable",
		"data-t=a&data-T=b": "repeated", "data-t=" + strings.Repeat("x", mostWord+1): "out-of-range", strings.Join(many, "&"): "out-of-range",
	} {
		_, err := Parse(query)
		ps, _ := err.(Problems)
		if len(ps) == 0 || ps[0].Reason != reason || ps[0].Allowed == "" || strings.Contains(ps[0].Nearest, "*") {
			t.Errorf("%.40s: %+v", query, ps)
		}
	}
}
