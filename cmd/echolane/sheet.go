package main

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/sheet"
	"echolane/service/api"
	"echolane/service/api/client"
)

func sheetCommand() *cli.Command {
	return &cli.Command{
		Name:   "sheet",
		Usage:  "the stylesheet of a site's images: show, check, draft, publish, history, restore",
		Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "show", Usage: "print what is published", ArgsUsage: "SITE",
				Description: "Example:\n  echolane sheet show kestrel > kestrel.css",
				Flags:       callFlags(&cli.BoolFlag{Name: "draft", Usage: "print the draft instead"}),
				Action: withCall(1, "the site's name, as in: echolane sheet show kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					s, err := call.Sheet(ctx, c.Args().First())
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), s)
					}
					text := s.Text
					if c.Bool("draft") {
						if s.Draft == nil {
							return fmt.Errorf("%s has no draft: keep one with `echolane sheet draft %s FILE`", c.Args().First(), c.Args().First())
						}
						text = s.Draft.Text
					}
					fmt.Fprint(stdout(), strings.TrimRight(text, "\n")+"\n")
					return nil
				}),
			},
			{
				Name: "check", Usage: "check a sheet for errors, and say what publishing it would change", ArgsUsage: "FILE",
				Description: `Without --site only the sheet itself is looked at, and no service is needed.

Examples:
  echolane sheet check kestrel.css
  echolane sheet check kestrel.css --site kestrel`,
				Flags:  callFlags(&cli.StringFlag{Name: "site", Usage: "the site to check it against"}),
				Action: checkSheet,
			},
			{
				Name: "draft", Usage: "save a draft, valid or not", ArgsUsage: "SITE FILE",
				Description: "Example:\n  echolane sheet draft kestrel kestrel.css",
				Flags:       callFlags(),
				Action: withCall(2, "a site and a file, as in: echolane sheet draft kestrel kestrel.css", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					text, err := readFileOrInput(c.Args().Get(1))
					if err != nil {
						return err
					}
					s, err := call.PutDraft(ctx, c.Args().First(), api.SheetText{Text: string(text)})
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), s)
					}
					if _, err := sheet.Parse(string(text)); err != nil {
						fmt.Fprintf(stdout(), "The draft is saved. It can't be published as it is: echolane sheet check %s\n", c.Args().Get(1))
						return nil
					}
					fmt.Fprintf(stdout(), "The draft is saved. Publish it: echolane sheet publish %s --draft\n", c.Args().First())
					return nil
				}),
			},
			{
				Name: "publish", Usage: "publish a sheet; in force on every node within a second", ArgsUsage: "SITE [FILE]",
				Description: `A sheet with an error is never published, nor one without a class that was asked for in the last 30 days, unless
--anyway is given.

Examples:
  echolane sheet publish kestrel kestrel.css
  echolane sheet publish kestrel --draft`,
				Flags: callFlags(&cli.BoolFlag{Name: "draft", Usage: "publish the draft"}, &cli.BoolFlag{Name: "anyway", Usage: "publish even where classes in use would be removed"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					n := 2
					if c.Bool("draft") {
						n = 1
					}
					return withCall(n, "a site and a file, or a site and --draft, as in: echolane sheet publish kestrel kestrel.css", publishSheet)(ctx, c)
				},
			},
			{
				Name: "history", Usage: "who changed the sheet, and when", ArgsUsage: "SITE",
				Description: "Example:\n  echolane sheet history kestrel",
				Flags:       callFlags(),
				Action: withCall(1, "the site's name, as in: echolane sheet history kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					changes, err := call.SheetHistory(ctx, c.Args().First())
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), changes)
					}
					rows := [][]string{{"version", "when", "who", "what"}}
					for _, x := range changes {
						rows = append(rows, []string{fmt.Sprint(x.Version), x.At.Local().Format("2006-01-02 15:04"), x.By, x.What})
					}
					table(stdout(), "rlll", rows...)
					return nil
				}),
			},
			{
				Name: "restore", Usage: "publish the sheet of a version again", ArgsUsage: "SITE VERSION",
				Description: "Example:\n  echolane sheet restore kestrel 3",
				Flags:       callFlags(&cli.BoolFlag{Name: "anyway", Usage: "publish even where classes in use would be removed"}),
				Action: withCall(2, "a site and a version, as in: echolane sheet restore kestrel 3", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					name := c.Args().First()
					v, err := strconv.ParseInt(c.Args().Get(1), 10, 64)
					if err != nil {
						return badUsage("%q isn't a version: `echolane sheet history %s` lists them", c.Args().Get(1), name)
					}
					s, err := call.Sheet(ctx, name)
					if err != nil {
						return err
					}
					after, err := call.RestoreSheet(ctx, name, api.RestoreSheet{Version: v, Anyway: c.Bool("anyway")}, s.Version)
					if err != nil {
						return err
					}
					return printPublished(c, name, s, after)
				}),
			},
		},
	}
}

func publishSheet(ctx context.Context, c *cli.Command, call *client.Client) error {
	name := c.Args().First()
	before, err := call.Sheet(ctx, name)
	if err != nil {
		return err
	}
	in := api.PublishSheet{Anyway: c.Bool("anyway")}
	if c.Bool("draft") {
		if before.Draft == nil {
			return fmt.Errorf("%s has no draft: keep one with `echolane sheet draft %s FILE`", name, name)
		}
		in.Text = before.Draft.Text
	} else {
		text, err := readFileOrInput(c.Args().Get(1))
		if err != nil {
			return err
		}
		in.Text = string(text)
	}
	after, err := call.PublishSheet(ctx, name, in, before.Version)
	if err != nil {
		return err
	}
	return printPublished(c, name, before, after)
}

func printPublished(c *cli.Command, name string, before, after api.Sheet) error {
	if c.Bool("json") {
		return printJSON(stdout(), after)
	}
	if after.Version == before.Version {
		fmt.Fprintln(stdout(), "That is published already.")
		return nil
	}
	fmt.Fprintf(stdout(), "%s: version %d, in force everywhere within a second\n", name, after.Version)
	for _, line := range diffLines(strings.TrimRight(before.Text, "\n"), strings.TrimRight(after.Text, "\n")) {
		fmt.Fprintln(stdout(), line)
	}
	return nil
}

func checkSheet(ctx context.Context, c *cli.Command) error {
	file, err := oneArgument(c, "a file, as in: echolane sheet check kestrel.css")
	if err != nil {
		return err
	}
	text, err := readFileOrInput(file)
	if err != nil {
		return err
	}
	var out api.CheckedSheet
	if site := c.String("site"); site != "" {
		call, err := caller(c)
		if err != nil {
			return err
		}
		if out, err = call.CheckSheet(ctx, site, api.SheetText{Text: string(text)}); err != nil {
			return err
		}
	} else if read, err := sheet.Parse(string(text)); err != nil {
		out.Problems = err.(sheet.Problems)
	} else {
		out.Classes = read.Classes()
	}
	if c.Bool("json") {
		if err := printJSON(stdout(), out); err != nil || len(out.Problems) == 0 {
			return err
		}
		return fmt.Errorf("%s has %d problems", file, len(out.Problems))
	}
	if n := len(out.Problems); n > 0 {
		words := make([]string, n)
		for i, p := range out.Problems {
			words[i] = fmt.Sprintf("%s:%d:%d: %s", file, p.Line, p.Column, strings.SplitN(p.String(), ": ", 2)[1])
			if p.Allowed != "" {
				words[i] += "\n  allowed: " + p.Allowed
			}
		}
		return fmt.Errorf("%s", strings.Join(words, "\n"))
	}
	or := func(names []string) string {
		if len(names) == 0 {
			return "none"
		}
		return strings.Join(names, ", ")
	}
	rows := [][]string{{"classes", or(out.Classes)}}
	if c.String("site") != "" {
		rows = append(rows, []string{"added", or(out.Added)}, []string{"removed", or(out.Removed)})
	}
	fmt.Fprintf(stdout(), "%s is valid.\n", file)
	table(stdout(), "ll", rows...)
	for _, w := range out.Warnings {
		say("warning: %s", w)
	}
	if len(out.Uses) > 0 {
		say("In use, and no longer there:")
		for _, u := range out.Uses {
			say("  .%s  %s  %s", u.Class, u.At.Local().Format("2006-01-02 15:04"), u.Address)
		}
	}
	return nil
}
