package declare

import (
	"slices"
	"strings"

	"echolane/core/wording"
)

// inSheet is the index of the property that a sheet calls so, -1 where there is none: of a picture, or of a layer of it, before or after.
// What says how an answer is delivered belongs into a URL.
func inSheet(name, layer string) int {
	if layer != "" {
		name = layer + "-" + name
	}
	i := index(name)
	if i >= 0 && (!language[i].inSheet || language[i].group == groupLayers != (layer != "")) {
		return -1
	}
	return i
}

// SheetNames lists the properties that a sheet may use, of pictures, or of the layer before or after.
func SheetNames(layer string) (names []string) {
	for _, p := range SheetProperties(layer) {
		names = append(names, p.Name)
	}
	return names
}

// Forget takes a property back, as a sheet calls it.
func (d *Declarations) Forget(name, layer string) {
	if i := inSheet(name, layer); i >= 0 {
		language[i].take(d, &Declarations{})
	}
}

// SetInSheet reads one declaration as a sheet writes it, of the picture ("") or of its layer before or after. The problem is nil where that went well.
func (d *Declarations) SetInSheet(name, value, layer string) *Problem {
	i := inSheet(name, layer)
	if i >= 0 {
		problem := d.assign(i, value)
		if problem != nil {
			problem.Parameter = name
		}
		return problem
	}
	if short := shorthandOf(name); short != nil && layer == "" {
		return d.assignShort(short, value)
	}
	p := &Problem{Parameter: name, Given: name, Reason: "unknown-name", Allowed: strings.Join(SheetNames(layer), ", ")}
	of, plain := layered(name)
	switch {
	case of != "" && layer == "" && index(name) >= 0:
		p.Allowed = plain + " in a rule for ::" + of
	case index(name) >= 0 && !language[index(name)].inSheet:
		p.Allowed = name + " in a URL"
	case layer != "" && (inSheet(name, "") >= 0 || shorthandOf(name) != nil):
		p.Allowed = name + " in a rule for the picture itself"
	case layer != "":
		p.Nearest = wording.Misspelt(name, SheetNames(layer))
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

// layered divides the name of a layer's declaration; of is "" where it isn't one.
func layered(name string) (of, plain string) {
	for _, layer := range []string{BeforeLayer, AfterLayer} {
		if plain, ok := strings.CutPrefix(name, layer+"-"); ok {
			return layer, plain
		}
	}
	return "", name
}

// SheetProperties lists them, of pictures, or of the layer before or after.
func SheetProperties(layer string) (list []Property) {
	for i := range language {
		p := &language[i]
		of, plain := layered(p.name)
		if !p.inSheet || of != layer {
			continue
		}
		words := slices.Clone(p.keywords)
		if words == nil {
			words = []string{}
		}
		list = append(list, Property{plain, strings.ReplaceAll(p.grammar, "%25", "%"), words})
	}
	return list
}
