package declare

import (
	"slices"
	"strings"
)

// Grounds are the box's grounds, the one on top first, each as declarations of a picture: background-image and how it lies.
func (b *Box) Grounds() (list []Declarations) {
	images := parts(b.of("background-image"), ',')
	if b.of("background-image") == "" {
		return nil
	}
	of := func(name string, i int) string {
		text := b.of(name)
		if text == "" {
			return ""
		}
		all := parts(text, ',')
		return strings.TrimSpace(all[i%len(all)])
	}
	for i, image := range images {
		if image = strings.TrimSpace(image); image == "none" {
			continue
		}
		var d Declarations
		if readGroundImage(&d.BackgroundImage, image) != "" {
			continue // attr() that nothing was given for
		}
		if text := of("background-position", i); text != "" {
			readGroundPosition(&d.GroundPosition, text)
		} else {
			d.GroundPosition.Declared = true
		}
		if text := of("background-size", i); text != "" {
			readGroundSize(&d.GroundSize, text)
		} else {
			d.GroundSize.Declared = true
			d.GroundSize.X, d.GroundSize.Y = Side{Declared: true, Length: Length{Px: -1}}, Side{Declared: true, Length: Length{Px: -1}}
		}
		if text := of("background-repeat", i); text != "" {
			readRepeats(&d.GroundRepeat, text)
		} else {
			d.GroundRepeat = Repeats{Tiled, Tiled}
		}
		list = append(list, d)
	}
	return list
}

func readBoxGround(value string) (string, string) {
	if strings.EqualFold(value, "none") {
		return "none", ""
	}
	if p, reason := parsePart(value); reason == "" && p.Data != "" {
		if !p.Picture {
			return "", "unparsable"
		}
		return p.text(), ""
	}
	var image string
	if reason := readGroundImage(&image, value); reason != "" {
		return "", reason
	}
	if IsGradient(image) {
		return image, ""
	}
	return "url(" + image + ")", ""
}

// readBoxBackground reads the shorthand, of several grounds with commas between; the last may have a colour.
func readBoxBackground(b *Box, value string) string {
	var images, positions, sizes, repeating []string
	var colour Color
	all := parts(value, ',')
	if len(all) > mostGrounds {
		return "out-of-range"
	}
	for i, one := range all {
		one = strings.TrimSpace(one)
		attr := ""
		for _, w := range fields(one) { // which the shorthand of pictures doesn't know
			if p, reason := parsePart(w); reason == "" && p.Data != "" {
				text, reason := readBoxGround(w)
				if reason != "" {
					return reason
				}
				attr = text
				one = strings.Replace(one, w, "url(lane/attr)", 1)
			}
		}
		var d Declarations
		if reason := readBackground(&d, spaced(one)); reason != "" {
			return reason
		}
		if d.Background.Declared && d.Background.A > 0 {
			if i < len(all)-1 {
				return "unparsable"
			}
			colour = d.Background
		}
		image := "none"
		switch {
		case attr != "":
			image = attr
		case IsGradient(d.BackgroundImage):
			image = d.BackgroundImage
		case d.BackgroundImage != "":
			image = "url(" + d.BackgroundImage + ")"
		}
		images = append(images, image)
		position, size, repeat := "0px 0px", "auto", "repeat"
		if d.GroundPosition.Declared {
			position = plainly.Replace(string(appendPosition(nil, d.GroundPosition)))
		}
		if d.GroundSize.Declared {
			size = plainly.Replace(string(appendGroundSize(nil, d.GroundSize)))
		}
		if d.GroundRepeat != (Repeats{}) {
			repeat = plainly.Replace(string(appendRepeats(nil, d.GroundRepeat)))
		}
		positions, sizes, repeating = append(positions, position), append(sizes, size), append(repeating, repeat)
	}
	b.say("background-image", strings.Join(images, ", "))
	b.say("background-position", strings.Join(positions, ", "))
	b.say("background-size", strings.Join(sizes, ", "))
	b.say("background-repeat", strings.Join(repeating, ", "))
	if !colour.Declared {
		colour = Color{Declared: true}
	}
	b.Paint.Background = colour
	return ""
}

// A BoxShadow is one of box-shadow's (CSS Backgrounds Level 3, section 6.1).
type BoxShadow struct {
	InnerShadow
	Inset bool
}

// Shadows are the box's, the one on top first.
func (b *Box) Shadows() []BoxShadow {
	list, _ := parseBoxShadows(b.of("box-shadow"))
	return list
}

func readBoxShadow(value string) (string, string) {
	list, reason := parseBoxShadows(value)
	return inList(list, reason, "none", func(s BoxShadow) string {
		text := writeShadows([]InnerShadow{s.InnerShadow}, 1)
		if !s.Inset {
			text = strings.TrimPrefix(text, "inset ")
		}
		return text
	})
}

func parseBoxShadows(value string) (list []BoxShadow, reason string) {
	if value == "" || strings.EqualFold(value, "none") {
		return nil, ""
	}
	for _, one := range parts(value, ',') {
		inset := slices.ContainsFunc(fields(one), func(w string) bool { return strings.EqualFold(w, "inset") })
		if !inset {
			one = "inset " + one
		}
		got, reason := parseShadows(one)
		if reason != "" {
			return nil, reason
		}
		list = append(list, BoxShadow{got[0], inset})
	}
	if len(list) > maxShadows {
		return nil, "out-of-range"
	}
	return list, ""
}
