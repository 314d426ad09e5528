package api

import (
	"fmt"
	"go/format"
	"maps"
	"reflect"
	"regexp"
	"runtime"
	"slices"
	"strings"
	"unicode"
)

// A call is an operation as its clients see it.
type call struct {
	operation
	name    string       // the handler's
	path    []string     // the parameters of the path
	query   []parameter  // those of the query, but for pages and dry runs
	item    reflect.Type // of a list, nil where the answer is none
	answers reflect.Type // nil: nothing; of bytes: as they are
	dry     bool         // a dry run answers with a proposal
}

// numbered are the path's parameters that are numbers.
var numbered = []string{"version", "weighing", "shot", "refusal", "token", "person"}

func calls() []call {
	var all []call
	for _, o := range (&API{}).operations() {
		handler := runtime.FuncForPC(reflect.ValueOf(o.handler).Pointer()).Name()
		c := call{operation: o, name: strings.TrimSuffix(handler[strings.LastIndexByte(handler, '.')+1:], "-fm"), dry: o.proposes()}
		for _, m := range pathParameter.FindAllStringSubmatch(o.path, -1) {
			c.path = append(c.path, m[1])
		}
		for _, q := range o.query {
			if !slices.Contains(byPage, q) && !(c.dry && q == dryRun) {
				c.query = append(c.query, q)
			}
		}
		switch o.answer.(type) {
		case nil:
		case image, page:
			c.answers = reflect.TypeFor[[]byte]()
		default:
			c.answers = reflect.TypeOf(o.answer)
			if strings.HasPrefix(c.answers.Name(), "Page[") {
				items, _ := c.answers.FieldByName("Items")
				c.item = items.Type.Elem()
			}
		}
		all = append(all, c)
	}
	return all
}

func exported(name string) string { return string(unicode.ToUpper(rune(name[0]))) + name[1:] }

// goName is a type as the client package names it, and imports what that takes.
func goName(t reflect.Type, imports map[string]bool) string {
	if t == reflect.TypeFor[[]byte]() {
		return "[]byte"
	}
	imports[t.PkgPath()] = true
	return t.PkgPath()[strings.LastIndexByte(t.PkgPath(), '/')+1:] + "." + t.Name()
}

// argument is a parameter's name in code.
func argument(name string) string {
	if name == "class" { // a word of the console's language
		return "named"
	}
	parts := strings.Split(name, "_")
	for i := range parts[1:] {
		parts[i+1] = exported(parts[i+1])
	}
	return strings.Join(parts, "")
}

// sentence is a function's comment.
func sentence(name, method, path, summary string) string {
	return name + " is " + method + " " + path + ": " + summary + "."
}

// Calls writes the Go client's methods.
func Calls() ([]byte, error) {
	imports := map[string]bool{"context": true, "io": true}
	var b strings.Builder
	for _, c := range calls() {
		method := func(name, summary string, answers reflect.Type, dry bool) {
			var args []string
			for _, p := range c.path {
				kind := "string"
				if slices.Contains(numbered, p) {
					kind = "int64"
				}
				args = append(args, argument(p)+" "+kind)
			}
			for _, q := range c.query {
				args = append(args, argument(q.name)+" "+reflect.TypeOf(q.of).String())
			}
			in := "nil"
			switch c.body.(type) {
			case nil:
			case upload:
				in = "in"
				args = append(args, "in io.Reader")
			default:
				in = "in"
				args = append(args, "in "+goName(reflect.TypeOf(c.body), imports))
			}
			if c.ifMatch && !dry {
				args = append(args, "from int64")
			}
			// The path, made of its parts.
			path := regexp.MustCompile(`:[a-z]+`).ReplaceAllStringFunc(c.operation.path, func(p string) string {
				return `" + escaped(` + argument(p[1:]) + `) + "`
			})
			path = strings.TrimSuffix(`"`+path+`"`, ` + ""`)
			var pairs []string
			for _, q := range c.query {
				pairs = append(pairs, fmt.Sprintf("%q, %s", q.name, argument(q.name)))
			}
			if dry {
				pairs = append(pairs, fmt.Sprintf("%q, true", dryRun.name))
			}
			if pairs != nil {
				path += " + query(" + strings.Join(pairs, ", ") + ")"
			}
			fmt.Fprintf(&b, "// %s\nfunc (c *Client) %s(ctx context.Context", sentence(name, c.method, c.operation.path, summary), name)
			for _, a := range args {
				b.WriteString(", " + a)
			}
			rest := ""
			if c.ifMatch && !dry {
				rest = `, "If-Match", etag(from)`
			}
			switch {
			case c.item != nil:
				item := goName(c.item, imports)
				fmt.Fprintf(&b, ") ([]%s, error) {\n\treturn all[%s](ctx, c, %s)\n}\n\n", item, item, path)
			case answers == nil:
				fmt.Fprintf(&b, ") error {\n\treturn c.call(ctx, %q, %s, %s, nil%s)\n}\n\n", c.method, path, in, rest)
			default:
				fmt.Fprintf(&b, ") (out %s, err error) {\n\terr = c.call(ctx, %q, %s, %s, &out%s)\n\treturn out, err\n}\n\n", goName(answers, imports), c.method, path, in, rest)
			}
		}
		method(exported(c.name), c.summary, c.answers, false)
		if c.dry {
			method("Propose"+exported(c.name), "what "+exported(c.name)+" would change", reflect.TypeFor[Proposal](), true)
		}
	}
	var head strings.Builder
	head.WriteString("// Made from the API's operations by go generate ./service/api.\n\npackage client\n\nimport (\n")
	paths := slices.Sorted(maps.Keys(imports))
	for _, p := range paths {
		if !strings.Contains(p, "/") {
			fmt.Fprintf(&head, "\t%q\n", p)
		}
	}
	head.WriteString("\n")
	for _, p := range paths {
		if strings.Contains(p, "/") {
			fmt.Fprintf(&head, "\t%q\n", p)
		}
	}
	head.WriteString(")\n\n")
	return format.Source([]byte(head.String() + strings.TrimRight(b.String(), "\n") + "\n"))
}

// Scripts writes the console's functions.
func Scripts() ([]byte, error) {
	var b strings.Builder
	b.WriteString("// Made from the API's operations by go generate ./service/api.\nimport { all, at, base, get, query, send, type Schemas } from \"./client\";\n")
	for _, c := range calls() {
		function := func(name, summary, answers string, dry bool) {
			var args []string
			for _, p := range c.path {
				kind := "string"
				if slices.Contains(numbered, p) {
					kind = "number"
				}
				args = append(args, argument(p)+": "+kind)
			}
			for _, q := range c.query {
				args = append(args, argument(q.name)+": "+map[reflect.Kind]string{reflect.String: "string", reflect.Bool: "boolean", reflect.Int: "number", reflect.Float64: "number"}[reflect.TypeOf(q.of).Kind()])
			}
			at := regexp.MustCompile(`:([a-z]+)`).ReplaceAllStringFunc(c.operation.path, func(p string) string { return "${" + argument(p[1:]) + "}" })
			at = "at`" + at + "`"
			var pairs []string
			for _, q := range c.query {
				if pair := argument(q.name); pair == q.name {
					pairs = append(pairs, pair)
				} else {
					pairs = append(pairs, q.name+": "+pair)
				}
			}
			if dry {
				pairs = append(pairs, dryRun.name+": true")
			}
			if pairs != nil {
				at += " + query({ " + strings.Join(pairs, ", ") + " })"
			}
			if c.answers == reflect.TypeFor[[]byte]() {
				fmt.Fprintf(&b, "\n// %s\nexport const %sAddress = (%s) => base + %s;\n", sentence(name+"Address", c.method, c.operation.path, summary), name, strings.Join(args, ", "), at)
				return
			}
			fmt.Fprintf(&b, "\n// %s\n", sentence(name, c.method, c.operation.path, summary))
			if c.method == "GET" {
				way := "get"
				if c.item != nil {
					way = "all"
				}
				fmt.Fprintf(&b, "export const %s = (%s) => %s<%s>(%s, signal);\n", name, strings.Join(append(args, "signal?: AbortSignal"), ", "), way, answers, at)
				return
			}
			rest := ""
			switch c.body.(type) {
			case nil:
				if c.ifMatch && !dry {
					rest = ", undefined"
				}
			case upload:
				args, rest = append(args, "body: Blob"), ", body"
			default:
				args, rest = append(args, fmt.Sprintf("body: Schemas[%q]", schemaName(reflect.TypeOf(c.body)))), ", body"
			}
			if c.ifMatch && !dry {
				args, rest = append(args, `from: number | "*"`), rest+", from"
			}
			fmt.Fprintf(&b, "export const %s = (%s) => send<%s>(%q, %s%s);\n", name, strings.Join(args, ", "), answers, c.method, at, rest)
		}
		name, answers := c.name, "void"
		switch {
		case c.item != nil:
			name, answers = "list"+exported(name), fmt.Sprintf("Schemas[%q]", schemaName(c.item))
		case c.answers != nil && c.answers != reflect.TypeFor[[]byte]():
			answers = fmt.Sprintf("Schemas[%q]", schemaName(c.answers))
			if c.method == "GET" {
				name = "get" + exported(name)
			}
		}
		function(name, c.summary, answers, false)
		if c.dry {
			function("propose"+exported(c.name), "what "+c.name+" would change", `Schemas["Proposal"]`, true)
		}
	}
	return []byte(b.String()), nil
}
