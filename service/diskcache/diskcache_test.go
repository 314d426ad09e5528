package diskcache

import (
	"bytes"
	"testing"
)

func FuzzUnpack(f *testing.F) {
	f.Add(pack([]byte(`{"type":"image/webp"}`), []byte("body")))
	f.Add([]byte(magic))
	f.Fuzz(func(t *testing.T, data []byte) {
		head, body, ok := unpack(data)
		if ok && !bytes.Equal(pack(head, body), data) {
			t.Fatal("a broken file is taken for whole")
		}
	})
}
