// Command echolane is the service, its demo, and the tools that talk to it.
package main

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"

	"echolane/core/policy"
	"echolane/core/wording"
	"echolane/service/problem"
	"echolane/service/records"
	"echolane/service/weighing"
	"echolane/service/workshop"
)

// Exit codes.
const (
	exitFailed = 1
	exitUsage  = 2
)

// usage is an error of whoever called the command.
type usage struct{ error }

func badUsage(format string, args ...any) error { return usage{fmt.Errorf(format, args...)} }

// browserCommand is how the service starts Chromium for the pages that it weighs, under limits. It isn't for people.
const browserCommand = "page-browser"

// hashCommand is how it hashes passwords, beside itself.
const hashCommand = "password-hash"

func main() {
	if workshop.IsWorker() {
		if err := workshop.Work(); err != nil {
			fmt.Fprintln(stderr(), "render worker:", err)
			os.Exit(exitFailed)
		}
		return
	}
	if len(os.Args) > 2 && os.Args[1] == browserCommand {
		fmt.Fprintln(stderr(), "page browser:", weighing.Launch(os.Args[2:])) // it comes back only where it failed
		os.Exit(exitFailed)
	}
	if len(os.Args) == 2 && os.Args[1] == hashCommand {
		if err := records.HashWork(os.Stdin, os.Stdout); err != nil {
			fmt.Fprintln(stderr(), "password hash:", err)
			os.Exit(exitFailed)
		}
		return
	}
	os.Exit(run(os.Args))
}

func run(args []string) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	go func() {
		<-ctx.Done()
		stop() // a second signal ends the process at once
	}()
	err := root().Run(ctx, args)
	if err == nil {
		return 0
	}
	var no *policy.Refusal
	switch {
	case errors.As(err, &no):
		printRefusal(no)
	default:
		fmt.Fprintf(stderr(), "echolane: %v\n", err)
	}
	var wrong usage
	if errors.As(err, &wrong) {
		return exitUsage
	}
	return exitFailed
}

func printRefusal(no *policy.Refusal) {
	fmt.Fprintf(stderr(), "echolane: %s (%d, %s)\n", no.Title, problem.Status(no.Reason), no.Reason)
	for _, l := range []struct{ name, text string }{{"what", no.Detail}, {"given", no.Given}, {"allowed", no.Allowed}, {"way out", no.Remedy}} {
		if l.text != "" {
			fmt.Fprintf(stderr(), "  %-8s %s\n", l.name, strings.ReplaceAll(l.text, "\n", "\n           "))
		}
	}
	if len(no.Problems) > 1 {
		for _, p := range no.Problems[1:] {
			fmt.Fprintf(stderr(), "  also     %s\n", p)
		}
	}
}

func root() *cli.Command {
	c := &cli.Command{
		Name:            "echolane",
		Usage:           "images as CSS would have painted them, at the size the page needs",
		Version:         version(),
		HideHelpCommand: true,
		Commands: []*cli.Command{
			demoCommand(), serveCommand(), siteCommand(), laneCommand(), tokenCommand(), personCommand(), keyCommand(), applyCommand(), exportCommand(), sheetCommand(),
			linkCommand(), cssCommand(), fetchCommand(), explainCommand(), renderCommand(), likenessCommand(), sweepCommand(), markupCommand(), weighCommand(), uploadCommand(), warmCommand(), purgeCommand(), stockCommand(), usageCommand(), refusalsCommand(), setAsideCommand(), doctorCommand(),
		},
		Action: nothingAsked,
	}
	cli.VersionPrinter = func(c *cli.Command) { fmt.Fprintln(c.Root().Writer, "echolane", c.Version) }
	prepare(c)
	return c
}

// prepare makes every command report wrong calls the same way, with exit code 2.
func prepare(c *cli.Command) {
	c.ExitErrHandler = func(context.Context, *cli.Command, error) {}
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		text := err.Error()
		if _, name, ok := strings.Cut(text, "flag provided but not defined: -"); ok {
			text = "there is no option --" + strings.TrimLeft(name, "-")
			var names []string
			for _, f := range c.Flags {
				names = append(names, f.Names()[0])
			}
			if near := wording.Nearest(strings.TrimLeft(name, "-"), names); near != "" {
				text += "; did you mean --" + near + "?"
			}
		}
		return badUsage("%s (see echolane %s --help)", text, strings.TrimPrefix(c.FullName(), "echolane "))
	}
	c.HideHelpCommand = true
	for _, s := range c.Commands {
		prepare(s)
	}
}

// nothingAsked runs where a subcommand should have been named.
func nothingAsked(_ context.Context, c *cli.Command) error {
	var names []string
	for _, s := range c.Commands {
		names = append(names, s.Name)
	}
	if c.Args().Len() == 0 {
		if err := cli.ShowSubcommandHelp(c); err != nil {
			return err
		}
		return badUsage("name a command: %s", strings.Join(names, ", "))
	}
	word := c.Args().First()
	text := fmt.Sprintf("there is no command %q", word)
	if near := wording.Nearest(word, names); near != "" {
		text += "; did you mean " + near + "?"
	}
	return badUsage("%s (there are %s)", text, strings.Join(names, ", "))
}
