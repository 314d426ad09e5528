package main

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"echolane/core/codec/formats"
	"echolane/core/declare"

	"github.com/urfave/cli/v3"
)

// written finds commands as the docs have them: in examples, in a pipe, and between backquotes.
var written = regexp.MustCompile("(?m)(?:^    (?:\\$ )?|[|;&] ?|`|^  )(?:bin/)?echolane ([a-z][^`|;&\n]*)")

// Each command of the docs, the README and the examples in help is there, with the options that it is given.
func TestTheCommandsOfTheDocsExist(t *testing.T) {
	files, err := filepath.Glob("../../docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	texts := map[string]string{}
	for _, file := range append(files, "../../README.md", "../../CONTRIBUTING.md", "../../web/README.md") {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		texts[filepath.Base(filepath.Dir(file))+"/"+filepath.Base(file)] = string(text)
	}
	for _, c := range commands(root(), nil) {
		texts["the help of "+c.name] = c.command.Description
	}
	all := 0
	for file, text := range texts {
		for _, m := range written.FindAllStringSubmatch(text, -1) {
			all++
			if why := wrongCommand(m[1]); why != "" {
				t.Errorf("%s: echolane %s: %s", file, m[1], why)
			}
		}
	}
	if all < 150 {
		t.Errorf("only %d commands were found", all)
	}
	for _, wrong := range []string{"weihg x", "weigh x --fixx", "lane ad kestrel/x"} {
		if wrongCommand(wrong) == "" {
			t.Errorf("%s passes", wrong)
		}
	}
}

// wrongCommand says what of a command isn't there, "" where all is.
func wrongCommand(line string) string {
	c := root()
	words := strings.Fields(line)
	for len(words) > 0 && len(c.Commands) > 0 && !strings.HasPrefix(words[0], "-") {
		next := c.Command(words[0])
		if next == nil && c.ArgsUsage != "" {
			break
		}
		if next == nil {
			return "there is no command " + words[0]
		}
		c, words = next, words[1:]
	}
	var names []string
	for _, f := range slices.Concat(c.Flags, root().Flags, []cli.Flag{cli.HelpFlag, cli.VersionFlag}) {
		names = append(names, f.Names()...)
	}
	quoted := false // within quotes nothing is an option
	for _, w := range words {
		if !quoted && strings.HasPrefix(w, "-") && w != "-" && w != "--" {
			name, _, _ := strings.Cut(strings.TrimRight(strings.TrimLeft(w, "-"), ".,:)"), "=")
			if !slices.Contains(names, name) {
				return "it has no option " + w
			}
		}
		if strings.Count(w, "'")%2 == 1 {
			quoted = !quoted
		}
	}
	return ""
}

func TestSweptFormatsHaveTheirColours(t *testing.T) {
	page, err := os.ReadFile("sweep.html")
	if err != nil {
		t.Fatal(err)
	}
	all := 0
	for _, f := range declare.Formats() {
		if formats.Writer(f).Lossy == nil {
			continue
		}
		all++
		if name := f.String(); strings.Count(string(page), "--"+name+":") != 2 || !strings.Contains(string(page), "."+name+" {") {
			t.Errorf("%s has no colour in a sweep's page, light and dark", name)
		}
	}
	if all < 4 {
		t.Errorf("only %d formats are swept", all)
	}
}
