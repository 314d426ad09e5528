package declare

import (
	"math"
	"slices"
	"strings"
)

// A shorthand is a name that CSS has for what other declarations of the language say: it is read, and never written.
type shorthand struct {
	name    string
	grammar string
	sets    []string // the declarations that it sets or changes
	alone   bool     // it says all of them, so that none may stand beside it in a URL
	read    func(d *Declarations, value string) (reason string)
}

var shorthands = slices.Concat(
	[]shorthand{
		{"transform", "rotate(), scale(), scaleX() and scaleY() with 1 or -1, such as rotate(90deg) scaleX(-1), or none", []string{"scale", "rotate"}, true, readTransform},
		{"object-view-box", "inset(), rect() or xywh(), such as inset(10% 20%), or none", []string{"xywh"}, true, readViewBox},
		{"background", "a colour, url(lane/path), a position and / a size, and how it repeats, such as gold url(catalogue/paper.png) center / cover",
			[]string{"background-color", "background-image", "background-position", "background-size", "background-repeat"}, false, readBackground},
		{"border-width", "one to four lengths, or thin, medium, thick", borders, false, readBorderPart(func(s *BorderSide, w string) (bool, bool) {
			v, ok := borderWidth(w)
			s.Width = v
			return ok, v >= 0 && v <= maxBorder
		})},
		{"border-style", "one to four of solid, dashed, dotted, double and none", borders, false, readBorderPart(func(s *BorderSide, w string) (ok, within bool) {
			s.Style, ok = borderStyle(w)
			return ok, true
		})},
		{"border-color", "one to four CSS colours", borders, false, readBorderPart(func(s *BorderSide, w string) (ok, within bool) {
			s.Color, ok = ParseColor(w)
			return ok, true
		})},
	},
	sides("border-", "width, style and colour, such as 4px solid gold", borders, func(d *Declarations, i int, value string) string {
		return d.changeBorder(func(b *Border) (reason string) {
			b[i], reason = parseSide(value)
			return reason
		})
	}),
	sides("padding-", "a length or a percentage of the slot's width", []string{"padding"}, func(d *Declarations, i int, value string) string {
		words := fields(value)
		if len(words) != 1 {
			return "unparsable"
		}
		v, reason := readLengths(words)
		if reason != "" {
			return reason
		}
		edge := d.PaddingEdges()
		edge[i] = v[0]
		return framePadding(&d.Padding, edge)
	}),
	corners(),
)

var borders = []string{"border"}

var shorthandNames = func() (names []string) {
	for _, s := range shorthands {
		names = append(names, s.name)
	}
	return names
}()

// shorthandOf finds a shorthand by its name in any case, nil where there is none.
func shorthandOf(name string) *shorthand {
	if i := slices.IndexFunc(shorthands, func(s shorthand) bool { return strings.EqualFold(s.name, name) }); i >= 0 {
		return &shorthands[i]
	}
	return nil
}

// mask is the set of declarations that the shorthand sets.
func (s *shorthand) mask() (set mask) {
	for _, name := range s.sets {
		set = set.or(bit(index(name)))
	}
	return set
}

// set reads the shorthand into d. Nothing of d changes where that fails.
func (s *shorthand) set(d *Declarations, value string) (reason string) {
	if isInitial(value) {
		for _, name := range s.sets {
			e := &language[index(name)]
			e.take(d, &Declarations{})
			if e.first != "" {
				e.read(d, plainly.Replace(e.first))
			}
		}
		return ""
	}
	return s.read(d, value)
}

// isInitial reports whether a value is the keyword for what a declaration says initially. No declaration here is inherited, so
// that unset says the same (CSS Cascading Level 5, section 7.3).
func isInitial(value string) bool {
	return strings.EqualFold(value, "initial") || strings.EqualFold(value, "unset")
}

func sides(prefix, grammar string, sets []string, read func(d *Declarations, i int, value string) string) (list []shorthand) {
	for i, side := range []string{"top", "right", "bottom", "left"} {
		list = append(list, shorthand{prefix + side, grammar, sets, false, func(d *Declarations, value string) string { return read(d, i, value) }})
	}
	return list
}

func corners() (list []shorthand) {
	for i, corner := range []string{"top-left", "top-right", "bottom-right", "bottom-left"} {
		list = append(list, shorthand{"border-" + corner + "-radius", "one or two lengths or percentages: across, down", []string{"border-radius"}, false, func(d *Declarations, value string) string {
			words := fields(value)
			if len(words) == 0 || len(words) > 2 {
				return "unparsable"
			}
			v, reason := readLengths(words)
			if reason != "" {
				return reason
			}
			r := d.Corners()
			r.Across[i], r.Down[i] = v[0], v[len(words)-1]
			d.Radius = r.text()
			return ""
		}})
	}
	return list
}

func (d *Declarations) changeBorder(change func(*Border) string) string {
	b := d.BorderSides()
	reason := change(&b)
	if reason == "" {
		d.Border = b.text(1)
	}
	return reason
}

// readBorderPart reads a part of all four sides.
func readBorderPart(take func(s *BorderSide, word string) (ok, within bool)) func(*Declarations, string) string {
	return func(d *Declarations, value string) string {
		words, ok := fourOf(value)
		if !ok {
			return "unparsable"
		}
		return d.changeBorder(func(b *Border) string {
			for i, w := range words {
				switch ok, within := take(&b[i], w); {
				case !ok:
					return "unparsable"
				case !within:
					return "out-of-range"
				}
			}
			return ""
		})
	}
}

// readTransform takes a <transform-list> of turns and mirrorings (CSS Transforms 1, section 11): applied to a point from the last
// one to the first, they make one mirroring and one turn after it.
func readTransform(d *Declarations, value string) string {
	if strings.EqualFold(value, "none") {
		d.Mirror, d.Turn = Mirror{Declared: true}, Turn{Declared: true}
		return ""
	}
	list := functions(value)
	if len(list) == 0 {
		return "unparsable"
	}
	var m Mirror
	turn := 0.0
	mirror := func(x, y bool) {
		if x != y { // mirrored, a turn goes the other way round
			turn = -turn
		}
		m.X, m.Y = m.X != x, m.Y != y
	}
	for i := len(list) - 1; i >= 0; i-- {
		name, args := strings.ToLower(list[i][0]), parts(list[i][1], ',')
		switch name {
		case "rotate", "rotatez":
			v, ok := ParseAngle(args[0], false)
			if !ok || len(args) != 1 || math.Abs(v) > 1e6 {
				return "unparsable"
			}
			turn += v
		case "scale", "scalex", "scaley":
			if len(args) > 2 || name != "scale" && len(args) != 1 {
				return "unparsable"
			}
			var v [2]float64
			for i, a := range args {
				var ok bool
				if v[i], ok = parseScale(a); !ok {
					return "unparsable"
				}
				if v[i] != 1 && v[i] != -1 {
					return "out-of-range"
				}
			}
			if len(args) == 1 {
				v[1] = v[0]
			}
			mirror(v[0] < 0 && name != "scaley", v[1] < 0 && name != "scalex")
		default:
			return "unparsable"
		}
	}
	if m.X && m.Y { // the same as half a turn
		m, turn = Mirror{}, turn+180
	}
	d.Mirror, d.Turn = Mirror{Declared: true, X: m.X, Y: m.Y}, turnBy(turn)
	return ""
}

// functions divides a list of functions into names and arguments; nil where it is none.
func functions(value string) (list [][2]string) {
	for rest := trim(value); rest != ""; rest = trim(rest) {
		open := strings.IndexByte(rest, '(')
		if open <= 0 {
			return nil
		}
		end, depth := -1, 0
		for i := open; i < len(rest) && end < 0; i++ {
			switch rest[i] {
			case '(':
				depth++
			case ')':
				if depth--; depth == 0 {
					end = i
				}
			}
		}
		if end < 0 {
			return nil
		}
		list = append(list, [2]string{trim(rest[:open]), trim(rest[open+1 : end])})
		rest = rest[end+1:]
	}
	return list
}

// readViewBox takes object-view-box (CSS Images 5, section 4.3) as the part that xywh names.
func readViewBox(d *Declarations, value string) string {
	if strings.EqualFold(value, "none") {
		d.XYWH = Region{}
		return ""
	}
	for _, name := range []string{"inset", "rect", "xywh"} {
		args, ok := cutFunction(strings.ToLower(value), name)
		if !ok {
			continue
		}
		words := fields(args)
		var v [4]Length
		reason := ""
		switch name {
		case "inset":
			four, ok := fourOf(args)
			if !ok {
				return "unparsable"
			}
			if reason = lengths(v[:], four[:]); reason == "" {
				v = [4]Length{v[3], v[0], rest(plus(v[1], v[3])), rest(plus(v[0], v[2]))}
			}
		case "rect":
			if v, reason = rectOf(words); reason == "" {
				v = [4]Length{v[3], v[0], plus(v[1], Length{-v[3].Px, -v[3].Part}), plus(v[2], Length{-v[0].Px, -v[0].Part})}
			}
		case "xywh":
			if len(words) != 4 {
				return "unparsable"
			}
			reason = lengths(v[:], words)
		}
		if reason == "" {
			reason = d.XYWH.set(v)
		}
		return reason
	}
	return "unparsable"
}

// readBackground takes one layer of the shorthand (CSS Backgrounds Level 3, section 2.10).
func readBackground(d *Declarations, value string) string {
	g := Declarations{PaintValues: PaintValues{Background: Color{Declared: true}}}
	var colour, image, none bool
	var place, size, repeat []string
	slash := false
	for _, w := range fields(spaced(value)) {
		lower := strings.ToLower(w)
		_, isRepeat := repeatWords[lower]
		_, isPlace := placeWords[lower]
		_, isLength := parseLength(lower, "px")
		switch {
		case w == "/":
			if slash || len(place) == 0 {
				return "unparsable"
			}
			slash = true
		case lower == "none" && !none && !image:
			none = true
		case strings.HasPrefix(lower, "url(") || IsGradient(lower):
			if image || none {
				return "unparsable"
			}
			if reason := readGroundImage(&g.BackgroundImage, w); reason != "" {
				return reason
			}
			image = true
		case isRepeat:
			repeat = append(repeat, lower)
		case slash && len(size) < 2 && (lower == "cover" || lower == "contain" || lower == "auto" || isLength):
			size = append(size, lower)
		case !slash && (isPlace || isLength && !(lower == "000" || lower == "0000")):
			place = append(place, lower)
		case lower == "scroll" || lower == "local":
		default:
			c, ok := ParseColor(w)
			if !ok || colour {
				return "unparsable"
			}
			g.Background, colour = c, true
		}
	}
	if slash && len(size) == 0 || !colour && !image && !none {
		return "unparsable"
	}
	if len(place) > 0 {
		if reason := readGroundPosition(&g.GroundPosition, strings.Join(place, " ")); reason != "" {
			return reason
		}
	}
	if len(size) > 0 {
		if reason := readGroundSize(&g.GroundSize, strings.Join(size, " ")); reason != "" {
			return reason
		}
	}
	if len(repeat) > 0 {
		if reason := readRepeats(&g.GroundRepeat, strings.Join(repeat, " ")); reason != "" {
			return reason
		}
	}
	if !colour && !d.Background.Declared { // nothing was said, and nothing is to be taken back
		g.Background = Color{}
	}
	d.Background, d.BackgroundImage, d.GroundPosition, d.GroundSize, d.GroundRepeat = g.Background, g.BackgroundImage, g.GroundPosition, g.GroundSize, g.GroundRepeat
	return ""
}

var (
	repeatWords = wordSet("repeat no-repeat space round repeat-x repeat-y")
	placeWords  = wordSet("left right top bottom center")
)

func wordSet(list string) map[string]bool {
	set := map[string]bool{}
	for _, w := range strings.Fields(list) {
		set[w] = true
	}
	return set
}

// spaced puts white space around every slash that stands in no parentheses or quotes.
func spaced(value string) string { return strings.Join(parts(value, '/'), " / ") }
