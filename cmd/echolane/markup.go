package main

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
)

func markupCommand() *cli.Command {
	return &cli.Command{
		Name: "markup", Usage: "write the HTML for a source in a slot, or rewrite pages", ArgsUsage: "SITE/LANE/PATH [NAME=VALUE …]",
		Description: `A slot is the place on the page, in CSS:
  --slot 'width: 320px; aspect-ratio: 3/2'
  --slot 'max-width: 800px'
  --slot 'width: 100%' --container 'max-width: 720px'
  --slot 'inset: 0; aspect-ratio: 21/9'
  --slot '(min-width: 900px) 33vw, 100vw'
  --slot 'width: 100vw; aspect-ratio: 21/9; @media (width < 600px) { aspect-ratio: 1 }'

The widths that are offered are those of the site's ladder, or any, so that no step between two wastes more than a share
of the bytes; some are made to know what they weigh.

With --rewrite the arguments are HTML files, folders of them, or - for standard input, and their images get such markup:
by the sizes or width that a tag has, or by --slot. Nothing but image tags changes; each keeps what it was in data-was,
from which --undo brings it back. weigh --fix does the same by what a browser measures.

With --card the tags are those by which others show a card where somebody links to the page.

Examples:
  echolane markup kestrel/catalogue/delta-red.jpg --slot 'width: 320px; aspect-ratio: 3/2' --alt 'A red delta kite'
  echolane markup kestrel/catalogue/festival-dawn.jpg --slot '100vw' --first --alt 'Kites over the festival meadow at dawn'
  echolane markup kestrel/catalogue/mark.png --slot 'width: 48px' --decorative --as jsx
  echolane markup kestrel/catalogue/delta-red.jpg class=card 'data-title=Spring sale' --card --alt 'Spring sale: a red delta kite'
  echolane markup --rewrite public/ --site kestrel --at https://shop.kestrel.test/ --slot '(min-width: 900px) 33vw, 100vw' --dry-run
  curl -s https://shop.kestrel.test/ | echolane markup --rewrite - --at https://shop.kestrel.test/ --map https://shop.kestrel.test/pictures/=catalogue`,
		Flags: callFlags(
			&cli.StringFlag{Name: "slot", Usage: "the place on the page, in CSS"},
			&cli.StringFlag{Name: "container", Usage: "the box that percentages are of, in CSS"},
			&cli.StringFlag{Name: "alt", Usage: "the text alternative of the picture"},
			&cli.BoolFlag{Name: "decorative", Usage: "the picture is decorative: alt stays empty"},
			&cli.BoolFlag{Name: "first", Usage: "it is seen first: preloaded, not lazy"},
			&cli.BoolFlag{Name: "above", Usage: "it is seen without scrolling: not lazy"},
			&cli.StringFlag{Name: "formats", Usage: "a <source> for each, lightest first, for caches that don't look at Vary, such as avif,jxl,webp,jpeg"},
			&cli.StringFlag{Name: "placeholder", Usage: "placeholder until the picture has loaded: picture, or colour"},
			&cli.BoolFlag{Name: "pin", Usage: "name the source's version in the addresses, so that their answers may be kept for a year; write the markup again when the source changes"},
			&cli.FloatFlag{Name: "waste", Usage: "the largest share of bytes that a step between two widths may waste", Value: 0.35},
			&cli.StringFlag{Name: "base", Usage: "what addresses begin with, such as https://img.example.test; else the service's own"},
			&cli.StringFlag{Name: "as", Usage: "html, jsx, css or preload", Value: "html"},
			&cli.BoolFlag{Name: "card", Usage: "write the <meta> tags of a card for whoever links to the page, with its size and --alt"},
			&cli.StringFlag{Name: "sign", Usage: "with --card: name of the site's key to sign with"},
			&cli.BoolFlag{Name: "rewrite", Usage: "rewrite pages"},
			&cli.StringFlag{Name: "site", Usage: "with --rewrite: the site whose lanes apply; needed where the service has several"},
			&cli.StringFlag{Name: "at", Usage: "with --rewrite: the address that the pages are served under"},
			&cli.StringSliceFlag{Name: "map", Usage: "with --rewrite: URL=LANE or URL=LANE/FOLDER: what lies below the URL lies in the lane too"},
			&cli.BoolFlag{Name: "dry-run", Usage: "with --rewrite: print what would change, and write nothing"},
			&cli.BoolFlag{Name: "undo", Usage: "with --rewrite: restore pages as they were; no service is needed"}),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Bool("rewrite") {
				return rewritePages(ctx, c)
			}
			if c.Bool("card") && c.Args().Len() > 0 {
				call, err := caller(c)
				if err != nil {
					return err
				}
				return writeCardMarkup(ctx, c, call)
			}
			if c.Args().Len() > 0 && c.String("slot") == "" {
				return badUsage("say the place on the page with --slot, such as --slot 'width: 320px; aspect-ratio: 3/2'")
			}
			if c.Args().Len() == 0 {
				return badUsage("give the source as SITE/LANE/PATH, as in: echolane markup kestrel/catalogue/delta-red.jpg --slot 'width: 320px' --alt '…'")
			}
			call, err := caller(c)
			if err != nil {
				return err
			}
			return writeMarkup(ctx, c, call)
		},
	}
}

func writeMarkup(ctx context.Context, c *cli.Command, call *client.Client) error {
	site, in, ok := strings.Cut(strings.TrimPrefix(c.Args().First(), "/"), "/")
	if !ok {
		return badUsage("%q isn't SITE/LANE/PATH: write it as kestrel/catalogue/delta-red.jpg", c.Args().First())
	}
	d, err := readDeclarations(c.Args().Tail())
	if err != nil {
		return err
	}
	ask := api.AskMarkup{
		Source: in, Slot: c.String("slot"), Container: c.String("container"), Decorative: c.Bool("decorative"), Declarations: d.AddressForm(),
		Pin: c.Bool("pin"), First: c.Bool("first"), Above: c.Bool("above"), Placeholder: c.String("placeholder"), Waste: c.Float("waste"), Base: c.String("base"),
	}
	if c.IsSet("alt") {
		alt := c.String("alt")
		ask.Alt = &alt
	}
	if f := c.String("formats"); f != "" {
		ask.Formats = commas(f)
	}
	if _, err := url.Parse(ask.Base); err != nil {
		return badUsage("%q isn't a URL", ask.Base)
	}
	kinds := []string{"html", "jsx", "css", "preload"}
	kind := c.String("as")
	if !slices.Contains(kinds, kind) {
		return badUsage("--as %s isn't one of %s", kind, strings.Join(kinds, ", "))
	}
	out, err := call.Markup(ctx, site, ask)
	if err != nil {
		return err
	}
	if c.Bool("json") {
		return printJSON(stdout(), out)
	}
	switch kind {
	case "html":
		fmt.Fprint(stdout(), out.Preload+out.HTML)
	case "jsx":
		fmt.Fprint(stdout(), out.JSX)
	case "css":
		fmt.Fprint(stdout(), out.CSS)
	case "preload":
		if out.Preload == "" {
			return badUsage("--as preload goes with --first")
		}
		fmt.Fprintf(stdout(), "%s\nLink: %s\n", out.Preload, out.Link)
	}
	say("what browsers take:")
	for _, p := range out.Picks {
		say("  %4.0f wide at %gx  %4.0f shown  %5d px  %s", p.Viewport, p.Density, p.Shown, p.Width, wording.Bytes(int64(p.Bytes)))
	}
	for _, w := range out.Markup.Warnings {
		say("warning: %s", w)
	}
	return nil
}
