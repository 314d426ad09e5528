// Package formats lists the image formats. Each is a package of its own, and one line here.
package formats

import (
	"path"
	"slices"
	"strings"

	"echolane/core/codec"
	"echolane/core/codec/avif"
	"echolane/core/codec/bmp"
	"echolane/core/codec/gif"
	"echolane/core/codec/heic"
	"echolane/core/codec/jpeg"
	"echolane/core/codec/jxl"
	"echolane/core/codec/png"
	"echolane/core/codec/svg"
	"echolane/core/codec/tiff"
	"echolane/core/codec/webp"
	"echolane/core/declare"
)

var all = []*codec.Format{
	jpeg.Format,
	png.Format,
	webp.Format,
	avif.Format,
	gif.Format,
	heic.Format,
	jxl.Format,
	tiff.Format,
	bmp.Format,
	svg.Format,
}

// All are the formats that are read.
func All() []*codec.Format { return all }

// Of finds a format by its media type, nil where it's none that is read.
func Of(mediaType string) *codec.Format {
	for _, f := range all {
		if f.Type == mediaType {
			return f
		}
	}
	return nil
}

// Writer is how a declared format is written. It is nil for declare.FormatUnset.
func Writer(f declare.Format) *codec.Writer {
	if of := Of(f.MediaType()); of != nil {
		return of.Write
	}
	return nil
}

// Sniff finds the media type from a file's first bytes, "" where it's none of the types that are known by name. It knows
// more types than are read, so that a refusal can name what was sent.
func Sniff(data []byte) string {
	for _, f := range all {
		if f.Sniff(data) {
			return f.Type
		}
	}
	return codec.SniffOther(data)
}

// Types are the media types of sources: those of the formats that are read.
func Types() []string {
	var types []string
	for _, f := range all {
		types = append(types, f.Type)
	}
	return types
}

// TypeByName is the media type that a file's name says by its ending, "" for none of an image.
func TypeByName(name string) string {
	ending := strings.ToLower(path.Ext(name))
	for _, f := range all {
		if slices.Contains(f.Endings, ending) {
			return f.Type
		}
	}
	return ""
}

// Ending is the usual ending of file names of a media type, "" for none of an image.
func Ending(mediaType string) string {
	if f := Of(mediaType); f != nil {
		return f.Endings[0]
	}
	return ""
}
