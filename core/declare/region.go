package declare

import (
	"math"
	"strings"
)

// RegionValues are the values of the region's declarations.
type RegionValues struct {
	Orientation Orientation
	XYWH        Region
	Mirror      Mirror
	Turn        Turn
}

// What of the source is shown, before it meets the slot.
var region = []declaration{
	keywordField(declaration{name: "image-orientation", label: "Orientation", grammar: "from-image or none", passedOn: true},
		func(d *Declarations) *Orientation { return &d.Orientation }, orientations, FromImage),
	field(declaration{name: "xywh", label: "Part", example: "percent:10,10,50,50", grammar: "x,y,width,height in pixels, or percent: and the same in percent, such as 120,80,640,480"},
		func(d *Declarations) *Region { return &d.XYWH }, readRegion, appendRegion),
	field(declaration{name: "scale", grammar: "1 or -1 for each axis, such as -1 1"},
		func(d *Declarations) *Mirror { return &d.Mirror }, readMirror, appendMirror, Mirror{Declared: true}),
	field(declaration{name: "rotate", grammar: "an angle, such as 90deg, -0.125turn, 50grad or 1.5rad"},
		func(d *Declarations) *Turn { return &d.Turn }, readTurn, appendTurn, Turn{Declared: true}),
}

// Region is the value of xywh (Media Fragments, section 4.2.2): a part of the upright picture.
type Region struct {
	Declared   bool
	Percent    bool
	X, Y, W, H float64
}

func readRegion(to *Region, value string) string {
	r := Region{Declared: true}
	value = strings.ToLower(value)
	if rest, ok := strings.CutPrefix(value, "percent:"); ok {
		r.Percent, value = true, rest
	} else {
		value = strings.TrimPrefix(value, "pixel:")
	}
	parts := strings.Split(value, ",")
	if len(parts) != 4 {
		return "unparsable"
	}
	for i, to := range []*float64{&r.X, &r.Y, &r.W, &r.H} {
		v, ok := cssNumber(strings.TrimSpace(parts[i]))
		if !ok {
			return "unparsable"
		}
		if v < 0 || v > maxSide || r.Percent && v > 100 || i >= 2 && v == 0 {
			return "out-of-range"
		}
		*to = v
	}
	*to = r
	return ""
}

func appendRegion(b []byte, r Region) []byte {
	if r.Percent {
		b = append(b, "percent:"...)
	}
	for i, v := range []float64{r.X, r.Y, r.W, r.H} {
		if i > 0 {
			b = append(b, ',')
		}
		b = appendNumber(b, v)
	}
	return b
}

func (r Region) String() string { return string(appendRegion(nil, r)) }

// Mirror is the value of scale: whether the picture is mirrored across (X) and down (Y).
type Mirror struct {
	Declared bool
	X, Y     bool
}

func readMirror(to *Mirror, value string) string {
	parts := strings.Fields(value)
	if len(parts) == 1 {
		parts = append(parts, parts[0])
	}
	if len(parts) != 2 {
		return "unparsable"
	}
	m := Mirror{Declared: true}
	for i, to := range []*bool{&m.X, &m.Y} {
		v, ok := cssNumber(parts[i])
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
	v, ok := ParseAngle(value, false)
	if !ok {
		return "unparsable"
	}
	if math.Abs(v) > 1e6 {
		return "out-of-range"
	}
	v = math.Mod(v, 360)
	if v < 0 {
		v += 360
	}
	v = math.Round(v*1e6) / 1e6 // a turn of an eighth in radians is the one in degrees
	if v >= 360 {
		v = 0
	}
	*to = Turn{true, v + 0}
	return ""
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
