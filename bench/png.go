package main

import (
	"bytes"
	"compress/zlib"
	"fmt"

	"echolane/core/codec/png"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/demo/pictures"
)

// pngs measures a photograph as PNG, against compressing its rows once by zlib's level 6.
func pngs(r *report) error {
	for _, file := range []string{"festival-crowd.jpg", "delta-red.jpg"} {
		source, err := pictures.Load(file)
		if err != nil {
			return err
		}
		request, err := declare.Parse("width=1600&object-fit=cover")
		if err != nil {
			return err
		}
		painted, err := render.Paint(source, render.Job{Request: request.Resolve(declare.Declarations{}, nil), Limits: policy.DefaultLimits})
		if err != nil {
			return err
		}
		painted.Unpremultiply()
		var rows []byte // each byte less the one a pixel before it, as PNG's sub filter has it
		for y := range painted.H {
			rows = append(rows, 1)
			before := [3]byte{}
			for x := range painted.W {
				q := painted.Row(y)[4*x:]
				for c := range 3 {
					rows = append(rows, q[c]-before[c])
					before[c] = q[c]
				}
			}
		}
		var data []byte
		var out bytes.Buffer
		times := alternate(5, func() {
			if data, err = png.Encode(painted); err != nil {
				panic(err)
			}
		}, func() {
			out.Reset()
			z, _ := zlib.NewWriterLevel(&out, 6)
			z.Write(rows)
			z.Close()
		})
		r.atMost(fmt.Sprintf("%s as PNG, %d × %d, in encodes of zlib's level 6", file, painted.W, painted.H), median(times[0])/median(times[1]), "×", 2)
		r.atMost("and its bytes", float64(len(data))/float64(out.Len()), "×", 1.06)
	}
	return nil
}
