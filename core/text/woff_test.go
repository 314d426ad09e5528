package text

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"testing"

	"golang.org/x/image/font/gofont/goregular"
)

// woff packs a font as a WOFF file.
func woff(font []byte) []byte {
	n := int(binary.BigEndian.Uint16(font[4:]))
	out := make([]byte, 44+20*n)
	copy(out, "wOFF")
	copy(out[4:], font[:4])
	binary.BigEndian.PutUint16(out[12:], uint16(n))
	binary.BigEndian.PutUint32(out[16:], uint32(len(font)))
	for i := range n {
		e := font[12+16*i:]
		at, size := binary.BigEndian.Uint32(e[8:]), binary.BigEndian.Uint32(e[12:])
		table := font[at : at+size]
		var packed bytes.Buffer
		z := zlib.NewWriter(&packed)
		z.Write(table)
		z.Close()
		data := packed.Bytes()
		if len(data) >= len(table) {
			data = table
		}
		to := out[44+20*i:]
		copy(to, e[:4])
		binary.BigEndian.PutUint32(to[4:], uint32(len(out)))
		binary.BigEndian.PutUint32(to[8:], uint32(len(data)))
		binary.BigEndian.PutUint32(to[12:], uint32(size))
		copy(to[16:], e[4:8])
		out = append(out, data...)
		for len(out)%4 != 0 {
			out = append(out, 0)
		}
	}
	return out
}

func TestPackedFontsDrawTheSame(t *testing.T) {
	own := []Family{{Name: "Brand", Faces: []Face{{File: "b"}}}}
	s := black
	s.Families = []string{"Brand"}
	wide := func(data []byte) float64 {
		t.Helper()
		l, err := Set("Kites & twine", 0, false, s, NewFonts(map[string][]byte{"b": data}, own, nil))
		if err != nil {
			t.Fatal(err)
		}
		return l.Width
	}
	packed := woff(goregular.TTF)
	if FontType(packed) != "font/woff" || len(packed) >= len(goregular.TTF) {
		t.Fatalf("%s, %d bytes of %d", FontType(packed), len(packed), len(goregular.TTF))
	}
	if a, b := wide(goregular.TTF), wide(packed); a != b {
		t.Errorf("%.2f wide, packed %.2f", a, b)
	}
	// A file that says it unpacks to far more than it may is refused before it does.
	bomb := append([]byte(nil), packed...)
	binary.BigEndian.PutUint32(bomb[44+12:], 1<<31)
	for _, data := range [][]byte{bomb, packed[:100], packed[:len(packed)/2], []byte("wOF2" + string(make([]byte, 100))), nil, []byte("OTTO")} {
		if CheckFont(data) == nil {
			t.Errorf("%d bytes are taken for a font", len(data))
		}
	}
}
