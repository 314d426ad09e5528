package main

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"

	"github.com/cpuguy83/go-md2man/v2/md2man"
	"github.com/urfave/cli/v3"
)

func manCommand() *cli.Command {
	return &cli.Command{
		Name: "man", Usage: "a command's manual page, made from what its help says", ArgsUsage: "[COMMAND]",
		Description: `Without a command it's the page that leads to the others. With --to all pages are written into a folder.

Examples:
  echolane man markup | man -l -
  echolane man --to /usr/local/share/man/man1`,
		Flags: []cli.Flag{&cli.StringFlag{Name: "to", Usage: "folder that all pages are written into, each as echolane-COMMAND.1"}},
		Action: func(ctx context.Context, c *cli.Command) error {
			app := root()
			if to := c.String("to"); to != "" {
				if c.Args().Len() > 0 {
					return badUsage("--to writes all pages: leave %s out", c.Args().First())
				}
				if err := os.MkdirAll(to, 0o755); err != nil {
					return fmt.Errorf("make the folder: %w", err)
				}
				for _, page := range append([]*cli.Command{app}, app.Commands...) {
					name := filepath.Join(to, pageName(page)+".1")
					if err := os.WriteFile(name, manPage(app, page), 0o644); err != nil {
						return fmt.Errorf("write the page: %w", err)
					}
				}
				return nil
			}
			page := app
			if c.Args().Len() > 1 {
				return badUsage("give one command, as in: echolane man markup")
			}
			if name := c.Args().First(); name != "" {
				if page = app.Command(name); page == nil {
					return badUsage("there is no command %q: see echolane --help", name)
				}
			}
			_, err := stdout().Write(manPage(app, page))
			return err
		},
	}
}

func pageName(c *cli.Command) string {
	if c.Name == "echolane" {
		return c.Name
	}
	return "echolane-" + c.Name
}

// manPage is a command with its subcommands, as man reads it.
func manPage(app, c *cli.Command) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, "%% %s 1 \"\" \"Echo Lane %s\" \"Echo Lane\"\n\n# NAME\n\n%s - %s\n\n", strings.ToUpper(pageName(c)), strings.Fields(app.Version)[0], pageName(c), c.Usage)
	if c == app {
		b.WriteString("# SYNOPSIS\n\n**echolane** *COMMAND* [*OPTION* …] [*ARGUMENT* …]\n\n# COMMANDS\n\n")
		for _, s := range c.VisibleCommands() {
			fmt.Fprintf(&b, "**echolane-%s**(1)\n: %s\n\n", s.Name, s.Usage)
		}
	} else {
		manSection(&b, "echolane "+c.Name, c)
	}
	b.WriteString("# EXIT STATUS\n\n**0**\n: done\n\n**1**\n: it failed\n\n**2**\n: it was called wrongly\n")
	if c != app {
		b.WriteString("\n# SEE ALSO\n\n**echolane**(1)\n")
	}
	return md2man.Render([]byte(b.String()))
}

func manSection(b *strings.Builder, name string, c *cli.Command) {
	heading := "# SYNOPSIS"
	if name != "echolane "+c.Name {
		heading = "# " + strings.ToUpper(strings.TrimPrefix(name, "echolane "))
	}
	fmt.Fprintf(b, "%s\n\n", heading)
	if len(c.Commands) > 0 {
		fmt.Fprintf(b, "**%s** *COMMAND*\n\n", name)
	} else {
		fmt.Fprintf(b, "**%s** [*OPTION* …] %s\n\n", name, strings.ReplaceAll(c.ArgsUsage, "[", "\\["))
	}
	if heading != "# SYNOPSIS" {
		fmt.Fprintf(b, "%s.\n\n", upperFirst(c.Usage))
	} else if c.Description != "" {
		b.WriteString("# DESCRIPTION\n\n")
	}
	for line := range strings.SplitSeq(c.Description, "\n") {
		if strings.HasPrefix(line, "  ") { // an example, as it stands
			line = "    " + strings.TrimSpace(line)
		}
		b.WriteString(line + "\n")
		if strings.HasSuffix(line, ":") {
			b.WriteString("\n")
		}
	}
	b.WriteString("\n")
	if flags := c.VisibleFlags(); len(flags) > 0 {
		if heading == "# SYNOPSIS" {
			b.WriteString("# OPTIONS\n\n")
		}
		for _, f := range flags {
			d, ok := f.(cli.DocGenerationFlag)
			if !ok || f.Names()[0] == "help" {
				continue
			}
			names := f.Names()
			for i, n := range names {
				names[i] = "**-" + strings.Repeat("-", min(1, len(n)-1)) + n + "**"
			}
			fmt.Fprintf(b, "%s", strings.Join(names, ", "))
			if d.TakesValue() {
				b.WriteString(" *VALUE*")
			}
			fmt.Fprintf(b, "\n: %s", strings.NewReplacer("*", `\*`, "_", `\_`, "<", `\<`).Replace(d.GetUsage()))
			if env := d.GetEnvVars(); len(env) > 0 {
				fmt.Fprintf(b, " (%s)", strings.ReplaceAll(strings.Join(env, ", "), "_", `\_`))
			}
			b.WriteString("\n\n")
		}
	}
	for _, s := range c.VisibleCommands() {
		manSection(b, name+" "+s.Name, s)
	}
}

func upperFirst(s string) string {
	if s == "" {
		return s
	}
	return strings.ToUpper(s[:1]) + s[1:]
}
