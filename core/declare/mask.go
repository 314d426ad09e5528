package declare

import (
	"strings"
)

// A Mask is the value of mask-image: what shows of the picture (CSS Masking Level 1, section 7.1).
type Mask struct {
	Kind     MaskKind
	Image    string // lane/path, of a picture
	OrNone   bool   // of the subject: where there is no clear one, the whole picture
	Gradient Gradient
}

// MaskKind is what a mask is made of.
type MaskKind uint8

// The kinds.
const (
	NoMask MaskKind = iota
	SubjectMask
	GradientMask
	ImageMask
)

// MaskMode is the value of mask-mode: what of a mask counts.
type MaskMode uint8

// The modes.
const (
	MaskModeUnset MaskMode = iota
	MatchSource            // initially: its alpha
	AlphaMask
	LuminanceMask
)

var maskModes = []string{MatchSource: "match-source", AlphaMask: "alpha", LuminanceMask: "luminance"}

// Mask is what shows of the picture.
func (d *Declarations) Mask() Mask {
	m, _ := parseMask(d.MaskImage) // it was checked when it was declared
	return m
}

func readMask(to *string, value string) string {
	m, reason := parseMask(value)
	if reason == "" {
		*to = m.text(1)
	}
	return reason
}

func parseMask(value string) (m Mask, reason string) {
	if value == "" {
		return m, ""
	}
	if readURL(&m.Image, strings.TrimSpace(value)) == "" {
		m.Kind = ImageMask
		return m, ""
	}
	value = strings.ToLower(strings.TrimSpace(value))
	switch strings.Join(fields(value), " ") {
	case "none":
		return m, ""
	case "subject":
		return Mask{Kind: SubjectMask}, ""
	case "subject or-none":
		return Mask{Kind: SubjectMask, OrNone: true}, ""
	}
	m.Gradient, reason = parseGradient(value)
	if reason == "" {
		m.Kind = GradientMask
	}
	return m, reason
}

// text writes the mask the one way, its lengths multiplied by k.
func (m Mask) text(k float64) string {
	switch m.Kind {
	case SubjectMask:
		if m.OrNone {
			return "subject or-none"
		}
		return "subject"
	case ImageMask:
		return "url(" + m.Image + ")"
	case GradientMask:
		return m.Gradient.text(k)
	}
	return "none"
}
