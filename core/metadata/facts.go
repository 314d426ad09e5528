// Package metadata reads and writes what a picture's file says beside its pixels: Exif, XMP, and the boxes of ISO base media
// files. It works on bytes, never on pixels, and gives what it finds as runs of the file.
package metadata

import (
	"bytes"
	"encoding/binary"
	"encoding/xml"
	"hash/crc32"
	"io"
	"slices"
	"strings"
)

// Keep says which embedded facts are kept.
type Keep struct{ Rights, Camera, Place bool }

// Facts are embedded facts, ready to be put into another file.
type Facts struct {
	Exif []byte // a TIFF structure (CIPA DC-008, section 4.5), nil where there's nothing to say
	XMP  []byte // a packet (ISO 16684-1), nil where there's nothing to say
}

// None reports whether there's nothing to embed.
func (f Facts) None() bool { return f.Exif == nil && f.XMP == nil }

// The tags of CIPA DC-008, section 4.6, that are kept, by directory.
var (
	rightsTags = []uint16{0x013b, 0x8298}                                                                                                 // Artist, Copyright
	deviceTags = []uint16{0x010f, 0x0110, 0x0131}                                                                                         // Make, Model, Software
	shotTags   = []uint16{0x829a, 0x829d, 0x8822, 0x8827, 0x9003, 0x9201, 0x9202, 0x9204, 0x9207, 0x9209, 0x920a, 0xa405, 0xa433, 0xa434} // exposure, aperture, programme, speed, when, bias, metering, flash, focal length, lens
)

const (
	tagExif, tagGPS = 0x8769, 0x8825
	typeLong        = 4
)

// typeSizes are bytes a value, by TIFF's types from 1 on.
var typeSizes = [...]int{0, 1, 1, 2, 4, 8, 1, 1, 2, 4, 8, 4, 8}

type tiffEntry struct {
	tag, kind uint16
	count     uint32
	value     []byte // big-endian
}

// FactsOf reads what is to be kept out of a file. What can't be read is left out.
func FactsOf(data []byte, keep Keep) Facts {
	exif, xmp := metadata(data)
	var f Facts
	if keep.Rights || keep.Camera || keep.Place {
		f.Exif = reduceExif(exif, keep)
	}
	if keep.Rights {
		f.XMP = rightsOf(xmp)
	}
	return f
}

// metadata finds the Exif and XMP blocks of a file.
func metadata(data []byte) (exif, xmp []byte) {
	switch containerOf(data) {
	case inBoxes:
		return itemFacts(data)
	case inJXL:
		return jxlFacts(data)
	case inTIFF:
		return data, nil
	case inSegments:
		for at := 2; at+4 <= len(data) && data[at] == 0xff && data[at+1] != 0xda; {
			n := int(binary.BigEndian.Uint16(data[at+2:]))
			if n < 2 || at+2+n > len(data) {
				return
			}
			body := data[at+4 : at+2+n]
			if data[at+1] == 0xe1 {
				if rest, ok := bytes.CutPrefix(body, []byte("Exif\x00\x00")); ok {
					exif = rest
				} else if rest, ok := bytes.CutPrefix(body, []byte(xmpName+"\x00")); ok {
					xmp = rest
				}
			}
			at += 2 + n
		}
	case inChunks:
		for at := 8; at+12 <= len(data); {
			n := int64(binary.BigEndian.Uint32(data[at:]))
			if int64(at)+12+n > int64(len(data)) {
				return
			}
			body := data[at+8 : at+8+int(n)]
			switch string(data[at+4 : at+8]) {
			case "eXIf":
				exif = body
			case "iTXt":
				if rest, ok := bytes.CutPrefix(body, []byte(pngXMP)); ok {
					xmp = rest
				}
			}
			at += 12 + int(n)
		}
	case inRIFF:
		for at := 12; at+8 <= len(data); {
			n := int64(binary.LittleEndian.Uint32(data[at+4:]))
			if int64(at)+8+n > int64(len(data)) {
				return
			}
			body := data[at+8 : at+8+int(n)]
			switch string(data[at : at+4]) {
			case "EXIF":
				exif = bytes.TrimPrefix(body, []byte("Exif\x00\x00"))
			case "XMP ":
				xmp = body
			}
			at += 8 + int(n+n&1)
		}
	}
	return
}

const (
	xmpName = "http://ns.adobe.com/xap/1.0/"          // how a JPEG segment says that it's XMP (ISO 16684-3, section 2.1)
	pngXMP  = "XML:com.adobe.xmp\x00\x00\x00\x00\x00" // the same in PNG, uncompressed
)

// readIFD reads a directory's entries; what is broken is passed over.
func readIFD(t []byte, order binary.ByteOrder, at uint32) []tiffEntry {
	if int64(at)+2 > int64(len(t)) {
		return nil
	}
	var out []tiffEntry
	n := int(order.Uint16(t[at:]))
	for i := range min(n, 500) {
		e := int64(at) + 2 + int64(i)*12
		if e+12 > int64(len(t)) {
			break
		}
		x := tiffEntry{tag: order.Uint16(t[e:]), kind: order.Uint16(t[e+2:]), count: order.Uint32(t[e+4:])}
		if x.kind == 0 || int(x.kind) >= len(typeSizes) || x.count > 64<<10 {
			continue
		}
		size := int64(typeSizes[x.kind]) * int64(x.count)
		from := e + 8
		if size > 4 {
			from = int64(order.Uint32(t[e+8:]))
		}
		if from+size > int64(len(t)) {
			continue
		}
		x.value = bigEndian(t[from:from+size], x.kind, order)
		out = append(out, x)
	}
	return out
}

// bigEndian is values in the byte order that is written.
func bigEndian(v []byte, kind uint16, order binary.ByteOrder) []byte {
	v = bytes.Clone(v)
	unit := typeSizes[kind]
	if kind == 5 || kind == 10 { // two longs
		unit = 4
	}
	if order == binary.ByteOrder(binary.LittleEndian) && unit > 1 {
		for i := 0; i+unit <= len(v); i += unit {
			slices.Reverse(v[i : i+unit])
		}
	}
	return v
}

func reduceExif(t []byte, keep Keep) []byte {
	if len(t) < 8 {
		return nil
	}
	var order binary.ByteOrder = binary.BigEndian
	if string(t[:2]) == "II" {
		order = binary.LittleEndian
	} else if string(t[:2]) != "MM" {
		return nil
	}
	var first, shot, place []tiffEntry
	for _, e := range readIFD(t, order, order.Uint32(t[4:])) {
		switch {
		case keep.Rights && slices.Contains(rightsTags, e.tag), keep.Camera && slices.Contains(deviceTags, e.tag):
			first = append(first, e)
		case keep.Camera && e.tag == tagExif && len(e.value) == 4:
			for _, x := range readIFD(t, order, binary.BigEndian.Uint32(e.value)) {
				if slices.Contains(shotTags, x.tag) {
					shot = append(shot, x)
				}
			}
		case keep.Place && e.tag == tagGPS && len(e.value) == 4:
			place = readIFD(t, order, binary.BigEndian.Uint32(e.value))
		}
	}
	if len(first)+len(shot)+len(place) == 0 {
		return nil
	}
	return writeExif(first, shot, place)
}

// writeExif puts three directories together.
func writeExif(first, shot, place []tiffEntry) []byte {
	out := []byte("MM\x00*\x00\x00\x00\x08")
	pointer := func(tag uint16) { first = append(first, tiffEntry{tag, typeLong, 1, make([]byte, 4)}) }
	if len(shot) > 0 {
		pointer(tagExif)
	}
	if len(place) > 0 {
		pointer(tagGPS)
	}
	length := func(entries []tiffEntry) int {
		n := 2 + 12*len(entries) + 4
		for _, e := range entries {
			if len(e.value) > 4 {
				n += len(e.value) + len(e.value)&1
			}
		}
		return n
	}
	shotAt := 8 + length(first)
	placeAt := shotAt
	if len(shot) > 0 {
		placeAt += length(shot)
	}
	write := func(entries []tiffEntry) {
		slices.SortFunc(entries, func(a, b tiffEntry) int { return int(a.tag) - int(b.tag) })
		values := len(out) + 2 + 12*len(entries) + 4
		var far []byte
		out = binary.BigEndian.AppendUint16(out, uint16(len(entries)))
		for _, e := range entries {
			out = binary.BigEndian.AppendUint16(out, e.tag)
			out = binary.BigEndian.AppendUint16(out, e.kind)
			out = binary.BigEndian.AppendUint32(out, e.count)
			switch {
			case e.tag == tagExif:
				out = binary.BigEndian.AppendUint32(out, uint32(shotAt))
			case e.tag == tagGPS:
				out = binary.BigEndian.AppendUint32(out, uint32(placeAt))
			case len(e.value) <= 4:
				out = append(append(out, e.value...), make([]byte, 4-len(e.value))...)
			default:
				out = binary.BigEndian.AppendUint32(out, uint32(values+len(far)))
				far = append(far, e.value...)
				if len(far)&1 == 1 {
					far = append(far, 0)
				}
			}
		}
		out = append(append(out, 0, 0, 0, 0), far...)
	}
	write(first)
	if len(shot) > 0 {
		write(shot)
	}
	if len(place) > 0 {
		write(place)
	}
	return out
}

// rightsElements are the properties of an XMP packet that say whose a picture is and what may be done with it.
var rightsElements = map[string]string{
	"http://purl.org/dc/elements/1.1/ rights":          "dc:rights",
	"http://purl.org/dc/elements/1.1/ creator":         "dc:creator",
	"http://ns.adobe.com/xap/1.0/rights/ WebStatement": "xmpRights:WebStatement",
	"http://ns.adobe.com/xap/1.0/rights/ UsageTerms":   "xmpRights:UsageTerms",
	"http://creativecommons.org/ns# license":           "cc:license",
	"http://ns.adobe.com/photoshop/1.0/ Credit":        "photoshop:Credit",
}

// rightsOf is a packet with a packet's rights alone, nil where it has none.
func rightsOf(xmp []byte) []byte {
	d := xml.NewDecoder(bytes.NewReader(xmp[:min(len(xmp), 1<<20)]))
	found := map[string]string{}
	inside, depth := "", 0
	for {
		token, err := d.Token()
		if err == io.EOF || err != nil {
			break
		}
		switch t := token.(type) {
		case xml.StartElement:
			if inside != "" {
				depth++
				break
			}
			if name := rightsElements[t.Name.Space+" "+t.Name.Local]; name != "" {
				inside, depth = name, 0
				for _, a := range t.Attr {
					if a.Name.Local == "resource" {
						found[name] = a.Value
					}
				}
				break
			}
			for _, a := range t.Attr { // properties may stand as attributes
				if name := rightsElements[a.Name.Space+" "+a.Name.Local]; name != "" {
					found[name] = a.Value
				}
			}
		case xml.CharData:
			if text := strings.TrimSpace(string(t)); inside != "" && text != "" && found[inside] == "" {
				found[inside] = text
			}
		case xml.EndElement:
			if inside != "" {
				if depth == 0 {
					inside = ""
				}
				depth--
			}
		}
	}
	if len(found) == 0 {
		return nil
	}
	text := func(s string) string {
		var b bytes.Buffer
		xml.EscapeText(&b, []byte(s))
		return b.String()
	}
	var b strings.Builder
	b.WriteString(`<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description rdf:about="" ` +
		`xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmpRights="http://ns.adobe.com/xap/1.0/rights/" xmlns:cc="http://creativecommons.org/ns#" xmlns:photoshop="http://ns.adobe.com/photoshop/1.0/">`)
	for _, name := range []string{"dc:creator", "dc:rights", "xmpRights:UsageTerms", "xmpRights:WebStatement", "cc:license", "photoshop:Credit"} {
		v := found[name]
		switch {
		case v == "":
		case name == "dc:creator":
			b.WriteString("<dc:creator><rdf:Seq><rdf:li>" + text(v) + "</rdf:li></rdf:Seq></dc:creator>")
		case name == "dc:rights" || name == "xmpRights:UsageTerms":
			b.WriteString("<" + name + `><rdf:Alt><rdf:li xml:lang="x-default">` + text(v) + "</rdf:li></rdf:Alt></" + name + ">")
		case name == "cc:license":
			b.WriteString(`<cc:license rdf:resource="` + text(v) + `"/>`)
		default:
			b.WriteString("<" + name + ">" + text(v) + "</" + name + ">")
		}
	}
	b.WriteString("</rdf:Description></rdf:RDF></x:xmpmeta>")
	return []byte(b.String())
}

// Reduce gives the file with these facts alone, which are some of its own; pixels stay to the bit. ok is false where
// that can't be done without fail.
func Reduce(data []byte, f Facts) (reduced []byte, ok bool) {
	switch containerOf(data) {
	case inBoxes:
		all, ok := replaceFacts(data, f)
		if !ok {
			return data, false
		}
		return all.apply(data), true
	}
	out, ok := Strip(data)
	return Embed(out, f), ok
}

// Embed puts facts into a JPEG, PNG, WebP or JPEG XL that has none. Other formats come back as they are.
func Embed(data []byte, f Facts) []byte {
	if f.None() {
		return data
	}
	switch containerOf(data) {
	case inSegments:
		return embedJPEG(data, f)
	case inChunks:
		return embedPNG(data, f)
	case inRIFF:
		return embedWebP(data, f)
	case inJXL:
		return embedJXL(data, f)
	}
	return data
}

func embedJPEG(data []byte, f Facts) []byte {
	at := 2
	if len(data) > 6 && data[2] == 0xff && data[3] == 0xe0 { // JFIF's own segment stays first
		at += 2 + int(binary.BigEndian.Uint16(data[4:]))
	}
	out := append([]byte(nil), data[:at]...)
	segment := func(head string, body []byte) {
		if n := 2 + len(head) + len(body); body != nil && n <= 65535 {
			out = append(out, 0xff, 0xe1, byte(n>>8), byte(n))
			out = append(append(out, head...), body...)
		}
	}
	segment("Exif\x00\x00", f.Exif)
	segment(xmpName+"\x00", f.XMP)
	return append(out, data[at:]...)
}

func embedPNG(data []byte, f Facts) []byte {
	const afterIHDR = 8 + 12 + 13
	if len(data) < afterIHDR {
		return data
	}
	out := append([]byte(nil), data[:afterIHDR]...)
	chunk := func(kind, head string, body []byte) {
		if body == nil {
			return
		}
		out = binary.BigEndian.AppendUint32(out, uint32(len(head)+len(body)))
		from := len(out)
		out = append(append(append(out, kind...), head...), body...)
		out = binary.BigEndian.AppendUint32(out, crc32.ChecksumIEEE(out[from:]))
	}
	chunk("eXIf", "", f.Exif)
	chunk("iTXt", pngXMP, f.XMP)
	return append(out, data[afterIHDR:]...)
}

// embedWebP makes the extended form (RFC 9649, section 2.7) where the file doesn't have it yet.
func embedWebP(data []byte, f Facts) []byte {
	const hasXMP, hasExif, hasAlpha = 0x04, 0x08, 0x10
	if len(data) < 30 {
		return data
	}
	out := append([]byte(nil), data[:12]...)
	rest := data[12:]
	var head []byte
	switch string(rest[:4]) {
	case "VP8X":
		head, rest = bytes.Clone(rest[8:18]), rest[18:]
	case "VP8 ":
		w, h := binary.LittleEndian.Uint16(rest[14:])&0x3fff, binary.LittleEndian.Uint16(rest[16:])&0x3fff
		head = extended(0, int(w), int(h))
	case "VP8L":
		bits := binary.LittleEndian.Uint32(rest[9:])
		flags := byte(0)
		if bits>>28&1 == 1 {
			flags = hasAlpha
		}
		head = extended(flags, int(bits&0x3fff)+1, int(bits>>14&0x3fff)+1)
	default:
		return data
	}
	if f.Exif != nil {
		head[0] |= hasExif
	}
	if f.XMP != nil {
		head[0] |= hasXMP
	}
	chunk := func(kind string, body []byte) {
		out = binary.LittleEndian.AppendUint32(append(out, kind...), uint32(len(body)))
		if out = append(out, body...); len(body)&1 == 1 {
			out = append(out, 0)
		}
	}
	chunk("VP8X", head)
	out = append(out, rest...)
	if f.Exif != nil {
		chunk("EXIF", f.Exif)
	}
	if f.XMP != nil {
		chunk("XMP ", f.XMP)
	}
	binary.LittleEndian.PutUint32(out[4:], uint32(len(out)-8))
	return out
}

func extended(flags byte, w, h int) []byte {
	b := []byte{flags, 0, 0, 0}
	for _, v := range []int{w - 1, h - 1} {
		b = append(b, byte(v), byte(v>>8), byte(v>>16))
	}
	return b
}
