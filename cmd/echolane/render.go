package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"echolane/core/declare"
	"echolane/core/encode"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/wording"
	"echolane/service/workshop"
)

func renderCommand() *cli.Command {
	return &cli.Command{
		Name: "render", Usage: "make a variant of a local file, without a service", ArgsUsage: "FILE [NAME=VALUE …]",
		Description: `The defaults are a new site's: object-fit: cover; quality: 72. Without format= the ending of the output
file says which; without either it is WebP. A lane in url(lane/path) is a folder beside the one that FILE lies in.

Examples:
  echolane render delta-red.jpg width=640 -o delta-640.webp
  echolane render mark.png height=64 format=png -o mark-64.png`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "file to write (without it: beside FILE, named after its size)"},
			jsonFlag(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return badUsage("give a file, as in: echolane render delta-red.jpg width=640 -o delta-640.webp")
			}
			d, err := readDeclarations(c.Args().Tail())
			if err != nil {
				return err
			}
			return renderFile(c.Args().First(), c.String("output"), d, c.Bool("json"))
		},
	}
}

type rendered struct {
	File          string             `json:"file"`
	Width         int                `json:"width"`
	Height        int                `json:"height"`
	Bytes         int                `json:"bytes"`
	Type          string             `json:"type"`
	NaturalWidth  int                `json:"natural_width"`
	NaturalHeight int                `json:"natural_height"`
	SourceBytes   int                `json:"source_bytes"`
	SourceType    string             `json:"source_type"`
	StagesMS      map[string]float64 `json:"stages_ms"`
	Encoding      encode.Encoding    `json:"encoding"`
}

func renderFile(file, output string, d declare.Declarations, asJSON bool) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("read the source: %w", err)
	}
	site := policy.NewSite("local")
	if output != "" && d.Format == declare.FormatUnset {
		ending := strings.ToLower(strings.TrimPrefix(filepath.Ext(output), "."))
		if ending == "jpg" {
			ending = "jpeg"
		}
		if d.Format = declare.ParseFormat(ending); d.Format == declare.FormatUnset {
			return badUsage("%s doesn't end as a format does: let it end in .avif, .jxl, .webp, .jpg, .png or .gif, or give format=", output)
		}
	}
	request := d.Resolve(site.Defaults, site.Offer(policy.AcceptsAll, d.Over(site.Defaults).Quality))
	if no := policy.CheckLossless(&request); no != nil {
		return usage{no}
	}
	named := map[string][]byte{}
	for _, name := range request.Pictures() {
		if named[name], err = os.ReadFile(filepath.Join(filepath.Dir(filepath.Dir(file)), filepath.FromSlash(name))); err != nil {
			return fmt.Errorf("read the layer %s, which lies in a folder beside FILE's own: %w", name, err)
		}
	}
	start := time.Now()
	job := render.Job{Request: request, Limits: site.Limits, Pictures: named, Clock: func() time.Duration { return time.Since(start) }}
	if err := workshop.ReadFonts(&job); err != nil {
		return fmt.Errorf("read the fonts: %w", err)
	}
	result, err := render.Variant(data, job)
	if err != nil {
		return err
	}
	if output == "" {
		base := strings.TrimSuffix(file, filepath.Ext(file))
		output = fmt.Sprintf("%s-%dx%d.%s", base, result.Canvas.W, result.Canvas.H, strings.Replace(result.Format.String(), "jpeg", "jpg", 1))
		if _, err := os.Stat(output); err == nil {
			return fmt.Errorf("%s is there already: say where to write with -o", output)
		}
	}
	if err := os.WriteFile(output, result.Data, 0o644); err != nil {
		return fmt.Errorf("write the variant: %w", err)
	}
	r := rendered{
		File: output, Width: result.Canvas.W, Height: result.Canvas.H, Bytes: len(result.Data), Type: result.Format.MediaType(),
		NaturalWidth: result.Natural.W, NaturalHeight: result.Natural.H, SourceBytes: len(data), SourceType: result.Source, StagesMS: map[string]float64{}, Encoding: result.How,
	}
	var stages []string
	for _, s := range result.Stages {
		r.StagesMS[s.Name] = float64(s.Took) / 1e6
		stages = append(stages, fmt.Sprintf("%s %s", s.Name, msText(s.Took)))
	}
	if asJSON {
		return printJSON(stdout(), r)
	}
	table(stdout(), "lrrr",
		[]string{"", "natural", "delivered", ""},
		[]string{"pixels", pixelsText(r.NaturalWidth, r.NaturalHeight), pixelsText(r.Width, r.Height), savedText(result.Natural.Pixels(), result.Canvas.Pixels())},
		[]string{"bytes", wording.Bytes(int64(r.SourceBytes)), wording.Bytes(int64(r.Bytes)), savedText(int64(r.SourceBytes), int64(r.Bytes))},
		[]string{"type", r.SourceType, r.Type, ""},
	)
	fmt.Fprintf(stdout(), "\nway   %s\n", howText(result.How))
	fmt.Fprintf(stdout(), "time  %s\nfile  %s\n", strings.Join(stages, " · "), output)
	return nil
}

// howText says in a line how a variant's bytes came about.
func howText(h encode.Encoding) string {
	var parts []string
	add := func(format string, args ...any) { parts = append(parts, fmt.Sprintf(format, args...)) }
	switch h.Way {
	case "source":
		return "the source's own data: a new encode wouldn't be smaller"
	case "lossless":
		add("lossless, as a %s", h.Kind)
	default:
		add("%s for quality %d", h.Way, h.Quality)
	}
	if h.Setting != "" {
		add("%s", h.Setting)
	}
	if h.Likeness > 0 && h.Way != "lossless" {
		if h.Aim > 0 {
			add("likeness %.1f, aimed at %.1f", h.Likeness, h.Aim)
		} else {
			add("likeness %.1f", h.Likeness)
		}
	}
	switch h.Bound {
	case "finest":
		add("the encoder's finest: a higher quality gives the same bytes, except lossless")
	case "coarsest":
		add("the encoder's coarsest: a lower quality gives the same bytes")
	}
	if len(h.Weighed) > 1 {
		var each []string
		for _, w := range h.Weighed {
			each = append(each, w.Format+" "+wording.Bytes(int64(w.Bytes)))
		}
		add("the smallest of %s", strings.Join(each, ", "))
	}
	if n := len(h.Trials); n == 1 {
		add("1 encode tried")
	} else if n > 1 {
		add("%d encodes tried", n)
	}
	return strings.Join(parts, " · ")
}
