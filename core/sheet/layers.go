package sheet

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"echolane/core/declare"
	"echolane/core/wording"
)

// Layers are those of a picture with these classes, in the order in which the sheet has them first: each as its rules have it, the
// cascade being that of the picture's own declarations.
func (s *Sheet) Layers(d *declare.Declarations, who Client) []declare.Box {
	if len(s.layers) == 0 {
		return nil
	}
	resolution := d.Resolution
	if resolution == 0 {
		resolution = 1
	}
	boxes := make([]declare.Box, len(s.layers))
	said := make([]bool, len(s.layers))
	for i := range s.rules { // the one that wins first
		r := &s.rules[i]
		if r.layer == "" || !r.named(d.Class) || !r.when.holds(resolution, who) {
			continue
		}
		n := slices.Index(s.layers, r.layer)
		if !said[n] {
			boxes[n], said[n] = declare.Box{Name: r.layer}, true
		}
		boxes[n] = boxes[n].Over(r.box)
	}
	var list []declare.Box
	for n, b := range boxes {
		if said[n] {
			list = append(list, b)
		}
	}
	return list
}

// AllLayers are the layers of every rule, as it has them by itself, in the order in which the sheet has them first.
func (s *Sheet) AllLayers() (list []declare.Box) {
	for _, name := range s.layers {
		for i := range s.rules {
			if s.rules[i].layer == name {
				list = append(list, s.rules[i].box)
			}
		}
	}
	return list
}

// Fonts are the faces that the sheet's @font-face rules name.
func (s *Sheet) Fonts() []declare.FontFace { return s.fonts }

const mostFonts = 32

// checkLayers says what can't be told of one rule alone.
func (s *Sheet) checkLayers() *Problem {
	if len(s.layers) > declare.MostLayers {
		return &Problem{Line: 1, Column: 1, Detail: fmt.Sprintf("the sheet has %d layers", len(s.layers)), Allowed: fmt.Sprintf("at most %d", declare.MostLayers)}
	}
	return nil
}

// fontFace reads the block of an @font-face rule, whose brace was taken (CSS Fonts Level 4, section 4).
func (p *parser) fontFace(t token, block bool) {
	const allowed = "@font-face { font-family: Brand; src: url(lane/brand.woff2) }"
	if !block {
		p.wrong(t.at, Problem{Detail: "@font-face has no block", Allowed: allowed})
		return
	}
	opened := p.tokens[p.at-1].at
	var f declare.FontFace
	if !p.block(opened, func() {
		property, value, name, at, ok := p.property()
		if !ok {
			return
		}
		known := true
		allowed := ""
		switch property {
		case "font-family":
			f.Family, allowed = strings.Trim(value, `"'`), "one name"
			if f.Family == "" || len(f.Family) > 100 || strings.ContainsAny(f.Family, `"'\\,;(){}`) {
				ok = false
			}
		case "src":
			// Of several the first that lies in a lane.
			allowed = "url(lane/path) of a TTF, OTF, WOFF or WOFF2 file in a lane of the site"
			ok = false
			for one := range strings.SplitSeq(value, ",") {
				url, _, _ := strings.Cut(strings.TrimSpace(one), ") ")
				if !strings.HasSuffix(url, ")") {
					url += ")"
				}
				if file, is := declare.ParseURL(url); is && !strings.Contains(file, "://") {
					f.File, ok = file, true
					break
				}
			}
		case "font-weight":
			allowed = "normal, bold, a number from 1 to 1000, or two of them of a variable font"
			words := strings.Fields(value)
			ok = len(words) == 1 || len(words) == 2
			var v [2]int
			for i, w := range words {
				switch strings.ToLower(w) {
				case "normal":
					v[min(i, 1)] = 400
				case "bold":
					v[min(i, 1)] = 700
				default:
					n, err := strconv.Atoi(w)
					if err != nil || n < 1 || n > 1000 {
						ok = false
					}
					v[min(i, 1)] = n
				}
			}
			if len(words) == 2 {
				f.MinWeight, f.Weight = min(v[0], v[1]), max(v[0], v[1])
			} else {
				f.Weight = v[0]
			}
		case "font-style":
			allowed = "normal, italic or oblique"
			switch strings.ToLower(strings.Fields(value + " ?")[0]) {
			case "normal":
			case "italic", "oblique":
				f.Italic = true
			default:
				ok = false
			}
		case "font-display", "unicode-range", "font-stretch":
			// They are about how a browser loads fonts.
		default:
			known = false
		}
		switch {
		case !known:
			names := []string{"font-family", "src", "font-weight", "font-style"}
			p.wrong(name, Problem{Given: property, Detail: property + " isn't known in @font-face", Allowed: strings.Join(names, ", "), Nearest: wording.Misspelt(property, names)})
		case !ok:
			p.wrong(at, Problem{Given: value, Detail: property + ": " + wording.Cut(value, 60) + " is not allowed", Allowed: allowed})
		}
	}) {
		return
	}
	switch {
	case len(p.problems) > 0:
	case f.Family == "" || f.File == "":
		p.wrong(opened, Problem{Detail: "@font-face needs a font-family and a src", Allowed: allowed})
	case len(p.fonts) == mostFonts:
		p.wrong(opened, Problem{Detail: "the sheet has too many @font-face rules", Allowed: fmt.Sprintf("at most %d", mostFonts)})
	default:
		p.fonts = append(p.fonts, f)
	}
}
