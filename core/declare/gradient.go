package declare

import (
	"math"
	"strings"
)

// A Gradient is a colour that changes along a line, from a middle outwards, or around it (CSS Images Level 3, section 3, and Level 4,
// section 3.3).
type Gradient struct {
	Kind    GradientKind
	Repeats bool       // its stops, over and over
	Angle   float64    // of a linear one: clockwise from upwards, in degrees; of a conic one where it begins
	Corner  [2]int8    // or the corner that a linear one goes to: −1 or 1 across and down
	Circle  bool       // of a radial one: its shape isn't an ellipse
	Size    RadialSize // how far it reaches
	Radii   [2]Length  // where Size is by length: across, down
	At      [2]Length  // the middle of a radial or conic one, from the left and top edge
	Stops   []GradientStop
}

// A GradientStop is a colour on a gradient. Where it isn't Placed, it lies between those beside it.
type GradientStop struct {
	Color  Color
	Placed bool
	At     Length // parts are of the gradient's line, or of the whole turn
	Hint   bool   // it is no colour, but where the two beside it are mixed in halves
}

// GradientKind is the shape of a gradient.
type GradientKind uint8

// The kinds.
const (
	LinearGradient GradientKind = iota
	RadialGradient
	ConicGradient
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

const maxGradientStops = 64

// gradientGrammar says how gradients are written.
const gradientGrammar = "linear-gradient(), radial-gradient() or conic-gradient(), also with repeating- before"

// IsGradient reports whether a picture's name is a gradient.
func IsGradient(name string) bool {
	head, _, ok := strings.Cut(name, "-gradient(")
	return ok && !strings.Contains(head, "/")
}

// ParseGradient reads a gradient; ok is false where it is none.
func ParseGradient(value string) (g Gradient, ok bool) {
	g, reason := parseGradient(strings.ToLower(strings.TrimSpace(value)))
	return g, reason == ""
}

// parseGradient reads one, in lower case.
func parseGradient(value string) (g Gradient, reason string) {
	rest, repeats := strings.CutPrefix(value, "repeating-")
	g.Repeats = repeats
	for _, f := range []struct {
		name string
		read func(*Gradient, []string) []string
	}{{"linear-gradient", (*Gradient).linear}, {"radial-gradient", (*Gradient).radial}, {"conic-gradient", (*Gradient).conic}} {
		args, ok := cutFunction(rest, f.name)
		if !ok {
			continue
		}
		stops := f.read(&g, parts(args, ','))
		if stops == nil {
			return g, "unparsable"
		}
		return g, g.stops(stops)
	}
	return g, "unparsable"
}

// conic reads where a conic gradient begins, and its middle, and gives what is left.
func (g *Gradient) conic(args []string) []string {
	g.Kind, g.At = ConicGradient, [2]Length{{Part: 0.5}, {Part: 0.5}}
	words := fields(args[0])
	if len(words) == 0 {
		return nil
	}
	said := false
	if words[0] == "from" && len(words) > 1 {
		v, ok := ParseAngle(words[1], false)
		if !ok || math.Abs(v) > 1e6 {
			return nil
		}
		g.Angle, words, said = turnBy(v).Degrees, words[2:], true
	}
	if len(words) > 0 && words[0] == "at" {
		var p Position
		if readPosition(&p, strings.Join(words[1:], " ")) != "" || p.Focus != NoFocus {
			return nil
		}
		g.At, words, said = [2]Length{p.X, p.Y}, nil, true
	}
	switch {
	case said && len(words) > 0:
		return nil
	case said:
		return args[1:]
	}
	return args
}

// linear reads where a gradient goes, and gives what is left.
func (g *Gradient) linear(args []string) []string {
	g.Kind, g.Angle = LinearGradient, 180
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
			g.Corner = [2]int8{across, down}
		case across != 0:
			g.Angle = map[int8]float64{-1: 270, 1: 90}[across]
		case down != 0:
			g.Angle = map[int8]float64{-1: 0, 1: 180}[down]
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
			g.Angle = turnBy(v).Degrees
			return args[1:]
		}
	}
	return args
}

// radial reads shape, size and middle of a gradient, and gives what is left.
func (g *Gradient) radial(args []string) []string {
	g.Kind, g.At = RadialGradient, [2]Length{{Part: 0.5}, {Part: 0.5}}
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
		g.At, words = [2]Length{p.X, p.Y}, words[:i]
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
			g.Size, sized = RadialSize(size), true
			continue
		}
		l, ok := parseLength(w, "px")
		if !ok || l.Px < 0 || l.Part < 0 || sized || len(radii) == 2 {
			return nil
		}
		radii = append(radii, l)
	}
	g.Circle = shape == "circle" || shape == "" && len(radii) == 1
	switch {
	case len(radii) == 1 && g.Circle && radii[0].Part == 0:
		g.Size, g.Radii = RadialByLength, [2]Length{radii[0], radii[0]}
	case len(radii) == 2 && !g.Circle:
		g.Size, g.Radii = RadialByLength, [2]Length{radii[0], radii[1]}
	case len(radii) > 0:
		return nil
	}
	return args[1:]
}

func (g *Gradient) stops(args []string) string {
	place := func(w string) (Length, bool) {
		if g.Kind == ConicGradient {
			if v, ok := ParseAngle(w, false); ok {
				return Length{Part: v / 360}, math.Abs(v) <= 3.6e5
			}
		}
		l, ok := parseLength(w, "px")
		return l, ok && math.Abs(l.Px) <= maxLength && math.Abs(l.Part) <= 1000 && (g.Kind != ConicGradient || l.Px == 0)
	}
	for i, arg := range args {
		words := fields(arg)
		if len(words) == 0 || len(words) > 3 {
			return "unparsable"
		}
		var c Color
		if readColor(&c, words[0]) != "" {
			l, ok := place(words[0]) // a hint, between two colours
			if !ok || len(words) != 1 || i == 0 || i == len(args)-1 || g.Stops[len(g.Stops)-1].Hint {
				return "unparsable"
			}
			g.Stops = append(g.Stops, GradientStop{Placed: true, At: l, Hint: true})
			continue
		}
		if len(words) == 1 {
			g.Stops = append(g.Stops, GradientStop{Color: c})
		}
		for _, w := range words[1:] {
			l, ok := place(w)
			if !ok {
				return "unparsable"
			}
			g.Stops = append(g.Stops, GradientStop{Color: c, Placed: true, At: l})
		}
	}
	colours := 0
	for _, s := range g.Stops {
		if !s.Hint {
			colours++
		}
	}
	switch {
	case colours < 2:
		return "unparsable"
	case len(g.Stops) > maxGradientStops:
		return "out-of-range"
	}
	return ""
}

// Opaque reports whether nothing shows through anywhere.
func (g *Gradient) Opaque() bool {
	for _, s := range g.Stops {
		if !s.Hint && !s.Color.Opaque() {
			return false
		}
	}
	return true
}

// text writes the gradient the one way, its lengths multiplied by k.
func (g Gradient) text(k float64) string {
	var b strings.Builder
	if g.Repeats {
		b.WriteString("repeating-")
	}
	place := func() { b.WriteString(" at " + g.At[0].times(k).text() + " " + g.At[1].times(k).text()) }
	switch g.Kind {
	case LinearGradient:
		b.WriteString("linear-gradient(")
		if g.Corner != [2]int8{} {
			b.WriteString("to " + map[int8]string{-1: "left", 1: "right"}[g.Corner[0]] + " " + map[int8]string{-1: "top", 1: "bottom"}[g.Corner[1]])
		} else {
			b.WriteString(number(g.Angle) + "deg")
		}
	case RadialGradient:
		b.WriteString("radial-gradient(" + map[bool]string{true: "circle", false: "ellipse"}[g.Circle] + " ")
		switch {
		case g.Size != RadialByLength:
			b.WriteString(radialSizes[g.Size])
		case g.Circle:
			b.WriteString(g.Radii[0].times(k).text())
		default:
			b.WriteString(g.Radii[0].times(k).text() + " " + g.Radii[1].times(k).text())
		}
		place()
	case ConicGradient:
		b.WriteString("conic-gradient(from " + number(g.Angle) + "deg")
		place()
	}
	for _, s := range g.Stops {
		b.WriteString(",")
		if !s.Hint {
			b.WriteString(" " + plainly.Replace(string(appendColor(nil, s.Color))))
		}
		if s.Placed {
			b.WriteString(" " + s.At.times(k).text())
		}
	}
	return b.String() + ")"
}
