package declare

import "strings"

// A Shape is a <basic-shape> in its reference box (CSS Shapes Level 1, section 3). Parts across are of the box's width, down of
// its height; of a circle's radius, of √(w² + h²) ÷ √2.
type Shape struct {
	Kind    ShapeKind
	Box     ShapeBox
	Edge    [4]Length   // of an inset: how far in from top, right, bottom, left
	Round   Radius      // of an inset
	Radii   [2]Extent   // of a circle, twice the same, and of an ellipse: across, down
	At      [2]Length   // their middle, from the left and top edge
	EvenOdd bool        // how a polygon that crosses itself is filled
	Points  [][2]Length // of a polygon
}

// ShapeKind is which shape it is.
type ShapeKind uint8

// The shapes.
const (
	NoShape ShapeKind = iota
	InsetShape
	Circle
	Ellipse
	Polygon
)

// ShapeBox is the box that a shape is measured in.
type ShapeBox uint8

// The boxes: the whole slot, without its border, without its padding too.
const (
	BorderBox ShapeBox = iota // initially
	PaddingBox
	ContentBox
)

var shapeBoxes = []string{BorderBox: "border-box", PaddingBox: "padding-box", ContentBox: "content-box"}

// Extent is a radius: a length, or how far the nearest or the farthest side is.
type Extent struct {
	Length
	Side ExtentSide
}

// ExtentSide says which side a radius reaches to.
type ExtentSide uint8

// The sides that a radius may reach to.
const (
	ByLength    ExtentSide = iota
	ClosestSide            // initially
	FarthestSide
)

const maxPoints = 256

var shapeWords = []string{"inset()", "circle()", "ellipse()", "polygon()", "none"}

func readShape(to *string, value string) string {
	s, reason := parseShape(value)
	if reason == "" {
		*to = s.text(1)
	}
	return reason
}

// ClipShape is the shape of clip-path.
func (d *Declarations) ClipShape() Shape {
	s, _ := parseShape(d.Clip) // it was checked when it was declared
	return s
}

// parseShape reads a shape and a box in any order, or none.
func parseShape(value string) (s Shape, reason string) {
	if value == "" || strings.EqualFold(value, "none") {
		return s, ""
	}
	boxed := false
	for _, w := range fields(strings.ToLower(value)) {
		if w == "margin-box" || w == "fill-box" || w == "stroke-box" || w == "view-box" { // the border box, of an image
			w = shapeBoxes[BorderBox]
		}
		box := -1
		for i, name := range shapeBoxes {
			if w == name {
				box = i
			}
		}
		switch {
		case box >= 0 && !boxed:
			s.Box, boxed = ShapeBox(box), true
		case box >= 0 || s.Kind != NoShape:
			return s, "unparsable"
		default:
			if reason = s.function(w); reason != "" {
				return s, reason
			}
		}
	}
	if s.Kind == NoShape { // a box alone: its rounded edge
		s.Kind = InsetShape
	}
	return s, ""
}

func (s *Shape) function(w string) string {
	for _, f := range []struct {
		name string
		read func(string) string
	}{{"inset", s.inset}, {"rect", s.rect}, {"xywh", s.xywh}, {"circle", s.circle}, {"ellipse", s.ellipse}, {"polygon", s.polygon}} {
		if args, ok := cutFunction(w, f.name); ok {
			return f.read(args)
		}
	}
	return "unparsable"
}

// edges reads four values, and what stands behind `round`.
func (s *Shape) edges(args string, read func(words []string) string) string {
	s.Kind = InsetShape
	words := fields(args)
	for i, w := range words {
		if w == "round" {
			if reason := readRadius(&s.Round, strings.Join(words[i+1:], " ")); reason != "" {
				return reason
			}
			words = words[:i]
			break
		}
	}
	return read(words)
}

func (s *Shape) inset(args string) string {
	return s.edges(args, func(words []string) string {
		four, ok := fourOf(strings.Join(words, " "))
		if !ok {
			return "unparsable"
		}
		return lengths(s.Edge[:], four[:])
	})
}

func (s *Shape) rect(args string) string {
	return s.edges(args, func(words []string) string {
		v, reason := rectOf(words)
		if reason == "" { // right and bottom are measured from the left and the top
			s.Edge = [4]Length{v[0], rest(v[1]), rest(v[2]), v[3]}
		}
		return reason
	})
}

func (s *Shape) xywh(args string) string {
	return s.edges(args, func(words []string) string {
		var v [4]Length
		if len(words) != 4 {
			return "unparsable"
		}
		if reason := lengths(v[:], words); reason != "" {
			return reason
		}
		s.Edge = [4]Length{v[1], rest(plus(v[0], v[2])), rest(plus(v[1], v[3])), v[0]}
		return ""
	})
}

// rectOf reads the edges of rect(): top, right, bottom, left, from the top and the left edge of the box.
func rectOf(words []string) (v [4]Length, reason string) {
	if len(words) != 4 {
		return v, "unparsable"
	}
	auto := [4]string{"0px", "100%", "100%", "0px"}
	for i, w := range words {
		if w == "auto" {
			words[i] = auto[i]
		}
	}
	return v, lengths(v[:], words)
}

func plus(a, b Length) Length {
	return Length{tidy(a.Px + b.Px), tidy(100*(a.Part+b.Part)) / 100}
}

// rest is what a length leaves of the whole.
func rest(l Length) Length { return plus(Length{Part: 1}, Length{-l.Px, -l.Part}) }

func lengths(to []Length, words []string) string {
	for i, w := range words {
		l, ok := parseLength(w, "px")
		if !ok {
			return "unparsable"
		}
		to[i] = l
	}
	return ""
}

// centre reads `at <position>`, which words may end with, and gives what stands before it.
func (s *Shape) centre(args string) (before []string, reason string) {
	s.At = [2]Length{{Part: 0.5}, {Part: 0.5}}
	words := fields(args)
	for i, w := range words {
		if w == "at" {
			var p Position
			if reason := readPosition(&p, strings.Join(words[i+1:], " ")); reason != "" {
				return nil, reason
			}
			if p.Focus != NoFocus {
				return nil, "unparsable"
			}
			s.At = [2]Length{p.X, p.Y}
			return words[:i], ""
		}
	}
	return words, ""
}

func (e *Extent) read(word string) string {
	switch word {
	case "closest-side":
		*e = Extent{Side: ClosestSide}
		return ""
	case "farthest-side":
		*e = Extent{Side: FarthestSide}
		return ""
	}
	l, ok := parseLength(word, "px")
	if !ok {
		return "unparsable"
	}
	if l.Px < 0 && l.Part <= 0 || l.Part < 0 && l.Px <= 0 {
		return "out-of-range"
	}
	*e = Extent{Length: l}
	return ""
}

func (s *Shape) circle(args string) string {
	s.Kind, s.Radii = Circle, [2]Extent{{Side: ClosestSide}, {Side: ClosestSide}}
	words, reason := s.centre(args)
	if reason == "" && len(words) == 1 {
		reason = s.Radii[0].read(words[0])
		s.Radii[1] = s.Radii[0]
	} else if len(words) > 1 {
		return "unparsable"
	}
	return reason
}

func (s *Shape) ellipse(args string) string {
	s.Kind, s.Radii = Ellipse, [2]Extent{{Side: ClosestSide}, {Side: ClosestSide}}
	words, reason := s.centre(args)
	if reason != "" || len(words) == 0 {
		return reason
	}
	if len(words) != 2 {
		return "unparsable"
	}
	for i, w := range words {
		if reason := s.Radii[i].read(w); reason != "" {
			return reason
		}
	}
	return ""
}

func (s *Shape) polygon(args string) string {
	s.Kind = Polygon
	points := parts(args, ',')
	switch points[0] {
	case "nonzero":
		points = points[1:]
	case "evenodd":
		s.EvenOdd, points = true, points[1:]
	}
	if len(points) > maxPoints {
		return "out-of-range"
	}
	for _, p := range points {
		words := fields(p)
		if len(words) != 2 {
			return "unparsable"
		}
		var v [2]Length
		if reason := lengths(v[:], words); reason != "" {
			return reason
		}
		s.Points = append(s.Points, v)
	}
	if len(s.Points) < 3 {
		return "unparsable"
	}
	return ""
}

// text writes the shape the one way, its lengths multiplied by k.
func (s Shape) text(k float64) string {
	var b strings.Builder
	write := func(l Length) { b.WriteString(l.times(k).text()) }
	switch s.Kind {
	case NoShape:
		return "none"
	case InsetShape:
		b.WriteString("inset(")
		var four [4]Length
		for i, l := range s.Edge {
			four[i] = l.times(k)
		}
		b.WriteString(plainly.Replace(string(appendFour(nil, four))))
		if s.Round.Round() {
			b.WriteString(" round " + plainly.Replace(string(appendRadius(nil, s.Round.times(k)))))
		}
	case Circle, Ellipse:
		b.WriteString(map[ShapeKind]string{Circle: "circle(", Ellipse: "ellipse("}[s.Kind])
		for i, e := range s.Radii {
			if s.Kind == Circle && i == 1 {
				break
			}
			switch e.Side {
			case ClosestSide:
				b.WriteString("closest-side ")
			case FarthestSide:
				b.WriteString("farthest-side ")
			default:
				write(e.Length)
				b.WriteByte(' ')
			}
		}
		b.WriteString("at ")
		write(s.At[0])
		b.WriteByte(' ')
		write(s.At[1])
	case Polygon:
		b.WriteString("polygon(")
		if s.EvenOdd {
			b.WriteString("evenodd, ")
		}
		for i, p := range s.Points {
			if i > 0 {
				b.WriteString(", ")
			}
			write(p[0])
			b.WriteByte(' ')
			write(p[1])
		}
	}
	b.WriteByte(')')
	if s.Box != BorderBox {
		b.WriteString(" " + shapeBoxes[s.Box])
	}
	return b.String()
}
