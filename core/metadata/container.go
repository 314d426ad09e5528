package metadata

import "bytes"

// A container is how a file is put together, which decides where its facts are.
type container int

const (
	unknown    container = iota
	inSegments           // JPEG: markers with segments (ITU-T T.81, annex B)
	inChunks             // PNG (Third Edition, section 5)
	inRIFF               // WebP (RFC 9649, section 2.3)
	inBlocks             // GIF (89a, section 12)
	inBoxes              // AVIF and HEIC: ISO boxes (ISO/IEC 14496-12)
	inTIFF               // TIFF: a directory of entries, which is what an Exif block is too
	inJXL                // JPEG XL, in boxes of its own or without (ISO/IEC 18181-2)
	inText               // SVG: XML
)

func containerOf(data []byte) container {
	switch {
	case bytes.HasPrefix(data, []byte("\xff\xd8\xff")):
		return inSegments
	case bytes.HasPrefix(data, []byte("\x89PNG\r\n\x1a\n")):
		return inChunks
	case len(data) >= 12 && string(data[:4]) == "RIFF" && string(data[8:12]) == "WEBP":
		return inRIFF
	case bytes.HasPrefix(data, []byte("GIF8")):
		return inBlocks
	case len(data) >= 12 && string(data[4:8]) == "ftyp":
		return inBoxes
	case bytes.HasPrefix(data, []byte("II*\x00")), bytes.HasPrefix(data, []byte("MM\x00*")):
		return inTIFF
	case bytes.HasPrefix(data, jxlHead), bytes.HasPrefix(data, jxlNaked):
		return inJXL
	case bytes.Contains(data[:min(len(data), 4096)], []byte("<svg")) && bytes.HasPrefix(bytes.TrimLeft(data, "\xef\xbb\xbf \t\r\n"), []byte("<")):
		return inText
	}
	return unknown
}
