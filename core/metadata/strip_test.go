package metadata

import (
	"bytes"
	"encoding/binary"
	"hash/crc32"
	"testing"

	"github.com/andybalholm/brotli"
)

func segment(marker byte, body string) string {
	return string([]byte{0xff, marker, byte((len(body) + 2) >> 8), byte(len(body) + 2)}) + body
}

func chunk(kind, body string) string {
	b := binary.BigEndian.AppendUint32(nil, uint32(len(body)))
	b = append(b, kind+body...)
	return string(binary.BigEndian.AppendUint32(b, crc32.ChecksumIEEE([]byte(kind+body))))
}

func riff(kind, body string) string {
	b := binary.LittleEndian.AppendUint32([]byte(kind), uint32(len(body)))
	b = append(b, body...)
	if len(body)%2 == 1 {
		b = append(b, 0)
	}
	return string(b)
}

func TestStrippedFilesSayNothingOfTheirMaking(t *testing.T) {
	exif := "Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01\x00\x06\x00\x00\x00\x00\x00\x00 wren's camera"
	jpeg := "\xff\xd8" + segment(0xe0, "JFIF\x00") + segment(0xe1, exif) + segment(0xe1, "http://ns.adobe.com/xap/1.0/\x00 wren") + segment(0xe2, "ICC_PROFILE\x00\x01\x01profile") +
		segment(0xe2, "MPF\x00 wren") + segment(0xed, "Photoshop wren") + segment(0xfe, "by wren") + segment(0xdb, "tables") + segment(0xda, "scan") + "entropy\xff\x00coded\xff\xd9wren hidden behind the end"
	png := "\x89PNG\r\n\x1a\n" + chunk("IHDR", "0123456789abc") + chunk("iCCP", "profile") + chunk("tEXt", "Author\x00wren") + chunk("iTXt", "wren") + chunk("eXIf", "wren") + chunk("tIME", "wren123") + chunk("IDAT", "pixels") + chunk("IEND", "")
	webp := riff("VP8X", "\x2c\x00\x00\x00\x01\x00\x00\x01\x00\x00") + riff("ICCP", "profile") + riff("VP8 ", "pixels!") + riff("EXIF", "wren!") + riff("XMP ", "wren")
	webp = string(binary.LittleEndian.AppendUint32([]byte("RIFF"), uint32(len(webp)+4))) + "WEBP" + webp
	gif := "GIF89a\x01\x00\x01\x00\x80\x00\x00012345" + "!\xff\x0bNETSCAPE2.0\x03\x01\x00\x00\x00" + "!\xfe\x04wren\x00" + "!\xff\x0bXMP DataXMP\x04wren\x00" + ",\x00\x00\x00\x00\x01\x00\x01\x00\x00\x02\x02D\x01\x00;wren"
	for name, c := range map[string]struct {
		file  string
		keeps []string
	}{
		"jpeg": {jpeg, []string{"JFIF", "ICC_PROFILE\x00\x01\x01profile", "tables", "scan", "entropy\xff\x00coded\xff\xd9"}},
		"png":  {png, []string{"IHDR", "profile", "pixels", "IEND"}},
		"webp": {webp, []string{"VP8X", "profile", "pixels!"}},
		"gif":  {gif, []string{"NETSCAPE2.0", "\x02\x02D\x01\x00;"}},
	} {
		got, ok := Strip([]byte(c.file))
		if !ok || bytes.Contains(got, []byte("wren")) {
			t.Errorf("%s: %v, %q", name, ok, got)
		}
		for _, want := range c.keeps {
			if !bytes.Contains(got, []byte(want)) {
				t.Errorf("%s lost %q: %q", name, want, got)
			}
		}
		if again, ok := Strip(got); !ok || !bytes.Equal(again, got) {
			t.Errorf("%s stripped twice differs", name)
		}
		if _, ok := Strip([]byte(c.file[:len(c.file)/3])); ok {
			t.Errorf("%s cut off is taken for clean", name)
		}
	}
	got, _ := Strip([]byte(jpeg))
	at := bytes.Index(got, []byte("Exif\x00\x00"))
	if at < 0 || Orientation(got[at+6:]) != 6 {
		t.Errorf("the JPEG's orientation is lost: %q", got)
	}
	strippedWebP, _ := Strip([]byte(webp))
	if strippedWebP[20] != 0x20 || int(binary.LittleEndian.Uint32(strippedWebP[4:]))+8 != len(strippedWebP) {
		t.Errorf("the WebP's header: flags %#x, length %d of %d", strippedWebP[20], binary.LittleEndian.Uint32(strippedWebP[4:]), len(strippedWebP))
	}
}

func FuzzStrip(f *testing.F) {
	f.Add([]byte("\xff\xd8\xff\xe1\x00\x04ab\xff\xda\x00\x02x\xff\xd9"))
	f.Add([]byte("GIF89a\x01\x00\x01\x00\x80\x00\x00012345!\xfe\x00;"))
	f.Add([]byte("RIFF\x00\x00\x00\x00WEBPVP8 \x01\x00\x00\x00a"))
	f.Add([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x00IEND1234"))
	f.Add(described(wrensExif, wrensXMP))
	f.Fuzz(func(t *testing.T, data []byte) {
		before := bytes.Clone(data)
		got, ok := Strip(data)
		if !bytes.Equal(before, data) {
			t.Fatal("the source is changed")
		}
		if ok && len(got) > len(data)+36 {
			t.Fatalf("%d bytes become %d", len(data), len(got))
		}
		FactsOf(data, Keep{Rights: true, Camera: true, Place: true})
	})
}

func boxed(kind, body string) string {
	return string(binary.BigEndian.AppendUint32(nil, uint32(8+len(body)))) + kind + body
}

func TestFactsOfAJPEGXL(t *testing.T) {
	exif := "MM\x00*\x00\x00\x00\x08\x00\x01\x82\x98\x00\x02\x00\x00\x00\x05\x00\x00\x00\x1a\x00\x00\x00\x00wren\x00"
	xmp := `<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#"><rdf:Description xmlns:dc="http://purl.org/dc/elements/1.1/" dc:rights="wren's"/></rdf:RDF></x:xmpmeta>`
	var packed bytes.Buffer
	z := brotli.NewWriter(&packed)
	z.Write([]byte("\x00\x00\x00\x00" + exif))
	z.Close()
	head := string(jxlHead) + boxed("ftyp", "jxl \x00\x00\x00\x00jxl ")
	for name, file := range map[string]string{
		"plain":      head + boxed("Exif", "\x00\x00\x00\x00"+exif) + boxed("xml ", xmp) + boxed("jbrd", "for wren") + boxed("jxlc", "\xff\x0apixels"),
		"compressed": head + boxed("jxlp", "\x00\x00\x00\x00\xff\x0api") + boxed("brob", "Exif"+packed.String()) + boxed("xml ", xmp) + boxed("jxlp", "\x80\x00\x00\x01xels"),
	} {
		f := FactsOf([]byte(file), Keep{Rights: true})
		if !bytes.Contains(f.Exif, []byte("wren")) || !bytes.Contains(f.XMP, []byte("wren&#39;s")) {
			t.Errorf("%s: found %q and %q", name, f.Exif, f.XMP)
		}
		bare, ok := Strip([]byte(file))
		if !ok || bytes.Contains(bare, []byte("wren")) || bytes.Contains(bare, []byte("brob")) || !bytes.Contains(bare, []byte("xels")) {
			t.Errorf("%s, stripped: %v %q", name, ok, bare)
		}
		kept, ok := Reduce([]byte(file), f)
		if again := FactsOf(kept, Keep{Rights: true}); !ok || !bytes.Equal(again.Exif, f.Exif) || !bytes.Equal(again.XMP, f.XMP) {
			t.Errorf("%s, reduced: %v %q", name, ok, kept)
		}
		if _, ok := Strip([]byte(file[:len(file)-3])); ok {
			t.Errorf("%s cut off is taken for clean", name)
		}
	}
	rebuildable := head + boxed("jbrd", "how") + boxed("jxlc", "\xff\x0apixels")
	if same, ok := Strip([]byte(rebuildable)); !ok || string(same) != rebuildable {
		t.Errorf("what a JPEG is rebuilt by was lost without need: %q", same)
	}
	naked := "\xff\x0apixels"
	with := Embed([]byte(naked), Facts{Exif: []byte(exif)})
	if got := FactsOf(with, Keep{Rights: true}); !bytes.Contains(got.Exif, []byte("wren")) || !bytes.Contains(with, []byte(naked)) {
		t.Errorf("without boxes it became %q", with)
	}
	if bare, ok := Strip([]byte(naked)); !ok || string(bare) != naked {
		t.Errorf("without boxes, stripped: %q", bare)
	}
	bomb := boxed("brob", "Exif"+func() string {
		var b bytes.Buffer
		z := brotli.NewWriter(&b)
		z.Write(make([]byte, 3*mostFacts))
		z.Close()
		return b.String()
	}())
	if f, _ := metadata([]byte(head + bomb + boxed("jxlc", "\xff\x0a"))); len(f) > mostFacts {
		t.Errorf("%d bytes came out of a compressed box", len(f))
	}
}
