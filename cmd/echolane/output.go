package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"echolane/service/api/client"
)

func jsonFlag() cli.Flag {
	return &cli.BoolFlag{Name: "json", Usage: "print the result as JSON"}
}

const defaultServer = "http://127.0.0.1:8740"

// callFlags are those of every command that talks to a service.
func callFlags(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{
		&cli.StringFlag{Name: "server", Usage: "the service's address", Value: defaultServer, Sources: cli.EnvVars("ECHOLANE_SERVER")},
		&cli.StringFlag{Name: "token", Usage: "API token", Sources: cli.EnvVars("ECHOLANE_TOKEN")},
		jsonFlag(),
	}, more...)
}

func caller(c *cli.Command) (*client.Client, error) {
	call, err := client.New(c.String("server"), c.String("token"))
	if err != nil {
		return nil, usage{err}
	}
	return call, nil
}

// c1 are control characters that JSON lets stand as they are, and terminals don't.
var c1 = regexp.MustCompile(`[\x{7f}-\x{9f}]`)

func printJSON(w io.Writer, v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetIndent("", "  ")
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	text := c1.ReplaceAllStringFunc(b.String(), func(s string) string { return fmt.Sprintf(`\u%04x`, []rune(s)[0]) })
	_, err := io.WriteString(w, text)
	return err
}

// table prints columns. Those in right are figures and end at the same place.
func table(w io.Writer, right string, rows ...[]string) {
	var widths []int
	for _, r := range rows {
		for i, cell := range r {
			cell = shown(cell, "")
			r[i] = cell
			if i == len(widths) {
				widths = append(widths, 0)
			}
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	for _, r := range rows {
		var line strings.Builder
		for i, cell := range r {
			pad := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell))
			if i > 0 {
				line.WriteString("  ")
			}
			if i < len(right) && right[i] == 'r' {
				line.WriteString(pad + cell)
			} else {
				line.WriteString(cell + pad)
			}
		}
		fmt.Fprintln(w, strings.TrimRight(line.String(), " "))
	}
}

func pixelsText(w, h int) string { return fmt.Sprintf("%d × %d", w, h) }

func msText(d time.Duration) string {
	v := float64(d) / 1e6
	if v < 10 {
		return fmt.Sprintf("%.2f ms", v)
	}
	return fmt.Sprintf("%.0f ms", v)
}

// savedText compares after with before: −97.3 %, or +12.0 % where there is more now.
func savedText(before, after int64) string {
	if before == 0 {
		return ""
	}
	p := 100 * (float64(after)/float64(before) - 1)
	sign := ""
	if p > 0 {
		sign = "+"
	} else if p < 0 {
		sign = "−"
	}
	if after > 0 && p <= -99.95 { // nothing isn't left
		return sign + "99.9 %"
	}
	return fmt.Sprintf("%s%.1f %%", sign, math.Abs(p))
}

// stdout and stderr are where results and words go. What comes from origins, file names and other people can't steer the
// terminal: control characters are shown as what they are.
func stdout() io.Writer { return visible{os.Stdout} }
func stderr() io.Writer { return visible{os.Stderr} }

type visible struct{ w io.Writer }

// Write writes p, each write of ours being whole characters.
func (v visible) Write(p []byte) (int, error) {
	if _, err := io.WriteString(v.w, shown(string(p), "\n\t")); err != nil {
		return 0, err
	}
	return len(p), nil
}

// shown is s with its control characters, but for those to keep, as their pictures (U+2400 to U+2421); those of C1, which
// have none, as U+FFFD.
func shown(s, keep string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case strings.ContainsRune(keep, r):
			return r
		case r < ' ':
			return '\u2400' + r
		case r == 0x7f:
			return '\u2421'
		case r > 0x7f && r < 0xa0:
			return '\ufffd'
		}
		return r
	}, strings.ToValidUTF8(s, "\ufffd"))
}

// count writes a number with its noun.
func count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, many)
}
