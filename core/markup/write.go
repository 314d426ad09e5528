package markup

import (
	"encoding/json"
	"fmt"
	"strconv"
	"strings"
)

// Attribute is an attribute of an element. Its value has no escapes.
type Attribute struct{ Name, Value string }

var escape = strings.NewReplacer("&", "&amp;", `"`, "&quot;", "<", "&lt;", ">", "&gt;")

// Escape escapes an attribute's value for double quotes in HTML.
func Escape(v string) string { return escape.Replace(v) }

// srcset writes the srcset attribute.
func srcset(list []Candidate) string {
	var b strings.Builder
	for i, c := range list {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(c.URL)
		if c.Density > 0 {
			fmt.Fprintf(&b, " %sx", strconv.FormatFloat(c.Density, 'f', -1, 64))
		} else {
			fmt.Fprintf(&b, " %dw", c.Width)
		}
	}
	return b.String()
}

// Attributes gives those of the <img>, in the order in which they are written.
func (m *Markup) Attributes() []Attribute {
	list := []Attribute{{"src", m.Src}}
	if len(m.Srcset) > 1 || len(m.Srcset) == 1 && m.Srcset[0].Density == 0 {
		list = append(list, Attribute{"srcset", srcset(m.Srcset)})
	}
	if m.Sizes != "" {
		list = append(list, Attribute{"sizes", m.Sizes})
	}
	list = append(list, Attribute{"width", strconv.Itoa(m.Width)}, Attribute{"height", strconv.Itoa(m.Height)}, Attribute{"alt", m.Alt}, Attribute{"loading", m.Loading}, Attribute{"decoding", m.Decoding})
	if m.Priority != "" {
		list = append(list, Attribute{"fetchpriority", m.Priority})
	}
	if m.Style != "" {
		list = append(list, Attribute{"style", m.Style})
	}
	return list
}

func (s *Source) attributes() []Attribute {
	var list []Attribute
	if s.Media != "" {
		list = append(list, Attribute{"media", s.Media})
	}
	if s.Type != "" {
		list = append(list, Attribute{"type", s.Type})
	}
	list = append(list, Attribute{"srcset", srcset(s.Srcset)})
	if s.Sizes != "" {
		list = append(list, Attribute{"sizes", s.Sizes})
	}
	return append(list, Attribute{"width", strconv.Itoa(s.Width)}, Attribute{"height", strconv.Itoa(s.Height)})
}

func tag(name string, list []Attribute) string {
	var b strings.Builder
	b.WriteByte('<')
	b.WriteString(name)
	for _, a := range list {
		b.WriteByte(' ')
		b.WriteString(a.Name)
		b.WriteString(`="`)
		b.WriteString(Escape(a.Value))
		b.WriteByte('"')
	}
	b.WriteByte('>')
	return b.String()
}

// HTML gives the <img>, or the <picture> around it where there are sources.
func (m *Markup) HTML() string { return m.written(tag) }

// written writes the element with a function that writes a tag in some language.
func (m *Markup) written(tag func(name string, list []Attribute) string) string {
	img := tag("img", m.Attributes())
	if len(m.Sources) == 0 {
		return img + "\n"
	}
	var b strings.Builder
	b.WriteString("<picture>\n")
	for i := range m.Sources {
		b.WriteString("  " + tag("source", m.Sources[i].attributes()) + "\n")
	}
	b.WriteString("  " + img + "\n</picture>\n")
	return b.String()
}

// inJSX are the attributes that have other names in JSX.
var inJSX = map[string]string{"srcset": "srcSet", "fetchpriority": "fetchPriority"}

// JSX gives the same as HTML does, in JSX.
func (m *Markup) JSX() string { return m.written(tagInJSX) }

func tagInJSX(name string, list []Attribute) string {
	var b strings.Builder
	b.WriteString("<" + name)
	for _, a := range list {
		n := a.Name
		if other := inJSX[n]; other != "" {
			n = other
		}
		value := quoted(a.Value)
		switch a.Name {
		case "width", "height":
			value = "{" + a.Value + "}"
		case "style":
			_, v, _ := strings.Cut(a.Value, ":")
			value = "{{ background: " + jsonText(v) + " }}"
		}
		b.WriteString(" " + n + "=" + value)
	}
	b.WriteString(" />")
	return b.String()
}

func jsonText(v string) string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.Encode(v)
	return strings.TrimSpace(b.String())
}

// quoted writes a value in JSX: plainly where that's possible, otherwise as a JavaScript string.
func quoted(v string) string {
	if strings.ContainsAny(v, "\"\\{}<>&\n") {
		return "{" + jsonText(v) + "}"
	}
	return `"` + v + `"`
}

// JSON gives the whole markup as JSON, indented.
func (m *Markup) JSON() string {
	var b strings.Builder
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	e.Encode(m)
	return b.String()
}

// CSS gives a background: an image-set() by density, of the candidates for the widest slot.
func (m *Markup) CSS() string {
	list := m.Srcset
	if len(m.Sources) > 0 && m.Sources[0].Type == "" {
		list = m.Sources[0].Srcset
	}
	var words []string
	if list[0].Density > 0 {
		for _, c := range list {
			words = append(words, fmt.Sprintf("url(%s) %sx", jsonText(c.URL), strconv.FormatFloat(c.Density, 'f', -1, 64)))
		}
	} else { // a background has no sizes: the slot's largest is 1x
		one := nearest(list, list[len(list)-1].Width/2)
		words = append(words, fmt.Sprintf("url(%s) 1x", jsonText(list[one].URL)))
		if last := len(list) - 1; last > one {
			words = append(words, fmt.Sprintf("url(%s) 2x", jsonText(list[last].URL)))
		}
	}
	return "background-image: image-set(" + strings.Join(words, ", ") + ");\n"
}

func nearest(list []Candidate, width int) int {
	for i, c := range list {
		if c.Width >= width {
			return i
		}
	}
	return len(list) - 1
}

// Preload is the <link> for the page's head that has the picture fetched before the page's layout is known. It says
// nothing of pictures with other shapes in other viewports but under their own conditions.
func (m *Markup) Preload() string {
	var b strings.Builder
	for _, l := range m.preloads() {
		b.WriteString(tag("link", l) + "\n")
	}
	return b.String()
}

func (m *Markup) preloads() (all [][]Attribute) {
	one := func(media, kind string, list []Candidate, sizes string) {
		a := []Attribute{{"rel", "preload"}, {"as", "image"}}
		if media != "" {
			a = append(a, Attribute{"media", media})
		}
		if kind != "" {
			a = append(a, Attribute{"type", kind})
		}
		// The same attributes as an <img>'s, under names of their own (HTML, section 4.2.4).
		const prefix = "image"
		a = append(a, Attribute{"href", fallback(list)}, Attribute{prefix + "srcset", srcset(list)})
		if sizes != "" {
			a = append(a, Attribute{prefix + "sizes", strings.TrimPrefix(sizes, "auto, ")})
		}
		all = append(all, append(a, Attribute{"fetchpriority", "high"}))
	}
	sources, motion := m.Sources, ""
	for len(sources) > 0 && sources[0].still { // who wants less motion loads the still when its turn comes
		sources, motion = sources[1:], "(prefers-reduced-motion: no-preference)"
	}
	best := "" // the first type is what most browsers take; a link can't choose between types
	if len(sources) > 0 {
		best = sources[0].Type
	}
	bound := ""
	for _, s := range sources {
		if s.Type != best {
			continue
		}
		media := s.Media
		if bound != "" {
			media = joinMedia(media, bound)
		}
		one(joinMedia(motion, media), s.Type, s.Srcset, s.Sizes)
		if s.Media != "" {
			bound = "(not " + s.Media + ")"
		}
	}
	if best == "" || m.mime == best {
		one(joinMedia(motion, bound), m.mime, m.Srcset, m.Sizes)
	}
	return all
}

func joinMedia(a, b string) string {
	switch {
	case a == "":
		return b
	case b == "":
		return a
	}
	return a + " and " + b
}

// Link gives the same as Preload does, as the value of an HTTP Link field (RFC 8288).
func (m *Markup) Link() string {
	var links []string
	for _, l := range m.preloads() {
		var b strings.Builder
		href := ""
		for _, a := range l {
			if a.Name == "href" {
				href = a.Value
			}
		}
		b.WriteString("<" + href + ">")
		for _, a := range l {
			if a.Name != "href" {
				b.WriteString("; " + a.Name + `="` + strings.ReplaceAll(a.Value, `"`, `\"`) + `"`)
			}
		}
		links = append(links, b.String())
	}
	return strings.Join(links, ", ")
}
