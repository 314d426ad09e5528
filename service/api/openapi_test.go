package api

import (
	"encoding/json"
	"reflect"
	"sort"
	"strings"
	"testing"

	"github.com/gofiber/fiber/v3"

	"echolane/core/policy"
	"echolane/service/source"
)

type description struct {
	Paths      map[string]map[string]json.RawMessage
	Components struct {
		Schemas map[string]struct {
			Required   []string
			Properties map[string]json.RawMessage
		}
	}
}

func described(t *testing.T) description {
	t.Helper()
	var d description
	if err := json.Unmarshal(Description, &d); err != nil {
		t.Fatal(err)
	}
	return d
}

func TestEveryRouteIsDescribedAndEveryDescriptionRouted(t *testing.T) {
	app := fiber.New()
	(&API{}).Mount(app)
	routed := map[string]bool{}
	for _, r := range app.GetRoutes() {
		if r.Method == "HEAD" {
			continue
		}
		var parts []string
		for _, p := range strings.Split(r.Path, "/") {
			if strings.HasPrefix(p, ":") {
				p = "{" + p[1:] + "}"
			}
			parts = append(parts, p)
		}
		routed[strings.ToLower(r.Method)+" "+strings.Join(parts, "/")] = true
	}
	told := map[string]bool{}
	for path, methods := range described(t).Paths {
		for m := range methods {
			if m != "parameters" {
				told[m+" "+path] = true
			}
		}
	}
	if !reflect.DeepEqual(routed, told) {
		t.Errorf("routed %v\ndescribed %v", routed, told)
	}
}

func TestSchemasAreWhatIsAnswered(t *testing.T) {
	schemas := described(t).Components.Schemas
	for name, v := range map[string]any{
		"Site": Site{}, "NewSite": NewSite{}, "Lane": Lane{}, "NewLane": NewLane{}, "Sources": Sources{}, "Source": source.Entry{}, "Facts": source.Facts{}, "Problem": policy.Refusal{},
	} {
		var fields, required []string
		typ := reflect.TypeOf(v)
		for i := range typ.NumField() {
			tag, options, _ := strings.Cut(typ.Field(i).Tag.Get("json"), ",")
			fields = append(fields, tag)
			if !strings.Contains(options, "omitempty") {
				required = append(required, tag)
			}
		}
		if name == "Problem" { // the refusal's own fields, and where its reason is described
			fields, required = append(fields, "type"), append(required, "type")
		}
		var listed []string
		for p := range schemas[name].Properties {
			listed = append(listed, p)
		}
		want := schemas[name].Required
		for _, l := range [][]string{fields, required, listed, want} {
			sort.Strings(l)
		}
		if !reflect.DeepEqual(fields, listed) {
			t.Errorf("%s has the fields %v, described are %v", name, fields, listed)
		}
		if !reflect.DeepEqual(required, want) {
			t.Errorf("%s always has %v, described as required are %v", name, required, want)
		}
	}
}
