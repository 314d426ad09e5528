package metadata

import (
	"bytes"
	"encoding/binary"
	"io"

	"github.com/andybalholm/brotli"
)

// jxlHead is how a JPEG XL in boxes begins (ISO/IEC 18181-2, section 9.1); without boxes it begins with two bytes and has no facts.
var (
	jxlHead  = []byte("\x00\x00\x00\x0cJXL \r\n\x87\n")
	jxlNaked = []byte("\xff\x0a")
)

// mostFacts is how long a compressed box of facts may become.
const mostFacts = 4 << 20

// factBox is the kind of facts that a box holds, Exif or "xml ", compressed or not; "" for none.
func factBox(data []byte, b box) string {
	switch b.kind {
	case "Exif", "xml ":
		return b.kind
	case "brob":
		if b.body.to-b.body.from >= 4 {
			if kind := string(data[b.body.from : b.body.from+4]); kind == "Exif" || kind == "xml " {
				return kind
			}
		}
	}
	return ""
}

// jxlFacts finds the Exif and XMP blocks of a JPEG XL (ISO/IEC 18181-2, sections 9.4 to 9.6).
func jxlFacts(data []byte) (exif, xmp []byte) {
	if bytes.HasPrefix(data, jxlNaked) {
		return nil, nil
	}
	all, _ := boxes(data, span{0, len(data)})
	for _, b := range all {
		kind := factBox(data, b)
		if kind == "" {
			continue
		}
		body := data[b.body.from:b.body.to]
		if b.kind == "brob" {
			plain, err := io.ReadAll(io.LimitReader(brotli.NewReader(bytes.NewReader(body[4:])), mostFacts))
			if err != nil {
				continue
			}
			body = plain
		}
		switch {
		case kind == "xml " && xmp == nil:
			xmp = body
		case kind == "Exif" && exif == nil && len(body) >= 4:
			if skip := uint64(binary.BigEndian.Uint32(body)) + 4; skip <= uint64(len(body)) {
				exif = body[skip:]
			}
		}
	}
	return exif, xmp
}

// stripJXL leaves out all boxes but those that the picture is made of. Where facts go, what a JPEG is rebuilt by goes too: it would lack
// them. Colours and orientation are in the picture's own coding.
func stripJXL(data []byte) (out splices, ok bool) {
	if bytes.HasPrefix(data, jxlNaked) {
		out.keep(0, len(data))
		return out, true
	}
	all, ok := boxes(data, span{0, len(data)})
	if !ok || len(all) == 0 || all[0].kind != "JXL " {
		return nil, false
	}
	told := false
	for _, b := range all {
		told = told || factBox(data, b) != ""
	}
	for _, b := range all {
		switch b.kind {
		case "JXL ", "ftyp", "jxll", "jxlc", "jxlp", "jxli":
			out.keep(b.whole.from, b.whole.to)
		case "jbrd":
			if !told {
				out.keep(b.whole.from, b.whole.to)
			}
		}
	}
	return out, true
}

// embedJXL puts facts before the picture's own boxes; without boxes it makes them.
func embedJXL(data []byte, f Facts) []byte {
	var facts []byte
	add := func(kind, head string, body []byte) {
		if body == nil {
			return
		}
		facts = binary.BigEndian.AppendUint32(facts, uint32(8+len(head)+len(body)))
		facts = append(append(append(facts, kind...), head...), body...)
	}
	add("Exif", "\x00\x00\x00\x00", f.Exif)
	add("xml ", "", f.XMP)
	if bytes.HasPrefix(data, jxlNaked) {
		out := append(bytes.Clone(jxlHead), "\x00\x00\x00\x14ftypjxl \x00\x00\x00\x00jxl "...)
		out = append(out, facts...)
		out = binary.BigEndian.AppendUint32(out, uint32(8+len(data)))
		return append(append(out, "jxlc"...), data...)
	}
	all, _ := boxes(data, span{0, len(data)})
	for _, b := range all {
		if b.kind != "JXL " && b.kind != "ftyp" && b.kind != "jxll" {
			at := b.whole.from
			return append(append(bytes.Clone(data[:at]), facts...), data[at:]...)
		}
	}
	return data
}
