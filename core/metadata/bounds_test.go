package metadata

import (
	"bytes"
	"encoding/binary"
	"errors"
	"testing"

	"echolane/core/codec"
)

func boxOf(kind string, parts ...[]byte) []byte {
	body := bytes.Join(parts, nil)
	return append(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+8)), kind...), body...)
}

func TestFilesInBoxesStayWithinBounds(t *testing.T) {
	locations := func(items, extents, offset int) []byte {
		b := []byte{0, 0, 0, 0, byte(offset << 4), 0}
		b = binary.BigEndian.AppendUint16(b, uint16(items))
		for i := range items {
			b = binary.BigEndian.AppendUint16(b, uint16(i))
			b = append(b, 0, 0)
			b = binary.BigEndian.AppendUint16(b, uint16(extents))
			b = append(b, make([]byte, extents*offset)...)
		}
		return boxOf("iloc", b)
	}
	meta := func(inside ...[]byte) []byte { return boxOf("meta", append([][]byte{make([]byte, 4)}, inside...)...) }
	nest := boxOf("free")
	for range 40 {
		nest = boxOf("iprp", nest)
	}
	for name, c := range map[string]struct {
		data []byte
		ok   bool
	}{
		"an honest grid":           {append(boxOf("ftyp", []byte("avif")), meta(locations(1000, 1, 4))...), true},
		"empty extents":            {meta(locations(4000, 65535, 0)), false},
		"extents of four bytes":    {meta(locations(10, 7000, 4)), false},
		"two location boxes":       {meta(locations(1, 40000, 0), locations(1, 40000, 0)), false},
		"many boxes":               {bytes.Repeat(boxOf("free"), 40_000), false},
		"many boxes inside":        {meta(boxOf("iprp", boxOf("ipco", bytes.Repeat(boxOf("pixi"), 40_000)))), false},
		"boxes in boxes":           {nest, false},
		"cut off":                  {meta(locations(1000, 1, 4))[:50], true},
		"a size of nothing":        {[]byte{0, 0, 0, 1, 'm', 'd', 'a', 't', 0, 0, 0, 0, 0, 0, 0, 0}, true},
		"a size beyond everything": {[]byte{0xff, 0xff, 0xff, 0xff, 'm', 'e', 't', 'a'}, true},
		"empty":                    {nil, true},
	} {
		err := CheckBoxes("image/avif", c.data)
		var e *codec.Error
		if c.ok != (err == nil) || err != nil && !errors.As(err, &e) {
			t.Errorf("%s: %v", name, err)
		}
	}
	if out, ok := items(append(boxOf("ftyp", []byte("avif")), meta(locations(4000, 65535, 0))...)); ok || len(out) > mostItems {
		t.Error("our own reader takes it")
	}
}

func TestSplicesAreOfTheirFile(t *testing.T) {
	for name, c := range map[string]struct {
		all  []Splice
		n    int64
		good bool
	}{
		"a run": {[]Splice{{From: 2, N: 8}}, 8, true}, "a run and bytes": {[]Splice{{N: 2}, {Put: []byte("abc")}, {From: 5, N: 5}}, 10, true},
		"beyond the end": {[]Splice{{From: 5, N: 6}}, 0, false}, "before the beginning": {[]Splice{{From: -1, N: 6}}, 0, false}, "overflowing": {[]Splice{{From: 1 << 62, N: 1 << 62}}, 0, false},
		"nothing": {nil, 0, false}, "an empty run": {[]Splice{{}}, 0, false}, "negative": {[]Splice{{N: -4}}, 0, false}, "far too much": {[]Splice{{Put: make([]byte, 2<<20)}}, 2 << 20, false},
	} {
		n, good := CheckSplices(c.all, 10)
		if good != c.good || good && n != c.n {
			t.Errorf("%s: %d %v", name, n, good)
		}
	}
}

// Stripped files are put together of runs of what they were, whatever they are.
func FuzzStripSplices(f *testing.F) {
	f.Add([]byte("\xff\xd8\xff\xe1\x00\x04ab\xff\xda\x00\x02x\xff\xd9"))
	f.Add([]byte("\x89PNG\r\n\x1a\n\x00\x00\x00\x00tEXt\x00\x00\x00\x00\x00\x00\x00\x00IEND\x00\x00\x00\x00"))
	f.Add([]byte("RIFF\x0a\x00\x00\x00WEBPVP8X\x02\x00\x00\x00\xff\x00"))
	f.Add([]byte("GIF89a\x01\x00\x01\x00\x00\x00\x00;"))
	f.Add(boxOf("ftyp", []byte("avif\x00\x00\x00\x00")))
	f.Fuzz(func(t *testing.T, data []byte) {
		CheckBoxes("image/avif", data)
		all, ok := StripSplices(data)
		if !ok {
			return
		}
		if _, good := CheckSplices(all, int64(len(data))); !good {
			t.Fatalf("%+v aren't of %d bytes", all, len(data))
		}
		if again, ok := Strip(splices(all).apply(data)); !ok || !bytes.Equal(again, splices(all).apply(data)) {
			t.Fatal("stripped twice it differs")
		}
	})
}
