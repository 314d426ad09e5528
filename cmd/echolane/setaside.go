package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/wording"
	"echolane/service/api/client"
)

func setAsideCommand() *cli.Command {
	return &cli.Command{
		Name: "set-aside", Usage: "sources over which render workers died: nothing new is made of them", ArgsUsage: "SITE",
		Description: `A source that ends two render workers is set aside on every node, so that it ends no more. Put a sound file in its
place, and that is another source; or clear it, and it is tried again.

Examples:
  echolane set-aside kestrel
  echolane set-aside kestrel --clear=3f9a41c07d22
  echolane set-aside kestrel --clear-all`,
		Flags: callFlags(
			&cli.StringFlag{Name: "clear", Usage: "try the source with this digest, or beginning of a digest, again"},
			&cli.BoolFlag{Name: "clear-all", Usage: "try all of the site's sources again"}),
		Action: withCall(1, "a site, as in: echolane set-aside kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
			site := c.Args().First()
			if c.IsSet("clear") || c.Bool("clear-all") {
				if c.IsSet("clear") && (c.Bool("clear-all") || c.String("clear") == "") {
					return badUsage("give --clear with a digest, or --clear-all")
				}
				did, err := call.Readmit(ctx, site, c.String("clear"))
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return printJSON(stdout(), did)
				}
				fmt.Fprintln(stdout(), "worked on again:", did.Cleared)
				return nil
			}
			list, err := call.SetAside(ctx, site)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(stdout(), list)
			}
			if len(list) == 0 {
				fmt.Fprintf(stdout(), "No source of %s is set aside.\n", site)
				return nil
			}
			rows := [][]string{{"digest", "source", "since", "workers", "how the last one ended"}}
			for _, a := range list {
				how := a.How
				if a.Call != nil {
					how += fmt.Sprintf(", for system call %d", *a.Call)
				}
				if first, _, _ := strings.Cut(strings.TrimSpace(a.Words), "\n"); first != "" {
					how += ": " + wording.Cut(first, 80)
				}
				rows = append(rows, []string{a.Short(), a.Lane + "/" + wording.Cut(a.Path, 60), a.At.Local().Format("2 Jan 15:04"), fmt.Sprint(a.Workers), how})
			}
			table(stdout(), "lllr", rows...)
			return nil
		}),
	}
}
