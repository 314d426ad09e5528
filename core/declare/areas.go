package declare

import (
	"math"
	"strings"
)

// Areas is the value of redact and of erase: which places of the upright picture are meant, and what they are filled with.
type Areas struct {
	Faces  bool // the faces in it, too
	Places []Area
	Fill   Color // of redact; where it isn't declared, a blur of what was there
}

// An Area is one place: a part, or a polygon whose lengths are of the picture.
type Area struct {
	Region  Region
	Polygon Shape // where its Kind is Polygon
}

// maxAreas is how many places may be named at once.
const maxAreas = 64

const areaGrammar = "x,y,width,height in pixels, or percent: and the same in percent, or polygon(), several with a space between"

func readRedact(to *string, value string) string {
	return readAreas(to, value, func(a *Areas, word string) string {
		if word == "faces" {
			a.Faces = true
			return ""
		}
		if a.Fill.Declared {
			return "unparsable"
		}
		return readColor(&a.Fill, word)
	})
}

func readErase(to *string, value string) string {
	return readAreas(to, value, func(*Areas, string) string { return "unparsable" })
}

func readAreas(to *string, value string, other func(*Areas, string) string) string {
	a, reason := parseAreas(value, other)
	if reason == "" {
		*to = a.text()
	}
	return reason
}

// parseAreas reads places, and gives other what is none.
func parseAreas(value string, other func(*Areas, string) string) (a Areas, reason string) {
	for _, word := range fields(strings.ToLower(value)) {
		var area Area
		switch {
		case strings.HasPrefix(word, "polygon("):
			if area.Polygon, reason = parseShape(word); reason == "" && area.Polygon.Kind != Polygon {
				reason = "unparsable"
			}
		case len(parts(word, ',')) > 1, strings.HasPrefix(word, "percent:"), strings.HasPrefix(word, "pixel:"):
			reason = readRegion(&area.Region, word)
		default:
			if reason = other(&a, word); reason != "" {
				return a, reason
			}
			continue
		}
		if reason != "" {
			return a, reason
		}
		a.Places = append(a.Places, area)
	}
	if len(a.Places) > maxAreas {
		return a, "out-of-range"
	}
	if !a.Faces && len(a.Places) == 0 {
		return a, "unparsable"
	}
	return a, ""
}

// text writes areas the one way.
func (a Areas) text() string {
	var words []string
	if a.Faces {
		words = append(words, "faces")
	}
	for _, p := range a.Places {
		if p.Polygon.Kind == Polygon {
			words = append(words, p.Polygon.text(1))
		} else {
			words = append(words, p.Region.String())
		}
	}
	if a.Fill.Declared {
		words = append(words, plainly.Replace(string(appendColor(nil, a.Fill))))
	}
	return strings.Join(words, " ")
}

// RedactAreas are the places of redact.
func (d *Declarations) RedactAreas() Areas {
	a, _ := parseAreas(d.Redact, func(a *Areas, word string) string { // it was checked when it was declared
		if word == "faces" {
			a.Faces = true
			return ""
		}
		return readColor(&a.Fill, word)
	})
	return a
}

// EraseAreas are the places of erase.
func (d *Declarations) EraseAreas() Areas {
	a, _ := parseAreas(d.Erase, func(*Areas, string) string { return "unparsable" })
	return a
}

// Outline is a place of a picture of w×h pixels as a polygon, its points across and down; none where it lies outside.
func (a Area) Outline(w, h float64) [][2]float64 {
	if a.Polygon.Kind == Polygon {
		var out [][2]float64
		for _, p := range a.Polygon.Points {
			out = append(out, [2]float64{p[0].Of(w), p[1].Of(h)})
		}
		return out
	}
	x, y, width, height := a.Region.Of(w, h)
	x0, y0, x1, y1 := max(0, x), max(0, y), min(w, x+width), min(h, y+height)
	if x1 <= x0 || y1 <= y0 {
		return nil
	}
	return [][2]float64{{x0, y0}, {x1, y0}, {x1, y1}, {x0, y1}}
}

// FacesRegion is the value of xywh=faces: what of a picture is around its faces.
type FacesRegion struct {
	Declared bool
	Room     float64 // how many times as wide and high as the faces' box the part is: 1–10
}

const maxRoom = 10

// leastAround is the smallest part of the picture's sides that a window around its subject has.
const leastAround = 0.05

// readAroundSubject reads `subject`, and what part of the picture's sides is to be seen around it.
func readAroundSubject(to *Region, words []string) string {
	if len(words) != 2 {
		return "unparsable"
	}
	number, ok := strings.CutSuffix(words[1], "%")
	v, isNumber := cssNumber(number)
	if !ok || !isNumber {
		return "unparsable"
	}
	if v < 100*leastAround || v > 100 {
		return "out-of-range"
	}
	*to = Region{Declared: true, Subject: math.Round(v*1e3) / 1e5}
	return ""
}

// readFaces reads `faces`, and how much room there is.
func readFaces(to *Region, words []string) string {
	r := Region{Declared: true, Faces: FacesRegion{true, 1}}
	switch len(words) {
	case 1:
	case 2:
		v, ok := cssNumber(words[1])
		if !ok {
			return "unparsable"
		}
		if v < 1 || v > maxRoom {
			return "out-of-range"
		}
		r.Faces.Room = math.Round(v*1e3) / 1e3
	default:
		return "unparsable"
	}
	*to = r
	return ""
}
