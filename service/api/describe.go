package api

import (
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"echolane/core/declare"
	"echolane/core/markup"
	"echolane/core/policy"
	"echolane/core/sheet"
	"echolane/service/lane"
	"echolane/service/problem"
	"echolane/service/records"
	"echolane/service/source"
)

//go:generate go run echolane/service/api/describe

// An operation is one call: what routes it and what describes it are the same entry, so they can't differ.
type operation struct {
	method, path string
	handler      fiber.Handler
	summary      string
	query        []parameter
	body         any // nil: none; upload{}: any image
	answer       any // nil: none; image{}: the source's bytes; page{}: HTML
	status       int
	ifMatch      bool // must say which version it changes
}

// A parameter of the query; of is a value of its type: a text, a truth value, a number.
type parameter struct {
	name, what string
	of         any
}

type (
	upload struct{}
	image  struct{}
	page   struct{}
)

var (
	byPage = []parameter{{"limit", "how many items, 1 to 1000; 100 where it's absent", 0}, {"after", "the next of the page before", ""}}
	dryRun = parameter{"dry_run", "true: say what would change, and change nothing", false}
	byPath = parameter{"path", "the source's path in its lane", ""}
)

// operations are all calls, in the order of the work.
func (a *API) operations() []operation {
	return []operation{
		{"GET", "/session", a.session, "who calls, and whether the service has an owner", nil, nil, Session{}, 200, false},
		{"POST", "/session", a.signIn, "sign in", nil, SignIn{}, Session{}, 200, false},
		{"DELETE", "/session", a.signOut, "sign out", nil, nil, nil, 204, false},
		{"POST", "/session/link", a.useLink, "sign in, or become the first owner, by a one-time link", nil, UseLink{}, Session{}, 200, false},
		{"PUT", "/session/password", a.setPassword, "take another password; other sessions end", nil, NewPassword{}, Session{}, 200, false},

		{"GET", "/language", a.language, "what a sheet may say: properties, and what their values may be", nil, nil, Language{}, 200, false},
		{"POST", "/css", a.rules, "what becomes of a stylesheet's rules in an image's URL", nil, RuleText{}, Rules{}, 200, false},
		{"GET", "/sites", a.sites, "all sites that the caller may see", byPage, nil, Page[Site]{}, 200, false},
		{"POST", "/sites", a.addSite, "add a site; what the document leaves out is as for every new site", []parameter{dryRun}, policy.Document{}, Site{}, 201, false},
		{"GET", "/sites/:site", a.site, "one site", nil, nil, Site{}, 200, false},
		{"PUT", "/sites/:site", a.putSite, "give a site another document", []parameter{dryRun}, policy.Document{}, Site{}, 200, true},
		{"DELETE", "/sites/:site", a.removeSite, "remove a site with its secrets; its history stays", nil, nil, nil, 204, true},
		{"GET", "/sites/:site/history", a.history, "who changed what, newest first", byPage, nil, Page[records.Change]{}, 200, false},
		{"GET", "/sites/:site/history/:version", a.documentAt, "the document as a version had it", nil, nil, policy.Document{}, 200, false},
		{"POST", "/sites/:site/restore", a.restore, "go back to a version's document, as a new version", []parameter{dryRun}, Restore{}, Site{}, 200, true},
		{"GET", "/sites/:site/usage", a.usage, "what was used, by month, newest first", nil, nil, Page[records.Usage]{}, 200, false},
		{"GET", "/sites/:site/ladder", a.ladder, "a ladder for the site, as a proposal", []parameter{{"from", "the lowest rung, device pixels", 0}, {"to", "the highest", 0}, {"waste", "the most pixels too many from rung to rung, 0.5 is half as many again", 0.0}}, nil, LadderProposal{}, 200, false},

		{"GET", "/sites/:site/sheet", a.sheet, "the site's stylesheet, and the draft of another", nil, nil, Sheet{}, 200, false},
		{"PUT", "/sites/:site/sheet", a.publishSheet, "publish a sheet; a draft with the same text is done with", nil, PublishSheet{}, Sheet{}, 200, true},
		{"POST", "/sites/:site/sheet/check", a.checkSheet, "what is wrong with a sheet, and what publishing it would do", nil, SheetText{}, CheckedSheet{}, 200, false},
		{"PUT", "/sites/:site/sheet/draft", a.putDraft, "keep a draft, right or not", nil, SheetText{}, Sheet{}, 200, false},
		{"DELETE", "/sites/:site/sheet/draft", a.dropDraft, "forget the draft", nil, nil, nil, 204, false},
		{"GET", "/sites/:site/sheet/preview", a.preview, "a source drawn by a class; what its cards show may also be given by further parameters, data-…", []parameter{{"source", "lane/path", ""}, {"class", "a class, or several with a space between; absent: what holds for every picture", ""}, {"draft", "true: as the draft has it", false}, {"data", "what its cards show, as data-title=Kites&data-price=49", ""}}, nil, image{}, 200, false},
		{"GET", "/sites/:site/sheet/layers", a.layers, "where the layers of a source drawn by a class lie, and which texts are too large for theirs; parameters as for preview", []parameter{{"source", "lane/path", ""}, {"class", "a class, or several with a space between; absent: what holds for every picture", ""}, {"draft", "true: as the draft has it", false}, {"data", "what its cards show, as data-title=Kites&data-price=49", ""}}, nil, LaidOut{}, 200, false},
		{"GET", "/sites/:site/sheet/history", a.sheetHistory, "the changes in which the sheet changed, newest first", nil, nil, Page[records.Change]{}, 200, false},
		{"POST", "/sites/:site/sheet/restore", a.restoreSheet, "publish the sheet of a version again", nil, RestoreSheet{}, Sheet{}, 200, true},

		{"GET", "/sites/:site/set-aside", a.setAside, "sources that nothing is made of, since render workers died over them", byPage, nil, Page[records.SetAside]{}, 200, false},
		{"DELETE", "/sites/:site/set-aside", a.readmit, "have one worked on again, or all", []parameter{{"digest", "the source's, or its beginning; absent: all", ""}}, nil, Readmitted{}, 200, false},

		{"GET", "/today", a.today, "what was answered lately, and how the nodes are", []parameter{{"site", "of one site; absent: of all", ""}, {"span", "hour, day or month; absent: hour", ""}}, nil, Today{}, 200, false},
		{"GET", "/stock", a.stockOfAll, "the kept variants of all sites", []parameter{{"by", "how it is grouped: site, lane, source or format; absent: site", ""}, {"count", "how many groups, 1 to 1000; absent: 100", 0}}, nil, Stock{}, 200, false},
		{"GET", "/sites/:site/stock", a.stock, "a site's kept variants", []parameter{{"by", "how it is grouped: lane, source or format; absent: lane", ""}, {"count", "how many groups, 1 to 1000; absent: 100", 0}}, nil, Stock{}, 200, false},
		{"GET", "/sites/:site/variants", a.stockVariants, "variants that are kept", []parameter{{"lane", "of one lane; absent: of all", ""}, {"path", "of a source in the lane; of all below it where it ends in a slash", ""}, {"order", "largest, coldest, most-asked or newest; absent: largest", ""}, {"count", "how many, 1 to 1000; absent: 100", 0}, {"skip", "how many are passed over", 0}}, nil, StockList{}, 200, false},
		{"GET", "/sites/:site/found", a.found, "sources that were looked at, by what was found in them", []parameter{{"find", "terms with spaces between, all of which hold: name:delta colour:red faces:>0 width:>2000; absent: all", ""}, {"lane", "of one lane; absent: of all", ""}, {"count", "how many, 1 to 1000; absent: 100", 0}, {"behind", "lane/path of the last one that is known already", ""}}, nil, FoundSources{}, 200, false},
		{"GET", "/sites/:site/purges", a.purges, "what was purged, newest first", byPage, nil, Page[records.Purge]{}, 200, false},
		{"POST", "/sites/:site/purges", a.purge, "forget kept variants, on every node", nil, AskPurge{}, Purged{}, 200, false},

		{"GET", "/sites/:site/warmings", a.warmings, "what is or was made ahead, newest first", byPage, nil, Page[Warming]{}, 200, false},
		{"POST", "/sites/:site/warmings", a.warm, "begin to make variants before somebody asks for them", nil, AskWarm{}, Warming{}, 202, false},
		{"GET", "/sites/:site/warmings/:warming", a.warming, "how far it is, and why something was left out", nil, nil, Warming{}, 200, false},
		{"PUT", "/sites/:site/warmings/:warming", a.setWarming, "have it paused, go on, or stopped", nil, SetWarming{}, Warming{}, 200, false},

		{"POST", "/sites/:site/markup", a.markup, "the HTML for a source in a slot; some variants are made to choose its widths", nil, AskMarkup{}, Markup{}, 200, false},
		{"GET", "/sites/:site/weighings", a.weighings, "weigh-ins of pages, newest first", byPage, nil, Page[records.Weighing]{}, 200, false},
		{"POST", "/sites/:site/weighings", a.weigh, "begin to weigh a page", nil, AskWeighing{}, Weighing{}, 202, false},
		{"GET", "/sites/:site/weighings/:weighing", a.weighing, "how far it is, or what it came to", nil, nil, Weighing{}, 200, false},
		{"GET", "/sites/:site/weighings/:weighing/page", a.weighingPage, "the report as a page by itself", nil, nil, page{}, 200, false},
		{"GET", "/sites/:site/weighings/:weighing/shots/:shot", a.weighingShot, "one of the report's screenshots, by its number", nil, nil, image{}, 200, false},
		{"DELETE", "/sites/:site/weighings/:weighing", a.stopWeighing, "stop it, or forget it", nil, nil, nil, 204, false},

		{"GET", "/sites/:site/keys", a.keys, "the site's signing keys, without what they say", byPage, nil, Page[Key]{}, 200, false},
		{"POST", "/sites/:site/keys", a.addKey, "add a signing key; its secret is shown this once", nil, NewKey{}, MadeKey{}, 201, false},
		{"DELETE", "/sites/:site/keys/:key", a.removeKey, "take a key back: what it signed ends", nil, nil, nil, 204, false},
		{"POST", "/sites/:site/sign", a.sign, "sign an address", nil, ToSign{}, Signed{}, 200, false},

		{"GET", "/sites/:site/lanes", a.lanes, "the site's lanes", byPage, nil, Page[policy.Lane]{}, 200, false},
		{"POST", "/sites/:site/lanes", a.addLane, "add a lane", []parameter{dryRun}, policy.Lane{}, Site{}, 200, false},
		{"GET", "/sites/:site/lanes/:lane", a.lane, "one lane", nil, nil, policy.Lane{}, 200, false},
		{"PUT", "/sites/:site/lanes/:lane", a.putLane, "change a lane", []parameter{dryRun}, policy.Lane{}, Site{}, 200, true},
		{"DELETE", "/sites/:site/lanes/:lane", a.removeLane, "remove a lane; its sources stay where they are", []parameter{dryRun}, nil, Site{}, 200, true},
		{"GET", "/sites/:site/lanes/:lane/secrets", a.secrets, "which secrets the lane has", byPage, nil, Page[records.Secret]{}, 200, false},
		{"PUT", "/sites/:site/lanes/:lane/secrets", a.putSecret, "keep credentials, or a request header; never shown again", nil, LaneSecret{}, nil, 204, false},
		{"DELETE", "/sites/:site/lanes/:lane/secrets", a.removeSecret, "forget a secret", []parameter{{"name", "as it is listed", ""}}, nil, nil, 204, false},
		{"GET", "/sites/:site/lanes/:lane/test", a.testLane, "whether a source would be allowed, and by which rule", []parameter{{"source", "the source's path, or its URL", ""}}, nil, TestedLane{}, 200, false},
		{"GET", "/sites/:site/lanes/:lane/sources", a.sources, "the lane's sources; of a web lane those that were asked for", byPage, nil, Page[source.Entry]{}, 200, false},
		{"GET", "/sites/:site/lanes/:lane/focuses", a.focuses, "where people have said that the subjects of the lane's sources are", byPage, nil, Page[Focus]{}, 200, false},
		{"PUT", "/sites/:site/lanes/:lane/focuses", a.setFocus, "say where a source's subject is", nil, SetFocus{}, Focus{}, 200, false},
		{"DELETE", "/sites/:site/lanes/:lane/focuses", a.removeFocus, "take back what was said of a source's subject", []parameter{byPath}, nil, nil, 204, false},
		{"POST", "/sites/:site/lanes/:lane/sources", a.upload, "put a source into an upload lane, as the body or as a form's file", []parameter{byPath}, upload{}, Uploaded{}, 201, false},
		{"POST", "/sites/:site/lanes/:lane/uploads", a.uploads, "put several sources into an upload lane: the files of a form, by their names", []parameter{{"path", "folder that they are put below; absent: the lane's own", ""}}, upload{}, Page[Upload]{}, 200, false},
		{"DELETE", "/sites/:site/lanes/:lane/sources", a.removeSource, "remove an uploaded source with all its versions", []parameter{byPath}, nil, nil, 204, false},
		{"POST", "/sites/:site/lanes/:lane/versions/restore", a.restoreVersion, "have an older version of an uploaded source be the newest again", nil, RestoreVersion{}, source.Uploaded{}, 200, false},
		{"GET", "/sites/:site/lanes/:lane/versions", a.versions, "an uploaded source's versions, newest first", []parameter{byPath}, nil, Page[source.Uploaded]{}, 200, false},
		{"GET", "/sites/:site/lanes/:lane/facts", a.facts, "what a source's header says", []parameter{byPath}, nil, source.Facts{}, 200, false},
		{"GET", "/sites/:site/lanes/:lane/original", a.original, "the source as it lies there", []parameter{byPath, {"version", "of an uploaded source; absent: the newest", 0}}, nil, image{}, 200, false},

		{"GET", "/refusals", a.refusals, "what was turned down, the most frequent first", append([]parameter{{"site", "of one site; absent: of all", ""}}, byPage...), nil, Page[Refusal]{}, 200, false},
		{"POST", "/refusals/:refusal/mend", a.mend, "make the change of settings that would have let it through", []parameter{dryRun, {"only", "true: what is added may be the only one that is allowed, where all were", false}}, nil, Mended{}, 200, true},
		{"DELETE", "/refusals/:refusal", a.forgetRefusal, "take it off the list until it comes again", nil, nil, nil, 204, false},

		{"GET", "/tokens", a.tokens, "all tokens, without what they say", byPage, nil, Page[records.Token]{}, 200, false},
		{"POST", "/tokens", a.addToken, "make a token; what it says is shown this once", nil, NewToken{}, MadeToken{}, 201, false},
		{"DELETE", "/tokens/:token", a.removeToken, "revoke a token", nil, nil, nil, 204, false},
		{"GET", "/people", a.people, "everybody who may sign in", byPage, nil, Page[records.Person]{}, 200, false},
		{"POST", "/people", a.addPerson, "add somebody", nil, NewPerson{}, records.Person{}, 201, false},
		{"DELETE", "/people/:person", a.removePerson, "remove somebody and end their sessions", nil, nil, nil, 204, false},
	}
}

type object = map[string]any

// proposes reports whether a dry run answers with a proposal.
func (o operation) proposes() bool {
	_, site := o.answer.(Site)
	return site && slices.Contains(o.query, dryRun)
}

// Made are the files that are made from the operations, by their paths from this package's folder.
var Made = map[string]func() ([]byte, error){
	"openapi.json":                   Describe,
	"client/calls.go":                Calls,
	"../../console/src/api/calls.ts": Scripts,
	"../../console/src/api/words.ts": Words,
}

// Describe writes the OpenAPI 3.1 document.
func Describe() ([]byte, error) {
	d := describer{schemas: object{}}
	problem := object{"description": "why not, as RFC 9457 has it", "content": object{"application/problem+json": object{"schema": d.of(reflect.TypeFor[problem.Details]())}}}
	paths := object{}
	for _, o := range (&API{}).operations() {
		path := pathParameter.ReplaceAllString(o.path, "{$1}")
		at, ok := paths[path].(object)
		if !ok {
			at = object{}
			paths[path] = at
		}
		call := object{"summary": o.summary, "responses": object{"default": problem}}
		var parameters []object
		for _, m := range pathParameter.FindAllStringSubmatch(o.path, -1) {
			parameters = append(parameters, object{"name": m[1], "in": "path", "required": true, "schema": object{"type": "string"}})
		}
		for _, q := range o.query {
			parameters = append(parameters, object{"name": q.name, "in": "query", "description": q.what, "schema": d.of(reflect.TypeOf(q.of))})
		}
		if o.ifMatch {
			parameters = append(parameters, object{"name": "If-Match", "in": "header", "required": true, "description": "the site's ETag when it was read, or *", "schema": object{"type": "string"}})
		}
		if parameters != nil {
			call["parameters"] = parameters
		}
		switch o.body.(type) {
		case nil:
		case upload:
			call["requestBody"] = object{"required": true, "content": object{"image/*": object{}, "multipart/form-data": object{}}}
		default:
			call["requestBody"] = object{"required": true, "content": object{"application/json": object{"schema": d.of(reflect.TypeOf(o.body))}}}
		}
		answer := object{"description": "done"}
		switch o.answer.(type) {
		case nil:
		case image:
			answer["content"] = object{"image/*": object{}}
		case page:
			answer["content"] = object{"text/html": object{}}
		default:
			schema := d.of(reflect.TypeOf(o.answer))
			if o.proposes() {
				schema = object{"oneOf": []any{schema, d.of(reflect.TypeFor[Proposal]())}}
			}
			answer["content"] = object{"application/json": object{"schema": schema}}
		}
		call["responses"].(object)[statusText(o.status)] = answer
		at[strings.ToLower(o.method)] = call
	}
	d.schemas["Declarations"] = language()
	text, err := json.MarshalIndent(object{
		"openapi": "3.1.0",
		"info":    object{"title": "Echo Lane", "version": "1", "description": "What the console and the command line use. Calls carry a token (Authorization: Bearer) or the console's session."},
		"servers": []object{{"url": "/-/api/v1"}},
		"paths":   paths,
		"components": object{
			"schemas":         d.schemas,
			"securitySchemes": object{"token": object{"type": "http", "scheme": "bearer"}, "session": object{"type": "apiKey", "in": "cookie", "name": cookieName}},
		},
		"security": []object{{"token": []string{}}, {"session": []string{}}},
	}, "", "  ")
	return append(text, '\n'), err
}

// language is the schema of an image URL's query, by names and values.
func language() object {
	properties := object{}
	for _, e := range declare.Entries() {
		p := object{"type": "string", "description": e.Grammar}
		if e.Closed {
			p["enum"] = e.Keywords
		}
		if e.Initial != "" {
			p["default"] = e.Initial
		}
		properties[e.Name] = p
	}
	return object{"type": "object", "description": "what an image URL's query may declare, and what declarations in other calls hold, written as a query", "properties": properties, "additionalProperties": false}
}

var pathParameter = regexp.MustCompile(`:([a-z]+)`)

func statusText(n int) string { b, _ := json.Marshal(n); return string(b) }

// describer turns Go types into JSON Schema, structs by name.
type describer struct{ schemas object }

func (d *describer) of(t reflect.Type) object {
	switch t {
	case reflect.TypeFor[[]byte]():
		return object{"type": "string", "contentEncoding": "base64"}
	case reflect.TypeFor[time.Time]():
		return object{"type": "string", "format": "date-time"}
	}
	switch t.Kind() {
	case reflect.Pointer:
		return d.of(t.Elem())
	case reflect.String:
		return object{"type": "string"}
	case reflect.Bool:
		return object{"type": "boolean"}
	case reflect.Int, reflect.Int64:
		return object{"type": "integer"}
	case reflect.Float64:
		return object{"type": "number"}
	case reflect.Slice:
		return object{"type": "array", "items": d.of(t.Elem())}
	}
	name := schemaName(t)
	if _, ok := d.schemas[name]; !ok {
		d.schemas[name] = object{} // first, in case it holds itself
		properties, required := object{}, []string{}
		d.fields(t, properties, &required)
		d.schemas[name] = object{"type": "object", "properties": properties, "required": required}
	}
	return object{"$ref": "#/components/schemas/" + name}
}

func (d *describer) fields(t reflect.Type, properties object, required *[]string) {
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.Anonymous && name == "" {
			inner := f.Type
			if inner.Kind() == reflect.Pointer {
				inner = inner.Elem()
			}
			d.fields(inner, properties, required)
			continue
		}
		if name == "-" || name == "" {
			continue
		}
		schema := d.of(f.Type)
		if words := wordsOf(f); words != nil && f.Type.Kind() == reflect.Slice {
			schema = object{"type": "array", "items": object{"type": "string", "enum": words}}
		} else if words != nil {
			schema = object{"type": "string", "enum": words}
		}
		if f.Type.Kind() == reflect.Pointer && options == "" {
			schema = object{"oneOf": []any{schema, object{"type": "null"}}}
		}
		properties[name] = schema
		if options != "omitempty" {
			*required = append(*required, name)
		}
	}
}

// wordsOf are the words that may stand in a field, nil where they aren't counted.
func wordsOf(f reflect.StructField) []string {
	switch words := f.Tag.Get(policy.Words); words {
	case "":
		return nil
	case "@kinds":
		return lane.Described.Names()
	case "@formats":
		return declare.FormatNames()
	default:
		return strings.Fields(words)
	}
}

// Words writes the words of the description's fields for the console, by type and field.
func Words() ([]byte, error) {
	d := describer{schemas: object{}}
	for _, o := range (&API{}).operations() {
		for _, part := range []any{o.body, o.answer} {
			switch part.(type) {
			case nil, upload, image, page:
			default:
				d.of(reflect.TypeOf(part))
			}
		}
	}
	var b strings.Builder
	b.WriteString("// The words that may stand in a field, by type and field; made from the API's description by go generate ./service/api.\nexport const words = {\n")
	for _, name := range slices.Sorted(maps.Keys(d.schemas)) {
		properties := d.schemas[name].(object)["properties"].(object)
		var lines []string
		for _, field := range slices.Sorted(maps.Keys(properties)) {
			schema := properties[field].(object)
			if items, ok := schema["items"].(object); ok {
				schema = items
			}
			if list, ok := schema["enum"].([]string); ok {
				text, err := json.Marshal(list)
				if err != nil {
					return nil, err
				}
				lines = append(lines, fmt.Sprintf("    %s: %s,\n", field, strings.ReplaceAll(string(text), ",", ", ")))
			}
		}
		if lines != nil {
			fmt.Fprintf(&b, "  %s: {\n%s  },\n", name, strings.Join(lines, ""))
		}
	}
	b.WriteString("} as const;\n")
	return []byte(b.String()), nil
}

// schemaName is a type's name; a page's says of what. Two types of one name in two packages are told apart.
func schemaName(t reflect.Type) string {
	name := t.Name()
	if of, ok := strings.CutPrefix(name, "Page["); ok {
		of = strings.TrimSuffix(of, "]")
		return "PageOf" + of[strings.LastIndexByte(of, '.')+1:]
	}
	switch t {
	case reflect.TypeFor[problem.Details]():
		return "Problem"
	case reflect.TypeFor[source.Uploaded]():
		return "UploadedVersion"
	case reflect.TypeFor[source.Entry]():
		return "Source"
	case reflect.TypeFor[sheet.Problem]():
		return "SheetProblem"
	case reflect.TypeFor[markup.Source]():
		return "PictureSource"
	case reflect.TypeFor[markup.Markup]():
		return "WrittenMarkup"
	case reflect.TypeFor[records.Weighing]():
		return "WeighingState"
	}
	return name
}
