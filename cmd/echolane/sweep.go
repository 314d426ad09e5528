package main

import (
	"context"
	_ "embed"
	"encoding/base64"
	"fmt"
	"html/template"
	"math"
	"os"
	"strings"
	"time"

	"github.com/schollz/progressbar/v3"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"echolane/core/codec/formats"
	"echolane/core/declare"
	"echolane/core/policy"
	"echolane/core/render"
	"echolane/core/wording"
)

//go:embed sweep.html
var sweepPage string

// swept are the qualities of a sweep.
var swept = []int{10, 20, 30, 40, 50, 60, 66, 72, 78, 84, 90, 95}

// sent is the quality that a new site's sheet asks for.
const sent = 72

func sweepCommand() *cli.Command {
	return &cli.Command{
		Name: "sweep", Usage: "qualities and formats of a local file: bytes against likeness", ArgsUsage: "FILE [NAME=VALUE …]",
		Description: `Makes the variant at qualities from 10 to 95 in each format, searched as the service does, and says what each weighs
and how alike it looks. With -o it also writes a page with the plot and enlarged details to look at.

Examples:
  echolane sweep delta-red.jpg width=640
  echolane sweep delta-red.jpg width=640 --formats webp,avif -o sweep.html`,
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "page to write"},
			&cli.StringFlag{Name: "formats", Usage: "formats to sweep, separated by commas", Value: "jpeg,webp,jxl,avif"},
			jsonFlag(),
		},
		Action: func(_ context.Context, c *cli.Command) error {
			if c.Args().Len() == 0 {
				return badUsage("give a file, as in: echolane sweep delta-red.jpg width=640")
			}
			d, err := readDeclarations(c.Args().Tail())
			if err != nil {
				return err
			}
			var wanted []declare.Format
			for _, name := range strings.Split(c.String("formats"), ",") {
				f := declare.ParseFormat(strings.TrimSpace(name))
				if w := formats.Writer(f); w == nil || w.Lossy == nil {
					return badUsage("%q can't be swept: give one of %s", name, strings.Join(sweepable(), ", "))
				}
				wanted = append(wanted, f)
			}
			return sweepFile(c.Args().First(), c.String("output"), d, wanted, c.Bool("json"))
		},
	}
}

// sweepable are the formats that have qualities to sweep.
func sweepable() (names []string) {
	for _, f := range declare.Formats() {
		if formats.Writer(f).Lossy != nil {
			names = append(names, f.String())
		}
	}
	return names
}

// sweepStep is one quality in one format.
type sweepStep struct {
	Format   string  `json:"format"`
	Quality  int     `json:"quality"`
	Bytes    int     `json:"bytes"`
	Likeness float64 `json:"likeness"`
	Setting  string  `json:"setting"`
	MS       float64 `json:"ms"`
	Knee     bool    `json:"knee,omitempty"`
	Sent     bool    `json:"sent,omitempty"` // what quality=72 sends

	Detail template.URL `json:"-"`
	X, Y   float64      `json:"-"` // in the plot
}

func sweepFile(file, output string, d declare.Declarations, formats []declare.Format, asJSON bool) error {
	data, err := os.ReadFile(file)
	if err != nil {
		return fmt.Errorf("read the source: %w", err)
	}
	site := policy.NewSite("local")
	start := time.Now()
	job := render.Job{Request: d.Resolve(site.Defaults, []declare.Format{declare.PNG}), Limits: site.Limits, Clock: func() time.Duration { return time.Since(start) }}
	var told func(done, all int)
	if term.IsTerminal(int(os.Stderr.Fd())) {
		bar := progressbar.NewOptions(len(formats)*len(swept), progressbar.OptionSetWriter(os.Stderr), progressbar.OptionSetDescription("encoding"),
			progressbar.OptionSetWidth(40), progressbar.OptionClearOnFinish())
		defer bar.Finish()
		told = func(done, _ int) { bar.Set(done) }
	}
	r, err := render.SweepOf(data, job, formats, swept, told)
	if err != nil {
		return err
	}
	steps := make([]sweepStep, len(r.Steps))
	for i, s := range r.Steps {
		steps[i] = sweepStep{
			Format: s.Format.String(), Quality: s.Quality, Bytes: s.Bytes, Likeness: s.Likeness, Setting: s.Setting,
			MS: math.Round(float64(s.Took)/1e4) / 100, Knee: s.Knee, Sent: s.Quality == sent, Detail: asURL(s.Detail),
		}
	}
	if output != "" {
		if err := writeSweep(output, file, r, steps); err != nil {
			return err
		}
	}
	if asJSON {
		return printJSON(stdout(), steps)
	}
	least := map[int]int{}
	for _, s := range steps {
		if b, ok := least[s.Quality]; !ok || s.Bytes < b {
			least[s.Quality] = s.Bytes
		}
	}
	rows := [][]string{{"format", "quality", "bytes", "likeness", "ms", "setting", ""}}
	for i, s := range steps {
		if i > 0 && s.Format != steps[i-1].Format {
			rows = append(rows, make([]string, 7))
		}
		note := ""
		if s.Sent {
			note = "sent by quality=72"
		}
		if s.Knee {
			note += ", the knee"
		}
		if len(formats) > 1 && s.Bytes == least[s.Quality] {
			note += ", the fewest bytes"
		}
		note = strings.TrimPrefix(note, ", ")
		rows = append(rows, []string{s.Format, fmt.Sprint(s.Quality), wording.Bytes(int64(s.Bytes)), fmt.Sprintf("%.1f", s.Likeness), fmt.Sprintf("%.0f", s.MS), s.Setting, note})
	}
	table(stdout(), "lrrrrll", rows...)
	if output != "" {
		fmt.Fprintf(stdout(), "\nfile  %s\n", output)
	}
	return nil
}

func asURL(png []byte) template.URL {
	return template.URL("data:image/png;base64," + base64.StdEncoding.EncodeToString(png))
}

// line is one format's curve.
type line struct {
	Format string
	Points string
	Steps  []sweepStep
}

// mark is a tick of the plot's axis.
type mark struct {
	At   float64
	Text string
}

func writeSweep(output, file string, r render.Sweep, steps []sweepStep) error {
	const w, h, left, top = 860.0, 380.0, 60.0, 20.0
	low, high := math.Inf(1), 0.0
	for _, s := range steps {
		low, high = math.Min(low, float64(s.Bytes)), math.Max(high, float64(s.Bytes))
	}
	x := func(bytes float64) float64 { return left + math.Log(bytes/low)/math.Max(1e-9, math.Log(high/low))*w }
	y := func(likeness float64) float64 { return top + (100-likeness)/100*h }
	var lines []line
	for _, s := range steps {
		s.X, s.Y = x(float64(s.Bytes)), y(s.Likeness)
		if len(lines) == 0 || lines[len(lines)-1].Format != s.Format {
			lines = append(lines, line{Format: s.Format})
		}
		l := &lines[len(lines)-1]
		l.Points += fmt.Sprintf("%.1f,%.1f ", s.X, s.Y)
		l.Steps = append(l.Steps, s)
	}
	var across, down []mark
	for v := math.Pow(10, math.Floor(math.Log10(low))); v <= high; v *= 10 {
		for _, k := range []float64{1, 2, 5} {
			if b := v * k; b >= low && b <= high {
				across = append(across, mark{x(b), wording.Bytes(int64(b))})
			}
		}
	}
	for v := 0.0; v <= 100; v += 20 {
		down = append(down, mark{y(v), fmt.Sprintf("%.0f", v)})
	}
	page, err := template.New("sweep").Parse(sweepPage)
	if err != nil {
		return err
	}
	f, err := os.Create(output)
	if err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	defer f.Close()
	side := r.Place.W()
	err = page.Execute(f, map[string]any{
		"File": file, "Pixels": pixelsText(r.W, r.H), "Lines": lines, "Across": across, "Down": down, "Original": asURL(r.Detail),
		"Place": fmt.Sprintf("%d × %d pixels from %d, %d", side, side, r.Place.X0, r.Place.Y0), "Enlarged": 3 * side,
		"Left": left, "Top": top, "Right": left + w, "Bottom": top + h,
	})
	if err != nil {
		return fmt.Errorf("write the page: %w", err)
	}
	return f.Close()
}
