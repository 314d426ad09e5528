package main

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/wording"
	"echolane/service/api/client"
	"echolane/service/records"
)

// listFound lists the sources that a search finds.
func listFound(ctx context.Context, c *cli.Command, call *client.Client) error {
	site, lane, path := uploadTarget(c.Args().First(), "")
	if site == "" || path != "" {
		return badUsage("say where to look: a site or SITE/LANE, as in: echolane lane list kestrel --find 'colour:red faces:>0'")
	}
	list := []records.LookedAt{}
	var lookedAt int64
	for after := ""; ; {
		most := min(1000, c.Int("count")-len(list))
		if most <= 0 {
			break
		}
		page, err := call.Found(ctx, site, c.String("find"), lane, most, after)
		if err != nil {
			return err
		}
		list, lookedAt = append(list, page.Items...), page.LookedAt
		if after = page.Next; after == "" {
			break
		}
	}
	if c.Bool("json") {
		return printJSON(stdout(), list)
	}
	if lookedAt == 0 {
		fmt.Fprintf(stdout(), "No source has been analysed yet: echolane warm %s/LANE --facts analyses those of a lane.\n", site)
		return nil
	}
	if len(list) > 0 {
		rows := [][]string{{"pixels", "bytes", "faces", "kind", "sharpness", "colours", "source"}}
		for _, f := range list {
			kind := f.Kind
			if f.Lettered {
				kind += ", text"
			}
			rows = append(rows, []string{fmt.Sprintf("%d × %d", f.Width, f.Height), wording.Bytes(f.Bytes), fmt.Sprint(f.Faces), kind, fmt.Sprintf("%.2f", f.Sharpness), strings.ReplaceAll(f.Colours, " ", ", "), f.Lane + "/" + wording.Cut(f.Path, 60)})
		}
		table(stdout(), "rrrlrl", rows...)
	}
	fmt.Fprintf(stderr(), "%d found among %s analysed so far\n", len(list), wording.Number(lookedAt, "source"))
	return nil
}
