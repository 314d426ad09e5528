package main

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"
)

// described holds a JSON value against a schema of the service's own description, as far as that says
// anything: types, required and described properties, formats.
func described(all map[string]any, schema map[string]any, v any, at string) error {
	if ref, ok := schema["$ref"].(string); ok {
		target, ok := all[ref[strings.LastIndexByte(ref, '/')+1:]].(map[string]any)
		if !ok {
			return fmt.Errorf("%s: %s isn't there", at, ref)
		}
		return described(all, target, v, at)
	}
	if choices, ok := schema["oneOf"].([]any); ok {
		var last error
		for _, s := range choices {
			if last = described(all, s.(map[string]any), v, at); last == nil {
				return nil
			}
		}
		return last
	}
	switch schema["type"] {
	case "object":
		o, ok := v.(map[string]any)
		if !ok {
			return fmt.Errorf("%s is %T, not an object", at, v)
		}
		properties := schema["properties"].(map[string]any)
		for _, r := range schema["required"].([]any) {
			if _, ok := o[r.(string)]; !ok {
				return fmt.Errorf("%s has no %s", at, r)
			}
		}
		for name, value := range o {
			p, ok := properties[name].(map[string]any)
			if !ok {
				return fmt.Errorf("%s.%s isn't described", at, name)
			}
			if err := described(all, p, value, at+"."+name); err != nil {
				return err
			}
		}
	case "array":
		list, ok := v.([]any)
		if !ok {
			return fmt.Errorf("%s is %T, not an array", at, v)
		}
		for i, item := range list {
			if err := described(all, schema["items"].(map[string]any), item, fmt.Sprintf("%s[%d]", at, i)); err != nil {
				return err
			}
		}
	case "string":
		s, ok := v.(string)
		if !ok {
			return fmt.Errorf("%s is %T, not a string", at, v)
		}
		if schema["format"] == "date-time" {
			if _, err := time.Parse(time.RFC3339, s); err != nil {
				return fmt.Errorf("%s: %w", at, err)
			}
		}
	case "integer", "number":
		if _, ok := v.(float64); !ok {
			return fmt.Errorf("%s is %T, not a number", at, v)
		}
	case "boolean":
		if _, ok := v.(bool); !ok {
			return fmt.Errorf("%s is %T, not a boolean", at, v)
		}
	case "null":
		if v != nil {
			return fmt.Errorf("%s is %T, not null", at, v)
		}
	default:
		return fmt.Errorf("%s: the schema %v says nothing", at, schema)
	}
	return nil
}

func TestAnswersAreAsDescribed(t *testing.T) {
	t.Parallel()
	s := bed.Kestrel(t)
	addOwner(t, s)
	bed.Must(t, s, "lane", "add", "kestrel/incoming", "--upload", "--folder", t.TempDir())
	bed.Must(t, s, "lane", "add", "kestrel/press", "--allow", "http://*.kestrel.test/*")
	bed.Must(t, s, "lane", "secret", "kestrel/press", "--header", "Authorization: x")
	bed.Must(t, s, "upload", "put", bed.Pictures+"/mark.png", "kestrel/incoming")
	bed.Must(t, s, "key", "add", "kestrel", "k1")
	bed.Must(t, s, "token", "add", "t")
	s.Get(t, "/kestrel/catalogue/mark.png?width=50")
	s.Ask(t, "POST", "/-/api/v1/sites/kestrel/weighings", strings.NewReader(`{"page": "http://10.0.0.1/"}`))
	s.Ask(t, "POST", "/-/api/v1/sites/kestrel/warmings", strings.NewReader(`{"lane": "catalogue", "below": "mark", "widths": [40]}`))
	s.Get(t, "/kestrel/press/http%3A%2F%2Fa.test%2Fb.jpg")
	var list struct{ Items []struct{ ID int } }
	if err := json.Unmarshal(s.Get(t, "/-/api/v1/refusals").Data, &list); err != nil || len(list.Items) != 1 {
		t.Fatalf("%+v, %v", list, err)
	}
	var doc map[string]any
	if err := json.Unmarshal(s.Get(t, "/-/api/openapi.json").Data, &doc); err != nil {
		t.Fatal(err)
	}
	schemas := doc["components"].(map[string]any)["schemas"].(map[string]any)
	fill := strings.NewReplacer("{site}", "kestrel", "{version}", "1", "{weighing}", "1", "{warming}", "1", "{refusal}", fmt.Sprint(list.Items[0].ID))
	query := map[string]string{
		"/sites/{site}/sheet/layers": "source=catalogue/mark.png", "/sites/{site}/lanes/{lane}/test": "source=http://a.kestrel.test/b.jpg", "/sites/{site}/lanes/{lane}/versions": "path=mark.png", "/sites/{site}/lanes/{lane}/facts": "path=mark.png",
	}
	lanes := map[string]string{"/sites/{site}/lanes/{lane}/secrets": "press", "/sites/{site}/lanes/{lane}/test": "press", "/sites/{site}/lanes/{lane}/versions": "incoming"}
	bodies := map[string]string{
		"post /sites": `{"site": "made"}`, "put /sites/{site}": "", "post /sites/{site}/restore": `{"version": 1}`, "post /sites/{site}/keys": `{"id": "k2"}`,
		"post /sites/{site}/sign": `{"address": "/kestrel/catalogue/mark.png", "key": "k1"}`, "post /sites/{site}/lanes": `{"name": "more", "folder": "` + bed.Pictures + `"}`,
		"post /tokens": `{"name": "u", "may": "read"}`, "post /people": `{"name": "kite", "password": "0123456789", "may": "read"}`, "post /session": `{"name": "wren", "password": "kites in the wind"}`,
		"post /refusals/{refusal}/mend": "", "post /sites/{site}/sheet/check": `{"text": "* { quality: 72 } .a { widht: 3px }"}`, "post /sites/{site}/sheet/restore": `{"version": 1, "anyway": true}`,
		"post /sites/{site}/markup": `{"source": "catalogue/mark.png", "slot": "width: 64px", "decorative": true}`, "post /sites/{site}/weighings": `{"page": "http://10.0.0.1/"}`,
		"post /sites/{site}/warmings": `{"lane": "catalogue", "widths": [40]}`, "post /sites/{site}/purges": `{"lane": "catalogue", "path": "mark.png"}`,
	}
	asked := 0
	for path, methods := range doc["paths"].(map[string]any) {
		for method, operation := range methods.(map[string]any) {
			body, isListed := bodies[method+" "+path]
			if method != "get" && !isListed || strings.HasSuffix(path, "/original") || strings.HasSuffix(path, "/preview") || strings.HasSuffix(path, "/page") || strings.HasSuffix(path, "{shot}") {
				continue
			}
			lane := lanes[path]
			if lane == "" {
				lane = "catalogue"
			}
			at := "/-/api/v1" + strings.ReplaceAll(fill.Replace(path), "{lane}", lane) + "?" + query[path]
			if method == "put" {
				body = string(s.Get(t, "/-/api/v1/sites/kestrel/history/1").Data)
			}
			if strings.HasSuffix(path, "/mend") || strings.HasSuffix(path, "{site}/restore") || method == "put" {
				at += "&dry_run=true"
			}
			a := s.Ask(t, strings.ToUpper(method), at, strings.NewReader(body), "If-Match", "*")
			response, ok := operation.(map[string]any)["responses"].(map[string]any)[fmt.Sprint(a.StatusCode)].(map[string]any)
			if !ok {
				t.Errorf("%s %s answers %d, which isn't described: %s", method, at, a.StatusCode, a.Data)
				continue
			}
			schema := response["content"].(map[string]any)["application/json"].(map[string]any)["schema"].(map[string]any)
			var v any
			if err := json.Unmarshal(a.Data, &v); err != nil {
				t.Errorf("%s %s: %v", method, at, err)
				continue
			}
			if err := described(schemas, schema, v, "answer"); err != nil {
				t.Errorf("%s %s: %v in %s", method, at, err, a.Data)
			}
			asked++
		}
	}
	if asked < 28 {
		t.Errorf("only %d calls were looked at", asked)
	}
	var no any
	if err := json.Unmarshal(s.Get(t, "/-/api/v1/sites/none").Data, &no); err != nil {
		t.Fatal(err)
	}
	delete(no.(map[string]any), "type")
	if err := described(schemas, schemas["Problem"].(map[string]any), no, "problem"); err != nil {
		t.Error(err)
	}
}
