package main

import (
	"context"
	"fmt"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/sync/errgroup"
	"golang.org/x/term"

	"echolane/core/declare"
	"echolane/core/wording"
	"echolane/service/api"
	"echolane/service/api/client"
	"echolane/service/source"
)

func uploadCommand() *cli.Command {
	return &cli.Command{
		Name: "upload", Usage: "upload sources; list, get, restore and remove them", Action: nothingAsked,
		Commands: []*cli.Command{
			{
				Name: "put", Usage: "upload files, or a folder; an existing path gets a new version", ArgsUsage: "FILE|FOLDER SITE/LANE[/PATH]",
				Description: `Of a folder go in all images in it and below, under their paths in it. What can't be put in is told of at the end, and the
others are in.

Examples:
  echolane upload put delta-red.jpg kestrel/incoming/summer/delta.jpg
  echolane upload put delta-red.jpg kestrel/incoming --focus "40% 25%"
  echolane upload put pictures/ kestrel/incoming/summer`,
				Flags:  callFlags(&cli.StringFlag{Name: "focus", Usage: "where its subject is: see echolane help lane focus"}),
				Action: withCall(2, "a file or a folder and where it goes, as in: echolane upload put delta-red.jpg kestrel/incoming", putFiles),
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
				Name: "get", Usage: "download the source itself", ArgsUsage: "SITE/LANE/PATH", Description: "Example:\n  echolane upload get kestrel/incoming/delta-red.jpg -o delta-red.jpg",
				Flags: callFlags(&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "file to write", Required: true}, &cli.IntFlag{Name: "version", HideDefault: true, Usage: "an older version"}),
				Action: withCall(1, "the source, as in: echolane upload get kestrel/incoming/delta-red.jpg -o delta-red.jpg", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, lane, path := uploadTarget(c.Args().First(), "")
					data, err := call.Original(ctx, site, lane, path, c.Int("version"))
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
				Name: "restore", Usage: "make an older version the newest again", ArgsUsage: "SITE/LANE/PATH VERSION", Description: "Example:\n  echolane upload restore kestrel/incoming/delta-red.jpg 2",
				Flags: callFlags(),
				Action: withCall(2, "the source and a version's number, as in: echolane upload restore kestrel/incoming/delta-red.jpg 2", func(ctx context.Context, c *cli.Command, call *client.Client) error {
					site, lane, path := uploadTarget(c.Args().First(), "")
					n, err := number("version", c.Args().Get(1))
					if err != nil {
						return err
					}
					kept, err := call.RestoreVersion(ctx, site, lane, api.RestoreVersion{Path: path, Version: int(n)})
					if err != nil {
						return err
					}
					if c.Bool("json") {
						return printJSON(stdout(), kept)
					}
					fmt.Fprintf(stdout(), "version %d is what version %d was: %s, %s\n", kept.Version, n, pixelsText(kept.Width, kept.Height), wording.Bytes(kept.Bytes))
					return nil
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

const uploadsAtOnce = 4

// putFiles puts a file in, or all images below a folder.
func putFiles(ctx context.Context, c *cli.Command, call *client.Client) error {
	from := c.Args().First()
	info, err := os.Stat(from)
	if err != nil {
		return fmt.Errorf("open the file: %w", err)
	}
	focus := c.String("focus")
	if focus != "" {
		if _, err := declare.ParseFocus(focus); err != nil {
			return badUsage("--focus: %v", err)
		}
		if info.IsDir() {
			return badUsage("--focus is of one picture: give it with a file, or afterwards with echolane lane focus")
		}
	}
	if !info.IsDir() {
		site, lane, path := uploadTarget(c.Args().Get(1), from)
		kept, err := putFile(ctx, call, from, site, lane, path)
		if err != nil {
			return err
		}
		if focus != "" {
			if _, err := call.SetFocus(ctx, site, lane, api.SetFocus{Path: kept.Path, Focus: focus}); err != nil {
				return fmt.Errorf("%s is in, its focus isn't kept: %w", kept.Path, err)
			}
		}
		if c.Bool("json") {
			return printJSON(stdout(), kept)
		}
		fmt.Fprintf(stdout(), "%s%s?width=640\n", call.Server, kept.URL)
		fmt.Fprintf(stderr(), "version %d: %s, %s, %s\n", kept.Version, kept.Type, pixelsText(kept.Width, kept.Height), wording.Bytes(kept.Bytes))
		return nil
	}
	site, lane, below := uploadTarget(c.Args().Get(1), "")
	var names []string
	err = filepath.WalkDir(from, func(p string, e fs.DirEntry, err error) error {
		if err == nil && e.Type().IsRegular() && source.IsImageName(p) {
			var name string
			if name, err = filepath.Rel(from, p); err == nil {
				names = append(names, filepath.ToSlash(name))
			}
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("read the folder: %w", err)
	}
	if len(names) == 0 {
		return fmt.Errorf("there is no image in %s", from)
	}
	var bar *progressbar.ProgressBar
	if term.IsTerminal(int(os.Stderr.Fd())) {
		bar = progressbar.NewOptions(len(names), progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetDescription("putting in"), progressbar.OptionShowCount(), progressbar.OptionSetWidth(40), progressbar.OptionClearOnFinish())
	}
	did := make([]put, len(names))
	var all errgroup.Group
	all.SetLimit(uploadsAtOnce)
	for i, name := range names {
		all.Go(func() error {
			kept, err := putFile(ctx, call, filepath.Join(from, filepath.FromSlash(name)), site, lane, path.Join(below, name))
			did[i] = put{File: name, Uploaded: kept.Uploaded, URL: kept.URL}
			if err != nil {
				did[i].Trouble = err.Error()
			}
			if bar != nil {
				bar.Add(1)
			}
			return nil
		})
	}
	all.Wait()
	if bar != nil {
		bar.Finish()
	}
	failed, bytes := 0, int64(0)
	for _, d := range did {
		if d.Trouble != "" {
			failed++
		}
		bytes += d.Bytes
	}
	if c.Bool("json") {
		if err := printJSON(stdout(), did); err != nil {
			return err
		}
	} else {
		fmt.Fprintf(stdout(), "%s, %s, are in %s\n", wording.Number(int64(len(did)-failed), "source"), wording.Bytes(bytes), c.Args().Get(1))
		for _, d := range did {
			if d.Trouble != "" {
				fmt.Fprintf(stderr(), "%s: %s\n", d.File, d.Trouble)
			}
		}
	}
	if failed > 0 {
		return fmt.Errorf("%d of %d could not be put in", failed, len(did))
	}
	return nil
}

// put is what became of one file.
type put struct {
	File string `json:"file"`
	source.Uploaded
	URL     string `json:"url,omitempty"`
	Trouble string `json:"trouble,omitempty"`
}

func putFile(ctx context.Context, call *client.Client, file, site, lane, path string) (kept api.Uploaded, err error) {
	f, err := os.Open(file)
	if err != nil {
		return kept, fmt.Errorf("open the file: %w", err)
	}
	defer f.Close()
	return call.Upload(ctx, site, lane, path, f)
}
