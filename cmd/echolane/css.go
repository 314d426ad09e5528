package main

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"echolane/core/rule"
	"echolane/service/api"
)

func cssCommand() *cli.Command {
	return &cli.Command{
		Name: "css", Usage: "turn a stylesheet's rule into the declarations of an image's URL", ArgsUsage: "RULES|FILE|-",
		Description: `Takes style rules as they stand in a stylesheet: one or many, or declarations alone. Says of every
declaration what it becomes, or why it's left out and where it belongs. Needs no service.

Examples:
  echolane css '.hero img { width: 20rem; aspect-ratio: 16 / 9; object-fit: cover; border-radius: 12px }'
  echolane css 'transform: rotate(90deg); max-width: 100%'
  echolane css shop.css
  grep -A9 '^.hero' shop.css | echolane css -`,
		Flags: []cli.Flag{jsonFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			given, err := oneArgument(c, "a rule in quotes, a file, or - for the standard input, as in: echolane css '.hero { width: 20rem; border-radius: 8px }'")
			if err != nil {
				return err
			}
			text := []byte(given)
			if _, err := os.Stat(given); err == nil || given == "-" || !strings.ContainsAny(given, ":{") {
				if text, err = readFileOrInput(given); err != nil {
					return err
				}
			}
			rules, err := rule.Read(string(text))
			if err != nil {
				return err
			}
			taken, all := rule.Taken(rules)
			if c.Bool("json") {
				if err := printJSON(stdout(), api.Rules{Rules: rules, Taken: taken, All: all}); err != nil {
					return err
				}
			} else {
				printRules(rules, taken, all)
			}
			if taken == 0 {
				return fmt.Errorf("none of the %s is a picture's", count(all, "declaration", "declarations"))
			}
			return nil
		},
	}
}

func printRules(rules []rule.Rule, taken, all int) {
	for i, r := range rules {
		if i > 0 {
			fmt.Fprintln(stdout())
		}
		indent := ""
		if head := strings.TrimSpace(r.Within + " " + r.Selector); head != "" {
			fmt.Fprintln(stdout(), shown(head, ""))
			indent = "  "
		}
		var rows [][]string
		for _, item := range r.Items {
			written := indent + item.Property + ": " + item.Value
			switch {
			case !item.Taken:
				continue
			case item.Becomes == "":
				rows = append(rows, []string{written, "as if it weren't there"})
			default:
				rows = append(rows, []string{written, item.Becomes})
			}
		}
		table(stdout(), "ll", rows...)
		left := false
		for _, item := range r.Items {
			if item.Taken {
				continue
			}
			if !left {
				fmt.Fprintln(stdout(), indent+"left out")
				left = true
			}
			fmt.Fprintf(stdout(), "%s  line %d: %s: %s\n", indent, item.Line, shown(item.Property, ""), shown(item.Value, ""))
			for _, line := range wrapped(item.Remedy, 92-len(indent)) {
				fmt.Fprintf(stdout(), "%s    %s\n", indent, shown(line, ""))
			}
		}
		if r.Query != "" {
			fmt.Fprintf(stdout(), "%s?%s\n", indent, r.Query)
		}
		if r.Slot != "" {
			fmt.Fprintf(stdout(), "%secholane markup SITE/LANE/PATH --slot '%s'\n", indent, shown(r.Slot, ""))
		}
	}
	fmt.Fprintf(stdout(), "\n%d of %s taken\n", taken, count(all, "declaration", "declarations"))
}

// wrapped divides a text into lines of at most so many characters, between words.
func wrapped(text string, most int) (lines []string) {
	for _, word := range strings.Fields(text) {
		if n := len(lines); n > 0 && len([]rune(lines[n-1]))+1+len([]rune(word)) <= most {
			lines[n-1] += " " + word
		} else {
			lines = append(lines, word)
		}
	}
	return lines
}
