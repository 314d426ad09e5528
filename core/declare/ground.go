package declare

import "strings"

// GroundSize is the value of background-size (CSS Backgrounds Level 3, section 2.9).
type GroundSize struct {
	Declared bool
	Fit      Fit  // Cover or Contain; otherwise the sides count
	X, Y     Side // of a tile; parts are of the ground's own sides
}

func readGroundSize(to *GroundSize, value string) string {
	s := GroundSize{Declared: true}
	words := fields(strings.ToLower(value))
	if len(words) == 1 && (words[0] == "cover" || words[0] == "contain") {
		s.Fit = Fit(find(fits, words[0]))
		*to = s
		return ""
	}
	if len(words) == 0 || len(words) > 2 {
		return "unparsable"
	}
	auto := Side{Declared: true, Length: Length{Px: -1}}
	s.X, s.Y = auto, auto
	for i, w := range words {
		if reason := readSide([]*Side{&s.X, &s.Y}[i], w); reason != "" {
			return reason
		}
	}
	*to = s
	return ""
}

func appendGroundSize(b []byte, s GroundSize) []byte {
	if s.Fit != FitUnset {
		return append(b, s.Fit.String()...)
	}
	b = appendSide(b, s.X)
	if s.Y.Auto() {
		return b
	}
	return appendSide(append(b, "%20"...), s.Y)
}

// Repeat is how a ground's tiles fill one axis (CSS Backgrounds Level 3, section 2.4).
type Repeat uint8

// The ways of repeating.
const (
	RepeatUnset Repeat = iota
	Tiled              // initially, where a size is said
	NoRepeat
	Spaced
	Rounded
)

var repeats = []string{Tiled: "repeat", NoRepeat: "no-repeat", Spaced: "space", Rounded: "round"}

// Repeats is the value of background-repeat: across and down.
type Repeats struct{ X, Y Repeat }

func readRepeats(to *Repeats, value string) string {
	words := fields(strings.ToLower(value))
	switch {
	case len(words) == 1 && words[0] == "repeat-x":
		*to = Repeats{Tiled, NoRepeat}
		return ""
	case len(words) == 1 && words[0] == "repeat-y":
		*to = Repeats{NoRepeat, Tiled}
		return ""
	case len(words) == 1:
		words = append(words, words[0])
	}
	if len(words) != 2 {
		return "unparsable"
	}
	x, y := find(repeats, words[0]), find(repeats, words[1])
	if x == 0 || y == 0 {
		return "unparsable"
	}
	*to = Repeats{Repeat(x), Repeat(y)}
	return ""
}

func appendRepeats(b []byte, r Repeats) []byte {
	switch {
	case r.X == r.Y:
		return append(b, repeats[r.X]...)
	case r == Repeats{Tiled, NoRepeat}:
		return append(b, "repeat-x"...)
	case r == Repeats{NoRepeat, Tiled}:
		return append(b, "repeat-y"...)
	}
	return append(append(append(b, repeats[r.X]...), "%20"...), repeats[r.Y]...)
}

// readGroundPosition is object-position's without what follows the content.
func readGroundPosition(to *Position, value string) string {
	var p Position
	if reason := readPosition(&p, value); reason != "" {
		return reason
	}
	if p.Focus != NoFocus {
		return "unparsable"
	}
	*to = p
	return ""
}

// readGroundImage reads a source, a gradient, or none.
func readGroundImage(to *string, value string) string {
	if strings.EqualFold(value, "none") {
		return ""
	}
	if readURL(to, value) == "" {
		return ""
	}
	g, reason := parseGradient(strings.ToLower(strings.TrimSpace(value)))
	if reason == "" {
		*to = g.text(1)
	}
	return reason
}

// appendGroundImage writes a source by its lane and path, or a gradient.
func appendGroundImage(b []byte, image string) []byte {
	if IsGradient(image) {
		return appendEscaped(b, image)
	}
	return appendURL(b, image)
}

// Covers reports whether the ground's picture covers the slot: where nothing says how large it is or that it repeats.
func (d *Declarations) Covers() bool {
	return !d.GroundSize.Declared && d.GroundRepeat.X == RepeatUnset || d.GroundSize.Fit == Cover
}
