// Package jpeg turns JPEG bytes into pixels and back, through libjpeg-turbo.
package jpeg

import (
	"bytes"
	"encoding/binary"
	"fmt"

	"echolane/core/codec"
	"echolane/core/metadata"
)

// Type is the media type this package reads and writes.
const Type = "image/jpeg"

// Markers, ITU-T T.81 table B.1.
const (
	mSOF0  = 0xc0
	mSOF2  = 0xc2
	mDHT   = 0xc4
	mJPG   = 0xc8
	mDAC   = 0xcc
	mRST0  = 0xd0
	mSOI   = 0xd8
	mEOI   = 0xd9
	mSOS   = 0xda
	mAPP1  = 0xe1
	mAPP2  = 0xe2
	mAPP14 = 0xee
)

var (
	exifID = []byte("Exif\x00\x00")
	iccID  = []byte("ICC_PROFILE\x00")
)

// Probe reads the marker segments up to the first scan.
func Probe(data []byte) (codec.Info, error) {
	info := codec.Info{Type: Type, Orientation: 1, Frames: 1}
	fail := func(truncated bool, format string, args ...any) (codec.Info, error) {
		return codec.Info{}, &codec.Error{Type: Type, Truncated: truncated, Problem: fmt.Sprintf(format, args...)}
	}
	if len(data) < 3 || data[0] != 0xff || data[1] != mSOI {
		return fail(false, "it doesn't begin as a JPEG does")
	}
	var parts [][]byte // of the ICC profile, by number
	components := 0
	for at := 2; ; {
		for at < len(data) && data[at] != 0xff { // stray bytes between segments are passed over
			at++
		}
		for at < len(data) && data[at] == 0xff {
			at++
		}
		if at >= len(data) {
			return fail(true, "the file ends in its header")
		}
		marker := data[at]
		at++
		if marker == mSOI || marker == 0x01 || marker >= mRST0 && marker < mSOI || marker == 0 {
			continue
		}
		if marker == mSOS || marker == mEOI {
			break
		}
		if at+2 > len(data) {
			return fail(true, "the file ends in its header")
		}
		n := int(binary.BigEndian.Uint16(data[at:]))
		if n < 2 {
			return fail(false, "segment %#02x has an impossible length", marker)
		}
		if at+n > len(data) {
			return fail(true, "the file ends in its header")
		}
		body := data[at+2 : at+n]
		at += n
		switch {
		case marker >= mSOF0 && marker <= 0xcf && marker != mDHT && marker != mJPG && marker != mDAC:
			if len(body) < 6 {
				return fail(false, "its frame header is too short")
			}
			info.Depth = int(body[0])
			info.H = int(binary.BigEndian.Uint16(body[1:]))
			info.W = int(binary.BigEndian.Uint16(body[3:]))
			components = int(body[5])
			if marker == mSOF2 {
				info.Coding = "progressive"
			}
		case marker == mAPP1 && bytes.Contains(body, []byte("hdrgm:Version")), marker == mAPP2 && bytes.HasPrefix(body, []byte("urn:iso:std:iso:ts:21496:-1\x00")):
			info.GainMap = true
		case marker == mAPP1 && bytes.HasPrefix(body, exifID):
			info.Orientation = metadata.Orientation(body[len(exifID):])
		case marker == mAPP2 && bytes.HasPrefix(body, iccID) && len(body) > len(iccID)+2:
			number, count := int(body[len(iccID)]), int(body[len(iccID)+1])
			if parts == nil {
				parts = make([][]byte, count)
			}
			if number >= 1 && number <= len(parts) {
				parts[number-1] = body[len(iccID)+2:]
			}
		}
	}
	if info.W == 0 || info.H == 0 {
		return fail(false, "its header gives no size")
	}
	switch components {
	case 1:
		info.Coding = join(info.Coding, "grey")
	case 4:
		info.Coding = join(info.Coding, "CMYK")
	}
	info.Profile = whole(parts)
	return info, nil
}

// whole joins a profile's parts, nil where one is missing.
func whole(parts [][]byte) []byte {
	for _, p := range parts {
		if p == nil {
			return nil
		}
	}
	return bytes.Join(parts, nil)
}

func join(a, b string) string {
	if a == "" {
		return b
	}
	return a + " " + b
}
