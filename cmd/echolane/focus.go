package main

import (
	"cmp"
	"context"
	"fmt"

	"github.com/urfave/cli/v3"

	"echolane/core/declare"
	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
)

func laneFocusCommand() *cli.Command {
	return &cli.Command{
		Name: "focus", Usage: "say where the subject of a source is, or list what was said", ArgsUsage: "SITE/LANE[/PATH]",
		Description: `A focus is a point in percent of the picture's width and height, or a box as percent:x,y,width,height. It goes before what is
marked in the file and before what is found: object-position=subject keeps it in view, mask-image=subject cuts out what is there. It stays
with the path, also when another picture lies there.

Examples:
  echolane lane focus kestrel/catalogue/delta-red.jpg --at "40% 25%"
  echolane lane focus kestrel/catalogue/delta-red.jpg --at percent:30,10,25,30
  echolane lane focus kestrel/catalogue/delta-red.jpg --remove
  echolane lane focus kestrel/catalogue`,
		Flags: callFlags(&cli.StringFlag{Name: "at", Usage: "a point, or a box, in percent of the picture"}, &cli.BoolFlag{Name: "remove", Usage: "take back what was said"}),
		Action: withCall(1, `a source and where its subject is, as in: echolane lane focus kestrel/catalogue/delta-red.jpg --at "40% 25%"`, func(ctx context.Context, c *cli.Command, call *client.Client) error {
			site, lane, path := uploadTarget(c.Args().First(), "")
			focus := c.String("at")
			switch {
			case lane == "":
				return badUsage("%s names no lane: write SITE/LANE, or SITE/LANE/PATH", c.Args().First())
			case path == "" && (focus != "" || c.Bool("remove")):
				return badUsage("%s is a lane: name a source in it, as in: echolane lane focus kestrel/catalogue/delta-red.jpg --at \"40%% 25%%\"", c.Args().First())
			case focus != "" && c.Bool("remove"):
				return badUsage("give --at, or --remove")
			case c.Bool("remove"):
				if err := call.RemoveFocus(ctx, site, lane, path); err != nil {
					return err
				}
				return done(c, "removed", path, "the focus of "+path+" is removed: its subject is looked for again")
			case focus != "":
				if _, err := declare.ParseFocus(focus); err != nil {
					return badUsage("%v", err)
				}
				kept, err := call.SetFocus(ctx, site, lane, api.SetFocus{Path: path, Focus: focus})
				if err != nil {
					return err
				}
				if c.Bool("json") {
					return printJSON(stdout(), kept)
				}
				fmt.Fprintf(stdout(), "the subject of %s is at %s\n", kept.Path, kept.Focus)
				return nil
			}
			list, err := call.Focuses(ctx, site, lane)
			if err != nil {
				return err
			}
			if path != "" {
				all := list
				list = list[:0]
				for _, f := range all {
					if f.Path == path {
						list = append(list, f)
					}
				}
			}
			if c.Bool("json") {
				return printJSON(stdout(), list)
			}
			if len(list) == 0 {
				fmt.Fprintf(stdout(), "Nobody has said where the subject is: echolane lane focus %s/%s/%s --at \"40%% 25%%\"\n", site, lane, cmp.Or(path, "PATH"))
				return nil
			}
			rows := [][]string{{"source", "focus", "since", "by"}}
			for _, f := range list {
				rows = append(rows, []string{wording.Cut(f.Path, 60), f.Focus, f.At.Local().Format("2006-01-02 15:04"), f.By})
			}
			table(stdout(), "llll", rows...)
			return nil
		}),
	}
}
