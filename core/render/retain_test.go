package render

import (
	"bytes"
	stdjpeg "image/jpeg"
	"testing"

	"echolane/core/metadata"
)

// told is a JPEG that says whose it is, with what and where it was taken, and more that nobody asked for.
func told(t testing.TB) []byte {
	t.Helper()
	exif := "II*\x00\x08\x00\x00\x00" + "\x05\x00" +
		"\x0f\x01\x02\x00\x08\x00\x00\x00\x4a\x00\x00\x00" + // Make
		"\x3b\x01\x02\x00\x05\x00\x00\x00\x52\x00\x00\x00" + // Artist
		"\x98\x82\x02\x00\x10\x00\x00\x00\x58\x00\x00\x00" + // Copyright
		"\x25\x88\x04\x00\x01\x00\x00\x00\x68\x00\x00\x00" + // GPS
		"\x9c\x9c\x01\x00\x04\x00\x00\x00wren" + // a title of some system's own
		"\x00\x00\x00\x00" +
		"Skylark\x00" + "Wren\x00\x00" + "2026 Kestrel&T.\x00" +
		"\x01\x00" + "\x01\x00\x02\x00\x02\x00\x00\x00N\x00\x00\x00" + "\x00\x00\x00\x00"
	xmp := `<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description xmlns:dc="http://purl.org/dc/elements/1.1/" xmlns:cc="http://creativecommons.org/ns#" xmlns:own="http://kestrel.test/" own:draft="secret"><dc:rights><rdf:Alt><rdf:li xml:lang="x-default">all kites &amp; strings</rdf:li></rdf:Alt></dc:rights><cc:license rdf:resource="https://kestrel.test/licence"/></rdf:Description></rdf:RDF></x:xmpmeta>`
	var b bytes.Buffer
	if err := stdjpeg.Encode(&b, scene(120, 80), nil); err != nil {
		t.Fatal(err)
	}
	return metadata.Embed(b.Bytes(), metadata.Facts{Exif: []byte(exif), XMP: []byte(xmp)})
}

func TestOnlyWhatIsRetainedIsLeft(t *testing.T) { retained(t, told(t)) }

// AVIF and HEIC hold their facts in items of their own.
func TestOnlyWhatIsRetainedIsLeftOfAnAVIFAndAHEIC(t *testing.T) {
	if testing.Short() {
		t.Skip("it takes long")
	}
	all := metadata.FactsOf(told(t), metadata.Keep{Rights: true, Camera: true, Place: true})
	crowd := metadata.Embed(variant(t, drawn(t, "festival-crowd.jpg"), "width=160&format=jpeg&quality=90").Data, all)
	source := variant(t, crowd, "format=avif&quality=50&retain=rights%20camera%20place").Data
	retained(t, source)
	want := shown(t, source)
	for _, keep := range []metadata.Keep{{}, {Camera: true}} { // the file itself, without more than that
		own, ok := metadata.Reduce(source, metadata.FactsOf(source, keep))
		if !ok || len(own) >= len(source) || bytes.Contains(own, []byte("Wren")) || bytes.Contains(own, []byte("Skylark")) != keep.Camera {
			t.Fatalf("%+v: %v, %d bytes of %d: %q", keep, ok, len(own), len(source), own)
		}
		if !bytes.Equal(shown(t, own).Pix, want.Pix) {
			t.Errorf("%+v: other pixels", keep)
		}
	}
	retained(t, fromPhone(t, told(t)))
}

func retained(t *testing.T, source []byte) {
	marks := map[string]string{"rights": "Wren\x00", "copyright": "2026 Kestrel&T.", "licence": "https://kestrel.test/licence", "xmp rights": "all kites &amp; strings", "camera": "Skylark", "place": "\x00\x01\x00\x02\x00\x00\x00\x02N"}
	for retain, want := range map[string][]string{
		"":                       nil,
		"&retain=rights":         {"rights", "copyright", "licence", "xmp rights"},
		"&retain=camera":         {"camera"},
		"&retain=place":          {"place"},
		"&retain=camera%20place": {"camera", "place"},
	} {
		for _, format := range []string{"jpeg", "webp", "png", "avif", "webp&quality=lossless", "png&quality=lossless"} {
			data := variant(t, source, "width=60&format="+format+retain).Data
			if _, err := Probe(data); err != nil {
				t.Fatalf("%s%s: %v", format, retain, err)
			}
			shown(t, data)
			for name, mark := range marks {
				is := false
				for _, w := range want {
					is = is || w == name
				}
				if has := bytes.Contains(data, []byte(mark)); has != is {
					t.Errorf("%s%s: has %s: %v, want %v", format, retain, name, has, is)
				}
			}
			if bytes.Contains(data, []byte("secret")) || bytes.Contains(data, []byte("wren")) {
				t.Errorf("%s%s: something is left that nobody asked for", format, retain)
			}
		}
	}
}
