package metadata

import (
	"bytes"
	"encoding/binary"
)

// Strip gives the file without what it says of its making: who, where, when, with what. Pixels, colour profile
// and orientation stay to the bit. Formats without such facts, and files whose structure isn't understood, come
// back as they are; ok says whether the result is sure to be free of them.
func Strip(data []byte) (stripped []byte, ok bool) {
	all, ok := StripSplices(data)
	if !ok {
		return data, false
	}
	return splices(all).apply(data), true
}

// StripSplices says how the file that Strip gives is put together, so that it can be sent from where data lies.
func StripSplices(data []byte) (all []Splice, ok bool) {
	switch containerOf(data) {
	case inSegments:
		return stripJPEG(data)
	case inChunks:
		return stripPNG(data)
	case inRIFF:
		return stripWebP(data)
	case inBlocks:
		return stripGIF(data)
	case inJXL:
		return stripJXL(data)
	case inBoxes:
		return replaceFacts(data, Facts{})
	case inText:
		return stripSVG(data)
	}
	return nil, false
}

// stripJPEG leaves out APP1 (Exif, XMP), APP13 and other application segments but JFIF, ICC and Adobe's colour
// transform, and comments (ITU-T T.81, annex B). An orientation is written again, alone.
func stripJPEG(data []byte) (out splices, ok bool) {
	out.keep(0, 2)
	orientation := 1
	wrote := false
	for at := 2; ; {
		if at+4 > len(data) || data[at] != 0xff {
			return nil, false
		}
		marker := data[at+1]
		if marker == 0xff { // fill
			at++
			continue
		}
		n := int(binary.BigEndian.Uint16(data[at+2:]))
		end := at + 2 + n
		if n < 2 || end > len(data) {
			return nil, false
		}
		segment := data[at:end]
		body := segment[4:]
		keep := true
		switch {
		case marker == 0xe1 && bytes.HasPrefix(body, []byte("Exif\x00\x00")):
			orientation, keep = Orientation(body[6:]), false
		case marker >= 0xe0 && marker <= 0xef:
			keep = marker == 0xe0 || marker == 0xee || marker == 0xe2 && bytes.HasPrefix(body, []byte("ICC_PROFILE\x00"))
		case marker == 0xfe:
			keep = false
		}
		if !wrote && marker != 0xe0 && (marker < 0xe0 || marker > 0xef) && marker != 0xfe {
			wrote = true
			if orientation != 1 {
				out.put(orientationSegment(orientation)...)
			}
		}
		if keep {
			out.keep(at, end)
		}
		at = end
		if marker == 0xda { // from here on entropy-coded data, other scans, the end
			tail := data[at:]
			if i := bytes.LastIndex(tail, []byte{0xff, 0xd9}); i >= 0 {
				tail = tail[:i+2] // what is hung on behind the end goes too
			}
			out.keep(at, at+len(tail))
			return out, true
		}
	}
}

// orientationSegment is an Exif segment that says one thing (CIPA DC-008, section 4.6.4).
func orientationSegment(o int) []byte {
	b := []byte{0xff, 0xe1, 0, 34}
	b = append(b, "Exif\x00\x00MM\x00*\x00\x00\x00\x08\x00\x01\x01\x12\x00\x03\x00\x00\x00\x01"...)
	return append(b, 0, byte(o), 0, 0, 0, 0, 0, 0)
}

// stripPNG leaves out text, time and Exif chunks (PNG, third edition, section 11.3). Exif's orientation goes
// with it: decoders of PNG that heed it are the exception.
func stripPNG(data []byte) (out splices, ok bool) {
	out.keep(0, 8)
	for at := 8; at+12 <= len(data); {
		n := int(binary.BigEndian.Uint32(data[at:]))
		end := at + 12 + n
		if n < 0 || end > len(data) {
			return nil, false
		}
		switch kind := string(data[at+4 : at+8]); kind {
		case "tEXt", "zTXt", "iTXt", "tIME", "eXIf":
		default:
			out.keep(at, end)
			if kind == "IEND" {
				return out, true
			}
		}
		at = end
	}
	return nil, false
}

// stripWebP leaves out the EXIF and XMP chunks and their flags (RFC 9649, section 2.7).
func stripWebP(data []byte) (out splices, ok bool) {
	if len(data) < 12 {
		return nil, false
	}
	head, size := append([]byte{}, data[:12]...), 4
	for at := 12; at+8 <= len(data); {
		n := int(binary.LittleEndian.Uint32(data[at+4:]))
		end := at + 8 + n + n&1
		if n < 0 || at+8+n > len(data) {
			return nil, false
		}
		end = min(end, len(data))
		switch kind := string(data[at : at+4]); {
		case kind == "EXIF", kind == "XMP ":
		case kind == "VP8X" && at == 12 && n > 0:
			out.keep(at, at+8)
			out.put(data[at+8] &^ (0x08 | 0x04))
			out.keep(at+9, end)
			size += end - at
		default:
			out.keep(at, end)
			size += end - at
		}
		at = end
	}
	binary.LittleEndian.PutUint32(head[4:], uint32(size))
	return append(splices{{Put: head}}, out...), true
}

// stripGIF leaves out comment extensions and application extensions but the one that says how often to loop
// (GIF89a, sections 24 and 26).
func stripGIF(data []byte) (out splices, ok bool) {
	if len(data) < 13 {
		return nil, false
	}
	at := 13
	if data[10]&0x80 != 0 {
		at += 3 << (data[10]&7 + 1)
	}
	if at > len(data) {
		return nil, false
	}
	out.keep(0, at)
	blocks := func(from int) int { // the end of a chain of sub-blocks, -1 where there is none
		for from < len(data) {
			n := int(data[from])
			from += 1 + n
			if n == 0 {
				return from
			}
		}
		return -1
	}
	for at < len(data) {
		end := -1
		keep := true
		switch data[at] {
		case 0x3b:
			out.put(0x3b)
			return out, true
		case 0x2c:
			if at+10 > len(data) {
				return nil, false
			}
			body := at + 10
			if data[at+9]&0x80 != 0 {
				body += 3 << (data[at+9]&7 + 1)
			}
			end = blocks(body + 1)
		case 0x21:
			if at+2 > len(data) {
				return nil, false
			}
			end = blocks(at + 2)
			if end > 0 {
				rest := data[at+2 : end]
				keep = data[at+1] != 0xfe && (data[at+1] != 0xff || bytes.HasPrefix(rest, []byte("\x0bNETSCAPE2.0")) || bytes.HasPrefix(rest, []byte("\x0bANIMEXTS1.0")))
			}
		}
		if end < 0 || end > len(data) {
			return nil, false
		}
		if keep {
			out.keep(at, end)
		}
		at = end
	}
	return nil, false
}
