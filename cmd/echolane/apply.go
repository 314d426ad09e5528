package main

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/urfave/cli/v3"

	"echolane/core/policy"
	"echolane/service/api"
	"echolane/service/api/client"
	"echolane/service/sitefile"
)

func applyCommand() *cli.Command {
	return &cli.Command{
		Name: "apply", Usage: "make a site what a TOML file says", ArgsUsage: "FILE",
		Description: `The site is added where it isn't there. What the file leaves out is as for a new site. FILE may be - for
standard input.

Examples:
  echolane apply kestrel.toml --dry-run
  echolane export kestrel | sed "s/^other = .*/other = 'round-up'/" | echolane apply -`,
		Flags: callFlags(dryRunFlag()),
		Action: withCall(1, "a file, as in: echolane apply kestrel.toml", func(ctx context.Context, c *cli.Command, call *client.Client) error {
			name := c.Args().First()
			data, err := readFileOrInput(name)
			if err != nil {
				return err
			}
			d, _, err := sitefile.Read(data)
			if err != nil {
				return fmt.Errorf("%s can't be applied, and nothing was changed:\n%w", name, err)
			}
			before := policy.NewDocument(d.Site)
			site, err := call.Site(ctx, d.Site)
			var no *policy.Refusal
			there := err == nil
			switch {
			case there:
				before = site.Document
			case !errors.As(err, &no) || no.Reason != policy.ReasonNoSuchSite:
				return err
			}
			if c.Bool("dry-run") {
				propose := call.ProposeAddSite
				if there {
					propose = func(ctx context.Context, d policy.Document) (api.Proposal, error) {
						return call.ProposePutSite(ctx, d.Site, d)
					}
				}
				p, err := propose(ctx, d)
				if err != nil {
					return err
				}
				return printChanges(c, d.Site, p.Changes, p.Warnings, false)
			}
			if there {
				site, err = call.PutSite(ctx, d.Site, d, site.Version)
			} else {
				site, err = call.AddSite(ctx, d)
			}
			if err != nil {
				return err
			}
			if !there && !c.Bool("json") {
				fmt.Fprintf(stdout(), "%s: added\n", d.Site)
			}
			return printChanges(c, d.Site, policy.Diff(before, site.Document), site.Warnings, true)
		}),
	}
}

func readFileOrInput(name string) ([]byte, error) {
	if name == "-" {
		return io.ReadAll(os.Stdin)
	}
	data, err := os.ReadFile(name)
	if err != nil {
		return nil, fmt.Errorf("read the file: %w", err)
	}
	return data, nil
}

func exportCommand() *cli.Command {
	return &cli.Command{
		Name: "export", Usage: "write a site as a TOML file", ArgsUsage: "SITE",
		Description: "Secrets aren't part of it.\n\nExample:\n  echolane export kestrel > kestrel.toml",
		Flags:       callFlags(),
		Action: withCall(1, "the site's name, as in: echolane export kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
			site, err := call.Site(ctx, c.Args().First())
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(stdout(), site.Document)
			}
			text, err := sitefile.Write(site.Document)
			if err != nil {
				return err
			}
			_, err = stdout().Write(text)
			return err
		}),
	}
}
