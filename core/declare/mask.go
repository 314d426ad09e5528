package declare

import (
	"math"
	"strings"
)

// A Mask is the value of mask-image: what shows of the picture (CSS Masking Level 1, section 7.1, for gradients CSS Images
// Level 3, section 3).
type Mask struct {
	Kind   MaskKind
	Image  string     // lane/path, of a picture
	OrNone bool       // of the subject: where there is no clear one, the whole picture
	Angle  float64    // of a linear gradient: clockwise from upwards, in degrees
	Corner [2]int8    // or the corner that it goes to: −1 or 1 across and down
	Circle bool       // of a radial gradient: its shape isn't an ellipse
	Size   RadialSize // how far it reaches
	Radii  [2]Length  // where Size is by length: across, down
	At     [2]Length  // its middle, from the left and top edge
	Stops  []MaskStop
}

// A MaskStop is a colour on a gradient. Where it isn't Placed, it lies between those beside it.
type MaskStop struct {
	Color  Color
	Placed bool
	At     Length // parts are of the gradient's line
}

// MaskKind is what a mask is made of.
type MaskKind uint8

// The kinds.
const (
	NoMask MaskKind = iota
	SubjectMask
	LinearMask
	RadialMask
	ImageMask
)

// RadialSize says how far a radial gradient reaches.
type RadialSize uint8

// The sizes.
const (
	FarthestCorner RadialSize = iota // initially
	FarthestEdge
	ClosestCorner
	ClosestEdge
	RadialByLength
)

var radialSizes = []string{FarthestCorner: "farthest-corner", FarthestEdge: "farthest-side", ClosestCorner: "closest-corner", ClosestEdge: "closest-side"}

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

const maxMaskStops = 64

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
	for _, f := range []struct {
		name string
		read func(*Mask, []string) []string
	}{{"linear-gradient", (*Mask).linear}, {"radial-gradient", (*Mask).radial}} {
		args, ok := cutFunction(value, f.name)
		if !ok {
			continue
		}
		stops := f.read(&m, parts(args, ','))
		if stops == nil {
			return m, "unparsable"
		}
		return m, m.stops(stops)
	}
	return m, "unparsable"
}

// linear reads where a gradient goes, and gives what is left.
func (m *Mask) linear(args []string) []string {
	m.Kind, m.Angle = LinearMask, 180
	words := fields(args[0])
	if len(words) == 0 {
		return nil
	}
	if words[0] == "to" {
		var across, down int8
		for _, w := range words[1:] {
			switch {
			case w == "left" && across == 0:
				across = -1
			case w == "right" && across == 0:
				across = 1
			case w == "top" && down == 0:
				down = -1
			case w == "bottom" && down == 0:
				down = 1
			default:
				return nil
			}
		}
		switch {
		case across != 0 && down != 0:
			m.Corner = [2]int8{across, down}
		case across != 0:
			m.Angle = map[int8]float64{-1: 270, 1: 90}[across]
		case down != 0:
			m.Angle = map[int8]float64{-1: 0, 1: 180}[down]
		default:
			return nil
		}
		return args[1:]
	}
	if len(words) == 1 {
		if v, ok := ParseAngle(words[0], false); ok {
			if math.Abs(v) > 1e6 {
				return nil
			}
			m.Angle = turnBy(v).Degrees
			return args[1:]
		}
	}
	return args
}

// radial reads shape, size and middle of a gradient, and gives what is left.
func (m *Mask) radial(args []string) []string {
	m.Kind, m.At = RadialMask, [2]Length{{Part: 0.5}, {Part: 0.5}}
	words := fields(args[0])
	if len(words) == 0 {
		return nil
	}
	var c Color
	if readColor(&c, words[0]) == "" { // it begins with its stops
		return args
	}
	for i, w := range words {
		if w != "at" {
			continue
		}
		var p Position
		if readPosition(&p, strings.Join(words[i+1:], " ")) != "" || p.Focus != NoFocus {
			return nil
		}
		m.At, words = [2]Length{p.X, p.Y}, words[:i]
		break
	}
	shape, sized := "", false
	var radii []Length
	for _, w := range words {
		if w == "circle" || w == "ellipse" {
			if shape != "" {
				return nil
			}
			shape = w
			continue
		}
		size := -1
		for i, name := range radialSizes {
			if w == name {
				size = i
			}
		}
		if size >= 0 {
			if sized || len(radii) > 0 {
				return nil
			}
			m.Size, sized = RadialSize(size), true
			continue
		}
		l, ok := parseLength(w, "px")
		if !ok || l.Px < 0 || l.Part < 0 || sized || len(radii) == 2 {
			return nil
		}
		radii = append(radii, l)
	}
	m.Circle = shape == "circle" || shape == "" && len(radii) == 1
	switch {
	case len(radii) == 1 && m.Circle && radii[0].Part == 0:
		m.Size, m.Radii = RadialByLength, [2]Length{radii[0], radii[0]}
	case len(radii) == 2 && !m.Circle:
		m.Size, m.Radii = RadialByLength, [2]Length{radii[0], radii[1]}
	case len(radii) > 0:
		return nil
	}
	return args[1:]
}

func (m *Mask) stops(args []string) string {
	for _, arg := range args {
		words := fields(arg)
		if len(words) == 0 || len(words) > 3 {
			return "unparsable"
		}
		var c Color
		if readColor(&c, words[0]) != "" {
			return "unparsable"
		}
		if len(words) == 1 {
			m.Stops = append(m.Stops, MaskStop{Color: c})
		}
		for _, w := range words[1:] {
			l, ok := parseLength(w, "px")
			if !ok || math.Abs(l.Px) > maxLength || math.Abs(l.Part) > 1000 {
				return "unparsable"
			}
			m.Stops = append(m.Stops, MaskStop{c, true, l})
		}
	}
	if len(m.Stops) < 2 {
		return "unparsable"
	}
	if len(m.Stops) > maxMaskStops {
		return "out-of-range"
	}
	return ""
}

// text writes the mask the one way, its lengths multiplied by k.
func (m Mask) text(k float64) string {
	var b strings.Builder
	switch m.Kind {
	case NoMask:
		return "none"
	case SubjectMask:
		if m.OrNone {
			return "subject or-none"
		}
		return "subject"
	case ImageMask:
		return "url(" + m.Image + ")"
	case LinearMask:
		b.WriteString("linear-gradient(")
		if m.Corner != [2]int8{} {
			b.WriteString("to " + map[int8]string{-1: "left", 1: "right"}[m.Corner[0]] + " " + map[int8]string{-1: "top", 1: "bottom"}[m.Corner[1]])
		} else {
			b.WriteString(number(m.Angle) + "deg")
		}
	case RadialMask:
		b.WriteString("radial-gradient(" + map[bool]string{true: "circle", false: "ellipse"}[m.Circle] + " ")
		switch {
		case m.Size != RadialByLength:
			b.WriteString(radialSizes[m.Size])
		case m.Circle:
			b.WriteString(m.Radii[0].times(k).text())
		default:
			b.WriteString(m.Radii[0].times(k).text() + " " + m.Radii[1].times(k).text())
		}
		b.WriteString(" at " + m.At[0].times(k).text() + " " + m.At[1].times(k).text())
	}
	for _, s := range m.Stops {
		b.WriteString(", " + plainly.Replace(string(appendColor(nil, s.Color))))
		if s.Placed {
			b.WriteString(" " + s.At.times(k).text())
		}
	}
	return b.String() + ")"
}
