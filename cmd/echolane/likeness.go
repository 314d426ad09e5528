package main

import (
	"context"
	"fmt"
	"os"

	"github.com/urfave/cli/v3"

	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/wording"
)

func likenessCommand() *cli.Command {
	return &cli.Command{
		Name: "likeness", Usage: "compare two pictures: how alike they look, where they differ, what each weighs", ArgsUsage: "A B",
		Description: `A is the original. The figure's marks are libjpeg-turbo's qualities: 72 is as far as a photograph is from itself
at quality 72. Where one picture is larger, it is first reduced to the other's size.

Examples:
  echolane likeness delta-red.png delta-red.webp
  echolane likeness delta-red.png delta-red.webp --map differences.png`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "map", Usage: "file to draw the differences into, as PNG"},
			jsonFlag(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() != 2 {
				return badUsage("give two files, as in: echolane likeness delta-red.png delta-red.webp")
			}
			return compareFiles(c.Args().Get(0), c.Args().Get(1), c.String("map"), c.Bool("json"))
		},
	}
}

// compared is what likeness finds out.
type compared struct {
	Likeness float64 `json:"likeness"`
	Distance float64 `json:"distance"`
	Width    int     `json:"width"`
	Height   int     `json:"height"`
	Bytes    [2]int  `json:"bytes"`
	Map      string  `json:"map,omitempty"`
}

func compareFiles(a, b, to string, asJSON bool) error {
	var data [2][]byte
	for i, file := range []string{a, b} {
		var err error
		if data[i], err = os.ReadFile(file); err != nil {
			return fmt.Errorf("read a picture: %w", err)
		}
	}
	r, err := render.Compare(data[0], data[1], policy.NewSite("local").Limits)
	if err != nil {
		return err
	}
	if to != "" {
		if err := os.WriteFile(to, r.Map, 0o644); err != nil {
			return fmt.Errorf("write the differences: %w", err)
		}
	}
	if asJSON {
		return printJSON(stdout(), compared{r.Likeness, r.Distance, r.W, r.H, [2]int{len(data[0]), len(data[1])}, to})
	}
	table(stdout(), "lr",
		[]string{"likeness", fmt.Sprintf("%.1f", r.Likeness)},
		[]string{"compared at", pixelsText(r.W, r.H)},
		[]string{a, wording.Bytes(int64(len(data[0])))},
		[]string{b, wording.Bytes(int64(len(data[1]))) + "  " + savedText(int64(len(data[0])), int64(len(data[1])))},
	)
	if to != "" {
		fmt.Fprintf(stdout(), "\nfile  %s\n", to)
	}
	return nil
}
