package metadata

import (
	"bytes"
	"encoding/xml"
	"math"
	"slices"
	"strconv"
	"strings"
)

// A Region is a place in a picture that somebody has marked in the file, in parts of the stored picture's sides.
type Region struct {
	X0, Y0, X1, Y1 float64
	Kind           RegionKind
}

// RegionKind says what is marked.
type RegionKind uint8

// The kinds.
const (
	OtherRegion   RegionKind = iota // a name, a product, an animal
	FaceRegion                      // a face
	SubjectRegion                   // where the camera was focused, or what somebody says the picture is of
	CodeRegion                      // a bar code, or a place for a crop: nothing to look at
)

// The namespaces of regions: of the Metadata Working Group (Guidelines for Handling Image Metadata 2.0, section 5.9) and of IPTC's
// photo metadata (2019.1, Image Region).
const (
	spaceMWG  = "http://www.metadataworkinggroup.com/schemas/regions/"
	spaceIPTC = "http://iptc.org/std/Iptc4xmpExt/2008-02-29/"
)

// mostRegions is how many are read.
const mostRegions = 200

// RegionsOf reads what is marked in a file of w×h stored pixels. What can't be read counts for nothing.
func RegionsOf(data []byte, w, h int) (list []Region) {
	_, xmp := metadata(data)
	if !bytes.Contains(xmp, []byte(spaceMWG)) && !bytes.Contains(xmp, []byte(spaceIPTC)) {
		return nil
	}
	d := xml.NewDecoder(bytes.NewReader(xmp[:min(len(xmp), 1<<20)]))
	var within []xml.Name // the elements around
	var text strings.Builder
	var open *marked
	depth := 0
	sized := [2]float64{float64(w), float64(h)}
	is := func(n xml.Name, space, local string) bool { return n.Space == space && n.Local == local }
	for len(list) < mostRegions {
		token, err := d.Token()
		if err != nil {
			return list
		}
		switch t := token.(type) {
		case xml.StartElement:
			if len(within) > 100 {
				return list
			}
			if open == nil && t.Name.Local == "li" && len(within) >= 2 {
				if list := within[len(within)-2]; is(list, spaceMWG, "RegionList") || is(list, spaceIPTC, "ImageRegion") {
					open, depth = &marked{ours: list.Space == spaceMWG, sides: map[string]float64{}}, len(within)
				}
			}
			within = append(within, t.Name)
			text.Reset()
			for _, a := range t.Attr {
				switch {
				case open != nil:
					open.say(a.Name.Local, a.Value, within)
				case is(t.Name, spaceMWG, "AppliedToDimensions"):
					if v, err := strconv.ParseFloat(a.Value, 64); err == nil && v > 0 {
						switch a.Name.Local {
						case "w":
							sized[0] = v
						case "h":
							sized[1] = v
						}
					}
				}
			}
		case xml.CharData:
			if text.Len() < 200 {
				text.Write(t)
			}
		case xml.EndElement:
			if open != nil {
				open.say(t.Name.Local, strings.TrimSpace(text.String()), within)
			}
			text.Reset()
			within = within[:max(0, len(within)-1)]
			if open != nil && len(within) == depth {
				if r, ok := open.region(sized); ok {
					list = append(list, r)
				}
				open = nil
			}
		}
	}
	return list
}

// marked is a region as it is read: by what its properties are called.
type marked struct {
	ours         bool               // of the Metadata Working Group
	sides        map[string]float64 // x, y, w, h, d and rx
	across, down []float64          // of a polygon's corners
	unit, shape  string
	kind         RegionKind
}

// say notes a property's value.
func (m *marked) say(name, value string, within []xml.Name) {
	v, err := strconv.ParseFloat(value, 64)
	number := err == nil && math.Abs(v) < 1e9 // and a number at all
	if slices.ContainsFunc(within, func(n xml.Name) bool { return n.Local == "rbVertices" }) {
		if number && name == "rbX" {
			m.across = append(m.across, v)
		} else if number && name == "rbY" {
			m.down = append(m.down, v)
		}
		return
	}
	switch name {
	case "x", "rbX", "y", "rbY", "w", "rbW", "h", "rbH", "d", "rbRx":
		if number {
			m.sides[strings.ToLower(strings.TrimPrefix(name, "rb"))] = v
		}
	case "unit", "rbUnit":
		m.unit = strings.ToLower(value)
	case "rbShape":
		m.shape = strings.ToLower(value)
	case "Type":
		switch value {
		case "Face":
			m.kind = FaceRegion
		case "Focus":
			m.kind = SubjectRegion
		case "BarCode":
			m.kind = CodeRegion
		}
	default: // an entity's identifier
		switch {
		case strings.Contains(value, "imageregionrole/mainSubjectArea"):
			m.kind = SubjectRegion
		case strings.Contains(value, "imageregionrole/") && strings.Contains(strings.ToLower(value), "crop"), strings.Contains(value, "imageregiontype/textWritten"), strings.Contains(value, "imageregiontype/visualCode"):
			m.kind = CodeRegion
		}
	}
}

// region is the box, in parts of a picture of that size.
func (m *marked) region(size [2]float64) (r Region, ok bool) {
	r.Kind = m.kind
	x, hasX := m.sides["x"]
	y, hasY := m.sides["y"]
	w, hasW := m.sides["w"]
	h, hasH := m.sides["h"]
	d, hasD := m.sides["d"]
	rx, hasR := m.sides["rx"]
	if m.shape == "polygon" {
		if len(m.across) < 3 || len(m.down) < 3 {
			return r, false
		}
		r.X0, r.Y0, r.X1, r.Y1 = slices.Min(m.across), slices.Min(m.down), slices.Max(m.across), slices.Max(m.down)
	} else if !hasX || !hasY {
		return r, false
	}
	switch {
	case m.shape == "polygon":
	case m.ours && hasD:
		r.X0, r.Y0, r.X1, r.Y1 = x-d/2, y-d/2, x+d/2, y+d/2
	case m.shape == "circle" && hasR:
		down := rx // of the width
		if m.unit != "pixel" && size[1] > 0 {
			down = rx * size[0] / size[1]
		}
		r.X0, r.Y0, r.X1, r.Y1 = x-rx, y-down, x+rx, y+down
	case !hasW || !hasH:
		return r, false
	case m.ours: // x and y are of the middle
		r.X0, r.Y0, r.X1, r.Y1 = x-w/2, y-h/2, x+w/2, y+h/2
	default:
		r.X0, r.Y0, r.X1, r.Y1 = x, y, x+w, y+h
	}
	if m.unit == "pixel" {
		if size[0] <= 0 || size[1] <= 0 {
			return r, false
		}
		r.X0, r.X1, r.Y0, r.Y1 = r.X0/size[0], r.X1/size[0], r.Y0/size[1], r.Y1/size[1]
	}
	r.X0, r.Y0, r.X1, r.Y1 = max(0, r.X0), max(0, r.Y0), min(1, r.X1), min(1, r.Y1)
	return r, r.X1-r.X0 > 1e-4 && r.Y1-r.Y0 > 1e-4
}
