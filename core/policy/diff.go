package policy

import (
	"encoding/json"
	"fmt"
	"reflect"
	"sort"
	"strings"
)

// A Difference is one setting that differs between two documents.
type Difference struct {
	Path   string `json:"path"` // such as lanes.catalogue.allow
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

func (d Difference) String() string {
	switch {
	case d.Before == "":
		return fmt.Sprintf("%s: + %s", d.Path, d.After)
	case d.After == "":
		return fmt.Sprintf("%s: - %s", d.Path, d.Before)
	}
	return fmt.Sprintf("%s: %s → %s", d.Path, d.Before, d.After)
}

// Diff lists what differs, in the order of the paths. Lanes are told apart by their names.
func Diff(before, after Document) []Difference {
	a, b := flat(before), flat(after)
	a["sheet"], b["sheet"] = differing(before.Sheet, after.Sheet)
	paths := map[string]bool{}
	for p := range a {
		paths[p] = true
	}
	for p := range b {
		paths[p] = true
	}
	list := []Difference{}
	for p := range paths {
		if a[p] != b[p] {
			list = append(list, Difference{p, a[p], b[p]})
		}
	}
	sort.Slice(list, func(i, j int) bool { return list[i].Path < list[j].Path })
	return list
}

// differing is what two sheets have between the first and the last line in which they differ, on one line each.
func differing(before, after string) (string, string) {
	a, b := strings.Split(strings.TrimSpace(before), "\n"), strings.Split(strings.TrimSpace(after), "\n")
	for len(a) > 0 && len(b) > 0 && a[0] == b[0] {
		a, b = a[1:], b[1:]
	}
	for len(a) > 0 && len(b) > 0 && a[len(a)-1] == b[len(b)-1] {
		a, b = a[:len(a)-1], b[:len(b)-1]
	}
	line := func(lines []string) string { return strings.Join(strings.Fields(strings.Join(lines, " ")), " ") }
	return line(a), line(b)
}

// Summary is a change in one line, for the history.
func Summary(ds []Difference) string {
	words := make([]string, 0, len(ds))
	for _, d := range ds {
		words = append(words, d.String())
		if len(words) == 4 && len(ds) > 5 {
			words = append(words, fmt.Sprintf("and %d more", len(ds)-4))
			break
		}
	}
	return strings.Join(words, "; ")
}

func flat(d Document) map[string]string {
	out := map[string]string{}
	lanes := d.Lanes
	d.Lanes = nil
	flatten(out, "", reflect.ValueOf(d))
	delete(out, "lanes")
	for _, l := range lanes {
		flatten(out, "lanes."+l.Name, reflect.ValueOf(l))
	}
	return out
}

func flatten(out map[string]string, path string, v reflect.Value) {
	if v.Kind() != reflect.Struct {
		if v.Kind() == reflect.Slice && v.Len() == 0 && path != "" {
			out[path] = "none"
			return
		}
		text, err := json.Marshal(v.Interface())
		if err == nil {
			out[path] = strings.ReplaceAll(strings.Trim(string(text), `"[]`), `","`, ", ")
		}
		return
	}
	for i := range v.NumField() {
		name, options, _ := strings.Cut(v.Type().Field(i).Tag.Get("json"), ",")
		if options == "omitempty" && v.Field(i).IsZero() {
			continue
		}
		if path != "" {
			name = path + "." + name
		}
		flatten(out, name, v.Field(i))
	}
}
