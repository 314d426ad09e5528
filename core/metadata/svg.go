package metadata

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"regexp"
)

// prefixed are attributes with a namespace's prefix.
var prefixed = regexp.MustCompile(`\s+([A-Za-z_][\w.-]*):[\w.-]+\s*=\s*(?:"[^"]*"|'[^']*')`)

// drawingsOwn are the prefixes of attributes that are part of the drawing.
var drawingsOwn = map[string]bool{"xlink": true, "xml": true, "xmlns": true}

// stripSVG leaves out comments, processing instructions, metadata elements, and the elements and attributes of other namespaces, in which
// drawing programs keep names of files and people (SVG 2, section 5.6).
func stripSVG(data []byte) (out splices, ok bool) {
	d := xml.NewDecoder(bytes.NewReader(data))
	d.Strict = false // what drawing programs name as entities isn't of interest here
	d.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil }
	skip, kept := 0, 0
	drop := func(from, to int) {
		if from > kept {
			out.keep(kept, from)
		}
		kept = to
	}
	for {
		from := int(d.InputOffset())
		token, err := d.RawToken()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, false
		}
		to := int(d.InputOffset())
		switch t := token.(type) {
		case xml.StartElement:
			if skip > 0 || t.Name.Local == "metadata" || t.Name.Space != "" && t.Name.Space != "svg" {
				skip++
				break
			}
			for _, m := range prefixed.FindAllSubmatchIndex(data[from:to], -1) {
				if !drawingsOwn[string(data[from+m[2]:from+m[3]])] {
					drop(from+m[0], from+m[1])
				}
			}
		case xml.EndElement:
			if skip > 0 {
				drop(from, to)
				skip--
				continue
			}
		case xml.Comment:
			drop(from, to)
		case xml.ProcInst:
			if t.Target != "xml" {
				drop(from, to)
			}
		}
		if skip > 0 {
			drop(from, to)
		}
	}
	drop(len(data), len(data))
	return out, skip == 0
}
