package declare

import (
	"math"
	"strings"
)

// GeometryValues are the values of the geometry's declarations.
type GeometryValues struct {
	Width      float64 // slot width in CSS pixels, 1–65535; 0: not declared
	Height     float64 // slot height in CSS pixels, 1–65535; 0: not declared
	Aspect     Ratio   // shape of the slot; the zero Ratio: not declared
	Resolution float64 // device pixels to a CSS pixel, 0.5–4; 0: not declared
	Fit        Fit
	Position   Position
	Grow       Grow
	Rendering  Rendering
}

// The slot, and how the picture meets it.
var geometry = []declaration{
	field(declaration{name: "width", grammar: "a length in CSS pixels from 1 to 65535, such as 480, 480px or 30rem, or auto", script: "px"},
		func(d *Declarations) *float64 { return &d.Width }, readSlotSide, appendNumber),
	field(declaration{name: "height", grammar: "a length in CSS pixels from 1 to 65535, such as 320, 320px or 20rem, or auto", script: "px"},
		func(d *Declarations) *float64 { return &d.Height }, readSlotSide, appendNumber),
	field(declaration{name: "aspect-ratio", grammar: "width/height or one number, such as 4/3 or 1.91, from 1/1000 to 1000", script: "ratio"},
		func(d *Declarations) *Ratio { return &d.Aspect }, readRatio, appendRatio),
	field(declaration{name: "resolution", grammar: "0.5x to 4x, such as 2x, 2dppx or 192dpi", script: "dppx"},
		func(d *Declarations) *float64 { return &d.Resolution }, readResolution, appendResolution, 1),
	keywordField(declaration{name: "object-fit", grammar: "fill, cover, contain, none or scale-down"},
		func(d *Declarations) *Fit { return &d.Fit }, fits, Fill),
	field(declaration{name: "object-position", grammar: "one to four values, such as left top, 75 20, 10px 50% or right 10px bottom 20px; or subject, faces or detail",
		keywords: []string{"left", "right", "top", "bottom", "center", "subject", "detail", "faces"}},
		func(d *Declarations) *Position { return &d.Position }, readPosition, appendPosition, Position{Declared: true, X: Length{Part: 0.5}, Y: Length{Part: 0.5}}),
	keywordField(declaration{name: "grow", grammar: "no or yes"},
		func(d *Declarations) *Grow { return &d.Grow }, grows, GrowNo),
	keywordField(declaration{name: "image-rendering", label: "Rendering", grammar: "auto or pixelated", passedOn: true},
		func(d *Declarations) *Rendering { return &d.Rendering }, renderings, RenderingAuto),
}

const maxSide = 65535

func readSlotSide(to *float64, value string) string {
	if strings.EqualFold(value, "auto") {
		return ""
	}
	l, ok := parseLength(value, "px")
	if !ok || l.Part != 0 {
		return "unparsable"
	}
	if !(l.Px >= 1 && l.Px <= maxSide) {
		return "out-of-range"
	}
	*to = l.Px
	return ""
}

// A Ratio is a CSS <ratio>, W to H, both positive. The zero value means none.
type Ratio struct{ W, H float64 }

// IsZero reports whether no ratio is declared.
func (r Ratio) IsZero() bool { return r.W == 0 }

// Value is the ratio as one number, width ÷ height.
func (r Ratio) Value() float64 { return r.W / r.H }

func (r Ratio) String() string {
	if r.H == 1 {
		return number(r.W)
	}
	return number(r.W) + "/" + number(r.H)
}

func readRatio(to *Ratio, value string) string {
	if len(value) >= 4 && strings.EqualFold(value[:4], "auto") {
		value = trim(value[4:])
	} else if n := len(value) - 4; n > 0 && strings.EqualFold(value[n:], "auto") {
		value = trim(value[:n])
	}
	if value == "" {
		return ""
	}
	left, right, two := strings.Cut(value, "/")
	w, ok := cssNumber(strings.TrimSpace(left))
	h, ok2 := 1.0, true
	if two {
		h, ok2 = cssNumber(strings.TrimSpace(right))
	}
	if !ok || !ok2 {
		return "unparsable"
	}
	if !(w > 0 && h > 0 && w <= maxSide && h <= maxSide && w/h >= 1.0/1000 && w/h <= 1000) {
		return "out-of-range"
	}
	if w == math.Trunc(w) && h == math.Trunc(h) {
		g := gcd(int(w), int(h))
		w, h = w/float64(g), h/float64(g)
	}
	*to = Ratio{w, h}
	return ""
}

func gcd(a, b int) int {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}

func appendRatio(b []byte, r Ratio) []byte {
	b = appendNumber(b, r.W)
	if r.H != 1 {
		b = appendNumber(append(b, '/'), r.H)
	}
	return b
}

// densities are the units of a <resolution> in device pixels to a CSS pixel (CSS Values 4, section 7.4).
var densities = []struct {
	unit string
	dppx float64
}{{"dppx", 1}, {"dpi", 1.0 / 96}, {"dpcm", 2.54 / 96}, {"x", 1}}

func readResolution(to *float64, value string) string {
	for _, u := range densities {
		n := len(value) - len(u.unit)
		if n < 1 || !strings.EqualFold(value[n:], u.unit) {
			continue
		}
		v, ok := cssNumber(value[:n])
		if !ok {
			return "unparsable"
		}
		if u.dppx != 1 {
			v = tidy(v * u.dppx)
		}
		if !(v >= 0.5 && v <= 4) {
			return "out-of-range"
		}
		*to = v
		return ""
	}
	return "unparsable"
}

func appendResolution(b []byte, v float64) []byte { return append(appendNumber(b, v), 'x') }

// Fit is the value of object-fit.
type Fit uint8

// The values of object-fit.
const (
	FitUnset Fit = iota
	Fill         // CSS's initial value
	Cover
	Contain
	None
	ScaleDown
)

var fits = []string{Fill: "fill", Cover: "cover", Contain: "contain", None: "none", ScaleDown: "scale-down"}

func (f Fit) String() string { return keyword(fits, int(f)) }

// Position is the value of object-position. The zero Position means not declared: the centre.
type Position struct {
	Declared bool
	Focus    FocusMode // where it isn't NoFocus, X and Y are not used
	X, Y     Length    // from the left and top edge of the slot; parts are of what the slot is longer than the picture
}

// FocusMode says whether a position follows the picture's content.
type FocusMode uint8

// What a position may follow.
const (
	NoFocus FocusMode = iota
	Subject           // what the picture is of
	Detail            // its busiest part
	Faces             // its faces, else what it is of
)

var focusModes = []string{Subject: "subject", Detail: "detail", Faces: "faces"}

// readPosition reads a CSS <position> of one to four values (CSS Values Level 4, section 8.3).
func readPosition(to *Position, value string) string {
	words := fields(strings.ToLower(value))
	edge := map[string]struct {
		across, down bool
		part         float64
	}{"left": {true, false, 0}, "right": {true, false, 1}, "top": {false, true, 0}, "bottom": {false, true, 1}, "center": {true, true, 0.5}}
	p := Position{Declared: true, X: Length{Part: 0.5}, Y: Length{Part: 0.5}}
	if len(words) == 1 {
		if a := find(focusModes, words[0]); a != 0 {
			*to = Position{Declared: true, Focus: FocusMode(a)}
			return ""
		}
	}
	isWord := func(s string) bool { _, ok := edge[s]; return ok }
	switch len(words) {
	case 1:
		if e, ok := edge[words[0]]; ok {
			if e.across {
				p.X = Length{Part: e.part}
			} else {
				p.Y = Length{Part: e.part}
			}
			break
		}
		l, ok := parseLength(words[0], "%")
		if !ok {
			return "unparsable"
		}
		p.X = l
	case 2:
		a, b := words[0], words[1]
		if ea, eb := edge[a], edge[b]; isWord(a) && isWord(b) && (!ea.across || !eb.down) { // top left, and the like
			a, b = b, a
		}
		for i, w := range []string{a, b} {
			to := []*Length{&p.X, &p.Y}[i]
			if e, ok := edge[w]; ok {
				if i == 0 && !e.across || i == 1 && !e.down {
					return "unparsable"
				}
				*to = Length{Part: e.part}
				continue
			}
			l, ok := parseLength(w, "%")
			if !ok {
				return "unparsable"
			}
			*to = l
		}
	case 3, 4:
		// Each axis is an edge, with an offset from it or without.
		var hasX, hasY bool
		for i := 0; i < len(words); {
			e, ok := edge[words[i]]
			if !ok {
				return "unparsable"
			}
			offset := Length{}
			hasOffset := i+1 < len(words) && !isWord(words[i+1])
			if hasOffset {
				if offset, ok = parseLength(words[i+1], "%"); !ok || words[i] == "center" {
					return "unparsable"
				}
			}
			at := Length{Part: e.part + offset.Part, Px: offset.Px}
			if e.part == 1 {
				at = Length{Part: tidy(100-100*offset.Part) / 100, Px: 0 - offset.Px}
			}
			switch {
			case words[i] == "center" && hasX:
				hasY, p.Y = true, at
			case words[i] == "center":
				// the axis that the other edge leaves over
				if other := words[len(words)-2]; i == 0 && (edge[other].across && !edge[other].down) {
					hasY, p.Y = true, at
				} else {
					hasX, p.X = true, at
				}
			case e.across && !hasX:
				hasX, p.X = true, at
			case e.down && !e.across && !hasY:
				hasY, p.Y = true, at
			default:
				return "unparsable"
			}
			i++
			if hasOffset {
				i++
			}
		}
		if !hasX || !hasY {
			return "unparsable"
		}
	default:
		return "unparsable"
	}
	*to = p
	return ""
}

// appendPosition writes two values, or edges with offsets where an axis is measured from both ends.
func appendPosition(b []byte, p Position) []byte {
	if p.Focus != NoFocus {
		return append(b, focusModes[p.Focus]...)
	}
	one := func(b []byte, l Length) []byte {
		if l.Px == 0 { // a bare number is percent
			return appendNumber(b, tidy(l.Part*100))
		}
		return appendLength(b, l)
	}
	far := func(l Length) bool { return l.Part == 1 && l.Px != 0 }
	if !far(p.X) && !far(p.Y) {
		return one(append(one(b, p.X), "%20"...), p.Y)
	}
	edge := func(b []byte, l Length, start, end string) []byte {
		if far(l) {
			return append(appendNumber(append(append(b, end...), "%20"...), -l.Px), "px"...)
		}
		return one(append(append(b, start...), "%20"...), l)
	}
	b = edge(b, p.X, "left", "right")
	return edge(append(b, "%20"...), p.Y, "top", "bottom")
}

// Drawing is the media type of drawings (SVG), which have no pixels of their own.
const Drawing = "image/svg+xml"

// For are the declarations as they hold for a source of a media type: a drawing is as sharp at any size, so that it grows
// whatever grow says.
func (d Declarations) For(mediaType string) Declarations {
	if mediaType == Drawing {
		d.Grow = GrowYes
	}
	return d
}

// Grow is the value of grow: whether the picture may be scaled above its natural pixels.
type Grow uint8

// The values of grow.
const (
	GrowUnset Grow = iota
	GrowNo         // the initial value
	GrowYes
)

var grows = []string{GrowNo: "no", GrowYes: "yes"}

func (g Grow) String() string { return keyword(grows, int(g)) }

// Rendering is the value of image-rendering (CSS Images Level 3, section 6.1).
type Rendering uint8

// The values of image-rendering.
const (
	RenderingUnset Rendering = iota
	RenderingAuto            // the initial value: as smooth as can be
	Pixelated                // each pixel is the source's nearest
)

var renderings = []string{RenderingAuto: "auto", Pixelated: "pixelated"}

func (r Rendering) String() string { return keyword(renderings, int(r)) }
