package declare

import (
	"slices"
	"strings"

	"echolane/core/spelling"
)

const (
	mostClasses = 8
	mostOfClass = 64 // bytes of one name
)

// IsClass reports whether a class may be called so: letters, digits, - and _, not beginning with a digit, beyond ASCII
// any character, as CSS has its identifiers.
func IsClass(s string) bool {
	if s == "" || len(s) > mostOfClass || s == "-" || s[0] >= '0' && s[0] <= '9' || len(s) > 1 && s[0] == '-' && s[1] >= '0' && s[1] <= '9' {
		return false
	}
	return !strings.ContainsFunc(s, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' || r >= 0x80 && r != 0xfffd)
	})
}

// setClass keeps the names in alphabetical order, each once: their order has no meaning.
func setClass(to *string, v string) string {
	names := strings.Fields(v)
	for _, n := range names {
		if !IsClass(n) {
			return "unparsable"
		}
	}
	if len(names) > mostClasses {
		return "out-of-range"
	}
	if len(names) > 1 {
		slices.Sort(names)
		names = slices.Compact(names)
	}
	*to = strings.Join(names, " ")
	return ""
}

// inSheet is the index of the property that a sheet calls so, -1 where there is none: of a picture, or of its ::after
// layer. What says how an answer is delivered belongs into a URL.
func inSheet(name string, after bool) int {
	if after {
		name = "after-" + name
	}
	i := index(name)
	if i >= pClass || i >= 0 && (strings.HasPrefix(properties[i].name, "after-") != after) {
		return -1
	}
	return i
}

// SheetNames lists the properties that a sheet may use, of pictures or of their ::after layers.
func SheetNames(after bool) (names []string) {
	for i := range properties[:pClass] {
		name, layer := strings.CutPrefix(properties[i].name, "after-")
		if layer == after {
			names = append(names, name)
		}
	}
	return names
}

// Forget takes a property back, as a sheet calls it.
func (d *Declarations) Forget(name string, after bool) {
	if i := inSheet(name, after); i >= 0 {
		d.inherit(i, &Declarations{})
	}
}

// SetInSheet reads one declaration as a sheet writes it. The problem is nil where that went well.
func (d *Declarations) SetInSheet(name, value string, after bool) *Problem {
	i := inSheet(name, after)
	if i < 0 {
		p := &Problem{Parameter: name, Given: name, Reason: "unknown-name", Allowed: strings.Join(SheetNames(after), ", "), Nearest: spelling.Nearest(name, SheetNames(after))}
		switch _, layer := strings.CutPrefix(name, "after-"); {
		case layer && !after && index(name) >= 0:
			p.Allowed, p.Nearest = strings.TrimPrefix(name, "after-")+" in a rule for ::after", ""
		case index(name) >= pClass:
			p.Allowed, p.Nearest = name+" in a URL", ""
		case after && inSheet(name, false) >= 0:
			p.Allowed, p.Nearest = name+" in a rule for the picture itself", ""
		}
		return p
	}
	p := &properties[i]
	value = trim(value)
	if value == "" {
		return &Problem{Parameter: name, Reason: "empty", Allowed: p.allowed}
	}
	if reason := d.set(i, value); reason != "" {
		return &Problem{Parameter: name, Given: shorten(value), Reason: reason, Allowed: p.allowed, Nearest: spelling.Nearest(value, p.keywords)}
	}
	return nil
}

// InSheet says what is wrong as a sheet writes it.
func (p Problem) InSheet() string {
	switch p.Reason {
	case "unknown-name":
		return p.Parameter + " isn't a property here"
	case "empty":
		return p.Parameter + " has no value"
	}
	return p.Parameter + ": " + p.Given + " is not allowed"
}

// A Property is one that a sheet may use, for people and editors.
type Property struct {
	Name     string   `json:"name"`
	Allowed  string   `json:"allowed"`
	Keywords []string `json:"keywords"`
}

// SheetProperties lists them, of pictures or of their ::after layers.
func SheetProperties(after bool) (list []Property) {
	for i := range properties[:pClass] {
		p := &properties[i]
		name, layer := strings.CutPrefix(p.name, "after-")
		if layer != after {
			continue
		}
		words := []string{}
		for _, w := range p.keywords {
			if w != "" {
				words = append(words, w)
			}
		}
		list = append(list, Property{name, strings.ReplaceAll(p.allowed, "%25", "%"), words})
	}
	return list
}
