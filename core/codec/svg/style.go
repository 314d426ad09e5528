package svg

import (
	"math"
	"strings"

	"echolane/core/declare"
	"echolane/core/text"
)

// A paint is what fills or strokes.
type paint struct {
	colour declare.Color // of a plain one, or what holds where the server can't be used
	none   bool          // nothing is painted, where there is no server
	server *node         // a gradient or pattern
}

// A style is what holds for one element, computed.
type style struct {
	// Inherited.
	fill, stroke               paint
	fillOpacity, strokeOpacity float64
	brush                      brush
	evenOdd, clipEvenOdd       bool
	colour                     declare.Color
	em                         float64
	font                       text.Plain
	anchor                     string
	letters, words             float64 // spacing
	hidden                     bool
	markers                    [3]string
	strokeFirst                bool
	linear                     bool // filters work in linear light
	baseline                   string
	preserve                   bool // white space

	// Its own.
	gone                             bool
	opacity                          float64
	clip, mask, filter, blend        string
	isolated, fixed, visible, ofFill bool
	transform, origin, underline     string
}

func opaque(r, g, b uint8) declare.Color {
	return declare.Color{Declared: true, R: r, G: g, B: b, A: 255}
}

var initial = style{
	fill: paint{colour: opaque(0, 0, 0)}, stroke: paint{none: true}, fillOpacity: 1, strokeOpacity: 1,
	brush: brush{width: 1, miter: 4, cap: "butt", join: "miter"}, colour: opaque(0, 0, 0), em: 16, anchor: "start", linear: true, opacity: 1,
}

// colourOf reads a colour.
func colourOf(s string, current declare.Color) (declare.Color, bool) {
	s = strings.TrimSpace(s)
	if strings.EqualFold(s, "currentcolor") {
		return current, true
	}
	if hexadecimal(s) { // without its #, which only our URLs may leave out; no name of a colour is such a word
		return declare.Color{}, false
	}
	return declare.ParseColor(s)
}

func hexadecimal(s string) bool {
	return strings.Trim(strings.ToLower(s), "0123456789abcdef") == ""
}

func (d *document) paint(s string, current declare.Color, usual paint) paint {
	s = strings.TrimSpace(s)
	switch {
	case s == "none":
		return paint{none: true}
	case s == "context-fill" || s == "context-stroke":
		return usual
	case strings.HasPrefix(s, "url("):
		server, _ := d.url(s)
		p := paint{none: true}
		if _, after, ok := strings.Cut(s, ")"); ok && strings.TrimSpace(after) != "" {
			p = d.paint(after, current, p)
		}
		if server != nil && (server.name == "linearGradient" || server.name == "radialGradient" || server.name == "pattern") {
			p.server = server
		}
		return p
	}
	if c, ok := colourOf(s, current); ok {
		return paint{colour: c}
	}
	return usual
}

// computed is an element's style within its parent's.
func (d *document) computed(n *node, up *style, m measures) style {
	s := *up
	s.gone, s.opacity, s.clip, s.mask, s.filter, s.blend, s.isolated, s.fixed, s.transform, s.origin, s.underline = false, 1, "", "", "", "", false, false, "", "", ""
	s.visible, s.ofFill = false, false
	get := func(property string) string {
		v := strings.TrimSpace(n.style[property])
		switch v {
		case "inherit", "unset", "revert", "initial":
			return ""
		}
		return v
	}
	if v := get("font-size"); v != "" {
		s.em = fontSize(v, up.em, m)
	}
	m.em = s.em
	if v := get("color"); v != "" {
		if c, ok := colourOf(v, up.colour); ok {
			s.colour = c
		}
	}
	if v := get("fill"); v != "" {
		s.fill = d.paint(v, s.colour, up.fill)
	}
	if v := get("stroke"); v != "" {
		s.stroke = d.paint(v, s.colour, up.stroke)
	}
	s.fillOpacity = within01(part(get("fill-opacity"), s.fillOpacity))
	s.strokeOpacity = within01(part(get("stroke-opacity"), s.strokeOpacity))
	if v, ok := m.length(get("stroke-width"), either); ok && v >= 0 {
		s.brush.width = v
	}
	if v, ok := number(get("stroke-miterlimit")); ok && v >= 1 {
		s.brush.miter = v
	}
	if v, ok := m.length(get("stroke-dashoffset"), either); ok {
		s.brush.offset = v
	}
	switch v := get("stroke-dasharray"); v {
	case "":
	case "none":
		s.brush.dashes = nil
	default:
		s.brush.dashes = nil
		for _, f := range strings.FieldsFunc(v, func(r rune) bool { return r == ',' || r == ' ' }) {
			if l, ok := m.length(f, either); ok && len(s.brush.dashes) < 100 {
				s.brush.dashes = append(s.brush.dashes, l)
			}
		}
	}
	word := func(to *string, property string, known ...string) {
		v := get(property)
		for _, k := range known {
			if v == k {
				*to = v
			}
		}
	}
	word(&s.brush.cap, "stroke-linecap", "butt", "round", "square")
	word(&s.brush.join, "stroke-linejoin", "miter", "round", "bevel", "arcs", "miter-clip")
	word(&s.anchor, "text-anchor", "start", "middle", "end")
	if v := get("fill-rule"); v != "" {
		s.evenOdd = v == "evenodd"
	}
	if v := get("clip-rule"); v != "" {
		s.clipEvenOdd = v == "evenodd"
	}
	if v := get("visibility"); v != "" {
		s.hidden = v != "visible"
	}
	if v := get("paint-order"); v != "" {
		s.strokeFirst = strings.HasPrefix(v, "stroke") || strings.HasPrefix(v, "markers stroke")
	}
	if v := get("color-interpolation-filters"); v != "" {
		s.linear = !strings.EqualFold(v, "sRGB")
	}
	for i, p := range []string{"marker-start", "marker-mid", "marker-end"} {
		if v := get(p); v != "" {
			s.markers[i] = v
		}
	}
	if v := get("font-weight"); v != "" {
		w, _ := number(v)
		s.font.Bold = v == "bold" || v == "bolder" || w >= 600
	}
	if v := get("font-style"); v != "" {
		s.font.Italic = strings.HasPrefix(v, "italic") || strings.HasPrefix(v, "oblique")
	}
	if v := strings.ToLower(get("font-family")); v != "" {
		s.font.Mono = strings.Contains(v, "mono") || strings.Contains(v, "courier") || strings.Contains(v, "consolas") || strings.Contains(v, "menlo")
	}
	s.font.Size = s.em
	if v, ok := m.length(get("letter-spacing"), across); ok {
		s.letters = v
	}
	if v, ok := m.length(get("word-spacing"), across); ok {
		s.words = v
	}
	if v := get("dominant-baseline"); v != "" {
		s.baseline = v
	} else if v := get("alignment-baseline"); v != "" {
		s.baseline = v
	}
	if n.attrs["space"] == "preserve" {
		s.preserve = true
	}
	if v := get("white-space"); v != "" {
		s.preserve = strings.HasPrefix(v, "pre")
	}

	s.gone = get("display") == "none"
	s.opacity = within01(part(get("opacity"), 1))
	for to, p := range map[*string]string{&s.clip: "clip-path", &s.mask: "mask", &s.filter: "filter", &s.blend: "mix-blend-mode"} {
		if v := get(p); v != "none" && v != "normal" {
			*to = v
		}
	}
	s.isolated = get("isolation") == "isolate"
	s.fixed = get("vector-effect") == "non-scaling-stroke"
	s.visible = get("overflow") == "visible" || get("overflow") == "auto"
	s.transform, s.origin, s.ofFill = get("transform"), get("transform-origin"), get("transform-box") == "fill-box"
	s.underline = get("text-decoration")
	return s
}

var sizes = map[string]float64{"xx-small": 9, "x-small": 10, "small": 13, "medium": 16, "large": 18, "x-large": 24, "xx-large": 32}

func fontSize(v string, up float64, m measures) float64 {
	if px, ok := sizes[v]; ok {
		return px
	}
	switch v {
	case "smaller":
		return up / 1.2
	case "larger":
		return up * 1.2
	}
	if p, ok := strings.CutSuffix(v, "%"); ok {
		if k, ok := number(p); ok && k >= 0 {
			return up * k / 100
		}
		return up
	}
	m.em = up
	if px, ok := m.length(v, down); ok && px >= 0 {
		return math.Min(px, 10_000)
	}
	return up
}

func within01(v float64) float64 { return math.Max(0, math.Min(1, v)) }
