package metadata

import (
	"bytes"
	"encoding/binary"
	"testing"
)

// entry is one of a directory, in the order of a TIFF structure's bytes.
func entry(order binary.AppendByteOrder, tag, kind uint16, count uint32, value []byte) []byte {
	b := order.AppendUint16(nil, tag)
	b = order.AppendUint16(b, kind)
	b = order.AppendUint32(b, count)
	return append(append(b, value...), make([]byte, 4-len(value))...)
}

func TestExifIsReducedInBothByteOrders(t *testing.T) {
	for name, order := range map[string]binary.AppendByteOrder{"II*\x00": binary.LittleEndian, "MM\x00*": binary.BigEndian} {
		u32 := func(v uint32) []byte { return order.AppendUint32(nil, v) }
		tiff := append([]byte(name), u32(8)...)
		tiff = order.AppendUint16(tiff, 3)
		const far = 8 + 2 + 3*12 + 4
		tiff = append(tiff, entry(order, 0x010f, 2, 8, u32(far))...)         // Make, beyond the directory
		tiff = append(tiff, entry(order, tagExif, 4, 1, u32(far+8))...)      // the shot
		tiff = append(tiff, entry(order, 0x8298, 2, 3, []byte("me\x00"))...) // Copyright, within the entry
		tiff = append(tiff, u32(0)...)
		tiff = append(tiff, "Skylark\x00"...)
		tiff = order.AppendUint16(tiff, 2)
		tiff = append(tiff, entry(order, 0x8827, 3, 1, order.AppendUint16(nil, 400))...)         // speed
		tiff = append(tiff, entry(order, 0x829a, 5, 1, u32(uint32(len(tiff))+2*12-2+4-12+2))...) // exposure: patched below
		at := len(tiff) + 4
		copy(tiff[len(tiff)-4:], u32(uint32(at)))
		tiff = append(tiff, u32(0)...)
		tiff = append(append(tiff, u32(1)...), u32(250)...)

		all := reduceExif(tiff, Keep{Rights: true, Camera: true, Place: true})
		first := readIFD(all, binary.BigEndian, 8)
		values := map[uint16][]byte{}
		for _, e := range first {
			values[e.tag] = e.value
		}
		if string(values[0x010f]) != "Skylark\x00" || string(values[0x8298]) != "me\x00" {
			t.Fatalf("%q: %v", name, values)
		}
		for _, e := range readIFD(all, binary.BigEndian, binary.BigEndian.Uint32(values[tagExif])) {
			values[e.tag] = e.value
		}
		if v := values[0x8827]; len(v) != 2 || binary.BigEndian.Uint16(v) != 400 {
			t.Errorf("%q: speed %v", name, v)
		}
		if v := values[0x829a]; len(v) != 8 || binary.BigEndian.Uint32(v) != 1 || binary.BigEndian.Uint32(v[4:]) != 250 {
			t.Errorf("%q: exposure %v", name, v)
		}
		if rights := reduceExif(tiff, Keep{Rights: true}); bytes.Contains(rights, []byte("Skylark")) || !bytes.Contains(rights, []byte("me")) {
			t.Errorf("%q: rights alone are %q", name, rights)
		}
		if reduceExif(tiff, Keep{Place: true}) != nil {
			t.Errorf("%q: there's a place, where none was", name)
		}
		if Orientation(all) != 1 {
			t.Errorf("%q: an orientation came along", name)
		}
	}
}

func TestRightsAreReadHoweverXMPWritesThem(t *testing.T) {
	const head = `<rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:xmpRights="http://ns.adobe.com/xap/1.0/rights/" xmlns:photoshop="http://ns.adobe.com/photoshop/1.0/" `
	const tail = `</rdf:Description></rdf:RDF>`
	for packet, want := range map[string][]string{
		head + `xmpRights:WebStatement="https://kestrel.test/terms" photoshop:Credit="Wren &lt;Kestrel&gt;">` + tail: {"https://kestrel.test/terms", "Wren &lt;Kestrel&gt;"},
		head + `><dc:creator><rdf:Seq><rdf:li>Wren</rdf:li><rdf:li>Robin</rdf:li></rdf:Seq></dc:creator>` + tail:     {"<rdf:li>Wren</rdf:li>"},
		head + `><dc:subject>kites</dc:subject>` + tail:                                                              nil,
		head: nil, "": nil, "<": nil, "<a><b></a>": nil,
	} {
		got := rightsOf([]byte(packet))
		if want == nil && got != nil {
			t.Errorf("%.60q gives %q", packet, got)
		}
		for _, w := range want {
			if !bytes.Contains(got, []byte(w)) {
				t.Errorf("%q isn't in %q", w, got)
			}
		}
		if bytes.Contains(got, []byte("kites")) {
			t.Errorf("subjects are kept: %q", got)
		}
	}
}

func FuzzFacts(f *testing.F) {
	f.Add([]byte("\xff\xd8\xff\xe1\x00\x20Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x0f\x00\x02\x00\x00\x00\x02k\x00\x00\x00\xff\xd9"))
	f.Add([]byte("RIFF\x20\x00\x00\x00WEBPEXIF\x08\x00\x00\x00II*\x00\x08\x00\x00\x00"))
	f.Add([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x08eXIfMM\x00*\x00\x00\x00\x08\x00\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, data []byte) {
		facts := FactsOf(data, Keep{true, true, true})
		if len(facts.Exif) > len(data)+200 || len(facts.XMP) > 12*len(data)+2000 {
			t.Fatalf("%d bytes hold %d and %d of facts", len(data), len(facts.Exif), len(facts.XMP))
		}
		// What is read of it is read again, and stays.
		if facts.Exif != nil {
			again := reduceExif(facts.Exif, Keep{true, true, true})
			if !bytes.Equal(again, facts.Exif) {
				t.Fatalf("reduced twice: %q, then %q", facts.Exif, again)
			}
		}
	})
}

func TestFactsOfATIFF(t *testing.T) {
	file := "MM\x00*\x00\x00\x00\x08\x00\x02" + "\x01\x00\x00\x03\x00\x00\x00\x01\x00\x05\x00\x00" + "\x82\x98\x00\x02\x00\x00\x00\x05\x00\x00\x00\x26" + "\x00\x00\x00\x00" + "wren\x00"
	if f := FactsOf([]byte(file), Keep{Rights: true}); !bytes.Contains(f.Exif, []byte("wren")) || bytes.Contains(f.Exif, []byte("\x01\x00\x00\x03")) {
		t.Errorf("%q", f.Exif)
	}
	if f := FactsOf([]byte(file), Keep{Place: true}); f.Exif != nil {
		t.Errorf("asked for nothing that it has: %q", f.Exif)
	}
	if _, ok := Strip([]byte(file)); ok {
		t.Error("a TIFF is taken for clean")
	}
}
