package main

import (
	"bytes"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"

	"echolane/service/app"
)

var writeReference = flag.Bool("write-reference", false, "write docs/reference.md")

const referenceFile = "../../docs/reference.md"

// docs/reference.md says what there is: it is made from the commands, the metrics and the lines of the log.
func TestTheReferenceIsOfThisCode(t *testing.T) {
	text := reference(t)
	if *writeReference {
		if err := os.WriteFile(referenceFile, text, 0o644); err != nil {
			t.Fatal(err)
		}
	}
	have, err := os.ReadFile(referenceFile)
	if err != nil {
		t.Fatal(err)
	}
	if !bytes.Equal(have, text) {
		t.Error("docs/reference.md is of other code: make reference")
	}
}

func reference(t *testing.T) []byte {
	t.Helper()
	var b bytes.Buffer
	b.WriteString(`# Reference

Made from the code by ` + "`make reference`" + `: options, variables, metrics and lines of the log. What they are for is told in
[operations.md](operations.md).

`)
	c := root()
	all := commands(c, nil)
	b.WriteString("## Settings of the service\n\nOptions of `echolane serve`, which `demo` and `doctor` take too. The option wins over the variable.\n\n")
	b.WriteString("| option | variable | default | |\n|---|---|---|---|\n")
	settings := map[string]bool{}
	for _, f := range serveFlags() {
		name, variable, value, usage := told(f)
		settings[name] = true
		fmt.Fprintf(&b, "| `--%s` | %s | %s | %s |\n", name, code(variable...), code(value), cell(usage))
	}
	b.WriteString("\nBeside them: `AWS_ACCESS_KEY_ID` and `AWS_SECRET_ACCESS_KEY` open the store; PostgreSQL's own `PG…` variables stand in for what the database's URL leaves out.\n")
	b.WriteString("\n## Commands\n\n`echolane COMMAND --help` has examples. Commands that talk to a service take `--server` (`ECHOLANE_SERVER`) and `--token` (`ECHOLANE_TOKEN`).\n")
	for _, one := range all {
		var rows []string
		for _, f := range one.command.Flags {
			name, variable, value, usage := told(f)
			if name == "help" || settings[name] && (one.name == "demo" || one.name == "doctor" || one.name == "serve") || name == "server" || name == "token" && one.name != "serve" {
				continue
			}
			if len(variable) > 0 {
				usage += " (" + strings.Join(variable, ", ") + ")"
			}
			rows = append(rows, fmt.Sprintf("| `--%s` | %s | %s |\n", name, code(value), cell(usage)))
		}
		if len(one.command.Commands) > 0 && len(rows) == 0 {
			continue
		}
		fmt.Fprintf(&b, "\n### `%s`\n\n%s.\n", strings.TrimSpace(one.name+" "+one.command.ArgsUsage), strings.ToUpper(one.command.Usage[:1])+one.command.Usage[1:])
		if len(rows) > 0 {
			b.WriteString("\n| option | default | |\n|---|---|---|\n" + strings.Join(rows, ""))
		}
	}
	b.WriteString("\n## Metrics\n\nAt `/-/metrics`, or at an address of their own (`--metrics-listen`). Beside them are those of the Go runtime (`go_`) and of the process (`process_`).\n\n| name | kind | labels | |\n|---|---|---|---|\n")
	metrics := app.Metrics()
	slices.SortFunc(metrics, func(a, b app.Metric) int { return strings.Compare(a.Name, b.Name) })
	for _, m := range metrics {
		fmt.Fprintf(&b, "| `%s` | %s | %s | %s |\n", m.Name, m.Kind, code(m.Labels...), cell(m.Help))
	}
	b.WriteString("\n## Lines of the log\n\nOn standard error, as text or JSON (`--log-format`), each with `time`, `level`, `msg` and the fields that are named here.\n\n| level | `msg` | fields |\n|---|---|---|\n")
	for _, l := range logLines(t) {
		fmt.Fprintf(&b, "| %s | %s | %s |\n", l.level, cell(l.message), code(l.fields...))
	}
	return b.Bytes()
}

type named struct {
	name    string
	command *cli.Command
}

// commands are all below one, with what they are called.
func commands(c *cli.Command, path []string) (all []named) {
	for _, s := range c.Commands {
		if s.Hidden {
			continue
		}
		here := append(slices.Clone(path), s.Name)
		all = append(all, named{strings.Join(here, " "), s})
		all = append(all, commands(s, here)...)
	}
	return all
}

// told is what an option says of itself.
func told(f cli.Flag) (name string, variables []string, value, usage string) {
	d := f.(cli.DocGenerationFlag)
	value = d.GetValue()
	if _, ok := f.(*cli.BoolFlag); ok || value == "0" || value == "[]" || strings.HasPrefix(value, "-") {
		value = ""
	}
	if h, ok := f.(interface{ IsDefaultVisible() bool }); ok && !h.IsDefaultVisible() {
		value = ""
	}
	return f.Names()[0], d.GetEnvVars(), strings.Trim(value, `"`), d.GetUsage()
}

func code(words ...string) string {
	var out []string
	for _, w := range words {
		if w != "" {
			out = append(out, "`"+w+"`")
		}
	}
	return strings.Join(out, ", ")
}

func cell(text string) string { return strings.ReplaceAll(text, "|", `\|`) }

type logLine struct {
	level, message string
	fields         []string
}

// logLines are those that the service's source writes, by their level.
func logLines(t *testing.T) (all []logLine) {
	t.Helper()
	set := token.NewFileSet()
	seen := map[string]bool{}
	for _, dir := range []string{"../../service", "../../cmd"} {
		err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			file, err := parser.ParseFile(set, path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(file, func(n ast.Node) bool {
				if call, ok := n.(*ast.CallExpr); ok {
					if l, ok := logCall(call); ok && !seen[fmt.Sprint(l)] {
						seen[fmt.Sprint(l)] = true
						all = append(all, l)
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	order := []string{"error", "warn", "info", "debug"}
	slices.SortFunc(all, func(a, b logLine) int {
		if a.level != b.level {
			return slices.Index(order, a.level) - slices.Index(order, b.level)
		}
		return strings.Compare(a.message, b.message)
	})
	if len(all) < 20 {
		t.Errorf("only %d lines were found", len(all))
	}
	return all
}

// logCall is a line of the log that a call writes: log.Warn("…", "field", value …), or LogAttrs with slog.String("field", …).
func logCall(call *ast.CallExpr) (l logLine, ok bool) {
	f, ok := call.Fun.(*ast.SelectorExpr)
	if !ok {
		return l, false
	}
	if f.Sel.Name == "say" && len(call.Args) > 0 { // connections has its warnings not too often
		l.level = "warn"
		for i := 1; i < len(call.Args); i += 2 {
			if text, ok := literal(call.Args[i]); ok {
				l.fields = append(l.fields, text)
			}
		}
		l.message, ok = literal(call.Args[0])
		return l, ok
	}
	of := ""
	switch x := f.X.(type) {
	case *ast.Ident:
		of = x.Name
	case *ast.SelectorExpr:
		of = x.Sel.Name
	}
	if !strings.EqualFold(of, "log") {
		return l, false
	}
	args := call.Args
	switch f.Sel.Name {
	case "Error", "Warn", "Info", "Debug":
		l.level = strings.ToLower(f.Sel.Name)
		for i := 1; i < len(args); i += 2 {
			if text, ok := literal(args[i]); ok {
				l.fields = append(l.fields, text)
			}
		}
		l.message, ok = literal(args[0])
	case "LogAttrs":
		l.level = "info"
		for _, a := range args[3:] {
			if c, isCall := a.(*ast.CallExpr); isCall {
				if text, ok := literal(c.Args[0]); ok {
					l.fields = append(l.fields, text)
				}
			}
		}
		l.message, ok = literal(args[2])
	default:
		return l, false
	}
	return l, ok
}

func literal(e ast.Expr) (string, bool) {
	b, ok := e.(*ast.BasicLit)
	if !ok || b.Kind != token.STRING {
		return "", false
	}
	text, err := strconv.Unquote(b.Value)
	return text, err == nil
}
