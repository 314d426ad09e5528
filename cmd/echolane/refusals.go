package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/wording"
	"echolane/service/api/client"
	"echolane/service/delivery"
)

func refusalsCommand() *cli.Command {
	return &cli.Command{
		Name: "refusals", Usage: "refused requests, and how to allow them", ArgsUsage: "[SITE]",
		Description: `Examples:
  echolane refusals kestrel
  echolane refusals mend 12 --dry-run
  echolane refusals forget 12`,
		Flags: callFlags(),
		Action: func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 1 {
				return badUsage("%q is one argument too many: refusals takes a site's name or nothing", c.Args().Get(1))
			}
			call, err := caller(c)
			if err != nil {
				return err
			}
			list, err := call.Refusals(ctx, c.Args().First())
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(stdout(), list)
			}
			if len(list) == 0 {
				fmt.Fprintln(stdout(), "Nothing was turned down.")
				return nil
			}
			for i, r := range list {
				if i > 0 {
					fmt.Fprintln(stdout())
				}
				fmt.Fprintf(stdout(), "%d  %s × %d, last %s\n", r.ID, r.Reason, r.Count, r.LastAt.Local().Format("2006-01-02 15:04:05"))
				rows := [][]string{{"   asked", r.Asked}, {"   sample", r.Sample}, {"   what", r.Detail}, {"   way out", r.Remedy}}
				if r.Command != "" {
					rows = append(rows, []string{"   or", fmt.Sprintf("echolane refusals mend %d", r.ID)})
				}
				table(stdout(), "ll", rows...)
			}
			return nil
		},
		Commands: []*cli.Command{
			{
				Name: "mend", Usage: "show the change of settings that would have allowed it, and make it", ArgsUsage: "NUMBER",
				Description: "Example:\n  echolane refusals mend 12",
				Flags:       callFlags(dryRunFlag(), yesFlag(), onlyFlag()),
				Action: withCall(1, "a refusal's number, as in: echolane refusals mend 12", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					id, err := number("refusal", c.Args().First())
					if err != nil {
						return err
					}
					would, err := call.Mend(ctx, id, true, false, client.Whatever)
					if err != nil {
						return err
					}
					if c.Bool("dry-run") {
						return printChanges(c, would.Refusal.Site, would.Changes, would.Warnings, false)
					}
					if !c.Bool("json") {
						for _, d := range would.Changes {
							fmt.Fprintf(stderr(), "  %s\n", d)
						}
						warn(would.Warnings)
					}
					if would.ShutsOut != "" && !c.Bool("only") {
						return badUsage("%s Say so with --only, or forget the refusal: what it asked for isn't refused any more", would.ShutsOut)
					}
					if err := sure(c, fmt.Sprintf("Change %s so?", would.Refusal.Site)); err != nil {
						return err
					}
					did, err := call.Mend(ctx, id, false, c.Bool("only"), client.Whatever)
					if err != nil {
						return err
					}
					return printChanges(c, did.Refusal.Site, did.Changes, nil, true)
				}),
			},
			{
				Name: "forget", Usage: "remove it from the list until it recurs", ArgsUsage: "NUMBER", Description: "Example:\n  echolane refusals forget 12", Flags: callFlags(),
				Action: withCall(1, "a refusal's number, as in: echolane refusals forget 12", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					id, err := number("refusal", c.Args().First())
					if err != nil {
						return err
					}
					if err := call.ForgetRefusal(ctx, id); err != nil {
						return err
					}
					return done(c, "forgotten", c.Args().First(), "forgotten")
				}),
			},
		},
	}
}

func explainCommand() *cli.Command {
	return &cli.Command{
		Name: "explain", Usage: "explain an answer: every rule in turn, and what came of it", ArgsUsage: "URL",
		Description: `URL may also be SITE/LANE/PATH?declarations of the service at --server.

Examples:
  echolane explain 'kestrel/catalogue/delta-red.jpg?width=640'
  echolane explain 'kestrel/catalogue/delta-red.jpg?width=640' --origin https://elsewhere.test`,
		Flags: callFlags(
			&cli.StringFlag{Name: "accept", Usage: "the Accept field to send", Value: defaultAccept},
			&cli.StringFlag{Name: "origin", Usage: "the page's origin to send"},
			&cli.StringFlag{Name: "referer", Usage: "the page's address to send"},
			&cli.StringFlag{Name: "fetch-site", Usage: "the Sec-Fetch-Site field to send: same-origin, same-site, cross-site or none"}),
		Action: withCall(1, "an image's URL, as in: echolane explain 'kestrel/catalogue/delta-red.jpg?width=640'", func(ctx context.Context, c *cli.Command, call *client.Client) error {
			u, err := imageURL(call, c.Args().First())
			if err != nil {
				return err
			}
			if call.Server, err = serverOf(u); err != nil {
				return err
			}
			if u.RawQuery != "" {
				u.RawQuery += "&"
			}
			u.RawQuery += "as=explain"
			r, err := http.NewRequestWithContext(ctx, "GET", u.String(), nil)
			if err != nil {
				return badUsage("%q isn't a URL", u)
			}
			for flag, field := range map[string]string{"accept": "Accept", "origin": "Origin", "referer": "Referer", "fetch-site": "Sec-Fetch-Site"} {
				if v := c.String(flag); v != "" {
					r.Header.Set(field, v)
				}
			}
			call.Introduce(r, c.String("server"))
			answer, err := call.HTTP.Do(r)
			if err != nil {
				return &client.Unreachable{Server: call.Server, Err: err}
			}
			defer answer.Body.Close()
			data, err := io.ReadAll(answer.Body)
			if err != nil {
				return fmt.Errorf("read the answer: %w", err)
			}
			if answer.StatusCode != 200 {
				return client.Problem(answer, data)
			}
			var x delivery.Explanation
			if err := json.Unmarshal(data, &x); err != nil {
				return fmt.Errorf("%s doesn't answer as an Echo Lane service does: %w", call.Server, err)
			}
			if c.Bool("json") {
				return printJSON(stdout(), x)
			}
			printExplanation(x)
			if x.Refusal != nil {
				return x.Refusal.Refusal
			}
			return nil
		}),
	}
}

func printExplanation(x delivery.Explanation) {
	fmt.Fprintf(stdout(), "%s\n\n", x.Address)
	printSteps(x.Steps)
	if x.Variant == nil {
		return
	}
	v := x.Variant
	fmt.Fprintln(stdout())
	var stages []string
	for _, s := range v.Stages {
		stages = append(stages, fmt.Sprintf("%s %.2f ms", s.Name, s.MS))
	}
	how := ""
	if v.Encoding != nil {
		how = howText(*v.Encoding)
	}
	table(stdout(), "ll",
		[]string{"resolved", x.Resolved},
		[]string{"source", fmt.Sprintf("%s, %s, %s, digest %s", v.SourceType, pixelsText(v.NaturalWidth, v.NaturalHeight), wording.Bytes(int64(v.SourceBytes)), x.Digest)},
		[]string{"variant", fmt.Sprintf("%s, %s, %s", v.Type, pixelsText(v.Width, v.Height), wording.Bytes(int64(x.Bytes)))},
		[]string{"encoded", how},
		[]string{"cache", x.Cache},
		[]string{"key", x.Key},
		[]string{"made in", strings.Join(stages, " · ")},
		[]string{"this time", fmt.Sprintf("%.2f ms", x.TotalMS)},
	)
}

func usageCommand() *cli.Command {
	return &cli.Command{
		Name: "usage", Usage: "what a site served, made and stored, by month", ArgsUsage: "SITE", Description: "Example:\n  echolane usage kestrel", Flags: callFlags(),
		Action: withCall(1, "the site's name, as in: echolane usage kestrel", func(ctx context.Context, c *cli.Command, call *client.Client) error {
			list, err := call.Usage(ctx, c.Args().First())
			if err != nil {
				return err
			}
			if c.Bool("json") {
				return printJSON(stdout(), list)
			}
			if len(list) == 0 {
				fmt.Fprintln(stdout(), "Nothing was used yet.")
				return nil
			}
			rows := [][]string{{"month", "requests", "renders", "served", "stored"}}
			for _, u := range list {
				rows = append(rows, []string{u.Month.Format("2006-01"), fmt.Sprint(u.Requests), fmt.Sprint(u.Renders), wording.Bytes(u.BytesServed), wording.Bytes(u.BytesStored)})
			}
			table(stdout(), "lrrrr", rows...)
			return nil
		}),
	}
}
