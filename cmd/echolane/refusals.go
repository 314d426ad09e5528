package main

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/wording"
	"echolane/service/api/client"
	"echolane/service/delivery"
	"echolane/service/source"
)

func refusalsCommand() *cli.Command {
	return &cli.Command{
		Name: "refusals", Usage: "what was turned down, and how to mend it", ArgsUsage: "[SITE]",
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
				Name: "mend", Usage: "make the change that would have let it through, after showing it", ArgsUsage: "NUMBER",
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
				Name: "forget", Usage: "take it off the list until it comes again", ArgsUsage: "NUMBER", Description: "Example:\n  echolane refusals forget 12", Flags: callFlags(),
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
		Name: "explain", Usage: "why this answer: each rule in turn, and what came of it", ArgsUsage: "URL",
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

func uploadCommand() *cli.Command {
	return &cli.Command{
		Name: "upload", Usage: "put sources into an upload lane; list, get and remove them", Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "put", Usage: "put a file in; a path that is there gets a new version", ArgsUsage: "FILE SITE/LANE[/PATH]",
				Description: "Example:\n  echolane upload put delta-red.jpg kestrel/incoming/summer/delta.jpg",
				Flags:       callFlags(),
				Action: withCall(2, "a file and where it goes, as in: echolane upload put delta-red.jpg kestrel/incoming", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, lane, path := uploadTarget(c.Args().Get(1), c.Args().First())
					file, err := os.Open(c.Args().First())
					if err != nil {
						return fmt.Errorf("open the file: %w", err)
					}
					defer file.Close()
					kept, err := call.Upload(ctx, site, lane, path, file)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), kept)
					}
					fmt.Fprintf(stdout(), "%s%s?width=640\n", call.Server, kept.URL)
					fmt.Fprintf(stderr(), "version %d: %s, %s, %s\n", kept.Version, kept.Type, pixelsText(kept.Width, kept.Height), wording.Bytes(kept.Bytes))
					return nil
				}),
			},
			{
				Name: "list", Usage: "list a lane's sources, or the versions of one", ArgsUsage: "SITE/LANE[/PATH]", Description: "Example:\n  echolane upload list kestrel/incoming", Flags: callFlags(),
				Action: withCall(1, "the lane, as in: echolane upload list kestrel/incoming", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, lane, path := uploadTarget(c.Args().First(), "")
					if path != "" {
						list, err := call.Versions(ctx, site, lane, path)
						if err != nil {
							return err
						}
						return printVersions(c, list)
					}
					list, err := call.Sources(ctx, site, lane)
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), list)
					}
					if len(list) == 0 {
						fmt.Fprintf(stdout(), "Nothing is in it yet. Put something in: echolane upload put FILE %s/%s\n", site, lane)
						return nil
					}
					rows := [][]string{{"bytes", "changed", "path"}}
					for _, e := range list {
						rows = append(rows, []string{wording.Bytes(e.Bytes), e.MTime.Local().Format("2006-01-02 15:04"), e.Path})
					}
					table(stdout(), "r", rows...)
					return nil
				}),
			},
			{
				Name: "get", Usage: "get the source itself back", ArgsUsage: "SITE/LANE/PATH", Description: "Example:\n  echolane upload get kestrel/incoming/delta-red.jpg -o delta-red.jpg",
				Flags: callFlags(&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "file to write", Required: true}),
				Action: withCall(1, "the source, as in: echolane upload get kestrel/incoming/delta-red.jpg -o delta-red.jpg", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, lane, path := uploadTarget(c.Args().First(), "")
					data, err := call.Original(ctx, site, lane, path)
					if err != nil {
						return err
					}
					if err := os.WriteFile(c.String("output"), data, 0o644); err != nil {
						return fmt.Errorf("write the file: %w", err)
					}
					return done(c, "file", c.String("output"), fmt.Sprintf("%s, %s", c.String("output"), wording.Bytes(int64(len(data)))))
				}),
			},
			{
				Name: "remove", Usage: "remove a source with all its versions", ArgsUsage: "SITE/LANE/PATH", Description: "Example:\n  echolane upload remove kestrel/incoming/delta-red.jpg --yes", Flags: callFlags(yesFlag()),
				Action: withCall(1, "the source, as in: echolane upload remove kestrel/incoming/delta-red.jpg", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, lane, path := uploadTarget(c.Args().First(), "")
					if err := sure(c, fmt.Sprintf("Remove %s with all its versions? They can't be had back.", c.Args().First())); err != nil {
						return err
					}
					if err := call.RemoveSource(ctx, site, lane, path); err != nil {
						return err
					}
					return done(c, "removed", c.Args().First(), "removed")
				}),
			},
		},
	}
}

func printVersions(c *cli.Command, list []source.Uploaded) error {
	if c.Bool("json") {
		return printJSON(stdout(), list)
	}
	rows := [][]string{{"version", "bytes", "pixels", "type", "when", "by"}}
	for _, v := range list {
		rows = append(rows, []string{fmt.Sprint(v.Version), wording.Bytes(v.Bytes), pixelsText(v.Width, v.Height), v.Type, v.At.Local().Format("2006-01-02 15:04:05"), v.By})
	}
	table(stdout(), "rrr", rows...)
	return nil
}

// uploadTarget takes SITE/LANE[/PATH] apart; without a path the file's own name serves.
func uploadTarget(given, file string) (site, lane, path string) {
	parts := append(strings.SplitN(strings.Trim(given, "/"), "/", 3), "", "", "")
	site, lane, path = parts[0], parts[1], parts[2]
	if path == "" && file != "" {
		path = file[strings.LastIndexByte(file, '/')+1:]
	}
	return site, lane, path
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
