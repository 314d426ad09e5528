package main

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/service/api"
	"echolane/service/api/client"
)

func markupCommand() *cli.Command {
	return &cli.Command{
		Name: "markup", Usage: "write the HTML for a source in a slot", ArgsUsage: "SITE/LANE/PATH [NAME=VALUE …]",
		Description: `A slot is the place on the page, in CSS:
  --slot 'width: 320px; aspect-ratio: 3/2'
  --slot 'max-width: 800px'
  --slot 'width: 100%' --container 'max-width: 720px'
  --slot 'inset: 0; aspect-ratio: 21/9'
  --slot '(min-width: 900px) 33vw, 100vw'
  --slot 'width: 100vw; aspect-ratio: 21/9; @media (width < 600px) { aspect-ratio: 1 }'

The widths that are offered are those of the site's ladder, or any, so that no step between two wastes more than a share
of the bytes; some are made to know what they weigh.

Examples:
  echolane markup kestrel/catalogue/delta-red.jpg --slot 'width: 320px; aspect-ratio: 3/2' --alt 'A red delta kite'
  echolane markup kestrel/catalogue/festival-dawn.jpg --slot '100vw' --first --alt 'Kites over the beach at dawn'
  echolane markup kestrel/catalogue/mark.png --slot 'width: 48px' --decorative --as jsx`,
		Flags: callFlags(
			&cli.StringFlag{Name: "slot", Usage: "the place on the page, in CSS", Required: true},
			&cli.StringFlag{Name: "container", Usage: "the box that percentages are of, in CSS"},
			&cli.StringFlag{Name: "alt", Usage: "the text that stands in for the picture"},
			&cli.BoolFlag{Name: "decorative", Usage: "the picture says nothing that the page's text doesn't"},
			&cli.BoolFlag{Name: "first", Usage: "it is seen first: preloaded, not lazy"},
			&cli.StringFlag{Name: "formats", Usage: "a <source> for each, for caches that don't look at Vary, such as avif,webp,jpeg"},
			&cli.BoolFlag{Name: "placeholder", Usage: "with the placeholder in it"},
			&cli.FloatFlag{Name: "waste", Usage: "the largest share of bytes that a step between two widths may waste", Value: 0.35},
			&cli.StringFlag{Name: "base", Usage: "what addresses begin with, such as https://img.example.test; else the service's own"},
			&cli.StringFlag{Name: "as", Usage: "html, jsx, css or preload", Value: "html"}),
		Action: func(ctx context.Context, c *cli.Command) error {
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
		First: c.Bool("first"), Placeholder: c.Bool("placeholder"), Waste: c.Float("waste"), Base: c.String("base"),
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
	m := out.Markup
	for _, c := range m.Srcset {
		say("%6d px  %s", c.Width, bytesText(int64(c.Bytes)))
	}
	for _, w := range m.Warnings {
		say("warning: %s", w)
	}
	return nil
}
