package declare

import "testing"

// BenchmarkRequest reads a usual request, lays it over a site's defaults, and writes what a variant is told apart by.
func BenchmarkRequest(b *testing.B) {
	defaults, err := Parse("object-fit=cover&quality=72")
	if err != nil {
		b.Fatal(err)
	}
	offered := []Format{AVIF, WebP, JPEG, PNG}
	var room [512]byte
	b.ReportAllocs()
	for b.Loop() {
		d, err := Parse("width=350&aspect-ratio=3/2&object-fit=cover&quality=72")
		if err != nil {
			b.Fatal(err)
		}
		full := d.Over(defaults)
		var r Resolved
		full.Settle(offered, &r)
		r.Append(room[:0])
	}
}
