package declare

import (
	"slices"
	"strings"

	"echolane/core/wording"
)

// inSheet is the index of the property that a sheet calls so, -1 where there is none: of a picture, or of its ::after
// layer. What says how an answer is delivered belongs into a URL.
func inSheet(name string, after bool) int {
	if after {
		name = "after-" + name
	}
	i := index(name)
	if i >= 0 && (!language[i].inSheet || language[i].group == groupLayers != after) {
		return -1
	}
	return i
}

// SheetNames lists the properties that a sheet may use, of pictures or of their ::after layers.
func SheetNames(after bool) (names []string) {
	for _, p := range SheetProperties(after) {
		names = append(names, p.Name)
	}
	return names
}

// Forget takes a property back, as a sheet calls it.
func (d *Declarations) Forget(name string, after bool) {
	if i := inSheet(name, after); i >= 0 {
		language[i].take(d, &Declarations{})
	}
}

// SetInSheet reads one declaration as a sheet writes it. The problem is nil where that went well.
func (d *Declarations) SetInSheet(name, value string, after bool) *Problem {
	i := inSheet(name, after)
	if i >= 0 {
		problem := d.assign(i, value)
		if problem != nil {
			problem.Parameter = name
		}
		return problem
	}
	if short := shorthandOf(name); short != nil && !after {
		return d.assignShort(short, value)
	}
	p := &Problem{Parameter: name, Given: name, Reason: "unknown-name", Allowed: strings.Join(SheetNames(after), ", ")}
	switch _, layer := strings.CutPrefix(name, "after-"); {
	case layer && !after && index(name) >= 0:
		p.Allowed = strings.TrimPrefix(name, "after-") + " in a rule for ::after"
	case index(name) >= 0 && !language[index(name)].inSheet:
		p.Allowed = name + " in a URL"
	case after && (inSheet(name, false) >= 0 || shorthandOf(name) != nil):
		p.Allowed = name + " in a rule for the picture itself"
	case after:
		p.Nearest = wording.Misspelt(name, SheetNames(true))
	default:
		p.Remedy, p.Nearest = hintForName(name)
		if i := index(p.Nearest); i >= 0 && !language[i].inSheet {
			p.Nearest = ""
		}
	}
	return p
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
	for i := range language {
		p := &language[i]
		if !p.inSheet || p.group == groupLayers != after {
			continue
		}
		words := slices.Clone(p.keywords)
		if words == nil {
			words = []string{}
		}
		list = append(list, Property{strings.TrimPrefix(p.name, "after-"), strings.ReplaceAll(p.grammar, "%25", "%"), words})
	}
	return list
}
