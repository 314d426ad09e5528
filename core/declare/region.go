package declare

import (
	"math"
	"strings"
)

// RegionValues are the values of the region's declarations.
type RegionValues struct {
	Orientation Orientation
	Redact      string // as Areas.text writes it; "" for none
	Erase       string // the same
	XYWH        Region
	Mirror      Mirror
	Turn        Turn
}

// What of the source is shown, before it meets the slot.
var region = []declaration{
	keywordField(declaration{name: "image-orientation", label: "Orientation", grammar: "from-image or none", passedOn: true},
		func(d *Declarations) *Orientation { return &d.Orientation }, orientations, FromImage),
	field(declaration{name: "redact", label: "Redact", example: "faces", grammar: "faces, or " + areaGrammar + "; and a colour to fill them with instead of a blur", keywords: []string{"faces"}, alters: true},
		func(d *Declarations) *string { return &d.Redact }, readRedact, appendEscaped),
	field(declaration{name: "erase", label: "Erase", example: "120,80,64,40", grammar: areaGrammar, alters: true},
		func(d *Declarations) *string { return &d.Erase }, readErase, appendEscaped),
	field(declaration{name: "xywh", label: "Part", example: "percent:10,10,50,50", grammar: "x,y,width,height in pixels, or percent: and the same in percent, such as 120,80,640,480; or faces, and how much room around them, such as faces 1.6; or subject, and how much of each side around it, such as subject 70%25", keywords: []string{"faces", "subject"}},
		func(d *Declarations) *Region { return &d.XYWH }, readRegion, appendRegion),
	field(declaration{name: "scale", grammar: "1 or -1 for each axis, such as -1 1"},
		func(d *Declarations) *Mirror { return &d.Mirror }, readMirror, appendMirror, Mirror{Declared: true}),
	field(declaration{name: "rotate", grammar: "an angle, such as 90deg, -0.125turn, 50grad or 1.5rad"},
		func(d *Declarations) *Turn { return &d.Turn }, readTurn, appendTurn, Turn{Declared: true}),
}

// ToBeFound reports whether the picture has to be looked at to know which part it is.
func (r Region) ToBeFound() bool { return r.Faces.Declared || r.Subject != 0 }

// Region is the value of xywh (Media Fragments, section 4.2.2), whose sides may also be lengths, as object-view-box has them: a
// part of the upright picture. Parts of X and W are of its width, of Y and H of its height.
type Region struct {
	Declared   bool
	X, Y, W, H Length
	Faces      FacesRegion // where it is declared, the others aren't used
	Subject    float64     // the same where it isn't 0: what part of the picture's sides a window around its subject has
}

func readRegion(to *Region, value string) string {
	bare := "px"
	lower := strings.ToLower(value)
	if words := fields(lower); len(words) > 0 && words[0] == "faces" {
		return readFaces(to, words)
	} else if len(words) > 0 && words[0] == "subject" {
		return readAroundSubject(to, words)
	}
	if rest, ok := strings.CutPrefix(lower, "percent:"); ok {
		lower, bare = rest, "%"
	} else {
		lower = strings.TrimPrefix(lower, "pixel:")
	}
	sides := parts(lower, ',')
	if len(sides) != 4 {
		return "unparsable"
	}
	var v [4]Length
	for i, side := range sides {
		l, ok := parseLength(side, bare)
		if !ok {
			return "unparsable"
		}
		v[i] = l
	}
	return to.set(v)
}

// set takes left and top edge, width and height, if they can be those of a part of some picture.
func (r *Region) set(v [4]Length) string {
	for i, l := range v {
		mixed := l.Px != 0 && l.Part != 0
		if !mixed && (l.Px < 0 || l.Part < 0 || i >= 2 && l == Length{}) || math.Abs(l.Px) > maxSide || math.Abs(l.Part) > 1 {
			return "out-of-range"
		}
	}
	*r = Region{Declared: true, X: v[0], Y: v[1], W: v[2], H: v[3]}
	return ""
}

// Of is the part of a picture of w×h pixels: its left and top edge, its width and height.
func (r Region) Of(w, h float64) (x, y, width, height float64) {
	return r.X.Of(w), r.Y.Of(h), r.W.Of(w), r.H.Of(h)
}

func appendRegion(b []byte, r Region) []byte {
	if r.Subject != 0 {
		return append(appendNumber(append(b, "subject%20"...), tidy(r.Subject*100)), "%25"...)
	}
	if r.Faces.Declared {
		if b = append(b, "faces"...); r.Faces.Room != 1 {
			b = appendNumber(append(b, "%20"...), r.Faces.Room)
		}
		return b
	}
	v := [4]Length{r.X, r.Y, r.W, r.H}
	fixed, relative := true, true
	for _, l := range v {
		fixed, relative = fixed && l.Part == 0, relative && l.Px == 0
	}
	if relative && !fixed {
		b = append(b, "percent:"...)
	}
	for i, l := range v {
		if i > 0 {
			b = append(b, ',')
		}
		switch {
		case fixed:
			b = appendNumber(b, l.Px)
		case relative:
			b = appendNumber(b, tidy(l.Part*100))
		default:
			b = appendLength(b, l)
		}
	}
	return b
}

func (r Region) String() string { return plainly.Replace(string(appendRegion(nil, r))) }

// Mirror is the value of scale: whether the picture is mirrored across (X) and down (Y).
type Mirror struct {
	Declared bool
	X, Y     bool
}

func readMirror(to *Mirror, value string) string {
	if strings.EqualFold(value, "none") {
		*to = Mirror{Declared: true}
		return ""
	}
	axes := fields(value)
	if len(axes) == 1 {
		axes = append(axes, axes[0])
	}
	if len(axes) != 2 {
		return "unparsable"
	}
	m := Mirror{Declared: true}
	for i, to := range []*bool{&m.X, &m.Y} {
		v, ok := parseScale(axes[i])
		if !ok {
			return "unparsable"
		}
		if v != 1 && v != -1 {
			return "out-of-range"
		}
		*to = v < 0
	}
	*to = m
	return ""
}

// parseScale reads a number or a percentage (CSS Transforms 2, section 5.2).
func parseScale(s string) (float64, bool) {
	if t, ok := strings.CutSuffix(s, "%"); ok {
		v, ok := cssNumber(t)
		return v / 100, ok
	}
	return cssNumber(s)
}

func appendMirror(b []byte, m Mirror) []byte {
	word := map[bool]string{false: "1", true: "-1"}
	return append(append(append(b, word[m.X]...), "%20"...), word[m.Y]...)
}

// Turn is the value of rotate: clockwise, in degrees, 0 to below 360.
type Turn struct {
	Declared bool
	Degrees  float64
}

func readTurn(to *Turn, value string) string {
	if strings.EqualFold(value, "none") {
		*to = Turn{Declared: true}
		return ""
	}
	v, ok := ParseAngle(value, false)
	if !ok {
		return "unparsable"
	}
	if math.Abs(v) > 1e6 {
		return "out-of-range"
	}
	*to = turnBy(v)
	return ""
}

func turnBy(degrees float64) Turn {
	v := math.Mod(degrees, 360)
	if v < 0 {
		v += 360
	}
	v = math.Round(v*1e6) / 1e6 // a turn of an eighth in radians is the one in degrees
	if v >= 360 {
		v = 0
	}
	return Turn{true, v + 0}
}

func appendTurn(b []byte, t Turn) []byte { return append(appendNumber(b, t.Degrees), "deg"...) }

// Orientation is the value of image-orientation (CSS Images Level 3, section 6.2).
type Orientation uint8

// The values of image-orientation.
const (
	OrientationUnset Orientation = iota
	FromImage                    // the initial value: upright, as the source's Exif data says
	AsStored                     // none: as the pixels are stored
)

var orientations = []string{FromImage: "from-image", AsStored: "none"}

func (o Orientation) String() string { return keyword(orientations, int(o)) }

// Of gives the orientation, 1 to 8, that a source of this media type is painted in, where stored is what it says of itself.
// AVIF turns as a part of its coding, which isn't Exif's to say.
func (o Orientation) Of(mediaType string, stored int) int {
	if o == AsStored && mediaType != AVIF.MediaType() {
		return 1
	}
	return stored
}
