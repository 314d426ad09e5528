package policy

import (
	"fmt"
	"reflect"
	"slices"
	"strings"
	"sync"
)

// A LaneKind says what the settings of one kind of lane are. It is data: checks, forms, help and descriptions are made
// from it.
type LaneKind struct {
	Name   string      // as `kind` has it
	FreshS int         // how long a source is taken to be unchanged where a lane doesn't say, seconds
	Fields []LaneField // those of Lane that this kind has, beside those that every lane has, in the order of a form

	// Check finds what else can't be; nil for nothing. The trouble's path is a field's name.
	Check func(*Lane) *Trouble

	// Where names the fields that say where the sources are. The first group that has a value counts; the values of a
	// group stand together, with slashes between them.
	Where [][]string

	// Holds is what stands for that where the sources lie nowhere, such as colours; and Path is one of them.
	Holds, Path string

	// URLWithout is the field without which a source's path is its whole URL, one element of the address. "": a path is
	// a path.
	URLWithout string

	Secrets  LaneSecrets // which secrets there may be
	Receives bool        // sources are uploaded through Echo Lane

	// Told are the options of the command line that make a lane one of this kind. Option, where it isn't "", is one of them
	// that stands for no field, and OptionUsage its help.
	Told        []string
	Option      string
	OptionUsage string
}

// A LaneField is a field of Lane, as people are asked for it.
type LaneField struct {
	Name   string // as in documents; a text, or a list of texts
	Label  string // of its control
	Hint   string // beside its control
	Usage  string // of its option on the command line
	Needed string // what it must hold, as an example; "": it may be left out
	Unless string // the field beside which this one makes no sense; "": none
	Place  bool   // it says where the sources are, so another value means other sources
	Path   bool   // it is a path on the service's machine
	Common bool   // a lane of another kind may have it too, without effect
}

// LaneSecrets are the secrets that a kind of lane may have.
type LaneSecrets struct {
	Form   SecretForm
	Unless string // the field beside which there are none
}

// SecretForm is what a lane's secrets are.
type SecretForm string

// The forms of secrets.
const (
	NoSecrets   SecretForm = ""
	Headers     SecretForm = "headers"     // request headers for its origin
	Credentials SecretForm = "credentials" // an access key and a secret key
)

// Has reports whether a lane may have secrets of the form.
func (s LaneSecrets) Has(l *Lane, form SecretForm) bool {
	return s.Form == form && form != NoSecrets && (s.Unless == "" || !l.Has(s.Unless))
}

// LaneKinds are the kinds that there are, in the order in which they are named.
type LaneKinds []LaneKind

// Of finds a kind by its name, nil where there is none.
func (ks LaneKinds) Of(name string) *LaneKind {
	for i := range ks {
		if ks[i].Name == name {
			return &ks[i]
		}
	}
	return nil
}

// Names lists them.
func (ks LaneKinds) Names() []string {
	names := make([]string, len(ks))
	for i, k := range ks {
		names[i] = k.Name
	}
	return names
}

// Having lists the kinds that have a field.
func (ks LaneKinds) Having(field string) (names []string) {
	for _, k := range ks {
		if k.Field(field) != nil {
			names = append(names, k.Name)
		}
	}
	return names
}

// Fields lists the fields of all kinds, each once.
func (ks LaneKinds) Fields() (all []LaneField) {
	for _, k := range ks {
		for _, f := range k.Fields {
			if !slices.ContainsFunc(all, func(have LaneField) bool { return have.Name == f.Name }) {
				all = append(all, f)
			}
		}
	}
	return all
}

// Field finds one of the kind's fields by its name, nil where it has none of it.
func (k *LaneKind) Field(name string) *LaneField {
	for i := range k.Fields {
		if k.Fields[i].Name == name {
			return &k.Fields[i]
		}
	}
	return nil
}

// TakesURL reports whether a source's path is its whole URL.
func (k *LaneKind) TakesURL(l *Lane) bool { return k.URLWithout != "" && !l.Has(k.URLWithout) }

// Source says where the lane's sources are, for people.
func (k *LaneKind) Source(l *Lane) string {
	for _, group := range k.Where {
		var parts []string
		for _, name := range group {
			text, list := l.Field(name)
			if list != nil {
				text = strings.Join(list, ", ")
			}
			if text != "" {
				parts = append(parts, text)
			}
		}
		if len(parts) > 1 {
			for i := range parts {
				parts[i] = strings.TrimSuffix(parts[i], "/")
			}
		}
		if len(parts) > 0 {
			return strings.Join(parts, "/")
		}
	}
	return k.Holds
}

// place tells the lane's sources from those that it would have with other settings.
func (k *LaneKind) place(l *Lane) string {
	parts := []string{k.Name}
	for _, f := range k.Fields {
		if f.Place {
			text, _ := l.Field(f.Name)
			parts = append(parts, text)
		}
	}
	return strings.Join(parts, "\x00")
}

// laneFields finds Lane's texts and lists of texts by the names that they have in documents.
var laneFields = sync.OnceValue(func() map[string]int {
	m := map[string]int{}
	t := reflect.TypeFor[Lane]()
	for i := range t.NumField() {
		name, _, _ := strings.Cut(t.Field(i).Tag.Get("json"), ",")
		m[name] = i
	}
	return m
})

// Field gives the value of a text field, or of a list.
func (l *Lane) Field(name string) (text string, list []string) {
	switch v := l.field(name).(type) {
	case *string:
		return *v, nil
	case *[]string:
		return "", *v
	}
	return "", nil
}

// SetField sets a text field, or a list. A field of another type is left as it is.
func (l *Lane) SetField(name, text string, list []string) {
	switch v := l.field(name).(type) {
	case *string:
		*v = text
	case *[]string:
		*v = list
	}
}

// IsList reports whether a field is a list of texts.
func (f LaneField) IsList() bool {
	_, list := new(Lane).field(f.Name).(*[]string)
	return list
}

// Has reports whether a field says something.
func (l *Lane) Has(name string) bool {
	text, list := l.Field(name)
	return text != "" || len(list) > 0
}

func (l *Lane) field(name string) any {
	i, ok := laneFields()[name]
	if !ok {
		return nil
	}
	return reflect.ValueOf(l).Elem().Field(i).Addr().Interface()
}

// ofKind holds a lane to its kind, which is nil where its name is none.
func (c *compiler) ofKind(path string, l *Lane, k *LaneKind, kinds LaneKinds) {
	if k == nil {
		return
	}
	for _, f := range kinds.Fields() {
		if l.Has(f.Name) && k.Field(f.Name) == nil && !f.Common {
			c.wrong(Trouble{Path: path + "." + f.Name, Detail: fmt.Sprintf("a %s lane has no %s", l.Kind, f.Name), Allowed: f.Name + " on lanes of kind " + strings.Join(kinds.Having(f.Name), ", ")})
		}
	}
	for _, f := range k.Fields {
		if f.Needed != "" && !l.Has(f.Name) {
			c.wrong(Trouble{Path: path + "." + f.Name, Detail: fmt.Sprintf("a %s lane needs its %s", l.Kind, f.Name), Allowed: f.Needed})
		}
	}
	if k.Check != nil {
		if t := k.Check(l); t != nil {
			t.Path = path + "." + t.Path
			c.wrong(*t)
		}
	}
}
