// Command notice writes the licences of everything that goes into the binary, from where the Go tool and npm have put it: Go's
// own library, the modules, and the packages that the console's script is bundled from.
package main

import (
	"bytes"
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
)

// component is a library with its licences.
type component struct {
	Name, Version string
	dir           string
}

// grant is a licence's text without the lines that say whose work it is.
type grant struct {
	text string
	of   []string
}

func main() {
	if err := run(); err != nil {
		fmt.Fprintln(os.Stderr, "notice:", err)
		os.Exit(1)
	}
}

func run() error {
	all, err := components()
	if err != nil {
		return err
	}
	var grants []*grant
	known := map[string]*grant{}
	for _, c := range all {
		texts, err := licences(c.dir)
		if err != nil {
			return fmt.Errorf("%s %s: %w", c.Name, c.Version, err)
		}
		for _, text := range texts {
			owners, body := part(text)
			key := strings.ToLower(strings.Join(strings.Fields(body), " "))
			g := known[key]
			if g == nil {
				g = &grant{text: body}
				known[key], grants = g, append(grants, g)
			}
			line := c.Name + " " + c.Version
			if len(owners) > 0 {
				line += "\n    " + strings.Join(owners, "\n    ")
			}
			g.of = append(g.of, line)
		}
	}
	var out bytes.Buffer
	out.WriteString("Echo Lane\n\nWhat follows are the licences of the libraries in its binary and in the console's script. `make notice` wrote this file.\n" +
		"The codec libraries libjpeg-turbo, libwebp, libavif, libheif, libjxl and Little CMS are linked at run time and come with the system.\n")
	for _, g := range grants {
		fmt.Fprintf(&out, "\n%s\n\n%s\n\n%s\n", strings.Repeat("=", 80), strings.Join(g.of, "\n"), g.text)
	}
	return os.WriteFile("NOTICE", out.Bytes(), 0o644)
}

// components lists what is in the binary, in the order of its names.
func components() ([]component, error) {
	root, err := output("go", "env", "GOROOT", "GOVERSION")
	if err != nil {
		return nil, err
	}
	goroot, version, _ := strings.Cut(strings.TrimSpace(root), "\n")
	all := []component{
		{"Go", strings.TrimPrefix(version, "go"), goroot},
		{"@vladmandic/face-api (the weights in core/face/weights)", "1.7.15", "core/face/weights"},
	}
	list, err := output("go", "list", "-deps", "-f", "{{with .Module}}{{if not .Main}}{{.Path}}\t{{.Version}}\t{{.Dir}}{{end}}{{end}}", "./cmd/echolane")
	if err != nil {
		return nil, err
	}
	for line := range strings.Lines(list) {
		if f := strings.Split(strings.TrimSpace(line), "\t"); len(f) == 3 {
			all = append(all, component{f[0], f[1], f[2]})
		}
	}
	text, err := os.ReadFile("console/package-lock.json")
	if err != nil {
		return nil, err
	}
	var lock struct {
		Packages map[string]struct {
			Version       string
			Dev, Optional bool
		}
	}
	if err := json.Unmarshal(text, &lock); err != nil {
		return nil, err
	}
	for path, p := range lock.Packages {
		if path != "" && !p.Dev && !p.Optional {
			_, name, _ := cutLast(path, "node_modules/")
			all = append(all, component{name, p.Version, filepath.Join("console", path)})
		}
	}
	slices.SortFunc(all, func(a, b component) int {
		return cmp.Or(cmp.Compare(a.Name, b.Name), cmp.Compare(a.Version, b.Version))
	})
	return slices.CompactFunc(all, func(a, b component) bool { return a.Name == b.Name && a.Version == b.Version }), nil
}

func cutLast(s, sep string) (before, after string, found bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

func output(name string, args ...string) (string, error) {
	cmd := exec.Command(name, args...)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	return string(out), err
}

var licenceFile = regexp.MustCompile(`(?i)^(licen[cs]e|copying|notice)(\.(md|txt|mit))?$`)

// licences reads the texts in a library's folder, or in the nearest above it: some modules are part of a larger one.
func licences(dir string) ([]string, error) {
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	var texts []string
	for _, e := range entries {
		if licenceFile.MatchString(e.Name()) && !e.IsDir() {
			text, err := os.ReadFile(filepath.Join(dir, e.Name()))
			if err != nil {
				return nil, err
			}
			texts = append(texts, string(text))
		}
	}
	if len(texts) == 0 {
		var p struct{ License string }
		if text, err := os.ReadFile(filepath.Join(dir, "package.json")); err == nil && json.Unmarshal(text, &p) == nil && p.License != "" {
			return []string{"Licence: " + p.License}, nil
		}
		return nil, errors.New("it has no licence file")
	}
	return texts, nil
}

var owner = regexp.MustCompile(`(?i)^\s*(portions )?(copyright\b|\(c\)|©).*\d{4}`)

// part takes the lines that say whose work it is out of a licence.
func part(text string) (owners []string, body string) {
	var rest []string
	for line := range strings.Lines(strings.ReplaceAll(text, "\r\n", "\n")) {
		line = strings.TrimRight(line, " \t\n")
		if owner.MatchString(line) {
			owners = append(owners, strings.TrimSpace(line))
		} else {
			rest = append(rest, line)
		}
	}
	return owners, strings.Trim(strings.Join(rest, "\n"), "\n")
}
