package heic

import (
	"slices"

	"echolane/core/codec"
)

// brands are the major brands of files that hold such pictures (ISO/IEC 23008-12, annex B).
var brands = []string{"heic", "heix", "mif1", "hevc", "msf1"}

// Format is HEIC, which is only read.
var Format = &codec.Format{
	Type: Type, Name: "HEIC", Endings: []string{".heic", ".heif"},
	Sniff: func(data []byte) bool {
		return len(data) >= 12 && string(data[4:8]) == "ftyp" && slices.Contains(brands, string(data[8:12]))
	},
	Probe: Probe, Decode: func(data []byte, _ codec.Want) (codec.Picture, error) { return Decode(data) },
}
