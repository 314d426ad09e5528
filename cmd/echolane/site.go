package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/service/api"
)

func siteCommand() *cli.Command {
	return &cli.Command{
		Name:   "site",
		Usage:  "add, list and show sites",
		Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a site", ArgsUsage: "NAME",
				Description: `Examples:
  echolane site add kestrel
  echolane site add archive --formats jpeg,png --source-pixels 120000000 --defaults 'object-fit=contain&quality=85'`,
				Flags: callFlags(
					&cli.StringFlag{Name: "defaults", Usage: "declarations that a URL's own override, in address form"},
					&cli.StringFlag{Name: "formats", Usage: "formats it delivers, most wanted first, separated by commas"},
					&cli.Int64Flag{Name: "source-bytes", Usage: "the largest source file that is read"},
					&cli.Int64Flag{Name: "source-pixels", Usage: "the most pixels a source may have"},
					&cli.Int64Flag{Name: "render-ms", Usage: "the longest that making one variant may take"},
				),
				Action: func(ctx context.Context, c *cli.Command) error {
					name, err := oneArgument(c, "the site's name, as in: echolane site add kestrel")
					if err != nil {
						return err
					}
					call, err := caller(c)
					if err != nil {
						return err
					}
					in := api.NewSite{Name: name, Defaults: c.String("defaults"), SourceBytes: c.Int64("source-bytes"), SourcePixels: c.Int64("source-pixels"), RenderMS: c.Int64("render-ms")}
					if f := c.String("formats"); f != "" {
						in.Formats = strings.Split(f, ",")
					}
					site, err := call.AddSite(ctx, in)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), site)
					}
					printSite(site)
					fmt.Fprintf(stdout(), "\nNext: echolane lane add %s/NAME --folder DIR\n", site.Name)
					return nil
				},
			},
			{
				Name: "list", Usage: "list all sites",
				Description: "Example:\n  echolane site list --json",
				Flags:       callFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() > 0 {
						return badUsage("site list takes no arguments, and was given %q", c.Args().First())
					}
					call, err := caller(c)
					if err != nil {
						return err
					}
					sites, err := call.Sites(ctx)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), sites)
					}
					if len(sites) == 0 {
						fmt.Fprintln(stdout(), "There is no site yet. Add one: echolane site add NAME")
						return nil
					}
					rows := [][]string{{"site", "lanes", "formats", "defaults"}}
					for _, s := range sites {
						rows = append(rows, []string{s.Name, fmt.Sprint(len(s.Lanes)), strings.Join(s.Formats, " "), asCSS(s.Defaults)})
					}
					table(stdout(), "lr", rows...)
					return nil
				},
			},
			{
				Name: "show", Usage: "show one site", ArgsUsage: "NAME",
				Description: "Example:\n  echolane site show kestrel",
				Flags:       callFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					name, err := oneArgument(c, "the site's name, as in: echolane site show kestrel")
					if err != nil {
						return err
					}
					call, err := caller(c)
					if err != nil {
						return err
					}
					site, err := call.Site(ctx, name)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), site)
					}
					printSite(site)
					return nil
				},
			},
		},
	}
}

func oneArgument(c *cli.Command, what string) (string, error) {
	switch c.Args().Len() {
	case 0:
		return "", badUsage("give %s", what)
	case 1:
		return c.Args().First(), nil
	}
	return "", badUsage("%q is one argument too many: give %s", c.Args().Get(1), what)
}

// asCSS shows declarations as the rule they stand for.
func asCSS(query string) string {
	return "* { " + strings.ReplaceAll(strings.ReplaceAll(query, "&", "; "), "=", ": ") + " }"
}

func printSite(s api.Site) {
	rows := [][]string{
		{"site", s.Name},
		{"since", s.MadeAt.Local().Format("2006-01-02 15:04")},
		{"defaults", asCSS(s.Defaults)},
		{"formats", strings.Join(s.Formats, ", ") + " (most wanted first, as the client's Accept allows)"},
		{"sources", fmt.Sprintf("at most %s and %.0f megapixels", bytesText(s.SourceBytes), float64(s.SourcePixels)/1e6)},
		{"rendering", fmt.Sprintf("at most %g s a variant", float64(s.RenderMS)/1000)},
	}
	for i, l := range s.Lanes {
		head := ""
		if i == 0 {
			head = "lanes"
		}
		rows = append(rows, []string{head, fmt.Sprintf("%s (%s) %s", l.Name, l.Kind, l.Folder)})
	}
	if len(s.Lanes) == 0 {
		rows = append(rows, []string{"lanes", "none yet"})
	}
	table(stdout(), "ll", rows...)
}
