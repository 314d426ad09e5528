// Command language writes what is made from the table of declarations and the kinds of lane: the console's lists, the spelling and types of web/, the
// list in docs/parameters.md, and the names in docs/signing.md. `go generate ./core/declare` runs it.
package main

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/service/lane"
)

func main() {
	root := flag.String("C", ".", "the project's root")
	flag.Parse()
	files, err := Files(*root)
	for path, text := range files {
		if err == nil {
			err = os.WriteFile(filepath.Join(*root, path), text, 0o644)
		}
	}
	if err != nil {
		fmt.Fprintln(os.Stderr, "language:", err)
		os.Exit(1)
	}
}

// made are the files, and what makes the text in each between two lines that say where it begins and ends.
var made = map[string]func([]declare.Entry, []byte) (string, error){
	"console/src/easel/language.ts": console,
	"console/src/lanes/kinds.ts":    laneKinds,
	"web/address.js":                script,
	"web/lane.d.ts":                 types,
	"docs/parameters.md":            list,
	"docs/signing.md":               order,
}

// Files gives the files below root as they should be, by their paths.
func Files(root string) (map[string][]byte, error) {
	entries := declare.Entries()
	files := map[string][]byte{}
	for path, text := range made {
		have, err := os.ReadFile(filepath.Join(root, path))
		if err != nil {
			return nil, err
		}
		block, err := text(entries, have)
		if err == nil {
			files[path], err = replace(have, block)
		}
		if err != nil {
			return nil, fmt.Errorf("%s: %w", path, err)
		}
	}
	return files, nil
}

var marked = regexp.MustCompile(`(?s)([^\n]*made from (?:core/declare|service/lane)[^\n]*\n).*?([^\n]*end of what is made)`)

func replace(have []byte, block string) ([]byte, error) {
	at := marked.FindSubmatchIndex(have)
	if at == nil {
		return nil, errors.New("the lines that mark what is made aren't there")
	}
	return slices.Concat(have[:at[3]], []byte(block), have[at[4]:]), nil
}

func quoted(v any) string {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.Encode(v)
	return strings.TrimSpace(b.String())
}

// console lists the names that the Easel can declare, and its lines of text by group.
func console(entries []declare.Entry, _ []byte) (string, error) {
	var b strings.Builder
	b.WriteString("export const language = [\n")
	for _, e := range entries {
		if e.Sheet || e.Label != "" {
			fmt.Fprintf(&b, "  %q,\n", e.Name)
		}
	}
	b.WriteString("];\n\nexport const lines = {\n")
	for _, group := range groups(entries) {
		fmt.Fprintf(&b, "  %s: [\n", group)
		for _, e := range entries {
			if e.Group != group || e.Label == "" {
				continue
			}
			fmt.Fprintf(&b, "    { name: %q, label: %q", e.Name, e.Label)
			if e.Closed {
				fmt.Fprintf(&b, ", initial: %s, keywords: %s", quoted(e.Initial), spaced(e.Keywords))
			} else {
				fmt.Fprintf(&b, ", example: %s", quoted(e.Example))
			}
			b.WriteString(" },\n")
		}
		b.WriteString("  ],\n")
	}
	b.WriteString("} satisfies Record<string, Line[]>;\n\n// The words that may stand where nothing else may.\nexport const keywords = {\n")
	for _, e := range entries {
		if e.Closed && e.Sheet {
			fmt.Fprintf(&b, "  %q: %s,\n", e.Name, spaced(e.Keywords))
		}
	}
	fmt.Fprintf(&b, "};\n\n// An Accept field that names every format that has to be named.\nexport const accept = %q;\n", declare.AcceptAll())
	return b.String(), nil
}

func spaced(words []string) string { return strings.ReplaceAll(quoted(words), `","`, `", "`) }

func groups(entries []declare.Entry) (list []string) {
	for _, e := range entries {
		if !slices.Contains(list, e.Group) {
			list = append(list, e.Group)
		}
	}
	return list
}

// script lists the names and how their values are spelled.
func script(entries []declare.Entry, _ []byte) (string, error) {
	var names []string
	var b strings.Builder
	for _, e := range entries {
		names = append(names, e.Name)
	}
	b.WriteString("export const names = (\n")
	for rest := names; len(rest) > 0; {
		n, width := 0, 0
		for n < len(rest) && width+len(rest[n]) < 130 {
			width += len(rest[n]) + 1
			n++
		}
		line := strings.Join(rest[:n], " ")
		if rest = rest[n:]; len(rest) > 0 {
			fmt.Fprintf(&b, "  %q +\n", line+" ")
		} else {
			fmt.Fprintf(&b, "  %q\n", line)
		}
	}
	b.WriteString(").split(\" \");\n\n// How values are spelled. What isn't here is written in lower case.\nconst spell = {\n")
	for _, e := range entries {
		if e.Script != "" {
			fmt.Fprintf(&b, "  %s: %s,\n", key(e.Name), e.Script)
		}
	}
	b.WriteString("};\n")
	return b.String(), nil
}

func key(name string) string {
	if strings.Contains(name, "-") {
		return quoted(name)
	}
	return name
}

// laneKinds lists the kinds of lane with the fields of their forms.
func laneKinds([]declare.Entry, []byte) (string, error) {
	var b strings.Builder
	b.WriteString("export const kinds: LaneKind[] = [\n")
	for _, k := range lane.Described {
		fmt.Fprintf(&b, "  {\n    name: %q,\n    fresh_s: %d,\n    where: %s,\n", k.Name, k.FreshS, strings.ReplaceAll(strings.ReplaceAll(quoted(append([][]string{}, k.Where...)), `","`, `", "`), "],[", "], ["))
		if k.URLWithout != "" {
			fmt.Fprintf(&b, "    urlWithout: %q,\n", k.URLWithout)
		}
		if s := k.Secrets; s.Form != policy.NoSecrets {
			fmt.Fprintf(&b, "    secrets: { form: %q", s.Form)
			if s.Unless != "" {
				fmt.Fprintf(&b, ", unless: %q", s.Unless)
			}
			b.WriteString(" },\n")
		}
		if k.Receives {
			b.WriteString("    receives: true,\n")
		}
		b.WriteString("    fields: [\n")
		for _, f := range k.Fields {
			fmt.Fprintf(&b, "      { name: %q, label: %q", f.Name, f.Label)
			if f.Hint != "" {
				fmt.Fprintf(&b, ", hint: %s", quoted(f.Hint))
			}
			if f.IsList() {
				b.WriteString(", list: true")
			}
			if f.Unless != "" {
				fmt.Fprintf(&b, ", unless: %q", f.Unless)
			}
			b.WriteString(" },\n")
		}
		b.WriteString("    ],\n  },\n")
	}
	b.WriteString("];\n")
	for _, list := range []struct {
		name, of string
		numbers  []policy.Number
	}{{"limits", "limits", policy.LimitNumbers}, {"months", "month", policy.MonthNumbers}} {
		fmt.Fprintf(&b, "\nexport const %s: NumberField<%q>[] = [\n", list.name, list.of)
		for _, n := range list.numbers {
			fmt.Fprintf(&b, "  { name: %q, label: %q", n.Name, n.Label)
			if n.Hint != "" {
				fmt.Fprintf(&b, ", hint: %q", n.Hint)
			}
			b.WriteString(" },\n")
		}
		b.WriteString("];\n")
	}
	return b.String(), nil
}

// types declares what a page's script may declare.
func types(entries []declare.Entry, _ []byte) (string, error) {
	var b strings.Builder
	b.WriteString("export interface Declarations {\n")
	for _, e := range entries {
		name := key(e.Name) + "?"
		if prefix, ok := strings.CutSuffix(e.Name, "*"); ok { // all names that begin so
			name = "[name: `" + prefix + "${string}`]"
		}
		fmt.Fprintf(&b, "  /** %s */\n  %s: ", e.Grammar, name)
		for _, w := range e.Keywords {
			if e.Closed {
				fmt.Fprintf(&b, "%q | ", w)
			}
		}
		b.WriteString("Value;\n")
	}
	b.WriteString("}\n")
	return b.String(), nil
}

var heading = regexp.MustCompile(`(?m)^### (.+)$`)

// list is the table of all declarations, each with a link to its section.
func list(entries []declare.Entry, doc []byte) (string, error) {
	anchors := map[string]string{}
	for _, m := range heading.FindAllSubmatch(doc, -1) {
		anchor := strings.NewReplacer(" ", "-", ",", "").Replace(string(m[1]))
		for _, name := range strings.Split(string(m[1]), ", ") {
			anchors[name] = anchor
		}
	}
	var b strings.Builder
	b.WriteString("\n| declaration | what may stand there | without it | in a sheet |\n|---|---|---|---|\n")
	sorted := slices.Clone(entries)
	slices.SortStableFunc(sorted, func(a, b declare.Entry) int { return cmp.Compare(place(a.Group), place(b.Group)) })
	for _, e := range sorted {
		if anchors[e.Name] == "" {
			return "", fmt.Errorf("there is no section for %s: add `### %s` with what it does and a picture", e.Name, e.Name)
		}
		initial, sheet := "", ""
		if e.Initial != "" {
			initial = "`" + e.Initial + "`"
		}
		if e.Sheet {
			sheet = "yes"
		}
		fmt.Fprintf(&b, "| [%s](#%s) | %s | %s | %s |\n", e.Name, anchors[e.Name], strings.ReplaceAll(e.Grammar, "|", `\|`), initial, sheet)
	}
	b.WriteString("\n")
	return b.String(), nil
}

// place is a group's place in the docs, which begin with the slot.
func place(group string) int {
	return slices.Index([]string{"geometry", "region", "paint", "layers", "encoding", "delivery"}, group)
}

// order lists the names as a signed link has them.
func order(entries []declare.Entry, _ []byte) (string, error) {
	var b strings.Builder
	width := 0
	for i, e := range entries {
		word := "`" + e.Name + "`,"
		if i == len(entries)-1 {
			word = "`" + e.Name + "`."
		}
		if width > 0 && width+len(word) > 115 {
			b.WriteString("\n")
			width = 0
		} else if width > 0 {
			b.WriteString(" ")
		}
		b.WriteString(word)
		width += len(word) + 1
	}
	b.WriteString("\n")
	return b.String(), nil
}
