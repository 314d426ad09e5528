package metadata

import (
	"bytes"
	"encoding/binary"
	"strings"
	"testing"
)

func isoBox(kind string, parts ...string) string {
	body := strings.Join(parts, "")
	return string(binary.BigEndian.AppendUint32(nil, uint32(8+len(body)))) + kind + body
}

func be16(v int) string { return string(binary.BigEndian.AppendUint16(nil, uint16(v))) }
func be32(v int) string { return string(binary.BigEndian.AppendUint32(nil, uint32(v))) }

// described is a HEIC's outer structure: a picture of noise, Exif and XMP in the file, and a further XML in the meta
// box's own data.
func described(exif, xmp string) []byte {
	const picture = "not really HEVC, but nothing here looks at it"
	exif = "\x00\x00\x00\x06Exif\x00\x00" + exif
	infe := func(id int, kind, rest string) string {
		return isoBox("infe", "\x02\x00\x00\x00", be16(id), be16(0), kind, "name\x00", rest)
	}
	kinds := isoBox("iinf", "\x00\x00\x00\x00", be16(4), infe(1, "hvc1", ""), infe(2, "Exif", ""), infe(3, "mime", "application/rdf+xml\x00"), infe(4, "mime", "text/xml\x00"))
	place := func(id, method, at, n int) string {
		return be16(id) + be16(method) + be16(0) + be16(1) + be32(at) + be32(n)
	}
	head := isoBox("ftyp", "heic\x00\x00\x00\x00mif1heic")
	meta := func(data int) string {
		return isoBox("meta", "\x00\x00\x00\x00", isoBox("pitm", "\x00\x00\x00\x00", be16(1)), kinds,
			isoBox("iloc", "\x01\x00\x00\x00", be16(0x4400), be16(4),
				place(1, 0, data, len(picture)), place(2, 0, data+len(picture), len(exif)), place(3, 0, data+len(picture)+len(exif), len(xmp)), place(4, 1, 2, 9)),
			isoBox("idat", "..<by wren>.."))
	}
	own := isoBox("uuid", "0123456789abcdef wren's notes")
	at := len(head) + len(meta(0)) + len(own) + 8
	return []byte(head + meta(at) + own + isoBox("mdat", picture+exif+xmp))
}

const (
	wrensExif = "II*\x00\x08\x00\x00\x00" + "\x02\x00" + "\x0f\x01\x02\x00\x08\x00\x00\x00\x26\x00\x00\x00" + "\x98\x82\x02\x00\x10\x00\x00\x00\x2e\x00\x00\x00" + "\x00\x00\x00\x00" + "Skylark\x00" + "2026 Kestrel&T.\x00"
	wrensXMP  = `<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:own="http://kestrel.test/" own:draft="wren's"><dc:rights>all kites</dc:rights></rdf:Description></rdf:RDF></x:xmpmeta>`
)

func TestFactsOfAFileInItems(t *testing.T) {
	data := described(wrensExif, wrensXMP)
	if containerOf(data) != inBoxes {
		t.Fatal("it isn't taken for a file of boxes")
	}
	rights := FactsOf(data, Keep{Rights: true})
	if !bytes.Contains(rights.Exif, []byte("2026 Kestrel&T.")) || bytes.Contains(rights.Exif, []byte("Skylark")) || !bytes.Contains(rights.XMP, []byte("all kites")) {
		t.Errorf("rights: %q", rights)
	}
	if camera := FactsOf(data, Keep{Camera: true}); !bytes.Contains(camera.Exif, []byte("Skylark")) || camera.XMP != nil {
		t.Errorf("camera: %q", camera)
	}
}

func TestFactsInItemsAreCutOut(t *testing.T) {
	data := described(wrensExif, wrensXMP)
	before := bytes.Clone(data)
	got, ok := Strip(data)
	if !ok || len(got) > len(data)-300 || !bytes.Equal(before, data) {
		t.Fatalf("%v, %d bytes of %d, the source changed: %v", ok, len(got), len(data), !bytes.Equal(before, data))
	}
	for _, gone := range []string{"wren", "Skylark", "Kestrel", "all kites"} {
		if bytes.Contains(got, []byte(gone)) {
			t.Errorf("%q is left", gone)
		}
	}
	all, sound := items(got)
	if !sound || len(all) != 4 || string(bytesOf(got, all[0])) != "not really HEVC, but nothing here looks at it" {
		t.Errorf("the picture isn't where the file says: %v, %v", sound, all)
	}
	if !bytes.Contains(got, []byte("..         ..")) {
		t.Error("the meta box's own data is blanked beyond its item")
	}
	if exif, _ := itemFacts(got); len(exif) < 14 || string(exif[:4]) != "MM\x00*" || len(readIFD(exif, binary.BigEndian, 8)) != 0 {
		t.Errorf("Exif is not an empty structure: %q", exif)
	}
	if again, ok := Strip(got); !ok || !bytes.Equal(again, got) {
		t.Error("stripped twice differs")
	}

	kept, ok := Reduce(data, FactsOf(data, Keep{Camera: true}))
	if !ok || !bytes.Contains(kept, []byte("Skylark")) || bytes.Contains(kept, []byte("Kestrel")) || bytes.Contains(kept, []byte("all kites")) {
		t.Errorf("camera alone: %v, %q", ok, kept)
	}
	if f := FactsOf(kept, Keep{Camera: true}); !bytes.Equal(f.Exif, FactsOf(data, Keep{Camera: true}).Exif) {
		t.Errorf("what was kept reads %q", f.Exif)
	}
	grown, ok := Reduce(described(wrensExif, `<dc:d xmlns:dc="http://purl.org/dc/elements/1.1/" dc:rights="r"/>`), FactsOf(data, Keep{Rights: true}))
	all, sound = items(grown)
	if !ok || !sound || string(bytesOf(grown, all[0])) != "not really HEVC, but nothing here looks at it" || !bytes.Contains(bytesOf(grown, all[2]), []byte("all kites")) {
		t.Errorf("a packet that is longer than what was there: %v, %v, %q", ok, sound, grown)
	}
	if _, ok := Reduce(bytes.Replace(data, []byte("Exifname"), []byte("gridname"), 1), FactsOf(data, Keep{Camera: true})); ok {
		t.Error("facts went into a file that has no item for them")
	}
}

// place is the entry of the item location box for a described file's item.
func place(data []byte, id int) string {
	at := bytes.Index(data, []byte(be16(id)+be16(0)+be16(0)+be16(1)))
	return string(data[at : at+16])
}

func TestItemsThatArentUnderstoodAreLeftAlone(t *testing.T) {
	data := described(wrensExif, wrensXMP)
	for i := range 32 {
		if _, ok := Strip(data[:len(data)*i/32]); ok {
			t.Errorf("cut off at %d/32 is taken for clean", i)
		}
	}
	for name, change := range map[string][2]string{
		"facts where the picture lies": {place(data, 2), place(data, 2)[:8] + place(data, 1)[8:]},
		"an item of an unknown kind":   {"Exif" + "name", "what" + "name"},
		"an unknown box":               {"uuid0123", "what0123"},
		"a sequence":                   {"uuid0123", "moov0123"},
		"an extent beyond the file":    {be16(4) + be16(1) + be16(0) + be16(1) + be32(2) + be32(9), be16(4) + be16(1) + be16(0) + be16(1) + be32(2) + be32(1<<30)},
		"an item in another file":      {be16(3) + be16(0) + be16(0) + be16(1), be16(3) + be16(0) + be16(1) + be16(1)},
		"a version that is to come":    {"iloc\x01", "iloc\x07"},
	} {
		broken := bytes.Replace(data, []byte(change[0]), []byte(change[1]), 1)
		if bytes.Equal(broken, data) {
			t.Fatalf("%s: nothing was changed", name)
		}
		if _, ok := Strip(broken); ok {
			t.Errorf("%s: taken for clean", name)
		}
	}
}
