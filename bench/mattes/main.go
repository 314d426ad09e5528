// Command mattes reports how well subjects are cut out of pictures that we drew, of which is known how much of each pixel is
// subject, and writes a page with all of them: `make matte-report`. Its argument is where to.
package main

import (
	"encoding/base64"
	"fmt"
	"math"
	"os"
	"strings"
	"time"

	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/face"
	"echolane/core/matte"
	"echolane/core/raster"
	"echolane/demo/pictures"
)

func main() {
	to := "var/mattes.html"
	if len(os.Args) > 1 {
		to = os.Args[1]
	}
	if err := run(to); err != nil {
		fmt.Fprintln(os.Stderr, "mattes:", err)
		os.Exit(1)
	}
}

func run(to string) error {
	var page strings.Builder
	page.WriteString(`<!doctype html><meta charset="utf-8"><title>Cut-outs</title><style>body{font:14px sans-serif;margin:2rem}img{width:240px;background:repeating-conic-gradient(#ddd 0 25%,#fff 0 50%) 0/24px 24px}td{padding:.25rem .75rem .25rem 0;vertical-align:top}</style><h1>Cut-outs</h1><table><tr><th>picture<th>cut out<th>as it should be<th>`)
	type sum struct{ off, common, n float64 }
	sums := map[string]*sum{"plain": {}, "busy": {}}
	var took time.Duration
	for _, c := range pictures.LabelledCuts() {
		source := &raster.RGBA{Pix: c.Pix, Stride: 4 * c.W, W: c.W, H: c.H, Opaque: true}
		p, want := source.Copy(), source.Copy()
		began := time.Now()
		m, ok := matte.New(p, func() []face.Face { return face.Find(p) }, declare.Focus{})
		took += time.Since(began)
		if ok {
			m.Cut(p, 0, 0, float64(p.W), float64(p.H))
		}
		var off, both, any float64
		for i, a := range c.Alpha {
			q := want.Row(i / c.W)[4*(i%c.W):]
			v := p.Row(i / c.W)[4*(i%c.W)+3]
			for k := range 3 {
				q[k] = uint8(int(q[k]) * int(a) / 255)
			}
			q[3] = a
			off += math.Abs(float64(v)-float64(a)) / 255
			if in, should := v >= 128, a >= 128; in || should {
				if any++; in && should {
					both++
				}
			}
		}
		kind := "plain"
		if c.Busy {
			kind = "busy"
		}
		s := sums[kind]
		s.off, s.common, s.n = s.off+off/float64(len(c.Alpha)), s.common+both/any, s.n+1
		page.WriteString("<tr>")
		want.Opaque = false
		for _, p := range []*raster.RGBA{source, p, want} {
			q := p.Copy()
			q.Unpremultiply()
			data, err := png.Encode(q)
			if err != nil {
				return err
			}
			fmt.Fprintf(&page, `<td><img alt="" src="data:image/png;base64,%s">`, base64.StdEncoding.EncodeToString(data))
		}
		fmt.Fprintf(&page, "<td>%s<br>alpha off by %.4f<br>%.3f in common", c.Name, off/float64(len(c.Alpha)), both/any)
	}
	for _, kind := range []string{"plain", "busy"} {
		s := sums[kind]
		fmt.Printf("%-5s grounds: %2.0f pictures, alpha off by %.4f in the mean, %.3f of what either has in common\n", kind, s.n, s.off/s.n, s.common/s.n)
	}
	fmt.Printf("a copy of 480 × 360 took %s in the mean\npage: %s\n", (took / 30).Round(time.Millisecond), to)
	return os.WriteFile(to, []byte(page.String()+"</table>\n"), 0o644)
}
