package main

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/service/api"
)

func laneCommand() *cli.Command {
	return &cli.Command{
		Name:   "lane",
		Usage:  "add and list the ways to a site's sources",
		Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "add", Usage: "add a lane to a folder on the service's machine", ArgsUsage: "SITE/LANE",
				Description: "Example:\n  echolane lane add kestrel/catalogue --folder /srv/kestrel/catalogue",
				Flags:       callFlags(&cli.StringFlag{Name: "folder", Usage: "where the sources lie; relative to here"}),
				Action: func(ctx context.Context, c *cli.Command) error {
					both, err := oneArgument(c, "the lane as SITE/LANE, as in: echolane lane add kestrel/catalogue --folder DIR")
					if err != nil {
						return err
					}
					site, name, ok := strings.Cut(both, "/")
					if !ok || site == "" || name == "" {
						return badUsage("%q isn't SITE/LANE: write it as kestrel/catalogue", both)
					}
					if c.String("folder") == "" {
						return badUsage("say where the sources lie with --folder DIR")
					}
					folder, err := filepath.Abs(c.String("folder"))
					if err != nil {
						return fmt.Errorf("find %s: %w", c.String("folder"), err)
					}
					call, err := caller(c)
					if err != nil {
						return err
					}
					lane, err := call.AddLane(ctx, site, api.NewLane{Name: name, Folder: folder})
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), lane)
					}
					fmt.Fprintf(stdout(), "%s/%s delivers what lies in %s, from now on:\n  %s/%s/%s/PATH?width=640\n", lane.Site, lane.Name, lane.Folder, call.Server, lane.Site, lane.Name)
					return nil
				},
			},
			{
				Name: "list", Usage: "list lanes", ArgsUsage: "[SITE]",
				Description: "Example:\n  echolane lane list kestrel",
				Flags:       callFlags(),
				Action: func(ctx context.Context, c *cli.Command) error {
					if c.Args().Len() > 1 {
						return badUsage("%q is one argument too many: lane list takes a site's name or nothing", c.Args().Get(1))
					}
					call, err := caller(c)
					if err != nil {
						return err
					}
					var lanes []api.Lane
					if site := c.Args().First(); site != "" {
						if lanes, err = call.Lanes(ctx, site); err != nil {
							return err
						}
					} else {
						sites, err := call.Sites(ctx)
						if err != nil {
							return err
						}
						for _, s := range sites {
							lanes = append(lanes, s.Lanes...)
						}
					}
					if c.Bool("json") {
						if lanes == nil {
							lanes = []api.Lane{}
						}
						return printJSON(stdout(), lanes)
					}
					if len(lanes) == 0 {
						fmt.Fprintln(stdout(), "There is no lane yet. Add one: echolane lane add SITE/LANE --folder DIR")
						return nil
					}
					rows := [][]string{{"lane", "kind", "folder"}}
					for _, l := range lanes {
						rows = append(rows, []string{l.Site + "/" + l.Name, l.Kind, l.Folder})
					}
					table(stdout(), "lll", rows...)
					return nil
				},
			},
		},
	}
}
