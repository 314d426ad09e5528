package main

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
	"echolane/service/records"
)

func purgeCommand() *cli.Command {
	return &cli.Command{
		Name: "purge", Usage: "forget kept variants, on every node", ArgsUsage: "SITE[/LANE[/PATH]]",
		Description: `Every kept variant of the site, the lane, the source, or of all sources below a path that ends in a slash isn't given any more:
whoever asks for it next has it made anew, and what was fetched of its sources is fetched again. A source with declarations is
one variant, in every format. A source that changes needs no purge.

Examples:
  echolane purge kestrel/catalogue/delta-red.jpg
  echolane purge kestrel/catalogue/summer/ --dry-run
  echolane purge 'kestrel/catalogue/delta-red.jpg?width=640'
  echolane purge kestrel --class card
  echolane purge kestrel --history`,
		Flags: callFlags(dryRunFlag(),
			&cli.StringFlag{Name: "class", Usage: "variants that were asked for with this class"},
			&cli.BoolFlag{Name: "history", Usage: "list the site's purges"}),
		Action: withCall(1, "what to purge, as in: echolane purge kestrel/catalogue", func(ctx context.Context, c *cli.Command, call *client.Client) error {
			site, ask := whatOf(c.Args().First())
			ask.Class, ask.DryRun = c.String("class"), c.Bool("dry-run")
			if c.Bool("history") {
				return printPurges(ctx, c, call, site)
			}
			did, err := call.Purge(ctx, site, ask)
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(stdout(), did)
			}
			said := "purged"
			if did.DryRun {
				said = "would purge"
			}
			fmt.Fprintf(stdout(), "%s %s: %s, %s\n", said, purgedName(did.Purge), wording.Number(did.Variants, "variant"), wording.Bytes(did.Bytes))
			if did.Variants == 0 {
				say("Nothing of it is known to be kept. Is it spelt as in: echolane stock %s --by source", site)
			}
			return nil
		}),
	}
}

// whatOf takes SITE/LANE/PATH?DECLARATIONS apart.
func whatOf(text string) (site string, ask api.AskPurge) {
	text = strings.TrimPrefix(text, "/")
	site, rest, _ := strings.Cut(text, "/")
	if strings.Contains(text, "?") {
		return site, api.AskPurge{Address: "/" + text}
	}
	ask.Lane, ask.Path, _ = strings.Cut(rest, "/")
	return site, ask
}

func purgedName(p records.Purge) string {
	switch {
	case p.Address != "":
		return strings.TrimPrefix(p.Address, "/")
	case p.Class != "":
		return p.Site + ", class " + p.Class
	case p.Lane != "":
		return strings.TrimSuffix(p.Site+"/"+p.Lane+"/"+p.Path, "/") + map[bool]string{true: "/"}[strings.HasSuffix(p.Path, "/")]
	}
	return p.Site
}

func printPurges(ctx context.Context, c *cli.Command, call *client.Client, site string) error {
	list, err := call.Purges(ctx, site)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(stdout(), list)
	}
	if len(list) == 0 {
		fmt.Fprintf(stdout(), "Nothing of %s was purged.\n", site)
		return nil
	}
	rows := [][]string{{"at", "what", "variants", "bytes", "by", "cleared away"}}
	for _, p := range list {
		done := fmt.Sprintf("%d so far", p.Cleared)
		if p.DoneAt != nil {
			done = "all"
		}
		rows = append(rows, []string{p.At.Local().Format("2 Jan 15:04:05"), purgedName(p), fmt.Sprint(p.Variants), wording.Bytes(p.Bytes), p.By, done})
	}
	table(stdout(), "llrr", rows...)
	return nil
}

func stockCommand() *cli.Command {
	return &cli.Command{
		Name: "stock", Usage: "kept variants: how many, how large, what they cost", ArgsUsage: "[SITE[/LANE[/PATH]]]",
		Description: `Figures count what nodes have said so far: answers of the last ten seconds may be missing.

Examples:
  echolane stock
  echolane stock kestrel --by source
  echolane stock kestrel/catalogue --list coldest --count 20
  echolane stock kestrel --price-gb 0.02 --price-egress 0.08`,
		Flags: callFlags(
			&cli.StringFlag{Name: "by", Usage: "group by site, lane, source or format"},
			&cli.StringFlag{Name: "list", Usage: "list variants: " + strings.Join(records.StockOrders, ", ")},
			&cli.IntFlag{Name: "count", Usage: "how many groups or variants", Value: 20},
			&cli.FloatFlag{Name: "price-gb", Usage: "what a gigabyte costs to keep for a month"},
			&cli.FloatFlag{Name: "price-egress", Usage: "what a gigabyte costs to send"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return badUsage("%q is one argument too many: stock takes a site, a lane, a source or nothing", c.Args().Get(1))
			}
			call, err := caller(c)
			if err != nil {
				return err
			}
			site, what := whatOf(c.Args().First())
			order := c.String("list")
			if what.Lane != "" && order == "" {
				order = records.StockOrders[0]
			}
			if order != "" {
				if site == "" || what.Address != "" {
					return badUsage("--list lists variants of a site, a lane or a source: echolane stock kestrel --list %s", order)
				}
				return printVariants(ctx, c, call, site, what, order)
			}
			var s api.Stock
			if site == "" {
				s, err = call.StockOfAll(ctx, c.String("by"), c.Int("count"))
			} else {
				s, err = call.Stock(ctx, site, c.String("by"), c.Int("count"))
			}
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(stdout(), s)
			}
			printStock(c, s)
			return nil
		},
	}
}

func printStock(c *cli.Command, s api.Stock) {
	if s.Variants == 0 {
		fmt.Fprintln(stdout(), "Nothing is kept.")
		return
	}
	rows := [][]string{
		{"kept", fmt.Sprintf("%s of %s: %s; the sources are %s", wording.Number(s.Variants, "variant"), wording.Number(s.Sources, "source"), wording.Bytes(s.Bytes), wording.Bytes(s.SourceBytes))},
		{"asked", fmt.Sprintf("%s: %s went out; the sources would have been %s", wording.Number(s.Asked, "time"), wording.Bytes(s.Served), wording.Bytes(s.Unscaled))},
		{"making", "took " + time.Duration(s.RenderMS*1e6).Round(time.Second/10).String() + triedText(s.FormatsTried)},
	}
	const gb = 1e9
	if price := c.Float("price-gb"); price > 0 {
		rows = append(rows, []string{"keeping", fmt.Sprintf("%.4f a month at %g a GB", float64(s.Bytes)/gb*price, price)})
	}
	if price := c.Float("price-egress"); price > 0 {
		rows = append(rows, []string{"sending", fmt.Sprintf("%.4f at %g a GB; the sources would have cost %.4f", float64(s.Served)/gb*price, price, float64(s.Unscaled)/gb*price)})
	}
	table(stdout(), "ll", rows...)
	fmt.Fprintln(stdout())
	rows = [][]string{{s.By, "variants", "sources", "kept", "asked", "went out", "saved", "last asked"}}
	if s.By == "source" {
		rows[0] = append(rows[0][:2], rows[0][3:]...)
	}
	for _, g := range s.Groups {
		row := []string{g.Name, fmt.Sprint(g.Variants), fmt.Sprint(g.Sources), wording.Bytes(g.Bytes), fmt.Sprint(g.Asked), wording.Bytes(g.Served), savedText(g.Unscaled, g.Served), ago(g.UsedAt)}
		if s.By == "source" {
			row = append(row[:2], row[3:]...)
		}
		rows = append(rows, row)
	}
	table(stdout(), "lrrrrrr", rows...)
}

// triedText says in how many formats a site's variants are made.
func triedText(n int) string {
	switch n {
	case 0:
		return ""
	case 1:
		return "; each variant is made in one format"
	}
	return fmt.Sprintf("; each variant is made in %d formats at most, and the smallest is kept", n)
}

// ago says when something was.
func ago(t *time.Time) string {
	if t == nil {
		return ""
	}
	return t.Local().Format("2 Jan 15:04")
}

func printVariants(ctx context.Context, c *cli.Command, call *client.Client, site string, what api.AskPurge, order string) error {
	list, err := call.StockVariants(ctx, site, what.Lane, what.Path, order, c.Int("count"), 0)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(stdout(), list)
	}
	if len(list.Items) == 0 {
		fmt.Fprintln(stdout(), "Nothing is kept.")
		return nil
	}
	rows := [][]string{{"source", "pixels", "format", "bytes", "asked", "last asked", "declarations"}}
	for _, v := range list.Items {
		rows = append(rows, []string{v.Lane + "/" + wording.Cut(v.Path, 40), pixelsText(v.Width, v.Height), v.Format, wording.Bytes(v.Bytes), fmt.Sprint(v.Asked), ago(&v.UsedAt), wording.Cut(v.Declarations, 50)})
	}
	table(stdout(), "lrlrr", rows...)
	if list.Skip > 0 {
		fmt.Fprintf(stderr(), "There are more: give --count, up to 1000.\n")
	}
	return nil
}
