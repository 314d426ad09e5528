package text

// #cgo LDFLAGS: -lwoff2dec
// #include <stdlib.h>
// #include "woff2.h"
import "C"

import (
	"bytes"
	"compress/zlib"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"unsafe"
)

// FontType is the media type of a font file (RFC 8081), "" where it is none.
func FontType(data []byte) string {
	if len(data) < 4 {
		return ""
	}
	switch string(data[:4]) {
	case "\x00\x01\x00\x00", "true":
		return "font/ttf"
	case "OTTO":
		return "font/otf"
	case "ttcf":
		return "font/collection"
	case "wOFF":
		return "font/woff"
	case "wOF2":
		return "font/woff2"
	}
	return ""
}

var errWOFF = errors.New("its WOFF file is broken")

// unpacked is a font file without what packs it.
func unpacked(data []byte) ([]byte, error) {
	switch FontType(data) {
	case "font/woff":
		return unpackWOFF(data)
	case "font/woff2":
		var n C.size_t
		p := C.unpack_woff2((*C.char)(unsafe.Pointer(&data[0])), C.size_t(len(data)), MostFontBytes, &n)
		if p == nil {
			return nil, fmt.Errorf("its WOFF2 file is broken, or has more than %d bytes unpacked", MostFontBytes)
		}
		defer C.free(unsafe.Pointer(p))
		return C.GoBytes(unsafe.Pointer(p), C.int(n)), nil
	}
	return data, nil
}

// unpackWOFF puts the tables of a WOFF file together again (WOFF File Format 1.0, sections 4 and 5).
func unpackWOFF(data []byte) ([]byte, error) {
	const head, entry = 44, 20
	if len(data) < head {
		return nil, errWOFF
	}
	n := int(binary.BigEndian.Uint16(data[12:]))
	if n == 0 || n > 256 || len(data) < head+n*entry {
		return nil, errWOFF
	}
	out := make([]byte, 12+16*n)
	copy(out, data[4:8])
	binary.BigEndian.PutUint16(out[4:], uint16(n))
	power, exponent := 1, 0
	for 2*power <= n {
		power, exponent = 2*power, exponent+1
	}
	binary.BigEndian.PutUint16(out[6:], uint16(16*power))
	binary.BigEndian.PutUint16(out[8:], uint16(exponent))
	binary.BigEndian.PutUint16(out[10:], uint16(16*(n-power)))
	for i := range n {
		e := data[head+i*entry:]
		at, packed, whole := uint64(binary.BigEndian.Uint32(e[4:])), uint64(binary.BigEndian.Uint32(e[8:])), uint64(binary.BigEndian.Uint32(e[12:]))
		if at+packed > uint64(len(data)) || packed > whole || uint64(len(out))+whole > MostFontBytes {
			return nil, errWOFF
		}
		table := data[at : at+packed]
		if packed < whole {
			r, err := zlib.NewReader(bytes.NewReader(table))
			if err != nil {
				return nil, errWOFF
			}
			if table, err = io.ReadAll(io.LimitReader(r, int64(whole)+1)); err != nil || uint64(len(table)) != whole {
				return nil, errWOFF
			}
		}
		to := out[12+16*i:]
		copy(to, e[:4])
		copy(to[4:], e[16:20])
		binary.BigEndian.PutUint32(to[8:], uint32(len(out)))
		binary.BigEndian.PutUint32(to[12:], uint32(whole))
		out = append(out, table...)
		for len(out)%4 != 0 {
			out = append(out, 0)
		}
	}
	return out, nil
}
