// Package codec is what the format packages below it share: what a header says, what a decoder gives, how a
// decoder fails. Each format is a package of its own; which one a file needs is told by its first bytes,
// never by its name.
package codec

import (
	"bytes"
	"fmt"

	"echolane/core/raster"
)

// Info is what a file's header says, found without decoding a pixel.
type Info struct {
	Type        string // media type, such as image/jpeg
	W, H        int    // as stored, before Orientation
	Orientation int    // Exif: 1–8, 1 where the file says nothing
	Alpha       bool   // the file has a way to say that pixels are transparent
	Frames      int    // 1 for a still
	Plays       int    // how often an animation plays, 0 for ever
	Depth       int    // bits a sample
	GainMap     bool   // a second picture says how much brighter a screen of higher range may show it
	Coding      string // what else is notable: progressive, interlaced, CMYK, grey, palette; "" otherwise
	Profile     []byte // the embedded ICC profile, nil where there is none
	Colour      Colour // what the file says of its colours where it has no profile
}

// Upright is the size after Orientation: the picture's natural size.
func (i Info) Upright() (w, h int) {
	if i.Orientation >= 5 {
		return i.H, i.W
	}
	return i.W, i.H
}

// A Picture is what a decoder gives: exactly one of its fields is set. Colours are as the file's profile
// means them.
type Picture struct {
	RGBA  *raster.RGBA  // straight alpha; Opaque is set where the file can't be otherwise
	YCbCr *raster.YCbCr // Full range
	CMYK  *raster.RGBA  // four bytes a pixel, C M Y K, 255 for no ink
}

// Free gives the pixels back for others to use: neither they nor a view of them may be used after.
func (p Picture) Free() {
	p.RGBA.Free()
	p.YCbCr.Free()
	p.CMYK.Free()
}

// Size is the decoded picture's size.
func (p Picture) Size() (w, h int) {
	switch {
	case p.RGBA != nil:
		return p.RGBA.W, p.RGBA.H
	case p.YCbCr != nil:
		return p.YCbCr.W, p.YCbCr.H
	case p.CMYK != nil:
		return p.CMYK.W, p.CMYK.H
	}
	return 0, 0
}

// An Error says why a file can't be read.
type Error struct {
	Type      string // media type, "" where the format isn't known
	Truncated bool   // the file ends before the picture does
	Problem   string // what is wrong, in words
}

func (e *Error) Error() string {
	if e.Type == "" {
		return e.Problem
	}
	return fmt.Sprintf("%s: %s", e.Type, e.Problem)
}

// SniffOther finds the media type of a file that is of no format that is read, "" where it's none that is known by name.
func SniffOther(data []byte) string {
	has := func(at int, s string) bool { return len(data) >= at+len(s) && string(data[at:at+len(s)]) == s }
	switch {
	case has(0, "%PDF-"):
		return "application/pdf"
	}
	head := bytes.TrimLeft(data[:min(len(data), 1024)], "\xef\xbb\xbf \t\r\n")
	lower := bytes.ToLower(head)
	switch {
	case bytes.HasPrefix(lower, []byte("<!doctype html")), bytes.HasPrefix(lower, []byte("<html")):
		return "text/html"
	}
	if len(head) > 0 && isText(head) {
		return "text/plain"
	}
	return ""
}

func isText(b []byte) bool {
	for _, c := range b {
		if c < 0x20 && c != '\t' && c != '\n' && c != '\r' && c != '\f' {
			return false
		}
	}
	return true
}
