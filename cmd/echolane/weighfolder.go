package main

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/weighin"
	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
)

// localPage is a page that lies in a file, or on the network where it has no root.
type localPage struct {
	file   string // path, - or URL
	name   string // from the root
	at     string // the address that it is taken to have
	root   string // the folder that its files lie below
	rootAt string // the address of that
}

// localPages are the page in a file, or those of a folder.
func localPages(name, at string) ([]localPage, error) {
	at = orText(at, "http://page.test/")
	info, err := os.Stat(name)
	if err != nil && name != "-" {
		return nil, fmt.Errorf("read the page: %w", err)
	}
	if name == "-" || !info.IsDir() {
		return []localPage{{file: name, name: filepath.Base(name), at: at, root: filepath.Dir(name), rootAt: at}}, nil
	}
	found, err := pagesIn(name)
	if err != nil {
		return nil, err
	}
	base, err := url.Parse(at)
	if err != nil {
		return nil, badUsage("--at %s isn't a URL", at)
	}
	if base.Path == "" {
		base.Path = "/"
	}
	var pages []localPage
	for _, f := range found {
		u := base.ResolveReference(&url.URL{Path: strings.TrimSuffix(filepath.ToSlash(f), "index.html")})
		if f == "index.html" {
			u = base
		}
		pages = append(pages, localPage{file: filepath.Join(name, f), name: f, at: u.String(), root: name, rootAt: base.String()})
	}
	return pages, nil
}

// weighFolder weighs the pages of a folder one after the other. One that can't be weighed doesn't keep the others from it.
func weighFolder(ctx context.Context, c *cli.Command, call *client.Client, site string, ask api.AskWeighing, pages []localPage) error {
	if to := c.String("page"); to != "" {
		if err := os.MkdirAll(to, 0o755); err != nil {
			return fmt.Errorf("make the reports' folder: %w", err)
		}
	}
	type weighed struct {
		File    string        `json:"file"`
		Trouble string        `json:"trouble"` // why it wasn't weighed
		Weighed *api.Weighing `json:"weighed"`
	}
	all := []weighed{}
	failed, changed := 0, 0
	rows := [][]string{{"page", "screen", "pictures", "now", "made to fit", "saved"}}
	if ask.Fix {
		rows = [][]string{{"page", "screen", "pictures", "now", "made to fit", "rewritten", "saved", "images rewritten", "left"}}
	}
	for i, p := range pages {
		say("%s (%d of %d)", p.file, i+1, len(pages))
		report := c.String("page")
		if report != "" {
			report = filepath.Join(report, strings.ReplaceAll(filepath.ToSlash(p.name), "/", "-"))
		}
		w, err := weighPage(ctx, c, call, site, ask, p, report)
		if ctx.Err() != nil || err == errStopped {
			return errStopped
		}
		if err != nil {
			failed++
			say("%s: %v", p.file, err)
			all = append(all, weighed{File: p.file, Trouble: err.Error()})
			continue
		}
		all = append(all, weighed{File: p.file, Weighed: &w})
		for n, x := range weighin.Compare(w.Report, w.After) {
			row := []string{p.name, x.Name, fmt.Sprint(x.Pictures), wording.Bytes(x.Before), wording.Bytes(x.Predicted), wording.Part(x.Before-x.Predicted, x.Before)}
			if ask.Fix {
				row = []string{p.name, x.Name, fmt.Sprint(x.Pictures), wording.Bytes(x.Before), wording.Bytes(x.Predicted), wording.Bytes(x.After), wording.Part(x.Before-x.After, x.Before), fmt.Sprint(w.Fixed.Changed), fmt.Sprint(len(w.Fixed.Left))}
			}
			if n > 0 {
				row[0] = ""
				if ask.Fix {
					row[7], row[8] = "", ""
				}
			}
			rows = append(rows, row)
		}
		if w.Fixed != nil {
			changed += w.Fixed.Changed
		}
		if c.Bool("all") && !c.Bool("json") {
			fmt.Fprintf(stdout(), "\n%s\n\n", p.file)
			printWeighing(w, true)
		}
	}
	if c.Bool("json") {
		if err := printJSON(stdout(), all); err != nil {
			return err
		}
	} else if len(rows) > 1 && !c.Bool("dry-run") {
		table(stdout(), "llrrrrrrr", rows...)
	}
	switch {
	case failed > 0:
		return fmt.Errorf("%d of %d pages weren't weighed", failed, len(pages))
	case ask.Fix && changed == 0:
		return fmt.Errorf("nothing of the %d pages was rewritten: --all says of each image why", len(pages))
	}
	return nil
}
